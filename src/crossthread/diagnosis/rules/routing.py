"""Findings about forwarding: devices that do not route, and routes that lack or mislead."""

from __future__ import annotations

from collections.abc import Iterator
from ipaddress import ip_network

from msgspec import structs

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.expected.voters import gateway_address
from crossthread.diagnosis.findings import Finding, Subject
from crossthread.diagnosis.registry import About, rule
from crossthread.diagnosis.rules.gateway.interface import gateway_admin_down, gateway_down
from crossthread.diagnosis.rules.port.state import port_admin_down, port_down
from crossthread.network.hosts.station import Interface
from crossthread.survey.changes import Change, merge_changes
from crossthread.survey.records import Route
from crossthread.survey.survey import Evidence
from crossthread.values import NONE, Address, Prefix, address

OF_ROUTES = ("route-missing", "route-back-missing")
"""Findings of which one router may have several behind one of its interfaces: they are told as one."""


@rule("routing-off", "Gateway and routing", About.DEVICE)
def routing_off(context: Context, device: str) -> Finding | None:
    """A device has gateway interfaces but does not forward packets between them.

    Matters: its subnets reach it and not each other.
    Notice: each subnet reaches its gateway and no other subnet.
    Confirm: look whether IP forwarding is on.
    Mend: turn IP forwarding on.
    """
    version = context.network.version
    off = context.network.routing.on(device, version) is False
    rows = context.network.routing.device_rows(device) if off else []
    gateways = [s for s in context.network.stations.on_device.get(device, ()) if s.address is not None]
    if version == 6:
        gateways = [s for s in gateways if s.address is not None and s.address.version == 6]
    if not rows or not gateways:
        return None
    column = "routing6" if version == 6 and rows[0].routing6 is not None else "routing"
    what = "IPv6 packets" if column == "routing6" else "packets"
    if all(map(context.expected.only_managed, gateways)):
        return None
    return Finding(
        "routing-off",
        "breaks",
        (Subject(device=device),),
        f"{device} has gateway interfaces but does not forward {what} between them.",
        context.evidence(rows[0], column),
        (Change("devices", {"device": device}, {column: "yes"}),),
    )


@rule("route-missing", "Gateway and routing")
def route_down(context: Context, gateway: Interface, target: Address) -> Finding | None:
    """A route is there, but the interface it leads out of is down.

    Matters: an interface that is down lends neither its prefix nor the routes through it.
    Notice: one destination is not reached from this device's subnets.
    Confirm: look at the state of the interface that the route names.
    Mend: bring the interface up that the route leads out of.
    """
    for row in context.network.routing.routes_in(gateway.device, gateway.row.table):
        if target not in ip_network(row.prefix) or row.next_hop in (None, NONE):
            continue
        for other in context.network.stations.on_device[gateway.device]:
            if other.up is False and other.address and address(row.next_hop or "") in other.address.network:
                facing = [a.far(other.end) for a in context.adjacencies_at.get(other.end, ())] if other.end else []
                ends = [other.end, *facing] if other.end is not None else []
                shut = (told for rule in (port_admin_down, port_down) for end in ends if (told := rule(context, end)))
                return gateway_admin_down(context, other) or next(shut, None) or gateway_down(context, other)
    return None


