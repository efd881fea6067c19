"""What follows from a survey, derived when first asked for and then kept."""

from __future__ import annotations

from bisect import insort
from collections import defaultdict
from collections.abc import Callable, Iterator, Mapping, Sequence
from functools import cached_property
from typing import Any, TypeVar

from crossthread.collector import held_still
from crossthread.network.coverage import Covered
from crossthread.network.families import narrowed, one_family, versions, whole_changes
from crossthread.network.hosts.classes import Classes, ClassesBefore, current_vlan
from crossthread.network.hosts.hearing import Hearing
from crossthread.network.hosts.station import HostStation, Interface, Station
from crossthread.network.hosts.stations import Stations, still_sent
from crossthread.network.hosts.strangers import Strangers
from crossthread.network.kept import Kept
from crossthread.network.moved import find_moved
from crossthread.network.routing.filters import Filters
from crossthread.network.routing.routes import Routing
from crossthread.network.routing.unread import Unread
from crossthread.network.routing.unread_addresses import UnreadAddresses
from crossthread.network.switching.components import Components
from crossthread.network.switching.segments import Fabric, FabricBefore
from crossthread.network.topology.adjacency import Adjacency, find_adjacencies
from crossthread.network.topology.graph import joined
from crossthread.network.topology.links import Link, Loose, find_links, links_again
from crossthread.network.topology.names import End, Names
from crossthread.network.topology.open_ends import OUTSIDE, OpenEnd, find_open_ends
from crossthread.survey import Survey
from crossthread.survey.changes import Change, apply_changes
from crossthread.survey.records import ArpEntry, Device, Port, Row
from crossthread.survey.survey import Evidence
from crossthread.values import NONE

_Made = TypeVar("_Made")

_SEVERAL = ("address", "gateway")
"""The cells of a host that may hold several."""


