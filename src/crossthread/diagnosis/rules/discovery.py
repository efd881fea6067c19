"""Findings about where neighbour discovery is spoken, and where it is not (IEEE 802.1AB)."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Sequence
from ipaddress import ip_network

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.edits import set_port
from crossthread.diagnosis.findings import Finding, Subject, at_port
from crossthread.diagnosis.registry import About, rule
from crossthread.network.hosts.station import Interface
from crossthread.network.topology.names import End
from crossthread.values import Address

_PRIVATE = tuple(map(ip_network, (
    "10.0.0.0/8", "172.16.0.0/12", "192.168.0.0/16", "100.64.0.0/10", "169.254.0.0/16", "127.0.0.0/8", "fc00::/7",
    "fe80::/10", "::1/128",
)))  # fmt: skip
"""Addresses that are of no use outside (RFC 1918, RFC 6598, RFC 3927, RFC 4193, RFC 4291)."""


def _private(ip: Address) -> bool:
    return any(ip in network for network in _PRIVATE)


@rule("discovery-off", "Neighbour discovery", About.CABLED_PORT)
def discovery_off(context: Context, end: End) -> Finding | None:
    """A port between two devices does not speak or listen, or neighbour discovery is off on the whole device.

    Matters: the map is drawn from one end only there, and a wrong cable goes unseen.
    Notice: nothing, until somebody trusts the map.
    Confirm: look at the discovery settings of the device and of the port.
    Mend: turn neighbour discovery on between devices.
    """
    if context.plan.settings.discovery == "nowhere":
        return None
    row, port = context.device(end.device), context.port(end)
    if row is not None and row.discovery == "off":
        says, evidence = f"Neighbour discovery is off on {end.device}.", context.evidence(row, "discovery")
        return Finding("discovery-off", "note", (Subject(device=end.device),), says, evidence)
    if port is None or port.discovery not in ("off", "send", "receive"):
        return None
    lacks = {"off": "neither speaks nor listens", "send": "does not listen", "receive": "does not speak"}
    others = " and ".join(str(a.far(end)) for a in context.adjacencies_at.get(end, ()))
    return Finding(
        "discovery-off",
        "note",
        (at_port(end),),
        f"{end}, which leads to {others or 'a neighbour'}, {lacks[port.discovery]}: discovery {port.discovery}.",
        context.evidence(port, "discovery"),
    )


@rule("discovery-off", "Neighbour discovery", About.DEVICE)
def discovery_silent(context: Context, device: str) -> Finding | None:
    """A device hears nobody and nobody hears it, though it is cabled to others that hear each other.

    Matters: its cables are in no map but by what somebody typed, and a wrong one goes unseen.
    Notice: the device is missing on the map, or stands there alone.
    Confirm: look whether neighbour discovery is on there; read its neighbour table again.
    Mend: turn neighbour discovery on between devices.
    """
    network, row = context.network, context.device(device)
    if row is not None and row.discovery == "off":
        return None  # told of its ports
    if device in context.hearing_devices or not network.covered.fully(device, "neighbors"):
        return None
    told = {network.names.neighbor_device(heard) for heard in network.survey.neighbors}
    if device in told or not network.links or context.plan.settings.discovery == "nowhere":
        return None
    ends = [end for end in network.cabled if end.device == device]
    hidden = [end for end in network.open_ends if end.device == device and end.port]
    ports = sorted(end.port for end in {*ends, *hidden} if end.port)
    if not ports:
        return None
    listed = ", ".join(ports[:8]) + (f" and {len(ports) - 8} more" if len(ports) > 8 else "")
    return Finding(
        "discovery-off",
        "note",
        (Subject(device=device),),
        f"{device} hears nobody and nobody hears it: neighbour discovery seems to be off there, which hides what is "
        f"at the other end of {listed}.",
        context.evidence(row, "discovery", "capabilities"),
    )


@rule("discovery-exposed", "Neighbour discovery", About.GATEWAY)
def discovery_outside(context: Context, gateway: Interface) -> Finding | None:
    """A port towards the outside world, with a public address and no neighbour of ours, speaks neighbour discovery.

    Matters: a provider, or whoever is out there, learns names, models, software and addresses of the network's devices.
    Notice: nothing.
    Confirm: look at the discovery setting of that port.
    Mend: let the port not send.
    """
    port = context.port(gateway.end) if gateway.end is not None else None
    if port is None or gateway.end is None or gateway.address is None or _private(gateway.address.ip):
        return None
    if port.discovery not in ("both", "send") or gateway.end in context.adjacencies_at or port.admin == "down":
        return None
    return Finding(
        "discovery-exposed",
        "risks",
        (at_port(gateway.end),),
        f"{gateway.end}, which has the public address {gateway.address.ip}, speaks neighbour discovery to the outside.",
        context.evidence(port, "discovery") + context.evidence(gateway.row, "address"),
        (set_port(gateway.end, discovery="receive"),),
    )


@rule("discovery-exposed", "Neighbour discovery", About.CAMPUS)
def discovery_exposed(context: Context) -> Iterator[Finding]:
    """Ports of a device towards hosts speak neighbour discovery.

    Matters: whoever plugs in there learns names, models, software and addresses of the network's devices.
    Notice: nothing.
    Confirm: listen on such a port for a minute.
    Mend: let ports towards hosts not send; listening does no harm.
    """
    wanted = context.plan.settings.discovery
    if wanted == "everywhere":
        return
    spelled = context.network.names.spelled
    speaking: dict[str, list[End]] = defaultdict(list)
    columns = (context.network.survey.column("ports", name) for name in ("device", "port", "discovery", "admin"))
    for device, port, discovery, admin in zip(*columns, strict=True):
        if discovery in ("both", "send") and admin != "down":
            end = End(spelled[device], port)
            known = end in context.heard_ends or context.network.stations.attachments.open(end)
            if not known and (wanted == "nowhere" or end in context.host_ends):
                speaking[end.device].append(end)
    for name, ends in speaking.items():
        row = context.device(name)
        if row is None or row.discovery != "off":
            yield _exposed(context, ends)


def _exposed(context: Context, ends: Sequence[End]) -> Finding:
    ports = ", ".join(end.port for end in ends[:8]) + (f" and {len(ends) - 8} more" if len(ends) > 8 else "")
    return Finding(
        "discovery-exposed",
        "risks",
        tuple(map(at_port, ends)),
        f"{ends[0].device} speaks neighbour discovery towards hosts, at {ports}.",
        tuple(fact for end in ends[:3] for fact in context.evidence(context.port(end), "discovery")),
        tuple(set_port(end, discovery="receive") for end in ends),
    )
