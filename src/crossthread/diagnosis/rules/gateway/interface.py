"""Findings about interfaces that route: shut, down, with a wrong tag, or out of everybody's reach."""

from __future__ import annotations

from itertools import groupby

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.edits import raise_link, set_gateway
from crossthread.diagnosis.expected.misaddressed import misaddressed, serves_here, swapped_with
from crossthread.diagnosis.findings import Finding, at_station
from crossthread.diagnosis.registry import About, rule
from crossthread.network.hosts.station import HostStation, Interface
from crossthread.survey.changes import Change
from crossthread.values import NO_VID


def called(gateway: Interface) -> str:
    """An interface by its device and name."""
    return f"{gateway.device} {gateway.name}"


def _rows_of(context: Context, gateway: Interface) -> list[Interface]:
    """All stations of one interface: it has one for each address."""
    return [s for s in context.network.stations.on_device[gateway.device] if s.name == gateway.name]


_CUTS = (
    "port-admin-down port-down link-mode-differs link-tagging-differs link-native-differs link-access-vlan-differs "
    "link-vlan-missing port-mode-wrong port-vlan-missing vlan-suspended tree-blocks-vlan"
)
"""What may cut an interface off from all ports of its VLAN, the likeliest first."""


def _unused(context: Context, gateway: Interface) -> bool:
    """Whether nobody is known to use an interface: no host of its subnet, and no route."""
    if gateway.address is None:
        return False
    if str(gateway.address.ip) in context.next_hops:
        return False
    return not any(isinstance(other, HostStation) for other in context.expected.near(gateway.address.ip))


@rule("gateway-admin-down", "Gateway and routing", About.GATEWAY, unless=(_unused,))
def gateway_admin_down(context: Context, gateway: Interface) -> Finding | None:
    """A gateway's interface has been shut.

    Matters: its subnet has no way out, and nobody outside has a way in.
    Notice: a whole subnet has no way out.
    Confirm: look at the interface's configured state; ask who shut it and why.
    Mend: open the interface, once it is known why it was shut.
    """
    if gateway.row.admin != "down":
        return None
    changes = [set_gateway(s, admin="up", oper="up") for s in _rows_of(context, gateway)]
    parent = context.port(gateway.end) if gateway.end else None
    if gateway.end and parent is not None and "down" in (parent.admin, parent.oper):
        changes += raise_link(context, gateway.end)
    return Finding(
        "gateway-admin-down",
        "breaks",
        (at_station(gateway),),
        f"{called(gateway)} ({gateway.row.address}) is shut by configuration.",
        context.evidence(gateway.row, "admin", "oper") + context.evidence(parent, "admin", "oper"),
        tuple(changes),
    )


@rule(
    "gateway-down",
    "Gateway and routing",
    About.GATEWAY,
    unless=(_unused,),
    follows="gateway-unreachable port-admin-down port-down vlan-suspended port-vlan-missing",
    follows_in_vlan=_CUTS,
)
def gateway_down(context: Context, gateway: Interface) -> Finding | None:
    """A gateway's interface is down though nobody shut it.

    Matters: its subnet has no way out. An interface on a bridge goes down when no port carries its VLAN, one on a port
    when the port has no link.
    Notice: a whole subnet has no way out.
    Confirm: look at the interface's state, its parent port and its VLAN.
    Mend: bring up a port that carries its VLAN, or its parent port.
    """
    row = gateway.row
    if row.admin == "down" or gateway.up is not False or (gateway.end and row.oper != "down"):
        return None
    return Finding(
        "gateway-down",
        "breaks",
        (at_station(gateway),),
        f"{called(gateway)} ({row.address}) is down though it is not shut.",
        context.evidence(row, "admin", "oper"),
        tuple(set_gateway(s, oper="up") for s in _rows_of(context, gateway)),
    )


@rule("gateway-down", "Gateway and routing", About.DEVICE)
def gateways_idle(context: Context, device: str) -> Finding | None:
    """Interfaces with addresses are down, and nobody is known to use them.

    Matters: nothing, if they are left over or prepared, such as an unplugged management port or an interface in a VLAN
    without members.
    Notice: nothing.
    Confirm: ask whether somebody should be in their subnets.
    Mend: none is needed; take away what nobody needs.
    """
    own = context.network.stations.on_device.get(device, ())
    down = [s for s in own if s.address is not None and s.up is False and _unused(context, s)]
    names = list(dict.fromkeys(s.name for s in down))
    if not names:
        return None
    listed = ", ".join(names[:8]) + (f" and {len(names) - 8} more" if len(names) > 8 else "")
    are = "interface is" if len(names) == 1 else "interfaces are"
    says = f"{device}: {len(names)} {are} down that nobody is known to use: {listed}."
    evidence = tuple(fact for s in down[:3] for fact in context.evidence(s.row, "admin", "oper"))
    return Finding("gateway-down", "note", tuple(map(at_station, down)), says, evidence)


