"""Findings about the two ends of one cable."""

from __future__ import annotations

from collections import Counter

import msgspec

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.edits import planned_trunk, set_port
from crossthread.diagnosis.findings import Finding, at_port
from crossthread.diagnosis.judgement.needs import across, native_lost
from crossthread.diagnosis.registry import About, rule
from crossthread.diagnosis.rules.vlan import leaks, leaks_in_words
from crossthread.network.topology.adjacency import Adjacency
from crossthread.network.topology.names import End
from crossthread.survey.changes import Change
from crossthread.survey.port_modes import untagged_by_mode
from crossthread.survey.records import Port
from crossthread.values import NONE, VlanSet

TAGS = ("trunk", "hybrid")
_APART = ("routed", "tunnel")


def ends_of(context: Context, adjacency: Adjacency) -> tuple[Port, Port] | None:
    """The rows of both ends, if both are ports of bridges that were observed, and VLANs are the same at both.

    What goes into a tunnel is carried as it comes, whatever VLANs it is of.
    """
    a, b = context.port(adjacency.a), context.port(adjacency.b)
    if a is None or b is None or a.mode in _APART or b.mode in _APART:
        return None
    return a, b


def like(far: Port) -> dict[str, object]:
    """The cells that make a port a trunk like the one at the far end."""
    cells: dict[str, object] = {"mode": far.mode, "allowed": str(far.allowed) if far.allowed is not None else ""}
    cells["pvid"] = NONE if far.pvid == 0 else (far.pvid or "")
    if far.untagged is not None and far.untagged != untagged_by_mode(far):
        cells["untagged"] = str(far.untagged)
    return cells


def trunks_for(context: Context, adjacency: Adjacency, *rows: Port, vid: int | None = None) -> tuple[Change, ...]:
    """The changes that make both ends trunks, as planned, else for all VLANs with stations and one that is needed.

    None where nobody read what VLAN an access port carries now: who uses it may lose it by that.
    """
    if any(row.mode == "access" and row.pvid is None for row in rows):
        return ()
    near = VlanSet.of([*(row.pvid for row in rows if row.pvid), *([vid] if vid else [])])
    used = context.used_around(adjacency.a.device, adjacency.b.device) | near
    cells = {"mode": "trunk", "pvid": NONE, "allowed": used}
    return tuple(set_port(end, **cells | planned_trunk(context, end)) for end in (adjacency.a, adjacency.b))


def both_trunks(context: Context, adjacency: Adjacency, vid: int | None = None) -> tuple[Change, ...]:
    """The same for what was observed of the two ends."""
    rows = [row for row in map(context.port, (adjacency.a, adjacency.b)) if row is not None]
    return trunks_for(context, adjacency, *rows, vid=vid)


@rule("link-access-vlan-differs", "Link", About.LINK, differ="pvid", cuts=True)
def link_access_vlan_differs(context: Context, adjacency: Adjacency, vid: int | None = None) -> Finding | None:
    """Both ends of a link are access ports, in different VLANs.

    Matters: the two VLANs leak into one, and neither gets to its own.
    Notice: hosts beyond the link get addresses of the wrong network, or none.
    Confirm: compare the VLAN at both ends.
    Mend: put both ends into the VLAN of the hosts beyond; make both trunks if several VLANs are needed across.
    """
    rows = ends_of(context, adjacency)
    if rows is None or rows[0].mode != "access" or rows[1].mode != "access":
        return None
    if None in (rows[0].pvid, rows[1].pvid) or rows[0].pvid == rows[1].pvid:
        return None
    repair: tuple[Change, ...] = ()
    one, two = across(context, adjacency, adjacency.a)
    planned = {context.planned_port(end).mode for end in (adjacency.a, adjacency.b)}
    if len(one & two) > 1 or planned & set(TAGS):
        repair = both_trunks(context, adjacency)
    elif vid in (rows[0].pvid, rows[1].pvid):
        repair = (set_port(adjacency.b if rows[0].pvid == vid else adjacency.a, pvid=vid),)
    return Finding(
        "link-access-vlan-differs",
        "breaks",
        (at_port(adjacency.a), at_port(adjacency.b)),
        f"{adjacency.a} is an access port of VLAN {rows[0].pvid or NONE}, {adjacency.b} at the other end of VLAN "
        f"{rows[1].pvid or NONE}.",
        context.evidence(rows[0], "mode", "pvid") + context.evidence(rows[1], "mode", "pvid"),
        repair,
    )


