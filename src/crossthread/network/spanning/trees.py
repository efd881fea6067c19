"""Which VLANs a port forwards: observed states of trees first, then what the standard gives, else what is reported."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Collection, Mapping, Sequence
from copy import copy
from functools import cached_property, partial
from itertools import repeat
from types import MappingProxyType

from crossthread.network.coverage import Covered
from crossthread.network.spanning import roles as spanning
from crossthread.network.spanning.input_columns import TreeColumns, regular
from crossthread.network.spanning.inputs import TreeInputs, TreeRows, gather_inputs, sort_rows
from crossthread.network.spanning.reported import reported_forwarding
from crossthread.network.spanning.role_arrays import array_roles
from crossthread.network.spanning.unread_costs import forwarding_at_any_cost
from crossthread.network.three_valued import ANYTHING, EVERYTHING, NOTHING, Bounds
from crossthread.network.topology.adjacency import Adjacency, on_a_cycle
from crossthread.network.topology.names import End, Names
from crossthread.network.topology.open_ends import OUTSIDE
from crossthread.survey import Survey
from crossthread.survey.records import Port, Tree, TreePort
from crossthread.survey.table import RowsBy, runs

_LARGE = 20_000
"""How many links, counted once for each tree, are worth a third of a second to load the libraries for arrays."""


TreePorts = RowsBy[tuple[str, str, int], TreePort]
"""Rows of tree_ports.csv by device, port and instance."""


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
    covered
        Of which devices costs were read: what nobody read of costs is not known.
    open_ends
        The ports beyond which there may be other bridges.
    before
        The trees of an earlier copy with the same names, to share what is the same.
    """

    def __init__(
        self,
        survey: Survey,
        names: Names,
        adjacencies: Sequence[Adjacency],
        carries: Callable[[End], Bounds],
        covered: Covered,
        open_ends: Collection[End] = (),
        before: Trees | None = None,
    ) -> None:
        self._names, self._carries, self._covered = names, carries, covered
        self._adjacencies = [a for a in adjacencies if a.up is not False and self._bridged(a.a) and self._bridged(a.b)]
        self._open_ends = [end for end in open_ends if self._bridged(end)]
        self._ringed = _ends_on_cycles(self._adjacencies)
        self._looped = self._ringed  # elsewhere there is nothing for a spanning tree to block
        if self._open_ends:
            outside = [Adjacency(end, OUTSIDE, (), None) for end in self._open_ends]
            self._looped = _ends_on_cycles([*self._adjacencies, *outside])
        self._survey = survey
        if before is not None and before._survey.trees is survey.trees:
            self.bridges = before.bridges
        else:
            self.bridges = _by_device(survey, names)
        if before is not None and before._survey.tree_ports is survey.tree_ports:
            self.ports = before.ports
        else:
            self.ports = _by_port(survey, names)
        self._in_tree: dict[str, set[int]] = defaultdict(set)
        for device, _, instance in self.ports:
            self._in_tree[device].add(instance)
        self._instances: dict[str, dict[int, Bounds]] = {}
        self._roles: dict[int, Mapping[End, spanning.Role]] = {}
        self._by_report: dict[int, Mapping[End, bool]] = {}
        self._whatever_costs: dict[int, Mapping[End, bool]] = {}
        self._asked: tuple[int, TreeInputs] | None = None
        self._computed_before: dict[object, Mapping[End, spanning.Role]] = {}
        self._all_instances = {row.instance for row in survey.trees}
        self._no_bridge = {
            names.spelled[row.device]
            for row in survey.devices
            if row.capabilities is not None and "bridge" not in row.capabilities
        }

    def observed(self, survey: Survey, names: Names, carries: Callable[[End], Bounds]) -> Trees:
        """The trees of a changed survey in which nothing differs that decides them, only what was observed."""
        trees = copy(self)
        trees._survey, trees._names, trees._carries = survey, names, carries
        trees.ports = RowsBy(survey.rows(TreePort), self.ports.numbers)
        if survey.trees is not self._survey.trees:
            trees.bridges = _by_device(survey, names)
        return trees

    bridges: dict[str, list[Tree]]
    """Each device's rows."""
    ports: TreePorts
    """Each port's row in an instance, by device, port and instance."""

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
        if 0 in found and found[0] is ANYTHING and all(row.vlans is not None for row in rows if row.instance):
            rest = EVERYTHING
            for instance, vids in found.items():
                rest = rest.without(vids) if instance else rest
            found[0] = rest  # what no instance has follows the common tree
        if not rows and device in self._in_tree:
            # With all its ports listed for tree 0 and for no other, there is no other that a VLAN may follow.
            single = self._in_tree[device] == {0} and self._covered.fully(device, "tree_ports")
            found[0] = EVERYTHING if single else ANYTHING
        return found

    def off(self, device: str) -> bool:
        """Whether the device was observed to run no spanning tree."""
        return device in self._off

    @cached_property
    def _off(self) -> set[str]:
        return {device for device, rows in self.bridges.items() if any(row.protocol == "off" for row in rows)}

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
            if row is not None and row.bpdus == "drop":
                forwards = vids
            elif row is not None and row.state is not None:
                forwards = vids if row.state == "forwarding" else NOTHING
            elif row is not None and row.role == "disabled":
                forwards = NOTHING  # such as one that a guard closed
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

    def on_a_ring(self, end: End, surely: bool = False) -> bool:
        """Whether a port's link lies on a cycle of known links that are not down, or that are surely up."""
        return end in (self._surely_ringed if surely else self._ringed)

    @cached_property
    def _surely_ringed(self) -> set[End]:
        return _ends_on_cycles([adjacency for adjacency in self._adjacencies if adjacency.up])

    def single(self, device: str) -> bool:
        """Whether one spanning tree serves all VLANs of a device."""
        rows = self.bridges.get(device, [])
        return len(rows) == 1 and rows[0].protocol in ("stp", "rstp")

    def _computed(self, end: End, instance: int, vids: Bounds) -> Bounds:
        role = self.compute(instance).get(end)
        forwards = role.forwards if role is not None else self._reported(instance).get(end)
        if forwards is None:
            forwards = self._at_any_cost(instance).get(end)
        if forwards is None:
            return Bounds(0, vids.possible)
        return vids if forwards else NOTHING

    def _reported(self, instance: int) -> Mapping[End, bool]:
        """What follows from the root ports that bridges report, where nobody read what decides the tree."""
        if instance not in self._by_report:
            open_ends = set(self._open_ends)  # on the medium there may be one more bridge, which is the designated one
            links = [
                link
                for link in self._adjacencies
                if not any(end in open_ends or self.takes_no_part(instance, end) for end in (link.a, link.b))
            ]
            rows = self._rows.members.get(instance, {})
            self._by_report[instance] = reported_forwarding(rows, links, self._names.port)
        return self._by_report[instance]

    def _at_any_cost(self, instance: int) -> Mapping[End, bool]:
        """Whether ports forward, where that does not depend on the few costs that nobody read."""
        if instance not in self._whatever_costs:
            members, links = self._rows.members.get(instance, {}), self._adjacencies
            ends = (end for link in links for end in (link.a, link.b) if end.device in members)
            unread = [end for end in ends if self.tree_end(instance, end) is None]
            small = len(links) * len(self._all_instances) <= _LARGE
            self._whatever_costs[instance] = forwarding_at_any_cost(
                members, links, unread if small else [], lambda costs: self._compute(self._gather(instance, costs))
            )
        return self._whatever_costs[instance]

    def compute(self, instance: int) -> Mapping[End, spanning.Role]:
        """The roles that the standard gives in an instance; parts whose inputs were not observed are left out.

        Instances with equal inputs are computed once.
        """
        if instance not in self._roles:
            columns = self._columns
            fast = columns.roles(instance) if columns is not None and instance in self._all_instances else None
            self._roles[instance] = fast if fast is not None else self._compute(self.inputs(instance))
        return self._roles[instance]

    @cached_property
    def _columns(self) -> TreeColumns | None:
        """The inputs of all instances at once, where the campus is large and its trees are plain trees per VLAN."""
        links = [a for a in self._adjacencies if not self._no_bridge & {a.a.device, a.b.device}]
        if len(links) * len(self._all_instances) < _LARGE or self._open_ends:
            return None
        if not regular(links, self.bridges, self.ports):
            return None
        return TreeColumns(links, self.bridges, self.ports, self._carries)

    def _compute(self, given: TreeInputs) -> Mapping[End, spanning.Role]:
        key = (given.bridges, given.lans, given.regions, given.instance if given.internal else 0)
        if key not in self._computed_before:
            bridges, lans, regions = dict(given.bridges), given.lans, dict(given.regions)
            if given.internal:
                roles: Mapping[End, spanning.Role] = spanning.instance_roles(bridges, lans, regions, self.compute(0))
            else:
                # For many trees of a large campus it pays to load what computes them by arrays.
                large = not regions and len(lans) * len(self._all_instances) > _LARGE
                fast = array_roles(bridges, lans) if large else None
                roles = fast if fast is not None else spanning.compute(bridges, lans, regions)
            self._computed_before[key] = roles
        return self._computed_before[key]

    def inputs(self, instance: int) -> TreeInputs:
        """What decides an instance: bridges, media, regions; and the devices for which something is missing."""
        if self._asked is None or self._asked[0] != instance:
            self._asked = instance, self._gather(instance, {})
        return self._asked[1]

    def _gather(self, instance: int, costs: Mapping[End, int]) -> TreeInputs:
        """The same, with some costs as if they had been read."""
        return gather_inputs(
            instance,
            self._rows,
            self._adjacencies,
            self._carries,
            partial(self.tree_end, instance, costs=costs),
            self._no_bridge,
            partial(self.takes_no_part, instance),
            self._open_ends,
        )

    @cached_property
    def _rows(self) -> TreeRows:
        return sort_rows(self.bridges)

    def takes_no_part(self, instance: int, end: End) -> bool:
        """Whether the tree is off at a port, which drops the tree's frames; or a guard holds it closed."""
        row = self.ports.get((*end, instance)) or self.ports.get((*end, 0))
        return row is not None and (row.bpdus == "drop" or row.disabled)

    def _bridged(self, end: End) -> bool:
        row = self._port(end)
        return row is None or row.mode != "routed"

    def _port(self, end: End) -> Port | None:
        return self._names.row(end)

    def tree_end(
        self, instance: int, end: End, costs: Mapping[End, int] = MappingProxyType({})
    ) -> tuple[spanning.TreeEnd, bool] | None:
        """A port's part in an instance, and whether its identifier was observed; None if its cost was not.

        That it is the one recommended for the port's speed is likely, and no more: whoever set another had a reason.
        """
        row = self.ports.get((*end, instance))
        cost = row.cost if row is not None and row.cost is not None else costs.get(end)
        if cost is None:
            return None
        known = row is not None and row.number is not None and row.priority is not None
        priority = row.priority if row is not None and row.priority is not None else 128
        return spanning.TreeEnd(end, cost, priority, (row.number if row is not None else None) or 0), known


def _ends_on_cycles(adjacencies: Sequence[Adjacency]) -> set[End]:
    return {end for i in on_a_cycle(adjacencies) for end in (adjacencies[i].a, adjacencies[i].b)}


def _by_device(survey: Survey, names: Names) -> dict[str, list[Tree]]:
    found: dict[str, list[Tree]] = defaultdict(list)
    for row in survey.trees:
        found[names.device(row.device) or row.device].append(row)
    return found


def _by_port(survey: Survey, names: Names) -> TreePorts:
    found: dict[tuple[str, str, int], int] = {}
    nothing = dict[str, Port]()
    ports, instances = survey.column("tree_ports", "port"), survey.column("tree_ports", "instance")
    for written, run in runs(survey.column("tree_ports", "device")):
        device, called = names.spelled[written], ports[run]
        known = names.ports.get(device, nothing).keys()
        if not known >= set(called):
            called = [name if name in known else names.port(device, name) or name for name in called]
        places = range(run.start, run.stop)
        found.update(zip(zip(repeat(device), called, instances[run]), places, strict=True))
    return RowsBy(survey.rows(TreePort), found)