@rule("gateway-vlan-wrong", "Gateway and routing", About.GATEWAY)
def gateway_vlan_wrong(context: Context, gateway: Interface, vid: int | None = None) -> Finding | None:
    """A gateway's interface serves another VLAN than the one its subnet lives in.

    Matters: the hosts of its subnet do not find it, and those of the other VLAN may.
    Notice: a whole subnet has no way out, and another has two gateways.
    Confirm: compare the interface's tag with the VLAN of the ports of its hosts.
    Decide: ask in which VLAN the subnet is meant to be: the list of VLANs and subnets, or an earlier configuration
    of the router.
    Mend: set the tag of the VLAN that the subnet lives in; of two swapped tags clear one first.
    """
    row = gateway.row
    wanted = vid or context.expected.vlan(gateway)
    if (
        row.vid is None
        or wanted is None
        or row.vid == wanted
        or gateway.address is None
        or (vid is not None and gateway.end is not None and gateway.tag == NO_VID)
        or misaddressed(context, gateway)
        or swapped_with(context, gateway)
    ):
        return None  # another tag mends nothing where none is sent; of another's address, nothing says where it belongs
    beside = (other for other in _rows_of(context, gateway) if other is not gateway and other.row.vid == row.vid)
    if any(serves_here(context, other) for other in beside):
        return None  # it has one tag for all its addresses
    evidence = context.evidence(row, "vid", "address")
    for other in context.expected.near_in(gateway.address.ip, wanted):
        if len(evidence) >= 5:
            break
        if isinstance(other, HostStation) and other.end:
            evidence += context.evidence(context.port(other.end), "pvid")
    changes = [set_gateway(s, vid=wanted) for s in _rows_of(context, gateway)]
    says = f"{called(gateway)} serves VLAN {row.vid}, but its subnet {gateway.address.network} lives in VLAN {wanted}"
    beside_it = context.network.stations.on_device[gateway.device]
    holding = (s for s in beside_it if s.name != gateway.name and s.end == gateway.end and s.row.vid == wanted)
    strangers = [(s, due) for s in holding if (due := context.expected.vlan(s)) != wanted]
    # of several that hold it, the one that it is swapped with comes last, and all others go out of its way
    strangers.sort(key=lambda one: (one[1] == row.vid, one[0].name))
    away: list[Change] = []
    for holder, due in (next(rows) for _, rows in groupby(strangers, key=lambda one: one[0].name)):
        told = f", which holds that tag now, belongs into VLAN {due}" if due else " holds that tag now"
        says += f"; {called(holder)}{told}"
        evidence += context.evidence(holder.row, "vid")
        changes = [*away, *_retagged(context, gateway, wanted, holder, due)]
        away += [set_gateway(s, vid=due) for s in _rows_of(context, holder) if due is not None]
    return Finding("gateway-vlan-wrong", "breaks", (at_station(gateway),), f"{says}.", evidence, tuple(changes))


@rule(
    "gateway-unreachable",
    "Gateway and routing",
    About.GATEWAY,
    follows="port-admin-down port-down port-vlan-missing vlan-suspended",
    follows_in_vlan=_CUTS,
)
def gateway_unreachable(context: Context, gateway: Interface) -> Finding | None:
    """A gateway interface is up, but no port that is up carries its VLAN to it.

    Matters: it serves nobody, though it looks well; and the routes to its subnet attract packets that go nowhere.
    Notice: the whole subnet is cut off, or an address answers from the device itself and from nowhere else.
    Confirm: list the ports of the device that carry the VLAN, and their states.
    Mend: carry the VLAN to the device, or shut the interface.
    """
    row = gateway.row
    if gateway.end is not None or row.vid is None or gateway.up is False or gateway.address is None:
        return None
    if context.fed(gateway.device) >> row.vid & 1:
        return None
    return Finding(
        "gateway-unreachable",
        "risks",
        (at_station(gateway),),
        f"{called(gateway)} ({row.address}) serves VLAN {row.vid}, but no port of {gateway.device} that is up "
        "carries it.",
        context.evidence(row, "vid", "address", "oper"),
    )


def _retagged(context: Context, gateway: Interface, wanted: int, holder: Interface, due: int | None) -> list[Change]:
    """Give a tag to one interface that another holds: clear before reuse, as two of one port cannot hold one tag."""
    if due is None:
        return [set_gateway(s, vid=wanted) for s in _rows_of(context, gateway)]
    pair = [(holder, due), (gateway, wanted)]
    cleared = []
    if due == gateway.row.vid:  # swapped: the same steps, whichever of the two is asked about
        pair.sort(key=lambda entry: entry[0].name)
        cleared = [set_gateway(s, vid="") for s in _rows_of(context, pair[0][0])]
        pair.reverse()
    return [*cleared, *(set_gateway(s, vid=vid) for one, vid in pair for s in _rows_of(context, one))]