@rule("link-tagging-differs", "Link", About.LINK, differ="tagging", cuts=True)
def link_tagging_differs(context: Context, adjacency: Adjacency) -> Finding | None:
    """The two ends of a trunk use different tag types.

    Matters: each end takes the other's tagged frames for something else and drops them.
    Notice: all tagged VLANs are cut on this link.
    Confirm: compare the tag type (IEEE 802.1Q clause 9.4) at both ends.
    Mend: set the tag type 802.1Q at both ends, or whatever the other links have.
    """
    rows = ends_of(context, adjacency)
    if rows is None or rows[0].mode not in TAGS or rows[1].mode not in TAGS:
        return None
    one, two = (row.tagging or "802.1Q" for row in rows)
    if one.casefold() == two.casefold():
        return None
    odd = adjacency.a if one.casefold() != "802.1q" else adjacency.b
    kept = two if odd == adjacency.a else one
    return Finding(
        "link-tagging-differs",
        "breaks",
        (at_port(adjacency.a), at_port(adjacency.b)),
        f"{adjacency.a} tags with {one}, {adjacency.b} at the other end with {two}.",
        context.evidence(rows[0], "tagging") + context.evidence(rows[1], "tagging"),
        (set_port(odd, tagging=kept),),
    )


@rule("link-native-differs", "Link", About.LINK, differ="pvid", cuts=True, follows="link-mode-differs")
def link_native_differs(context: Context, adjacency: Adjacency) -> Finding | None:
    """The two ends of a trunk have different native VLANs.

    Matters: what leaves one end untagged joins another VLAN at the other: two VLANs leak into each other, and neither
    gets to itself. Trees per VLAN break, too.
    Notice: hosts reach others that they should not, and not those that they should.
    Confirm: compare the native VLAN (PVID) at both ends.
    Decide: ask which native VLAN this trunk is meant to have; an earlier configuration of either end, or whoever
    changed one last, tells it.
    Mend: set one native VLAN at both ends, the one that the other trunks have.
    """
    rows = ends_of(context, adjacency)
    if rows is None or rows[0].mode not in TAGS or rows[1].mode not in TAGS:
        return None
    if None in (rows[0].pvid, rows[1].pvid) or rows[0].pvid == rows[1].pvid:
        return None
    used = context.used_around(adjacency.a.device, adjacency.b.device)
    spills = any(row.pvid and row.pvid in used and row.allowed is not None and row.pvid in row.allowed for row in rows)
    found = leaks(context, adjacency)
    leaking = f" So {leaks_in_words(context, found)}." if found else ""
    common: Counter[int | None] = Counter(
        row.pvid
        for row in context.network.survey.ports
        if row.mode in TAGS and row is not rows[0] and row is not rows[1]
    )
    fits = {id(row): row.pvid in (other.allowed or ()) for row, other in (rows, rows[::-1])}
    lost = {id(row): native_lost(other, row) for row, other in (rows, rows[::-1])}
    keep = max(rows, key=lambda row: (lost[id(row)], common[row.pvid], fits[id(row)]))  # the far end lists it, at least
    odd = adjacency.b if keep is rows[0] else adjacency.a
    odd_row = rows[1] if keep is rows[0] else rows[0]
    repair: tuple[Change, ...] = (with_native(odd, odd_row, keep.pvid),)
    ends = tuple(zip((adjacency.a, adjacency.b), rows, strict=True))
    if len(planned := {context.planned_native(end) for end, _ in ends} - {None}) == 1:
        (native,) = planned
        repair = tuple(_as_planned(context, end, row, native) for end, row in ends if row.pvid != native)
    return Finding(
        "link-native-differs",
        "breaks" if spills else "risks",
        (at_port(adjacency.a), at_port(adjacency.b)),
        f"{adjacency.a} has the native VLAN {rows[0].pvid or NONE}, {adjacency.b} at the other end "
        f"{rows[1].pvid or NONE}.{leaking}{_tree_breaks(context, adjacency)}",
        context.evidence(rows[0], "mode", "pvid") + context.evidence(rows[1], "mode", "pvid"),
        repair,
    )


def _as_planned(context: Context, end: End, row: Port, native: int | None) -> Change:
    """Give a trunk's end the native VLAN that is planned, and whatever else the plan lets it carry."""
    planned = context.planned_port(end).allowed
    if row.allowed is None or planned is None or not planned - row.allowed:
        return with_native(end, row, native)
    wider = msgspec.structs.replace(row, allowed=row.allowed | planned)
    return set_port(end, **{"allowed": wider.allowed, **with_native(end, wider, native).cells})


def with_native(end: End, row: Port, vid: int | None) -> Change:
    """Give a trunk's end the native VLAN of the other, which its list then has as well; and sends without a tag."""
    cells: dict[str, object] = {"pvid": vid or NONE}
    if vid and row.mode in TAGS and row.allowed is not None and vid not in row.allowed:
        cells["allowed"] = row.allowed | VlanSet.of([vid])
    if row.mode == "hybrid" and row.untagged is not None and row.pvid and row.pvid in row.untagged:
        cells["untagged"] = row.untagged - VlanSet.of([row.pvid]) | VlanSet.of([vid] if vid else ())
    return set_port(end, **cells)


def _tree_breaks(context: Context, adjacency: Adjacency) -> str:
    """What differing natives do to a tree for each VLAN, whose frames go untagged in the native one."""
    rows = [context.network.fabric.trees.bridges.get(end.device, ()) for end in (adjacency.a, adjacency.b)]
    if not all(any(row.protocol == "per-vlan" for row in held) for held in rows):
        return ""
    return " The trees of these two VLANs run into each other there: each end takes the other's frames for its own."
