"""Findings about spanning trees: who is root, what disagrees, where nothing cuts a loop."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Mapping

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.detours import Detour, find_detours
from crossthread.diagnosis.findings import Finding, Subject
from crossthread.diagnosis.registry import About, rule
from crossthread.network.spanning.roles import BridgeId
from crossthread.network.three_valued import vids_in
from crossthread.network.topology.adjacency import Adjacency
from crossthread.network.topology.names import End
from crossthread.survey.changes import Change
from crossthread.survey.records import Tree
from crossthread.survey.survey import Evidence
from crossthread.values import VlanSet
from crossthread.views.tree import TreeAnswer, instance_of


def _at(end: End, instance: int) -> Subject:
    return Subject(device=end.device, port=end.port, instance=instance)


def _row(context: Context, device: str, instance: int) -> Tree | None:
    rows = context.network.fabric.trees.bridges.get(device, [])
    return next((row for row in rows if row.instance == instance), None)


ROOT, BACKUP = 4096, 8192
"""The priorities to set: low enough to win by intent, with room below for an emergency."""


def priorities_for(instance: int, root: str, backup: str | None, bridges: Mapping[str, BridgeId]) -> tuple[Change, ...]:
    """The priorities with which a bridge surely is root, and another the next best one, whatever others have now."""
    wanted = {device: own.priority for device, own in bridges.items()}
    if min(bridges, key=bridges.__getitem__) != root or wanted[root] > ROOT:
        wanted[root] = ROOT
    rest = [priority for device, priority in wanted.items() if device not in (root, backup)]
    if backup is not None and not wanted[root] < wanted[backup] < min(rest, default=1 << 16):
        wanted[backup] = max(BACKUP, wanted[root] + 4096)
    last = wanted[backup] if backup is not None else wanted[root]
    wanted |= {d: 32768 for d, priority in wanted.items() if d not in (root, backup) and priority <= last}
    return tuple(
        Change("trees", {"device": device, "instance": instance}, {"priority": priority})
        for device, priority in sorted(wanted.items(), key=lambda pair: pair[1])
        if priority != bridges[device].priority
    )


@rule("tree-root-by-default", "Spanning tree", About.TREE)
def tree_root_by_default(context: Context, answer: TreeAnswer) -> Iterator[Finding]:
    """A bridge is root only because its MAC address is the lowest.

    Matters: nobody chose it. The tree may lead through an old switch at the edge, and a new switch with a lower address
    takes the root over when it is plugged in.
    Notice: traffic between neighbours goes a long way round; a short break whenever the root changes.
    Confirm: compare the priorities of all bridges with the root's.
    Mend: set a low priority on the bridge that should be root, and the next on its backup.
    """
    bridges = dict(context.network.fabric.trees.inputs(answer.instance).bridges)
    for root in answer.roots:
        members = [bridge.device for bridge in answer.bridges if bridge.root == root.device]
        if root.how != "default" or len(members) < 2:
            continue
        planned = {entry.root.casefold() for entry in context.plan.vlans.values() if entry.root}
        if planned and root.device.casefold() not in planned:
            continue  # another is planned, which `tree_root_unplanned` says
        own = {device: bridges[device] for device in members if device in bridges}
        mend = priorities_for(answer.instance, root.device, None, own) if root.device in own else ()
        yield Finding(
            "tree-root-by-default",
            "risks",
            (Subject(device=root.device, instance=answer.instance),),
            f"{root.device} is root of tree {answer.instance} by default: {root.because}.",
            context.evidence(_row(context, root.device, answer.instance), "priority", "address"),
            mend,
        )


@rule("tree-root-unplanned", "Spanning tree", About.CAMPUS)
def tree_root_unplanned(context: Context) -> Iterator[Finding]:
    """The root of a VLAN's tree, or its backup, is not the one that was planned.

    Matters: frames go other ways than intended.
    Notice: links that were to carry the load are idle, others are full.
    Confirm: look who the root is, and at the priorities of both bridges.
    Mend: set a lower priority on the planned root than any other bridge has.
    """
    for vid, entry in context.plan.vlans.items():
        if entry.root is None and entry.backup_root is None:
            continue
        instances = {row.instance for rows in context.network.fabric.trees.bridges.values() for row in rows}
        if not instances:
            return
        answer = context.tree(instance_of(context.network, vid))
        order = sorted(
            answer.bridges,
            key=lambda b: (
                (int(b.identifier.partition("/")[0] or 0), b.identifier) if b.identifier != "?" else (1 << 20, "")
            ),
        )
        bridges = dict(context.network.fabric.trees.inputs(answer.instance).bridges)
        found = [answer.root, next((b.device for b in order if b.device != answer.root), None)]
        for word, wanted, actual in (("root", entry.root, found[0]), ("backup_root", entry.backup_root, found[1])):
            if wanted is None or actual is None or wanted.casefold() == actual.casefold():
                continue
            device = context.network.names.device(wanted) or wanted
            root = device if word == "root" else context.network.names.device(entry.root or "") or found[0] or ""
            known = {root, device} <= set(bridges)
            mend = priorities_for(answer.instance, root, device if device != root else None, bridges) if known else ()
            what = "root" if word == "root" else "backup root (the next best bridge)"
            yield Finding(
                "tree-root-unplanned",
                "risks",
                (Subject(device=actual, vid=vid, instance=answer.instance),),
                f"{actual} is the {what} of VLAN {vid}'s tree {answer.instance}, where {wanted} is planned.",
                context.plan.evidence(entry, {"vlans": vid}, word)
                + context.evidence(_row(context, actual, answer.instance), "priority", "address"),
                mend,
            )


@rule(
    "tree-roots-several",
    "Spanning tree",
    About.LINK,
    follows="link-mode-differs link-native-differs tree-guard-tripped",
)
def tree_roots_several(context: Context, adjacency: Adjacency) -> Finding | None:
    """Two bridges on one link believe in different roots.

    Matters: they do not hear each other's frames of the spanning tree, so nothing cuts a loop through this link.
    Notice: a storm, or hosts that are learned on one port and then on another.
    Confirm: read the root that each of the two believes in; look whether the link passes frames both ways.
    Mend: find what keeps the frames of the tree off the link: a filter, a one-way fibre, a different native VLAN.
    """
    if adjacency.up is not True:
        return None
    here, there = (
        {row.instance: row for row in context.network.fabric.trees.bridges.get(end.device, ())}
        for end in (adjacency.a, adjacency.b)
    )
    for instance in sorted(here.keys() & there.keys()):
        one, two = here[instance], there[instance]
        if one.protocol != two.protocol or one.protocol == "off" or (one.region != two.region and instance):
            continue
        if not one.root_address or not two.root_address or one.root_address == two.root_address:
            continue
        if instance and one.protocol == "per-vlan":
            fabric = context.network.fabric
            if not all(fabric.carried(end).sure >> instance & 1 for end in (adjacency.a, adjacency.b)):
                continue
        return Finding(
            "tree-roots-several",
            "risks",
            (_at(adjacency.a, instance), _at(adjacency.b, instance)),
            f"{adjacency.a.device} believes that {one.root_address} is root of tree {instance}, "
            f"{adjacency.b.device} on the same link {two.root_address}.",
            context.evidence(one, "root_priority", "root_address")
            + context.evidence(two, "root_priority", "root_address"),
        )
    return None


@rule("tree-disagrees", "Spanning tree", About.TREE)
def tree_disagrees(context: Context, answer: TreeAnswer) -> Iterator[Finding]:
    """What the bridges say of their tree is not what the standard gives for what was observed of them.

    Matters: something takes part that is not in the survey, or frames of the tree do not get through; or the survey
    was taken while the tree moved.
    Notice: nothing, or ways that nobody can explain.
    Confirm: read the root, the priorities and the costs again on the bridges that are named.
    Mend: find the bridge that is missing from the survey, or the cost that was set by hand.
    """
    wrong = [p for p in answer.ports if p.observed_role not in (None, "disabled", p.role) and p.state != "unknown"]
    computed = {root.identifier: root.device for root in answer.roots if root.how != "reported"}
    whole = len(answer.bridges) > 1 and not context.network.open_ends  # else the root may be where nobody looked
    surveyed = {bridge.identifier.partition("/")[2] for bridge in answer.bridges}
    believed = {
        b.observed_root
        for b in answer.bridges
        if b.observed_root
        and "None" not in b.observed_root
        and (b.root in computed.values() or (whole and b.observed_root.partition("/")[2] not in surveyed))
    }
    strange = sorted(believed - computed.keys())
    if not wrong and not strange:
        return
    known = {bridge.identifier.partition("/")[2] for bridge in answer.bridges}
    evidence: tuple[Evidence, ...] = ()
    for port in wrong[:4]:
        row = context.network.fabric.trees.ports.get((port.device, port.port, answer.instance))
        evidence += context.evidence(row, "role", "state", "cost")
    for bridge in answer.bridges:
        if bridge.observed_root in strange and len(evidence) < 12:
            evidence += context.evidence(_row(context, bridge.device, answer.instance), "root_priority", "root_address")
    if strange and strange[0].partition("/")[2] not in known:
        why = f"they believe in the root {strange[0]}, which nobody surveyed"
    elif strange:
        why = f"some believe in the root {strange[0]}: frames of a better one do not get through, or it just moved"
    else:
        why = "a cost was set by hand, a port just moved, or frames of the tree do not get through"
    listed = ", ".join(f"{p.device} {p.port} is {p.observed_role}, not {p.role}" for p in wrong[:3])
    more = f" and {len(wrong) - 3} more" if len(wrong) > 3 else ""
    says = f"Tree {answer.instance} is not what the standard gives: {why}" + (f" ({listed}{more})" if wrong else "")
    subjects = tuple(_at(End(p.device, p.port), answer.instance) for p in wrong)
    yield Finding("tree-disagrees", "risks", subjects or (Subject(instance=answer.instance),), f"{says}.", evidence)


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
        tuple(_at(end, rows[0].instance) for end in ring),
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
        (_at(end, off[0].instance),),
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
                (_at(end, row.instance),),
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
    rows = [_row(context, end.device, 0) for end in (adjacency.a, adjacency.b)]
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
        (_at(adjacency.a, 0), _at(adjacency.b, 0)),
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
