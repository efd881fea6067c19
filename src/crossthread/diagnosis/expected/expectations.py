"""What a setting most likely should be, by the evidence of everything around it.

Nobody may have written a plan, but a network says most things several times: a subnet's VLAN is said by its gateway's
tag, by the ports of its hosts and often by the interface's name; its prefix length by every host and gateway in it.
Here they vote.
"""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Iterator, Sequence
from functools import cached_property, partial
from ipaddress import ip_network

from crossthread.diagnosis.expected.interfaces import Interfaces
from crossthread.diagnosis.expected.named_vlans import NamedVlans
from crossthread.diagnosis.expected.prefix_lengths import PrefixLengths
from crossthread.diagnosis.expected.voters import (
    GATEWAY,
    HOST,
    WEAK,
    Group,
    Voters,
    gateway_address,
    hop_of,
    one_interface,
    votes,
)
from crossthread.network.hosts.classes import HostClass, current_vlan
from crossthread.network.hosts.station import HostStation, Interface, Station
from crossthread.network.network import Network
from crossthread.plan import Plan
from crossthread.survey.records import Gateway
from crossthread.values import Address, Prefix, PrefixedAddress, resized

_DEFAULT = 0.25
"""What is left of a vote for VLAN 1 by a port, which is there if nobody set it: a default witnesses hardly anything."""
_OUTNUMBERED = 2
"""How many strangers to one of its own subnet a station has to live among to be astray."""


