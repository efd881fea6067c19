"""Findings about the subnets of gateways: another prefix length than the hosts', or one within another's."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator
from ipaddress import ip_network

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.edits import set_gateway
from crossthread.diagnosis.expected.free_addresses import free_address
from crossthread.diagnosis.expected.misaddressed import swapped_with
from crossthread.diagnosis.findings import Finding, at_station
from crossthread.diagnosis.registry import About, rule
from crossthread.diagnosis.rules.gateway.interface import called
from crossthread.network.hosts.station import HostStation, Interface
from crossthread.survey.changes import Change
from crossthread.values import NONE, Prefix, address


@rule("gateway-mask-differs", "Gateway and routing", About.GATEWAY, follows="gateway-address-wrong")
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


@rule("gateway-address-wrong", "Gateway and routing", About.GATEWAY)
def gateway_outside_shared(context: Context, gateway: Interface) -> Finding | None:
    """An interface is not in the subnet of the address that it shares, and another one that shares it is (RFC 9568).

    Matters: its device has no way into that subnet, also where it holds the shared address.
    Notice: the hosts of the subnet are not reached by that router, or only as long as the other one holds the address.
    Confirm: compare the addresses of all interfaces that share it.
    Decide: ask which address the interface is meant to have: the list of addresses names it.
    Mend: give it an address of that subnet, the one that stands at the same place there if nobody has it.
    """
    own, shared = gateway.address, gateway.row.virtual
    if own is None or not shared or shared == NONE or address(shared) in own.network:
        return None
    if swapped_with(context, gateway):
        return None
    sharing = (s for s in context.network.stations.gateways if s.row.virtual == shared and s.device != gateway.device)
    other = next((s for s in sharing if s.address is not None and address(shared) in s.address.network), None)
    if other is None or other.address is None:
        return None
    place, subnet = int(own.ip) - int(own.network.network_address), other.address.network
    wanted = subnet[place] if place < subnet.num_addresses - 1 else None
    taken = context.network.stations.by_address
    free = wanted if wanted is not None and str(wanted) not in taken else free_address(context, other.address)
    unknown = free is None or context.network.unread.anywhere  # somebody nobody read may have it
    repair = () if unknown else (set_gateway(gateway, address=f"{free}/{subnet.prefixlen}"),)
    return Finding(
        "gateway-address-wrong",
        "breaks",
        (at_station(gateway),),
        f"{called(gateway)} has the address {own}, which is not in {subnet}, the subnet of the address {shared} that "
        f"it shares with {called(other)}.",
        context.evidence(gateway.row, "address", "virtual") + context.evidence(other.row, "address", "virtual"),
        repair,
    )


@rule(
    "gateway-subnet-overlaps",
    "Gateway and routing",
    About.DEVICE,
    follows="gateway-mask-differs gateway-address-wrong",
)
def gateway_subnet_overlaps(context: Context, device: str) -> Iterator[Finding]:
    """The subnet of an interface holds, or is, the subnet of another interface of its device.

    Matters: what is meant for the hosts of the one goes out by the other; most devices refuse the second.
    Notice: some addresses of the larger subnet are not reached from elsewhere.
    Confirm: compare the prefix lengths of both interfaces with those in the list of subnets.
    Mend: give both the prefix lengths that their subnets are meant to have.
    """
    for gateway, within in _overlapping(context.network.stations.on_device.get(device, ())):
        listed = ", ".join(f"{other.name} ({other.row.address})" for other in within)
        yield Finding(
            "gateway-subnet-overlaps",
            "risks",
            (at_station(gateway), *map(at_station, within)),
            f"{called(gateway)} ({gateway.row.address}) has in its subnet that of {listed}.",
            tuple(fact for one in (gateway, *within) for fact in context.evidence(one.row, "address")),
        )


def _overlapping(interfaces: Iterable[Interface]) -> list[tuple[Interface, list[Interface]]]:
    """The interfaces in whose subnets those of others are, of one routing table; each with those nearest within.

    A subnet of a single address is one wherever it is, shared addresses are meant to be of one subnet, and of two that
    have one address that is told.
    """
    tables: dict[tuple[object, int], list[tuple[Prefix, Interface]]] = defaultdict(list)
    for one in interfaces:
        if one.address is not None and one.address.network.num_addresses > 1 and _counts(one):
            tables[one.row.table, one.address.version].append((one.address.network, one))
    found: dict[int, tuple[Interface, list[Interface]]] = {}
    for held in tables.values():
        around: list[tuple[Prefix, Interface]] = []  # each within the one before, as a larger subnet comes first
        for subnet, one in sorted(held, key=lambda entry: (int(entry[0].network_address), entry[0].prefixlen)):
            while around and subnet.network_address not in around[-1][0]:
                around.pop()
            outer = around[-1][1] if around else None
            if outer is not None and outer.name != one.name and outer.ip != one.ip:
                found.setdefault(id(outer), (outer, []))[1].append(one)
            around.append((subnet, one))
    return list(found.values())


def _counts(gateway: Interface) -> bool:
    """Whether an interface is not down, and not there for a shared address."""
    return gateway.up is not False and gateway.row.virtual in (None, NONE)
