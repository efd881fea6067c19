"""The finding about a gateway that nobody has."""

from __future__ import annotations

from ipaddress import ip_interface
from itertools import islice

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.edits import raise_link, set_gateway
from crossthread.diagnosis.findings import Finding, Subject, at_station
from crossthread.diagnosis.registry import About, rule
from crossthread.diagnosis.rules.host import host_outside_subnet
from crossthread.network.hosts.station import HostStation
from crossthread.survey.changes import Change
from crossthread.values import NONE, PrefixedAddress


def _has_none(_: Context, host: HostStation) -> bool:
    """Whether a host has no gateway set, so that it is no witness of one that is missing."""
    return host.row.gateway == NONE


@rule(
    "gateway-missing",
    "Gateway and routing",
    About.HOST,
    reads="subnet gateway expected",
    unless=(host_outside_subnet, _has_none),
    follows_in_vlan="gateway-address-wrong gateway-missing",
)
def gateway_missing(context: Context, host: HostStation) -> Finding | None:
    """The hosts of a subnet have a gateway configured, but no interface has an address in their subnet.

    Matters: the subnet has no way out and none in.
    Notice: a whole subnet reaches itself and nothing else.
    Confirm: look for the address on every device that routes; an interface may have lost it when its tag was changed.
    Mend: give an interface in that VLAN the address that the hosts use.
    """
    subnet = context.expected.subnet(host)
    hop = host.row.gateway
    if subnet is None or hop is None or context.expected.gateways(host):
        return None
    users = [hop, *(getattr(other.row, "gateway", None) for other in context.expected.near(subnet.ip))]
    known = [ip_interface(str(used)).ip for used in users if used not in (None, NONE)]
    taken = context.network.stations.by_address
    free = [
        ip for ip in (*known, *islice(subnet.network.hosts(), 256)) if ip in subnet.network and str(ip) not in taken
    ]
    if not free:
        return None
    wanted = free[0]
    vid = context.expected.vlan(host)
    length = subnet.network.prefixlen
    repair = _add_gateway(context, ip_interface(f"{wanted}/{length}"), vid)
    where = f" VLAN {vid}" if vid else " its VLAN"
    if context.network.unread.anywhere:
        return None  # what has the address may be where nobody looked
    return Finding(
        "gateway-missing",
        "breaks",
        (Subject(vid=vid) if vid else at_station(host),),
        f"No interface has an address in {subnet.network}, so{where} has no gateway; "
        + (f"{host.name} uses {hop}." if hop != NONE else f"{host.name} has none either."),
        context.evidence(host.row, "address", "gateway"),
        repair,
    )


def _add_gateway(context: Context, own: PrefixedAddress, vid: int | None) -> tuple[Change, ...]:
    """Give the address to an interface of that VLAN that has none, or add one where the other gateways are."""
    gateways = context.network.stations.gateways
    bare = [g for g in gateways if g.address is None and g.row.vid == vid and vid]
    if bare:
        return (set_gateway(bare[0], address=str(own)),)
    idle = [
        end
        for end, faced in context.adjacencies_at.items()
        if (row := context.port(end)) is not None and row.mode == "routed" and not context.network.gateways_at.get(end)
        for far in [context.port(faced[0].far(end))]
        if far is not None and far.mode == "access" and far.pvid == vid
    ]
    for end in idle:
        cells = {"port": end.port, "untagged": "yes", "admin": "up", "oper": "up", "proxy_arp": "no"}
        key = {"device": end.device, "interface": end.port, "address": str(own)}
        return (Change("gateways", key, cells), *raise_link(context, end))
    for gateway in gateways:
        if context.network.routing.on(gateway.device) is False or vid is None or (gateway.end and gateway.tag == 0):
            continue
        name = f"{gateway.end.port}.{vid}" if gateway.end else f"vlan{vid}"
        cells2: dict[str, object] = {"vid": vid, "admin": "up", "oper": "up", "proxy_arp": "no"}
        if gateway.end:
            facing = [context.port(a.far(gateway.end)) for a in context.adjacencies_at.get(gateway.end, ())]
            native = any(port is not None and port.pvid == vid for port in facing)
            cells2 |= {"port": gateway.end.port, "untagged": "yes" if native else "no"}
        return (Change("gateways", {"device": gateway.device, "interface": name, "address": str(own)}, cells2),)
    return ()
