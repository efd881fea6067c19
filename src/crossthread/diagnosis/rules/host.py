"""Findings about a host: its link, its place, its address settings."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from ipaddress import ip_interface

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.edits import closed_itself, raise_link, set_host
from crossthread.diagnosis.expected.voters import gateway_address
from crossthread.diagnosis.findings import Finding, Severity, at_station
from crossthread.diagnosis.registry import About, rule
from crossthread.diagnosis.rules.gateway_address import gateway_address_wrong
from crossthread.network.hosts.station import HostStation, Interface, Station
from crossthread.survey.changes import Change
from crossthread.values import NONE, Address, PrefixedAddress, address


def _served_wrongly(context: Context, host: HostStation) -> bool:
    """Whether it is the gateway's address that is wrong, and not the host's setting."""
    return any(gateway_address_wrong(context, gateway) for gateway in context.expected.gateways(host))


def free_address(context: Context, subnet: PrefixedAddress) -> Address | None:
    """An address of a subnet that nobody is known to have, and that nothing in the survey speaks of as somebody's.

    The first and the last one are left to gateways, which may be where nobody looked.
    """
    taken, spoken = context.network.stations.by_address, context.spoken_addresses
    free = (ip for ip in subnet.network.hosts() if str(ip) not in taken and str(ip) not in spoken)
    ends = {int(subnet.network.network_address) + 1, int(subnet.network.broadcast_address) - 1}
    return next((ip for ip in free if int(ip) not in ends), None)


@rule("host-link-down", "Host", About.HOST, needs="hosts.link=down", follows="port-admin-down")
def host_link_down(context: Context, host: HostStation) -> Finding | None:
    """The host's own link is down though nobody shut the switch port.

    Matters: the host sends and hears nothing.
    Notice: the host has no network at all.
    Confirm: look at the link lamp at the host's socket and at the port's state.
    Mend: put the cable back or switch the interface on; if the port stays dark, test the cable.
    """
    port = context.port(host.end) if host.end else None
    if host.row.link != "down" or (port is not None and port.admin == "down") or closed_itself(port):
        return None
    evidence = context.evidence(host.row, "link") + context.evidence(port, "admin", "oper")
    repair: tuple[Change, ...] = raise_link(context, host.end) if host.end else (set_host(host, link="up"),)
    where = f" at {host.end}" if host.end else ""
    return Finding(
        "host-link-down",
        "breaks",
        (at_station(host),),
        f"{host.name} has no link{where}: its cable is out, or its interface is off.",
        evidence,
        repair,
    )


@rule("host-not-located", "Host", About.HOST, reads="place", follows="host-link-down")
def host_not_located(context: Context, host: HostStation) -> Finding | None:
    """Nobody knows which port the host is plugged into.

    Matters: whether its frames get anywhere cannot be said.
    Notice: nothing by itself.
    Confirm: look for its MAC address in the filtering databases of the access switches, or follow the cable.
    Mend: write the socket into the survey, or survey the switch that the host is plugged into.
    """
    if host.end is not None or host.row.link == "down":
        return None
    seen = host.located_by
    evidence = context.evidence(host.row, "device", "port", "mac")
    for entry in seen:
        evidence += context.evidence(entry, "port")
    how = f"its MAC address was learned on {len(seen)} edge ports" if seen else "no table says where it is plugged in"
    if beyond := context.learned_at_open_ends(host):
        how = f"its MAC address was learned at {' and '.join(map(str, beyond))}, beyond which nobody looked"
    unsurveyed = any(one.why != "far end" for one in context.network.open_ends.values())
    severity: Severity = "note" if unsurveyed else "risks"  # it may be where nobody looked
    return Finding("host-not-located", severity, (at_station(host),), f"{host.name} was not located: {how}.", evidence)


def _subnets_for(context: Context, host: HostStation) -> Iterator[tuple[dict[str, str], str]]:
    """What a host without an address may be given: its cells, and whose subnet they are of; the likeliest first.

    Where it has a gateway, that tells its subnet: better than an interface in its VLAN that has another.
    """
    vid, hop = context.expected.current_vlan(host), host.row.gateway
    kept = hop if hop not in (None, NONE) else None
    used = [s for s in context.network.stations.by_address.of(kept or "") if isinstance(s, Interface)]
    here = context.expected.served(vid) if vid else []
    peers = sorted(
        (one for one in context.classes_in.get(vid, ()) if one.block is not None), key=lambda o: -len(o.hosts)
    )
    groups = [one.hosts[0] for one in peers] if vid else []
    in_vlan = f"VLAN {vid}, which its port is in,"
    for station in sorted([*here, *used, *groups], key=lambda s: not _has(context, s, kept)):
        subnet = context.expected.subnet(station)
        free = free_address(context, subnet) if subnet is not None else None
        if subnet is None or free is None:
            continue
        cells = {"address": f"{free}/{subnet.network.prefixlen}"}
        if isinstance(station, HostStation):
            whose = f"The others in {in_vlan} are in {subnet.network}"
        else:
            cells["gateway"] = str(gateway_address(station))
            whose = f"{'Its gateway' if station in used else in_vlan} has the subnet {subnet.network}"
        yield cells, f"{whose}; {free} is free there."


def _has(context: Context, station: Station, hop: str | None) -> bool:
    """Whether an address is in a station's subnet, as that should be; without an address, whether any may be."""
    subnet = context.expected.subnet(station)
    return hop is None or (subnet is not None and address(hop) in subnet.network)


