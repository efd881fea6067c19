"""Findings about a port that refuses stations."""

from __future__ import annotations

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.edits import closed_itself, raise_link, set_port
from crossthread.diagnosis.findings import Finding, at_port, at_station
from crossthread.diagnosis.registry import About, rule
from crossthread.network.hosts.attachments import admits
from crossthread.network.hosts.station import HostStation
from crossthread.network.topology.names import End


@rule("port-refuses-station", "Port", About.HOST, needs="ports.allowed_macs")
def port_refuses_station(context: Context, host: HostStation) -> Finding | None:
    """The port admits only certain stations, and this host is none of them.

    Matters: its frames are dropped, or the port shuts itself.
    Notice: the host has no network at this socket, and does at others.
    Confirm: compare the host's MAC address with the port's list, and look at the port's count of refusals.
    Mend: admit the host's MAC address, or plug in the host that was meant.
    """
    row = context.port(host.end) if host.end else None
    if host.end is None or row is None or admits(row, host.row.mac) is not False:
        return None
    admitted, own = list(row.allowed_macs or ()), str(host.row.mac)
    there = {other.row.mac for other in context.hosts_at(host.end)}
    listed = [*admitted, own]
    if row.mac_limit is not None and len(listed) > row.mac_limit:  # those that are not there give way
        listed = [mac for mac in listed if mac in there][-row.mac_limit :] if row.mac_limit else []
    closed = closed_itself(row)
    says = f"{host.end} admits only {' '.join(admitted)}; {host.name} has {own}."
    says += " It closed itself, and stays closed until somebody opens it again." if closed else ""
    return Finding(
        "port-refuses-station",
        "breaks",
        (at_port(host.end), at_station(host)),
        says,
        context.evidence(row, "allowed_macs", "mac_limit", "violation", "violations", *(["oper"] if closed else []))
        + context.evidence(host.row, "mac"),
        (set_port(host.end, allowed_macs=" ".join(listed)), *(raise_link(context, host.end) if closed else ())),
    )


@rule("port-refuses-station", "Port", About.PORT, needs="ports.violations")
def port_has_refused(context: Context, end: End) -> Finding | None:
    """A port has refused stations that it does not admit.

    Matters: somebody plugged in something else there, or a host got a new interface.
    Notice: a host without any network at that socket.
    Confirm: look at the port's list of stations and at what is plugged in now.
    Mend: admit the station, or unplug it; then clear the count, and open the port if it closed itself.
    """
    row = context.port(end)
    if row is None or not row.violations:
        return None
    if any(admits(row, host.row.mac) is False for host in context.hosts_at(end)):
        return None  # told of the host itself
    then = {"shutdown": ", and shuts itself when it does", "drop": ", whose frames it drops"}.get(
        row.violation or "", ""
    )
    closed = closed_itself(row)
    says = f"{end} has refused stations {row.violations} times{then}."
    says += " It is closed now, and stays so until somebody opens it again." if closed else ""
    return Finding(
        "port-refuses-station",
        "breaks" if closed else "risks",
        (at_port(end),),
        says,
        context.evidence(row, "violations", "violation", "allowed_macs", "mac_limit"),
        raise_link(context, end) if closed else (),
    )
