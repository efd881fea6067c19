"""Findings about the switch port that a router's interface is plugged into: its mode, and its VLAN."""

from __future__ import annotations

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.edits import carry, planned_trunk, set_gateway, set_port
from crossthread.diagnosis.expected.misaddressed import beside_swapped, misaddressed, swapped_with
from crossthread.diagnosis.findings import Finding, at_port, at_station
from crossthread.diagnosis.registry import About, rule
from crossthread.diagnosis.rules.gateway.interface import called, gateway_vlan_wrong
from crossthread.diagnosis.rules.link import TAGS
from crossthread.diagnosis.rules.link_mode import routes_by_mistake
from crossthread.network.hosts.station import HostStation, Interface
from crossthread.network.topology.names import End
from crossthread.survey.records import Gateway
from crossthread.values import NO_VID, NONE, VlanSet


def _serves_another(context: Context, gateway: Interface, _: End) -> bool:
    """Whether an interface's tag is wrong, so that its port need not carry that."""
    return gateway_vlan_wrong(context, gateway) is not None


@rule("gateway-port-mode-wrong", "Gateway and routing", About.GATEWAY_PORT, unless=(_serves_another,))
def gateway_port_mode_wrong(
    context: Context, gateway: Interface, far: End, vid: int | None = None, native: int | None = None
) -> Finding | None:
    """The switch port towards a gateway that tags does not carry its tag.

    Matters: the gateway and its subnet do not hear each other.
    Notice: a whole subnet has no way out; others by the same port may work.
    Confirm: look at the mode and allowed list of the switch port that the gateway is plugged into.
    Mend: make the switch port a trunk that carries the gateway's tags.
    """
    row, port = gateway.row, context.port(far)
    wanted = vid or row.vid
    if gateway.tag == 0 or port is None or wanted is None or port.mode is None:
        return None
    if port.mode == "routed" and not routes_by_mistake(context, far):
        return None
    whole = port.mode in ("access", "routed")
    if not whole and (port.allowed is None or wanted in port.allowed) and port.pvid != wanted:
        return None
    behind = (s for s in context.network.gateways_at.get(gateway.end or far, ()) if isinstance(s.row, Gateway))
    tags = VlanSet.of(tag for s in behind if s.row.vid and (tag := _meant_tag(context, s))) | VlanSet.of([wanted])
    if whole:
        native = native or _untagged_behind(context, gateway) or _usual_native(context, far.device, tags)
        allowed = tags | VlanSet.of([native] if native else ())
        cells = {"mode": "trunk", "pvid": native or NONE, "allowed": allowed}
        change = set_port(far, **cells | planned_trunk(context, far))
        says = (
            f"is an access port (VLAN {port.pvid or NONE})" if port.mode == "access" else "routes, without an address"
        )
    elif port.pvid == wanted:
        beside = _without_tag(context, gateway)
        if beside is not None and (told := gateway_port_vlan_wrong(context, beside, far)) is not None:
            return told  # the native VLAN is to be that one's
        change = set_port(far, pvid=NONE)
        says = f"sends VLAN {wanted} without a tag (it is the native VLAN there)"
    else:
        change = carry(context, far, VlanSet.of([wanted]))
        says = f"does not allow VLAN {wanted}"
    return Finding(
        "gateway-port-mode-wrong",
        "breaks",
        (at_port(far, wanted), at_station(gateway)),
        f"{far} {says}, but {called(gateway)} behind it expects VLAN {wanted} with its tag.",
        context.evidence(port, "mode", "pvid", "allowed") + context.evidence(row, "vid", "untagged"),
        (change,),
    )


def _meant_tag(context: Context, gateway: Interface) -> int | None:
    """The tag that an interface has, or should have if its own is wrong."""
    told = gateway_vlan_wrong(context, gateway)
    key = {"device": gateway.device, "interface": gateway.name}
    changes = told.repair if told is not None else ()
    tags = [change.cells.get("vid") for change in changes if key.items() <= change.key.items()]
    return next((tag for tag in reversed(tags) if isinstance(tag, int)), gateway.row.vid)


def _untagged_behind(context: Context, gateway: Interface) -> int | None:
    """The VLAN of the interface beside one that sends its frames without a tag; no VLAN that another there tags."""
    beside = _without_tag(context, gateway)
    if beside is None or gateway.end is None:
        return None
    tagged = {_meant_tag(context, one) for one in context.network.gateways_at[gateway.end] if one.tag}
    return next((v for v in (context.expected.vlan(beside), beside.row.vid) if v and v not in tagged), None)


def _without_tag(context: Context, gateway: Interface) -> Interface | None:
    """The interface beside one, on the same port, that does not tag."""
    beside = context.network.gateways_at.get(gateway.end, ()) if gateway.end else ()
    return next((s for s in beside if s.tag == NO_VID), None)


def _usual_native(context: Context, device: str, tags: VlanSet) -> int | None:
    """The one native VLAN of a device's trunks, unless it is to be tagged."""
    own = (p for p in context.network.survey.ports if p.device == device and p.mode in TAGS)
    natives = {p.pvid for p in own if p.mode == "trunk" or End(device, p.port) in context.adjacencies_at}
    native = natives.pop() if len(natives) == 1 else None
    return native if native and native not in tags else None


