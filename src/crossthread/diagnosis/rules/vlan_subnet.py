"""Findings about the subnets of hosts: of each another in one VLAN, or of one that nobody routes."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.expected.listed_vlans import ListedVlans
from crossthread.diagnosis.findings import Finding, Subject, at_station
from crossthread.diagnosis.registry import About, rule
from crossthread.network.hosts.station import HostStation
from crossthread.values import NONE, address


@rule("vlan-subnets-differ", "VLAN", About.CAMPUS)
def vlan_subnets_differ(context: Context) -> Iterator[Finding]:
    """The hosts of a VLAN are each in a subnet of its own, which nobody else is in and no gateway serves.

    Matters: they hear each other, and reach neither each other nor anybody else.
    Notice: two neighbours do not find each other.
    Confirm: compare addresses and prefix lengths of the hosts of that VLAN.
    Decide: ask which subnet the VLAN is meant to have: the list of VLANs and subnets names it.
    Mend: give them addresses of one subnet, or put those into another VLAN that are there by mistake.
    """
    for vid, classes in context.classes_in.items():
        if not vid or len(classes) < 2 or any(len(one.hosts) > 1 for one in classes):
            continue
        by_lan: dict[tuple[str | None, int], list[HostStation]] = defaultdict(list)
        for host in (one.hosts[0] for one in classes):
            if host.address is not None:
                by_lan[context.network.lan(host), host.address.version].append(host)
        for hosts in by_lan.values():
            if len(hosts) > 1 and all(_is_lost(context, host) for host in hosts):
                listed = ", ".join(f"{host.name} in {host.address.network}" for host in hosts[:3] if host.address)
                yield Finding(
                    "vlan-subnets-differ",
                    "risks",
                    (Subject(vid=vid), *map(at_station, hosts[:2])),
                    f"In VLAN {vid} no two hosts are of one subnet, and no gateway serves any: {listed}.",
                    tuple(fact for host in hosts[:3] for fact in context.evidence(host.row, "address", "gateway")),
                )


def _is_lost(context: Context, host: HostStation) -> bool:
    """Whether nobody else is known to be in a host's subnet, nobody serves it, and it has no gateway."""
    near = context.expected.near(host.address.ip) if host.address is not None else ()
    return host.row.gateway == NONE and all(other is host for other in near)


@rule("subnet-unrouted", "Gateway and routing")
def subnet_unrouted(context: Context, host: HostStation) -> Finding | None:
    """Nobody routes for the subnet of a host: it has no gateway, nobody there is known to have one, and none serves it.

    Matters: those of the subnet reach each other and nobody else, which may be just what is wanted of machines or
    cameras.
    Notice: they reach each other; nobody else reaches them.
    Confirm: list the routes on the host, and the addresses of every device that routes.
    Decide: ask whether that subnet is meant to reach others, and to be reached.
    Mend: if it is, give an interface in its VLAN an address of the subnet, and that one to its hosts as gateway.
    """
    if host.row.gateway != NONE or host.address is None:
        return None
    near, own = [*context.expected.near(host.address.ip)], host.address.network
    served = any(not isinstance(one, HostStation) or one.row.gateway not in (None, NONE) for one in near)
    planned = any(address(ip) in own for entry in context.plan.vlans.values() for ip in entry.gateways or ())
    led = len(near) == 1 and _led_to_routers(context, host)  # several without a gateway are meant to be
    if served or planned or led or context.expected.routed_lengths(host.address.ip):
        return None
    evidence = context.evidence(host.row, "address", "gateway")
    says = f"{host.name} has no gateway, and no interface that was read has an address in {own}"
    says += ", which may be meant: it reaches those of its subnet only."
    return Finding("subnet-unrouted", "breaks", (at_station(host),), says, evidence)


def _led_to_routers(context: Context, host: HostStation) -> bool:
    """Whether the list of a trunk towards a router names the VLAN of a host, as if an interface there served it.

    Where one does serve it, it says nothing of another subnet that a host has there.
    """
    vid, listed = context.expected.current_vlan(host), context.once(ListedVlans)
    if vid is None or context.expected.served(vid, host):
        return False
    ends = (link.far(end) for end in context.network.gateways_at for link in context.adjacencies_at.get(end, ()))
    return any(listed.names(end, vid) for end in ends)
