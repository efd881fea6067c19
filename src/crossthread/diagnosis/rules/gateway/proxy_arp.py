"""Findings about gateways that answer for others: what works only by that, and who answers beside them."""

from __future__ import annotations

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.findings import Finding, at_station
from crossthread.diagnosis.registry import About, rule
from crossthread.diagnosis.rules.host.address import other_addresses
from crossthread.network.hosts.ends import end_name
from crossthread.network.hosts.station import HostStation, Interface, Station
from crossthread.values import NONE, Address


@rule("proxy-arp-hides", "Gateway and routing")
def proxy_arp_hides(context: Context, gateway: Interface, asker: Station, wanted: Address) -> Finding | None:
    """A pair works only because a gateway answers for addresses that are not its own.

    Matters: a wrong prefix length or a missing gateway stays hidden until somebody turns proxy ARP off.
    Notice: nothing, until the gateway is replaced.
    Confirm: look at the asker's ARP cache: addresses of other subnets have the gateway's MAC address.
    Mend: set right the host that depends on it.
    """
    return Finding(
        "proxy-arp-hides",
        "risks",
        (at_station(gateway), at_station(asker)),
        f"{asker.name} asks for {wanted} on its own wire, and only {gateway.device} {gateway.name} answers in its "
        "place (proxy ARP).",
        context.evidence(gateway.row, "proxy_arp", "address") + context.evidence(asker.row, "address"),
    )


@rule("proxy-arp-hides", "Gateway and routing")
def several_answer(context: Context, asker: Station, wanted: Address) -> Finding | None:
    """Several stations answer for one address, and it depends on whose answer comes first whether packets arrive.

    Matters: the same pair works now and fails a minute later.
    Notice: the pair works and fails by turns.
    Confirm: look which MAC address the asker has for the address; ask for it by ARP and count the answers.
    Mend: give each station its own address; turn off proxy ARP where nobody needs it.
    """
    stations = context.network.stations
    owners = stations.by_address.of(str(wanted))
    proxies = [s for s in stations.proxies if s.row.proxy_arp == "yes"]
    proxied = len(owners) < 2
    others = [*owners, *(proxies if proxied else ())]
    shared = next((s.address for s in owners if s.address is not None), None)
    either = other_addresses(context, shared, owners) if shared is not None and not proxied else ()
    listed = [end_name(one) for one in others]
    says = f"and more than one answers: {' and '.join(listed)}."
    if (own := end_name(asker)) in listed:
        says = f"which it has itself, and so has {' and '.join(name for name in listed if name != own)}."
    evidence = tuple(
        fact
        for s in others
        for fact in context.evidence(s.row, "address", *(() if isinstance(s, HostStation) else ("proxy_arp",)))
    )
    return Finding(
        "proxy-arp-hides" if proxied else "host-address-duplicate",
        "risks",
        tuple(map(at_station, others)),
        f"{own} asks for {wanted}, {says}",
        evidence,
        alternatives=tuple(either),
    )


@rule("proxy-arp-hides", "Gateway and routing", About.GATEWAY)
def proxy_arp_on(context: Context, gateway: Interface) -> Finding | None:
    """A gateway answers for addresses that are not its own (proxy ARP, RFC 1027).

    Matters: hosts with a wrong prefix length or without a gateway work because of it, and stop when it is turned off.
    Notice: nothing.
    Confirm: look at a host's ARP cache: addresses of other subnets have the gateway's MAC address.
    Mend: first set right the hosts that depend on it, then turn it off.
    """
    if gateway.row.proxy_arp != "yes" or gateway.address is None:
        return None
    subnet = gateway.address.network
    leaning = [
        host
        for one in context.network.classes.all
        for host in one.hosts[:1]
        if host.address is not None
        and host.address.ip in subnet
        and (one.gateway == NONE or host.address.network.prefixlen < subnet.prefixlen)
    ]
    listed = ", ".join(host.name for host in leaning[:3]) + (" and others" if len(leaning) > 3 else "")
    says = f"{gateway.device} {gateway.name} answers for others (proxy ARP)"
    return Finding(
        "proxy-arp-hides",
        "risks" if leaning else "note",
        (at_station(gateway),),
        f"{says}; {listed} would not get out of {subnet} without it." if leaning else f"{says}; no host depends on it.",
        context.evidence(gateway.row, "proxy_arp")
        + tuple(f for h in leaning[:3] for f in context.evidence(h.row, "address")),
    )