@rule("route-missing", "Gateway and routing")
@rule("route-back-missing", "Gateway and routing")
def route_missing(context: Context, gateway: Interface, target: Address, back: bool) -> Finding | None:
    """A device that routes has no way, or a wrong one, to a subnet that another device serves.

    Matters: packets for that subnet are dropped; if it is the way back, they arrive but the answers do not.
    Notice: one destination is not reached, or does not answer.
    Confirm: look the destination up in the device's routing table; ask the next hop by ARP.
    Mend: add the route, or correct its next hop; where a routing protocol runs, look why it does not tell.
    """
    device, table = gateway.device, gateway.row.table
    held = context.network.routing.routes_in(device, table)
    routes = [row for row in held if target in ip_network(row.prefix)]
    serving, hop, out = _next_hop(context, device, table, target)
    subnet = context.expected.subnet(serving) if serving is not None else None
    goal = subnet.network if subnet is not None and hop is not None else None
    best = next(iter(context.network.routing.choices(device, table, target)), None)
    if best is not None and best.route is not None:
        drops_it = best.route.next_hop == str(hop) and ip_network(best.route.prefix) == goal
        if best.next_hop == hop or drops_it:  # it is there
            return None
    evidence: tuple[Evidence, ...] = ()
    repair: tuple[Change, ...] = ()
    wrong: Route | None = None
    drops = [row for row in routes if row.kind not in (None, "unicast") and goal not in (None, ip_network(row.prefix))]
    for row in routes:
        if row not in drops and (hop is None or row.next_hop != str(hop)) and not _serves_others(context, row, goal):
            wrong = row
            evidence = context.evidence(row, "next_hop")
            break
    there = [row for row in routes if row.next_hop == str(hop) and ip_network(row.prefix) == goal]
    astray = next((row for row in there if row.interface not in (None, NONE, out)), None)
    if wrong is None and astray is not None:
        evidence = context.evidence(astray, "interface")
    elsewhere = [row for row in held if row not in routes and ip_network(row.prefix).version == target.version]
    for row in () if wrong or astray else elsewhere[:3]:
        evidence += context.evidence(row, "next_hop")
    for station in context.network.stations.by_address.of(str(hop)):
        evidence += context.evidence(station.row, "address")
    if goal is not None and hop is not None and out is not None:
        named = wrong.table if wrong else table if context.network.routing.untold(device) is None else None
        key = {"device": device, "prefix": wrong.prefix if wrong else str(goal)}
        last = {"table": named} if named else {}
        cells = {"interface": out} | ({} if wrong is None and astray is not None else {"origin": "static"})
        repair = (Change("routes", {**key, "next_hop": str(hop), **last}, cells),)
        if wrong is not None:
            gone = Change("routes", {**key, "next_hop": wrong.next_hop, **last}, delete=True)
            repair = (gone, *repair)
    unread, holders = context.network.unread, context.network.stations.by_address
    nobody = hop is None or (wrong is not None and (wrong.next_hop or "") not in holders)
    answered = wrong is not None and context.may_be_answered(wrong.next_hop, device)
    if unread.routes_of(device) or (unread.anywhere and nobody) or answered:
        return None  # the route, or what its next hop leads to, may be what nobody read
    prefix = goal or ip_network(f"{target}/{target.max_prefixlen}")
    own = wrong is None or ip_network(wrong.prefix) == goal  # a wider one is wrong for all that it leads to
    place = (Subject(device=device, interface=out),) if own and out is not None else ()
    if wrong is not None:
        says = f"{device} sends packets for {prefix} to {wrong.next_hop}, which does not lead there"
    elif astray is not None:
        says = f"{device} sends packets for {prefix} to {hop} by {astray.interface}, where that is not"
    else:
        says = f"{device} has no route to {prefix}" + (f" in its table “{table}”" if table else "")
        says += f" but the one that drops what is for {drops[0].prefix}" if drops else ""
    hint = f"; {hop} (by {out}) leads there." if hop is not None else "."
    return Finding(
        "route-back-missing" if back else "route-missing",
        "breaks",
        (Subject(device=device), *place),
        says + hint,
        evidence,
        repair,
    )