@rule("host-address-missing", "Host", About.HOST, reads="subnet current-vlan expected")
def host_address_missing(context: Context, host: HostStation) -> Finding | None:
    """The host was seen to have no IP address.

    Matters: it can neither send nor answer IP packets.
    Notice: the host reaches nothing; others do not find it.
    Confirm: list the addresses on the host; if it should get one by DHCP, look whether a server or relay serves its
    VLAN.
    Mend: give it a free address of its VLAN's subnet, or mend DHCP there.
    """
    if host.row.address != NONE:
        return None
    found = next(_subnets_for(context, host), None)
    repair = (set_host(host, **found[0]),) if found is not None else ()
    hint = f" {found[1]}" if found is not None else ""
    evidence = context.evidence(host.row, "address")
    return Finding(
        "host-address-missing", "breaks", (at_station(host),), f"{host.name} has no IP address.{hint}", evidence, repair
    )


@rule("host-address-duplicate", "Host", About.HOST, reads="holders")
def host_address_duplicate(context: Context, host: HostStation) -> Finding | None:
    """Another host, or a gateway, has the same address.

    Matters: whoever asks for the address gets one answer or the other, and it changes from minute to minute.
    Notice: sessions break off; the host is reached now and then.
    Confirm: ask for the address by ARP from a third host and count the MAC addresses that answer.
    Mend: give one of the two another address.
    """
    if host.address is None:
        return None
    others = [s for s in context.network.stations.by_address.of(str(host.address.ip)) if s is not host]
    if not others:
        return None
    listed = ", ".join(s.name if isinstance(s, HostStation) else f"{s.device} {s.name}" for s in others)
    evidence = context.evidence(host.row, "address", "mac")
    for other in others:
        evidence += context.evidence(other.row, "address")
    return Finding(
        "host-address-duplicate",
        "breaks",
        (at_station(host), *map(at_station, others)),
        f"{host.name} has the address {host.address.ip}, and so has {listed}.",
        evidence,
    )


@rule(
    "host-outside-subnet",
    "Host",
    About.HOST,
    reads="subnet gateway current-vlan expected",
    follows_in_vlan="gateway-address-wrong",
)
def host_outside_subnet(context: Context, host: HostStation) -> Finding | None:
    """The host's address is not in the subnet that the gateway of its VLAN serves, though its gateway is.

    Matters: its neighbours and its gateway do not expect it there.
    Notice: the host reaches neither its gateway nor its neighbours.
    Confirm: compare the host's address with the gateway interface's of the VLAN that its port is in.
    Mend: give it an address of its VLAN's subnet, or plug it into the VLAN of its address.
    """
    if host.address is None or (own := host.row).gateway in (None, NONE):
        return None
    vid = context.expected.current_vlan(host)
    hop = address(own.gateway or "")
    for gateway in context.expected.served(vid) if vid else ():
        subnet = context.expected.subnet(gateway)
        if subnet is None or subnet.version != host.address.version or hop not in subnet.network:
            continue
        if host.address.ip in subnet.network:
            continue
        free = free_address(context, subnet)
        repair = (set_host(host, address=f"{free}/{subnet.network.prefixlen}"),) if free else ()
        return Finding(
            "host-outside-subnet",
            "breaks",
            (at_station(host),),
            f"{host.name} has the address {host.address}, but its VLAN {vid} and its gateway {hop} belong to "
            f"{subnet.network}.",
            context.evidence(host.row, "address", "gateway") + context.evidence(gateway.row, "address", "vid"),
            repair,
        )
    return None


