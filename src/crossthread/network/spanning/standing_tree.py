"""A spanning tree as it stands, from which single media and bridges are taken away.

What is below a link that fails has to find another way to the root; nobody else has. The way to the root of a bridge
outside that subtree does not lead through it, so its priority vector stays, and with it the role of every port whose
medium has none of the subtree's bridges on it. So a failure costs as much as the subtree is large, not as the campus.
Regions are left to `roles.instance_roles`.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection, Iterable, Mapping
from typing import NamedTuple

from crossthread.network.spanning.roles import BridgeId, Lan, Role, Spread
from crossthread.network.topology.names import End


class Rebuilt(NamedTuple):
    """What a failure makes of a tree.

    Attributes
    ----------
    below
        The bridges that had to find another way to the root.
    gone
        The ports that are on no medium any more.
    roles
        What the ports do now whose medium is still there, of those that may do something else.
    """

    below: frozenset[str]
    gone: frozenset[End]
    roles: Mapping[End, Role]


class StandingTree:
    """One instance without regions, with what it takes to let a part of it fail.

    Parameters
    ----------
    bridges
        Each device's bridge identifier in this instance. All differ.
    lans
        The ports on each medium that is up.

    Attributes
    ----------
    roles
        What every port does as things are.
    """

    def __init__(self, bridges: Mapping[str, BridgeId], lans: Iterable[Lan]) -> None:
        self._spread = Spread(bridges, lans)
        self._spread.all()
        self.roles = self._spread.roles()
        self._children: dict[str, list[str]] = defaultdict(list)
        self._lan_of: dict[End, Lan] = {
            one.end: lan for held in self._spread.at.values() for _, lan in held for one in lan
        }
        for device, end in self._spread.arrives.items():
            self._children[self.roles[end].designated.device].append(device)

    def without(self, cut: Collection[End], device: str | None = None) -> Rebuilt:
        """What the tree does without the media of which all ports are cut, and without a device."""
        held = self._spread.at.get(device, ()) if device is not None else ()
        dead = {id(lan): lan for _, lan in held}  # media are told apart as objects: two may have equal ports
        for end in cut:
            lan = self._lan_of.get(end)
            if lan is not None and all(one.end in cut for one in lan):
                dead[id(lan)] = lan
        tops = [
            one.end.device
            for lan in dead.values()
            for one in lan
            if self._spread.arrives.get(one.end.device) == one.end
        ]
        below = self._below([*tops, *(self._children.get(device, ()) if device is not None else ())]) - {device}
        again = self._spread.again(below, dead.keys(), device)
        gone = frozenset(one.end for lan in dead.values() for one in lan)
        return Rebuilt(frozenset(below), gone, again)

    def _below(self, tops: Iterable[str]) -> set[str]:
        """Some bridges with all whose way to the root leads through them."""
        found: set[str] = set()
        queue = list(tops)
        while queue:
            at = queue.pop()
            if at not in found:
                found.add(at)
                queue += self._children.get(at, ())
        return found
