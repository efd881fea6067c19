"""Blocks of IP addresses: prefixes as numbers, quick to compare."""

from __future__ import annotations

from bisect import bisect_left
from collections import defaultdict
from collections.abc import Iterable, Iterator
from ipaddress import IPv4Address, IPv6Address
from socket import AF_INET6, inet_aton, inet_pton
from typing import Generic, NamedTuple, TypeVar

_T = TypeVar("_T")


class Block(NamedTuple):
    """An IP prefix as numbers, quick to compare: version, prefix length, and the bits of the prefix."""

    version: int
    length: int
    bits: int

    @classmethod
    def of(cls, text: str) -> Block:
        """The prefix that an address with prefix length is in."""
        ip, _, length = text.partition("/")
        number, width = number_of(ip)
        return cls(6 if width == 128 else 4, int(length), number >> (width - int(length)))

    def holds(self, number: int, width: int) -> bool:
        """Whether an address of as many bits as `width` is in it."""
        return width == (128 if self.version == 6 else 32) and number >> (width - self.length) == self.bits

    def meets(self, other: Block) -> bool:
        """Whether one of the two contains the other."""
        shift = other.length - self.length
        if self.version != other.version:
            return False
        return self.bits == other.bits >> shift if shift >= 0 else self.bits >> -shift == other.bits

    @property
    def first(self) -> int:
        """Its first address."""
        return self.bits << (128 if self.version == 6 else 32) - self.length

    @property
    def last(self) -> int:
        """Its last address."""
        return self.first | (1 << (128 if self.version == 6 else 32) - self.length) - 1


def number_of(ip: str) -> tuple[int, int]:
    """An IP address as a number, and how many bits it has."""
    if ":" in ip:
        return int.from_bytes(inet_pton(AF_INET6, ip.partition("%")[0]), "big"), 128
    return int.from_bytes(inet_aton(ip), "big"), 32


def is_broadcast(text: str, block: Block) -> bool:
    """Whether an address with prefix length is the broadcast address of its subnet."""
    return block.version == 4 and block.length < 31 and number_of(text.partition("/")[0])[0] == block.last


class ByPrefix(Generic[_T]):
    """Things by their prefixes: those within whose prefix an address is, the shortest prefixes first.

    A prefix is looked up for each length that there is: of these there are few, however many prefixes there are.
    """

    def __init__(self, things: Iterable[tuple[Block, _T]]) -> None:
        self._held: dict[Block, list[_T]] = defaultdict(list)
        for block, thing in things:
            self._held[block].append(thing)
        self._lengths = sorted({(block.version, block.length) for block in self._held})

    def around(self, ip: IPv4Address | IPv6Address) -> Iterator[_T]:
        """Those of one address; of one prefix in the order in which they were given."""
        number, width = int(ip), ip.max_prefixlen
        for version, length in self._lengths:
            if version == ip.version:
                yield from self._held.get(Block(version, length, number >> width - length), ())


class InnerBlocks:
    """For each subnet the longer prefixes inside it, which divide its hosts."""

    def __init__(self, blocks: Iterable[Block]) -> None:
        self._blocks: dict[int, list[tuple[int, Block]]] = {4: [], 6: []}
        for block in blocks:
            self._blocks[block.version].append((block.first, block))
        for around in self._blocks.values():
            around.sort()
        self._found: dict[Block, list[Block]] = {}

    def divide(self, block: Block) -> list[Block]:
        """The longer prefixes that are in a subnet."""
        inside = self._found.get(block)
        if inside is None:
            known = self._blocks[block.version]
            begin, end = bisect_left(known, (block.first,)), bisect_left(known, (block.last + 1,))
            inside = self._found[block] = [inner for _, inner in known[begin:end] if inner.length > block.length]
        return inside

    def around(self, text: str, block: Block) -> tuple[Block, ...]:
        """The prefixes longer than its subnet's that an address with prefix length is in.

        One that is for broadcasts in any of them, as its senders believe, is as good as alone in a prefix of its own.
        """
        inside = self.divide(block)
        if not inside:
            return ()
        number, width = number_of(text.partition("/")[0])
        found = tuple(inner for inner in inside if inner.holds(number, width))
        return (*found, Block(4, width, number)) if any(is_broadcast(text, inner) for inner in found) else found
