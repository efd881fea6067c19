"""The addresses that the hosts of an interface's VLAN or subnet ask for as their gateway."""

from __future__ import annotations

from collections import Counter, defaultdict

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.expected.prefix_lengths import end_of
from crossthread.network.hosts.blocks import Block
from crossthread.network.hosts.classes import HostClass
from crossthread.network.hosts.station import Interface
from crossthread.values import NONE, Address, PrefixedAddress, interface


def asked_for(
    context: Context, gateway: Interface, vid: int | None, living_there: bool = False
) -> dict[Address, list[HostClass]]:
    """The addresses that hosts have as their gateway, of its VLAN or (unless they are to live there) its subnet.

    A host of the VLAN with an address from elsewhere counts if its gateway is in the subnet of others there: port and
    gateway speak for each other, and its address is the odd one out.
    """
    assert gateway.address is not None
    own = (context.expected.subnet(gateway) or gateway.address).network
    block = Block.of(str(own))
    found: dict[Address, list[HostClass]] = defaultdict(list)
    odd: list[tuple[Address, HostClass]] = []
    for one, number, width in context.once(_numbered):
        if width and one.vid != vid and not block.holds(number, width):
            continue  # of most it is enough to see that they are elsewhere
        host = one.hosts[0]
        there = one.vid == vid and context.network.one_lan(host, gateway)
        there = there and context.expected.planned(host) in (None, vid)
        near = there or (not living_there and host.address is not None and host.address.ip in own)
        if one.gateway in (None, NONE) or not (near or host.row.address is None):
            continue
        hop = interface(str(one.gateway)).ip
        if host.address is None:
            if hop == gateway.address.ip or (host.row.address == NONE and hop in own):  # else it may be elsewhere
                found[hop].append(one)
            continue
        if hop in host.address.network and hop.version == own.version and (there or hop in own):
            found[hop].append(one)
        elif there and hop not in host.address.network:
            odd.append((hop, one))
    subnets = {one.hosts[0].address.network for users in found.values() for one in users if one.hosts[0].address}
    for hop, one in odd:
        if any(hop in subnet for subnet in subnets):
            found[hop].append(one)
    return found


def _numbered(context: Context) -> list[tuple[HostClass, int, int]]:
    """All classes of hosts with their addresses as numbers of so many bits; of none where they have none."""
    firsts = [(one, one.hosts[0].ip) for one in context.network.classes.all]
    return [(one, int(ip), ip.max_prefixlen) if ip is not None else (one, 0, 0) for one, ip in firsts]


def more_usual(context: Context, gateway: Interface, hop: Address) -> bool:
    """Whether the site's other gateways stand where this address does in their subnets, and not where this one is.

    Most sites give all gateways the first address of their subnets, or the last, or always one of the two.
    """
    assert gateway.address is not None
    others = [s.address for s in context.network.stations.gateways if s.address is not None and s.name != gateway.name]
    habits = Counter(end_of(own.ip, own) for own in others if own.network.num_addresses > _WIDE)
    usual = {kind for kind in habits if kind is not None}
    if len(others) < 2 or habits[None] * 4 > len(others):
        return False
    theirs, its = end_if_as_large(hop, gateway.address), end_of(gateway.address.ip, gateway.address)
    return theirs is not None and (its is None or (theirs in usual and its not in usual))


def end_if_as_large(hop: Address, own: PrefixedAddress) -> str | None:
    """Whether an address is at an end of its subnet, if that is as large as one that is not."""
    return end_of(hop, interface(f"{hop}/{own.network.prefixlen}"))


_WIDE = 4
"""Subnets of no more addresses than this have hardly any but their first and last one."""
