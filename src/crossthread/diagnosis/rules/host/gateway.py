"""Findings about the gateway of a host."""

from __future__ import annotations

from collections import Counter

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.edits import set_host
from crossthread.diagnosis.expected.voters import gateway_address
from crossthread.diagnosis.findings import Finding, at_station
from crossthread.diagnosis.registry import About, rule
from crossthread.diagnosis.rules.gateway.address import gateway_address_wrong
from crossthread.diagnosis.rules.host.prefix import host_mask_differs
from crossthread.diagnosis.rules.host.subnet import host_outside_subnet
from crossthread.network.hosts.station import HostStation, Interface, Station
from crossthread.survey.changes import Change
from crossthread.values import NONE, Address, address, interface


def _served_wrongly(context: Context, host: HostStation) -> bool:
    """Whether it is the gateway's address that is wrong, and not the host's setting."""
    return any(gateway_address_wrong(context, gateway) for gateway in context.expected.gateways(host))


def _best_gateway(context: Context, host: HostStation) -> tuple[str | None, Station | None]:
    """The gateway that a host should use, and the interface that has that address, or should have it."""
    for gateway in context.expected.gateways(host):
        wrong = gateway_address_wrong(context, gateway)
        meant = [str(change.cells.get("address") or "") for change in wrong.repair] if wrong is not None else []
        told = next((interface(text).ip for text in meant if text not in ("", NONE)), None)
        told = told if str(told) != host.row.gateway else None  # that is what this host alone may say
        subnet = context.expected.subnet(host)
        if told is not None and subnet is not None and told not in subnet.network and not told.is_link_local:
            continue  # with its own address it serves another subnet
        found = told or _link_local_of(context, host, gateway) or gateway_address(gateway)
        if found is not None and (host.address is None or found != host.address.ip):  # nobody is his own gateway
            return str(found), gateway
    return None, None


def _link_local_of(context: Context, host: HostStation, gateway: Interface) -> Address | None:
    """A gateway's link-local address, where the hosts of the subnet use such a one, as they do in IPv6 (RFC 4861)."""
    own = [s.row.address for s in context.network.stations.on_device[gateway.device] if s.name == gateway.name]
    local = [interface(text).ip for text in own if text and text != NONE and interface(text).is_link_local]
    if not local or host.address is None or host.address.version == 4:
        return None
    near = (s for s in context.expected.near(host.address.ip) if isinstance(s, HostStation) and s is not host)
    used = [s.row.gateway for s in (host, *near) if s.row.gateway not in (None, NONE)]
    return local[0] if 2 * sum(address(hop or "").is_link_local for hop in used) >= len(used) else None


@rule("host-gateway-missing", "Host", About.HOST, reads="gateway expected", follows="host-outside-subnet")
def host_gateway_missing(context: Context, host: HostStation) -> Finding | None:
    """The host was seen to have no gateway, though a gateway serves its subnet.

    Matters: it reaches its own subnet and nothing else, and cannot answer anybody outside.
    Notice: it reaches its own subnet only; from outside it does not answer.
    Confirm: list the routes on the host and look for a default route.
    Mend: set the gateway of its subnet.
    """
    wanted, gateway = _best_gateway(context, host)
    if host.row.gateway != NONE:
        return None
    if wanted is None or gateway is None:
        return _like_its_peers(context, host)
    kind = "IPv6 " if context.network.version == 6 and host.address is not None and host.address.version == 6 else ""
    return Finding(
        "host-gateway-missing",
        "breaks",
        (at_station(host),),
        f"{host.name} has no {kind}gateway; {wanted} ({gateway.device} {gateway.name}) serves its subnet.",
        context.evidence(host.row, "gateway", "address") + context.evidence(gateway.row, "address"),
        (set_host(host, gateway=wanted),),
    )


def _used_by_peers(context: Context, host: HostStation) -> tuple[str, list[HostStation]] | None:
    """The gateway that most others of a host's subnet use, and who does; None if none of them has one."""
    if host.address is None:
        return None
    subnet = host.address.network
    near = [s for s in context.expected.near(host.address.ip) if isinstance(s, HostStation) and s is not host]
    used = Counter(o.row.gateway for o in near if o.row.gateway not in (None, NONE))
    hop = next((hop for hop, _ in used.most_common() if hop and address(hop) in subnet), None)
    return (hop, [other for other in near if other.row.gateway == hop]) if hop is not None else None


def _like_its_peers(context: Context, host: HostStation) -> Finding | None:
    """The same where nobody read the gateway, but others of the subnet say which one they use."""
    told = _used_by_peers(context, host) if context.network.unread.anywhere else None
    if told is None or host.address is None:
        return None
    (hop, peers), subnet = told, host.address.network
    evidence = context.evidence(host.row, "gateway", "address")
    for other in peers[:3]:
        evidence += context.evidence(other.row, "gateway")
    says = f"{host.name} has no gateway; {peers[0].name} and the others in {subnet} use {hop}."
    says = says if len(peers) > 1 else f"{host.name} has no gateway; {peers[0].name} in {subnet} uses {hop}."
    return Finding(
        "host-gateway-missing", "breaks", (at_station(host),), says, evidence, (set_host(host, gateway=hop),)
    )