class Expected:
    """Expectations of a network's stations.

    Hosts that the network cannot tell apart vote together, and are expected to be the same.
    """

    def __init__(self, network: Network, plan: Plan | None = None) -> None:
        self._network, self._plan = network, plan or Plan()
        self._vlan: dict[Station, int | None] = {}
        self._weights: dict[Station, dict[int, float]] = {}
        self._astray: dict[Station, bool] = {}
        self._alike: dict[Station, bool] = {}
        self._voters = Voters(network)
        self._lengths = PrefixLengths(network, self._voters)
        self._interfaces = Interfaces(network, self._lengths)
        self._named = NamedVlans(network)
        self._gateways: dict[Station, list[Interface]] = {}

    def groups(self, wanted: Address) -> Sequence[Group]:
        """The same, those that are alike together."""
        return self._lengths.around(wanted)

    def near(self, wanted: Address) -> Iterator[Station]:
        """The stations in whose subnet an address is, by their own prefix length."""
        for group in self._lengths.around(wanted):
            yield from group.stations

    def interfaces_near(self, wanted: Address) -> Iterator[Interface]:
        """Those of them that are interfaces of devices; no host is looked at for it."""
        for group in self._lengths.around(wanted):
            first = group.stations[0]
            if isinstance(first, Interface):
                yield first

    def routed_lengths(self, wanted: Address) -> set[int]:
        """The lengths of the prefixes, each of one subnet, to which routes lead and in which an address is."""
        return set(self._lengths.routed(wanted))

    def disputed_lengths(self, wanted: Address) -> set[int]:
        """The prefix lengths that a subnet may as well have, as some there have it: those of its interfaces."""
        return {length for own in self.interfaces_near(wanted) for length in self._lengths.disputed(own)}

    def may_have_length(self, station: Station, length: int) -> bool:
        """Whether a station may as well have a certain prefix length as the one that it should have."""
        return self._lengths.may_be(station, length)

    def near_in(self, wanted: Address, vid: int) -> Iterator[Station]:
        """Those of them whose frames join a certain VLAN as things are."""
        for group in self._lengths.around(wanted):
            if group.vid == vid:
                yield from group.stations

    def _one_for_all(self, station: Station) -> Station:
        """The station that stands for all that are like this one."""
        if not isinstance(station, HostStation) or station in self._firsts:
            return station
        one = self._network.classes.of(station.name)
        return one.hosts[0] if self.alike(one) else station

    def alike(self, one: HostClass) -> bool:
        """Whether the plan has all hosts of a class in one VLAN."""
        first = one.hosts[0]
        if first not in self._alike:
            self._alike[first] = not self._has_places or len(set(map(self.planned, one.hosts))) == 1
        return self._alike[first]

    @cached_property
    def _has_places(self) -> bool:
        """Whether the plan says anything of where hosts belong."""
        return bool(self._planned_subnets or self._plan.hosts or self._plan.ports)

    @cached_property
    def _firsts(self) -> dict[Station, HostClass]:
        return {one.hosts[0]: one for one in self._network.classes.all}

    def current_vlan(self, station: Station) -> int | None:
        """The VLAN that a station's frames join as things are, if that is one and known."""
        if isinstance(station, HostStation):
            one = self._firsts.get(station) or self._network.classes.of(station.name)
            return one.vid
        return current_vlan(station, self._network.names)

    def _votes(self, station: Station) -> Iterator[tuple[Station, float]]:
        assert station.address is not None
        return votes(station, self._lengths.around(station.address.ip))

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
    def _planned_subnets(self) -> dict[tuple[int, int], dict[Prefix, int]]:
        """The VLANs of the plan's subnets by IP version and prefix length, the longest first."""
        found = defaultdict[tuple[int, int], dict[Prefix, int]](dict)
        for vid, entry in self._plan.vlans.items():
            for prefix in map(ip_network, entry.subnets or ()):
                found[prefix.version, prefix.prefixlen].setdefault(prefix, vid)
        return dict(sorted(found.items(), reverse=True))

    def _planned_subnet(self, station: Station) -> tuple[int, int] | None:
        """The prefix length and the VLAN of the planned subnet that a station's address is in."""
        own = station.address
        for (version, length), vids in self._planned_subnets.items() if own is not None else ():
            if own is not None and own.version == version:
                vid = vids.get(ip_network((own.ip, length), strict=False))
                if vid is not None:
                    return length, vid
        return None

    def planned(self, station: Station) -> int | None:
        """The VLAN that the plan has for a station: by its name, its port, or the subnet that its address is in."""
        if not self._has_places:
            return None
        if isinstance(station, HostStation):
            entry = self._plan.hosts.get(station.name.casefold())
            if entry is not None and entry.vlan is not None:
                return entry.vlan
        if (known := self._planned_subnet(station)) is not None:
            return known[1]
        if isinstance(station, HostStation) and station.end is not None:
            row = self._network.port(station.end) if self._plan.ports else None
            aliases = (row.aliases or ()) if row is not None else ()
            return self._plan.port(*station.end, aliases).vlan
        return None

    def _vote_vlan(self, station: Station) -> int | None:
        planned = self.planned(station)
        if planned is not None:
            self._weights[station] = {planned: 1.0}
            return planned
        if station.address is None:
            return self.current_vlan(station)
        weights: dict[int, float] = defaultdict(float)
        own = GATEWAY if isinstance(station, Interface) else HOST
        votes = [*self._votes(station), (station, own)]
        default = 1.0 if self.meant(1, [other for other, _ in votes]) else _DEFAULT
        for other, weight in votes:
            for vid, share in self._says_vlan(other):
                weights[vid] += weight * share * (default if vid == 1 and other.row.vid is None else 1.0)
        interfaces = [other for other, _ in votes if isinstance(other, Interface)]
        for vid in [vid for vid in weights if self._interfaces.refused(vid, interfaces)]:
            del weights[vid]
        self._weights[station] = weights
        if not weights:
            return None
        best = max(weights.values())
        winners = [vid for vid, weight in weights.items() if weight > best - 1e-9]
        if len(winners) > 1:  # one that somebody wrote down somewhere, rather than what may be a slip
            lan = self._network.lan(station)
            winners = [vid for vid in winners if not self._named.misses(vid, lan)] or winners
        current = self.current_vlan(station)
        silent = self._silent(station)
        if silent and best - weights.get(current or 0, 0.0) <= silent:
            return current  # those who were not read may all speak for what is there, or for something else
        return current if current in winners else winners[0]

    def undecided(self, station: Station) -> bool:
        """Whether most of what was read speaks against the VLAN of a station, and only the unread may speak for it."""
        wanted = self.vlan(station)
        weights = self._weights.get(self._one_for_all(station), {})
        return wanted is not None and max(weights.values(), default=0.0) > weights.get(wanted, 0.0)

    def _silent(self, station: Station) -> float:
        """How much those could say of a station's VLAN whose own VLAN is not known, or who were not read at all."""
        silent, served = 0.0, isinstance(station, Interface)
        for other, weight in self._votes(station):
            silent += weight if self.current_vlan(other) is None and self.told_vid(other) is None else 0.0
            served = served or isinstance(other, Interface)
        return silent if served or not self._network.unread.anywhere else silent + GATEWAY

    def _says_vlan(self, station: Station) -> Iterator[tuple[int, float]]:
        if self.only_address_is_odd(station):
            return
        vid = self.current_vlan(station)
        named = self.told_vid(station)
        if named is not None:
            yield named, 1.0
        if vid is not None:
            share = 0.5 if named is not None else 1.0  # the name is the better witness of the two
            share *= WEAK if named != vid and self._in_doubt(station) else 1.0
            share *= 0.5 if self.on_trunk(station) else 1.0
            yield vid, share

    def only_address_is_odd(self, station: Station) -> bool:
        """Whether a host's gateway serves the VLAN where it is, and only its address is of elsewhere.

        Of three that should agree that is the odd one: it says nothing of where the subnet lives that it names. Which
        VLAN a gateway serves that no interface has, those say that use it and are of its subnet.
        """
        hop, own = hop_of(station), station.address
        if hop is None or own is None or hop in own.network or not isinstance(station, HostStation):
            return False
        asked: list[Station] = [s for s in self._network.stations.by_address.of(str(hop)) if isinstance(s, Interface)]
        if not asked:
            groups = [group for group in self._lengths.around(hop) if group.gateway == hop]
            asked = [group.stations[0] for group in groups]
        served = [s.address.network for s in asked if s.address and self.current_vlan(s) == self.current_vlan(station)]
        return bool(served) and not any(own.ip in network for network in served)

    def meant(self, vid: int, stations: Sequence[Station]) -> bool:
        """Whether an interface and a host of one subnet are in a VLAN, be it the default one: hardly by two slips."""
        there = (s for s in stations if (self.current_vlan(s) or self.named_vid(s)) == vid)
        return len({isinstance(s, Interface) for s in there}) > 1

    def _in_doubt(self, station: Station) -> bool:
        """Whether something else than its name says of a station's VLAN that it is not its own."""
        return (
            self.astray(station)
            or self.crossed(station) is not None
            or self._interfaces.claimed(station)
            or self._interfaces.let_through_as_named(station)
        )

    def on_trunk(self, station: Station) -> bool:
        """Whether a host that does not tag is at a trunk port, which is hardly meant for it as it is."""
        row = self._network.port(station.end) if isinstance(station, HostStation) and station.end else None
        return row is not None and row.mode == "trunk"

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
        for group in self._voters.living_in(vid, station):
            first, count = group.stations[0], len(group.stations)
            assert first.address is not None
            if first is station or first.address.ip in own.network or own.ip in first.address.network:
                mates += count - (first is station)
            elif not (one_interface(first, station) or self.on_trunk(first)) and self.named_vid(first) in (None, vid):
                strangers += count
        return strangers > _OUTNUMBERED * mates

    def told_vid(self, station: Station) -> int | None:
        """The VID that an interface's name says; else the VLAN that it says it serves, if its frames carry no tag."""
        return self._interfaces.told_vid(station)

    def named_vid(self, station: Station) -> int | None:
        """The VID in an interface's name, such as 30 in `vlan30` or `up1.30`, if it is a VLAN of this network."""
        return self._interfaces.named_vid(station)

    def crossed(self, station: Station) -> Interface | None:
        """The interface beside this one that has the tag which this is named after, and is named after this one's."""
        return self._interfaces.crossed(station)

    def only_managed(self, station: Station) -> bool:
        """Whether an interface is there to manage its device, which has no other and forwards for nobody."""
        return self._interfaces.only_managed(station)

    def length(self, station: Station) -> int | None:
        """The prefix length a station should have: the plan's, else what most of those in its subnet have."""
        known = self._planned_subnet(station)
        return known[0] if known is not None else self._lengths.length(self._one_for_all(station))

    def subnet(self, station: Station) -> PrefixedAddress | None:
        """A station's address with the prefix length it should have."""
        length = self.length(station)
        return None if length is None or station.address is None else resized(station.address, length)

    def gateways(self, host: Station) -> list[Interface]:
        """The interfaces that serve a host's subnet: that first which most of its peers use, and which holds it."""
        host = self._one_for_all(host)
        if host not in self._gateways:
            self._gateways[host] = self._find_gateways(host)
        return self._gateways[host]

    def _find_gateways(self, host: Station) -> list[Interface]:
        wanted = self.subnet(host)
        if wanted is None:
            return []
        near = (s for s in self._network.stations.gateways if s.address and s.address.ip in wanted.network)
        found = [s for s in near if not self.only_managed(s) and not self._beyond(host, s)]
        used: Counter[Address | None] = Counter()
        for group in self._lengths.around(wanted.ip):
            if isinstance(group.stations[0], HostStation) and group.stations[0] is not host:
                used[group.gateway] += len(group.stations)
            elif group.stations[0] is host and len(group.stations) > 1:
                used[group.gateway] += len(group.stations) - 1
        served = self.vlan(host)

        def rank(one: Interface) -> tuple[object, ...]:
            elsewhere = self.vlan(one) != served, self.current_vlan(one) != served
            idle = isinstance(one.row, Gateway) and one.row.virtual_state in ("backup", "down")
            return -used[gateway_address(one)], *elsewhere, idle, one.device, one.name

        return sorted(found, key=rank)

    def _beyond(self, host: Station, own: Interface) -> bool:
        """Whether an interface is in another VLAN than a host, and by its own prefix in another subnet.

        The host's prefix is too long then, and holds another's subnet.
        """
        subnet, vids = self.subnet(own), {self.current_vlan(host), self.current_vlan(own)}
        return len(vids) > 1 and None not in vids and subnet is not None and host.ip not in subnet.network

    def served(self, vid: int | None, station: Station) -> list[Interface]:
        """The gateway interfaces whose subnet lives in a VLAN, where a station is that may be in it."""
        near = partial(self._network.one_lan, station)
        held = (s for s in self._network.stations.gateways if s.address is not None and not self.only_managed(s))
        return [s for s in held if self.vlan(s) == vid and near(s)]

    def users(self, wanted: Address) -> list[HostStation]:
        """The hosts that have an address as their gateway."""
        return [host for one in self.asking(str(wanted)) for host in one.hosts]

    def asking(self, hop: str) -> Sequence[HostClass]:
        """The same, those that nothing tells apart together."""
        return self._by_gateway.get(hop, ())

    @cached_property
    def _by_gateway(self) -> dict[str | None, list[HostClass]]:
        found = defaultdict[str | None, list[HostClass]](list)
        for one in self._network.classes.all:
            found[one.gateway].append(one)
        return dict(found)
