"""The cheapest way for a frame through bridges that are allowed to be mended.

Dijkstra's search over (device, VID). Crossing what works costs nothing, crossing what is broken costs the changes
that would mend it, crossing what was not observed costs an observation. The findings on the cheapest way are what
stands in this frame's way. Both directions have to work, as a question wants an answer.
"""

from __future__ import annotations

import heapq
from collections import defaultdict
from collections.abc import Container, Iterator, Sequence
from math import inf
from typing import NamedTuple

import msgspec

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.edits import closed_itself
from crossthread.diagnosis.findings import Finding
from crossthread.diagnosis.rules import between_bridges as bridge_rules
from crossthread.diagnosis.rules import between_hosts
from crossthread.diagnosis.rules import gateway as gateway_rules
from crossthread.diagnosis.rules.host.place import host_link_down
from crossthread.diagnosis.rules.link import (
    link_access_both,
    link_access_vlan_differs,
    link_mode_differs,
    link_native_differs,
    link_tagging_differs,
    trunk_lacks,
)
from crossthread.diagnosis.rules.link_vlan import blocked_by_tree, link_vlan_missing
from crossthread.diagnosis.rules.port.admission import port_has_refused, port_refuses_station
from crossthread.diagnosis.rules.port.mode import port_mode_wrong
from crossthread.diagnosis.rules.port.quality import cable_fault
from crossthread.diagnosis.rules.port.state import port_admin_down, port_down
from crossthread.diagnosis.rules.port.vlan import gateway_vlan_lost, port_vlan_missing, port_vlan_wrong, vlan_suspended
from crossthread.network.hosts.station import HostStation, Interface, Station, Tap
from crossthread.network.switching.nodes import Crossing, Node
from crossthread.network.three_valued import Truth, all_of
from crossthread.network.topology.adjacency import Adjacency
from crossthread.network.topology.names import End
from crossthread.survey.changes import edited

_NO_CHANGE = 3
"""What a fault counts for of which no change is known that mends it."""
_LEAK = 3
"""What it counts for to go through a leak between two VLANs: as much as three changes more."""


class Cost(NamedTuple):
    """What a way costs; compared in this order."""

    price: int
    """Rows to edit, and what was added for steps against the evidence: a VLAN that the station's subnet does not live
    in, a leak between two VLANs."""
    observations: int
    hops: int

    def plus(self, other: Cost) -> Cost:
        """The sum."""
        return Cost(self.price + other.price, self.observations + other.observations, self.hops + other.hops)


class Step(msgspec.Struct, frozen=True):
    """One piece of a way: its price and the findings that stand there."""

    cost: Cost
    findings: tuple[Finding, ...] = ()


_PLAIN = Step(Cost(0, 0, 1))


def _step(findings: Sequence[Finding | None], doubts: int = 0, observations: int = 0, hops: int = 0) -> Step:
    real = tuple(finding for finding in findings if finding is not None)
    changes = sum(max(1, len(edited(finding.repair))) if finding.repair else _NO_CHANGE for finding in real)
    return Step(Cost(changes + doubts, observations, hops), real)


