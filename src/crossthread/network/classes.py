"""Hosts that the network cannot tell apart, taken together: what holds for one of a class holds for all.

Two hosts are in one class if their frames join the same connected part, they have the same subnet and gateway, and no
prefix that any table speaks of contains the one address and not the other. A host that is special in any way (not
plainly on an access port that is up, sharing a port or an address, used as a next hop) is a class of its own.
"""

from __future__ import annotations

from bisect import bisect_left
from collections import Counter, defaultdict
from collections.abc import Iterable
from functools import cached_property
from operator import attrgetter
from socket import AF_INET6, inet_aton, inet_pton
from struct import unpack
from typing import NamedTuple

from crossthread.network.components import Components
from crossthread.network.names import Names
from crossthread.network.segments import Fabric, Node
from crossthread.network.stations import Station, Stations
from crossthread.survey import Survey
from crossthread.survey.tables import Host, Port
from crossthread.values import NONE


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


class HostClass(NamedTuple):
    """Some hosts that the network cannot tell apart."""

    hosts: list[Station]
    block: Block | None
    """Their subnet by their own prefix length; None without an address."""
    vid: int | None
    """The VLAN that their frames join, if that is one and known."""
    gateway: str | None
    plain: bool
    """Whether they are plainly on access ports that are up, and alone there."""


_Pair = tuple[str, str | None]
_PORT_FACTS = attrgetter("mode", "pvid", "oper", "admin", "allowed_macs", "lag")
"""What decides which part an access port's frames join."""
_HARMLESS = (None, "forwarding")


class Classes:
    """The classes of all hosts.

    Attributes
    ----------
    all
        Every class, in the order of its first host.
    plugged
        The devices and ports that hosts' rows name.
    elsewhere
        The hosts whose rows name no port, or none that the survey lists.
    """

    def __init__(
        self, survey: Survey, names: Names, fabric: Fabric, components: Components, stations: Stations
    ) -> None:
        self._names, self._fabric, self._components = names, fabric, components
        self._parts: dict[str, tuple[int, dict[int, object]]] = {}
        self.plugged: set[_Pair] = set()
        self.elsewhere: list[Station] = []
        groups: dict[object, list[Station]] = defaultdict(list)
        plain = self._plain(survey, stations)
        for name, station in stations.hosts.items():
            groups[plain.get(name, name)].append(station)
        self.all = [self._class(key, hosts) for key, hosts in groups.items()]

    @cached_property
    def of(self) -> dict[str, HostClass]:
        """The class of each host, by the host's name in lower case."""
        return {host.name.casefold(): found for found in self.all for host in found.hosts}

    def _plain(self, survey: Survey, stations: Stations) -> dict[str, tuple[object, ...]]:
        """What all hosts of a class have in common, for each host that is not special."""
        spelled, ports = self._names.spelled, self._names.ports
        pairs = [(spelled[row.device] if row.device else "", row.port) for row in survey.hosts]
        plugged = set(pairs)
        hindered = {key[:2] for key, row in self._fabric.trees.ports.items() if row.state not in _HARMLESS}
        special = _repeated(pairs) if len(plugged) < len(pairs) else set()
        special |= plugged & hindered
        hops = {row.gateway for row in survey.hosts} | {row.next_hop for row in survey.routes}
        hops |= stations.by_address.shared
        places = placed(row.address for row in survey.hosts)
        inner = _Inner(
            {place[2] for place in places if place is not None}
            | {Block.of(row.address) for row in survey.gateways if row.address and row.address != NONE}
            | {Block.of(row.prefix) for row in survey.routes}
        )
        found: dict[str, tuple[object, ...]] = {}
        parts: dict[tuple[str, tuple[object, ...]], object | None] = {}
        nothing: tuple[Block, ...] = ()
        for row, pair, place, name in zip(survey.hosts, pairs, places, stations.hosts, strict=True):
            device, port = pair
            known = ports[device].get(port) if port and device in ports else None
            if known is None:
                self.elsewhere.append(stations.hosts[name])
                continue
            if place is None or place[3] or row.vid or row.link == "down" or place[0] in hops:
                continue
            if special and pair in special:
                continue
            facts = (device, _PORT_FACTS(known))
            if facts not in parts:
                parts[facts] = self._part(device, known)
            part = parts[facts]
            if part is not None:
                block = place[2]
                around = nothing if inner.plain(block) else inner.around(place[1], block)
                found[name] = (part, block, row.gateway, around)
        self.plugged = plugged
        return found

    def _part(self, device: str, port: Port) -> object | None:
        """The connected part that an access port's frames surely join; None for any other port."""
        vid = port.pvid
        if port.mode != "access" or not vid or port.oper != "up" or port.admin == "down" or port.allowed_macs:
            return None
        if port.lag is not None and port.lag != NONE:
            return None
        parts = self._parts.get(device)
        if parts is None:
            free = self._fabric.trees.unhindered(device).sure & self._fabric.exists(device).sure
            parts = self._parts[device] = (free, {})
        known = parts[1]
        if vid not in known:
            known[vid] = self._components.of(Node(device, vid)) if parts[0] >> vid & 1 else None
        return known[vid]

    def _class(self, key: object, hosts: list[Station]) -> HostClass:
        row = hosts[0].row
        assert isinstance(row, Host)
        if isinstance(key, tuple):
            return HostClass(hosts, key[1], key[0][0], row.gateway, True)
        block = Block.of(row.address) if row.address and row.address != NONE else None
        return HostClass(hosts, block, current_vlan(hosts[0], self._names), row.gateway, False)


