"""Broadcast domains as they are: a directed graph over (device, VID).

A frame that leaves (sw-1, 10) untagged may arrive in (sw-2, 20). Native mismatches, leaks between VLANs and one-way
links are edges like any other, and need no special case.
"""

from __future__ import annotations

import heapq
from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping
from functools import cached_property
from typing import NamedTuple

import msgspec

from crossthread.network.coverage import Covered
from crossthread.network.spanning.trees import Trees
from crossthread.network.switching.known_vids import find_known_vids, find_vids
from crossthread.network.switching.membership import Membership, membership, passing
from crossthread.network.switching.nodes import BEYOND, Crossing, Node, Reached
from crossthread.network.switching.tunnels import Tunnels
from crossthread.network.switching.unaware import find_bare, find_unaware, same_tagging
from crossthread.network.three_valued import EVERY_VID, EVERYTHING, NOTHING, Bounds, Truth, vids_in
from crossthread.network.topology.adjacency import Adjacency
from crossthread.network.topology.graph import Reach
from crossthread.network.topology.names import End, Names
from crossthread.network.topology.open_ends import OUTSIDE, OpenEnd
from crossthread.survey import Survey
from crossthread.survey.records import Vlan
from crossthread.survey.table import RowsBy, runs
from crossthread.values import BARE, NO_VID


def _existing(listed: Iterable[tuple[int, str | None]]) -> Bounds:
    """The VIDs that are active, by the state of each that is listed."""
    sure = possible = 0
    for vid, state in listed:
        if state != "suspended":
            possible |= 1 << vid
            sure |= (state == "active") << vid
    return Bounds(sure, possible)


def _crossings(adjacencies: Iterable[Adjacency], leading_out: Iterable[Crossing]) -> dict[str, list[Crossing]]:
    """How frames may leave each device: over links that are not down, and by open ends."""
    found: dict[str, list[Crossing]] = defaultdict(list)
    for adjacency in adjacencies:
        if adjacency.up is not False:
            for near, far in ((adjacency.a, adjacency.b), (adjacency.b, adjacency.a)):
                found[near.device].append(Crossing(near, far, adjacency))
    for crossing in leading_out:
        found[crossing.near.device].append(crossing)
    return found


def _suspended(listed: Iterable[tuple[int, str | None]]) -> int:
    return sum(1 << vid for vid, state in listed if state == "suspended")


class FabricBefore(NamedTuple):
    """The fabric of a network of which this one is a changed copy.

    `stale` are the parts of it that do not stand any more, `ports` those whose rows changed, `tree_ends` those of which
    something else was observed in a tree.
    """

    fabric: Fabric
    stale: frozenset[str]
    ports: set[End]
    tree_ends: set[End]