class Network:
    """A survey's links, segments, stations and routes.

    Parameters
    ----------
    survey
        What was observed. Nothing is derived before it is asked for, and nothing twice.
    version
        Of which version of IP the address of a host is taken that has several.

    Attributes
    ----------
    told
        The survey as it was given; `survey` is the same with one address for each host.
    """

    def __init__(self, survey: Survey, version: int = 4) -> None:
        self.told, self.version = survey, version
        self.survey = one_family(survey, version)
        self._copied: tuple[Network, Kept] | None = None
        self._all_read = False

    def __repr__(self) -> str:
        return f"<network of {self.survey!r}>"

    def _repr_html_(self) -> str:
        return self.survey._repr_html_()

    def changed(self, changes: Sequence[Change]) -> Network:
        """A copy with some changes made, which shares with this one whatever does not depend on what they change.

        Its answers are those of a network built afresh from the changed survey; see `dependencies`.

        Raises
        ------
        SurveyError
            For a change that the format does not know; see `apply_changes`.
        """
        if self._alone(changes):
            survey = apply_changes(self.survey, changes)
            return self._share(self._of(survey, survey))
        return self._share(Network(apply_changes(self.told, changes), self.version))

    def mended(self, changes: Sequence[Change]) -> Network:
        """The same for changes that were thought out on this network, which knows one address of each host.

        Where they set that address or its gateway, what a host has of the other version stays as it is. What a port
        learned tells how its hosts send as the port was set then: they go on so, however it is set now.
        """
        copy = self._mended(changes)
        sent = still_sent(self.stations, copy.stations, changes)
        return self._mended([*sent, *changes]) if sent else copy

    def _mended(self, changes: Sequence[Change]) -> Network:
        if self._alone(changes):
            return self.changed(changes)
        put = whole_changes(changes, self.told)
        return self._share(
            self._of(apply_changes(self.told, put), apply_changes(self.survey, narrowed(put, self.version)))
        )

    def after_each(self, steps: Sequence[Sequence[Change]]) -> Iterator[Network]:
        """A copy after each of some steps, all steps before it included.

        Each is a copy of this network, not of the one before, so that none has to be kept for the next.

        Raises
        ------
        SurveyError
            For a change that the format does not know; see `apply_changes`.
        """
        changes: list[Change] = []
        for step in steps:
            changes += step
            copy = self.changed(changes)
            sent = still_sent(self.stations, copy.stations, changes)
            yield self.changed([*sent, *changes]) if sent else copy

    def _alone(self, changes: Sequence[Change]) -> bool:
        """Whether no host has several addresses, before or after some changes."""
        return self.told is self.survey and not any(
            " " in str(change.cells.get(cell) or "") for change in changes for cell in _SEVERAL
        )

    def _of(self, told: Survey, survey: Survey) -> Network:
        """A network of the same version of IP, of a survey that has one address for each host already."""
        copy = Network.__new__(Network)
        copy.told, copy.survey, copy.version = told, survey, self.version
        copy._copied, copy._all_read = None, False
        return copy

    def once(self, make: Callable[[Network], _Made], bridging: bool = False) -> _Made:
        """What something makes of this network, made when first asked for and then kept for whoever asks again.

        With `bridging` it is made of nothing but devices, links and how frames are bridged, and kept as well for copies
        in which those are the same.
        """
        kept = self._once_bridging if bridging else self._once
        if make not in kept:
            kept[make] = make(self)
        made: _Made = kept[make]
        return made

    @cached_property
    def _once(self) -> dict[Callable[[Network], object], Any]:
        return {}

    @cached_property
    def _once_bridging(self) -> dict[Callable[[Network], object], Any]:
        return {}

    @cached_property
    def twin(self) -> Network | None:
        """The same network by the other version of IP; None if no host has more than one address."""
        if self.told is self.survey:
            return None
        return self._share(Network(self.told, 10 - self.version))

    def sees(self, version: int) -> bool:
        """Whether no host's address of a version of IP is hidden, as the other version's is where hosts have both."""
        return self.told is self.survey or version == self.version

    def versions(self, host: str) -> frozenset[int]:
        """The versions of IP of which a host has addresses."""
        return versions(self.told.hosts[self.stations.hosts.number(host)].address)

    def _share(self, copy: Network) -> Network:
        """Give a copy all that does not depend on what is different there."""
        copy._all_read = self._all_read
        kept = Kept(self.survey, copy.survey, self.names, self.cabled, self.fabric.known, self.leads_to_hosts)
        if "names" in kept.stale:
            return copy
        copy._copied = self, kept
        copy.names = self.names.in_copy(copy.survey)
        if "links" not in kept.stale:
            copy._found = links_again(self.links, copy.names, kept.ports), self.loose
        if "cabling" not in kept.stale:
            copy.adjacencies = self.adjacencies
            copy.adjacencies_at = self.adjacencies_at
        if "open ends" not in kept.stale and copy.covered.surveyed == self.covered.surveyed:
            copy.open_ends = self.open_ends
        elif copy.open_ends != self.open_ends:
            kept.stale |= {"trees", "bridging"}
        if "bridging" not in kept.stale:
            copy.fabric, copy.components = self.fabric, self.components
            copy._once_bridging = self._once_bridging
        return copy

    @cached_property
    def moved(self) -> tuple[Network, frozenset[int]] | None:
        """The network that this is a copy of, and the hosts, by their rows, without which nothing differs.

        None where anything else does, or it is no copy; see `find_moved`.
        """
        if self._copied is None or self.twin is not None:
            return None
        network, kept = self._copied
        found = find_moved(network, self, kept) if kept.only_hosts else None
        return (network, found) if found is not None else None

    @cached_property
    def cabled(self) -> set[End]:
        """The ports that face another: the ends of cables, and the aggregates that these are members of."""
        sides = ((a.a, a.b, *(end for link in a.links for end in (link.a, link.b))) for a in self.adjacencies)
        return {end for ends in sides for end in ends}

    def leads_to_hosts(self, end: End) -> bool:
        """Whether hosts' rows say that they are at a port, and nobody that bridges or routes was ever heard there."""
        row = self.names.row(end)
        if row is None or row.lag not in (None, NONE) or end in self._heard or end in self.cabled:
            return False
        ports = self.survey.column("hosts", "port")
        near = self.survey.table("hosts").positions("device").get(end.device.casefold(), ())
        return any(ports[n] == end.port for n in near)

    @cached_property
    def _heard(self) -> set[End | None]:
        """The ports at which a neighbour was heard of which it is not known where it is, and those that it names."""
        return {end for entry in self.loose for end in (entry.end, entry.claims)} | self.open_ends.keys()

    @cached_property
    def names(self) -> Names:
        """Devices and ports by any of their names."""
        return Names(self.survey)

    @cached_property
    def _found(self) -> tuple[list[Link], list[Loose]]:
        return find_links(self.survey, self.names)

    @property
    def links(self) -> list[Link]:
        """The cables between surveyed devices."""
        return self._found[0]

    @property
    def loose(self) -> list[Loose]:
        """Neighbours that no link could be made of."""
        return self._found[1]

    @cached_property
    def adjacencies(self) -> list[Adjacency]:
        """Which ports face each other, with aggregates as one port."""
        known = self._copied[0].adjacencies if self._copied is not None else ()
        return find_adjacencies(self.links, self.names, known)

    @cached_property
    def covered(self) -> Covered:
        """Which tables were read in full of which device."""
        return Covered.everything(self.survey, self.names) if self._all_read else Covered(self.survey, self.names)

    @cached_property
    def open_ends(self) -> dict[End, OpenEnd]:
        """The ports beyond which the unknown begins."""
        if self._all_read:
            return {}
        return find_open_ends(self.survey, self.names, self.covered, self.adjacencies, self.loose)

    def as_if_complete(self) -> Network:
        """The same network as if there were nothing but what was read: to see what the facts by themselves say."""
        copy = self._of(self.told, self.survey)
        copy.names, copy._found, copy.adjacencies = self.names, self._found, self.adjacencies
        copy._all_read = True
        return copy

    @cached_property
    def fabric(self) -> Fabric:
        """The layer-2 side: where a frame in a VLAN on a device gets to."""
        before = None
        if self._copied is not None:
            network, kept = self._copied
            before = FabricBefore(network.fabric, kept.stale, kept.ports, kept.tree_ends)
        return Fabric(self.survey, self.names, self.covered, self.adjacencies, self.open_ends, before)

    @cached_property
    def components(self) -> Components:
        """Which VLANs on which devices surely hear each other."""
        if self._copied is None or self._copied[1].stale & {"trees", "vlans"}:
            return Components(self.fabric)
        network, kept = self._copied
        return Components(self.fabric, (network.components, kept.ports | kept.tree_ends))

    @cached_property
    def stations(self) -> Stations:
        """Hosts and gateway interfaces."""
        copied = self._copied
        made = self.survey, self.names, self.links, self.adjacencies_at, self.fabric
        if copied is None or "links" in copied[1].stale:
            return Stations(*made)
        network, kept = copied
        hosts = kept.rows.get("hosts", frozenset())
        same = hosts is not None and self.survey.column("hosts", "mac") is network.survey.column("hosts", "mac")
        touched = (kept.ports, hosts) if same and hosts is not None and "macs" not in kept.rows else None
        return Stations(*made, network.stations, touched)

    @cached_property
    def hearing(self) -> Hearing:
        """Who hears whom on a segment."""
        return Hearing(self.stations, self.fabric, self.components)

    @cached_property
    def classes(self) -> Classes:
        """Hosts that the network cannot tell apart, taken together."""
        with held_still():
            before = None
            if self._copied is not None:
                network, kept = self._copied
                hosts = kept.rows.get("hosts", frozenset())
                if hosts is not None and len(self.survey.hosts) == len(network.survey.hosts):
                    before = ClassesBefore(network.classes, hosts, kept.ports, "tree_ports" in kept.rows)
            found = Classes(
                self.survey,
                self.names,
                self.fabric,
                self.components,
                self.stations,
                self.filters.ports,
                self.covered,
                before,
            )
            return found if self.twin is None or self.version == 6 else found.divided(self.twin.classes)

    @cached_property
    def routing(self) -> Routing:
        """What devices do with IP packets."""
        return Routing(self.survey, self.names, self.stations)

    @cached_property
    def filters(self) -> Filters:
        """The packet filters of ports, and of the interfaces that route."""
        return Filters(self.survey, self.names, self.covered)

    @cached_property
    def unread(self) -> Unread:
        """The routers that nobody read."""
        return Unread(self.covered, self.routing, self.stations.gateways, self.fabric, self.adjacencies_at)

    @cached_property
    def unread_addresses(self) -> UnreadAddresses:
        """Which interfaces may have an address that nobody is known to have."""
        return UnreadAddresses(self.survey, self.routing, () if self._all_read else self.stations.gateways)

    def stranger_at(self, ip: str) -> ArpEntry | None:
        """What an ARP cache has of an address that nobody has of whom anything else was read."""
        return None if self._all_read else self._strangers.at(ip)

    @cached_property
    def _strangers(self) -> Strangers:
        return Strangers(self.survey, self.stations.by_address)

    def one_lan(self, one: Station, other: Station) -> bool:
        """Whether two may be in one VLAN if both are in one of the same number: bridges join where they are.

        Sites that are routed to each other may use the same numbers, each for VLANs of its own.
        """
        lans = self.lan(one), self.lan(other)
        return None in lans or lans[0] == lans[1]

    def lan(self, station: Station) -> str | None:
        """A bridge that stands for all that are joined to the one that a station is at, in whatever VLAN.

        None where it is not known at which one it is.
        """
        device: str | None = station.device or None
        if isinstance(station, Interface) and station.end is not None:
            facing = {link.far(station.end).device for link in self.adjacencies_at.get(station.end, ())}
            device = facing.pop() if len(facing) == 1 else None
        return device and self.lan_at(device)

    def lan_at(self, device: str) -> str:
        """The bridge that stands for all that one is joined to."""
        return self._lans.get(device, device)

    @cached_property
    def _lans(self) -> dict[str, str]:
        """For each bridge one that stands for all that it is joined to (IEEE 802.1Q, 3: bridged network)."""
        bridged = self.fabric.member
        pairs = [(a.a.device, a.b.device) for a in self.adjacencies if bridged(a.a).bridged and bridged(a.b).bridged]
        parts = joined([*pairs, *((end.device, OUTSIDE.device) for end in self.open_ends)])
        first: dict[str, str] = {}
        for device in sorted(parts, reverse=True):
            first[parts[device]] = device or first[parts[device]]
        return {device: first[part] for device, part in parts.items()}

    def port(self, end: End) -> Port | None:
        """The survey's row of a port."""
        return self.names.row(end)

    def device(self, name: str) -> Device | None:
        """The survey's row of a device, by the name as it is spelled."""
        return self._devices.get(name)

    @cached_property
    def _devices(self) -> dict[str, Device]:
        return {self.names.spelled[row.device]: row for row in self.survey.devices}

    def evidence(self, row: Row | None, *columns: str) -> tuple[Evidence, ...]:
        """What some columns of a row say; nothing if there is no row."""
        if row is not None and id(row) in self._managed:  # of a device's management address its own row tells
            row, columns = self._managed[id(row)], ("management",)
        return self.survey.evidence(row, *columns) if row is not None else ()

    @cached_property
    def _managed(self) -> dict[int, Device]:
        """The rows of devices by the rows that were made of their management addresses."""
        return {id(station.row): self._devices[station.device] for station in self.stations.managed}

    @cached_property
    def adjacencies_at(self) -> dict[End, list[Adjacency]]:
        """What each port faces."""
        found: dict[End, list[Adjacency]] = defaultdict(list)
        for adjacency in self.adjacencies:
            found[adjacency.a].append(adjacency)
            found[adjacency.b].append(adjacency)
        return found

    @cached_property
    def gateways_at(self) -> dict[End, list[Interface]]:
        """The gateway interfaces that have each port as their parent."""
        found: dict[End, list[Interface]] = defaultdict(list)
        for gateway in self.stations.gateways:
            if gateway.end is not None:
                found[gateway.end].append(gateway)
        return found

    def hosts_at(self, end: End) -> list[HostStation]:
        """The hosts plugged into a port."""
        return list(map(self.stations.hosts.at, self.host_rows_at(end)))

    def host_rows_at(self, end: End) -> Sequence[int]:
        """The places of the rows of the hosts plugged into a port."""
        if end.device not in self._numbers_at:
            self._numbers_at[end.device] = self._find_numbers_at(end.device)
        return self._numbers_at[end.device].get(end.port, ())

    @cached_property
    def _numbers_at(self) -> dict[str, dict[str | None, list[int]]]:
        """The rows of the hosts at the ports of each device that was asked for."""
        if self._copied is not None and self._copied[0].stations.places is self.stations.places:
            return self._copied[0]._numbers_at
        return {}

    def _find_numbers_at(self, device: str) -> dict[str | None, list[int]]:
        """By port the rows of the hosts on a device: as those say, else wherever on it the hosts were found to be."""
        places, astray = self.stations.places, self.stations.locating.astray
        near = {*self.survey.table("hosts").positions("device").get(device.casefold(), ()), *astray}
        found: dict[str | None, list[int]] = defaultdict(list)
        for n in sorted(n for n in near if places[n][0] == device):
            found[places[n][1]].append(n)
        listed: Mapping[str, Port] = self.names.ports.get(device, {})
        for n in sorted(n for port in found.keys() - listed.keys() for n in found.pop(port)):
            end = self.stations.hosts.at(n).end
            if end is not None:
                insort(found[end.port], n)
        return found

    @cached_property
    def host_ends(self) -> set[tuple[str, str | None]]:
        """The ports that some host is plugged into."""
        stations = self.stations
        return {*stations.plugged, *(host.end for host in stations.elsewhere if host.end is not None)}

    def current_vlan(self, station: Station) -> int | None:
        """The VLAN that a station's frames join as things are, if that is one and known."""
        if isinstance(station, HostStation):
            return self.classes.of(station.name).vid
        return current_vlan(station, self.names)
