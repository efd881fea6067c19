"""Small exact value types: VLAN sets, MAC addresses, IP addresses.

Everything here turns text that somebody typed, or some device printed, into one canonical form,
or raises `ValueError` with what was expected instead.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from functools import lru_cache
from ipaddress import (
    IPv4Address,
    IPv4Interface,
    IPv4Network,
    IPv6Address,
    IPv6Interface,
    IPv6Network,
    ip_address,
    ip_interface,
    ip_network,
)
from typing import ClassVar
from weakref import WeakValueDictionary

Address = IPv4Address | IPv6Address
PrefixedAddress = IPv4Interface | IPv6Interface
Prefix = IPv4Network | IPv6Network

VID_MIN, VID_MAX = 1, 4094
NO_VID = 0
"""The null VLAN identifier (IEEE 802.1Q clause 9.6): no VLAN. A PVID of 0 means 'observed: there is none'."""

SOME_VID = -1
"""A tag that was not observed, of what is known to tag."""

BARE = VID_MAX + 1
"""What frames without a tag are in on a bridge that knows no VLANs: nobody's VID (IEEE 802.1Q clause 9.6, reserved)."""

NONE = "none"
"""The word for 'observed: there is none', as opposed to an empty cell, 'not observed'."""

_ALL_BITS = (1 << (VID_MAX + 1)) - 2


class ExpectedError(ValueError):
    """Text that is not what it should be; the message completes the sentence "expected …"."""


def parse_vid(text: str | int) -> int:
    """One VLAN identifier.

    Raises
    ------
    ValueError
        Not a whole number from 1 to 4094 (0 and 4095 are reserved: IEEE 802.1Q table 9-2).
    """
    try:
        vid = int(text) if isinstance(text, int) or text.strip().isdecimal() else -1
    except ValueError:  # more digits than Python converts
        vid = -1
    if not VID_MIN <= vid <= VID_MAX:
        raise ExpectedError(f"a VLAN identifier from {VID_MIN} to {VID_MAX}")
    return vid


class VlanSet:
    """An immutable set of VIDs, held as one integer with a bit per VID.

    Equal sets are one object, so comparing two of them is comparing two pointers.

    >>> str(VlanSet.parse("1, 10-12 30") & VlanSet.parse("11-40"))
    '11-12 30'
    """

    __slots__ = ("__weakref__", "bits")
    bits: int
    _shared: ClassVar[WeakValueDictionary[int, VlanSet]] = WeakValueDictionary()

    def __new__(cls, bits: int = 0) -> VlanSet:
        known = cls._shared.get(bits)
        if known is not None:
            return known
        if bits & ~_ALL_BITS:
            raise ExpectedError(f"VLAN identifiers from {VID_MIN} to {VID_MAX}")
        fresh = super().__new__(cls)
        object.__setattr__(fresh, "bits", bits)
        return cls._shared.setdefault(bits, fresh)

    @classmethod
    def of(cls, vids: Iterable[int]) -> VlanSet:
        """The set of these VIDs."""
        bits = 0
        for vid in vids:
            bits |= 1 << parse_vid(vid)
        return cls(bits)

    @classmethod
    def all(cls) -> VlanSet:
        """VIDs 1 to 4094."""
        return cls(_ALL_BITS)

    @classmethod
    def parse(cls, text: str) -> VlanSet:
        """Read `1 10-19 30`, `1,10-19,30`, `all` or `none`.

        Raises
        ------
        ValueError
            Anything else, a VID out of 1 to 4094, or a range that runs backwards.
        """
        word = text.strip().lower()
        if word == "all":
            return cls(_ALL_BITS)
        if word == NONE:
            return cls(0)
        bits = 0
        parts = word.replace(",", " ").split()
        for part in parts:
            low_text, dash, high_text = part.partition("-")
            low = parse_vid(low_text)
            high = parse_vid(high_text) if dash else low
            if high < low:
                raise ExpectedError(f"a range that runs upwards instead of {part}")
            bits |= (1 << (high + 1)) - (1 << low)
        if not parts:
            raise ExpectedError("a VLAN set such as 1 10-19 30, all or none")
        return cls(bits)

    def __setattr__(self, name: str, value: object) -> None:
        raise AttributeError("a VLAN set cannot be changed")

    def __reduce__(self) -> tuple[type[VlanSet], tuple[int]]:
        return VlanSet, (self.bits,)

    def __and__(self, other: VlanSet) -> VlanSet:
        return VlanSet(self.bits & other.bits)

    def __or__(self, other: VlanSet) -> VlanSet:
        return VlanSet(self.bits | other.bits)

    def __sub__(self, other: VlanSet) -> VlanSet:
        return VlanSet(self.bits & ~other.bits)

    def __contains__(self, vid: object) -> bool:
        return isinstance(vid, int) and vid >= 0 and bool(self.bits >> vid & 1)

    def __len__(self) -> int:
        return self.bits.bit_count()

    def __iter__(self) -> Iterator[int]:
        bits = self.bits
        while bits:
            low = bits & -bits
            yield low.bit_length() - 1
            bits ^= low

    def __str__(self) -> str:
        if self.bits == _ALL_BITS:
            return "all"
        parts = []
        bits = self.bits
        while bits:
            low = (bits & -bits).bit_length() - 1
            run = ~(bits >> low)
            length = (run & -run).bit_length() - 1
            parts.append(str(low) if length == 1 else f"{low}-{low + length - 1}")
            bits &= ~(((1 << length) - 1) << low)
        return " ".join(parts) or NONE

    def __repr__(self) -> str:
        return f"VlanSet.parse({str(self)!r})"


