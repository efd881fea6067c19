"""Whom a visit may ask: the addresses to begin with, the prefixes outside of which nobody is asked, and how far."""

from __future__ import annotations

from collections.abc import Sequence
from ipaddress import ip_address, ip_network

from crossthread.errors import VisitError, visible
from crossthread.values import Address, Prefix

_LARGEST_SWEEP = 65_536


class Scope:
    """The scope of a visit.

    Parameters
    ----------
    start, within, also, hops
        As `visit` takes them.

    Raises
    ------
    VisitError
        If an address or prefix is none, or one that would be asked lies outside.
    """

    def __init__(
        self, start: Sequence[str], within: Sequence[str], also: Sequence[str] = (), hops: int | None = None
    ) -> None:
        self.within = [_prefix(text) for text in within]
        self.hops = hops
        self.start = [_address(text) for text in start]
        self.sweeps = [_prefix(text) for text in also]
        for own in self.start:
            if not self.covers(own):
                raise VisitError(f"{own} lies outside of {_listed(self.within)}; nothing outside is asked")
        for prefix in self.sweeps:
            if not (self.covers(prefix[0]) and self.covers(prefix[-1])):
                raise VisitError(f"{prefix} lies outside of {_listed(self.within)}; nothing outside is asked")
            if prefix.num_addresses > _LARGEST_SWEEP:
                raise VisitError(f"{prefix} has too many addresses to ask all; expected at most {_LARGEST_SWEEP:,}")

    def covers(self, address: Address) -> bool:
        """Whether an address may be asked."""
        return any(address.version == prefix.version and address in prefix for prefix in self.within)

    def near(self, hops: int) -> bool:
        """Whether the neighbours of a device that is so many hops away may be asked."""
        return self.hops is None or hops < self.hops


def usable(addresses: Sequence[str]) -> list[Address]:
    """The addresses that are of use beyond their own link, IPv4 first."""
    own = (address for address in map(ip_address, addresses))
    far = [a for a in own if not (a.is_link_local or a.is_multicast or a.is_unspecified)]
    return sorted(far, key=lambda address: (address.version, int(address)))


def _listed(prefixes: Sequence[Prefix]) -> str:
    return ", ".join(map(str, prefixes)) or "no prefix at all"


def _prefix(text: str) -> Prefix:
    try:
        return ip_network(text)
    except ValueError as error:
        raise VisitError(f"expected a prefix such as 10.61.0.0/16 instead of “{visible(text)}” ({error})") from None


def _address(text: str) -> Address:
    try:
        return ip_address(text)
    except ValueError:
        raise VisitError(f"expected an address such as 10.61.10.201 instead of “{visible(text)}”") from None
