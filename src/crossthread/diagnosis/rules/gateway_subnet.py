"""Findings about the subnets of gateways: another prefix length than the hosts', or one within another's."""

from __future__ import annotations

from collections.abc import Iterator
from ipaddress import ip_network

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.edits import set_gateway
from crossthread.diagnosis.findings import Finding, at_station
from crossthread.diagnosis.registry import About, rule
from crossthread.diagnosis.rules.gateway import called
from crossthread.network.hosts.station import HostStation, Interface
from crossthread.survey.changes import Change
from crossthread.values import NONE, address


@rule("gateway-mask-differs", "Gateway and routing", About.GATEWAY)
def gateway_mask_differs(context: Context, gateway: Interface) -> Finding | None:
    """A gateway's prefix length is not that of its hosts.

    Matters: with too long a prefix it does not know some of its hosts; with too short a one it looks on its own wire
    for hosts that are elsewhere.
    Notice: some hosts of the subnet are not reached from outside, others are.
    Confirm: compare the prefix length on the interface and on its hosts.
    Decide: ask how long the prefix of the subnet is meant to be: the list of addresses names it.
    Mend: set the prefix length that the hosts have.
    """
    wanted = context.expected.length(gateway)
    if gateway.address is None or wanted is None or wanted == gateway.address.network.prefixlen:
        return None
    subnet = ip_network(f"{gateway.address.ip}/{wanted}", strict=False)
    evidence = context.evidence(gateway.row, "address")
    for other in context.expected.near(gateway.address.ip):
        if isinstance(other, HostStation) and other.address and other.address.network == subnet and len(evidence) < 4:
            evidence += context.evidence(other.row, "address")
    hosts, routes = len(evidence) > 1, context.network.routing.routes(gateway.device)
    hops = [row for row in routes if row.interface == gateway.name and row.next_hop not in (None, NONE)]
    says = f"where its hosts in {subnet} have {wanted}."
    if not hosts and (passed := [row for row in hops if address(row.next_hop or "") in subnet]):
        says = f"where {gateway.device} sends packets by it to {passed[0].next_hop}, which is in {subnet}."
        evidence += context.evidence(passed[0], "next_hop", "interface")
    return Finding(
        "gateway-mask-differs",
        "breaks",
        (at_station(gateway),),
        f"{called(gateway)} has the prefix length {gateway.address.network.prefixlen}, {says}",
        evidence,
        (_with_length(context, gateway, f"{gateway.address.ip}/{wanted}"),),
    )


def _with_length(context: Context, gateway: Interface, own: str) -> Change:
    """Give an address another length; or take it away, where the interface has it with that length already."""
    rows = (s.row.address for s in context.network.stations.on_device[gateway.device] if s.name == gateway.name)
    change = set_gateway(gateway, address=own)
    return Change(change.table, change.key, delete=True) if own in rows else change


@rule(
    "gateway-subnet-overlaps",
    "Gateway and routing",
    About.GATEWAY,
    follows="gateway-mask-differs gateway-address-wrong",
)
def gateway_subnet_overlaps(context: Context, gateway: Interface) -> Finding | None:
    """The subnet of an interface holds, or is, the subnet of another interface of its device.

    Matters: what is meant for the hosts of the one goes out by the other; most devices refuse the second.
    Notice: some addresses of the larger subnet are not reached from elsewhere.
    Confirm: compare the prefix lengths of both interfaces with those in the list of subnets.
    Mend: give both the prefix lengths that their subnets are meant to have.
    """
    within = list(_within(context, gateway))
    if gateway.address is None or not within:
        return None
    listed = ", ".join(f"{other.name} ({other.row.address})" for other in within)
    return Finding(
        "gateway-subnet-overlaps",
        "risks",
        (at_station(gateway), *map(at_station, within)),
        f"{called(gateway)} ({gateway.row.address}) has in its subnet {gateway.address.network} that of {listed}.",
        tuple(fact for one in (gateway, *within) for fact in context.evidence(one.row, "address")),
    )


def _within(context: Context, gateway: Interface) -> Iterator[Interface]:
    """The other interfaces of a device, of the same routing table, whose subnets one holds; of equals the later ones.

    A subnet of a single address is one wherever it is, shared addresses are meant to be of one subnet, and of two that
    have one address that is told.
    """
    own, later = gateway.address, False
    for other in context.network.stations.on_device[gateway.device]:
        later = later or other is gateway
        theirs = other.address
        if own is None or theirs is None or other.name == gateway.name or other.row.table != gateway.row.table:
            continue
        if not _counts(gateway) or not _counts(other) or own.ip == theirs.ip or theirs.network.num_addresses == 1:
            continue
        larger = own.network.prefixlen < theirs.network.prefixlen or (own.network == theirs.network and later)
        if larger and theirs.network.network_address in own.network:
            yield other


def _counts(gateway: Interface) -> bool:
    """Whether an interface is not down, and not there for a shared address."""
    return gateway.up is not False and gateway.row.virtual in (None, NONE)
