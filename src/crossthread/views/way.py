"""The way of a packet, hop by hop, as plain data."""

from __future__ import annotations

import msgspec

from crossthread.network.hosts.classes import vlan_was_read
from crossthread.network.hosts.station import HostStation, Station, Tap
from crossthread.network.network import Network
from crossthread.network.routing.walks import Leg, Walk
from crossthread.network.switching.nodes import BEYOND, Node, Reached
from crossthread.network.three_valued import vids_in
from crossthread.network.topology.open_ends import OUTSIDE
from crossthread.values import BARE, SOME_VID


class Hop(msgspec.Struct, frozen=True, omit_defaults=True):
    """One thing that a packet passes.

    Attributes
    ----------
    kind
        `host`, `bridge`, `gateway`, or `unsurveyed` for what is beyond the open ends of the survey.
    name
        The host or device; for a gateway also its `interface`.
    enters, leaves
        The ports it comes in and goes out by; absent where it begins, ends, or stays inside a device.
    vid
        The VLAN it is in there.
    vid_read
        Whether that follows from what was read; otherwise it is one that it may be in, and stands for all others.
    tag_in, tag_out
        The tag it carries on the wire: a VID, or 0 for none.
    asks_for
        The address whose MAC address is asked for here (ARP or neighbour discovery).
    faults
        The rules of the findings that stand at this hop.
    """

    kind: str
    name: str
    interface: str | None = None
    enters: str | None = None
    leaves: str | None = None
    vid: int | None = None
    tag_in: int | None = None
    tag_out: int | None = None
    asks_for: str | None = None
    faults: tuple[str, ...] = ()
    vid_read: bool = True


def path_of(network: Network, source: Station, walk: Walk) -> tuple[Hop, ...]:
    """The hops of a walk that begins at a station."""
    hops: list[Hop] = [] if walk.legs else [Hop("host", source.name)]
    for leg in walk.legs:
        hops.append(_end_hop(leg.sender, str(leg.target)))
        hops += _bridges(network, leg)
        if not isinstance(leg.receiver, HostStation):
            hops.append(_end_hop(leg.receiver, None))
    if walk.legs and isinstance(walk.legs[-1].receiver, HostStation):
        hops.append(_end_hop(walk.legs[-1].receiver, None))
    return tuple(hops)


def _end_hop(station: Station, asks_for: str | None) -> Hop:
    if isinstance(station, HostStation):
        return Hop("host", station.name, asks_for=asks_for)
    return Hop("gateway", station.device, interface=station.name, asks_for=asks_for)


def _bridges(network: Network, leg: Leg) -> list[Hop]:
    """The bridges between the two stations of a leg, by the surest and then shortest way."""
    for tap in leg.sender.taps:
        for goal in leg.receiver.taps:
            for vid in vids_in(tap.enters.sure & goal.leaves.sure) if tap.device and goal.device else ():
                start, node = Node(tap.device, vid), Node(goal.device, vid)
                way = network.components.way(start, node)
                if way is not None:
                    return _hops(network, leg, tap, goal, start, node, way)
    fabric = network.fabric
    best: tuple[int, int, Tap, Tap, Node, Node] | None = None
    for tap in leg.sender.taps:
        for goal in leg.receiver.taps:
            if not tap.device or not goal.device:
                continue
            for vid in vids_in(tap.enters.possible):
                start = Node(tap.device, vid)
                for arrives in vids_in(goal.leaves.possible & fabric.vids):
                    node = Node(goal.device, arrives)
                    reached = fabric.reached(start, node)
                    if reached is not None and (best is None or (reached.unknown, reached.hops) < best[:2]):
                        best = (reached.unknown, reached.hops, tap, goal, start, node)
    if best is None:
        return []
    _, _, tap, goal, start, node = best
    return _hops(network, leg, tap, goal, start, node, fabric.way(start, node))


def _hops(network: Network, leg: Leg, tap: Tap, goal: Tap, start: Node, node: Node, way: list[Reached]) -> list[Hop]:
    """The bridges along a way."""
    hops = []
    read = vlan_was_read(leg.sender, tap, network.names)
    at, enters, tag_in = start, tap.end.port if tap.end else None, _sent(leg.sender, tap)
    for step in way:
        assert step.crossing is not None
        tag = _tag(at, step)
        hops.append(_bridge(at, enters, tag_in, step, tag, read))
        known = step.crossing.near != OUTSIDE and network.fabric.member(step.crossing.far).pvid is not None
        read = read if step.tagged else known
        following = Node(step.crossing.far.device, _arrives(way, step, node))
        at, enters, tag_in = following, step.crossing.far.port, tag
    out = goal.end.port if goal.end else None
    hops.append(Hop("bridge", at.device, None, enters, out, _vid(at), tag_in, _sent(leg.receiver, goal), vid_read=read))
    return hops


def _sent(station: Station, tap: Tap) -> int | None:
    """The tag of a station's frames at a port; None without a port, or where it was not observed."""
    return station.tag if tap.end and station.tag != SOME_VID else None


def _vid(at: Node) -> int | None:
    """The VLAN that a frame is in at a node; None on a bridge that knows no VLANs, where it has no tag."""
    return at.vid if at.vid != BARE else None


def _tag(at: Node, step: Reached) -> int | None:
    """The tag of a frame on its next cable; None where that leads to or comes from what nobody surveyed."""
    if step.crossing is not None and OUTSIDE in (step.crossing.near, step.crossing.far):
        return None
    return at.vid if step.tagged else 0


def _arrives(way: list[Reached], step: Reached, last: Node) -> int:
    """The VLAN in which a step arrives: where the next one starts."""
    at = way.index(step)
    following = way[at + 1].came_from if at + 1 < len(way) else last
    assert following is not None
    return following.vid


def _bridge(at: Node, enters: str | None, tag_in: int | None, step: Reached, tag: int | None, read: bool) -> Hop:
    assert step.crossing is not None
    if at == BEYOND:
        return Hop("unsurveyed", "what was not surveyed")
    return Hop("bridge", at.device, None, enters, step.crossing.near.port, _vid(at), tag_in, tag, vid_read=read)