def current_vlan(station: Station, names: Names) -> int | None:
    """The VLAN that a station's frames join as things are, if that is one and known."""
    for tap in station.taps:
        if tap.enters.possible.bit_count() == 1:
            return tap.enters.possible.bit_length() - 1
    if not isinstance(station.row, Host):
        return station.row.vid
    port = names.ports.get(station.end.device, {}).get(station.end.port) if station.end else None
    return (port.pvid or None) if port else None


def _repeated(keys: list[_Pair]) -> set[_Pair]:
    return {key for key, count in Counter(keys).items() if count > 1}


_Place = tuple[str, int, Block, bool]
"""An address: as text, as a number, its subnet, and whether it is the broadcast address of that."""


def placed(texts: Iterable[str | None]) -> list[_Place | None]:
    """Many addresses with prefix length, with each subnet made once."""
    blocks: dict[tuple[int, int], Block] = {}
    found: list[_Place | None] = []
    split = [text.partition("/") if text and text != NONE else None for text in texts]
    packed = b"".join([inet_aton(part[0]) for part in split if part is not None and ":" not in part[0]])
    numbers = iter(unpack(f">{len(packed) // 4}I", packed))
    lengths = {str(length): length for length in range(129)}
    for part in split:
        if part is None:
            found.append(None)
            continue
        ip, _, tail = part
        length = lengths[tail]
        if ":" in ip:
            number = int.from_bytes(inet_pton(AF_INET6, ip.partition("%")[0]), "big")
            key = (length + 128, number >> 128 - length)
            last = False
        else:
            number = next(numbers)
            key = (length, number >> 32 - length)
            last = length < 31 and not (number + 1) & (1 << 32 - length) - 1
        block = blocks.get(key)
        if block is None:
            block = blocks[key] = Block(6 if ":" in ip else 4, length, key[1])
        found.append((ip, number, block, last))
    return found


class _Inner:
    """For each subnet the longer prefixes inside it, which divide its hosts."""

    def __init__(self, blocks: Iterable[Block]) -> None:
        self._blocks: dict[int, list[tuple[int, Block]]] = {4: [], 6: []}
        for block in blocks:
            self._blocks[block.version].append((block.first, block))
        for around in self._blocks.values():
            around.sort()
        self._found: dict[Block, list[Block]] = {}

    def plain(self, block: Block) -> bool:
        """Whether a subnet is known to have none in it."""
        return self._found.get(block) == []

    def around(self, number: int, block: Block) -> tuple[Block, ...]:
        """The prefixes longer than its subnet's that an address is in."""
        inside = self._found.get(block)
        if inside is None:
            known = self._blocks[block.version]
            begin, end = bisect_left(known, (block.first,)), bisect_left(known, (block.last + 1,))
            inside = self._found[block] = [inner for _, inner in known[begin:end] if inner.length > block.length]
        if not inside:
            return ()
        width = 128 if block.version == 6 else 32
        return tuple(inner for inner in inside if inner.holds(number, width))