def _serves_others(context: Context, row: Route, goal: Prefix | None) -> bool:
    """Whether a route that is wider than a subnet leads rightly to others, which its device has no other route to.

    So a default route does: what is missing beside it is the subnet's own.
    """
    wide = ip_network(row.prefix)
    if goal is None or wide.prefixlen >= goal.prefixlen or row.next_hop in (None, NONE):
        return False
    if not context.network.routing.resolves(row.device, row):
        return False
    stations, known = context.network.stations, {ip_network(other.prefix) for other in _more_specific(context, row)}
    known |= {s.address.network for s in stations.on_device.get(row.device, ()) if s.address is not None}
    devices = {s.device for s in stations.by_address.of(row.next_hop or "") if isinstance(s, Interface)}
    there = (s.address for device in devices for s in stations.on_device.get(device, ()) if s.address is not None)
    return any(own.ip in wide and not any(own.ip in subnet for subnet in known) for own in there)


def _more_specific(context: Context, row: Route) -> Iterator[Route]:
    """The other routes of a device within one of its routes."""
    wide = ip_network(row.prefix)
    for other in context.network.routing.routes_in(row.device, row.table):
        if other is not row and (inner := ip_network(other.prefix)).prefixlen > wide.prefixlen and inner[0] in wide:
            yield other


def routes_missing(one: Finding, other: Finding) -> Finding:
    """Two findings of a router whose routes out of one interface are missing, or wrong, as one."""
    repair = merge_changes([*one.repair, *other.repair])
    set_ones = [change.key for change in repair if not change.delete]
    prefixes, hops = ([str(key[column]) for key in set_ones] for column in ("prefix", "next_hop"))
    more = [f"{len(prefixes) - _NAMED} more"] if len(prefixes) > _NAMED else []
    lead = "leads" if len(set(hops)) == 1 else "lead"
    told = [_listed([*prefixes[:_NAMED], *more]), _listed(list(dict.fromkeys(hops)))]
    wrong = len(set_ones) < len(repair) or any(fact.column == "interface" for fact in (*one.evidence, *other.evidence))
    lacks = "lacks, or has a wrong, route to" if wrong else "has no route to"
    says = f"{one.subjects[0].device} {lacks} {told[0]}; {told[1]} {lead} there."
    evidence = (*one.evidence, *(fact for fact in other.evidence if fact not in one.evidence))
    return structs.replace(one, says=says, evidence=evidence, repair=repair)


def _listed(words: list[str]) -> str:
    return " and ".join(filter(None, [", ".join(words[:-1]), words[-1]]))


_NAMED = 4
"""How many subnets are named of those to which a router has no route."""


def _next_hop(
    context: Context, device: str, table: str | None, target: Address
) -> tuple[Interface | None, Address | None, str | None]:
    """Who serves the destination's subnet, and the next hop towards that device, breadth first over routers."""
    stations = context.network.stations
    serving = {
        s.device: s
        for s in stations.gateways
        if s.address and (wanted := context.expected.subnet(s)) and target in wanted.network
    }
    seen, own = {device}, {s.address.ip for s in stations.on_device.get(device, ()) if s.address is not None}
    layer: list[tuple[str, Address | None, str | None]] = [(device, None, None)]
    while layer:
        following: list[tuple[str, Address | None, str | None]] = []
        for at, hop, out in layer:
            if at in serving and hop is not None:
                return serving[at], hop, out
            beside = [(s, s.address) for s in stations.on_device.get(at, ()) if s.address is not None]
            if at == device and context.network.routing.untold(device) is None:
                beside = [(s, own) for s, own in beside if s.row.table == table]
            for near, place in beside:
                for far in context.expected.interfaces_near(place.ip) if place.version == target.version else ():
                    if far.device in seen or far.address is None:
                        continue
                    if hop is None and far.address.ip in own:
                        continue  # nobody sends to himself
                    seen.add(far.device)
                    shared = near.row.virtual not in (None, NONE) and near.row.virtual == far.row.virtual
                    its = far.address.ip if shared else gateway_address(far)  # what both share is its own as well
                    first = (its, near.name) if hop is None else (hop, out)
                    following.append((far.device, *first))
        layer = following
    return next(iter(serving.values()), None), None, None
