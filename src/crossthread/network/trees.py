"""Which VLANs a port forwards: observed spanning-tree states first, then what the standard gives, else unknown."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Sequence

from crossthread.network import spanning
from crossthread.network.adjacency import Adjacency, on_a_cycle
from crossthread.network.names import End, Names
from crossthread.network.truth import ANYTHING, EVERYTHING, NOTHING, Bounds
from crossthread.survey import Survey
from crossthread.survey.tables import Port, Tree, TreePort


class Trees:
    """The spanning trees of a survey.

    Parameters
    ----------
    survey, names
        What was observed.
    adjacencies
        Which bridge ports face each other; those that are down take no part.
    carries
        The VIDs an end carries: a tree per VLAN runs over the links that carry the VLAN.
    """

    def __init__(
        self, survey: Survey, names: Names, adjacencies: Sequence[Adjacency], carries: Callable[[End], Bounds]
    ) -> None:
        self._names, self._carries = names, carries
        self._adjacencies = [a for a in adjacencies if a.up is not False and self._bridged(a.a) and self._bridged(a.b)]
        looped = on_a_cycle(self._adjacencies)
        self._looped = {
            end for i in looped for end in (self._adjacencies[i].a, self._adjacencies[i].b)
        }  # elsewhere there is nothing for a spanning tree to block
        self.bridges: dict[str, list[Tree]] = defaultdict(list)
        for row in survey.trees:
            self.bridges[names.device(row.device) or row.device].append(row)
        self.ports: dict[tuple[str, str, int], TreePort] = {}
        """Each port's row in an instance, by device, port and instance."""
        for port in survey.tree_ports:
            device = names.spelled[port.device]
            name = port.port if port.port in names.ports.get(device, ()) else names.port(device, port.port) or port.port
            self.ports[device, name, port.instance] = port
        self._in_tree = {device for device, _, _ in self.ports}
        self._instances: dict[str, dict[int, Bounds]] = {}
        self._roles: dict[int, dict[End, spanning.Role]] = {}

    def instances(self, device: str) -> dict[int, Bounds]:
        """The instances a device takes part in, each with the VIDs that follow it."""
        if device not in self._instances:
            self._instances[device] = self._find_instances(device)
        return self._instances[device]

    def _find_instances(self, device: str) -> dict[int, Bounds]:
        rows = self.bridges.get(device, [])
        found = {}
        for row in rows:
            if row.vlans is not None:
                found[row.instance] = Bounds.exactly(row.vlans.bits)
            elif row.protocol == "per-vlan":
                found[row.instance] = Bounds.exactly(1 << row.instance & EVERYTHING.sure)
            else:
                found[row.instance] = EVERYTHING if len(rows) == 1 else ANYTHING
        if not rows and device in self._in_tree:
            found[0] = ANYTHING
        return found

    def off(self, device: str) -> bool:
        """Whether the device was observed to run no spanning tree."""
        return any(row.protocol == "off" for row in self.bridges.get(device, []))

    def row(self, end: End, vid: int) -> TreePort | None:
        """The observed row of a port in the instance that a VLAN follows."""
        for instance, vids in self.instances(end.device).items():
            if vids.possible >> vid & 1 and (*end, instance) in self.ports:
                return self.ports[(*end, instance)]
        return None

    def forwarding(self, end: End) -> Bounds:
        """The VIDs for which a port forwards (point 4 of the forwarding model)."""
        if self.off(end.device):
            return EVERYTHING
        sure, possible, covered = 0, 0, 0
        for instance, vids in self.instances(end.device).items():
            row = self.ports.get((*end, instance))
            if row is not None and row.state is not None:
                forwards = vids if row.state == "forwarding" else NOTHING
            elif end not in self._looped:
                forwards = vids
            else:
                forwards = self._computed(end, instance, vids)
            sure |= forwards.sure
            possible |= forwards.possible
            covered |= vids.sure
        rest = EVERYTHING.sure & ~covered
        if end not in self._looped:
            return Bounds(sure | rest, possible | rest)
        return Bounds(sure, possible | rest)

    def on_a_ring(self, end: End) -> bool:
        """Whether a port's link lies on a cycle of links that are not down."""
        return end in self._looped

    def single(self, device: str) -> bool:
        """Whether one spanning tree serves all VLANs of a device."""
        rows = self.bridges.get(device, [])
        return len(rows) == 1 and rows[0].protocol in ("stp", "rstp")

    def unhindered(self, device: str) -> Bounds:
        """The VIDs for which a port forwards that is on no cycle and was not observed to block."""
        if self.off(device):
            return EVERYTHING
        sure, possible, covered = 0, 0, 0
        for vids in self.instances(device).values():
            sure, possible, covered = sure | vids.sure, possible | vids.possible, covered | vids.sure
        rest = EVERYTHING.sure & ~covered
        return Bounds(sure | rest, possible | rest)

    def _computed(self, end: End, instance: int, vids: Bounds) -> Bounds:
        if instance not in self._roles:
            self._roles[instance] = self.compute(instance)
        role = self._roles[instance].get(end)
        if role is None:
            return Bounds(0, vids.possible)
        return vids if role.forwards else NOTHING

    def compute(self, instance: int) -> dict[End, spanning.Role]:
        """The roles that the standard gives in an instance; parts whose inputs were not observed are left out."""
        ids: dict[str, spanning.BridgeId] = {}
        for device, rows in self.bridges.items():
            for row in rows:
                simple = row.protocol in ("stp", "rstp") or row.protocol == "per-vlan"
                if row.instance == instance and simple and row.priority is not None and row.address:
                    ids[device] = spanning.BridgeId(row.priority, row.address)
        links, unclear = [], set()
        for adjacency in self._adjacencies:
            ends = (adjacency.a, adjacency.b)
            devices = {end.device for end in ends}
            runs = self._runs(adjacency, instance)
            if runs is False:
                continue
            inputs = [self._tree_end(end, instance) for end in ends]
            if runs is None or not devices <= ids.keys() or inputs[0] is None or inputs[1] is None:
                unclear |= devices
            else:
                links.append((inputs[0], inputs[1]))
        known = _apart(ids, links, unclear)
        return spanning.compute(
            {device: ids[device] for device in known}, [link for link in links if link[0].end.device in known]
        )

    def _runs(self, adjacency: Adjacency, instance: int) -> bool | None:
        """Whether an instance runs over a link: it is up, and carries the VLAN if there is a tree for each."""
        per_vlan = any(row.protocol == "per-vlan" for row in self.bridges.get(adjacency.a.device, []))
        if per_vlan:
            carried = self._carries(adjacency.a).both(self._carries(adjacency.b)).has(instance)
            if not carried:
                return carried
        return adjacency.up

    def _port(self, end: End) -> Port | None:
        return self._names.ports.get(end.device, {}).get(end.port)

    def _bridged(self, end: End) -> bool:
        row = self._port(end)
        return row is None or row.mode != "routed"

    def _tree_end(self, end: End, instance: int) -> spanning.TreeEnd | None:
        row, port = self.ports.get((*end, instance)), self._port(end)
        cost = row.cost if row is not None else None
        if cost is None and port is not None and port.speed is not None:
            cost = spanning.default_cost(port.speed)
        if cost is None or row is None or row.number is None or row.priority is None:
            return None
        return spanning.TreeEnd(end, cost, row.priority, row.number)


def _apart(
    ids: dict[str, spanning.BridgeId],
    links: list[tuple[spanning.TreeEnd, spanning.TreeEnd]],
    unclear: set[str],
) -> set[str]:
    """The bridges that are connected to none of the unclear ones."""
    at: dict[str, set[str]] = defaultdict(set)
    for one, two in links:
        at[one.end.device].add(two.end.device)
        at[two.end.device].add(one.end.device)
    lost, todo = set(unclear), list(unclear)
    while todo:
        for other in at[todo.pop()]:
            if other not in lost:
                lost.add(other)
                todo.append(other)
    return set(ids) - lost
