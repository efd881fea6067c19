"""Findings about two ends of one cable that do not take each other for what they are: trunk, access port, routed."""

from __future__ import annotations

import msgspec

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.edits import planned_trunk, set_port
from crossthread.diagnosis.findings import Finding, at_port
from crossthread.diagnosis.judgement.needs import across
from crossthread.diagnosis.registry import About, rule
from crossthread.diagnosis.rules.link import TAGS, both_trunks, ends_of, like
from crossthread.network.topology.adjacency import Adjacency
from crossthread.network.topology.names import End
from crossthread.survey.changes import Change
from crossthread.values import NONE, VlanSet


@rule("link-mode-differs", "Link", About.LINK, differ="mode", cuts=True)
def link_mode_differs(context: Context, adjacency: Adjacency) -> Finding | None:
    """One end of a link is a trunk, the other an access port.

    Matters: only the access end's VLAN gets across, and perhaps into the trunk's native VLAN; all tagged frames are
    dropped.
    Notice: hosts beyond the link have no network, or those of one VLAN only.
    Confirm: compare the mode at both ends.
    Mend: make the access end a trunk like the other.
    """
    rows = ends_of(context, adjacency)
    if rows is None or rows[0].mode == rows[1].mode or None in (rows[0].mode, rows[1].mode):
        return None
    if "access" not in (rows[0].mode, rows[1].mode):
        return None
    wrong, right = (adjacency.a, adjacency.b) if rows[0].mode == "access" else (adjacency.b, adjacency.a)
    low, high = (rows[0], rows[1]) if rows[0].mode == "access" else (rows[1], rows[0])
    return Finding(
        "link-mode-differs",
        "breaks",
        (at_port(wrong), at_port(right)),
        f"{wrong} is an access port (VLAN {low.pvid or 'unknown'}), but {right} at the other end is a {high.mode}.",
        context.evidence(low, "mode", "pvid") + context.evidence(high, "mode", "pvid", "allowed"),
        (set_port(wrong, **like(high) | planned_trunk(context, wrong)),),
    )


def trunk_lacks(context: Context, adjacency: Adjacency, vid: int, differs: Finding) -> Finding:
    """Extend the mend of `link_mode_differs` to a VLAN that the trunk end lacks as well."""
    ends = (adjacency.a, adjacency.b)
    high = next(end for end in ends if at_port(end) == differs.subjects[1])
    row = context.port(high)
    wider = ((row.allowed if row else None) or VlanSet()) | VlanSet.of([vid])
    repair = tuple(
        msgspec.structs.replace(change, cells={**change.cells, "allowed": str(wider)}) for change in differs.repair
    )
    return msgspec.structs.replace(
        differs,
        says=f"{differs.says} Neither carries VLAN {vid}.",
        repair=(*repair, set_port(high, allowed=wider)),
    )


@rule("port-mode-wrong", "Port")
def link_access_both(context: Context, adjacency: Adjacency, vid: int) -> Finding | None:
    """Both ends of a link between switches are access ports, and other VLANs are needed across it.

    Matters: only that one VLAN gets across, without a tag.
    Notice: hosts of other VLANs beyond the link have no network.
    Confirm: look at the mode at both ends, and at which VLANs have hosts on both sides.
    Mend: make both ends trunks for the VLANs needed.
    """
    rows = ends_of(context, adjacency)
    if rows is None or rows[0].mode != "access" or rows[1].mode != "access":
        return None
    return Finding(
        "port-mode-wrong",
        "breaks",
        (at_port(adjacency.a, vid), at_port(adjacency.b, vid)),
        f"{adjacency.a} and {adjacency.b}, the two ends of one link, are access ports "
        f"(VLAN {rows[0].pvid or 'unknown'} and {rows[1].pvid or 'unknown'}); VLAN {vid} is needed across it.",
        context.evidence(rows[0], "mode", "pvid") + context.evidence(rows[1], "mode", "pvid"),
        both_trunks(context, adjacency, vid),
    )


@rule("link-mode-differs", "Link", About.LINK, differ="mode", cuts=True)
def link_end_routed(context: Context, adjacency: Adjacency) -> Finding | None:
    """One end of a link between bridges routes, and no interface with an address is there.

    Matters: the port belongs to no VLAN; nothing gets across.
    Notice: everything beyond the link has no network.
    Confirm: compare the mode at both ends, and look whether the device has an address at that port.
    Mend: make the end that routes a trunk like the other; make both trunks if several VLANs are needed across.
    """
    rows = {end: row for end in (adjacency.a, adjacency.b) if (row := context.port(end)) is not None}
    odd = next((end for end, row in rows.items() if row.mode == "routed"), None)
    far = rows.get(adjacency.far(odd)) if odd is not None else None
    if odd is None or far is None or far.mode not in (*TAGS, "access") or not routes_by_mistake(context, odd):
        return None
    repair: tuple[Change, ...] = ()
    one, two = across(context, adjacency, odd)
    if far.mode in TAGS:
        repair = (set_port(odd, **like(far) | planned_trunk(context, odd)),)
    elif len(one & two) > 1:
        repair = both_trunks(context, adjacency)
    return Finding(
        "link-mode-differs",
        "breaks",
        (at_port(odd), at_port(adjacency.far(odd))),
        f"{odd} routes and has no address, but {adjacency.far(odd)} at the other end is a"
        f"{'n access port' if far.mode == 'access' else f' {far.mode}'}.",
        context.evidence(rows[odd], "mode") + context.evidence(far, "mode", "pvid", "allowed"),
        repair,
    )


def routes_by_mistake(context: Context, end: End) -> bool:
    """Whether a port that routes belongs to a bridge, which has no interface there and can have lost none."""
    network = context.network
    beside = (row for name, row in network.names.ports[end.device].items() if name != end.port)
    if network.gateways_at.get(end) or not network.covered.fully(end.device, "gateways"):
        return False
    asked_for = {*network.survey.distinct("hosts", "gateway"), *network.survey.distinct("routes", "next_hop")}
    lost = any(hop not in network.stations.by_address for hop in asked_for - {None, NONE})
    inside = any(s.end is None and s.row.vid for s in network.stations.on_device.get(end.device, ()))
    return not lost and (inside or any(row.mode in (*TAGS, "access") for row in beside))
