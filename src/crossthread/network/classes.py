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

from crossthread.network.components import Components, Part
from crossthread.network.holders import Members
from crossthread.network.names import Names
from crossthread.network.segments import Fabric
from crossthread.network.station import Station
from crossthread.network.stations import Stations
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

    hosts: Members
    block: Block | None
    """Their subnet by their own prefix length; None without an address."""
    vid: int | None
    """The VLAN that their frames join, if that is one and known."""
    gateway: str | None
    plain: bool
    """Whether they are plainly on access ports that are up, and alone there."""


_Pair = tuple[str, str | None]
_Key = tuple[Part, Block, str | None, tuple[Block, ...]]
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
        self._names, self._fabric, self._components, self._stations = names, fabric, components, stations
        self.plugged: set[_Pair] = set()
        self.elsewhere: list[Station] = []
        self.all = [self._class(key, [survey.hosts[n] for n in members]) for key, members in self._groups(survey)]

    @cached_property
    def of(self) -> dict[str, HostClass]:
        """The class of each host, by the host's name in lower case."""
        return {row.host.casefold(): found for found in self.all for row in found.hosts.rows}

    def _groups(self, survey: Survey) -> list[tuple[_Key | None, list[int]]]:
        """Hosts, by their places in the survey, with what all of a class have in common; None for each special one.

        First by what is the same for many. Most of these groups are one class each, without looking at every host.
        """
        spelled = {row.device: self._names.spelled[row.device] if row.device else "" for row in survey.hosts}
        ports = self._names.ports
        subnets = _Subnets()
        pairs: list[_Pair] = []
        alike: dict[tuple[int, Block | None, str | None], list[int]] = defaultdict(list)
        for n, row in enumerate(survey.hosts):
            device, port = spelled[row.device], row.port
            pairs.append((device, port))
            known = ports[device].get(port) if port and device in ports else None
            vid = NO_VID
            if known is None:
                self.elsewhere.append(self._stations.hosts[row.host.casefold()])
            elif known.mode == "access" and known.oper == "up" and row.link != "down" and not row.vid:
                vid = known.pvid if known.pvid and _is_plain(known) else NO_VID
            alike[vid, subnets.of(row.address), row.gateway].append(n)
        self.plugged = set(pairs)
        inner = _Inner(
            subnets.made
            | {Block.of(row.address) for row in survey.gateways if row.address and row.address != NONE}
            | {Block.of(row.prefix) for row in survey.routes}
        )
        special = self._special(survey, pairs)
        free = {device: self._free(device) for device in spelled.values()}
        groups: dict[_Key, list[int]] = defaultdict(list)
        alone: list[int] = []
        for (vid, block, gateway), members in alike.items():
            if not vid or block is None:
                alone += members
                continue
            roots = self._components.roots(vid)
            parts = {d: roots.get(d, d) if free[d] >> vid & 1 else None for d in {pairs[n][0] for n in members}}
            part = next(iter(parts.values()))
            whole = len(set(parts.values())) == 1 and not inner.divide(block) and special.isdisjoint(members)
            if part is not None and whole:
                groups[(vid, part), block, gateway, ()] += members
                continue
            for n in members:
                part = parts[pairs[n][0]]
                if part is None or n in special:
                    alone.append(n)
                else:
                    around = inner.around(survey.hosts[n].address or "", block)
                    groups[(vid, part), block, gateway, around].append(n)
        found: list[tuple[_Key | None, list[int]]] = [(None, [n]) for n in alone]
        found += [(key, sorted(members)) for key, members in groups.items()]
        return sorted(found, key=lambda group: group[1][0])

    def _special(self, survey: Survey, pairs: list[_Pair]) -> set[int]:
        """The hosts that share a port or an address, are a next hop, or sit at a port that does not forward."""
        holders = self._stations.by_address
        rows = self._fabric.trees.ports
        shared = (
            {pair for pair, count in Counter(pairs).items() if count > 1} if len(self.plugged) < len(pairs) else set()
        )
        shared |= self.plugged & {key[:2] for key, row in rows.items() if row.state not in _HARMLESS}
        hops = {row.gateway for row in survey.hosts} | {row.next_hop for row in survey.routes} | holders.shared
        found = {n for n, pair in enumerate(pairs) if pair in shared} if shared else set()
        return found | {n for n, ip in enumerate(holders.ips) if ip in hops}

    def _free(self, device: str) -> int:
        """The VIDs that an access port of a device surely forwards, where it blocks nothing, as bits."""
        return self._fabric.trees.unhindered(device).sure & self._fabric.exists(device).sure

    def _class(self, key: _Key | None, rows: list[Host]) -> HostClass:
        row, hosts = rows[0], Members(rows, self._stations.hosts)
        if key is not None:
            (vid, _), block, gateway, _ = key
            return HostClass(hosts, block, vid, gateway, True)
        alone = Block.of(row.address) if row.address and row.address != NONE else None
        return HostClass(hosts, alone, current_vlan(hosts[0], self._names), row.gateway, False)


def current_vlan(station: Station, names: Names) -> int | None:
    """The VLAN that a station's frames join as things are, if that is one and known."""
    for tap in station.taps:
        if tap.enters.possible.bit_count() == 1:
            return tap.enters.possible.bit_length() - 1
    if not isinstance(station.row, Host):
        return station.row.vid
    port = names.ports.get(station.end.device, {}).get(station.end.port) if station.end else None
    return (port.pvid or None) if port else None


def _is_plain(port: Port) -> bool:
    """Whether an access port is not switched off, in no aggregate, and admits whoever comes."""
    return port.admin != "down" and not port.allowed_macs and (port.lag is None or port.lag == NONE)


class _Subnets:
    """The subnets of many addresses. Addresses that differ in nothing but their last part share what is found."""

    def __init__(self) -> None:
        self.made: set[Block] = set()
        self._known: dict[tuple[str, str], Block] = {}

    def of(self, text: str | None) -> Block | None:
        """The subnet of an address with prefix length; None for no address, or one that is a broadcast address."""
        if not text or text == NONE:
            return None
        head, separator, tail = text.rpartition(":" if ":" in text else ".")
        last, _, length = tail.partition("/")
        block = self._known.get((head, length))
        if block is None or last == "255":
            block = Block.of(text)
            self.made.add(block)
            if block.length <= (96 if separator == ":" else 24):
                self._known[head, length] = block
            if block.version == 4 and block.length < 31 and number_of(text.partition("/")[0])[0] == block.last:
                return None
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

    def divide(self, block: Block) -> list[Block]:
        """The longer prefixes that are in a subnet."""
        inside = self._found.get(block)
        if inside is None:
            known = self._blocks[block.version]
            begin, end = bisect_left(known, (block.first,)), bisect_left(known, (block.last + 1,))
            inside = self._found[block] = [inner for _, inner in known[begin:end] if inner.length > block.length]
        return inside

    def around(self, text: str, block: Block) -> tuple[Block, ...]:
        """The prefixes longer than its subnet's that an address with prefix length is in."""
        inside = self.divide(block)
        if not inside:
            return ()
        number, width = number_of(text.partition("/")[0])
        return tuple(inner for inner in inside if inner.holds(number, width))
