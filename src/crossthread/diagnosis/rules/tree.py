"""Findings about spanning trees as a whole: who is root, and what disagrees."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.findings import Finding, Subject
from crossthread.diagnosis.registry import About, rule
from crossthread.network.spanning.roles import BridgeId
from crossthread.network.topology.adjacency import Adjacency
from crossthread.network.topology.names import End
from crossthread.survey.changes import Change
from crossthread.survey.records import Tree
from crossthread.survey.survey import Evidence
from crossthread.views.tree import TreeAnswer, instance_of


def at_tree_port(end: End, instance: int) -> Subject:
    """A port in one tree, as what a finding is about."""
    return Subject(device=end.device, port=end.port, instance=instance)


def tree_row(context: Context, device: str, instance: int) -> Tree | None:
    """What was read of a bridge in one tree."""
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
            context.evidence(tree_row(context, root.device, answer.instance), "priority", "address"),
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
                + context.evidence(tree_row(context, actual, answer.instance), "priority", "address"),
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
            (at_tree_port(adjacency.a, instance), at_tree_port(adjacency.b, instance)),
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
        own = context.network.fabric.trees.ports.get((port.device, port.port, answer.instance))
        evidence += context.evidence(own, "role", "state", "cost")
    for bridge in answer.bridges:
        if bridge.observed_root in strange and len(evidence) < 12:
            evidence += context.evidence(
                tree_row(context, bridge.device, answer.instance), "root_priority", "root_address"
            )
    if strange and strange[0].partition("/")[2] not in known:
        why = f"they believe in the root {strange[0]}, which nobody surveyed"
    elif strange:
        why = f"some believe in the root {strange[0]}: frames of a better one do not get through, or it just moved"
    else:
        why = "a cost was set by hand, a port just moved, or frames of the tree do not get through"
    listed = ", ".join(f"{p.device} {p.port} is {p.observed_role}, not {p.role}" for p in wrong[:3])
    more = f" and {len(wrong) - 3} more" if len(wrong) > 3 else ""
    says = f"Tree {answer.instance} is not what the standard gives: {why}" + (f" ({listed}{more})" if wrong else "")
    subjects = tuple(at_tree_port(End(p.device, p.port), answer.instance) for p in wrong)
    yield Finding("tree-disagrees", "risks", subjects or (Subject(instance=answer.instance),), f"{says}.", evidence)
