"""Service-tag tunnels: tagged frames that travel inside another VLAN and come out as they went in.

References
----------
IEEE 802.1Q, clause 15: provider bridges, customer ports.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterator, Mapping
from functools import partial
from typing import Protocol

from crossthread.network.switching.membership import Membership
from crossthread.network.switching.nodes import BEYOND, Crossing, Node
from crossthread.network.three_valued import Bounds, Truth, all_of, vids_in
from crossthread.network.topology.adjacency import Adjacency
from crossthread.network.topology.names import End
from crossthread.network.topology.open_ends import OUTSIDE
from crossthread.values import NO_VID


class _Bridges(Protocol):
    """What a tunnel needs to know of the bridges: what their ports do, and where frames go."""

    out: dict[str, list[Crossing]]
    vids: int

    def member(self, end: End) -> Membership: ...
    def may_tunnel(self, end: End) -> bool: ...
    def forwarding(self, end: End) -> Bounds: ...
    def leaves(self, end: End, tag: int) -> Bounds: ...
    def leaving(self, end: End) -> int: ...
    def bridged(self, crossing: Crossing, vid: int) -> Iterator[tuple[Crossing, Node, bool, bool]]: ...


class Tunnels:
    """The tunnels of a fabric, found when a frame first goes into one.

    Parameters
    ----------
    bridges
        What ports do, and where frames go.
    ports
        The ports of a device.
    """

    def __init__(self, bridges: _Bridges, ports: Callable[[str], Mapping[str, object]]) -> None:
        self._bridges, self._ports = bridges, ports
        self._ends: dict[End, dict[End, Truth]] = {}

    def out_of(self, crossing: Crossing, vid: int) -> Iterator[tuple[Crossing, Node, bool, bool]]:
        """Where a tagged frame comes out that crosses into a tunnel: what the tunnel's other ends are cabled to."""
        bridges = self._bridges
        leaves = bridges.leaves(crossing.near, vid).both(bridges.member(crossing.near).tagged).has(vid)
        if leaves is False:
            return
        tagging = bridges.member(crossing.near).tagging
        if self._leads_out(crossing.far):
            yield Crossing(crossing.near, OUTSIDE, crossing.adjacency), BEYOND, True, False
        for end, through in self._others(crossing.far).items():
            for out in bridges.out.get(end.device, ()):
                if out.near != end or out.far in (OUTSIDE, crossing.near):
                    continue
                far = bridges.member(out.far)
                enters = far.accepts.both(Bounds.exactly(1 << vid)).both(bridges.forwarding(out.far))
                if far.tagging == tagging and enters.possible:
                    up = all_of((leaves, crossing.adjacency.up, out.adjacency.up, through, enters.has(vid)))
                    link = Adjacency(crossing.near, out.far, (), up)
                    yield Crossing(crossing.near, out.far, link), Node(out.far.device, vid), True, up is True

    def from_beyond(self) -> Iterator[tuple[Crossing, Node, bool, bool]]:
        """Where tagged frames come out that get into tunnels where the known part ends."""
        bridges = self._bridges
        for out in (out for crossings in bridges.out.values() for out in crossings if out.far != OUTSIDE):
            if bridges.may_tunnel(out.near) and self._leads_out(out.near):
                enters = bridges.member(out.far).accepts.both(bridges.forwarding(out.far)).possible & bridges.vids
                for vid in vids_in(enters):
                    yield Crossing(OUTSIDE, out.far, out.adjacency), Node(out.far.device, vid), True, False

    def _leads_out(self, end: End) -> bool:
        """Whether what goes into a tunnel may come out where the known part ends."""
        others = self._others(end)
        crossings = (out for other in others for out in self._bridges.out.get(other.device, ()) if out.near == other)
        return OUTSIDE in others or any(out.far == OUTSIDE for out in crossings)

    def _others(self, end: End) -> dict[End, Truth]:
        """The other ends at which comes out what went in at one, and how surely; `OUTSIDE` for unknown ones."""
        if end not in self._ends:
            self._ends[end] = self._find_others(end)
        return self._ends[end]

    def _find_others(self, end: End) -> dict[End, Truth]:
        bridges, found = self._bridges, dict[End, Truth]()
        member = bridges.member(end)
        vids = Bounds.exactly(1 << member.pvid) if member.pvid else Bounds(0, bridges.vids)
        for vid in vids_in(bridges.forwarding(end).both(vids).possible if member.pvid != NO_VID else 0):
            for device, sure in self._carrying(Node(end.device, vid)).items():
                outward = (out.near for out in bridges.out.get(device, ()) if out.far == OUTSIDE)
                if any(bridges.leaving(near) >> vid & 1 for near in outward if not bridges.member(near).tunnel):
                    found[OUTSIDE] = None
                for other in map(partial(End, device), self._ports(device)):
                    there = bridges.member(other)
                    if other == end or not bridges.may_tunnel(other) or there.pvid not in (vid, None):
                        continue
                    told: Truth = True if member.pvid and member.tunnel and there.pvid and there.tunnel else None
                    opens = all_of((sure, told, bridges.forwarding(end).has(vid), bridges.forwarding(other).has(vid)))
                    if opens is not False:
                        found[other] = opens
        return found

    def _carrying(self, start: Node) -> dict[str, Truth]:
        """The devices that a service VLAN gets to, past no tunnel port, and how surely."""
        bridges, found = self._bridges, dict[str, Truth]({start.device: True})
        queue = deque([start.device])
        while queue:
            device = queue.popleft()
            for crossing in bridges.out.get(device, ()):
                if crossing.far == OUTSIDE or any(bridges.member(e).tunnel for e in (crossing.near, crossing.far)):
                    continue
                for _, node, _, sure in bridges.bridged(crossing, start.vid):
                    reached = all_of((found[device], True if sure else None))
                    if node.vid == start.vid and (node.device not in found or (reached and not found[node.device])):
                        found[node.device] = reached
                        queue.append(node.device)
        return found
