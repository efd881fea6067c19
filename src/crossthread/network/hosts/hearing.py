"""Who hears whom on a segment: whether a frame from one station gets to another."""

from __future__ import annotations

from itertools import product

from crossthread.network.hosts.station import HostStation, Station, Tap
from crossthread.network.hosts.stations import Stations
from crossthread.network.switching.components import Components
from crossthread.network.switching.nodes import Node
from crossthread.network.switching.segments import Fabric
from crossthread.network.three_valued import Truth, agreed, all_of, any_of, vids_in
from crossthread.values import NO_VID, SOME_VID


class Hearing:
    """Follows frames from station to station, over bridges or a cable."""

    def __init__(self, stations: Stations, fabric: Fabric, components: Components) -> None:
        self._stations, self._fabric, self._components = stations, fabric, components

    def on_one_wire(self, one: Station, two: Station) -> Truth:
        """Whether two stations hear each other without any bridge: on one port, or on two routed ports cabled."""
        return agreed(self._on_one_wire(*pair) for pair in product(one.wherever, two.wherever))

    def _on_one_wire(self, one: Station, two: Station) -> Truth:
        if one.end is None or two.end is None or (alike := _same_tag(one, two)) is False:
            return False
        if one.end == two.end:
            return alike
        ways = [a for a in self._stations.attachments.far.get(one.end, ()) if a.far(one.end) == two.end]
        routed = not any(self._fabric.member(end).bridged for end in (one.end, two.end))
        return (
            all_of((alike, any_of(a.up for a in ways)))
            if ways and (routed or not (isinstance(one, HostStation) or isinstance(two, HostStation)))
            else False
        )

    def hears(self, sender: Station, receiver: Station) -> Truth:
        """Whether a frame from one station gets to another, at whichever ports they are."""
        return agreed(self._hears(*pair) for pair in product(sender.wherever, receiver.wherever))

    def _hears(self, sender: Station, receiver: Station) -> Truth:
        ends_up = all_of((sender.up, receiver.up))
        if ends_up is False:
            return False
        direct = self._on_one_wire(sender, receiver)
        if direct:
            return ends_up
        ways: list[Truth] = [direct]
        if any(isinstance(station, HostStation) and station.end is None for station in (sender, receiver)):
            ways.append(None)  # it may be plugged in anywhere
        for tap in sender.taps:
            for goal in receiver.taps:
                ways.append(self._between(tap, goal))
        return all_of((ends_up, any_of(ways)))

    def _between(self, tap: Tap, goal: Tap) -> Truth:
        if tap.beyond or goal.beyond:
            return self._by_the_unknown(tap, goal)
        if not tap.device or not goal.device:
            return None if tap.enters.possible and goal.leaves.possible else False
        if tap.end is not None and tap.end == goal.end:
            return False
        if tap.device == goal.device and self._isolated(tap) and self._isolated(goal):
            return False
        found: Truth = False
        for vid in vids_in(tap.enters.sure & goal.leaves.sure):
            part = self._components.of(Node(tap.device, vid))
            if part is not None and part == self._components.of(Node(goal.device, vid)):
                return True
        starts = [self._components.of(Node(tap.device, vid)) for vid in vids_in(tap.enters.possible)]
        if not any(part is None or not self._components.closed(part) for part in starts):
            leaving = (part for part in starts if part is not None and goal.leaves.possible >> part[0] & 1)
            if not any(self._components.of(Node(goal.device, part[0])) == part for part in leaving):
                return False
        for vid in vids_in(tap.enters.possible):
            start = Node(tap.device, vid)
            for arrives in vids_in(goal.leaves.possible & self._fabric.vids):
                reached = self._fabric.reaches(start, Node(goal.device, arrives))
                if reached is False:
                    continue
                parted = self._parted(tap, goal, start, Node(goal.device, arrives))
                if parted is not False:
                    found = None if parted is None else found
                    continue
                if reached and goal.leaves.has(arrives) and tap.enters.has(vid):
                    return True
                found = None
        return found

    def _isolated(self, tap: Tap) -> bool:
        return tap.end is not None and self._fabric.isolated(tap.end)

    def _parted(self, tap: Tap, goal: Tap, start: Node, end: Node) -> Truth:
        """Whether the way leads from an isolated port to another of one device; None if there may be another way."""
        parting = self._fabric.parting
        if not parting or not (self._isolated(tap) or self._isolated(goal)):
            return False
        way = [step.crossing for step in self._fabric.way(start, end) if step.crossing is not None]
        ends = [way[0].near] if way and self._isolated(tap) else []
        ends += [way[-1].far] if way and self._isolated(goal) else []
        shut = [end for end in ends if end in parting]
        return None if any(map(self._fabric.trees.on_a_ring, shut)) else bool(shut)

    def _by_the_unknown(self, tap: Tap, goal: Tap) -> Truth:
        """Whether a frame may get from one tap to another of which at least one is beyond an open end."""
        starts = tap.enter(vids_in(tap.enters.possible))
        goals = goal.enter(vids_in(goal.leaves.possible & self._fabric.vids))
        nowhere = not (tap.beyond or tap.device) or not (goal.beyond or goal.device)
        may = nowhere or any(self._fabric.reaches(a, b) is not False for a in starts for b in goals)
        return None if may else False


def _same_tag(one: Station, two: Station) -> Truth:
    """Whether the frames of two stations carry the same tag, or none."""
    tags = {one.tag, two.tag}
    return len(tags) == 1 if SOME_VID not in tags else (False if NO_VID in tags else None)