class Fabric:
    """The layer-2 side of a network: memberships, VLANs, trees, and where frames get to."""

    def __init__(
        self,
        survey: Survey,
        names: Names,
        covered: Covered,
        adjacencies: list[Adjacency],
        open_ends: Mapping[End, OpenEnd] | None = None,
        before: FabricBefore | None = None,
    ) -> None:
        self._names, self._survey, self._covered = names, survey, covered
        self.adjacencies = adjacencies
        self.open_ends = open_ends or {}
        self._bare = find_bare(find_unaware(survey, names), adjacencies, names)
        self._memberships: dict[End, Membership] = {}
        self._alike: dict[object, Membership] = {}
        self._forwarding: dict[End, Bounds] = {}
        self._floods: dict[Node, dict[Node, Reached]] = {}
        self._onward: dict[Node, list[tuple[Crossing, Node, bool, bool]]] = {}
        self._tunnels = Tunnels(self, lambda device: names.ports.get(device, {}))
        self.vlan_rows: dict[str, RowsBy[int, Vlan]] = {}
        self._states: dict[str, dict[int, str | None]] = defaultdict(dict)
        self._exists: dict[str, Bounds] = {}
        self._existing: dict[tuple[tuple[int, str | None], ...], Bounds] = {}
        if before is not None:
            self._keep(before)
        if before is not None and "vlans" not in before.stale:
            like = before.fabric
            self.vlan_rows, self._states, self._exists = like.vlan_rows, like._states, like._exists
        else:
            vids, states = survey.column("vlans", "vid"), survey.column("vlans", "state")
            places: dict[str, dict[int, int]] = defaultdict(dict)
            for device, run in runs(survey.column("vlans", "device")):
                places[names.spelled[device]].update(zip(vids[run], range(run.start, run.stop), strict=True))
                self._states[names.spelled[device]].update(zip(vids[run], states[run], strict=True))
            self.vlan_rows = {device: RowsBy(survey.rows(Vlan), held) for device, held in places.items()}
        if before is not None and "trees" not in before.stale:
            self.trees: Trees = before.fabric.trees.observed(survey, names, self.carried)
        else:
            trees = before.fabric.trees if before is not None else None
            self.trees = Trees(survey, names, adjacencies, self.carried, covered, self.open_ends, trees)
        self.out: dict[str, list[Crossing]]
        self.leading_out: list[Crossing]
        same = before is not None and before.fabric.adjacencies is adjacencies
        if before is not None and same and before.fabric.open_ends == self.open_ends:
            self.leading_out, self.out = before.fabric.leading_out, before.fabric.out
        else:
            self.leading_out = [Crossing(end, OUTSIDE, Adjacency(end, OUTSIDE, (), None)) for end in self.open_ends]
            self.out = _crossings(adjacencies, self.leading_out)
        self._leading_in = [Crossing(OUTSIDE, out.near, out.adjacency) for out in self.leading_out]
        self.known = find_known_vids(survey)
        """The VIDs that the survey speaks of one by one."""
        self.vids = find_vids(survey) | (BARE in self._bare.values()) << BARE
        """What a frame can be in, and an unobserved PVID be."""

    def _keep(self, before: FabricBefore) -> None:
        """Take over what was found of ports that the changes do not touch."""
        fabric, ports = before.fabric, before.ports
        if fabric._bare != self._bare:
            return
        self._memberships = {end: found for end, found in fabric._memberships.items() if end not in ports}
        if not before.stale & {"vlans", "trees"}:
            touched = ports | before.tree_ends
            self._forwarding = {end: found for end, found in fabric._forwarding.items() if end not in touched}

    def vlan_row(self, device: str, vid: int) -> Vlan | None:
        """The survey's row of a VLAN on a device."""
        rows = self.vlan_rows.get(device)
        return rows.get(vid) if rows is not None else None

    def member(self, end: End) -> Membership:
        """What a port does with VLANs."""
        if end not in self._memberships:
            row = self._names.row(end)
            settings = row and (
                row.mode,
                row.tagging,
                row.pvid,
                row.allowed,
                row.untagged,
                row.voice,
                row.frames,
                row.authorized,
                row.ingress_filter,
            )
            bare = self._bare.get(end.device)
            if (settings, bare) not in self._alike:  # many ports have the same settings
                self._alike[settings, bare] = membership(row) if bare is None else passing(row, bare)
            self._memberships[end] = self._alike[settings, bare]
        return self._memberships[end]

    def unaware(self, device: str) -> bool:
        """Whether a device bridges without regard to VLANs."""
        return device in self._bare

    def bare(self, device: str) -> int | None:
        """What frames without a tag are in on a bridge without regard to VLANs; None on any other."""
        return self._bare.get(device)

    def carried(self, end: End) -> Bounds:
        """The VIDs a port carries, tagged or not, whatever the spanning tree says."""
        port = self.member(end)
        return Bounds(port.tagged.sure | port.untagged.sure, port.tagged.possible | port.untagged.possible)

    def isolated(self, end: End) -> bool:
        """Whether frames from a port go to no other isolated port of its device."""
        row = self._names.row(end)
        return row is not None and row.isolated == "yes"

    @cached_property
    def parting(self) -> frozenset[End]:
        """The isolated ports that lead to other devices: what comes in there gets not everywhere."""
        ends = {end for adjacency in self.adjacencies for end in (adjacency.a, adjacency.b)}
        return frozenset(end for end in ends if self.isolated(end)) if self._may_isolate else frozenset()

    @cached_property
    def _may_isolate(self) -> bool:
        return "yes" in self._survey.column("ports", "isolated")

    def exists(self, device: str) -> Bounds:
        """The VIDs that exist and are active on a device; all where its VLANs were not listed, or it knows none."""
        if device in self._bare:
            return Bounds.exactly(EVERY_VID | 1 << BARE)
        if device not in self._exists:
            listed = tuple(self._states.get(device, {}).items())
            if listed not in self._existing:  # many devices have the same VLANs
                self._existing[listed] = _existing(listed) if listed else EVERYTHING
            found = self._existing[listed]
            if self._covered.said(device, "vlans") is False:  # what was read broke off
                found = Bounds(found.sure if listed else 0, EVERY_VID & ~_suspended(listed))
            self._exists[device] = found
        return self._exists[device]

    def forwarding(self, end: End) -> Bounds:
        """The VIDs for which the port forwards: they exist on its device, and the spanning tree lets them."""
        if end not in self._forwarding:
            forwards = self.trees.forwarding(end)
            if end.device in self._bare:  # what has no tag follows the one tree of such a bridge, as all else does
                sure, possible = forwards
                forwards = Bounds(sure | (sure == EVERY_VID) << BARE, possible | bool(possible) << BARE)
            self._forwarding[end] = forwards.both(self.exists(end.device))
        return self._forwarding[end]

    def enters(self, end: End, tag: int, tagging: str | None = None) -> Bounds:
        """The VLANs that a frame arriving at a port may join.

        Parameters
        ----------
        end
            The port where it arrives.
        tag
            The frame's VID; `NO_VID` for an untagged or a priority-tagged frame.
        tagging
            The tag type of the sender, None for the port's own.

        Returns
        -------
        Bounds
            At most one VLAN in `sure`; in `possible` all that it might be.
        """
        port = self.member(end)
        if not port.bridged:
            return NOTHING
        if tag != NO_VID:
            same = same_tagging(tagging, port.tagging)
            return port.accepts.both(Bounds.exactly(1 << tag)).both(self.forwarding(end)).when(same)
        if port.pvid is None:
            return Bounds(0, self.vids & port.joins.possible & self.forwarding(end).possible)
        own = Bounds.exactly(1 << port.pvid & ~1)
        return port.joins.both(own).both(self.forwarding(end))

    def leaves(self, end: End, tag: int) -> Bounds:
        """The VLANs whose frames leave a port with a certain VID as tag, or untagged (`NO_VID`)."""
        port = self.member(end)
        if tag != NO_VID:
            return port.tagged.both(Bounds.exactly(1 << tag)).both(self.forwarding(end))
        return port.untagged.both(self.forwarding(end))

    def leaving(self, end: End) -> int:
        """The VIDs that a port may let out, tagged or not, as bits."""
        return self.carried(end).possible & self.forwarding(end).possible

    def steps(self, node: Node) -> Iterator[tuple[Crossing, Node, bool, bool]]:
        """Where a frame in a VLAN on a device may go next: the crossing, the node, whether tagged, whether surely."""
        if node == BEYOND:
            for crossing in self._leading_in:
                far = self.member(crossing.far)
                may = (far.accepts.possible | far.joins.possible) & self.forwarding(crossing.far).possible & self.vids
                for arrives in vids_in(may if far.bridged else 0):
                    yield crossing, Node(crossing.far.device, arrives), False, False
            yield from self._tunnels.from_beyond()
            return
        for crossing in self.out.get(node.device, ()):
            yield from self.cross(crossing, node.vid)

    def cross(self, crossing: Crossing, vid: int) -> Iterator[tuple[Crossing, Node, bool, bool]]:
        """The same for one crossing."""
        if crossing.far == OUTSIDE:
            if self.leaving(crossing.near) >> vid & 1:
                yield crossing, BEYOND, False, False
            return
        if self.may_tunnel(crossing.far):
            yield from self._tunnels.out_of(crossing, vid)
        yield from self.bridged(crossing, vid)

    def bridged(self, crossing: Crossing, vid: int) -> Iterator[tuple[Crossing, Node, bool, bool]]:
        """The same for one that leads to another bridge, past all tunnels."""
        near, up = self.member(crossing.near), crossing.adjacency.up
        for tagged in (True, False):
            leaves = self.leaves(crossing.near, vid).has(vid) if tagged else self.leaves(crossing.near, NO_VID).has(vid)
            if leaves is False:
                continue
            enters = self.enters(crossing.far, vid if tagged else NO_VID, near.tagging)
            for arrives in vids_in(enters.possible):
                sure = leaves is True and up is True and enters.has(arrives) is True
                yield crossing, Node(crossing.far.device, arrives), tagged, sure

    def may_tunnel(self, end: End) -> bool:
        """Whether a port may be the end of a tunnel: if it is one, or its mode was not observed, but of some port one.

        That nobody uses tunnels is taken for granted where none was seen.
        """
        tunnel = self.member(end).tunnel
        return bool(tunnel or (tunnel is None and self._tunnel_ends))

    @cached_property
    def _tunnel_ends(self) -> list[End]:
        """The ports that are ends of tunnels."""
        modes, rows = self._survey.column("ports", "mode"), self._survey.ports
        numbers = (n for n, mode in enumerate(modes) if mode == "tunnel") if "tunnel" in modes else ()
        return [End(self._names.spelled[rows[n].device], rows[n].port) for n in numbers]

    def flood(self, start: Node) -> dict[Node, Reached]:
        """Every node that a frame in `start` gets to, each by the surest and then shortest way.

        A node with `unknown` 0 is surely reached; any other only if what was not observed turns out right.
        """
        if start not in self._floods:
            self._floods[start] = self._flood(start)
        return self._floods[start]

    def _flood(self, start: Node) -> dict[Node, Reached]:
        found: dict[Node, Reached] = {}
        if start != BEYOND and self.exists(start.device).has(start.vid) is False:
            return found
        queue: list[tuple[int, int, Node, Node | None, int]] = [(0, 0, start, None, -1)]
        ways: list[tuple[Crossing, bool]] = []
        while queue:
            unknown, hops, node, came_from, way = heapq.heappop(queue)
            if node in found:
                continue
            crossing, tagged = ways[way] if way >= 0 else (None, False)
            found[node] = Reached(unknown, hops, came_from, crossing, tagged)
            if node == BEYOND != start:
                continue  # what may come back from there is the same for all; see `reached`
            parted = crossing is not None and crossing.far in self.parting
            if node not in self._onward:
                self._onward[node] = list(self.steps(node))
            for step, following, is_tagged, sure in self._onward[node]:
                if parted and step.near in self.parting:
                    continue  # from one isolated port of a device to another
                if following not in found:
                    ways.append((step, is_tagged))
                    heapq.heappush(queue, (unknown + (not sure), hops + 1, following, node, len(ways) - 1))
        return found

    def reached(self, start: Node, goal: Node) -> Reached | None:
        """How a frame in one node comes to another; None if it cannot.

        What may be reached by way of the unknown is the same for all that get there, and looked for once.
        """
        inside = self.flood(start)
        found = inside.get(goal)
        out = inside.get(BEYOND)
        if out is None or (found is not None and found.unknown == 0) or start == BEYOND:
            return found
        back = self.flood(BEYOND).get(goal)
        if back is None or (found is not None and found.unknown <= out.unknown + back.unknown):
            return found
        return msgspec.structs.replace(back, unknown=out.unknown + back.unknown, hops=out.hops + back.hops)

    def reaches(self, start: Node, goal: Node) -> Truth:
        """Whether a frame in one node gets to another; `reached` tells by which way."""
        if self.parting:
            reached = self.reached(start, goal)
            return False if reached is None else (True if reached.unknown == 0 else None)
        if start != BEYOND and self.exists(start.device).has(start.vid) is False:
            return False
        if self._surely.leads(start, goal):
            return True
        return None if self.possibly.leads(start, goal) else False

    @cached_property
    def _surely(self) -> Reach[Node]:
        """Which nodes surely lead to which."""
        return Reach(lambda node: [following for _, following, _, sure in self.steps(node) if sure])

    @cached_property
    def possibly(self) -> Reach[Node]:
        """Which nodes may lead to which, where no isolated ports are between bridges."""
        return Reach(lambda node: [following for _, following, _, _ in self.steps(node)])

    def way(self, start: Node, goal: Node) -> list[Reached]:
        """The crossings from one node to another, in order; empty if they are the same or there is no way."""
        found: list[Reached] = []
        reached, flood = self.reached(start, goal), self.flood(start)
        if reached is not None and reached is not flood.get(goal):
            return self.way(start, BEYOND) + self.way(BEYOND, goal)
        while reached is not None and reached.came_from is not None:
            found.append(reached)
            reached = flood[reached.came_from]
        return found[::-1]
