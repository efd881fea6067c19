"""What a link is for: the VLANs that have stations on its two sides, and what its ends had once."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection, Iterator

from crossthread.diagnosis.context import Context
from crossthread.network.topology.adjacency import Adjacency
from crossthread.network.topology.graph import distances
from crossthread.network.topology.names import End
from crossthread.survey.records import Port
from crossthread.values import NO_VID, VlanSet


def across(context: Context, link: Adjacency, end: End, but: Collection[str | None] = ()) -> tuple[VlanSet, VlanSet]:
    """The VLANs that stations on this side of a link belong to, and those of the other side.

    Where other cables join the two sides as well, all that they join is on either side. Of some hosts, by their names,
    it is not asked where they belong.
    """
    near, far = end.device, link.far(end).device
    around = dict(context.once(_neighbours))
    if not any(
        other is not link and {other.a.device, other.b.device} == {near, far} for other in bridge_links(context)
    ):
        around[near], around[far] = around.get(near, set()) - {far}, around.get(far, set()) - {near}
    here, there = distances([near], around), distances([far], around)
    vids = _belonging(context, but) if but else context.once(_living)
    one, two = (VlanSet.of(vid for device in side for vid in vids.get(device, ())) for side in (here, there))
    return one, two


def bridge_links(context: Context) -> Iterator[Adjacency]:
    """The links between bridges."""
    for link in context.network.adjacencies:
        if all((row := context.port(end)) is None or row.mode != "routed" for end in (link.a, link.b)):
            yield link


def trunks_beside(context: Context, link: Adjacency) -> int:
    """Of a link between bridges how many others are trunks, if no other is one of access ports of one VLAN."""
    trunks, plain = context.once(_modes)
    ends = [context.port(end) for end in (link.a, link.b)]
    if any(row is None or row.mode == "routed" for row in ends) or any(one is not link for one in plain):
        return 0
    return sum(one is not link for one in trunks)


def _modes(context: Context) -> tuple[list[Adjacency], list[Adjacency]]:
    """The links between bridges that are trunks at both ends, and those of two access ports of one VLAN."""
    trunks, plain = list[Adjacency](), list[Adjacency]()
    for link in bridge_links(context):
        rows = [row for end in (link.a, link.b) if (row := context.port(end)) is not None]
        modes = {row.mode for row in rows} if len(rows) > 1 else set()
        if modes and modes <= {"trunk", "hybrid"}:
            trunks.append(link)
        elif modes == {"access"} and len({row.pvid for row in rows}) == 1:
            plain.append(link)
    return trunks, plain


def _neighbours(context: Context) -> dict[str, set[str]]:
    """The bridges next to each bridge."""
    found: dict[str, set[str]] = defaultdict(set)
    for link in bridge_links(context):
        found[link.a.device].add(link.b.device)
        found[link.b.device].add(link.a.device)
    return found


def _living(context: Context) -> dict[str, set[int]]:
    """By device the VLANs that the stations on it belong to, by the evidence."""
    return _belonging(context)


def _belonging(context: Context, but: Collection[str | None] = ()) -> dict[str, set[int]]:
    """The same without some hosts."""
    found: dict[str, set[int]] = defaultdict(set)
    stations = context.network.stations
    hosts = (host for one in context.network.classes.all for host in one.hosts if host.name not in but)
    for station in (*hosts, *stations.gateways):
        vid = context.expected.vlan(station)
        for tap in station.taps:
            if vid and tap.device:
                found[tap.device].add(vid)
    return found


def native_lost(own: Port, far: Port) -> bool:
    """Whether a trunk has no native VLAN and does not list the far end's, which does: as if both were taken away."""
    listed = [row.allowed is not None and far.pvid in row.allowed for row in (own, far)]
    return own.pvid == NO_VID and bool(far.pvid) and own.allowed is not None and listed == [False, True]
