"""Why a host cannot get its packet out: its own settings first, then its gateway, then the way to it."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.expected.misaddressed import misaddressed_in
from crossthread.diagnosis.findings import Finding
from crossthread.diagnosis.repair.hypotheses import judged
from crossthread.diagnosis.rules import between_hosts as between_rules
from crossthread.diagnosis.rules.gateway import address as address_rules
from crossthread.diagnosis.rules.gateway.missing import gateway_missing
from crossthread.diagnosis.rules.gateway.subnet import gateway_mask_differs
from crossthread.diagnosis.rules.gateway.transit import shared_by_one
from crossthread.diagnosis.rules.host.gateway import (
    host_gateway_missing,
    host_gateway_outside_subnet,
    host_gateway_wrong,
)
from crossthread.diagnosis.rules.host.prefix import host_mask_differs
from crossthread.diagnosis.rules.host.subnet import host_outside_peers, host_outside_subnet
from crossthread.diagnosis.rules.host.tag import host_tag_wrong
from crossthread.diagnosis.rules.port.mode import port_mode_routed
from crossthread.diagnosis.search.cheapest_way import Search
from crossthread.diagnosis.way.at_router import at_router, first_of, hosts_of, way_between
from crossthread.network.hosts.station import HostStation, Interface, Station
from crossthread.network.routing.walks import Stop
from crossthread.values import Address, address


def at_host(context: Context, stop: Stop, target: Station) -> list[Finding]:
    """A host that cannot get its packet out: its own settings first, then its gateway, then the way to it."""
    host, hop = stop.station, stop.target
    if not isinstance(host, HostStation):  # a host that was taken for a gateway, or a gateway's own broadcast address
        asked = host if isinstance(host, Interface) and stop.reason == "broadcast" else None
        length = gateway_mask_differs(context, asked) if asked is not None else None
        return [length] if length is not None else at_router(context, stop, target, False)
    if stop.reason == "deaf-host":
        return first_of([partial(host_gateway_wrong, context, asking) for asking in hosts_of(*stop.candidates)])
    if stop.reason == "broadcast" or _mask_misleads(context, host, target, hop):
        found = host_mask_differs(context, host)
        if found is not None:
            return [found]
    shared = [s for s in context.network.stations.gateways if hop is not None and s.row.virtual == str(hop)]
    held = [told for s in shared if (told := between_rules.gateway_shared_state(context, s)) is not None]
    if held and stop.reason == "silent":
        return _raised(context, shared) or held[:1]
    direct = target.address is not None and hop == target.address.ip
    settings: list[Callable[[], Finding | None]] = []
    for one in hosts_of(host, *([target] if direct else [])):
        settings += [partial(host_tag_wrong, context, one), partial(port_mode_routed, context, one)]
    if not direct:
        settings += [
            partial(judged, context, host),
            partial(host_outside_subnet, context, host),
            partial(host_gateway_missing, context, host),
            partial(host_gateway_outside_subnet, context, host),
        ]
    else:
        settings += [partial(judged, context, one) for one in hosts_of(host, target)]
        settings += [partial(host_outside_subnet, context, one) for one in hosts_of(target)]
    if stop.reason == "gateway" and not context.expected.gateways(host):
        settings[:0] = [partial(_like_the_other, context, host, one) for one in hosts_of(target)]
    if stop.reason == "gateway":
        settings += [partial(host_outside_peers, context, one, True) for one in hosts_of(host, target)]
    found_here = first_of(settings)
    if found_here:
        return found_here
    candidates = list(stop.candidates)
    if hop is not None and hop.is_link_local:  # many interfaces have it; meant is the one that serves the host
        serving = {(s.device, s.name) for s in context.expected.gateways(host)}
        candidates = [s for s in candidates if (s.device, s.name) in serving]
    if candidates:
        return way_between(context, host, candidates)
    return _no_gateway(context, host)


def _raised(context: Context, sharing: list[Interface]) -> list[Finding]:
    """What keeps down the interface that has a shared address, or all that might; or who shares it no longer."""
    holders = [one for one in sharing if one.row.virtual_state == "master"] or sharing
    down = holders if all(one.up is False for one in holders) else []
    if down:
        return [*context.once(Search).down(down[0])]
    hop = address(sharing[0].row.virtual or "")
    lost = (shared_by_one(context, device, hop) for device in [*context.network.stations.on_device])
    return [told for told in lost if told is not None][:1]


def _like_the_other(context: Context, host: HostStation, target: HostStation) -> Finding | None:
    """Without any gateway to decide: the other host takes the two for neighbours, so let this one do so too."""
    if host.address is None or target.address is None or host.address.ip not in target.address.network:
        return None
    length = target.address.network.prefixlen
    return host_mask_differs(context, host, length) if context.expected.may_have_length(host, length) else None


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
    return first_of(
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
