"""What else might mend a finding: by its rule, the other settings that would make the facts agree."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.edits import set_gateway, set_host, set_port
from crossthread.diagnosis.expected.asked_addresses import asked_for
from crossthread.diagnosis.expected.free_addresses import free_address
from crossthread.diagnosis.expected.prefix_lengths import at_end, end_of
from crossthread.diagnosis.expected.voters import gateway_address
from crossthread.diagnosis.findings import Finding
from crossthread.diagnosis.rules.gateway.address import by_another_address
from crossthread.diagnosis.rules.gateway.places import places_for
from crossthread.diagnosis.rules.host.tag import tag_mends
from crossthread.diagnosis.rules.link import both_trunks, with_native
from crossthread.diagnosis.settled import interfaces_of
from crossthread.network.hosts.station import HostStation, Interface, Station
from crossthread.network.topology.names import End
from crossthread.survey.changes import Change
from crossthread.survey.records import Port, Route
from crossthread.values import NONE, PrefixedAddress, address, interface

Option = tuple[Change, ...]


def others(context: Context, finding: Finding) -> Iterator[Option]:
    """What else might mend a finding."""
    if finding.rule in _BY_RULE:
        yield from _BY_RULE[finding.rule](context, finding)
    yield from _of_another_size(context, finding)


def _ends(context: Context, finding: Finding) -> list[tuple[End, Port]]:
    """The ports that a finding is about."""
    ends = (End(s.device, s.port) for s in finding.subjects if s.device and s.port)
    return [(end, row) for end in ends if (row := context.port(end)) is not None]


def _natives(context: Context, finding: Finding) -> Iterator[Option]:
    ends = _ends(context, finding)
    if len(ends) == 2:
        yield from ((with_native(*ends[n], ends[1 - n][1].pvid),) for n in (0, 1))


def _access_ends(context: Context, finding: Finding) -> Iterator[Option]:
    yield from _natives(context, finding)
    for end, _ in _ends(context, finding)[:1]:
        trunks = (both_trunks(context, link) for link in context.adjacencies_at.get(end, ())[:1])
        yield from filter(None, trunks)


def _tag_types(context: Context, finding: Finding) -> Iterator[Option]:
    ends = _ends(context, finding)
    if len(ends) == 2:
        yield from ((set_port(ends[n][0], tagging=ends[1 - n][1].tagging or "802.1Q"),) for n in (0, 1))


def _port_instead(context: Context, finding: Finding) -> Iterator[Option]:
    for host in _hosts(context, finding):
        yield from _into_subnet(context, host)
        yield from _other_renumbered(context, finding, host)


def _other_renumbered(context: Context, finding: Finding, host: HostStation) -> Iterator[Option]:
    """Give an address of a host's subnet to the one other host in its VLAN, in whose subnet the finding puts it.

    Where neither has a gateway, as well may that be the one that is wrong, unless others of the host's own subnet are
    elsewhere.
    """
    own, living = host.address, context.living_in(context.expected.current_vlan(host), host)
    others = [(s, s.address) for one in living for s in one.hosts if s is not host and s.address is not None]
    if own is None or len(others) != 1 or (free := free_address(context, own)) is None:
        return
    if any(s is not host for s in context.expected.near(own.ip)):
        return
    ((other, its),) = others
    given = [str(change.cells.get("address")) for change in finding.repair if change.table == "hosts"]
    there = given and given[0] != NONE and its.ip in interface(given[0]).network
    if there and {host.row.gateway, other.row.gateway} == {NONE}:
        yield (set_host(other, address=f"{free}/{own.network.prefixlen}"),)


def _others_instead(context: Context, finding: Finding) -> Iterator[Option]:
    """Put the ports of all others of a gateway's subnet into the gateway's VLAN, instead of the port towards it."""
    for gateway in interfaces_of(context, finding):
        now = context.expected.current_vlan(gateway)
        near = context.expected.near(gateway.address.ip) if gateway.address is not None else ()
        ends = dict.fromkeys(end for s in near if s is not gateway for end in _plugged_into(context, s))
        away = [row for end in ends if (row := context.port(end))]
        if now and away and all(row.mode == "access" and row.pvid not in (None, now) for row in away):
            yield tuple(set_port(End(row.device, row.port), pvid=now) for row in away)


def _plugged_into(context: Context, station: Station) -> list[End]:
    """The switch port that a host is plugged into, or an interface that does not tag."""
    if isinstance(station, HostStation):
        return [station.end] if station.end else []
    links = context.adjacencies_at.get(station.end, ()) if station.end and not station.tag else ()
    return [link.far(station.end) for link in links if station.end]


def _of_another_size(context: Context, finding: Finding) -> Iterator[Option]:
    """Where a host gets an address of a subnet whose size is in dispute: one for each size that somebody there has."""
    for change in finding.repair:
        text = str(change.cells.get("address") or NONE)
        if change.table != "hosts" or text == NONE or " " in text:
            continue
        given, host = interface(text), context.network.stations.hosts.get(str(change.key["host"]).casefold())
        hop = change.cells.get("gateway") or (host.row.gateway if host is not None else None) or NONE
        inside = hop != NONE and address(str(hop)) in given.network  # a link-local gateway says nothing of the subnet
        for length in sorted(context.expected.disputed_lengths(given.ip) - {given.network.prefixlen}, reverse=True):
            own = interface(f"{hop if inside else given.ip}/{length}")
            ip = given.ip if given.ip in own.network else free_address(context, own)
            if ip is not None:
                fresh = Change(change.table, change.key, {**change.cells, "address": f"{ip}/{length}"})
                yield tuple(fresh if one is change else one for one in finding.repair)


def _gateways(context: Context, finding: Finding) -> Iterator[Option]:
    for host in _hosts(context, finding):
        for gateway in context.expected.gateways(host):
            yield (set_host(host, gateway=str(gateway_address(gateway))),)
    yield from _as_others_ask(context, finding)
    if finding.rule == "host-gateway-wrong":
        yield from _at_the_usual_end(context, finding)


def _hosts(context: Context, finding: Finding) -> list[HostStation]:
    """The hosts that a finding is about."""
    known = context.network.stations.hosts
    return [known[s.host.casefold()] for s in finding.subjects if s.host and s.host.casefold() in known]


def _by_default(context: Context, finding: Finding) -> Iterator[Option]:
    """A default route in place of one for a single subnet, on a device that has no other route."""
    for change in finding.repair[:1] if len(finding.repair) == 1 else ():
        if change.table == "routes" and not context.network.routing.routes(str(change.key["device"])):
            wide = "::/0" if ":" in str(change.key["prefix"]) else "0.0.0.0/0"
            yield (Change("routes", {**change.key, "prefix": wide}, change.cells),)


def _next_hops(context: Context, finding: Finding) -> Iterator[Option]:
    """Give the other router's interface the address that the route leads to, in place of another next hop.

    Where a route is missing, the address to which the device's other routes lead, if nobody has it.
    """
    yield from _by_default(context, finding)
    stations = context.network.stations
    routes = [change for change in finding.repair if change.table == "routes"]
    old = next((str(change.key["next_hop"] or NONE) for change in routes if change.delete), None)
    new = next((str(change.key["next_hop"]) for change in routes if not change.delete), None)
    held = [s for s in stations.by_address.of(new or "") if isinstance(s, Interface) and s.address is not None]
    if len(held) != 1 or held[0].address is None:
        return
    if old is None:
        change = next(change for change in routes if not change.delete)
        hops = {row.next_hop or "" for row in context.network.routing.routes(str(change.key["device"]))}
        for hop in sorted(hops - {"", NONE, new}):
            if hop not in stations.by_address and address(hop) in held[0].address.network:
                told = Change("routes", {**change.key, "next_hop": hop}, change.cells)
                yield (set_gateway(held[0], address=f"{hop}/{held[0].address.network.prefixlen}"), told)
        return
    if old == NONE or old in stations.by_address:
        return
    if address(old or "") in held[0].address.network:
        yield (set_gateway(held[0], address=f"{old}/{held[0].address.network.prefixlen}"),)


def _into_subnet(context: Context, host: HostStation) -> Iterator[Option]:
    """Put a host's port into the VLAN that its address lives in."""
    row = context.port(host.end) if host.end is not None else None
    for gateway in context.network.stations.gateways:
        subnet = context.expected.subnet(gateway)
        inside = subnet is not None and host.address is not None and host.address.ip in subnet.network
        vid = context.expected.vlan(gateway)
        if inside and vid and row is not None and row.mode == "access" and host.end is not None and row.pvid != vid:
            yield (set_port(host.end, pvid=vid),)