@rule(
    "host-gateway-outside-subnet",
    "Host",
    About.HOST,
    reads="subnet gateway expected",
    unless=(host_outside_subnet, host_mask_differs),
    follows="host-mask-differs host-outside-subnet",
)
def host_gateway_outside_subnet(context: Context, host: HostStation) -> Finding | None:
    """The host's gateway is not inside the host's own subnet.

    Matters: hosts refuse such a gateway, or never reach it.
    Notice: it reaches its own subnet only.
    Confirm: compare the gateway with the host's address and prefix length; look whether the default route is really in
    use.
    Mend: set the gateway of its subnet; look at the prefix length first.
    """
    own = host.row
    if host.address is None or own.gateway in (None, NONE):
        return None
    hop = address(own.gateway or "")
    if hop in host.address.network or hop.is_link_local:
        return None
    wanted, gateway = _best_gateway(context, host)
    evidence = context.evidence(host.row, "address", "gateway")
    repair: tuple[Change, ...] = ()
    hint = ""
    if wanted is not None and gateway is not None:
        evidence += context.evidence(gateway.row, "address")
        repair = (set_host(host, gateway=wanted),)
        hint = f"; {wanted} ({gateway.device} {gateway.name}) serves it"
    elif (told := _used_by_peers(context, host)) is not None:
        used, peers = told
        repair = (set_host(host, gateway=used),)
        evidence += context.evidence(peers[0].row, "gateway")
        hint = (
            f"; {peers[0].name} and {len(peers) - 1} more in it use {used}"
            if len(peers) > 1
            else (f"; {peers[0].name} in it uses {used}")
        )
    return Finding(
        "host-gateway-outside-subnet",
        "breaks",
        (at_station(host),),
        f"{host.name} has the gateway {hop}, which is outside its subnet {host.address.network}{hint}.",
        evidence,
        repair,
    )


@rule("host-gateway-wrong", "Host")
def host_gateway_unlike_its_peers(context: Context, host: HostStation) -> Finding | None:
    """The host's gateway has an address that nobody has, and others of its subnet use another one.

    Matters: if the subnet's gateway is lost, that of the others is as likely the one to be put back.
    Notice: it reaches its own subnet only.
    Confirm: compare the gateways of the subnet's hosts; look which one the list of addresses names.
    Mend: set the gateway that the others use.
    """
    told = _used_by_peers(context, host)
    if told is None or told[0] == host.row.gateway or (host.row.gateway or "") in context.network.stations.by_address:
        return None
    hop, peers = told
    return Finding(
        "host-gateway-wrong",
        "breaks",
        (at_station(host),),
        f"{host.name} has the gateway {host.row.gateway}, which nobody has; {peers[0].name} of its subnet uses {hop}.",
        context.evidence(host.row, "gateway", "address") + context.evidence(peers[0].row, "gateway"),
        (set_host(host, gateway=hop),),
    )


@rule(
    "host-gateway-wrong",
    "Host",
    About.HOST,
    reads="subnet gateway expected",
    unless=(_served_wrongly,),
    follows_in_vlan="gateway-missing gateway-address-wrong",
)
def host_gateway_wrong(context: Context, host: HostStation) -> Finding | None:
    """The host's gateway is inside its subnet, but no gateway has that address.

    Matters: the host asks for an address that nobody who forwards answers for.
    Notice: it reaches its own subnet only.
    Confirm: ask for the gateway's address from the host by ARP; compare with a neighbour that works.
    Decide: ask which address the gateway is meant to have: the list of addresses names it, or the server that hands
    out addresses.
    Mend: set the address that the gateway has.
    """
    own = host.row
    if host.address is None or own.gateway in (None, NONE):
        return None
    hop = address(own.gateway or "")
    holders = context.network.stations.by_address.of(str(hop))
    if hop.is_link_local:
        here = context.network.hearing
        unread = context.network.unread_addresses
        may = (*holders, *unread.link_local, *unread.sharing(hop))
        if any(isinstance(s, Interface) and here.hears(host, s) is not False for s in may):
            return None
        names = {(s.device, s.name) for s in context.expected.gateways(host)}
        holders = [s for s in holders if isinstance(s, HostStation) or (s.device, s.name) in names]
    elif hop not in host.address.network:
        return None
    if any(not isinstance(s, HostStation) for s in holders):
        return None
    wanted, gateway = _best_gateway(context, host)
    if wanted is None or gateway is None or context.network.unread.routes or context.may_be_answered(str(hop)):
        return None  # another gateway of the subnet may be where nobody looked
    evidence = context.evidence(host.row, "gateway") + context.evidence(gateway.row, "address")
    whose = f" (it is the address of {holders[0].name})" if holders else ""
    return Finding(
        "host-gateway-wrong",
        "breaks",
        (at_station(host),),
        f"{host.name} has the gateway {hop}, which no gateway has{whose}; {gateway.device} {gateway.name} serves its "
        f"subnet as {wanted}.",
        evidence,
        (set_host(host, gateway=wanted),),
    )
