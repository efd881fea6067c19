"""Why a packet got no further: from the place where a walk stops to the finding that explains it, and its mend."""

from __future__ import annotations

from functools import partial

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.findings import Finding, at_station
from crossthread.diagnosis.rules import between_hosts as between_rules
from crossthread.diagnosis.rules import routing as routing_rules
from crossthread.diagnosis.rules.gateway import address as address_rules
from crossthread.diagnosis.rules.gateway.subnet import gateway_outside_shared
from crossthread.diagnosis.rules.host.address import host_address_missing
from crossthread.diagnosis.rules.host.prefix import host_address_broadcast, host_mask_differs
from crossthread.diagnosis.rules.survey import unexplained
from crossthread.diagnosis.rules.vlan_subnet import subnet_unrouted
from crossthread.diagnosis.search.cheapest_way import Search
from crossthread.diagnosis.way.at_host import at_host
from crossthread.diagnosis.way.at_router import at_router, first_of, hosts_of, within
from crossthread.network.hosts.station import HostStation, Interface, Station
from crossthread.network.routing.walks import Stop


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
        for one in hosts_of(stop.station, target)
        if (told := between_rules.host_address_automatic(context, one)) is not None
    ]
    if alone:
        return alone[:1]
    if stop.reason in ("gateway", "silent", "route", "loop"):
        between = [one for one in (stop.station, *stop.candidates) if isinstance(one, Interface)]
        beside = context.network.stations.on_device.get(stop.station.device, ()) if between else ()
        rules = [partial(address_rules.gateway_addresses_swapped, context, one) for one in between]
        wrong = first_of([*rules, *(partial(gateway_outside_shared, context, one) for one in (*between, *beside))])
        if wrong:
            return wrong
    if stop.reason != "address":
        unfit = first_of([partial(_for_broadcasts, context, one) for one in hosts_of(stop.station, target)])
        if unfit:
            return unfit
    if stop.reason == "address" and isinstance(stop.station, HostStation):
        return first_of([partial(host_address_missing, context, stop.station)])
    if stop.reason == "family":
        return [_no_common_family(context, stop.station)]
    asking = next((one for one in stop.candidates if isinstance(one, Interface)), None)
    if stop.reason == "deaf-host" and asking is not None and target.ip not in (None, stop.target):
        assert target.ip is not None
        # A router's next hop is a host.
        return first_of([partial(routing_rules.route_missing, context, asking, target.ip, back)])
    if stop.reason in ("gateway", "gateway-outside", "deaf-host", "broadcast") or (
        stop.reason == "silent" and isinstance(stop.station, HostStation)
    ):
        return at_host(context, stop, target)
    if stop.reason == "filter" and stop.entry is not None:
        return first_of([partial(between_rules.filter_drops, context, stop.port or stop.station, stop.entry, back)])
    if stop.reason == "discards" and isinstance(stop.station, Interface) and stop.choice is not None:
        drops = between_rules.route_discards(context, stop.station, stop.choice)
        return within(context, stop.station, target, back) or ([drops] if drops is not None else [])
    if stop.reason == "down":
        return [*context.once(Search).down(stop.station)]
    if stop.reason == "routing":
        return first_of([partial(routing_rules.routing_off, context, stop.station.device)])
    if stop.reason in ("route", "loop", "silent"):
        return at_router(context, stop, target, back)
    return []


def at_its_end(context: Context, stop: Stop, target: Station) -> Finding:
    """What is told of a stop that nothing explains: that nobody routes there, or that too little was observed."""
    unrouted = (subnet_unrouted(context, host) for host in hosts_of(stop.station, target))
    return next((told for told in unrouted if told is not None), None) or unexplained(context, stop)


def _for_broadcasts(context: Context, host: HostStation) -> Finding | None:
    """A host with the broadcast address of its subnet; its prefix may be what makes it one."""
    told = host_address_broadcast(context, host)
    return (host_mask_differs(context, host) or told) if told is not None else None


def _no_common_family(context: Context, host: Station) -> Finding:
    return Finding(
        "host-address-missing",
        "breaks",
        (at_station(host),),
        f"{host.name} has only the address {host.address}: the two hosts have no kind of address in common.",
        context.evidence(host.row, "address"),
    )
