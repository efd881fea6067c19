"""Which VLANs on which devices surely hear each other: the connected parts of the layer-2 graph, all VLANs at once.

VLANs that use the same links have the same parts, so the parts are found once for each such group of VLANs; a set of
VIDs is one integer, and a link divides all groups by two operations on integers.
"""

from __future__ import annotations

from collections import defaultdict, deque
from collections.abc import Container, Iterable, Mapping, Sequence
from functools import cached_property, reduce
from operator import and_

from crossthread.network.switching.nodes import Crossing, Node, Reached
from crossthread.network.switching.segments import Fabric
from crossthread.network.switching.unaware import same_tagging
from crossthread.network.three_valued import EVERY_VID, vids_in
from crossthread.network.topology.adjacency import Adjacency
from crossthread.network.topology.graph import joined
from crossthread.network.topology.names import End
from crossthread.network.topology.open_ends import OUTSIDE

Part = tuple[int, str]
"""A connected part: a VID, and one of its devices that stands for all."""


class Components:
    """The parts of a network that are surely connected, in both directions, within one VLAN.

    Leaks between VLANs and whatever was not observed join nothing here: two nodes of one part surely reach each
    other, two of different parts may do so still.
    """

    def __init__(self, fabric: Fabric, before: tuple[Components, Container[End]] | None = None) -> None:
        self._fabric = fabric
        self._carried: dict[Adjacency, int] = {}
        self._group: dict[int, int] = {}
        self._root: dict[int, dict[str, str]] = {}
        if before is not None:  # of an earlier copy with the same VLANs and trees, what the changes do not touch
            kept, touched = before
            same = set(kept._fabric.adjacencies)
            self._carried = {
                a: kept._carried[a]
                for a in fabric.adjacencies
                if a in same and a.a not in touched and a.b not in touched and not a.spread
            }
            untouched = len(self._carried) == len(fabric.adjacencies) == len(kept._fabric.adjacencies)
            if untouched and fabric.vids == kept._fabric.vids:
                self._group, self._root = kept._group, kept._root
                return
        self._divide()
        spread = [adjacency for adjacency in fabric.adjacencies if adjacency.spread]
        for _ in spread:  # one may join the two devices that another leads to
            found = self._by_either(spread)
            if all(self._carried.get(adjacency) == bits for adjacency, bits in found.items()):
                break
            self._carried |= found
            self._divide()

    def _divide(self) -> None:
        """Find the parts by what the links carry."""
        carried = [(self.carried(adjacency), adjacency) for adjacency in self._fabric.adjacencies]
        for number, vids in enumerate(_groups(self._fabric.vids, {bits for bits, _ in carried})):
            members = [adjacency for bits, adjacency in carried if bits & vids]
            self._root[number] = joined((a.a.device, a.b.device) for a in members)
            for vid in vids_in(vids):
                self._group[vid] = number

    def _by_either(self, spread: Sequence[Adjacency]) -> dict[Adjacency, int]:
        """What aggregates carry whose members lead to several devices: what is in one part on all of them anyway."""
        found = {adjacency: self._between_ends(adjacency) for adjacency in spread}
        together = defaultdict[End, list[Adjacency]](list)
        for adjacency in spread:
            for end in adjacency.spread:
                together[end].append(adjacency)
        for end, held in together.items():
            all_carry = reduce(and_, [found[adjacency] for adjacency in held]) & self._fabric.vids
            devices = [adjacency.far(end).device for adjacency in held]
            same = 0
            for vid in vids_in(all_carry):
                parts = {self.of(Node(device, vid)) for device in devices}
                same |= (1 << vid) if len(parts) == 1 and None not in parts else 0
            for adjacency in held:
                found[adjacency] &= same
        return found

    def carried(self, adjacency: Adjacency) -> int:
        """The VIDs that surely get across in both directions, staying what they are."""
        known = self._carried.get(adjacency)
        if known is None:
            known = self._carried[adjacency] = self._carry(adjacency)
        return known

    def _carry(self, adjacency: Adjacency) -> int:
        return self._between_ends(adjacency) if adjacency.up is True else 0

    def _between_ends(self, adjacency: Adjacency) -> int:
        """The VIDs that get across in both directions if the link is up."""
        fabric = self._fabric
        if not fabric.parting.isdisjoint((adjacency.a, adjacency.b)):
            return 0
        a, b = fabric.member(adjacency.a), fabric.member(adjacency.b)
        both = (
            a.tagged.sure & b.tagged.sure & a.accepts.sure & b.accepts.sure if same_tagging(a.tagging, b.tagging) else 0
        )
        if a.pvid and a.pvid == b.pvid:
            both |= 1 << a.pvid & a.untagged.sure & b.untagged.sure & a.joins.sure & b.joins.sure
        return both & fabric.forwarding(adjacency.a).sure & fabric.forwarding(adjacency.b).sure

    def closed(self, part: Part) -> bool:
        """Whether no frame of a part may get out of it: by a leak, one way only, or as far as was observed."""
        return part not in self._open

    @cached_property
    def _open(self) -> set[Part | None]:
        found: set[Part | None] = set()
        for crossings in self._fabric.out.values():
            for crossing in crossings:
                for vid in vids_in(self._strays(crossing) & self._fabric.vids):
                    found.add(self.of(Node(crossing.near.device, vid)))
        return found

    def _strays(self, crossing: Crossing) -> int:
        """The VIDs that may get across, but not surely both ways as themselves."""
        fabric = self._fabric
        near, out = fabric.member(crossing.near), fabric.forwarding(crossing.near).possible
        if crossing.far == OUTSIDE:
            return (near.tagged.possible | near.untagged.possible) & out
        far, into = fabric.member(crossing.far), fabric.forwarding(crossing.far).possible
        if fabric.may_tunnel(crossing.far):
            return (near.tagged.possible | near.untagged.possible) & out
        tagged = (
            near.tagged.possible & far.accepts.possible & into
            if same_tagging(near.tagging, far.tagging) is not False
            else 0
        )
        joined = far.joins.possible & into & (EVERY_VID if far.pvid is None else 1 << far.pvid & ~1)
        return (tagged | (near.untagged.possible if joined else 0)) & out & ~self.carried(crossing.adjacency)

    @cached_property
    def _around(self) -> dict[str, list[tuple[int, Crossing]]]:
        """The crossings out of each device, with what they carry, in the order of the fabric's."""
        out = self._fabric.out
        return {
            device: [(self.carried(c.adjacency), c) for c in crossings if c.far != OUTSIDE]
            for device, crossings in out.items()
        }

    def way(self, start: Node, goal: Node) -> list[Reached] | None:
        """A shortest way from one node to another that surely works, within one VLAN; None if there is none.

        The same as `Fabric.way`, without flooding all of the network.
        """
        vid = start.vid
        steps: dict[str, Crossing | None] = {start.device: None} if vid == goal.vid else {}
        queue = deque(steps)
        while queue and goal.device not in steps:
            device = queue.popleft()
            for bits, crossing in self._around.get(device, ()):
                if bits >> vid & 1 and crossing.far.device not in steps:
                    steps[crossing.far.device] = crossing
                    queue.append(crossing.far.device)
        if goal.device not in steps or not self._fabric.exists(start.device).has(vid):
            return None
        found: list[Reached] = []
        last = steps[goal.device]
        while last is not None:
            tagged = bool(self._fabric.member(last.near).tagged.has(vid))
            found.append(Reached(0, 0, Node(last.near.device, vid), last, tagged))
            last = steps[last.near.device]
        return found[::-1]

    def group(self, vid: int) -> int:
        """The number of the group of VLANs that use the same links as this one."""
        return self._group.get(vid, -2)

    def of(self, node: Node) -> Part | None:
        """The part that a VLAN on a device belongs to; None if the VLAN is not surely there."""
        if not self._fabric.exists(node.device).sure >> node.vid & 1:
            return None
        return node.vid, self.roots(node.vid).get(node.device, node.device)

    def roots(self, vid: int) -> Mapping[str, str]:
        """For each device that some link joins to others in a VLAN, the one that stands for its part."""
        return self._root.get(self._group.get(vid, -1), {})


def _groups(known: int, sets: Iterable[int]) -> list[int]:
    """The coarsest division of the VIDs such that every set contains each group whole or not at all."""
    groups = [known] if known else []
    for bits in sets:
        groups = [part for group in groups for part in (group & bits, group & ~bits) if part]
    return groups
