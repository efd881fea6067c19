"""Findings about what keeps frames from a link: access control, guards, bundles, one-way links, phones' VLANs."""

from __future__ import annotations

from crossthread.diagnosis.context import Context, in_use
from crossthread.diagnosis.edits import set_port
from crossthread.diagnosis.findings import Finding, at_port
from crossthread.diagnosis.registry import About, rule
from crossthread.network.switching.nodes import Node
from crossthread.network.topology.adjacency import bundle
from crossthread.network.topology.links import Link
from crossthread.network.topology.names import End
from crossthread.survey.changes import Change
from crossthread.values import NONE

_BUSY = 1000
"""From how many packets on it tells something that none of them arrived."""


@rule("port-unauthorized", "What stands between", About.PORT, needs="ports.authorized=no", where=in_use, cuts=True)
def port_unauthorized(context: Context, end: End) -> Finding | None:
    """Access control has not let the station at a port in (IEEE 802.1X).

    Matters: the port carries nothing, though its link is up.
    Notice: a host with a link and no network; often after its certificate or password ran out.
    Confirm: look at the port's access-control state, and at what the station sent and the server answered.
    Mend: mend the station's credentials; or take the port out of access control, if it was not meant to be in it.
    """
    row = context.port(end)
    if row is None or row.authorized != "no":
        return None
    users = [host.name for host in context.hosts_at(end)] or [
        str(a.far(end)) for a in context.adjacencies_at.get(end, ())
    ]
    whom = f", so that it carries nothing of {' and '.join(users)}" if users else ""
    return Finding(
        "port-unauthorized",
        "breaks",
        (at_port(end),),
        f"{end} has not authorized its station{whom}.",
        context.evidence(row, "authorized", "oper"),
        (set_port(end, authorized="yes"),),
    )


@rule(
    "tree-guard-tripped", "What stands between", About.PORT, needs="tree_ports.role=disabled", where=in_use, cuts=True
)
def tree_guard_tripped(context: Context, end: End) -> Finding | None:
    """A guard or a protection of the spanning tree holds a port closed that has a link.

    Matters: the port carries nothing until what tripped the guard is gone; no path cost opens it.
    Notice: a link that is up and dead, often right after somebody plugged in a switch.
    Confirm: look which guard the port has and when it closed it; see whether frames of the tree still arrive there.
    Mend: take away what tripped it (a bridge at an edge port, a better root, a loop), then open the port again.
    """
    row = context.port(end)
    trees = context.network.fabric.trees
    if row is None or row.oper != "up" or trees.off(end.device):
        return None
    closed = [
        told
        for instance in trees.instances(end.device)
        if (told := trees.ports.get((*end, instance))) is not None and told.disabled and told.guarded
    ]
    if not closed:
        return None
    guard = next((told.guard for told in closed if told.guard not in (None, NONE)), None)
    which = f"the guard “{guard}”" if guard else "the protection of edge ports"
    return Finding(
        "tree-guard-tripped",
        "breaks",
        (at_port(end),),
        f"{end} has a link, but {which} of the spanning tree holds it closed: something it heard tripped it.",
        context.evidence(closed[0], "role", "state", "guard", "edge") + context.evidence(row, "oper"),
    )


@rule(
    "link-lag-detached",
    "What stands between",
    About.PORT,
    needs="ports.lag_state=detached",
    follows="port-admin-down port-down link-lag-detached",
)
def link_lag_detached(context: Context, end: End) -> Finding | None:
    """A member of a bundle of links has a link and takes no part in the bundle.

    Matters: the bundle is narrower than it looks, or down with all its members lit (IEEE 802.1AX).
    Notice: half the speed; or a dead connection though every lamp is on.
    Confirm: compare the members at both ends: aggregation on at both, the same speed, the same partner at each.
    Mend: bundle the same ports in the same way at both ends; put cables that lead elsewhere where they belong.
    """
    row = context.port(end)
    if row is None or row.lag_state != "detached" or row.oper == "down" or row.admin == "down":
        return None
    whole = bundle(end, context.network.names)
    members = [
        other
        for name, other in context.network.names.ports.get(end.device, {}).items()
        if bundle(End(end.device, name), context.network.names) == whole and End(end.device, name) != whole
    ]
    first = next((other for other in members if other.lag_state == "detached" and other.oper != "down"), row)
    if first.port != row.port:
        return None  # one bundle, one finding
    out = [other.port for other in members if other.lag_state == "detached" and other.oper != "down"]
    alive = any(other.lag_state == "attached" for other in members)
    faces = {str(link.far(end).device) for link in context.network.links if end in (link.a, link.b)}
    where = f" (towards {' and '.join(sorted(faces))})" if faces else ""
    state = "is narrower than it looks" if alive else "carries nothing"
    usual = {other.lag_partner for other in members if other.lag_state == "attached" and other.lag_partner}
    strange = {o.lag_partner for o in members if o.port in out and o.lag_partner} - usual if usual else set()
    aside = (
        f" At the other end is {', '.join(sorted(filter(None, strange)))}, not {', '.join(sorted(usual))}."
        if strange
        else ""
    )
    return Finding(
        "link-lag-detached",
        "risks" if alive else "breaks",
        (at_port(whole), *(at_port(End(end.device, port)) for port in out)),
        f"{' and '.join(out)} of {whole}{where} {'have' if len(out) > 1 else 'has'} a link but "
        f"{'do' if len(out) > 1 else 'does'} not bundle, so that it {state}.{aside}",
        tuple(
            fact
            for other in members
            for fact in context.evidence(other, "lag_state", "oper", *(["lag_partner"] if strange else []))
        ),
    )


