"""Why a device that routes does not get a packet on."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.expected.misaddressed import misaddressed, misaddressed_in
from crossthread.diagnosis.findings import Finding
from crossthread.diagnosis.repair.hypotheses import judged
from crossthread.diagnosis.rules import routing as routing_rules
from crossthread.diagnosis.rules.gateway import address as address_rules
from crossthread.diagnosis.rules.gateway.missing import gateway_missing
from crossthread.diagnosis.rules.gateway.subnet import gateway_mask_differs
from crossthread.diagnosis.rules.gateway.transit import shared_by_one, transit_lost, transit_missing
from crossthread.diagnosis.rules.host.address import host_address_missing
from crossthread.diagnosis.rules.host.subnet import host_outside_subnet
from crossthread.diagnosis.rules.host.tag import host_tag_wrong
from crossthread.diagnosis.rules.port.mode import port_mode_routed
from crossthread.diagnosis.rules.routing_tables import (
    gateway_table_differs,
    route_missing_in_table,
    routing_tables_apart,
)
from crossthread.diagnosis.search.cheapest_way import Search
from crossthread.network.hosts.station import HostStation, Interface, Station
from crossthread.network.routing.walks import Stop
from crossthread.values import Address


def hosts_of(*stations: Station) -> list[HostStation]:
    """Those that are hosts, whose own settings may be wrong."""
    return [station for station in stations if isinstance(station, HostStation)]


def first_of(rules: list[Callable[[], Finding | None]]) -> list[Finding]:
    """The first of some rules that finds something."""
    for rule in rules:
        found = rule()
        if found is not None:
            return [found]
    return []


def at_router(context: Context, stop: Stop, target: Station, back: bool) -> list[Finding]:
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
            return first_of([partial(one, context, gateway) for one in rules])
        wanted = context.expected.subnet(gateway)
        if wanted is not None and goal not in wanted.network:
            found = gateway_mask_differs(context, gateway)
            if found is not None:
                return [found]
        own = (host_tag_wrong, port_mode_routed, judged, host_outside_subnet, host_address_missing)
        return first_of([partial(one, context, host) for host in hosts_of(target) for one in own]) or way_between(
            context, gateway, [target]
        )
    if stop.candidates and (choice is not None or stop.reason == "silent"):  # who is asked is there, and silent
        return way_between(context, gateway, list(stop.candidates))
    return _no_way(context, gateway, target, goal, back, stop.reason == "loop")


def _going_round(context: Context, gateway: Interface, goal: Address) -> Interface:
    """Of the devices that pass a packet round the one that sends it wrong, by the interface that it comes in by."""
    passed: dict[str, Interface] = {}
    at: Interface | None = gateway
    while at is not None and at.device not in passed:
        passed[at.device] = at
        choice = next(iter(context.network.routing.choices(at.device, at.row.table, goal)), None)
        held = context.network.stations.by_address.of(str(choice.next_hop)) if choice is not None else ()
        at = next((s for s in held if isinstance(s, Interface) and s.device not in ("", at.device)), None)
    wrong = (one for one in passed.values() if _route(context, one, goal, False) is not None)
    return next(wrong, gateway)


class _Told:
    """What the rules say of a router or a host, worked out once: many packets stop because of one fault."""

    def __init__(self, context: Context) -> None:
        self._context = context
        self._known: dict[tuple[object, ...], Finding | None] = {}

    def of(self, rule: Callable[..., Finding | None], *about: object) -> Finding | None:
        """What one rule says."""
        key = rule, *about
        if key not in self._known:
            self._known[key] = rule(self._context, *about)
        return self._known[key]


def _no_way(
    context: Context, gateway: Interface, target: Station, goal: Address, back: bool, looped: bool
) -> list[Finding]:
    """Tell whether the destination's subnet is lost, or only this device does not know the way to it."""
    rules: list[Callable[[], Finding | None]] = []
    told = context.once(_Told).of
    here = context.network.stations.on_device[gateway.device]
    rules += [partial(told, address_rules.gateway_addresses_swapped, other) for other in here]
    rules += [partial(told, gateway_table_differs, other) for other in here]
    rules += [partial(told, host_outside_subnet, host) for host in hosts_of(target)]
    own = [s for s in context.network.stations.on_device[gateway.device] if s.address is not None]
    for other in context.network.stations.gateways:
        wanted = context.expected.subnet(other)
        if wanted is None or wanted.version != goal.version or goal not in wanted.network or other.address is None:
            continue
        if goal not in other.address.network:
            rules.append(partial(told, gateway_mask_differs, other))
        elif other.up is False and (other in own or looped):
            return [*context.once(Search).down(other)]
    rules.append(partial(told, routing_rules.route_down, gateway, goal))
    routing = dict.fromkeys([gateway.device, *(other.device for other in context.network.stations.gateways)])
    rules += [partial(told, gateway_mask_differs, mine) for mine in own]
    rules += [partial(told, address_rules.transit_address_wrong, other) for other in context.network.stations.gateways]
    rules += [partial(told, transit_missing, device, goal if device == gateway.device else None) for device in routing]
    lacking = _going_round(context, gateway, goal) if looped else gateway
    rules.append(partial(told, shared_by_one, gateway.device, goal))
    rules.append(partial(_route, context, lacking, goal, back))
    rules += [partial(told, transit_lost, device, None if device == gateway.device else goal) for device in routing]
    vid = context.expected.current_vlan(target)
    for other in [*context.expected.served(vid, target), *misaddressed_in(context, vid, target)]:
        rules.append(partial(told, address_rules.gateway_address_wrong, other))
    for host in hosts_of(target):
        rules += [partial(told, gateway_missing, host), partial(told, host_outside_subnet, host)]
    rules.append(partial(told, routing_rules.route_missing, lacking, goal, back))
    return first_of(rules)


def _route(context: Context, gateway: Interface, goal: Address, back: bool) -> Finding | None:
    found = context.once(_Told).of(routing_rules.route_missing, gateway, goal, back)
    return found if found is not None and found.repair else None


def within(context: Context, gateway: Interface, target: Station, back: bool) -> list[Finding]:
    """What is missing beside a route that drops a whole range: what is known of that range has routes of its own."""
    found = _no_way(context, gateway, target, target.address.ip, back, False) if target.address is not None else []
    sound = all(one.repair and not any(change.delete for change in one.repair) for one in found)
    return found if sound else []


def way_between(context: Context, one: Station, others: list[Station]) -> list[Finding]:
    """What stands between a station and those that could answer it: the cheapest way to any of them."""
    search = context.once(Search)
    ways = [way for way in (search.between(one, other) for other in others) if way is not None]
    if not ways:
        return []
    return list(min(ways, key=lambda way: way.cost).findings)
