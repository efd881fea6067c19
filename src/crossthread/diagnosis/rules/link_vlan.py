"""Findings about the VLANs that a link carries, where one is needed that it leaves out or a tree blocks."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import msgspec

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.edits import carry
from crossthread.diagnosis.expected.listed_vlans import ListedVlans
from crossthread.diagnosis.findings import Finding, at_port, at_station
from crossthread.diagnosis.registry import About, rule
from crossthread.diagnosis.rules.link import TAGS, ends_of, trunks_for
from crossthread.network.hosts.station import Station
from crossthread.network.switching.nodes import Node
from crossthread.network.topology.adjacency import Adjacency
from crossthread.network.topology.names import End
from crossthread.values import SOME_VID, VlanSet


@rule("link-vlan-missing", "Link", cuts=True, follows="link-mode-differs")
def link_vlan_missing(context: Context, adjacency: Adjacency, vid: int) -> Finding | None:
    """A VLAN that is needed beyond a trunk is not allowed on it.

    Matters: the stations of the VLAN on the two sides do not reach each other.
    Notice: the hosts of one VLAN on one side are cut off, all others work.
    Confirm: look at the allowed list at both ends, and at who is in the VLAN on each side.
    Mend: allow the VLAN at each end that lacks it.
    """
    rows = ends_of(context, adjacency)
    if rows is None or rows[0].mode not in TAGS or rows[1].mode not in TAGS:
        return None
    lacking = [
        (end, row)
        for end, row in zip((adjacency.a, adjacency.b), rows, strict=True)
        if row.allowed is not None and vid not in row.allowed
    ]
    if not lacking:
        return None
    far = adjacency.far(lacking[0][0])
    does = "does" if len(lacking) == 1 else "do"
    says = f"{' and '.join(str(end) for end, _ in lacking)} {does} not allow VLAN {vid}"
    says += f"; {far} at the other end does." if len(lacking) == 1 else ", the two ends of one link."
    repair = []
    for end, row in lacking:
        opposite = context.port(adjacency.far(end))
        bare = opposite is not None and opposite.pvid == vid and row.pvid != vid  # it arrives without a tag
        repair.append(carry(context, end, VlanSet.of([vid]), **({"pvid": vid} if bare else {})))
    evidence = context.evidence(rows[0], "pvid", "allowed") + context.evidence(rows[1], "pvid", "allowed")
    for end, row in lacking:
        if row.forbidden is not None and vid in row.forbidden:
            says += f" Somebody forbade it at {end}, perhaps on purpose."
            evidence += context.evidence(row, "forbidden")
    return Finding(
        "link-vlan-missing",
        "breaks",
        tuple(at_port(end, vid) for end, _ in lacking),
        says,
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
    rows = ends_of(context, adjacency)
    if rows is None or rows[0].mode not in TAGS or rows[1].mode not in TAGS:
        return None
    if rows[0].allowed is None or rows[1].allowed is None:
        return None
    used = context.used_around(adjacency.a.device, adjacency.b.device)
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
    rows = ends_of(context, adjacency)
    if rows is None or rows[0].mode not in TAGS or rows[1].mode not in TAGS:
        return None
    if rows[0].allowed is None or rows[1].allowed is None:
        return None
    lacking = _on_their_rings(context, adjacency) - (rows[0].allowed | rows[1].allowed)
    for end in (adjacency.a, adjacency.b):
        planned = context.planned_port(end).allowed
        lacking = lacking if planned is None else lacking & planned
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
        tuple(carry(context, end, lacking) for end in (adjacency.a, adjacency.b)),
    )


@rule("link-vlan-missing", "Link", About.LINK, unless=(link_allowed_differs,), follows="link-vlan-missing")
def link_carries_nothing(context: Context, adjacency: Adjacency) -> Finding | None:
    """A trunk is up, and there is no VLAN that both its ends allow.

    Matters: nothing gets across but what the devices say to each other; nobody may need it now.
    Notice: nothing, until a host beyond it needs a VLAN, or another link fails.
    Confirm: compare the allowed lists at both ends.
    Mend: allow what is to get across at both ends, or take the cable out.
    """
    rows = ends_of(context, adjacency)
    if rows is None or not adjacency.up or rows[0].mode not in TAGS or rows[1].mode not in TAGS:
        return None
    if rows[0].allowed is None or rows[1].allowed is None or rows[0].allowed & rows[1].allowed:
        return None
    return Finding(
        "link-vlan-missing",
        "note",
        (at_port(adjacency.a), at_port(adjacency.b)),
        f"The link between {adjacency.a} and {adjacency.b} carries no VLAN: none is allowed at both ends.",
        context.evidence(rows[0], "allowed") + context.evidence(rows[1], "allowed"),
    )


@rule("port-mode-wrong", "Port", About.LINK)
def uplink_access(context: Context, adjacency: Adjacency) -> Finding | None:
    """A redundant link between two switches is in access mode at both ends, where most such links are trunks.

    Or both switches have more VLANs on the other links of their ring, and one spanning tree serves all.

    Matters: only one VLAN gets across; the link is of no use to the others, and the tree does not know.
    Notice: nothing, until another VLAN is needed there or another link fails.
    Confirm: look at the mode at both ends.
    Mend: make both ends trunks for the VLANs that the other links carry.
    """
    rows = ends_of(context, adjacency)
    if rows is None or rows[0].mode != "access" or rows[1].mode != "access" or rows[0].pvid != rows[1].pvid:
        return None
    if adjacency.a not in context.cabled_in_rings:
        return None  # a single link that carries the one VLAN that is needed beyond it may be meant
    if all(context.planned_port(end).mode == "access" for end in (adjacency.a, adjacency.b)):
        return None
    says = "where most such links are trunks"
    if context.mostly_trunks is False:
        besides = _besides(context, adjacency, rows[0].pvid)
        says = f"and both devices have VLAN {besides} besides on other links of their ring"
        if not besides:
            return None
    return Finding(
        "port-mode-wrong",
        "risks",
        (at_port(adjacency.a), at_port(adjacency.b)),
        f"{adjacency.a} and {adjacency.b}, the two ends of one link between switches, are access ports "
        f"(VLAN {rows[0].pvid or 'unknown'} and {rows[1].pvid or 'unknown'}), {says}.",
        context.evidence(rows[0], "mode", "pvid") + context.evidence(rows[1], "mode", "pvid"),
        trunks_for(context, adjacency, *rows),
    )


def _besides(context: Context, adjacency: Adjacency, vid: int | None) -> VlanSet:
    """The VLANs besides one that both devices of a link have on links of their ring, if one tree serves all."""
    trees, devices = context.network.fabric.trees, (adjacency.a.device, adjacency.b.device)
    if not trees.on_a_ring(adjacency.a) or adjacency.up is False or not trees.single(devices[0]):
        return VlanSet()
    return _on_their_rings(context, adjacency) - VlanSet.of([vid] if vid else [])


def _on_their_rings(context: Context, adjacency: Adjacency) -> VlanSet:
    """The VLANs in which somebody is and that both devices of a link have on links of their ring."""
    devices = adjacency.a.device, adjacency.b.device
    both = context.on_rings.get(devices[0], 0) & context.on_rings.get(devices[1], 0)
    found = VlanSet(both) & context.used_around(*devices)
    return found - VlanSet.of(filter(context.once(ListedVlans).misses, found))  # somebody's port may be in a wrong one


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
        near = [(two, other) for two, other in there if two.tag == one.tag != SOME_VID and other.version == own.version]
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
        for fact in context.evidence(row, *(c for c in ("role", "state") if getattr(row, c) is not None))
    )
    return Finding(
        "tree-blocks-vlan",
        "breaks",
        tuple(at_port(end, vid) for end in blocked),
        f"The spanning tree blocks {' and '.join(map(str, blocked))}, and no link that it leaves open carries "
        f"VLAN {vid}.",
        evidence,
    )


def blocked_between(context: Context, vid: int, pieces: Sequence[Sequence[Station]]) -> Iterator[Finding]:
    """The links that carry a VLAN between pieces of it, and that the tree blocks; rightly, if others lack it."""
    part, fabric = context.network.components.of, context.network.fabric
    parts = {part(Node(tap.device, vid)) for piece in pieces for station in piece for tap in station.taps}
    for adjacency in context.network.adjacencies:
        ends = adjacency.a, adjacency.b
        joined = {part(Node(end.device, vid)) for end in ends}
        if len(joined) > 1 and joined <= parts and adjacency.up and all(fabric.carried(e).has(vid) for e in ends):
            rows = (fabric.trees.row(end, vid) for end in ends)
            closed = any(row is not None and row.disabled for row in rows)
            told = blocked_by_tree(context, adjacency, vid) if not closed else None
            yield from [msgspec.structs.replace(told, severity="risks")] if told is not None else []
