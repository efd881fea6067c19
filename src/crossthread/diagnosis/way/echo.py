"""The echo between two hosts and its reply, and whether they get there only by luck."""

from __future__ import annotations

from collections.abc import Sequence

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.findings import Finding
from crossthread.diagnosis.rules.gateway.proxy_arp import proxy_arp_hides
from crossthread.diagnosis.rules.way import way_leaks, way_one_sided
from crossthread.network.hosts.ends import end_named
from crossthread.network.hosts.station import Interface
from crossthread.network.network import Network
from crossthread.network.routing.forwarding import Forwarding
from crossthread.network.routing.walks import Walk
from crossthread.views.way import Hop, path_of


def walks(network: Network, source: str, target: str) -> tuple[Walk, Walk]:
    """The way of an echo and of its reply."""
    forwarding = Forwarding(network)
    one, two = end_named(network, source), end_named(network, target)
    return forwarding.send(one, two), forwarding.send(two, one, reply=True)


def luck(
    context: Context, there: Walk, back: Walk, path: Sequence[Hop], path_back: Sequence[Hop]
) -> tuple[Finding, ...]:
    """What a pair that works does so by luck of: a gateway that answers for others, a leak, links of one direction."""
    found = [
        *_proxies(context, there),
        *_proxies(context, back),
        *way_leaks(context, path),
        *way_leaks(context, path_back),
        *way_one_sided(context, path, path_back),
    ]
    return tuple({finding.identity: finding for finding in reversed(found)}.values())[::-1]


def lucky(context: Context, source: str, target: str) -> bool:
    """Whether a pair works by luck only, or because one of the two is in another VLAN than its subnet lives in.

    Where that is may hang on what nobody read, if anything is unread: then two that are in one VLAN are meant to talk.
    What the plan has otherwise makes no luck of it: the plan may be older than the network.
    """
    hosts = [end_named(context.network, name) for name in (source, target)]
    for host in hosts if not context.network.unread.anywhere else ():
        now = context.expected.current_vlan(host)
        if now is not None and context.observed.vlan(host) != now:
            return True
    there, back = walks(context.network, source, target)
    paths = [path_of(context.network, host, walk) for host, walk in zip(hosts, (there, back), strict=True)]
    return bool(luck(context, there, back, *paths))


def _proxies(context: Context, walk: Walk) -> list[Finding]:
    found = [
        proxy_arp_hides(context, leg.receiver, leg.sender, leg.target)
        for leg in walk.legs
        if leg.proxy and isinstance(leg.receiver, Interface)
    ]
    return [finding for finding in found if finding is not None]
