"""What the rules look at: a network, what is expected of it, and how to mend single things."""

from __future__ import annotations

from collections import defaultdict
from functools import cached_property
from typing import TYPE_CHECKING

from crossthread.network.adjacency import Adjacency
from crossthread.network.classes import HostClass
from crossthread.network.names import End
from crossthread.network.network import Network
from crossthread.network.station import Station
from crossthread.plan import Plan
from crossthread.questions.expect import Expected
from crossthread.survey.changes import Change
from crossthread.survey.survey import Evidence
from crossthread.survey.tables import Device, Port, Row, TreePort
from crossthread.values import VlanSet

if TYPE_CHECKING:
    from crossthread.questions.mended import Search
    from crossthread.questions.tree import TreeAnswer


class Scene:
    """A network with expectations, for rules and searches to share."""

    def __init__(self, network: Network, plan: Plan | None = None) -> None:
        self.network = network
        self.plan = plan or Plan()
        self.expected = Expected(network, self.plan)
        self._trees: dict[int, TreeAnswer] = {}

    def port(self, end: End) -> Port | None:
        """The survey's row of a port."""
        return self.network.names.ports.get(end.device, {}).get(end.port)

    @cached_property
    def search(self) -> Search:
        """What finds the cheapest way through the bridges, and remembers what each link would cost."""
        from crossthread.questions.mended import Search  # which asks the rules, which look at a scene

        return Search(self)

    def tree(self, instance: int) -> TreeAnswer:
        """A spanning tree, worked out once and not put into words."""
        from crossthread.questions.tree import tree

        if instance not in self._trees:
            self._trees[instance] = tree(self.network, instance, explained=False)
        return self._trees[instance]

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
        rows = (row for held in self.network.fabric.vlan_rows.values() for row in held.values())
        return {row.vid: row.name for row in rows if row.name}

    def device(self, name: str) -> Device | None:
        """The survey's row of a device."""
        return self._devices.get(name)

    @cached_property
    def _devices(self) -> dict[str, Device]:
        return {self.network.names.spelled[row.device]: row for row in self.network.survey.devices}

    @cached_property
    def listeners(self) -> set[str]:
        """The devices whose neighbour tables are in the survey."""
        return {self.network.names.spelled[row.device] for row in self.network.survey.neighbors}

    def evidence(self, row: Row | None, *columns: str) -> tuple[Evidence, ...]:
        """What some columns of a row say; nothing if there is no row."""
        return self.network.survey.evidence(row, *columns) if row is not None else ()

    def hosts_at(self, end: End) -> list[Station]:
        """The hosts plugged into a port."""
        hosts = self.network.stations.hosts
        return [hosts[name] for name in self._named_at.get(end, ())]

    @cached_property
    def _named_at(self) -> dict[tuple[str, str | None], list[str]]:
        """The names of the hosts at each port: as their rows say, else wherever they were found to be."""
        found: dict[tuple[str, str | None], list[str]] = defaultdict(list)
        stations = self.network.stations
        ends = {host.name.casefold(): host.end for host in stations.elsewhere}
        for pair, name in zip(stations.pairs, stations.hosts, strict=True):
            end = ends.get(name, pair)
            if end is not None:
                found[end].append(name)
        return found

    @cached_property
    def host_ends(self) -> set[tuple[str, str | None]]:
        """The ports that some host is plugged into."""
        stations = self.network.stations
        return {*stations.plugged, *(host.end for host in stations.elsewhere if host.end is not None)}

    @cached_property
    def classes_in(self) -> dict[int | None, list[HostClass]]:
        """The classes of hosts by the VLAN that their frames join."""
        found: dict[int | None, list[HostClass]] = defaultdict(list)
        for one in self.network.classes.all:
            found[one.vid].append(one)
        return found

    @cached_property
    def gateways_at(self) -> dict[End, list[Station]]:
        """The gateway interfaces that have each port as their parent."""
        found: dict[End, list[Station]] = defaultdict(list)
        for gateway in self.network.stations.gateways:
            if gateway.end is not None:
                found[gateway.end].append(gateway)
        return found

    @cached_property
    def adjacencies_at(self) -> dict[End, list[Adjacency]]:
        """What each port faces."""
        found: dict[End, list[Adjacency]] = defaultdict(list)
        for adjacency in self.network.adjacencies:
            found[adjacency.a].append(adjacency)
            found[adjacency.b].append(adjacency)
        return found

    @cached_property
    def used_vlans(self) -> VlanSet:
        """The VLANs in which there are hosts or gateways, as things are and as they should be."""
        found = 0
        firsts = [one.hosts[0] for one in self.network.classes.all]
        for station in (*firsts, *self.network.stations.gateways):
            for vid in (self.expected.current_vlan(station), self.expected.vlan(station)):
                found |= 1 << vid if vid else 0
        return VlanSet(found)

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
    def mostly_trunks(self) -> bool:
        """Whether most links between bridges are trunks at an end at least."""
        modes = [{row.mode for row in map(self.port, (a.a, a.b)) if row} for a in self.network.adjacencies]
        return 2 * sum(bool(found & {"trunk", "hybrid"}) for found in modes) > sum(
            found == {"access"} for found in modes
        )

    def raise_link(self, end: End) -> tuple[Change, ...]:
        """The changes that bring a port's link up, and what will then be observed at its far ends."""
        found = []
        ends = [end, *(a.far(end) for a in self.adjacencies_at.get(end, ()))]
        for adjacency in self.adjacencies_at.get(end, ()):
            ends += [e for link in adjacency.links for e in (link.a, link.b)]
        for each in dict.fromkeys(ends):
            row = self.port(each)
            if row is None:
                continue
            cells = {"admin": "up"} if row.admin == "down" and each == end else {}
            if row.oper == "down":
                cells["oper"] = "up"
            if cells:
                found.append(set_port(each, **cells))
        for host in self.hosts_at(end):
            if getattr(host.row, "link", None) == "down":
                found.append(Change("hosts", {"host": host.name}, {"link": "up"}))
        return tuple(found)


def set_port(end: End, **cells: object) -> Change:
    """A change of a port's cells."""
    shown = {column: str(value) if isinstance(value, VlanSet) else value for column, value in cells.items()}
    return Change("ports", {"device": end.device, "port": end.port}, shown)


def set_gateway(gateway: Station, **cells: object) -> Change:
    """A change of an interface's cells."""
    row = gateway.row
    key = {"device": gateway.device, "interface": gateway.name, "address": getattr(row, "address", None) or ""}
    return Change("gateways", key, dict(cells))


def set_host(host: Station, **cells: object) -> Change:
    """A change of a host's cells."""
    return Change("hosts", {"host": host.name}, dict(cells))