@rule("host-outside-subnet", "Host")
def host_of_another_vlan(context: Context, host: HostStation) -> Finding | None:
    """The host's address and gateway are both of the subnet of another VLAN than the one that its port is in.

    Either the port is in the wrong VLAN, or the host has the settings of another; its port is the odd one of three.

    Matters: its neighbours and its gateway are not where the host is.
    Notice: the host reaches neither its gateway nor its neighbours.
    Confirm: ask where the host is meant to be; compare with the description of its port.
    Mend: put its port into the VLAN of its address, or give it an address and the gateway of its port's VLAN.
    """
    vid = context.expected.current_vlan(host)
    for mate, hop in _living_in(context, vid, host) if vid and host.address is not None else ():
        subnet = context.expected.subnet(mate)
        if subnet is None or host.address is None or host.address.ip in subnet.network:
            continue
        free = free_address(context, subnet) if subnet.version == host.address.version else None
        if free is None:
            continue
        return Finding(
            "host-outside-subnet",
            "breaks",
            (at_station(host),),
            f"{host.name} has the address {host.address}, but its port is in VLAN {vid}, which has {subnet.network}.",
            context.evidence(host.row, "address", "gateway") + context.evidence(mate.row, "address", "vid"),
            (set_host(host, address=f"{free}/{subnet.network.prefixlen}", gateway=hop),),
        )
    return None


def _living_in(context: Context, vid: int, but: HostStation) -> Iterator[tuple[Station, str]]:
    """The gateways of a VLAN, or else hosts in it, each with the gateway to use there."""
    for gateway in context.expected.served(vid):
        yield gateway, str(gateway_address(gateway))
    mates = (one for one in context.classes_in.get(vid, ()) if one.block is not None and one.hosts[0] is not but)
    for one in sorted(mates, key=lambda one: -len(one.hosts)):
        # Where somebody uses a gateway that nobody read, that would decide: no reason to renumber a host.
        if not context.network.unread.anywhere or but.row.gateway == one.gateway == NONE:
            yield one.hosts[0], one.gateway or NONE


@rule("host-outside-subnet", "Host", About.HOST, reads="subnet current-vlan expected", unless=(host_outside_subnet,))
def host_outside_peers(context: Context, host: HostStation, paired: bool = False) -> Finding | None:
    """The host is alone with its subnet, in a VLAN in which all others are of one other subnet.

    Asked about a pair, it is enough that the host's subnet lives in another VLAN, and one other in this.

    Matters: nobody there takes it for a neighbour, and nobody elsewhere is of its subnet.
    Notice: the host reaches nobody.
    Confirm: compare its address with those of the other hosts in its VLAN.
    Mend: give it an address of the subnet of its VLAN.
    """
    vid = context.expected.current_vlan(host)
    if host.address is None or vid is None or host.row.gateway != NONE:
        return None  # a gateway of its own would speak for its address
    mates = [one for one in context.classes_in.get(vid, ()) if one.block is not None and one.hosts[0] is not host]
    blocks = {one.block for one in mates}
    if len(blocks) != 1 or sum(len(one.hosts) for one in mates) < (1 if paired else _SEVERAL):
        return None
    other = mates[0].hosts[0]
    near = context.expected.near_in(host.address.ip, vid) if paired else context.expected.near(host.address.ip)
    if any(station is not host for station in near) or other.address is None:
        return None
    elsewhere = any(context.expected.current_vlan(s) != vid for s in context.expected.near(other.address.ip))
    if elsewhere or context.expected.gateways(host) or context.expected.served(vid):
        return None
    if other.address.version != host.address.version:
        return None
    free = free_address(context, other.address)
    cells = {"address": f"{free}/{other.address.network.prefixlen}", "gateway": other.row.gateway or NONE}
    return Finding(
        "host-outside-subnet",
        "breaks",
        (at_station(host),),
        f"{host.name} has the address {host.address}, of a subnet that nobody else in its VLAN {vid} has; the others "
        f"there are in {other.address.network}.",
        context.evidence(host.row, "address") + context.evidence(other.row, "address"),
        (set_host(host, **cells),) if free else (),
    )


