"""Findings about the length of a host's prefix, and what only that makes of its address."""

from __future__ import annotations

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.edits import set_host
from crossthread.diagnosis.expected.free_addresses import free_address
from crossthread.diagnosis.findings import Finding, at_station
from crossthread.diagnosis.registry import About, rule
from crossthread.network.hosts.station import HostStation
from crossthread.values import NONE, address, resized


@rule("host-mask-differs", "Host", About.HOST, reads="subnet expected", follows_in_vlan="gateway-mask-differs")
def host_mask_differs(context: Context, host: HostStation, length: int | None = None) -> Finding | None:
    """The host's prefix length is not that of its gateway and its neighbours.

    Matters: with too short a prefix it asks on its own wire for hosts that are elsewhere; with too long a one it sends
    its neighbours' packets to the gateway, or does not see the gateway at all.
    Notice: some addresses of its own subnet, or of others, are not reached, and all the rest are.
    Confirm: compare prefix lengths on the host, on a neighbour and on the gateway interface.
    Decide: ask how long the prefix of the subnet is meant to be: the list of addresses names it.
    Mend: set the prefix length that the gateway has.
    """
    wanted = length or context.expected.length(host)
    if host.address is None or wanted is None or wanted == host.address.network.prefixlen:
        return None
    subnet = resized(host.address, wanted).network
    evidence = context.evidence(host.row, "address")
    agreeing = [s for s in context.expected.near(host.address.ip) if s.address and s.address.network == subnet]
    for other in agreeing[:3]:
        evidence += context.evidence(other.row, "address")
    says = f"{host.name} has the prefix length {host.address.network.prefixlen}"
    hop = host.row.gateway
    alone = not agreeing and hop not in (None, NONE) and address(hop or "") in subnet
    if alone:  # of no more than its gateway it is known that it is in there, too
        says += f", and {hop} as its gateway, which is in {subnet} like the host itself."
        evidence += context.evidence(host.row, "gateway")
    else:
        says += f", where the others in {subnet} have {wanted}."
    return Finding(
        "host-mask-differs",
        "breaks",
        (at_station(host),),
        says,
        evidence,
        (set_host(host, address=f"{host.address.ip}/{wanted}"),),
    )


@rule("host-address-broadcast", "Host", About.HOST, reads="subnet expected", unless=(host_mask_differs,))
def host_address_broadcast(context: Context, host: HostStation) -> Finding | None:
    """The host has the address that its own subnet uses for broadcasts (RFC 919).

    Matters: nobody sends to it alone, and no device lets it send.
    Notice: the host reaches nobody.
    Confirm: compare the host's address and prefix length with a neighbour's.
    Mend: give it a free address of its subnet; if its prefix is too long, set the one that the others have.
    """
    own = host.address
    if own is None or own.version == 6 or own.network.num_addresses <= _PAIR:
        return None
    if own.ip != own.network.broadcast_address:
        return None
    free = free_address(context, own, host)
    return Finding(
        "host-address-broadcast",
        "breaks",
        (at_station(host),),
        f"{host.name} has {own.ip}, the broadcast address of its subnet {own.network}.",
        context.evidence(host.row, "address"),
        (set_host(host, address=f"{free}/{own.network.prefixlen}"),) if free is not None else (),
    )


_PAIR = 2
"""A subnet of so few addresses has none for broadcasts (RFC 3021)."""