class Search:
    """Finds what stands between two stations at layer 2."""

    def __init__(self, context: Context) -> None:
        self._context = context
        self._fabric = context.network.fabric
        self._by_device: dict[str, list[tuple[End, list[Adjacency]]]] = defaultdict(list)
        for end, faced in context.adjacencies_at.items():
            self._by_device[end.device].append((end, faced))
        self._crossings: dict[tuple[Adjacency, int], Step | None] = {}
        self._sound: dict[Adjacency, tuple[int, bool]] = {}

    def between(self, one: Station, two: Station) -> Step | None:
        """The cheapest way between two stations, there and back; None if they are not connected by any cable.

        Only the VLANs are tried that either station is in, or should be in.
        """
        expected = self._context.expected
        vids = {vid for s in (one, two) for vid in (expected.current_vlan(s), expected.vlan(s)) if vid}
        parted = between_hosts.port_isolated(self._context, one, two)
        if parted is not None:
            return _step([*self.down(one), *self.down(two), parted])
        direct = self._context.network.stations.on_one_wire(one, two)
        if direct is not False:
            return _step([*self.down(one), *self.down(two)])
        starts, ends = self._attach(one, vids), self._attach(two, vids)
        return self._sound_way(starts, ends) or self._cheapest(starts, ends, vids, frozenset())[0]

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
        expected = self._context.expected
        vids = {vid for s in (one, two) for vid in (expected.current_vlan(s), expected.vlan(s)) if vid}
        free = Step(Cost(0, 0, 0))
        found = []
        for vid in vids:
            here = [(Node(device, vid), free)]
            for start, goal in ((one, two), (two, one)):
                first, passed = self._cheapest(self._attach(start, vids), here, vids, frozenset())
                banned = frozenset(node.device for node in passed) - {device}
                second, _ = self._cheapest(here, self._attach(goal, vids), vids, banned)
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
        most = max(_step([finding]).cost.price, _NO_CHANGE)  # a tree may be opened by a single cost
        without, fresh = set[Adjacency](), {adjacency}
        while fresh:
            without |= fresh
            step, passed = self._cheapest(one, two, {vid}, frozenset(), without, most)
            if step is None or not step.findings:
                return
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
            for node, step in self._steps(at, vids, without):
                if node not in done and node.device not in banned:
                    heapq.heappush(queue, (cost.plus(step.cost), count, node, at, findings + step.findings))
                    count += 1
        return None, []

    def _steps(self, at: Node, vids: set[int], without: Container[Adjacency]) -> Iterator[tuple[Node, Step]]:
        for adjacency, near, far in self._around(at.device):
            if adjacency in without:
                continue
            sound, straight = self._soundness(adjacency)
            if sound >> at.vid & 1:
                yield Node(far.device, at.vid), _PLAIN
            elif at.vid in vids:
                step = self._cross(adjacency, at.vid)
                if step is not None:
                    yield Node(far.device, at.vid), step
            if straight:
                continue
            for _, node, _, sure in self._fabric.cross(Crossing(near, far, adjacency), at.vid):
                back = self._fabric.cross(Crossing(far, near, adjacency), node.vid)
                if node.vid != at.vid and any(other == at for _, other, _, _ in back):
                    yield node, _step((), _LEAK, int(not sure), 1)

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

    def _cross(self, adjacency: Adjacency, vid: int) -> Step | None:
        key = (adjacency, vid)
        if key not in self._crossings:
            self._crossings[key] = self._price(adjacency, vid)
        return self._crossings[key]

    def _price(self, adjacency: Adjacency, vid: int) -> Step | None:
        """What it costs to get a VLAN across a link in both directions, staying that VLAN."""
        context, ends = self._context, (adjacency.a, adjacency.b)
        if not all(self._fabric.member(end).bridged for end in ends):
            return None
        closed = [finding for finding in map(self._closed, ends) if finding is not None]
        if closed:
            return _step(closed, hops=1)
        findings: list[Finding | None] = []
        if adjacency.up is False:
            shut = [port_admin_down(context, end) for end in self._cables(adjacency)]
            findings += [f for f in shut if f] or self._dark(ends, self._cables(adjacency))
        findings += [self._vlan_on(end, vid) for end in ends]
        if adjacency.up is not False and not any(findings):
            findings.append(blocked_by_tree(context, adjacency, vid))
        works = self._carries(adjacency, vid)
        if works is False:
            told = self._why_not(adjacency, vid)
            if told is None:
                return None
            findings += told
        trees = self._trees(adjacency, vid)
        unknown = works is None or adjacency.up is None or trees is None or (trees is False and not any(findings))
        return _step(findings, observations=int(unknown), hops=1)

    def _closed(self, end: End) -> Finding | None:
        """What holds a port closed that has a link: access control, or a guard of the spanning tree."""
        return bridge_rules.port_unauthorized(self._context, end) or bridge_rules.tree_guard_tripped(self._context, end)

    def _dark(self, ends: Sequence[End], cables: Sequence[End]) -> list[Finding | None]:
        """Why a link is down that nobody shut: members that do not bundle, or the cable, if a test says so."""
        loose = [told for end in cables if (told := bridge_rules.link_lag_detached(self._context, end)) is not None]
        if loose:
            return list[Finding | None](loose[:1])
        tested = [cable_fault(self._context, end) for end in ends]
        return [told for told in tested if told] or [port_down(self._context, end) for end in ends]

    def _trees(self, adjacency: Adjacency, vid: int) -> Truth:
        return all_of(self._fabric.trees.forwarding(end).has(vid) for end in (adjacency.a, adjacency.b))

    @staticmethod
    def _cables(adjacency: Adjacency) -> list[End]:
        ends = [adjacency.a, adjacency.b]
        for link in adjacency.links:
            ends += [link.a, link.b]
        return list(dict.fromkeys(ends))

    def _vlan_on(self, end: End, vid: int) -> Finding | None:
        missing = port_vlan_missing(self._context, end, vid)
        return missing or vlan_suspended(self._context, end, vid)

    def _carries(self, adjacency: Adjacency, vid: int) -> Truth:
        """Whether the settings of both ends let a VLAN across and back as itself, whatever links and trees do."""
        return all_of(
            self._one_way(near, far, vid) for near, far in ((adjacency.a, adjacency.b), (adjacency.b, adjacency.a))
        )

    def _one_way(self, near: End, far: End, vid: int) -> Truth:
        leaves, enters = self._fabric.member(near), self._fabric.member(far)
        if leaves.tagged.has(vid) is not False:
            same = leaves.tagging == enters.tagging
            return all_of((leaves.tagged.has(vid), enters.accepts.has(vid), same))
        joined: Truth = None if enters.pvid is None else enters.pvid == vid
        return all_of((leaves.untagged.has(vid), joined, enters.joins.has(vid)))

    def _why_not(self, adjacency: Adjacency, vid: int) -> list[Finding] | None:
        context = self._context
        one_access = link_mode_differs(context, adjacency)
        if one_access is not None:
            high = context.port(End(str(one_access.subjects[1].device), str(one_access.subjects[1].port)))
            lacking = high is not None and high.allowed is not None and vid not in high.allowed
            more = trunk_lacks(context, adjacency, vid, one_access) if lacking else None
            return [more or one_access]
        differ = link_access_vlan_differs(context, adjacency, vid)
        if differ is not None and differ.repair:
            return [differ]
        both = link_access_both(context, adjacency, vid)
        if both is not None:
            return [both]
        missing = link_vlan_missing(context, adjacency, vid)
        natives = link_native_differs(context, adjacency)
        rows = [row for row in map(context.port, (adjacency.a, adjacency.b)) if row is not None]
        settled = missing is not None and any("pvid" in change.cells for change in missing.repair)
        concerned = natives is not None and any(row.pvid == vid for row in rows) and not settled
        found = [link_tagging_differs(context, adjacency), missing, natives if concerned else None]
        return [finding for finding in found if finding is not None] or None

    def down(self, station: Station) -> list[Finding]:
        """What keeps a station's own link or interface down."""
        context = self._context
        if station.up is not False:
            return []
        found: list[Finding | None]
        if isinstance(station, HostStation):
            found = [host_link_down(context, station)]
            if station.end is not None:
                if closed_itself(context.port(station.end)):
                    found += [port_refuses_station(context, station)]
                    found += [port_has_refused(context, station.end)]
                found += [port_admin_down(context, station.end), port_down(context, station.end)]
            return [finding for finding in found if finding][:1]
        assert isinstance(station, Interface)
        found = [gateway_rules.gateway_admin_down(context, station)]
        if not any(found) and station.end is not None:
            ends = [station.end, *(a.far(station.end) for a in context.network.stations.facing(station))]
            found += [port_admin_down(context, end) for end in ends]
            if not any(found):
                found.append(port_down(context, station.end))
        if not any(found):
            found.append(gateway_rules.gateway_down(context, station))
        return [finding for finding in found if finding]

    def _attach(self, station: Station, vids: set[int]) -> list[tuple[Node, Step]]:
        """Every VLAN that a station may be got into, and what that costs."""
        found = []
        base = self.down(station)
        for tap in station.taps:
            if not tap.device:
                continue
            for vid in vids:
                step = self._join(station, tap, vid)
                if step is None:
                    continue
                doubts = self._context.expected.doubt(station, vid)
                more = _step([*base, *step.findings], doubts, int(station.up is None) + step.cost.observations)
                found.append((Node(tap.device, vid), more))
        return found

    def _join(self, station: Station, tap: Tap, vid: int) -> Step | None:
        context = self._context
        if isinstance(station, HostStation):
            assert tap.end is not None
            held = self._closed(tap.end)
            if held is not None:
                return _step([held])
            findings: list[Finding | None] = [port_refuses_station(context, station)]
            findings.append(self._vlan_on(tap.end, vid))
            member = self._fabric.member(tap.end)
            tag = station.tag
            enters: Truth = member.accepts.has(vid) if tag else (None if member.pvid is None else member.pvid == vid)
            leaves = member.tagged.has(vid) if tag else all_of((member.untagged.has(vid), member.joins.has(vid)))
            if all_of((enters, leaves)) is False:
                told = port_vlan_wrong(context, station, vid) or port_mode_wrong(context, station, vid)
                if told is None:
                    return None
                findings.append(told)
            return _step(findings, observations=int(all_of((enters, leaves)) is None))
        assert isinstance(station, Interface)
        if tap.end is None:
            lost = gateway_vlan_lost(context, station, vid)
            if station.row.vid is None or station.row.vid == vid:
                return _step([lost], observations=int(station.row.vid is None))
            told = gateway_rules.gateway_vlan_wrong(context, station, vid)
            return None if told is None else _step([told, lost])
        return self._join_by_cable(station, tap.end, vid)

    def _join_by_cable(self, station: Interface, far: End, vid: int) -> Step | None:
        """The same for a gateway that is plugged into a bridge."""
        context, member = self._context, self._fabric.member(far)
        if not member.bridged:
            return None
        findings: list[Finding | None] = [self._vlan_on(far, vid)]
        if not station.tag:
            enters: Truth = None if member.pvid is None else member.pvid == vid
            carried = all_of((enters, member.untagged.has(vid), member.joins.has(vid)))
            if carried is False:
                told = gateway_rules.gateway_port_vlan_wrong(context, station, far, vid)
                if told is None:
                    return None
                findings.append(told)
            return _step(findings, observations=int(carried is None))
        if station.tag != vid:
            told = gateway_rules.gateway_vlan_wrong(context, station, vid)
            if told is None:
                return None
            findings.append(told)
        carried = all_of((member.accepts.has(vid), member.tagged.has(vid)))
        if carried is False:
            told = gateway_rules.gateway_port_mode_wrong(context, station, far, vid)
            if told is None:
                return None
            findings.append(told)
        return _step(findings, observations=int(carried is None))