_MAC_PLAIN = re.compile(r"[0-9a-f]{12}")
_MAC_FORMS = re.compile(
    r"(?:[0-9a-f]{1,2}(?P<one>[:-])(?:[0-9a-f]{1,2}(?P=one)){4}[0-9a-f]{1,2}"
    r"|[0-9a-f]{4}(?P<two>[.:-])[0-9a-f]{4}(?P=two)[0-9a-f]{4}"
    r"|[0-9a-f]{6}[:-][0-9a-f]{6}|(?:0x)?[0-9a-f]{12}|[0-9a-f]{2}(?: [0-9a-f]{2}){5})"
)


def parse_mac(text: str) -> str:
    """A MAC address in lower case with colons.

    Takes pairs with colons, hyphens or blanks (a leading zero of a colon or hyphen pair may be missing), three
    groups of four with dots, colons or hyphens, two groups of six, and twelve digits alone.

    Raises
    ------
    ValueError
        Anything else.
    """
    word = text.strip().lower()
    if not _MAC_FORMS.fullmatch(word):
        raise ExpectedError("a MAC address such as 02:1b:e2:00:4d:8e")
    parts = re.split(r"[:. -]", word.removeprefix("0x"))
    digits = "".join(part.zfill(2) if len(parts) == 6 else part for part in parts)
    assert _MAC_PLAIN.fullmatch(digits)
    return ":".join(digits[i : i + 2] for i in range(0, 12, 2))


@lru_cache(maxsize=1 << 18)
def address(text: str) -> Address:
    """An IP address without a prefix length, read once and kept."""
    return ip_address(text)


@lru_cache(maxsize=1 << 18)
def interface(text: str) -> PrefixedAddress:
    """An IP address with a prefix length, read once and kept."""
    return ip_interface(text)


@lru_cache(maxsize=1 << 18)
def prefix(text: str) -> Prefix:
    """A prefix, read once and kept."""
    return ip_network(text)


def resized(own: PrefixedAddress, length: int) -> PrefixedAddress:
    """The same address with another prefix length."""
    return own if length == own.network.prefixlen else interface(f"{own.ip}/{length}")
