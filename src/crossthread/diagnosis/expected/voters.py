"""Who has a say in what a station should be: those in whose subnet it is, hosts that are alike together."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections import defaultdict
from collections.abc import Iterable, Iterator, Sequence
from functools import cached_property
from typing import NamedTuple

from crossthread.network.hosts.blocks import Block, ByPrefix
from crossthread.network.hosts.classes import current_vlan
from crossthread.network.hosts.station import HostStation, Interface, Station
from crossthread.network.network import Network
from crossthread.survey.records import Gateway, Host
from crossthread.values import NONE, Address, address

HOST, GATEWAY, WEAK = 1.0, 1.5, 0.4
"""What a host and a gateway interface weigh, and what anybody does of whom the station itself knows nothing."""


class Group(NamedTuple):
    """Stations whose vote counts the same: a class of hosts, or one gateway interface."""

    stations: Sequence[Station]
    block: Block
    gateway: Address | None
    vid: int | None
    """The VLAN that their frames join as things are, if that is one and known."""


class Voters:
    """The stations of a network by the subnets that they say they are in."""

    def __init__(self, network: Network) -> None:
        self._network = network

    @cached_property
    def _groups(self) -> dict[Block, list[Group]]:
        found: dict[Block, list[Group]] = defaultdict(list)
        for one in self._network.classes.all:
            first = one.hosts[0].address
            if one.block is not None and (first is None or not first.is_link_local):  # nobody gave it that address
                hop = address(one.gateway) if one.gateway and one.gateway != NONE else None
                found[one.block].append(Group(one.hosts, one.block, hop, one.vid))
        for gateway in self._network.stations.gateways:
            if gateway.address is not None:
                block = Block.of(str(gateway.row.address))
                found[block].append(Group([gateway], block, None, current_vlan(gateway, self._network.names)))
        return found

    @cached_property
    def _by_prefix(self) -> ByPrefix[Group]:
        return ByPrefix((block, group) for block, groups in self._groups.items() for group in groups)

    @cached_property
    def _in_vlan(self) -> dict[int, dict[str | None, list[Group]]]:
        """The groups by the VLAN that their frames join as things are, and by the bridges that they are at."""
        found = defaultdict[int, dict[str | None, list[Group]]](lambda: defaultdict(list))
        for groups in self._groups.values():
            for group in groups:
                if group.vid is not None:
                    found[group.vid][self._network.lan(group.stations[0])].append(group)
        return found

    def living_in(self, vid: int, near: Station) -> Iterator[Group]:
        """The groups whose frames join a VLAN, where a station is that may be in it."""
        own = self._network.lan(near)
        for lan, groups in self._in_vlan.get(vid, {}).items():
            if own is None or lan in (None, own):
                yield from groups

    def homes_within(self, block: Block) -> set[tuple[Block, int]]:
        """The smaller subnets within one that anybody says to be in, each with the VLANs in which those are."""
        blocks, firsts = self._in_order[block.version]
        inside = blocks[bisect_left(firsts, block.first) : bisect_right(firsts, block.last)]
        smaller = [one for one in inside if one.length > block.length]
        return {(one, group.vid) for one in smaller for group in self._groups[one] if group.vid}

    @cached_property
    def _in_order(self) -> dict[int, tuple[list[Block], list[int]]]:
        """By IP version all subnets by their first address, and those addresses."""
        ordered = sorted(self._groups, key=lambda block: (block.version, block.first))
        known = {version: [block for block in ordered if block.version == version] for version in (4, 6)}
        return {version: (blocks, [block.first for block in blocks]) for version, blocks in known.items()}

    def around(self, wanted: Address) -> Iterator[Group]:
        """The groups in whose subnet an address is, by their own prefix length."""
        return self._by_prefix.around(wanted)


def votes(station: Station, groups: Iterable[Group]) -> Iterator[tuple[Station, float]]:
    """One station of each group, and the weight of all of them together in what a station should be."""
    own = station.address
    assert own is not None
    hop = hop_of(station)
    for group in groups:
        count = len(group.stations) - (group.stations[0] is station)
        if not count:
            continue
        other = group.stations[0]
        assert other.address is not None
        mutual = other.address.ip in own.network
        linked = hop == other.address.ip or group.gateway == own.ip
        linked = linked or (hop is not None and hop == group.gateway and hop in other.address.network)
        if isinstance(other, HostStation):
            yield other, count * (HOST if mutual or linked else WEAK)
        else:
            yield other, GATEWAY if mutual or linked else WEAK


def hop_of(station: Station) -> Address | None:
    """The gateway of a host, if it has one."""
    row = station.row
    return address(row.gateway) if isinstance(row, Host) and row.gateway and row.gateway != NONE else None


def one_interface(one: Station, other: Station) -> bool:
    """Whether two stations are one interface with several addresses."""
    both = isinstance(one, Interface) and isinstance(other, Interface)
    return both and (one.device, one.name) == (other.device, other.name)


def gateway_address(station: Station) -> Address | None:
    """The address that hosts use for a gateway interface: its shared one, else its own."""
    row = station.row
    if isinstance(row, Gateway) and row.virtual and row.virtual != NONE:
        return address(row.virtual)
    return station.address.ip if station.address else None
