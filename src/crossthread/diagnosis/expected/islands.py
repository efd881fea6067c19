"""Which subnets belong to one network, where a survey holds several that have nothing to do with each other.

Somebody surveys two sites, or a laboratory by the campus. Nothing that was read joins them, so no route is missing
between them, and nothing that could be set would let their hosts talk.
"""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Iterator

from crossthread.diagnosis.context import Context
from crossthread.network.hosts.station import HostStation, Station
from crossthread.network.topology.graph import joined
from crossthread.values import NONE, Prefix, prefix

_Node = tuple[str, str] | Prefix
_UNREAD = "unread", ""
"""What nobody read: it may join all that it may be behind."""
_PLANNED = "plan", ""


class Islands:
    """The parts of a survey that are joined by cables, subnets, gateways, routes, the plan, or what nobody read."""

    def __init__(self, context: Context) -> None:
        self._parts = joined(_together(context))

    def same(self, one: Prefix, two: Prefix) -> bool:
        """Whether two subnets are of one, so that their hosts may be meant to talk with each other."""
        return self.part(one) == self.part(two)

    def same_place(self, one: HostStation, two: HostStation) -> bool:
        """Whether two hosts may be of one, by where they are plugged in."""
        first, second = (_device(host.device) if host.device else _UNREAD for host in (one, two))
        return self.part(first) == self.part(second)

    def part(self, node: _Node) -> _Node:
        """What stands for the part that something is in."""
        return self._parts.get(node, node)


def apart(context: Context, one: Station, two: Station) -> bool:
    """Whether nothing that was read joins the subnets of two stations."""
    first, second = (context.expected.subnet(station) for station in (one, two))
    return first is not None and second is not None and not context.once(Islands).same(first.network, second.network)


def _device(name: str) -> _Node:
    return "device", name


def _together(context: Context) -> Iterator[tuple[_Node, _Node]]:
    """What belongs to one network: devices, subnets, and what nobody read."""
    network, spelled = context.network, context.network.names.spelled
    for adjacency in network.adjacencies:
        yield _device(adjacency.a.device), _device(adjacency.b.device)
    yield from ((_device(end.device), _UNREAD) for end in network.open_ends)
    for gateway in network.stations.gateways:
        if gateway.address is not None:
            yield gateway.address.network, _device(gateway.device)
    yield from _by_hosts(context)
    yield from _by_routes(context)
    for link in context.plan.links:
        yield _device(spelled[link.ends[0]]), _device(spelled[link.ends[2]])
    for entry in context.plan.vlans.values():
        yield from ((prefix(text), _PLANNED) for text in entry.subnets or ())


def _by_hosts(context: Context) -> Iterator[tuple[_Node, _Node]]:
    """Where the hosts of each subnet are, and who serves them."""
    for one in context.network.classes.all:
        host = one.hosts[0]
        own = context.expected.subnet(host)
        if own is not None:
            gateways = context.expected.gateways(host)
            yield own.network, _device(host.device) if host.device else _UNREAD
            yield from ((own.network, _device(gateway.device)) for gateway in gateways)
            if not gateways and one.gateway != NONE and context.network.unread.anywhere:
                yield own.network, _UNREAD


def _by_routes(context: Context) -> Iterator[tuple[_Node, _Node]]:
    """To whom each device passes packets on, and the subnets that it has routes to, but for the default route."""
    network = context.network
    own = {s.network for one in network.classes.all if (s := context.expected.subnet(one.hosts[0])) is not None}
    ordered = sorted((subnet.version, int(subnet.network_address), subnet) for subnet in own)
    for route in network.survey.routes:
        device, goal = _device(network.names.spelled[route.device]), prefix(route.prefix)
        if route.next_hop != NONE:
            holders = network.stations.by_address.of(route.next_hop or "")
            yield from ((device, _device(holder.device)) for holder in holders)
            if not holders and network.unread.anywhere:
                yield device, _UNREAD
        if goal.prefixlen:
            first = bisect_left(ordered, (goal.version, int(goal.network_address)), key=lambda entry: entry[:2])
            last = bisect_right(ordered, (goal.version, int(goal.broadcast_address)), key=lambda entry: entry[:2])
            yield from ((device, subnet) for _, _, subnet in ordered[first:last])