@rule("port-vlan-wrong", "Port", About.GATEWAY_PORT, unless=(beside_swapped,))
def gateway_port_vlan_wrong(context: Context, gateway: Interface, far: End, vid: int | None = None) -> Finding | None:
    """The switch port towards a gateway that does not tag is in another VLAN than the gateway's subnet.

    Matters: the gateway serves the wrong VLAN, and its own has none.
    Notice: a whole subnet has no way out.
    Confirm: compare the port's VLAN with that of the hosts of the gateway's subnet.
    Mend: put the switch port into the VLAN of the gateway's subnet.
    """
    port, wanted = context.port(far), vid or context.expected.vlan(gateway)
    if context.expected.planned(gateway) not in (None, wanted):
        return None
    if gateway.tag != 0 or port is None or port.pvid is None or wanted is None or gateway.address is None:
        return None
    if port.mode not in ("access", *TAGS) or misaddressed(context, gateway) or swapped_with(context, gateway):
        return None
    if port.pvid == wanted:
        return _native_left_out(context, gateway, far, wanted)
    beside = [s for s in context.network.gateways_at.get(gateway.end or far, ()) if s.tag]
    if beside and port.mode == "access":  # what is wrong is the mode, and told of those that tag
        return gateway_port_mode_wrong(context, beside[0], far, native=wanted) if vid is not None else None
    if (bare := _without_its_tag(context, gateway, far, wanted)) is not None:
        return bare
    cells: dict[str, object] = {"pvid": wanted}
    if port.mode != "access" and port.allowed is not None and wanted not in port.allowed:
        cells["allowed"] = port.allowed | VlanSet.of([wanted])
    evidence = context.evidence(port, "mode", "pvid") + context.evidence(gateway.row, "address", "vid")
    for other in context.expected.near(gateway.address.ip):
        if (
            isinstance(other, HostStation)
            and other.end
            and context.expected.current_vlan(other) == wanted
            and len(evidence) < 7
        ):
            evidence += context.evidence(context.port(other.end), "pvid")
    return Finding(
        "port-vlan-wrong" if port.mode == "access" else "gateway-port-mode-wrong",
        "breaks",
        (at_port(far, wanted), at_station(gateway)),
        f"{far} puts untagged frames into VLAN {port.pvid or NONE}, but {called(gateway)} behind it serves "
        f"{gateway.address.network}, which lives in VLAN {wanted}.",
        evidence,
        (set_port(far, **cells),),
    )


@rule("gateway-port-mode-wrong", "Gateway and routing", About.GATEWAY_PORT)
def gateway_port_routed(context: Context, gateway: Interface, far: End, vid: int | None = None) -> Finding | None:
    """The switch port towards a gateway that does not tag routes, and no interface with an address is there.

    Matters: the gateway is in no VLAN; nobody hears it.
    Notice: a whole subnet has no way out.
    Confirm: look at the switch port's mode, and whether the switch has an address on it.
    Mend: make the switch port one that carries the VLAN of the gateway's subnet, and nothing else, without a tag.
    """
    port, wanted = context.port(far), vid or context.expected.vlan(gateway)
    if gateway.tag != 0 or port is None or wanted is None or gateway.address is None:
        return None
    if port.mode != "routed" or not routes_by_mistake(context, far):
        return None
    return Finding(
        "gateway-port-mode-wrong",
        "breaks",
        (at_port(far, wanted), at_station(gateway)),
        f"{far} routes and has no address, but leads to {called(gateway)}, which serves {gateway.address.network} in "
        f"VLAN {wanted}.",
        context.evidence(port, "mode") + context.evidence(gateway.row, "address", "vid"),
        (set_port(far, mode="trunk", pvid=wanted, allowed=VlanSet.of([wanted])),),
    )


def _without_its_tag(context: Context, gateway: Interface, far: End, wanted: int) -> Finding | None:
    """Two interfaces of one port do not tag, and the switch port takes the VLAN of one of them with its tag."""
    port, row = context.port(far), gateway.row
    beside = context.network.gateways_at.get(gateway.end, ()) if gateway.end else ()
    rivals = [s for s in beside if s.name != gateway.name and s.tag == NO_VID]
    rightly = port is not None and any(context.expected.vlan(s) == port.pvid for s in rivals)
    takes = context.network.fabric.member(far).tagged.has(wanted)
    if port is None or not rightly or wanted not in (row.vid, context.expected.named_vid(gateway)) or takes is False:
        return None
    rows = [s for s in beside if s.name == gateway.name]
    return Finding(
        "gateway-port-mode-wrong",
        "breaks",
        (at_port(far, wanted), at_station(gateway)),
        f"{called(gateway)} does not tag its frames, nor does {called(rivals[0])} on the same port; {far} takes VLAN "
        f"{port.pvid or NONE} without a tag, and {'' if takes else 'perhaps '}VLAN {wanted} with its tag.",
        context.evidence(row, "vid", "untagged") + context.evidence(port, "mode", "pvid", "allowed"),
        tuple(set_gateway(s, untagged="no") for s in rows) if takes else (),
    )


def _native_left_out(context: Context, gateway: Interface, far: End, wanted: int) -> Finding | None:
    """A trunk towards a gateway has its VLAN as the native one, and leaves it out of its list."""
    port = context.port(far)
    if port is None or port.mode == "access" or port.allowed is None or wanted in port.allowed:
        return None
    return Finding(
        "gateway-port-mode-wrong",
        "breaks",
        (at_port(far, wanted), at_station(gateway)),
        f"{far} does not allow VLAN {wanted}, its native one, in which {called(gateway)} behind it is without a tag.",
        context.evidence(port, "mode", "pvid", "allowed") + context.evidence(gateway.row, "vid", "untagged"),
        (carry(context, far, VlanSet.of([wanted])),),
    )
