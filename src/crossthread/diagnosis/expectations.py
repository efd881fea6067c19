"""What a setting most likely should be, by the evidence of everything around it.

Nobody may have written a plan, but a network says most things several times: a subnet's VLAN is said by its gateway's
tag, by the ports of its hosts and often by the interface's name; its prefix length by every host and gateway in it.
Here they vote.
"""

from __future__ import annotations

import re
from collections import Counter, defaultdict
from collections.abc import Iterator, Sequence
from functools import cached_property
from ipaddress import IPv4Network, IPv6Network, ip_interface, ip_network
from typing import NamedTuple

from crossthread.network.hosts.classes import Block, HostClass, current_vlan
from crossthread.network.hosts.station import HostStation, Interface, Station
from crossthread.network.network import Network
from crossthread.plan import Plan
from crossthread.survey.records import Gateway, Host
from crossthread.values import NONE, Address, PrefixedAddress, address

_HOST, _GATEWAY, _WEAK = 1.0, 1.5, 0.4
_OUTNUMBERED = 2
"""How many strangers to one of its own subnet a station has to live among to be astray."""
_AT_END = 0.75
"""What it weighs for a prefix length that a gateway is then at an end of its subnet, as most are."""


class _Group(NamedTuple):
    """Stations whose vote counts the same: a class of hosts, or one gateway interface."""

    stations: Sequence[Station]
    block: Block
    gateway: Address | None
    vid: int | None
    """The VLAN that their frames join as things are, if that is one and known."""


