"""The ports of bridges that a packet passes between two stations of a segment, each in which direction."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import product
from typing import NamedTuple

from crossthread.network.hosts.hearing import Hearing
from crossthread.network.hosts.station import Interface, Station, Tap
from crossthread.network.switching.nodes import Node
from crossthread.network.switching.segments import Fabric
from crossthread.network.three_valued import vids_in
from crossthread.network.topology.names import End


class Passed(NamedTuple):
    """A port, and whether the packet comes `in` there or goes `out`."""

    end: End
    way: str


class PassedPorts:
    """Finds the ports between stations."""

    def __init__(self, hearing: Hearing, fabric: Fabric) -> None:
        self._hearing, self._fabric = hearing, fabric
        self._found: dict[tuple[Station, Station], tuple[tuple[Passed, ...], bool]] = {}

    def between(self, sender: Station, receiver: Station) -> tuple[tuple[Passed, ...], bool]:
        """The ports in their order, and whether it is certain that the packet passes these."""
        key = (sender, receiver)
        if key not in self._found:
            self._found[key] = self._between(sender, receiver)
        return self._found[key]

    def _between(self, sender: Station, receiver: Station) -> tuple[tuple[Passed, ...], bool]:
        first, *others = (self._way(*pair) for pair in product(sender.wherever, receiver.wherever))
        return first[0], first[1] and all(other == first for other in others)

    def _way(self, sender: Station, receiver: Station) -> tuple[tuple[Passed, ...], bool]:
        first = [Passed(sender.end, "out")] if isinstance(sender, Interface) and sender.end else []
        last = [Passed(receiver.end, "in")] if isinstance(receiver, Interface) and receiver.end else []
        if self._hearing.on_one_wire(sender, receiver):
            return (*first, *last), True
        ways: dict[tuple[Passed, ...], bool] = {}
        for tap in sender.taps:
            for goal in receiver.taps:
                for ports, sure in self._over_bridges(tap, goal):
                    ways[ports] = ways.get(ports, False) or sure
        between, sure = next(((ports, True) for ports, sure in ways.items() if sure), (next(iter(ways), ()), False))
        return (*first, *between, *last), sure

    def _over_bridges(self, tap: Tap, goal: Tap) -> Iterator[tuple[tuple[Passed, ...], bool]]:
        """The ports from one tap to another, by each VLAN that the frames may be in, and whether that is certain."""
        if not tap.device or not goal.device:
            return
        for vid in vids_in(tap.enters.possible & self._fabric.vids):
            for arrives in vids_in(goal.leaves.possible & self._fabric.vids):
                start, end = Node(tap.device, vid), Node(goal.device, arrives)
                reached = self._fabric.reached(start, end)
                if reached is None:
                    continue
                steps = [step.crossing for step in self._fabric.way(start, end) if step.crossing is not None]
                crossed = [p for step in steps for p in (Passed(step.near, "out"), Passed(step.far, "in"))]
                near = [Passed(tap.end, "in")] if tap.end else []
                far = [Passed(goal.end, "out")] if goal.end else []
                sure = reached.unknown == 0 and tap.enters.has(vid) is True and goal.leaves.has(arrives) is True
                yield (*near, *crossed, *far), sure
