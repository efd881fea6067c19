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
from socket import AF_INET6, inet_aton, inet_pton
from typing import NamedTuple

from crossthread.network.components import Components
from crossthread.network.names import Names
from crossthread.network.segments import Fabric
from crossthread.network.stations import Station, Stations
from crossthread.survey import Survey
from crossthread.survey.tables import Host, Port
from crossthread.values import NO_VID, NONE


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
        spelled = names.spelled
        pairs = [(spelled[row.device] if row.device else "", row.port) for row in survey.hosts]
        self.plugged: set[_Pair] = set(pairs)
        self.elsewhere: list[Station] = []
        self.all = [self._class(key, hosts) for key, hosts in self._groups(survey, stations, pairs).items()]

    @cached_property
    def of(self) -> dict[str, HostClass]:
        """The class of each host, by the host's name in lower case."""
        return {host.name.casefold(): found for found in self.all for host in found.hosts}

    def _groups(self, survey: Survey, stations: Stations, pairs: list[_Pair]) -> dict[object, list[Station]]:
        """Hosts by what all of a class have in common; each that is special by its name."""
        groups: dict[object, list[Station]] = defaultdict(list)
        ports = self._names.ports
        special = self._special(survey, stations, pairs)
        places = Places()
        blocks = [places.of(row.address) for row in survey.hosts]
        inner = _Inner(
            places.made
            | {Block.of(row.address) for row in survey.gateways if row.address and row.address != NONE}
            | {Block.of(row.prefix) for row in survey.routes}
        )
        free = {device: self._free(device) for device in {device for device, _ in self.plugged}}
        alike: dict[tuple[object, ...], list[Station]] = {}  # the groups of subnets that no longer prefix divides
        for row, pair, block, (name, station) in zip(survey.hosts, pairs, blocks, stations.hosts.items(), strict=True):
            device, port = pair
            known = ports[device].get(port) if port and device in ports else None
            if known is None:
                self.elsewhere.append(station)
            elif block is not None and not row.vid and row.link != "down" and name not in special:
                vid = _access_vid(known)
                if free[device] >> vid & 1:
                    part = (vid, self._components.roots(vid).get(device, device))
                    group = alike.get((part, block, row.gateway))
                    if group is None:
                        group = groups[part, block, row.gateway, inner.around(row.address or "", block)]
                        if inner.plain(block):
                            alike[part, block, row.gateway] = group
                    group.append(station)
                    continue
            groups[name] = [station]
        return groups

    def _special(self, survey: Survey, stations: Stations, pairs: list[_Pair]) -> set[str]:
        """The hosts that share a port or an address, are a next hop, or sit at a port that does not forward."""
        shared = _repeated(pairs) if len(self.plugged) < len(pairs) else set()
        rows = self._fabric.trees.ports
        shared |= self.plugged & {key[:2] for key, row in rows.items() if row.state not in _HARMLESS}
        hops = {row.gateway for row in survey.hosts} | {row.next_hop for row in survey.routes}
        hops |= stations.by_address.shared
        found = {name for name, pair in zip(stations.hosts, pairs, strict=True) if pair in shared} if shared else set()
        return found | {s.name.casefold() for hop in hops if hop for s in stations.by_address.of(hop) if s.is_host}

    def _free(self, device: str) -> int:
        """The VIDs that an access port of a device surely forwards, where it blocks nothing, as bits."""
        return self._fabric.trees.unhindered(device).sure & self._fabric.exists(device).sure

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


def _access_vid(port: Port) -> int:
    """The VLAN that frames of whoever is plugged into a port surely join; `NO_VID` if they may join another or none."""
    plain = (
        port.mode == "access" and port.oper == "up" and port.admin != "down"
        and not port.allowed_macs and (port.lag is None or port.lag == NONE)
    )  # fmt: skip
    return (port.pvid if plain else None) or NO_VID


class Places:
    """The subnets of many addresses. Addresses that differ in nothing but their last part share what is found."""

    def __init__(self) -> None:
        self.made: set[Block] = set()
        self._known: dict[tuple[str, str], Block] = {}

    def of(self, text: str | None) -> Block | None:
        """The subnet of an address with prefix length; None for no address, or one that is the broadcast address."""
        if not text or text == NONE:
            return None
        separator = ":" if ":" in text else "."
        head, _, tail = text.rpartition(separator)
        last, _, length = tail.partition("/")
        block = self._known.get((head, length))
        if block is None or last == "255":
            block = Block.of(text)
            self.made.add(block)
            if block.version == 4 and block.length < 31 and number_of(text.partition("/")[0])[0] == block.last:
                return None
            if block.length <= (96 if separator == ":" else 24):
                self._known[head, length] = block
        return block


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

    def around(self, text: str, block: Block) -> tuple[Block, ...]:
        """The prefixes longer than its subnet's that an address with prefix length is in."""
        inside = self._found.get(block)
        if inside is None:
            known = self._blocks[block.version]
            begin, end = bisect_left(known, (block.first,)), bisect_left(known, (block.last + 1,))
            inside = self._found[block] = [inner for _, inner in known[begin:end] if inner.length > block.length]
        if not inside:
            return ()
        number, width = number_of(text.partition("/")[0])
        return tuple(inner for inner in inside if inner.holds(number, width))