def _lengths(context: Context, finding: Finding) -> Iterator[Option]:
    """Give the gateway the host's prefix length, or the hosts' to the gateway."""
    for host in _hosts(context, finding):
        for gateway in context.expected.gateways(host)[:1]:
            if host.address is not None and gateway.address is not None:
                yield (set_gateway(gateway, address=f"{gateway.address.ip}/{host.address.network.prefixlen}"),)
        if host.address is not None:
            ip = host.address.ip
            yield from ((set_host(host, address=f"{ip}/{length}"),) for length in _routed(context, host.address))
    for subject in finding.subjects:
        for gateway in context.network.stations.on_device.get(subject.device or "", ()):
            if gateway.name == subject.interface and gateway.address is not None:
                ip = gateway.address.ip
                sizes = _routed(context, gateway.address)
                yield from ((set_gateway(gateway, address=f"{ip}/{length}"),) for length in sizes)
                yield from (
                    (set_host(host, address=f"{host.address.ip}/{gateway.address.network.prefixlen}"),)
                    for host in context.expected.near(gateway.address.ip)
                    if isinstance(host, HostStation)
                    and host.address is not None
                    and host.address.network != gateway.address.network
                )


def _routed(context: Context, own: PrefixedAddress) -> list[int]:
    """The other lengths of an address's prefix that routes tell."""
    return sorted(context.expected.routed_lengths(own.ip) - {own.network.prefixlen}, reverse=True)


