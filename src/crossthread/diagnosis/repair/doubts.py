"""Too little that says where a host, or an interface, is to be put, or how long its prefix is to be."""

from __future__ import annotations

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.expected.listed_vlans import ListedVlans
from crossthread.diagnosis.expected.unread_hosts import unread_in
from crossthread.diagnosis.expected.voters import gateway_address
from crossthread.diagnosis.findings import Finding
from crossthread.network.hosts.station import HostStation, Station
from crossthread.network.topology.names import End
from crossthread.survey.survey import Evidence
from crossthread.values import NONE, interface

PLACES = ("port-vlan-wrong", "host-outside-subnet")
"""Findings that say that a host is not where it should be: by its port, or by its address."""


def on_one_other(context: Context, finding: Finding) -> bool:
    """Whether all that says where a host belongs is the port of a single other host.

    That no list names the VLAN that it is in says as much: then nobody elsewhere can work with it.
    """
    moved = [change.key for change in finding.repair if change.table == "ports"]
    told = [fact for fact in finding.evidence if fact.key not in moved and fact.column in ("pvid", "vid")]
    rows = [context.port(End(str(key["device"]), str(key["port"]))) for key in moved]
    unlisted = any(row is not None and context.once(ListedVlans).misses(row.pvid) for row in rows)
    return bool(moved) and [fact.table for fact in told] == ["ports"] and not unlisted


def as_many_unread(context: Context, finding: Finding) -> bool:
    """Whether nothing but others' ports say where a host belongs, and of as many others nobody read where they are.

    All those may be just where it is.
    """
    names = [subject.host.casefold() for subject in finding.subjects if subject.host]
    host = context.network.stations.hosts.get(names[0]) if len(names) == 1 else None
    moves = {c.cells["pvid"] for c in finding.repair if c.table == "ports" and c.cells.get("pvid")}
    by_ports = all(fact.table == "ports" for fact in finding.evidence if fact.column in ("pvid", "vid"))
    if not moves or host is None or host.address is None or not by_ports:
        return False
    if context.expected.current_vlan(host) in moves:
        return False
    groups = context.expected.groups(host.address.ip)
    there = sum(len(group.stations) for group in groups if group.vid in moves)
    lost = (group for group in groups if group.vid is None and _is_lost(context, group.stations[0]))
    unread = sum(len(group.stations) for group in lost)
    if not context.expected.gateways(host):  # else it does not work where it is, whoever may be there
        unread += context.once(unread_in)[context.expected.current_vlan(host)]
    return unread >= max(1, there)


def _is_lost(context: Context, station: Station) -> bool:
    """Whether nobody read the port that a host is at, or which VLAN is set there."""
    row = context.port(station.end) if isinstance(station, HostStation) and station.end is not None else None
    return isinstance(station, HostStation) and (row is None or row.pvid is None)


def may_leave_out(context: Context, finding: Finding) -> bool:
    """Whether a host gets a longer prefix, as no more than one other has it, and hosts are there whom nobody read.

    They may be in that part of the subnet that it would not ask for any more, and work with it now.
    """
    for change in finding.repair if finding.rule == "host-mask-differs" else ():
        host = context.network.stations.hosts[str(change.key["host"]).casefold()]
        own = host.address
        given = interface(str(change.cells["address"])).network
        if own is None or given.prefixlen <= own.network.prefixlen:
            continue
        alike = [s for s in context.expected.near(own.ip) if s.address is not None and s.address.network == given]
        if len(alike) < _SEVERAL and may_have_mates(context, host):
            return True
    return False


_SEVERAL = 2
"""How many others have to have a prefix."""


def may_have_mates(context: Context, host: HostStation) -> bool:
    """Whether somebody is, or may be, in a host's VLAN whom nobody read."""
    return bool(context.network.open_ends) or context.once(unread_in)[context.expected.current_vlan(host)] > 0


def may_work_here(context: Context, finding: Finding) -> bool:
    """Whether a host leaves a VLAN, or its subnet there, in which somebody is whom nobody read, and may work with them.

    Only if it has no gateway, or its address is to be of a subnet of which no more are known there, where its gateway
    is not.
    """
    names = [subject.host.casefold() for subject in finding.subjects if subject.host]
    host = context.network.stations.hosts.get(names[0]) if len(names) == 1 else None
    moved = finding.rule in (*PLACES, "port-mode-wrong") and bool(finding.repair)
    vid = context.expected.current_vlan(host) if moved and host is not None else None
    unread = context.once(unread_in)[vid] if vid else 0
    if host is None or not unread or host.row.gateway == NONE:
        return unread > 0
    given = [interface(str(c.cells["address"])).network for c in finding.repair if c.cells.get("address")]
    if finding.rule != "host-outside-subnet" or not given:
        return False
    served = (gateway_address(gateway) for gateway in context.expected.served(vid, host))
    if any(str(hop) == host.row.gateway for hop in served):
        return False
    mates = (one for one in context.living_in(vid, host) if one.hosts[0] is not host and one.hosts[0].address)
    there = sum(len(one.hosts) for one in mates if one.hosts[0].ip in given[0])
    return unread >= max(1, there)


def _on_its_word(context: Context, finding: Finding) -> bool:
    """Whether all that says where a host belongs is an interface without a tag, of whose port nobody read the VLAN.

    What it says that it serves is no more than that: others of its subnet may work with it in the VLAN of that port.
    """
    moved = [change.key for change in finding.repair if change.table == "ports"]
    told = [fact for fact in finding.evidence if fact.key not in moved and fact.column in ("pvid", "vid")]
    return bool(moved and told) and all(fact.table == "gateways" and _unheard(context, fact) for fact in told)


def _unheard(context: Context, fact: Evidence) -> bool:
    """Whether a fact is of an interface without a tag, of which nobody read what VLAN its frames join."""
    rows = context.network.stations.on_device.get(str(fact.key.get("device")), ())
    own = next((one for one in rows if one.name == fact.key.get("interface")), None)
    if own is None or own.end is None or own.tag:
        return False
    ports = (context.port(link.far(own.end)) for link in context.adjacencies_at.get(own.end, ()))
    return all(port is None or port.pvid is None for port in ports)


def _beside_others(context: Context, finding: Finding) -> bool:
    """Whether a port is moved at which somebody else is as well, who is not known to belong there, too."""
    own = {subject.host for subject in finding.subjects}
    for change in finding.repair if finding.rule == "port-vlan-wrong" else ():
        beside = context.hosts_at(End(str(change.key.get("device")), str(change.key.get("port"))))
        if any(context.expected.vlan(s) != change.cells.get("pvid") for s in beside if s.name not in own):
            return True
    return False


def _leaves_behind(context: Context, finding: Finding) -> bool:
    """Whether an interface gets another tag, and a host of its subnet lives where it serves now: that may well work."""
    for change in finding.repair if finding.rule == "gateway-vlan-wrong" else ():
        own = context.network.stations.on_device.get(str(change.key["device"]), ())
        for gateway in (s for s in own if s.name == change.key["interface"] and change.cells.get("vid")):
            near = context.expected.near(gateway.address.ip) if gateway.address is not None else ()
            hosts = (station for station in near if isinstance(station, HostStation))
            if any(context.expected.current_vlan(host) == gateway.row.vid for host in hosts):
                return True
    return False


def doubtful(context: Context, finding: Finding) -> bool:
    """Whether too little says where a host, or an interface, is to be put, as a router may be unread."""
    doubts = (on_one_other, _on_its_word, _beside_others, _leaves_behind)
    return any(doubt(context, finding) for doubt in doubts)
