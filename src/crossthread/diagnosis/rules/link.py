"""Findings about the two ends of one cable."""

from __future__ import annotations

from collections import Counter

import msgspec

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.edits import set_port
from crossthread.diagnosis.findings import Finding, at_port, at_station
from crossthread.diagnosis.judgement.needs import across
from crossthread.diagnosis.registry import About, rule
from crossthread.diagnosis.rules.vlan import leaks, leaks_in_words
from crossthread.network.switching.nodes import Node
from crossthread.network.topology.adjacency import Adjacency
from crossthread.network.topology.names import End
from crossthread.survey.changes import Change
from crossthread.survey.records import Port
from crossthread.values import NONE, VlanSet

_TAGS = ("trunk", "hybrid")


def _ends(context: Context, adjacency: Adjacency) -> tuple[Port, Port] | None:
    """The rows of both ends, if both are ports of bridges that were observed, and VLANs are the same at both.

    What goes into a tunnel is carried as it comes, whatever VLANs it is of.
    """
    a, b = context.port(adjacency.a), context.port(adjacency.b)
    if a is None or b is None or {"routed", "tunnel"} & {a.mode, b.mode}:
        return None
    return a, b


def like(far: Port) -> dict[str, object]:
    """The cells that make a port a trunk like the one at the far end."""
    cells: dict[str, object] = {"mode": far.mode, "allowed": str(far.allowed) if far.allowed is not None else ""}
    cells["pvid"] = NONE if far.pvid == 0 else (far.pvid or "")
    if far.untagged is not None:
        cells["untagged"] = str(far.untagged)
    return cells


def _trunk_for(context: Context, *rows: Port) -> dict[str, object]:
    """The cells of a trunk for all VLANs that have stations, where neither end says what the trunk should be."""
    used = context.used_vlans | VlanSet.of(row.pvid for row in rows if row.pvid)
    return {"mode": "trunk", "pvid": NONE, "allowed": str(used)}


def both_trunks(context: Context, adjacency: Adjacency) -> tuple[Change, ...]:
    """The changes that make both ends of a link trunks for all VLANs that have stations."""
    rows = [row for row in map(context.port, (adjacency.a, adjacency.b)) if row is not None]
    cells = _trunk_for(context, *rows)
    return (set_port(adjacency.a, **cells), set_port(adjacency.b, **cells))


@rule("link-mode-differs", "Link", About.LINK, differ="mode", cuts=True)
def link_mode_differs(context: Context, adjacency: Adjacency) -> Finding | None:
    """One end of a link is a trunk, the other an access port.

    Matters: only the access end's VLAN gets across, and perhaps into the trunk's native VLAN; all tagged frames are
    dropped.
    Notice: hosts beyond the link have no network, or those of one VLAN only.
    Confirm: compare the mode at both ends.
    Mend: make the access end a trunk like the other.
    """
    rows = _ends(context, adjacency)
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
        (set_port(wrong, **like(high)),),
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
    rows = _ends(context, adjacency)
    if rows is None or rows[0].mode != "access" or rows[1].mode != "access":
        return None
    return Finding(
        "port-mode-wrong",
        "breaks",
        (at_port(adjacency.a, vid), at_port(adjacency.b, vid)),
        f"{adjacency.a} and {adjacency.b}, the two ends of one link, are access ports "
        f"(VLAN {rows[0].pvid or 'unknown'} and {rows[1].pvid or 'unknown'}); VLAN {vid} is needed across it.",
        context.evidence(rows[0], "mode", "pvid") + context.evidence(rows[1], "mode", "pvid"),
        both_trunks(context, adjacency),
    )