def _tags(context: Context, finding: Finding) -> Iterator[Option]:
    for host in _hosts(context, finding):
        yield from tag_mends(context, host)


def _other_routers(context: Context, finding: Finding) -> Iterator[Option]:
    """Another device that routes, where nothing tells which one had the lost interface."""
    for change in finding.repair[:1]:
        if change.table == "gateways" and "proxy_arp" in change.cells and change.cells.get("vid"):
            own, vid = interface(str(change.key["address"])), int(str(change.cells["vid"]))
            for option in places_for(context, own, vid):
                if option[0].key["device"] != change.key["device"]:
                    yield option


def _as_others_ask(context: Context, finding: Finding) -> Iterator[Option]:
    """Give the interface the address that other hosts of its subnet use, and have those use it that use another."""
    if context.network.unread.anywhere:
        return  # somebody nobody read may have the address that they use
    interfaces, hosts = _disagreeing(context, finding)
    for own in interfaces:
        if own.address is None:
            continue
        for hop, users in asked_for(context, own, context.expected.vlan(own)).items():
            others = any(host not in hosts for one in users for host in one.hosts)
            subnets = [own.address.network, *(host.address.network for host in hosts if host.address is not None)]
            length = next((subnet.prefixlen for subnet in subnets if hop in subnet), None)
            known = str(hop) in context.network.stations.by_address or by_another_address(context, own, hop)
            if others and length is not None and not known:
                changed = (set_host(host, gateway=str(hop)) for host in hosts if host.row.gateway != str(hop))
                yield (set_gateway(own, address=f"{hop}/{length}"), *changed)


