"""Why a packet got no further: from the place where a walk stops to the finding that explains it, and its mend."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.expected.misaddressed import misaddressed, misaddressed_in
from crossthread.diagnosis.findings import Finding, at_station
from crossthread.diagnosis.repair.hypotheses import judged
from crossthread.diagnosis.rules import between_hosts as between_rules
from crossthread.diagnosis.rules import routing as routing_rules
from crossthread.diagnosis.rules.gateway import address as address_rules
from crossthread.diagnosis.rules.gateway.missing import gateway_missing
from crossthread.diagnosis.rules.gateway.subnet import gateway_mask_differs
from crossthread.diagnosis.rules.gateway.transit import transit_lost, transit_missing
from crossthread.diagnosis.rules.host.address import host_address_missing
from crossthread.diagnosis.rules.host.gateway import (
    host_gateway_missing,
    host_gateway_outside_subnet,
    host_gateway_wrong,
)
from crossthread.diagnosis.rules.host.subnet import (
    host_address_broadcast,
    host_mask_differs,
    host_outside_peers,
    host_outside_subnet,
)
from crossthread.diagnosis.rules.host.tag import host_tag_wrong
from crossthread.diagnosis.rules.port.mode import port_mode_routed
from crossthread.diagnosis.rules.routing_tables import (
    gateway_table_differs,
    route_missing_in_table,
    routing_tables_apart,
)
from crossthread.diagnosis.rules.survey import unexplained
from crossthread.diagnosis.rules.vlan_subnet import subnet_unrouted
from crossthread.diagnosis.search.cheapest_way import Search
from crossthread.network.hosts.station import HostStation, Interface, Station
from crossthread.network.routing.walks import Stop
from crossthread.values import Address


def explain(context: Context, stop: Stop, target: Station, back: bool) -> list[Finding]:
    """What stands in the way at a stop.

    Parameters
    ----------
    context
        The network in which the walk was made.
    stop
        Where it stopped.
    target
        Whom the packet was meant for.
    back
        Whether it was the reply.

    Returns
    -------
    list of Finding
        Those at this one place, in the order of the way; empty if nothing explains it.
    """
    alone = [
        told
        for one in _hosts(stop.station, target)
        if (told := between_rules.host_address_automatic(context, one)) is not None
    ]
    if alone:
        return alone[:1]
    if stop.reason in ("gateway", "silent", "route", "loop"):
        between = [one for one in (stop.station, *stop.candidates) if isinstance(one, Interface)]
        swapped = _first([partial(address_rules.gateway_addresses_swapped, context, one) for one in between])
        if swapped:
            return swapped
    if stop.reason != "address":
        unfit = _first([partial(_for_broadcasts, context, one) for one in _hosts(stop.station, target)])
        if unfit:
            return unfit
    if stop.reason == "address" and isinstance(stop.station, HostStation):
        return _first([partial(host_address_missing, context, stop.station)])
    if stop.reason == "family":
        return [_no_common_family(context, stop.station)]
    if stop.reason in ("gateway", "gateway-outside", "deaf-host", "broadcast") or (
        stop.reason == "silent" and isinstance(stop.station, HostStation)
    ):
        return _at_host(context, stop, target)
    if stop.reason == "filter" and stop.entry is not None:
        return _first([partial(between_rules.filter_drops, context, stop.port or stop.station, stop.entry, back)])
    if stop.reason == "discards" and isinstance(stop.station, Interface) and stop.choice is not None:
        return _first([partial(between_rules.route_discards, context, stop.station, stop.choice)])
    if stop.reason == "down":
        return [*context.once(Search).down(stop.station)]
    if stop.reason == "routing":
        return _first([partial(routing_rules.routing_off, context, stop.station.device)])
    if stop.reason in ("route", "loop", "silent"):
        return _at_router(context, stop, target, back)
    return []


def at_its_end(context: Context, stop: Stop, target: Station) -> Finding:
    """What is told of a stop that nothing explains: that nobody routes there, or that too little was observed."""
    unrouted = (subnet_unrouted(context, host) for host in _hosts(stop.station, target))
    return next((told for told in unrouted if told is not None), None) or unexplained(context, stop)


def _for_broadcasts(context: Context, host: HostStation) -> Finding | None:
    """A host with the broadcast address of its subnet; its prefix may be what makes it one."""
    told = host_address_broadcast(context, host)
    return (host_mask_differs(context, host) or told) if told is not None else None


def _hosts(*stations: Station) -> list[HostStation]:
    """Those that are hosts, whose own settings may be wrong."""
    return [station for station in stations if isinstance(station, HostStation)]


def _first(rules: list[Callable[[], Finding | None]]) -> list[Finding]:
    """The first of some rules that finds something."""
    for rule in rules:
        found = rule()
        if found is not None:
            return [found]
    return []


def _no_common_family(context: Context, host: Station) -> Finding:
    return Finding(
        "host-address-missing",
        "breaks",
        (at_station(host),),
        f"{host.name} has only the address {host.address}: the two hosts have no kind of address in common.",
        context.evidence(host.row, "address"),
    )


def _at_host(context: Context, stop: Stop, target: Station) -> list[Finding]:
    """A host that cannot get its packet out: its own settings first, then its gateway, then the way to it."""
    host, hop = stop.station, stop.target
    if not isinstance(host, HostStation):  # a host that was taken for a gateway, or a gateway's own broadcast address
        asked = host if isinstance(host, Interface) and stop.reason == "broadcast" else None
        length = gateway_mask_differs(context, asked) if asked is not None else None
        return [length] if length is not None else _at_router(context, stop, target, False)
    if stop.reason == "deaf-host":
        asking = context.expected.users(hop) if hop is not None else []
        return _first([partial(host_gateway_wrong, context, s) for s in asking])
    if stop.reason == "broadcast" or _mask_misleads(context, host, target, hop):
        found = host_mask_differs(context, host)
        if found is not None:
            return [found]
    shared = [s for s in context.network.stations.gateways if hop is not None and s.row.virtual == str(hop)]
    held = [told for s in shared if (told := between_rules.gateway_shared_state(context, s)) is not None]
    if held and stop.reason == "silent":
        return held[:1]
    direct = target.address is not None and hop == target.address.ip
    settings: list[Callable[[], Finding | None]] = []
    for one in _hosts(host, *([target] if direct else [])):
        settings += [partial(host_tag_wrong, context, one), partial(port_mode_routed, context, one)]
    if not direct:
        settings += [
            partial(judged, context, host),
            partial(host_outside_subnet, context, host),
            partial(host_gateway_missing, context, host),
            partial(host_gateway_outside_subnet, context, host),
        ]
    else:
        settings += [partial(judged, context, one) for one in _hosts(host, target)]
        settings += [partial(host_outside_subnet, context, one) for one in _hosts(target)]
    if stop.reason == "gateway" and not context.expected.gateways(host):
        settings[:0] = [partial(_like_the_other, context, host, one) for one in _hosts(target)]
    if stop.reason == "gateway":
        settings += [partial(host_outside_peers, context, one, True) for one in _hosts(host, target)]
    found_here = _first(settings)
    if found_here:
        return found_here
    candidates = list(stop.candidates)
    if hop is not None and hop.is_link_local:  # many interfaces have it; meant is the one that serves the host
        serving = {(s.device, s.name) for s in context.expected.gateways(host)}
        candidates = [s for s in candidates if (s.device, s.name) in serving]
    if candidates:
        return _way_between(context, host, candidates)
    return _no_gateway(context, host)


def _like_the_other(context: Context, host: HostStation, target: HostStation) -> Finding | None:
    """Without any gateway to decide: the other host takes the two for neighbours, so let this one do so too."""
    if host.address is None or target.address is None or host.address.ip not in target.address.network:
        return None
    return host_mask_differs(context, host, target.address.network.prefixlen)


def _mask_misleads(context: Context, host: Station, target: Station, hop: Address | None) -> bool:
    """Whether the prefix length a host should have would send its packet another way, or find its gateway."""
    wanted = context.expected.subnet(host)
    if wanted is None or host.address is None or target.address is None or wanted == host.address:
        return False
    goal = target.address.ip
    if (goal in wanted.network) != (goal in host.address.network):
        return True
    return hop is not None and (hop in wanted.network) != (hop in host.address.network)


def _no_gateway(context: Context, host: HostStation) -> list[Finding]:
    """Nobody has the address that a host uses as its gateway."""
    vid = context.expected.current_vlan(host)
    serving = context.expected.gateways(host) or context.expected.served(vid, host)
    return _first(
        [
            *[
                partial(address_rules.gateway_address_wrong, context, g)
                for g in [*serving, *misaddressed_in(context, vid, host)]
            ],
            partial(host_gateway_wrong, context, host),
            partial(gateway_missing, context, host),
            partial(host_gateway_missing, context, host),
        ]
    )


def _at_router(context: Context, stop: Stop, target: Station, back: bool) -> list[Finding]:
    """A device that routes and does not get the packet on."""
    gateway, choice = stop.station, stop.choice
    goal = target.address.ip if target.address else None
    if goal is None or not isinstance(gateway, Interface):
        return []
    if stop.reason == "route" and (apart := routing_tables_apart(context, gateway, goal)) is not None:
        return [route_missing_in_table(context, gateway, goal, back) or apart]
    if choice is not None and choice.route is None:  # it looks on its own wire
        if misaddressed(context, gateway):
            rules = (address_rules.gateway_address_wrong, address_rules.transit_address_wrong)
            return _first([partial(one, context, gateway) for one in rules])
        wanted = context.expected.subnet(gateway)
        if wanted is not None and goal not in wanted.network:
            found = gateway_mask_differs(context, gateway)
            if found is not None:
                return [found]
        own = (host_tag_wrong, port_mode_routed, judged, host_outside_subnet, host_address_missing)
        return _first([partial(one, context, host) for host in _hosts(target) for one in own]) or _way_between(
            context, gateway, [target]
        )
    if stop.candidates and (choice is not None or stop.reason == "silent"):  # who is asked is there, and silent
        return _way_between(context, gateway, list(stop.candidates))
    return _no_way(context, gateway, target, goal, back, stop.reason == "loop")


def _no_way(
    context: Context, gateway: Interface, target: Station, goal: Address, back: bool, looped: bool
) -> list[Finding]:
    """Tell whether the destination's subnet is lost, or only this device does not know the way to it."""
    rules: list[Callable[[], Finding | None]] = []
    here = context.network.stations.on_device[gateway.device]
    rules += [partial(gateway_table_differs, context, other) for other in here]
    rules += [partial(host_outside_subnet, context, host) for host in _hosts(target)]
    own = [s for s in context.network.stations.on_device[gateway.device] if s.address is not None]
    for other in context.network.stations.gateways:
        wanted = context.expected.subnet(other)
        if wanted is None or wanted.version != goal.version or goal not in wanted.network or other.address is None:
            continue
        if goal not in other.address.network:
            rules.append(partial(gateway_mask_differs, context, other))
        elif other.up is False and (other in own or looped):
            return [*context.once(Search).down(other)]
    rules.append(partial(routing_rules.route_down, context, gateway, goal))
    routing = dict.fromkeys([gateway.device, *(other.device for other in context.network.stations.gateways)])
    rules += [partial(gateway_mask_differs, context, mine) for mine in own]
    rules += [
        partial(address_rules.transit_address_wrong, context, other) for other in context.network.stations.gateways
    ]
    rules += [
        partial(transit_missing, context, device, goal if device == gateway.device else None) for device in routing
    ]
    rules.append(partial(_route, context, gateway, goal, back))
    rules += [partial(transit_lost, context, device, None if device == gateway.device else goal) for device in routing]
    vid = context.expected.current_vlan(target)
    for other in [*context.expected.served(vid, target), *misaddressed_in(context, vid, target)]:
        rules.append(partial(address_rules.gateway_address_wrong, context, other))
    for host in _hosts(target):
        rules += [partial(gateway_missing, context, host), partial(host_outside_subnet, context, host)]
    rules.append(partial(routing_rules.route_missing, context, gateway, goal, back))
    return _first(rules)


def _route(context: Context, gateway: Interface, goal: Address, back: bool) -> Finding | None:
    found = routing_rules.route_missing(context, gateway, goal, back)
    return found if found is not None and found.repair else None


def _way_between(context: Context, one: Station, others: list[Station]) -> list[Finding]:
    """What stands between a station and those that could answer it: the cheapest way to any of them."""
    search = context.once(Search)
    ways = [way for way in (search.between(one, other) for other in others) if way is not None]
    if not ways:
        return []
    return list(min(ways, key=lambda way: way.cost).findings)