class Expected:
    """Expectations of a network's stations.

    Hosts that the network cannot tell apart vote together, and are expected to be the same.
    """

    def __init__(self, network: Network, plan: Plan | None = None) -> None:
        self._network, self._plan = network, plan or Plan()
        self._vlan: dict[Station, int | None] = {}
        self._weights: dict[Station, dict[int, float]] = {}
        self._astray: dict[Station, bool] = {}
        self._length: dict[Station, int | None] = {}
        self._gateways: dict[Station, list[Interface]] = {}

    @cached_property
    def _groups(self) -> dict[Block, list[_Group]]:
        found: dict[Block, list[_Group]] = defaultdict(list)
        for one in self._network.classes.all:
            if one.block is not None:
                hop = address(one.gateway) if one.gateway and one.gateway != NONE else None
                found[one.block].append(_Group(one.hosts, one.block, hop, one.vid))
        for gateway in self._network.stations.gateways:
            if gateway.address is not None:
                block = Block.of(str(gateway.row.address))
                found[block].append(_Group([gateway], block, None, current_vlan(gateway, self._network.names)))
        return found

    @cached_property
    def _lengths(self) -> list[tuple[int, int]]:
        return sorted({(block.version, block.length) for block in self._groups})

    def _around(self, wanted: Address) -> Iterator[_Group]:
        """The groups in whose subnet an address is."""
        number, width = int(wanted), wanted.max_prefixlen
        for version, length in self._lengths:
            if version == wanted.version:
                yield from self._groups.get(Block(version, length, number >> width - length), ())

    def near(self, wanted: Address) -> Iterator[Station]:
        """The stations in whose subnet an address is, by their own prefix length."""
        for group in self._around(wanted):
            yield from group.stations

    def near_in(self, wanted: Address, vid: int) -> Iterator[Station]:
        """Those of them whose frames join a certain VLAN as things are."""
        for group in self._around(wanted):
            if group.vid == vid:
                yield from group.stations

    def _one_for_all(self, station: Station) -> Station:
        """The station that stands for all that are like this one."""
        if self._plan.hosts or self._plan.ports:
            return station  # the plan may tell them apart
        if not isinstance(station, HostStation) or station in self._firsts:
            return station
        return self._network.classes.of[station.name.casefold()].hosts[0]

    @cached_property
    def _firsts(self) -> dict[Station, HostClass]:
        return {one.hosts[0]: one for one in self._network.classes.all}

    def current_vlan(self, station: Station) -> int | None:
        """The VLAN that a station's frames join as things are, if that is one and known."""
        if isinstance(station, HostStation):
            one = self._firsts.get(station) or self._network.classes.of[station.name.casefold()]
            return one.vid
        return current_vlan(station, self._network.names)

    def _votes(self, station: Station) -> Iterator[tuple[Station, float]]:
        """Who has a say in what a station should be: one of each group, and the weight of all of them together."""
        own = station.address
        assert own is not None
        for group in self._around(own.ip):
            count = len(group.stations) - (group.stations[0] is station)
            if not count:
                continue
            other = group.stations[0]
            assert other.address is not None
            mutual = other.address.ip in own.network
            linked = _gateway(station) == other.address.ip or group.gateway == own.ip
            if isinstance(other, HostStation):
                yield other, count * (_HOST if mutual or linked else _WEAK)
            else:
                yield other, _GATEWAY if mutual or linked else _WEAK

    def vlan(self, station: Station) -> int | None:
        """The VLAN a station should be in: where its subnet lives by most of the evidence."""
        one = self._one_for_all(station)
        if one not in self._vlan:
            self._vlan[one] = self._vote_vlan(one)
        return self._vlan[one]

    def doubt(self, station: Station, vid: int) -> int:
        """How much speaks against a station being in a VLAN: 0 nothing, 1 no more than for it, 3 most."""
        wanted = self.vlan(station)
        weights = self._weights.get(self._one_for_all(station), {})
        if wanted is None or wanted == vid:
            return 0
        return 1 if weights.get(vid, 0.0) >= 0.5 * weights.get(wanted, 1.0) else 3

    @cached_property
    def planned_subnets(self) -> list[tuple[IPv4Network | IPv6Network, int]]:
        """The subnets of the plan with their VLANs, the longest prefix first."""
        found = [(ip_network(text), vid) for vid, entry in self._plan.vlans.items() for text in entry.subnets or ()]
        return sorted(found, key=lambda pair: -pair[0].prefixlen)

    def planned(self, station: Station) -> int | None:
        """The VLAN that the plan has for a station: by its name, its port, or the subnet that its address is in."""
        if not self.planned_subnets and not self._plan.hosts and not self._plan.ports:
            return None
        if isinstance(station, HostStation):
            entry = self._plan.hosts.get(station.name.casefold())
            if entry is not None and entry.vlan is not None:
                return entry.vlan
        if station.address is not None:
            for network, vid in self.planned_subnets:
                if station.address.ip in network:
                    return vid
        if isinstance(station, HostStation) and station.end is not None:
            port = self._plan.ports.get((station.end.device.casefold(), station.end.port))
            return port.vlan if port is not None else None
        return None

    def _vote_vlan(self, station: Station) -> int | None:
        planned = self.planned(station)
        if planned is not None:
            self._weights[station] = {planned: 1.0}
            return planned
        if station.address is None:
            return self.current_vlan(station)
        weights: dict[int, float] = defaultdict(float)
        for other, weight in (*self._votes(station), (station, _HOST)):
            for vid, share in self._says_vlan(other):
                weights[vid] += weight * share
        self._weights[station] = weights
        if not weights:
            return None
        best = max(weights.values())
        winners = [vid for vid, weight in weights.items() if weight > best - 1e-9]
        current = self.current_vlan(station)
        if current is not None and best - weights.get(current, 0.0) <= self._silent(station):
            return current  # those who were not read may all speak for what is there
        return current if current in winners else winners[0]

    def _silent(self, station: Station) -> float:
        """How much those could say of a station's VLAN whose own VLAN is not known, or who were not read at all."""
        silent, served = 0.0, isinstance(station, Interface)
        for other, weight in self._votes(station):
            silent += weight if self.current_vlan(other) is None and self.named_vid(other) is None else 0.0
            served = served or isinstance(other, Interface)
        return silent if served or not self._network.unread.anywhere else silent + _GATEWAY

    def _says_vlan(self, station: Station) -> Iterator[tuple[int, float]]:
        vid = self.current_vlan(station)
        named = self.named_vid(station)
        if named is not None and named != vid:
            yield named, 1.0
        if vid is not None:
            share = 0.5 if named is not None and named != vid else 1.0
            yield vid, share * (_WEAK if named != vid and self.astray(station) else 1.0)

    def astray(self, station: Station) -> bool:
        """Whether a station is where others live and hardly any of its own subnet: a poor witness of its VLAN."""
        one = self._one_for_all(station)
        if one not in self._astray:
            self._astray[one] = self._find_astray(one)
        return self._astray[one]

    def _find_astray(self, station: Station) -> bool:
        vid, own = self.current_vlan(station), station.address
        if vid is None or own is None:
            return False
        mates = strangers = 0
        for group in self._groups_in.get(vid, ()):
            first, count = group.stations[0], len(group.stations)
            assert first.address is not None
            if first is station or first.address.ip in own.network or own.ip in first.address.network:
                mates += count - (first is station)
            elif not _one_interface(first, station):
                strangers += count
        return strangers > _OUTNUMBERED * mates

    @cached_property
    def _groups_in(self) -> dict[int, list[_Group]]:
        """The groups by the VLAN that their frames join as things are."""
        found: dict[int, list[_Group]] = defaultdict(list)
        for groups in self._groups.values():
            for group in groups:
                if group.vid is not None:
                    found[group.vid].append(group)
        return found

    def named_vid(self, station: Station) -> int | None:
        """The VID in an interface's name, such as 30 in `vlan30` or `up1.30`, if it is a VLAN of this network."""
        if isinstance(station, HostStation):
            return None
        found = re.search(r"(?:vlan[^0-9]*|\.)(\d{1,4})$", station.name.casefold())
        if found is None or not self._network.fabric.known >> int(found[1]) & 1:
            return None
        return int(found[1])

    def length(self, station: Station) -> int | None:
        """The prefix length a station should have: what most of those in its subnet have."""
        station = self._one_for_all(station)
        if station not in self._length and station.address is not None:
            for network, _ in self.planned_subnets:
                if station.address.ip in network:
                    self._length[station] = network.prefixlen
                    return network.prefixlen
        if station not in self._length:
            weights: dict[int, float] = defaultdict(float)
            if station.address is not None:
                own_weight = _HOST if isinstance(station, HostStation) else _GATEWAY
                twice = 1
                for other, weight in self._votes(station):
                    assert other.address is not None
                    wider, narrower = self._needs_more(other, station), self._needs_more(station, other)
                    twice = 2 if narrower else twice
                    weights[other.address.network.prefixlen] += weight * self._believable(other) * (2 if wider else 1)
                weights[station.address.network.prefixlen] += own_weight * self._believable(station) * twice
                for served in {s.address.ip for s, _ in self._votes(station) if isinstance(s, Interface) and s.address}:
                    for length in weights:
                        weights[length] += _AT_END if end_of(served, ip_interface(f"{served}/{length}")) else 0.0
                if isinstance(station, Interface):
                    for length in weights:
                        own_ip = station.address.ip
                        weights[length] += _AT_END if end_of(own_ip, ip_interface(f"{own_ip}/{length}")) else 0.0
            best = max(weights.values(), default=0.0)
            own = station.address.network.prefixlen if station.address else None
            winners = [length for length, weight in weights.items() if weight > best - 1e-9]
            self._length[station] = own if own in winners or not winners else winners[0]
        return self._length[station]

    def _needs_more(self, one: Station, other: Station) -> bool:
        """Whether one station sends what is to be passed on to another, in whose prefix it is not itself.

        It is a second fact against that prefix.
        """
        if one.address is None or other.address is None or not isinstance(other, Interface):
            return False
        if other.address.ip not in one.address.network or one.address.ip in other.address.network:
            return False
        if isinstance(one, HostStation):
            return _gateway(one) == other.address.ip
        routes = self._network.routing.routes(one.device)
        return any(route.next_hop == str(other.address.ip) for route in routes)

    def _believable(self, station: Station) -> float:
        """How far to believe a prefix length: less for an interface whose subnet overlaps another's of its device."""
        return _WEAK if station in self._overlapping else 1.0

    @cached_property
    def _overlapping(self) -> set[Station]:
        """The interfaces whose subnet contains a smaller one of another interface of the same device and table."""
        found: set[Station] = set()
        for stations in self._network.stations.on_device.values():
            known = [(s, Block.of(str(s.row.address)), s.row) for s in stations if s.address is not None]
            for one, block, row in known:
                for other, inner, beside in known:
                    alike = isinstance(row, Gateway) and isinstance(beside, Gateway) and row.table == beside.table
                    if alike and one.name != other.name and block.length < inner.length and block.meets(inner):
                        found.add(one)
        return found

    def subnet(self, station: Station) -> PrefixedAddress | None:
        """A station's address with the prefix length it should have."""
        length = self.length(station)
        return None if length is None or station.address is None else ip_interface(f"{station.address.ip}/{length}")

    def gateways(self, host: Station) -> list[Interface]:
        """The interfaces that serve a host's subnet, the one most of its peers use first."""
        host = self._one_for_all(host)
        if host not in self._gateways:
            self._gateways[host] = self._find_gateways(host)
        return self._gateways[host]

    def _find_gateways(self, host: Station) -> list[Interface]:
        wanted = self.subnet(host)
        if wanted is None:
            return []
        found = [s for s in self._network.stations.gateways if s.address and s.address.ip in wanted.network]
        used: Counter[Address | None] = Counter()
        for group in self._around(wanted.ip):
            if isinstance(group.stations[0], HostStation) and group.stations[0] is not host:
                used[group.gateway] += len(group.stations)
            elif group.stations[0] is host and len(group.stations) > 1:
                used[group.gateway] += len(group.stations) - 1
        served = self.vlan(host)
        return sorted(found, key=lambda s: (-used[gateway_address(s)], self.vlan(s) != served, s.device, s.name))

    def served(self, vid: int | None) -> list[Interface]:
        """The gateway interfaces whose subnet lives in a VLAN."""
        return [s for s in self._network.stations.gateways if s.address is not None and self.vlan(s) == vid]

    def users(self, wanted: Address) -> list[HostStation]:
        """The hosts that have an address as their gateway."""
        return [s for c in self._network.classes.all if c.gateway == str(wanted) for s in c.hosts]


def _one_interface(one: Station, other: Station) -> bool:
    """Whether two stations are one interface with several addresses."""
    both = isinstance(one, Interface) and isinstance(other, Interface)
    return both and (one.device, one.name) == (other.device, other.name)


def gateway_address(station: Station) -> Address | None:
    """The address that hosts use for a gateway interface: its shared one, else its own."""
    row = station.row
    if isinstance(row, Gateway) and row.virtual and row.virtual != NONE:
        return address(row.virtual)
    return station.address.ip if station.address else None


def _gateway(station: Station) -> Address | None:
    row = station.row
    return address(row.gateway) if isinstance(row, Host) and row.gateway and row.gateway != NONE else None


def end_of(ip: Address, own: PrefixedAddress) -> str | None:
    """Whether an address is the first or the last one for hosts in a subnet."""
    first, last = int(own.network.network_address) + 1, int(own.network.broadcast_address) - 1
    return "first" if int(ip) == first else "last" if int(ip) == last else None
