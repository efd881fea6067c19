"""What the rules look at: a network, what is expected of it, and what follows from both for many of them."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable
from functools import cached_property, reduce
from operator import or_
from typing import Any, TypeVar

from crossthread.diagnosis.expected.expectations import Expected
from crossthread.network.hosts.classes import HostClass
from crossthread.network.hosts.station import HostStation, Interface, Station
from crossthread.network.network import Network
from crossthread.network.three_valued import EVERY_VID
from crossthread.network.topology.adjacency import Adjacency, bundle, on_a_cycle
from crossthread.network.topology.graph import distances, joined
from crossthread.network.topology.names import End
from crossthread.plan import Plan
from crossthread.plan.plan import PlannedPort
from crossthread.survey.records import ArpEntry, Device, MacEntry, Neighbor, Port, Row, TreePort
from crossthread.survey.survey import Evidence
from crossthread.values import NONE, VlanSet, address
from crossthread.views.tree import TreeAnswer, tree

_Made = TypeVar("_Made")


class Context:
    """A network with its plan and expectations, for rules and searches to share."""

    def __init__(self, network: Network, plan: Plan | None = None) -> None:
        self.network = network
        self.plan = plan or Plan()
        self.expected = Expected(network, self.plan)
        self._fed: dict[str, int] = {}
        self._differing: dict[Adjacency, frozenset[str]] = {}
        self._once: dict[Callable[..., object], Any] = {}

    @cached_property
    def observed(self) -> Expected:
        """What would be expected without the plan, by what was read alone."""
        return Expected(self.network) if self.plan != Plan() else self.expected

    def once(self, make: Callable[[Context], _Made], kept_as: Callable[..., object] | None = None) -> _Made:
        """What something makes of this context, made once: for what looks at contexts and is used by all who do.

        Where the function that makes it is another one each time, `kept_as` says what it is kept as.
        """
        key = kept_as or make
        if key not in self._once:
            self._once[key] = make(self)
        made: _Made = self._once[key]
        return made

    @cached_property
    def port(self) -> Callable[[End], Port | None]:
        """What gives the survey's row of a port; asked for more often than anything else, and so without a detour."""
        return self.network.names.row

    @cached_property
    def closed(self) -> Context:
        """The same as if there were nothing but what was read."""
        return Context(self.network.as_if_complete(), self.plan)

    def planned_port(self, end: End) -> PlannedPort:
        """What is planned for a port; nothing, if the plan does not know it."""
        row = self.port(end) if self.plan.ports else None
        return self.plan.port(end.device, end.port, (row.aliases or ()) if row is not None else ())

    def planned_native(self, end: End) -> int | None:
        """The native VLAN that is planned for a trunk, by itself or for all; 0 if it is to have none."""
        own = self.planned_port(end).native
        return own if own is not None else self.plan.settings.native

    def device(self, name: str) -> Device | None:
        """The survey's row of a device."""
        return self.network.device(name)

    def evidence(self, row: Row | None, *columns: str) -> tuple[Evidence, ...]:
        """What some columns of a row say; nothing if there is no row."""
        return self.network.evidence(row, *columns)

    def at_edge(self, end: End) -> bool:
        """Whether a port faces no other device, by a cable or as the parent of an interface that routes."""
        return end not in self.adjacencies_at and end not in self.network.gateways_at

    def hosts_at(self, end: End) -> list[HostStation]:
        """The hosts plugged into a port."""
        return self.network.hosts_at(end)

    def behind(self, end: End) -> list[HostStation]:
        """The hosts plugged into the bridges without regard to VLANs that a port leads to, past no other bridge."""
        if self.network.fabric.unaware(end.device):
            return []
        devices = {link.far(end).device for link in self.adjacencies_at.get(end, ())}
        behind = {one for device in devices for one in self.unaware_around(device)}
        return [host for device in sorted(behind) for host in self._plugged_into[device]]

    @cached_property
    def _plugged_into(self) -> dict[str, list[HostStation]]:
        """The hosts at each bridge without regard to VLANs."""
        found: dict[str, list[HostStation]] = defaultdict(list)
        for device, port in sorted((device, port) for device, port in self.host_ends if device and port):
            if self.network.fabric.unaware(device):
                found[device] += self.hosts_at(End(device, port))
        return found

    def unaware_around(self, device: str) -> list[str]:
        """A bridge without regard to VLANs, and all such that it is cabled to over others; nothing for any other."""
        unaware = self.network.fabric.unaware
        if not unaware(device):
            return []
        near: dict[str, list[str]] = defaultdict(list)
        for end, links in self.adjacencies_at.items():
            if unaware(end.device):
                near[end.device] += [far.device for link in links if unaware((far := link.far(end)).device)]
        return sorted(distances([device], near))

    @property
    def host_ends(self) -> set[tuple[str, str | None]]:
        """The ports that some host is plugged into."""
        return self.network.host_ends

    @cached_property
    def taken_ends(self) -> set[tuple[str, str | None]]:
        """The ports to which something is known to be plugged in, or that alone name a host which may be there."""
        return {*self.host_ends, *self.adjacencies_at, *self.named_ends}

    @cached_property
    def taken_rows(self) -> list[bool]:
        """Of each row of the ports whether it is of one of those."""
        survey, spelled = self.network.survey, self.network.names.spelled
        devices = map(spelled.__getitem__, survey.column("ports", "device"))
        return list(map(self.taken_ends.__contains__, zip(devices, survey.column("ports", "port"), strict=True)))

    @cached_property
    def named_ends(self) -> dict[End, HostStation]:
        """The ports whose description alone tells where a host may be, and that host."""
        stations = self.network.stations
        lost = (stations.hosts.at(n) for n in stations.locating.astray if not stations.places[n][0])
        return {end: host for host in lost if (end := self.only_named_at(host)) is not None}

    @property
    def adjacencies_at(self) -> dict[End, list[Adjacency]]:
        """What each port faces."""
        return self.network.adjacencies_at

    def tree(self, instance: int) -> TreeAnswer:
        """A spanning tree, worked out once and not put into words."""
        known = self.network.once(_trees, bridging=True)
        if instance not in known:
            known[instance] = tree(self.network, instance, explained=False)
        return known[instance]

    @cached_property
    def edge_rows(self) -> dict[End, list[TreePort]]:
        """The rows of ports that are set as edge ports, of those that have a link to another device."""
        found: dict[End, list[TreePort]] = {}
        trees = self.network.fabric.trees
        for end in self.adjacencies_at:
            rows = (trees.ports.get((*end, instance)) for instance in trees.instances(end.device))
            edges = [row for row in rows if row is not None and row.edge == "yes"]
            if edges:
                found[end] = edges
        return found

    @cached_property
    def vlan_names(self) -> dict[int, str]:
        """A name of each VLAN that has one."""
        survey = self.network.survey
        return {
            vid: name
            for vid, name in zip(survey.column("vlans", "vid"), survey.column("vlans", "name"), strict=True)
            if name
        }

    def is_lost(self, ip: str | None, asker: str | None = None) -> bool:
        """Whether nobody has, nor may have, an address that a device or (None) a host asks for."""
        held = ip in (None, NONE) or ip in self.network.stations.by_address
        return not held and not self.may_be_answered(ip, asker)

    def may_be_answered(self, ip: str | None, asker: str | None = None) -> bool:
        """Whether nobody of all that was read has an address, and somebody may.

        Of whom an ARP cache tells, or of whom not all addresses were read.
        """
        if ip is None or ip == NONE or ip in self.network.stations.by_address:
            return False
        wanted, unread = address(ip), self.network.unread_addresses
        may = [*(unread.link_local if wanted.is_link_local else ()), *unread.sharing(wanted, asker)]
        return bool(may) or self.network.stranger_at(ip) is not None

    @cached_property
    def learned(self) -> dict[str, list[MacEntry]]:
        """Where each MAC address was learned."""
        found: dict[str, list[MacEntry]] = defaultdict(list)
        for entry in self.network.survey.macs:
            if entry.kind != "self" and entry.port:
                found[entry.mac].append(entry)
        return found

    def only_named_at(self, host: HostStation) -> End | None:
        """The one port whose description names a host, if that is all that is known, or it was learned there, too."""
        if host.end is not None or host.located_by or host.row.device:
            return None
        named = self.network.stations.locating.named_by(host.name)
        return named[0] if len(named) == 1 and {*self.learned_at_open_ends(host), *named} == {*named} else None

    def learned_at_open_ends(self, host: HostStation) -> list[End]:
        """The ports at which a host's MAC address was learned, and beyond which the unknown begins."""
        names, found = self.network.names, []
        for entry in self.learned.get(host.row.mac or "", ()):
            device = names.spelled[entry.device]
            end = bundle(End(device, names.port(device, entry.port) or entry.port or ""), names)
            if end in self.network.open_ends:
                found.append(end)
        return found

    @cached_property
    def heard_at(self) -> dict[End, list[Neighbor]]:
        """What the neighbour tables have, port by port."""
        found: dict[End, list[Neighbor]] = defaultdict(list)
        names = self.network.names
        for row in self.network.survey.neighbors:
            device = names.spelled[row.device]
            found[End(device, names.port(device, row.port) or row.port)].append(row)
        return found

    @cached_property
    def hearing_devices(self) -> frozenset[str]:
        """The devices that heard somebody."""
        return frozenset(end.device for end in self.heard_at)

    @cached_property
    def heard_ends(self) -> set[End]:
        """The ports at the ends of cables, and those that heard somebody of whom no cable is known."""
        network = self.network
        return {end for link in network.links for end in (link.a, link.b)} | {entry.end for entry in network.loose}

    def differing(self, adjacency: Adjacency) -> frozenset[str]:
        """The columns of ports in which the ends of a link differ, or those of one of its cables."""
        if adjacency not in self._differing:
            pairs = [(adjacency.a, adjacency.b), *((link.a, link.b) for link in adjacency.links)]
            rows = [(self.port(a), self.port(b)) for a, b in dict.fromkeys(pairs)]
            self._differing[adjacency] = frozenset(column for a, b in rows for column in _differing(a, b))
        return self._differing[adjacency]

    def fed(self, device: str) -> int:
        """The VIDs that some port of a device carries that may be up, as bits; all if its ports were not listed."""
        if device not in self._fed:
            self._fed[device] = self._find_fed(device)
        return self._fed[device]

    def _find_fed(self, device: str) -> int:
        ports, fabric, bits = self.network.names.ports.get(device), self.network.fabric, 0
        if not ports:
            return EVERY_VID
        for port, row in ports.items():
            if row.admin != "down" and row.oper != "down" and row.lag in (None, NONE):
                bits |= fabric.carried(End(device, port)).possible & fabric.forwarding(End(device, port)).possible
        return bits

    def living_in(self, vid: int | None, near: Station) -> list[HostClass]:
        """The classes of hosts whose frames join a VLAN, where a station is that may be in it."""
        return [one for one in self.classes_in.get(vid, ()) if self.network.one_lan(one.hosts[0], near)]

    @cached_property
    def classes_in(self) -> dict[int | None, list[HostClass]]:
        """The classes of hosts by the VLAN that their frames join."""
        found: dict[int | None, list[HostClass]] = defaultdict(list)
        for one in self.network.classes.all:
            found[one.vid].append(one)
        return found

    @cached_property
    def spoken_addresses(self) -> set[str | None]:
        """The addresses that some table has as somebody's gateway, next hop, management address or neighbour in ARP."""
        columns = (
            ("hosts", "gateway"),
            ("routes", "next_hop"),
            ("devices", "management"),
            ("neighbors", "management"),
            ("arp", "address"),
            ("gateways", "virtual"),
        )
        return set().union(*(self.network.survey.column(*column) for column in columns))

    def remembered(self, host: HostStation) -> list[ArpEntry]:
        """What ARP caches have at a host's MAC address, if that is its alone: it was heard with these addresses."""
        rows, mac = self.network.survey.rows(ArpEntry), host.row.mac
        if mac is None or len(self.network.survey.table("hosts").positions("mac").get(mac, ())) > 1:
            return []
        return [rows[n] for n in rows.positions("mac").get(mac, ())]

    @cached_property
    def islands(self) -> dict[str, str]:
        """For each device with a cable the one that stands for all that cables join it to."""
        return joined((adjacency.a.device, adjacency.b.device) for adjacency in self.network.adjacencies)

    def connected(self, one: str, other: str) -> bool:
        """Whether cables join two devices, over whatever others: else they may have nothing to do with each other."""
        return self.islands.get(one, one) == self.islands.get(other, other)

    @cached_property
    def next_hops(self) -> set[str | None]:
        """The addresses to which some route or some host sends what is to be passed on."""
        survey = self.network.survey
        return {*survey.column("routes", "next_hop"), *survey.column("hosts", "gateway")}

    @cached_property
    def routed_to(self) -> dict[str | None, list[str]]:
        """The devices of which routes lead to each next hop, once for each route."""
        found: dict[str | None, list[str]] = {}
        for row in self.network.survey.routes:
            found.setdefault(row.next_hop, []).append(self.network.names.device(row.device) or row.device)
        return found

    @cached_property
    def used_vlans(self) -> VlanSet:
        """The VLANs in which there are hosts or gateways, as things are and as they should be."""
        return VlanSet(reduce(or_, self._used_in.values(), 0))

    def used_around(self, *devices: str) -> VlanSet:
        """The same of those who may be where some bridges are joined to: elsewhere the same numbers may be others."""
        places = {None, *map(self.network.lan_at, devices)}
        return VlanSet(reduce(or_, (self._used_in.get(place, 0) for place in places)))

    @cached_property
    def _used_in(self) -> dict[str | None, int]:
        """The VLANs that are used by the bridges, joined to each other, where they are; by None where nobody knows."""
        found: dict[str | None, int] = defaultdict(int)
        for station in self._one_of_each:
            vids = {self.expected.vlan(station), self.expected.current_vlan(station)} - {None, 0}
            for vid in filter(None, vids):
                found[self.network.lan(station)] |= 1 << vid
        return dict(found)

    @cached_property
    def lived_in(self) -> VlanSet:
        """The VLANs in which there are hosts or gateways as things are: soon told, as nothing has to be judged."""
        return VlanSet.of(vid for one in self._one_of_each if (vid := self.expected.current_vlan(one)))

    @property
    def _one_of_each(self) -> list[Station]:
        """A host of each class, and all gateways."""
        return [*(one.hosts[0] for one in self.network.classes.all), *self.network.stations.gateways]

    @cached_property
    def on_rings(self) -> dict[str, int]:
        """For each device the VIDs that any of its links carries that lies on a ring, as bits."""
        found: dict[str, int] = defaultdict(int)
        fabric = self.network.fabric
        for adjacency in self.network.adjacencies:
            if adjacency.up is not False and fabric.trees.on_a_ring(adjacency.a):
                bits = fabric.carried(adjacency.a).sure & fabric.carried(adjacency.b).sure
                found[adjacency.a.device] |= bits
                found[adjacency.b.device] |= bits
        return found

    @cached_property
    def cabled_in_rings(self) -> set[End]:
        """The ports of bridges that are cabled in a ring, whatever of it is up now."""
        bridged = self.network.fabric.member
        links = [a for a in self.network.adjacencies if bridged(a.a).bridged and bridged(a.b).bridged]
        return {end for n in on_a_cycle(links) for end in (links[n].a, links[n].b)}

    @cached_property
    def mostly_trunks(self) -> bool:
        """Whether most links between bridges, and at least three, are trunks at an end at least."""
        modes = [{row.mode for row in map(self.port, (a.a, a.b)) if row} for a in self.network.adjacencies]
        trunks = sum(bool(found & {"trunk", "hybrid"}) for found in modes)
        return trunks >= 3 and 2 * trunks > sum(found == {"access"} for found in modes)


def _trees(_: Network) -> dict[int, TreeAnswer]:
    """The spanning trees that were worked out, by their instances; none at first."""
    return {}


def in_use(context: Context, end: End) -> bool:
    """Whether something is known to be plugged into a port."""
    return end in context.taken_ends


def unused(context: Context, interface: Interface) -> bool:
    """Whether an interface has an address that nothing in the survey speaks of, in a subnet of which nobody else is."""
    own = interface.address
    if own is None or not context.network.sees(own.version) or str(own.ip) in context.spoken_addresses:
        return False
    return not any(other is not interface for other in context.expected.near(own.ip))


_AT_ENDS = ("mode", "pvid", "allowed", "tagging", "speed", "duplex", "mtu", "lag")
"""What rules compare between the two ends of a link."""


def _differing(one: Port | None, two: Port | None) -> set[str]:
    if one is None or two is None:
        return set(_AT_ENDS)
    return {column for column in _AT_ENDS if getattr(one, column) != getattr(two, column)}


def context_of(network: Network, plan: Plan | None = None) -> Context:
    """The context in which a question is asked; without a plan one for all questions, which gain from each other."""
    return network.once(Context) if plan is None or plan == Plan() else Context(network, plan)
