"""Findings about a host: its link, its place, its address settings."""

from __future__ import annotations

from collections.abc import Iterator

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.edits import closed_itself, raise_link, set_host
from crossthread.diagnosis.findings import Finding, Severity, at_station
from crossthread.diagnosis.registry import About, rule
from crossthread.network.hosts.station import HostStation
from crossthread.survey.changes import Change


@rule("host-link-down", "Host", About.HOST, needs="hosts.link=down", follows="port-admin-down")
def host_link_down(context: Context, host: HostStation) -> Finding | None:
    """The host's own link is down though nobody shut the switch port.

    Matters: the host sends and hears nothing.
    Notice: the host has no network at all.
    Confirm: look at the link lamp at the host's socket and at the port's state.
    Mend: put the cable back or switch the interface on; if the port stays dark, test the cable.
    """
    port = context.port(host.end) if host.end else None
    if host.row.link != "down" or (port is not None and port.admin == "down") or closed_itself(port):
        return None
    evidence = context.evidence(host.row, "link") + context.evidence(port, "admin", "oper")
    repair: tuple[Change, ...] = raise_link(context, host.end) if host.end else (set_host(host, link="up"),)
    where = f" at {host.end}" if host.end else ""
    return Finding(
        "host-link-down",
        "breaks",
        (at_station(host),),
        f"{host.name} has no link{where}: its cable is out, or its interface is off.",
        evidence,
        repair,
    )


@rule("host-not-located", "Host", About.HOST, reads="place", follows="host-link-down")
def host_not_located(context: Context, host: HostStation) -> Finding | None:
    """Nobody knows which port the host is plugged into.

    Matters: whether its frames get anywhere cannot be said.
    Notice: nothing by itself.
    Confirm: look for its MAC address in the filtering databases of the access switches, or follow the cable.
    Mend: write the socket into the survey, or survey the switch that the host is plugged into.
    """
    if host.end is not None or host.row.link == "down":
        return None
    seen = host.located_by
    evidence = context.evidence(host.row, "device", "port", "mac")
    for entry in seen:
        evidence += context.evidence(entry, "port")
    how = f"its MAC address was learned on {len(seen)} edge ports" if seen else "no table says where it is plugged in"
    at = context.network.names.unsurveyed(host.row.device)
    how = f"its row names {at}, which was not surveyed" if at else how
    if beyond := context.learned_at_open_ends(host):
        how = f"its MAC address was learned at {' and '.join(map(str, beyond))}, beyond which nobody looked"
    unsurveyed = bool(at) or any(one.why != "far end" for one in context.network.open_ends.values())
    severity: Severity = "note" if unsurveyed else "risks"  # it may be where nobody looked
    return Finding("host-not-located", severity, (at_station(host),), f"{host.name} was not located: {how}.", evidence)


@rule("host-learned-elsewhere", "Host", About.CAMPUS)
def learned_elsewhere(context: Context) -> Iterator[Finding]:
    """A host's row has it at one port, and a switch has learned its MAC address at another one, and none there.

    Matters: what is said of the host's port, its VLAN and its address may be said of the wrong port.
    Notice: nothing, or the drawing is wrong.
    Confirm: follow the cable, or let the host send something and look again where it is learned.
    Decide: ask where the host is plugged in: whoever sits at it, or the label of the socket.
    Mend: write the right port into the survey; if it is the other one, the entry is old and goes by itself.
    """
    stations = context.network.stations
    for name, entries in stations.locating.unsettled.items():
        host, entry = stations.hosts[name.casefold()], next(iter(entries.values()))
        vlan = f" in VLAN {entry.vid}" if entry.vid else ""
        yield Finding(
            "host-learned-elsewhere",
            "risks",
            (at_station(host),),
            f"{host.name} is at {host.end} by its row, but its MAC address was learned at {entry.device} {entry.port}"
            f"{vlan}: its row is out of date, or it was moved, or that entry is old.",
            context.evidence(host.row, "device", "port", "mac") + context.evidence(entry, "port"),
        )
