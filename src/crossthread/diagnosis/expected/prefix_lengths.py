"""What prefix length a station should have: what most of those in its subnet have."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections import defaultdict
from collections.abc import Callable, Iterable, Iterator, Sequence
from functools import cached_property

from crossthread.diagnosis.expected.voters import GATEWAY, HOST, WEAK, Group, Voters, hop_of, votes
from crossthread.network.hosts.blocks import Block
from crossthread.network.hosts.station import HostStation, Interface, Station
from crossthread.network.network import Network
from crossthread.survey.records import Gateway
from crossthread.values import NONE, Address, PrefixedAddress, address, interface, resized

_CLEAR = 0.75
"""By how much one prefix length has to outweigh another to be beyond dispute."""
_AT_END = 0.75
"""What it weighs for a prefix length that a gateway is then at an end of its subnet, as most are."""


_NOBODYS = 0.25
"""What is left of all that speaks for a length with which a station's address would be the subnet's own, or for all."""
_ROUTE = 1.0
"""What a route to the subnet says of its prefix length."""
_FEW = 2
"""A prefix of no more addresses is that of a link between two, or of one alone, by design."""
_LITTLE = 4
"""How much shorter than it is a prefix may be meant to be; what is further off is another subnet's."""


class PrefixLengths:
    """Who is believed of what they say how large their subnet is.

    It is settled in two rounds: whose length is wrong by the first one has no say in the second, as it would put those
    of other subnets into its own.
    """

    def __init__(self, network: Network, voters: Voters) -> None:
        self._network, self._voters = network, voters
        self._first: dict[Station, int | None] = {}
        self._settled: dict[Station, int | None] = {}
        self._around: dict[Address, list[Group]] = {}
        self._held: dict[Block, bool] = {}
        self._spanning: dict[Block, set[tuple[Block, int]]] = {}

    def length(self, station: Station) -> int | None:
        """The prefix length that a station should have; its own where nobody says otherwise."""
        if station not in self._settled:
            self._settled[station] = self._vote(station, self.around)
        return self._settled[station]

    def around(self, wanted: Address) -> Sequence[Group]:
        """The groups in whose subnet an address is, if their prefix length is not wrong."""
        if wanted not in self._around:
            self._around[wanted] = [group for group in self._voters.around(wanted) if self._has_inside(group, wanted)]
        return self._around[wanted]

    def _has_inside(self, group: Group, wanted: Address) -> bool:
        own, length = group.stations[0].address, self._at_first(group.stations[0])
        assert own is not None
        return length is None or wanted in resized(own, length).network

    def _at_first(self, station: Station) -> int | None:
        if station not in self._first:
            self._first[station] = self._vote(station, self._voters.around)
        return self._first[station]

    def disputed(self, station: Station) -> list[int]:
        """The other prefix lengths for which about as much speaks as for the one that a station should have."""
        wanted, weights = self.length(station), self._weigh(station, self._voters.around)
        return [
            length for length, weight in weights.items() if length != wanted and weight > weights[wanted or 0] - _CLEAR
        ]

    def may_be(self, station: Station, length: int) -> bool:
        """Whether a length is the one that a station should have, or about as much speaks for it."""
        return length == self.length(station) or length in self.disputed(station)

    def _vote(self, station: Station, around: Callable[[Address], Iterable[Group]]) -> int | None:
        if station.address is None:
            return None
        own, weights = station.address, self._weigh(station, around)
        best = max(weights.values())
        winners = [length for length, weight in weights.items() if weight > best - 1e-9]
        return own.network.prefixlen if own.network.prefixlen in winners else winners[0]

    def _weigh(self, station: Station, around: Callable[[Address], Iterable[Group]]) -> dict[int, float]:
        """What speaks for each prefix length of a station that has an address."""
        assert station.address is not None
        weights: dict[int, float] = defaultdict(float)
        own, twice = station.address, 1
        served = {own.ip} if isinstance(station, Interface) else set[Address]()
        used, held = {hop_of(station)}, {own.ip}
        beside = self._left_out(station)
        for other, weight in votes(station, around(own.ip)):
            assert other.address is not None
            twice = 2 if self._needs_more(station, other) else twice
            wider = 2 if self._needs_more(other, station) or self._has_way_out(other, station) else 1
            says = GATEWAY if other in beside else weight
            weights[other.address.network.prefixlen] += says * self._believable(other) * wider
            served |= {other.address.ip} if isinstance(other, Interface) else set()
            used.add(hop_of(other))
            held.add(other.address.ip)
        own_weight = HOST if isinstance(station, HostStation) else GATEWAY
        weights[own.network.prefixlen] += own_weight * self._believable(station) * twice
        for length in self.routed(own.ip):
            weights[length] += _ROUTE
        for length in self._passed_on(station) if isinstance(station, Interface) else ():
            weights[length] += GATEWAY
        for ip in served or {
            hop for hop in used if hop is not None and hop.version == own.version
        }:  # a gateway that nobody has was at an end, too
            for length in weights:
                weights[length] += _AT_END if end_of(ip, interface(f"{ip}/{length}")) else 0.0
        for length in weights if len(weights) > 1 else ():
            weights[length] *= _NOBODYS if any(_is_nobodys(ip, length) for ip in held) else 1.0
        return weights

    def _passed_on(self, interface: Interface) -> set[int]:
        """The lengths of a little shorter prefixes in which the next hops are that a device's routes reach by it.

        With the prefix that it has, none of these routes could be used. At an end of the subnet, where other routers
        mostly are, or with several such hops it is no slip of one route. A prefix of one or two addresses is meant so.
        """
        own, rows = interface.address, self._network.routing.routes(interface.device)
        if own is None or own.network.num_addresses <= _FEW:
            return set()
        hops = {row.next_hop for row in rows if row.interface == interface.name and row.next_hop not in (None, NONE)}
        known = [hop for hop in (address(text or "") for text in hops) if hop.version == own.version]
        if not known or any(hop in own.network for hop in known):
            return set()
        length = own.ip.max_prefixlen - max((int(own.ip) ^ int(hop)).bit_length() for hop in known)
        around = resized(own, length)
        at_end = len(known) > 1 or end_of(known[0], around) or end_of(own.ip, around)
        return {length} if length >= own.network.prefixlen - _LITTLE and at_end else set()

    def routed(self, wanted: Address) -> Iterator[int]:
        """The lengths of the prefixes of routes that an address is in, but for those that hold several subnets."""
        number, width = int(wanted), wanted.max_prefixlen
        for (version, length), bits in self._prefixes.items():
            inside = version == wanted.version and number >> width - length in bits
            if inside and not self._crowded(Block(version, length, number >> width - length)):
                yield length

    @cached_property
    def _prefixes(self) -> dict[tuple[int, int], set[int]]:
        """The prefixes to which routes lead, by version and length, but for the default route's."""
        survey, found = self._network.survey, defaultdict[tuple[int, int], set[int]](set)
        rows = zip(survey.column("routes", "prefix"), survey.column("routes", "next_hop"), strict=True)
        for block in {Block.of(prefix) for prefix, hop in rows if hop not in (None, NONE)}:
            if block.length:
                found[block.version, block.length].add(block.bits)
        return found

    def _needs_more(self, one: Station, other: Station) -> bool:
        """Whether one station sends what is to be passed on to another, in whose prefix it is not itself.

        It is a second fact against that prefix.
        """
        if one.address is None or other.address is None or not isinstance(other, Interface):
            return False
        if other.address.ip not in one.address.network or one.address.ip in other.address.network:
            return False
        if isinstance(one, HostStation):
            return hop_of(one) == other.address.ip
        routes = self._network.routing.routes(one.device)
        return any(route.next_hop == str(other.address.ip) for route in routes)

    def _left_out(self, station: Station) -> list[Station]:
        """The interfaces on the wire of a host by itself in whose prefix it is, and which its own leaves out.

        One prefix within another on one wire is by nobody's design. Of a host that has no gateway: it lost that with
        its prefix, or would ask such an interface.
        """
        own = station.address
        if own is None or not isinstance(station, HostStation) or station.row.gateway != NONE:
            return []
        groups = list(self._voters.around(own.ip))
        inside = [group for group in groups if (at := group.stations[0].address) is not None and at.ip in own.network]
        if len(inside) != 1 or len(inside[0].stations) > 1 or inside[0].vid is None:
            return []
        beside = (group.stations[0] for group in groups if group.vid == inside[0].vid)
        return [one for one in beside if isinstance(one, Interface)]

    def _has_way_out(self, other: Station, station: Station) -> bool:
        """Whether a host's gateway is outside its own prefix, and inside that of another who uses it, or is it."""
        hop = hop_of(station) if isinstance(station, HostStation) else None
        if hop is None or station.address is None or other.address is None or hop in station.address.network:
            return False
        is_it = isinstance(other, Interface) and other.ip == hop and station.ip in other.address.network
        return is_it or (hop_of(other) == hop and hop in other.address.network)

    def _believable(self, station: Station) -> float:
        """How far to believe a prefix length: less if it puts into one subnet what lives in several.

        That are several interfaces of one device, or those who say that they are in smaller ones, in several VLANs.
        """
        if isinstance(station, HostStation) and station.address is not None:
            block = Block.of(str(station.address))
            return WEAK if self._crowded(block) or self._spans(block, station) else 1.0
        return WEAK if station in self._overlapping else 1.0

    def _spans(self, block: Block, station: Station) -> bool:
        """Whether those who say that they are in smaller subnets within one live in several VLANs.

        Or, in one that the station's address is not in, in another VLAN than the station.
        """
        assert station.ip is not None
        if block not in self._spanning:
            self._spanning[block] = self._voters.homes_within(block)
        homes, number, width = self._spanning[block], int(station.ip), station.ip.max_prefixlen
        if len({vid for _, vid in homes}) > 1:
            return True
        others = {vid for one, vid in homes if not one.holds(number, width)}
        return bool(others) and self._network.current_vlan(station) not in {None, *others}

    def _crowded(self, block: Block) -> bool:
        """Whether interfaces of one device that have subnets of their own are all in a prefix."""
        if block not in self._held:
            ips, held = self._interfaces[block.version]
            inside = held[bisect_left(ips, block.first) : bisect_right(ips, block.last)]
            homes: dict[tuple[str, str], set[Block]] = defaultdict(set)
            for device, table, own in inside:
                homes[device, table].add(own)
            self._held[block] = any(len(own) > 1 for own in homes.values())
        return self._held[block]

    @cached_property
    def _interfaces(self) -> dict[int, tuple[list[int], list[tuple[str, str, Block]]]]:
        """By IP version the addresses of all interfaces in their order, and whose each is: device, table, subnet."""
        known = sorted(
            (s.address.version, int(s.address.ip), s.device, s.row.table or "", Block.of(str(s.row.address)))
            for s in self._network.stations.gateways
            if s.address is not None
        )
        return {
            version: (
                [ip for v, ip, *_ in known if v == version],
                [(device, table, own) for v, _, device, table, own in known if v == version],
            )
            for version in (4, 6)
        }

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


def _is_nobodys(ip: Address, length: int) -> bool:
    """Whether an address is the subnet's own with some prefix length, or that for all in it (RFC 919)."""
    subnet = interface(f"{ip}/{length}").network
    few = subnet.num_addresses <= _FEW or ip.version == 6
    return not few and ip in (subnet.network_address, subnet.broadcast_address)


def at_end(own: PrefixedAddress, end: str) -> Address:
    """The `first` or the `last` address for hosts in a subnet."""
    return own.network.network_address + 1 if end == "first" else own.network.broadcast_address - 1


def end_of(ip: Address, own: PrefixedAddress) -> str | None:
    """Whether an address is the first or the last one for hosts in a subnet."""
    first, last = int(own.network.network_address) + 1, int(own.network.broadcast_address) - 1
    return "first" if int(ip) == first else "last" if int(ip) == last else None
