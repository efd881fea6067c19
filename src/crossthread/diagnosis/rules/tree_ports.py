"""Findings about what a tree does at ports: where it is off in a ring, edges to bridges, regions, detours."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.detours import Detour, find_detours
from crossthread.diagnosis.findings import Finding, Subject
from crossthread.diagnosis.registry import About, rule
from crossthread.diagnosis.rules.tree import at_tree_port, tree_row
from crossthread.network.three_valued import vids_in
from crossthread.network.topology.adjacency import Adjacency
from crossthread.network.topology.names import End
from crossthread.survey.changes import Change
from crossthread.values import VlanSet


@rule("tree-off-in-loop", "Spanning tree", About.DEVICE)
def tree_off_in_loop(context: Context, device: str) -> Finding | None:
    """A device without a spanning tree is part of a ring.

    Matters: if nothing else cuts the ring, one broadcast goes round for ever and everything in its VLANs stands still.
    Notice: all lamps blink at once, and nothing works.
    Confirm: look at the device's spanning-tree setting, and whether it passes the tree's frames on.
    Mend: turn the spanning tree on, or take one link of the ring out.
    """
    trees = context.network.fabric.trees
    rows = [row for row in trees.bridges.get(device, ()) if row.protocol == "off"]
    if not rows or rows[0].bpdus == "pass":
        return None
    ring = [end for end in context.adjacencies_at if end.device == device and trees.on_a_ring(end, surely=True)]
    if len(ring) < 2:
        return None
    fabric = context.network.fabric
    common = fabric.carried(ring[0]).possible
    for end in ring[1:]:
        common &= fabric.carried(end).possible
    looped = " ".join(map(str, list(vids_in(common & fabric.known))[:12]))
    known = "drops the tree's frames" if rows[0].bpdus == "drop" else "may drop the tree's frames"
    return Finding(
        "tree-off-in-loop",
        "risks",
        tuple(at_tree_port(end, rows[0].instance) for end in ring),
        f"{device} runs no spanning tree and {known}, and lies on a ring by {', '.join(end.port for end in ring)}; "
        f"nothing there cuts a loop of {f'VLAN {looped}' if looped else 'the VLANs that it carries'}.",
        context.evidence(rows[0], "protocol", "bpdus"),
    )


@rule("tree-off-in-loop", "Spanning tree", About.PORT, needs="tree_ports.bpdus=drop")
def tree_off_at_port(context: Context, end: End) -> Finding | None:
    """The spanning tree is off at a port of a ring, which drops the tree's frames.

    Matters: if nothing else cuts the ring, one broadcast goes round for ever and everything in its VLANs stands still.
    Notice: all lamps blink at once, and nothing works.
    Confirm: look at the port's spanning-tree setting.
    Mend: turn the tree on at that port.
    """
    trees = context.network.fabric.trees
    rows = [trees.ports.get((*end, instance)) for instance in trees.instances(end.device)]
    off = [row for row in rows if row is not None and row.bpdus == "drop"]
    if not off or not trees.on_a_ring(end, surely=True):
        return None
    carried = context.network.fabric.carried(end).possible & context.network.fabric.known
    vlans = " ".join(map(str, list(vids_in(carried))[:12]))
    key = {"device": end.device, "port": end.port, "instance": off[0].instance}
    return Finding(
        "tree-off-in-loop",
        "risks",
        (at_tree_port(end, off[0].instance),),
        f"The spanning tree is off at {end}, which lies on a ring; nothing there cuts a loop of "
        f"{f'VLAN {vlans}' if vlans else 'the VLANs that it carries'}.",
        context.evidence(off[0], "bpdus"),
        (Change("tree_ports", key, {"bpdus": ""}),),
    )


@rule("tree-edge-to-bridge", "Spanning tree", About.LINK)
def tree_edge_to_bridge(context: Context, adjacency: Adjacency) -> Iterator[Finding]:
    """A port that is set as an edge port leads to another bridge.

    Matters: it forwards at once when it comes up, before the tree has looked for a loop.
    Notice: a short storm whenever the link comes up.
    Confirm: look at the port's setting and at its neighbour.
    Mend: make it no edge port.
    """
    fabric = context.network.fabric
    edges = {end: rows[0] for end in (adjacency.a, adjacency.b) if (rows := context.edge_rows.get(end))}
    if not edges or not fabric.member(adjacency.a).bridged or not fabric.member(adjacency.b).bridged:
        return
    for end, row in edges.items():
        if adjacency.far(end).device in fabric.trees.bridges:
            key = {"device": end.device, "port": end.port, "instance": row.instance}
            yield Finding(
                "tree-edge-to-bridge",
                "risks",
                (at_tree_port(end, row.instance),),
                f"{end} is set as an edge port, but leads to the bridge {adjacency.far(end)}.",
                context.evidence(row, "edge"),
                (Change("tree_ports", key, {"edge": "no"}),),
            )


@rule("tree-region-differs", "Spanning tree", About.LINK)
def tree_region_differs(context: Context, adjacency: Adjacency) -> Finding | None:
    """Two bridges with multiple spanning trees on one link are in different regions.

    Matters: between regions there is only the common tree; the instances do not share the links there as intended.
    Notice: links between the two regions idle that were to carry some VLANs.
    Confirm: compare region name, revision and VLAN table (its digest) of both.
    Mend: make name, revision and the table of VLANs the same on both.
    """
    rows = [tree_row(context, end.device, 0) for end in (adjacency.a, adjacency.b)]
    one, two = rows
    if one is None or two is None or one.protocol != "mstp" or two.protocol != "mstp":
        return None
    if not one.region or not two.region or one.region == two.region:
        return None
    parts = [row.region.split("/") for row in (one, two) if row.region]
    words = ("name", "revision", "digest")
    if len(parts[0]) == len(parts[1]) == len(words):
        differ = [word for word, a, b in zip(words, *parts, strict=True) if a != b]
        by = f" (they differ in the {' and the '.join(differ)})"
    else:
        by = ""
    return Finding(
        "tree-region-differs",
        "risks",
        (at_tree_port(adjacency.a, 0), at_tree_port(adjacency.b, 0)),
        f"{adjacency.a.device} is in the region {one.region}, {adjacency.b.device} on the same link in "
        f"{two.region}{by}.",
        context.evidence(one, "region") + context.evidence(two, "region"),
    )


@rule("tree-detour", "Spanning tree", About.CAMPUS)
def tree_detour(context: Context) -> Iterator[Finding]:
    """Hosts go a longer way to their gateway than the cables would let them.

    Matters: the detour takes capacity on links that others need, and one more device can fail.
    Notice: nothing, or slowness under load.
    Confirm: compare the way of the frames with the drawing.
    Mend: move the root of the VLAN's tree nearer to its gateway, or change a cost.
    """
    by_cause: dict[tuple[str, int | None], list[Detour]] = defaultdict(list)
    trees = context.network.fabric.trees
    following: dict[tuple[str, int], list[Detour]] = {}
    for detour in find_detours(context, dearer=True, told=False):  # what is longer over faster links is no detour
        at = detour.gateway, detour.vid
        if at not in following:
            followed = (i for i, vids in trees.instances(detour.gateway).items() if vids.possible >> detour.vid & 1)
            following[at] = by_cause[detour.gateway, next(followed, None)]
        following[at].append(detour)
    for (gateway, _), detours in sorted(by_cause.items(), key=lambda cause: min(d.vid for d in cause[1])):
        vids = VlanSet.of(detour.vid for detour in detours)
        ways: dict[str, Detour] = {}
        for detour in sorted(detours, key=lambda d: d.shortest - d.hops):
            ways.setdefault(detour.device, detour)
        worst = [f"{d.device} ({d.hops} links instead of {d.shortest})" for d in list(ways.values())[:3]]
        more = f" and {len(ways) - 3} more" if len(ways) > 3 else ""
        inside = f"VLAN {vids} the way to the gateway" if len(vids) == 1 else f"VLANs {vids} the way to {gateway}"
        says = f"In {inside} is longer than it could be from {', '.join(worst)}{more}."
        places = (Subject(device=d.device, vid=d.vid) for d in list(ways.values())[:20])
        yield Finding("tree-detour", "note", (*(Subject(vid=vid) for vid in vids), *places), says, ())
