"""Findings about a VLAN that is not on its device, or is suspended there."""

from __future__ import annotations

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.findings import Finding, Subject, at_port
from crossthread.diagnosis.registry import About, rule
from crossthread.network.hosts.station import Station
from crossthread.network.topology.names import End
from crossthread.survey.changes import Change


@rule("port-vlan-missing", "Port", About.LOST_VLAN, cuts=True)
def port_vlan_missing(context: Context, end: End, vid: int) -> Finding | None:
    """The VLAN of a port does not exist on its device.

    Matters: the device drops the frames of a VLAN that it does not have, without a word.
    Notice: hosts on that port have no network, though the port is up.
    Confirm: list the device's VLANs and look for this one.
    Mend: make the VLAN on that device.
    """
    rows = context.network.fabric.vlan_rows.get(end.device)
    if not rows or vid in rows:
        return None
    cells = {"state": "active", **({"name": context.vlan_names[vid]} if vid in context.vlan_names else {})}
    return Finding(
        "port-vlan-missing",
        "breaks",
        (at_port(end, vid),),
        f"VLAN {vid} does not exist on {end.device}, whose ports drop its frames ({end.port} is one that needs it).",
        context.evidence(context.port(end), "mode", "pvid", "allowed")
        + context.evidence(next(iter(rows.values())), "vid"),
        (Change("vlans", {"device": end.device, "vid": vid}, cells),),
    )


@rule("port-vlan-missing", "Port")
def gateway_vlan_lost(context: Context, gateway: Station, vid: int) -> Finding | None:
    """A gateway interface sits on a device on which its VLAN does not exist, or is suspended.

    Matters: the interface hears nothing of its VLAN.
    Notice: the subnet has no way out.
    Confirm: list the device's VLANs with their states.
    Mend: make the VLAN on that device, or activate it.
    """
    end = End(gateway.device, gateway.name)
    return port_vlan_missing(context, end, vid) or vlan_suspended(context, end, vid)


@rule("vlan-suspended", "Port", About.LOST_VLAN, cuts=True)
def vlan_suspended(context: Context, end: End, vid: int) -> Finding | None:
    """A VLAN exists on a device but has been suspended there.

    Matters: the device forwards none of its frames.
    Notice: the VLAN is cut at that device.
    Confirm: list the device's VLANs with their states.
    Mend: activate the VLAN there.
    """
    row = context.network.fabric.vlan_row(end.device, vid)
    if row is None or row.state != "suspended":
        return None
    return Finding(
        "vlan-suspended",
        "breaks",
        (Subject(device=end.device, vid=vid),),
        f"VLAN {vid} is suspended on {end.device}.",
        context.evidence(row, "state"),
        (Change("vlans", {"device": end.device, "vid": vid}, {"state": "active"}),),
    )
