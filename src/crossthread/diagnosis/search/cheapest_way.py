"""The cheapest way for a frame through bridges that are allowed to be mended.

Dijkstra's search over (device, VID). Crossing what works costs nothing, crossing what is broken costs the changes
that would mend it, crossing what was not observed costs an observation. The findings on the cheapest way are what
stands in this frame's way. Both directions have to work, as a question wants an answer.
"""

from __future__ import annotations

import heapq
from collections import defaultdict
from collections.abc import Container, Iterator, Sequence
from itertools import chain
from math import inf

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.expected.listed_vlans import ListedVlans
from crossthread.diagnosis.findings import Finding
from crossthread.diagnosis.rules import between_hosts
from crossthread.diagnosis.search.costs import ANOTHER_TREE, LEAK, NO_CHANGE, PLAIN, Cost, Step, step_of
from crossthread.diagnosis.search.crossings import Crossings
from crossthread.diagnosis.search.joins import Joins
from crossthread.diagnosis.search.tunnels import Tunnels
from crossthread.network.hosts.station import HostStation, Station
from crossthread.network.switching.nodes import Crossing, Node
from crossthread.network.topology.adjacency import Adjacency
from crossthread.network.topology.names import End
from crossthread.values import BARE


class Search:
    """Finds what stands between two stations at layer 2."""

    def __init__(self, context: Context) -> None:
        self._context = context
        self._fabric = context.network.fabric
        self._by_device: dict[str, list[tuple[End, list[Adjacency]]]] = defaultdict(list)
        for end, faced in context.adjacencies_at.items():
            self._by_device[end.device].append((end, faced))
        self._crossings = Crossings(context)
        self._joins = Joins(context, self._crossings)
        self._sound: dict[Adjacency, tuple[int, bool]] = {}
        self._tunnels = Tunnels(context, self._crossings, self._service)

    def down(self, station: Station) -> list[Finding]:
        """What keeps a station's own link or interface down."""
        return self._joins.down(station)

    def between(self, one: Station, two: Station) -> Step | None:
        """The cheapest way between two stations, there and back; None if they are not connected by any cable.

        Only the VLANs are tried that either station is in, or should be in.
        """
        vids = self._vids(one, two)
        parted = between_hosts.port_isolated(self._context, one, two)
        if parted is not None:
            return step_of([*self._joins.down(one), *self._joins.down(two), parted])
        direct = self._context.network.hearing.on_one_wire(one, two)
        if direct is not False:
            return step_of([*self._joins.down(one), *self._joins.down(two)])
        starts, ends = self._joins.attach(one, vids), self._joins.attach(two, vids)
        return self._sound_way(starts, ends) or self._cheapest(starts, ends, vids, frozenset())[0]

    def _vids(self, one: Station, two: Station) -> set[int]:
        """The VLANs that two stations are in or should be in; what has no tag, if a bridge of theirs knows none."""
        expected = self._context.expected
        found = {vid for s in (one, two) for vid in (expected.current_vlan(s), expected.vlan(s)) if vid}
        hosts = [s for s in (one, two) if isinstance(s, HostStation)] if not found else []
        found |= {vid for host in hosts for vid in self._context.once(ListedVlans).homes(host)}
        return found | {bare for s in (one, two) for tap in s.taps if (bare := self._fabric.bare(tap.device))}

    def _sound_way(self, starts: Sequence[tuple[Node, Step]], ends: Sequence[tuple[Node, Step]]) -> Step | None:
        """The cheapest way, if it is one on which nothing is broken between the two places; else None.

        No way costs less than the cheapest place at each end, so such a way needs no search.
        """
        if not starts or not ends:
            return None
        one, two = (min(step.cost for _, step in places) for places in (starts, ends))
        parts = self._context.network.components
        found = []
        for node, step in starts:
            for goal, last in ends:
                cheap = step.cost[:2] == one[:2] and last.cost[:2] == two[:2]
                part = parts.of(node) if cheap and node.vid == goal.vid else None
                if part is not None and part == parts.of(goal):
                    way = parts.way(node, goal)
                    if way is not None:
                        cost = step.cost.plus(last.cost).plus(Cost(0, 0, len(way)))
                        found.append(Step(cost, step.findings + last.findings))
        return min(found, key=lambda way: way.cost, default=None)

    def through(self, one: Station, two: Station, device: str) -> Step | None:
        """The cheapest way between two stations that passes a device, and no device twice."""
        vids = self._vids(one, two)
        free = Step(Cost(0, 0, 0))
        found = []
        for vid in vids:
            here = [(Node(device, vid), free)]
            for start, goal in ((one, two), (two, one)):
                first, passed = self._cheapest(self._joins.attach(start, vids), here, vids, frozenset())
                banned = frozenset(node.device for node in passed) - {device}
                second, _ = self._cheapest(here, self._joins.attach(goal, vids), vids, banned)
                if first is not None and second is not None:
                    halves = (first, second) if start is one else (second, first)
                    known = {f.identity: f for half in halves for f in half.findings}
                    found.append(Step(first.cost.plus(second.cost), tuple(known.values())))
        return min(found, key=lambda way: way.cost, default=None)

    def around(self, adjacency: Adjacency, vid: int, finding: Finding) -> Iterator[tuple[Step, list[str]]]:
        """Other ways for a VLAN between the two ends of a link, the cheapest first, and the devices that each passes.

        Each is of links that are not mended for one before it, and none costs more than to mend what was found.
        """
        one, two = ([(Node(end.device, vid), Step(Cost(0, 0, 0)))] for end in (adjacency.a, adjacency.b))
        most = max(step_of([finding]).cost.price, NO_CHANGE)
        by_tree = max(most, NO_CHANGE + ANOTHER_TREE)  # a tree may be opened by a single cost
        without, fresh = set[Adjacency](), {adjacency}
        while fresh:
            without |= fresh
            step, passed = self._cheapest(one, two, {vid}, frozenset(), without, by_tree)
            if step is None or not step.findings:
                return
            if step.cost.price <= most or any(fault.rule == "tree-blocks-vlan" for fault in step.findings):
                yield step, [node.device for node in passed[-2:0:-1]]
            ends = [End(s.device or "", s.port or "") for finding in step.findings for s in finding.subjects]
            fresh = {a for end in ends for a in self._context.adjacencies_at.get(end, ())} - without

    def _cheapest(
        self,
        starts: Sequence[tuple[Node, Step]],
        ends: Sequence[tuple[Node, Step]],
        vids: set[int],
        banned: frozenset[str],
        without: Container[Adjacency] = (),
        most: float = inf,
        tunnels: bool = True,
    ) -> tuple[Step | None, list[Node]]:
        """The cheapest way from some nodes to others, past some devices and links, and the nodes on it.

        None if each costs more than the highest price that is asked for.
        """
        goals: dict[Node, Step] = {}
        for node, step in ends:
            if node.device not in banned and (node not in goals or step.cost < goals[node].cost):
                goals[node] = step
        queue: list[tuple[Cost, int, Node | None, Node | None, tuple[Finding, ...]]] = []
        count = 0
        for node, step in starts:
            if node.device not in banned:
                heapq.heappush(queue, (step.cost, count, node, None, step.findings))
                count += 1
        done: dict[Node, Node | None] = {}
        while queue:
            cost, _, at, before, findings = heapq.heappop(queue)
            if cost.price > most:
                break
            if at is None:
                passed = []
                while before is not None:
                    passed.append(before)
                    before = done[before]
                return Step(cost, findings), passed
            if at in done:
                continue
            done[at] = before
            if at in goals:
                end = goals[at]
                heapq.heappush(queue, (cost.plus(end.cost), count, None, at, findings + end.findings))
                count += 1
            through = self._tunnels.steps(at) if tunnels and at.vid in vids else ()
            for node, step in chain(self._steps(at, vids, without), through):
                if node not in done and node.device not in banned:
                    heapq.heappush(queue, (cost.plus(step.cost), count, node, at, findings + step.findings))
                    count += 1
        return None, []

    def _service(self, one: Node, two: Node) -> Step | None:
        """The cheapest way for a service VLAN."""
        free = Step(Cost(0, 0, 0))
        return self._cheapest([(one, free)], [(two, free)], {one.vid}, frozenset(), tunnels=False)[0]

    def _steps(self, at: Node, vids: set[int], without: Container[Adjacency]) -> Iterator[tuple[Node, Step]]:
        for adjacency, near, far in self._around(at.device):
            if adjacency in without:
                continue
            sound, straight = self._soundness(adjacency)
            if sound >> at.vid & 1:
                yield Node(far.device, at.vid), PLAIN
            elif at.vid in vids:
                step = self._crossings.price(adjacency, at.vid)
                if step is not None:
                    yield Node(far.device, at.vid), step
            if straight:
                continue
            for _, node, _, sure in self._fabric.cross(Crossing(near, far, adjacency), at.vid):
                back = self._fabric.cross(Crossing(far, near, adjacency), node.vid)
                if node.vid != at.vid and any(other == at for _, other, _, _ in back):
                    meant = BARE in (node.vid, at.vid)  # a bridge that knows no VLANs is in one by its neighbours
                    yield node, step_of((), 0 if meant else LEAK, int(not sure), 1)

    def _soundness(self, adjacency: Adjacency) -> tuple[int, bool]:
        """The VIDs that surely get across as they are, and whether no VLAN can come out as another."""
        known = self._sound.get(adjacency)
        if known is None:
            a, b = self._fabric.member(adjacency.a), self._fabric.member(adjacency.b)
            straight = a.pvid is not None and a.pvid == b.pvid
            known = self._sound[adjacency] = (self._context.network.components.carried(adjacency), straight)
        return known

    def _around(self, device: str) -> list[tuple[Adjacency, End, End]]:
        return [
            (adjacency, end, adjacency.far(end))
            for end, faced in self._by_device.get(device, ())
            for adjacency in faced
        ]