@rule("link-access-vlan-differs", "Link", About.LINK, differ="pvid", cuts=True)
def link_access_vlan_differs(context: Context, adjacency: Adjacency, vid: int | None = None) -> Finding | None:
    """Both ends of a link are access ports, in different VLANs.

    Matters: the two VLANs leak into one, and neither gets to its own.
    Notice: hosts beyond the link get addresses of the wrong network, or none.
    Confirm: compare the VLAN at both ends.
    Mend: put both ends into the VLAN of the hosts beyond; make both trunks if several VLANs are needed across.
    """
    rows = _ends(context, adjacency)
    if rows is None or rows[0].mode != "access" or rows[1].mode != "access":
        return None
    if None in (rows[0].pvid, rows[1].pvid) or rows[0].pvid == rows[1].pvid:
        return None
    repair: tuple[Change, ...] = ()
    one, two = across(context, adjacency, adjacency.a)
    if len(one & two) > 1:
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
    rows = _ends(context, adjacency)
    if rows is None or rows[0].mode not in _TAGS or rows[1].mode not in _TAGS:
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
    Mend: set one native VLAN at both ends, the one that the other trunks have.
    """
    rows = _ends(context, adjacency)
    if rows is None or rows[0].mode not in _TAGS or rows[1].mode not in _TAGS:
        return None
    if None in (rows[0].pvid, rows[1].pvid) or rows[0].pvid == rows[1].pvid:
        return None
    used = context.used_vlans
    spills = any(row.pvid and row.pvid in used and row.allowed is not None and row.pvid in row.allowed for row in rows)
    found = leaks(context, adjacency)
    leaking = f" So {leaks_in_words(context, found)}." if found else ""
    common: Counter[int | None] = Counter(
        row.pvid
        for row in context.network.survey.ports
        if row.mode in _TAGS and row is not rows[0] and row is not rows[1]
    )
    keep = max(rows, key=lambda row: common[row.pvid])
    odd = adjacency.b if keep is rows[0] else adjacency.a
    odd_row = rows[1] if keep is rows[0] else rows[0]
    cells: dict[str, object] = {"pvid": keep.pvid or NONE}
    if keep.pvid and odd_row.allowed is not None and keep.pvid not in odd_row.allowed:
        cells["allowed"] = odd_row.allowed | VlanSet.of([keep.pvid])
    return Finding(
        "link-native-differs",
        "breaks" if spills else "risks",
        (at_port(adjacency.a), at_port(adjacency.b)),
        f"{adjacency.a} has the native VLAN {rows[0].pvid or NONE}, {adjacency.b} at the other end "
        f"{rows[1].pvid or NONE}.{leaking}{_tree_breaks(context, adjacency)}",
        context.evidence(rows[0], "mode", "pvid") + context.evidence(rows[1], "mode", "pvid"),
        (set_port(odd, **cells),),
    )


def _tree_breaks(context: Context, adjacency: Adjacency) -> str:
    """What differing natives do to a tree for each VLAN, whose frames go untagged in the native one."""
    rows = [context.network.fabric.trees.bridges.get(end.device, ()) for end in (adjacency.a, adjacency.b)]
    if not all(any(row.protocol == "per-vlan" for row in held) for held in rows):
        return ""
    return " The trees of these two VLANs run into each other there: each end takes the other's frames for its own."


@rule("link-vlan-missing", "Link", cuts=True, follows="link-mode-differs")
def link_vlan_missing(context: Context, adjacency: Adjacency, vid: int) -> Finding | None:
    """A VLAN that is needed beyond a trunk is not allowed on it.

    Matters: the stations of the VLAN on the two sides do not reach each other.
    Notice: the hosts of one VLAN on one side are cut off, all others work.
    Confirm: look at the allowed list at both ends, and at who is in the VLAN on each side.
    Mend: allow the VLAN at each end that lacks it.
    """
    rows = _ends(context, adjacency)
    if rows is None or rows[0].mode not in _TAGS or rows[1].mode not in _TAGS:
        return None
    lacking = [
        (end, row)
        for end, row in zip((adjacency.a, adjacency.b), rows, strict=True)
        if row.allowed is not None and vid not in row.allowed
    ]
    if not lacking:
        return None
    far = adjacency.far(lacking[0][0])
    other = f"{far} at the other end" if len(lacking) == 1 else ""
    says = f"{' and '.join(str(end) for end, _ in lacking)} {'does' if other else 'do'} not allow VLAN {vid}"
    repair = []
    for end, row in lacking:
        cells: dict[str, object] = {"allowed": (row.allowed or VlanSet()) | VlanSet.of([vid])}
        opposite = context.port(adjacency.far(end))
        if opposite is not None and opposite.pvid == vid and row.pvid != vid:
            cells["pvid"] = vid  # it arrives without a tag
        repair.append(set_port(end, **cells))
    evidence = context.evidence(rows[0], "pvid", "allowed") + context.evidence(rows[1], "pvid", "allowed")
    return Finding(
        "link-vlan-missing",
        "breaks",
        tuple(at_port(end, vid) for end, _ in lacking),
        says + (f"; {other} does." if other else ", the two ends of one link."),
        evidence,
        tuple(repair),
    )


@rule("link-allowed-differs", "Link", About.LINK, differ="allowed", follows="link-vlan-missing link-mode-differs")
def link_allowed_differs(context: Context, adjacency: Adjacency) -> Finding | None:
    """A VLAN in use is allowed at one end of a trunk only.

    Matters: it does not get across; nobody may need it there now, but whoever looks at the one end believes it does.
    Notice: nothing, until a host of that VLAN moves.
    Confirm: compare the allowed lists at both ends.
    Mend: allow the VLAN at both ends, or at neither.
    """
    rows = _ends(context, adjacency)
    if rows is None or rows[0].mode not in _TAGS or rows[1].mode not in _TAGS:
        return None
    if rows[0].allowed is None or rows[1].allowed is None:
        return None
    used = context.used_vlans
    only_a, only_b = (rows[0].allowed - rows[1].allowed) & used, (rows[1].allowed - rows[0].allowed) & used
    if not only_a and not only_b:
        return None
    parts = [f"{end} alone allows VLAN {vids}" for end, vids in ((adjacency.a, only_a), (adjacency.b, only_b)) if vids]
    return Finding(
        "link-allowed-differs",
        "risks",
        (at_port(adjacency.a), at_port(adjacency.b)),
        f"On the link between {adjacency.a} and {adjacency.b}, {'; '.join(parts)}.",
        context.evidence(rows[0], "allowed") + context.evidence(rows[1], "allowed"),
    )


@rule("link-vlan-missing", "Link", About.LINK)
def link_not_spare(context: Context, adjacency: Adjacency) -> Finding | None:
    """A redundant link lacks a VLAN that both its devices have, and one spanning tree serves all VLANs.

    Matters: the tree believes that this link can stand in for another. When it moves here, the VLAN is cut.
    Notice: nothing, until another link fails.
    Confirm: compare the allowed lists of all links of the ring.
    Mend: allow the VLAN at both ends of this link as well.
    """
    trees = context.network.fabric.trees
    if not trees.on_a_ring(adjacency.a) or adjacency.up is False or not trees.single(adjacency.a.device):
        return None
    rows = _ends(context, adjacency)
    if rows is None or rows[0].mode not in _TAGS or rows[1].mode not in _TAGS:
        return None
    if rows[0].allowed is None or rows[1].allowed is None:
        return None
    both = context.on_rings.get(adjacency.a.device, 0) & context.on_rings.get(adjacency.b.device, 0)
    lacking = VlanSet(both & context.used_vlans.bits) - (rows[0].allowed | rows[1].allowed)
    if not lacking:
        return None
    first = next(iter(lacking))
    return Finding(
        "link-vlan-missing",
        "risks",
        tuple(at_port(end, first) for end in (adjacency.a, adjacency.b)),
        f"The link between {adjacency.a} and {adjacency.b} does not carry VLAN {lacking}, which both devices have on "
        "other links of their ring; if the spanning tree comes to use this link, that VLAN is cut.",
        context.evidence(rows[0], "allowed") + context.evidence(rows[1], "allowed"),
        tuple(
            set_port(e, allowed=(r.allowed or lacking) | lacking)
            for e, r in zip((adjacency.a, adjacency.b), rows, strict=True)
        ),
    )


@rule("port-mode-wrong", "Port", About.LINK)
def uplink_access(context: Context, adjacency: Adjacency) -> Finding | None:
    """A redundant link between two switches is in access mode at both ends, where most such links are trunks.

    Matters: only one VLAN gets across; the link is of no use to the others, and the tree does not know.
    Notice: nothing, until another VLAN is needed there or another link fails.
    Confirm: look at the mode at both ends.
    Mend: make both ends trunks for the VLANs that the other links carry.
    """
    rows = _ends(context, adjacency)
    if rows is None or rows[0].mode != "access" or rows[1].mode != "access" or context.mostly_trunks is False:
        return None
    if not context.network.fabric.trees.on_a_ring(adjacency.a) or rows[0].pvid != rows[1].pvid:
        return None  # a single link that carries the one VLAN that is needed beyond it may be meant
    return Finding(
        "port-mode-wrong",
        "risks",
        (at_port(adjacency.a), at_port(adjacency.b)),
        f"{adjacency.a} and {adjacency.b}, the two ends of one link between switches, are access ports "
        f"(VLAN {rows[0].pvid or 'unknown'} and {rows[1].pvid or 'unknown'}), where most such links are trunks.",
        context.evidence(rows[0], "mode", "pvid") + context.evidence(rows[1], "mode", "pvid"),
        tuple(set_port(end, **_trunk_for(context, *rows)) for end in (adjacency.a, adjacency.b)),
    )


@rule("link-subnet-differs", "Link", About.LINK)
def link_subnet_differs(context: Context, adjacency: Adjacency) -> Finding | None:
    """The two ends of a link that route have addresses of different subnets.

    Matters: the two devices are neighbours by cable and strangers by address; nothing is routed between them there.
    Notice: routes over this link do not work.
    Confirm: compare address and prefix length of both interfaces.
    Mend: give both ends addresses of one subnet.
    """
    ends = [context.network.gateways_at.get(end, ()) for end in (adjacency.a, adjacency.b)]
    here, there = ([(s, s.address) for s in stations if s.address is not None] for stations in ends)
    for one, own in here:
        near = [(two, other) for two, other in there if two.tag == one.tag and other.version == own.version]
        if near and not any(other.network == own.network for _, other in near):
            two = near[0][0]
            return Finding(
                "link-subnet-differs",
                "risks",
                (at_station(one), at_station(two)),
                f"{one.device} {one.name} has {one.address}, {two.device} {two.name} at the other end of the link "
                f"{two.address}: different subnets.",
                context.evidence(one.row, "address") + context.evidence(two.row, "address"),
            )
    return None


def _goes_round(context: Context, adjacency: Adjacency, vid: int) -> bool:
    """Whether a VLAN may get from one end of a link to the other by what nobody surveyed."""
    fabric = context.network.fabric
    ends = Node(adjacency.a.device, vid), Node(adjacency.b.device, vid)
    return bool(fabric.open_ends) and fabric.reaches(*ends) is None


@rule("tree-blocks-vlan", "Spanning tree", cuts=True)
def blocked_by_tree(context: Context, adjacency: Adjacency, vid: int) -> Finding | None:
    """The spanning tree blocks the only link that carries a VLAN.

    Matters: the tree sees another way that it believes in, but the VLAN is not allowed there.
    Notice: a VLAN is cut, though a cable that carries it is in place.
    Confirm: look at the states of both ends, and at which other links between the two sides carry the VLAN.
    Mend: allow the VLAN on the link that the tree leaves open; or change costs so that the tree uses this one.
    """
    trees = context.network.fabric.trees
    blocked: list[End] = [e for e in (adjacency.a, adjacency.b) if trees.forwarding(e).has(vid) is False]
    if not blocked or _goes_round(context, adjacency, vid):
        return None
    evidence = tuple(
        fact
        for end in blocked
        for row in [trees.row(end, vid)]
        if row
        for fact in context.evidence(row, "role", "state")
    )
    return Finding(
        "tree-blocks-vlan",
        "breaks",
        tuple(at_port(end, vid) for end in blocked),
        f"The spanning tree blocks {' and '.join(map(str, blocked))}, and no link that it leaves open carries "
        f"VLAN {vid}.",
        evidence,
    )
