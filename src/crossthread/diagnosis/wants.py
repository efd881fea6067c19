"""Whom each class of hosts should reach: its gateway, others of its subnet, and some hosts of other subnets."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection, Iterator, Mapping
from itertools import islice
from typing import NamedTuple

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.expected.islands import Islands
from crossthread.network.hosts.classes import HostClass
from crossthread.network.hosts.station import HostStation, Interface
from crossthread.values import NONE, Prefix

_FAR = 2
"""How many hosts of other subnets each class is tried with: one behind the same device that routes, one behind
another."""


class Want(NamedTuple):
    """Two that should reach each other: a host for its class, and another host or (None) the gateway of its subnet."""

    one: str
    other: str | None
    losers: tuple[HostClass, ...]
    """Whose hosts lose if they do not."""


def find_wants(context: Context) -> Iterator[Want]:
    """Whom each class should reach.

    Its gateway, the largest other class of its subnet, some hosts of other subnets; and one host of each subnet every
    other subnet, by each device that routes. Of other subnets only those that are joined to its own by anything.
    """
    islands = context.once(Islands)
    subnets: dict[Prefix, list[HostClass]] = defaultdict(list)
    for one in context.network.classes.all:
        first = one.hosts[0]
        subnet = context.expected.subnet(first)
        if subnet is not None:
            subnets[subnet.network].append(one)
        elif first.row.address == NONE:
            yield from _addressless(context, one)
    mains = {network: max(classes, key=rank) for network, classes in subnets.items()}
    served = {network: context.expected.gateways(main.hosts[0])[:1] for network, main in mains.items()}
    routed = [network for network in mains if served[network] or _expects_gateway(subnets[network])]
    parts = [islands.part(network) for network in routed]
    for network, classes in subnets.items():
        main, own = mains[network], islands.part(network)
        near = [other for other, part in zip(routed, parts, strict=True) if part == own]
        others = _some_far(context, network, near, served, mains)
        for one in classes:
            first = one.hosts[0]
            if served[network]:
                yield Want(first.name, None, (one,))
            peer = main.hosts[0] if one is not main else next(iter(main.hosts[1:2]), None)
            if peer is None and not served[network]:
                peer = next((s for s in _who_expects(context, first) if s is not first), None)
            if peer is not None:
                yield Want(first.name, peer.name, (one,))
            yield from (Want(first.name, other.name, (one,)) for other in _astray(first, network, subnets, near))
            if one is not main:
                yield from (Want(first.name, mains[other].hosts[0].name, (one,)) for other in others)
    done: set[tuple[object, int]] = set()
    routers = [_router(served[network]) or network for network in routed]
    for n, one_net in enumerate(routed):
        for m, two_net in enumerate(routed):
            if n == m or one_net.version != two_net.version or parts[n] != parts[m]:
                continue
            keys = {(routers[n], m), (routers[m], n)}
            if keys <= done or not _may(context, mains[one_net], mains[two_net]):
                continue
            done |= keys
            losers = (*subnets[one_net], *subnets[two_net])
            yield Want(mains[one_net].hosts[0].name, mains[two_net].hosts[0].name, losers)


def _astray(
    host: HostStation, network: Prefix, subnets: Mapping[Prefix, list[HostClass]], routed: Collection[Prefix]
) -> Iterator[HostStation]:
    """One of a host's subnet that it takes for one of elsewhere, as its prefix is longer; or some of elsewhere.

    If it is shorter, that is one that it takes for its subnet's, and one that it does not.

    Parameters
    ----------
    host
        A host.
    network
        The subnet that it should be in.
    subnets
        All classes of hosts, by the subnet that they should be in.
    routed
        The subnets that have gateways.
    """
    own = host.address.network if host.address is not None else network
    if own == network:
        return
    mates, elsewhere = subnets[network], [other for other in routed if other != network and network in routed]
    others = [one for other in elsewhere for one in subnets[other]]
    wide = own.prefixlen < network.prefixlen
    for classes, inside in ((others, True), (others, False)) if wide else ((mates, False),):
        hosts = (one.hosts[0] for one in classes)
        yield from islice((other for other in hosts if other.ip is not None and (other.ip in own) is inside), 1)


def _router(gateways: list[Interface]) -> tuple[str, object] | None:
    """The routing table that a subnet's packets come to first."""
    return (gateways[0].device, gateways[0].row.table) if gateways else None


def _expects_gateway(classes: list[HostClass]) -> bool:
    """Whether most hosts of a subnet have a gateway set, whether or not it is there."""
    having = sum(len(one.hosts) for one in classes if one.gateway not in (None, NONE))
    return 2 * having > sum(len(one.hosts) for one in classes)


def _who_expects(context: Context, host: HostStation) -> Iterator[HostStation]:
    """The hosts that take a host for a neighbour, though it may not take them for such."""
    if host.address is not None:
        yield from (other for other in context.expected.near(host.address.ip) if isinstance(other, HostStation))


def rank(one: HostClass) -> tuple[bool, int]:
    """How well a class stands for its subnet: plain hosts before special ones, many before few."""
    return one.plain, len(one.hosts)


def _may(context: Context, one: HostClass, two: HostClass) -> bool:
    return context.plan.may_talk(context.expected.vlan(one.hosts[0]), context.expected.vlan(two.hosts[0]))


def _some_far(
    context: Context,
    network: Prefix,
    routed: list[Prefix],
    served: dict[Prefix, list[Interface]],
    mains: dict[Prefix, HostClass],
) -> list[Prefix]:
    """A few other subnets that the hosts of one may talk with, behind the same device that routes and behind others."""
    if not any(other is network for other in routed):
        return []
    own = _router(served[network])
    others = [other for other in routed if other is not network and other.version == network.version]

    def first(behind_the_same: bool, count: int) -> list[Prefix]:
        near = (other for other in others if (_router(served[other]) == own) is behind_the_same)
        return list(islice((other for other in near if _may(context, mains[network], mains[other])), count))

    same = first(True, 1)
    return [*same, *first(False, _FAR - len(same))]


def _addressless(context: Context, one: HostClass) -> Iterator[Want]:
    """A host without an address reaches nobody; any other host of its VLAN, or at all, shows it."""
    vid = one.vid
    others = [c for c in context.network.classes.all if c is not one and c.block is not None]
    others = [c for c in others if context.once(Islands).same_place(one.hosts[0], c.hosts[0])] or others
    near = [c for c in others if c.vid == vid] or others
    if near:
        yield Want(one.hosts[0].name, near[0].hosts[0].name, (one,))