def _at_the_usual_end(context: Context, finding: Finding) -> Iterator[Option]:
    """The address that the other gateways have in their subnets, for an interface and those who ask it in vain.

    So where neither what it has nor what they ask for is the first address, or the last, as all others are.
    """
    known, (interfaces, hosts) = context.network.stations, _disagreeing(context, finding)
    for own in interfaces:
        if own.address is None or not hosts:
            continue
        others = (s for s in known.gateways if s is not own and s.address and context.expected.users(s.address.ip))
        ends = [end_of(s.address.ip, s.address) for s in others if s.address]
        usual = at_end(own.address, ends[0]) if len(ends) > 1 and len(set(ends)) == 1 and ends[0] else None
        hops = (host.row.gateway for host in hosts)
        used = [own.address.ip, *(address(hop) for hop in hops if hop and hop != NONE)]
        if usual is None or str(usual) in known.by_address or any(end_of(ip, own.address) for ip in used):
            continue
        moved = (set_host(host, gateway=str(usual)) for host in hosts)
        yield (set_gateway(own, address=f"{usual}/{own.address.network.prefixlen}"), *moved)


def _disagreeing(context: Context, finding: Finding) -> tuple[list[Interface], list[HostStation]]:
    """The interface, and the hosts that ask it by another address, that a finding is about."""
    known = context.network.stations
    if finding.rule != "gateway-address-wrong":
        hosts = _hosts(context, finding)
        return [own for host in hosts for own in context.expected.gateways(host)[:1]][:1], hosts
    asked = dict.fromkeys(str(fact.key["host"]).casefold() for fact in finding.evidence if fact.table == "hosts")
    subjects = {(s.device, s.interface) for s in finding.subjects}
    interfaces = [own for own in known.gateways if (own.device, own.name) in subjects and own.address is not None]
    return interfaces, [known.hosts[name] for name in asked if name in known.hosts]


def _as_planned(context: Context, finding: Finding) -> Iterator[Option]:
    """Have those who use the address that an interface has instead of the planned one use the planned one, too."""
    yield from _as_others_ask(context, finding)
    yield from _at_the_usual_end(context, finding)
    yield from _hops_instead(context, finding)
    for change in finding.repair[:1]:
        wanted = str(change.cells.get("address") or "").partition("/")[0]
        now = str(change.key.get("address") or NONE)
        served = context.plan.served_at(wanted)
        users = context.expected.users(interface(now).ip) if now != NONE and served is not None else []
        there = [host for host in users if context.expected.planned(host) in (None, served)]
        if there:
            yield (change, *(set_host(host, gateway=wanted) for host in there))


def _hops_instead(context: Context, finding: Finding) -> Iterator[Option]:
    """Let the routes lead to the address that an interface has, instead of the one that they name and it is to get."""
    for change in finding.repair[:1]:
        now, given = (str(text or NONE) for text in (change.key.get("address"), change.cells.get("address")))
        if NONE in (now, given) or interface(now).ip not in interface(given).network:
            continue
        hop, wanted = str(interface(now).ip), str(interface(given).ip)
        led = dict.fromkeys(str(fact.key["device"]) for fact in finding.evidence if fact.table == "routes")
        rows = [row for device in led for row in context.network.routing.routes(device) if row.next_hop == wanted]
        keys = [{column: value for column, value in zip(Route.KEY, row.key, strict=True) if value} for row in rows]
        gone = [Change("routes", key, delete=True) for key in keys]
        kept = [{"interface": row.interface or "", "origin": row.origin or ""} for row in rows]
        new = [Change("routes", {**c.key, "next_hop": hop}, cells) for c, cells in zip(gone, kept, strict=True)]
        yield from [(*gone, *new)] if rows else []


_BY_RULE: Mapping[str, Callable[[Context, Finding], Iterator[Option]]] = {
    "link-native-differs": _natives,
    "link-access-vlan-differs": _access_ends,
    "link-tagging-differs": _tag_types,
    "host-tag-wrong": _tags,
    "host-outside-subnet": _port_instead,
    "port-vlan-wrong": _others_instead,
    "host-mask-differs": _lengths,
    "gateway-mask-differs": _lengths,
    "gateway-missing": _other_routers,
    "route-missing": _next_hops,
    "route-back-missing": _next_hops,
    "gateway-address-wrong": _as_planned,
    "host-gateway-wrong": _gateways,
    "host-gateway-missing": _gateways,
    "host-gateway-outside-subnet": _gateways,
}