@rule("link-one-way", "What stands between", About.CABLE)
def link_one_way(context: Context, link: Link) -> Finding | None:
    """Frames pass a link in one direction only.

    Matters: one end hears and is not heard: questions get there and no answers come back; a ring may stay open.
    Notice: neighbours are heard at one end only; the counters of one direction stand still.
    Confirm: read the counters of both ends twice; look whether each hears the other's discovery frames.
    Mend: replace the fibre or the optic of the silent direction; put a pair of crossed strands right.
    """
    ends = ((link.a, link.b), (link.b, link.a))
    for near, far in ends if link.up else ():
        sends, hears = context.port(near), context.port(far)
        if sends is None or hears is None or hears.in_packets != 0 or (sends.out_packets or 0) < _BUSY:
            continue
        return Finding(
            "link-one-way",
            "risks",
            (at_port(near), at_port(far)),
            f"{near} sent {sends.out_packets:,} packets, and {far}, at the other end, has received none.",
            context.evidence(sends, "out_packets") + context.evidence(hears, "in_packets"),
        )
    return None


@rule("voice-vlan-missing", "What stands between", About.PORT, needs="ports.voice")
def voice_vlan_missing(context: Context, end: End) -> Finding | None:
    """A port tells phones to tag a VLAN that does not exist on its device, or gets no further than it.

    Matters: the phone's frames are dropped, while the computer behind it works.
    Notice: phones start and do not register.
    Confirm: list the device's VLANs, and those that its uplinks carry.
    Mend: make the VLAN on the device, and let the uplinks carry it.
    """
    row = context.port(end)
    if row is None or not row.voice or row.mode not in (None, "access") or row.oper == "down":
        return None
    fabric, vid = context.network.fabric, row.voice
    if fabric.exists(end.device).has(vid) is False:
        lost = f"does not exist on {end.device}, or is suspended there"
        known = fabric.vlan_row(end.device, vid) is None
        cells = {"state": "active", **({"name": context.vlan_names[vid]} if vid in context.vlan_names else {})}
        repair: tuple[Change, ...] = (
            Change("vlans", {"device": end.device, "vid": vid}, cells if known else {"state": "active"}),
        )
    else:
        start = Node(end.device, vid)
        served = any(s.device == end.device and s.row.vid == vid for s in context.network.stations.gateways)
        cabled = any(e.device == end.device for e in context.adjacencies_at)
        if served or not cabled or len({node.device for node in fabric.flood(start)}) > 1:
            return None
        lost, repair = f"is carried by none of the links of {end.device}", ()
    ports = [
        name
        for name, other in context.network.names.ports.get(end.device, {}).items()
        if other.voice == vid and other.oper != "down" and other.mode in (None, "access")
    ]
    if ports[:1] != [end.port]:
        return None  # once for all ports of the device
    listed = f"{len(ports)} ports of {end.device} tell" if len(ports) > 1 else f"{end} tells"
    return Finding(
        "voice-vlan-missing",
        "risks",
        tuple(at_port(End(end.device, name), vid) for name in ports[:20]),
        f"{listed} phones to use VLAN {vid}, which {lost}.",
        context.evidence(row, "voice")
        + context.evidence(
            next(iter(fabric.vlan_rows.get(end.device, {}).values()), row),
            *(["vid"] if fabric.vlan_rows.get(end.device) else []),
        ),
        repair,
    )