_SEVERAL = 2
"""How many others have to agree."""


@rule("host-mask-differs", "Host", About.HOST, reads="subnet expected", follows_in_vlan="gateway-mask-differs")
def host_mask_differs(context: Context, host: HostStation, length: int | None = None) -> Finding | None:
    """The host's prefix length is not that of its gateway and its neighbours.

    Matters: with too short a prefix it asks on its own wire for hosts that are elsewhere; with too long a one it sends
    its neighbours' packets to the gateway, or does not see the gateway at all.
    Notice: some addresses of its own subnet, or of others, are not reached, and all the rest are.
    Confirm: compare prefix lengths on the host, on a neighbour and on the gateway interface.
    Mend: set the prefix length that the gateway has.
    """
    wanted = length or context.expected.length(host)
    if host.address is None or wanted is None or wanted == host.address.network.prefixlen:
        return None
    subnet = ip_interface(f"{host.address.ip}/{wanted}").network
    evidence = context.evidence(host.row, "address")
    agreeing = [s for s in context.expected.near(host.address.ip) if s.address and s.address.network == subnet]
    for other in agreeing[:3]:
        evidence += context.evidence(other.row, "address")
    return Finding(
        "host-mask-differs",
        "breaks",
        (at_station(host),),
        f"{host.name} has the prefix length {host.address.network.prefixlen}, where the others in {subnet} have "
        f"{wanted}.",
        evidence,
        (set_host(host, address=f"{host.address.ip}/{wanted}"),),
    )


def _best_gateway(context: Context, host: HostStation) -> tuple[str | None, Station | None]:
    for gateway in context.expected.gateways(host):
        found = _link_local_of(context, host, gateway) or gateway_address(gateway)
        if found is not None:
            return str(found), gateway
    return None, None


def _link_local_of(context: Context, host: HostStation, gateway: Interface) -> Address | None:
    """A gateway's link-local address, where the hosts of the subnet use such a one, as they do in IPv6 (RFC 4861)."""
    own = [s.row.address for s in context.network.stations.on_device[gateway.device] if s.name == gateway.name]
    local = [ip_interface(text).ip for text in own if text and text != NONE and ip_interface(text).is_link_local]
    if not local or host.address is None or host.address.version == 4:
        return None
    near = (s for s in context.expected.near(host.address.ip) if isinstance(s, HostStation) and s is not host)
    used = [s.row.gateway for s in (host, *near) if s.row.gateway not in (None, NONE)]
    return local[0] if 2 * sum(address(hop or "").is_link_local for hop in used) >= len(used) else None


@rule("host-gateway-missing", "Host", About.HOST, reads="gateway expected")
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
    Mend: set the address that the gateway has.
    """
    own = host.row
    if host.address is None or own.gateway in (None, NONE):
        return None
    hop = address(own.gateway or "")
    holders = context.network.stations.by_address.of(str(hop))
    if hop.is_link_local:
        here = context.network.stations
        if any(isinstance(s, Interface) and here.hears(host, s) is not False for s in holders):
            return None
        names = {(s.device, s.name) for s in context.expected.gateways(host)}
        holders = [s for s in holders if isinstance(s, HostStation) or (s.device, s.name) in names]
    elif hop not in host.address.network:
        return None
    if any(not isinstance(s, HostStation) for s in holders):
        return None
    wanted, gateway = _best_gateway(context, host)
    if wanted is None or gateway is None or context.network.unread.routes:
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
