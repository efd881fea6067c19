"""What the mend of one finding settles for others: what they say is missing or differs is then no fault of its own."""

from __future__ import annotations

from collections.abc import Container, Iterable, Iterator, Mapping, Sequence

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.findings import Finding
from crossthread.network.hosts.station import HostStation, Interface
from crossthread.network.topology.names import End
from crossthread.survey.records import Port
from crossthread.values import NONE, interface

Need = tuple[object, ...]
"""A VLAN that must exist on a device, or be in use, a gateway that a subnet must have in a VLAN, a tag that an
interface must have, two ends that must agree, or what a finding says is needed."""


def settled(context: Context, by_rule: Mapping[str, Sequence[Finding]]) -> dict[Need, Finding]:
    """What nobody needs any more, or is there, with some findings' mends."""
    missing, moving, modes = (by_rule[name] for name in ("link-vlan-missing", "port-vlan-wrong", "port-mode-wrong"))
    links = [*missing, *(one for one in modes if len({s.device for s in one.subjects}) > 1)]
    leaving = [*moving, *(one for one in modes if any(s.host for s in one.subjects))]
    leaving += by_rule["gateway-vlan-wrong"]
    found = {**_natives(context, missing), **_left_behind(context, leaving, by_rule["port-vlan-missing"])}
    lacking = [*links, *by_rule["gateway-missing"]]
    found |= _asked_by_mistake(context, lacking, by_rule["host-outside-subnet"])
    found |= _asked_from_elsewhere(context, by_rule["gateway-address-wrong"], moving)
    return found | _perhaps_elsewhere(links, moving)


def _natives(context: Context, findings: Iterable[Finding]) -> dict[Need, Finding]:
    """The links that have one native VLAN at both ends with a mend that lets it across."""
    found: dict[Need, Finding] = {}
    for finding in findings:
        told = {End(str(c.key["device"]), str(c.key["port"])): c.cells for c in finding.repair if "pvid" in c.cells}
        for end in told:
            for adjacency in context.adjacencies_at.get(end, ()):
                far = adjacency.far(end)
                row = context.port(far)
                there = told[far]["pvid"] if far in told else row.pvid if row is not None else None
                if there is not None and there == told[end]["pvid"]:
                    found["native", frozenset((end, far))] = finding
    return found


def _left_behind(context: Context, moving: Iterable[Finding], lost: Iterable[Finding]) -> dict[Need, Finding]:
    """What nobody needs but those that some findings move elsewhere, hosts by their ports and interfaces by their tags.

    They are there by mistake.
    """
    found: dict[Need, Finding] = {}
    hosts: dict[str, Finding] = {}
    ends: dict[End, Finding] = {}
    retagged: dict[tuple[object, object], Finding] = {}
    needed = set[Need]()  # by who comes, at least
    for finding in moving:
        hosts.update({s.host: finding for s in finding.subjects if s.host and finding.repair})
        moves = (change.key for change in finding.repair if change.table == "ports" and "pvid" in change.cells)
        ends.update({End(str(key["device"]), str(key["port"])): finding for key in moves})
        tags = (change.key for change in finding.repair if change.table == "gateways" and change.cells.get("vid"))
        retagged.update({(key["device"], key["interface"]): finding for key in tags})
        for change in finding.repair:
            vid = change.cells.get("pvid") if change.table == "ports" else change.cells.get("vid")
            needed |= {("used", vid), ("exists", change.key.get("device"), vid)}
    for end, finding in ends.items():
        row = context.port(end)
        if row is not None and row.pvid and not _in_vlan(context, end.device, row.pvid, ends):
            found.setdefault(("exists", end.device, row.pvid), finding)
    for station in context.network.stations.gateways:
        if (moved := retagged.get((station.device, station.name))) is not None:
            found.setdefault(("used", station.row.vid), moved)
            found.setdefault(("tag", station.device, station.name, station.row.vid), moved)
        else:
            needed.add(("used", station.row.vid))
    for gap in lost:
        if gap.example is not None and hosts.keys().isdisjoint(gap.example):  # of others, whose way leads through it
            needed.update(needs(gap))
    for one in context.network.classes.all if hosts or retagged else ():
        host = one.hosts[0]
        need = "gateway", one.vid, host.address.network if host.address is not None else None
        if len(one.hosts) <= len(hosts) and all(name in hosts for name in one.hosts.names):
            found.setdefault(need, hosts[host.name])
            found.setdefault(("used", one.vid), hosts[host.name])
        else:
            needed |= {need, ("used", one.vid)}
    return {need: finding for need, finding in found.items() if need not in needed}


def _in_vlan(context: Context, device: str, vid: int, moved: Container[End]) -> bool:
    """Whether a port of a device that is not moved is in a VLAN, or an interface of it."""
    rows: Mapping[str, Port] = context.network.names.ports.get(device, {})
    return any(rows[name].pvid == vid and End(device, name) not in moved for name in rows) or any(
        station.row.vid == vid for station in context.network.stations.on_device.get(device, ())
    )


def _asked_by_mistake(context: Context, lacking: Iterable[Finding], wrong: Iterable[Finding]) -> dict[Need, Finding]:
    """What only hosts need that have an address of a subnet by mistake: its VLAN on a link, or a gateway of it."""
    renumbered = {s.host: finding for finding in wrong if finding.repair for s in finding.subjects if s.host}
    found: dict[Need, Finding] = {}
    for one in lacking:
        if one.affects and one.affected == len(one.affects) and renumbered.keys() >= set(one.affects):
            hosts = [context.network.stations.hosts[name.casefold()] for name in one.affects]
            if {context.expected.current_vlan(host) for host in hosts}.isdisjoint(s.vid for s in one.subjects):
                found["needed", one.identity] = renumbered[one.affects[0]]
    return found


def _asked_from_elsewhere(context: Context, wrong: Iterable[Finding], moving: Iterable[Finding]) -> dict[Need, Finding]:
    """The addresses that interfaces would get for hosts only whose ports are moved to another VLAN."""
    moved = {s.host: finding for finding in moving if finding.repair for s in finding.subjects if s.host}
    found: dict[Need, Finding] = {}
    for one in wrong if moved else ():
        here = [host.name for host in asking_there(context, one)]
        if here and moved.keys() >= set(here):
            found["needed", one.identity] = moved[here[0]]
    return found


def asking_there(context: Context, finding: Finding) -> list[HostStation]:
    """The hosts in an interface's VLAN that use as their gateway the address that it would get."""
    hops = [str(change.cells["address"]) for change in finding.repair if change.cells.get("address")]
    vids = {context.expected.current_vlan(station) for station in interfaces_of(context, finding)} - {None}
    users = (host for hop in hops if hop != NONE for host in context.expected.users(interface(hop).ip))
    return [host for host in users if context.expected.current_vlan(host) in vids]


def interfaces_of(context: Context, finding: Finding) -> list[Interface]:
    """The interfaces that a finding is about, one for each of their addresses."""
    places = {(subject.device, subject.interface) for subject in finding.subjects if subject.interface}
    known = context.network.stations.on_device
    rows = (station for device in sorted({str(device) for device, _ in places}) for station in known.get(device, ()))
    return [s for s in rows if (s.device, s.name) in places]


def _perhaps_elsewhere(links: Iterable[Finding], wrong: Iterable[Finding]) -> dict[Need, Finding]:
    """The links that only hosts need so of which nothing decides whether their port or their address is wrong."""
    told = {s.host: f for f in wrong if not f.repair and f.alternatives for s in f.subjects if s.host}
    return {
        ("needed", link.identity): told[link.affects[0]]
        for link in links
        if link.affects and link.affected == len(link.affects) and told.keys() >= set(link.affects)
    }


def needs(finding: Finding) -> Iterator[Need]:
    """What a finding says is missing, or differs."""
    vids = [subject for subject in finding.subjects if subject.vid is not None]
    if finding.rule == "port-vlan-missing":
        yield from (("exists", subject.device, subject.vid) for subject in vids)
    elif finding.rule == "gateway-missing":
        told = (fact.value for fact in finding.evidence if (fact.table, fact.column) == ("hosts", "address"))
        subnets = [interface(text).network for text in told if text not in (None, NONE)]
        yield from (("gateway", subject.vid, subnet) for subject in vids for subnet in subnets[:1])
        yield "needed", finding.identity
    elif finding.rule == "gateway-address-wrong":
        yield "needed", finding.identity
    elif finding.rule in ("link-vlan-missing", "port-mode-wrong"):
        yield "needed", finding.identity
        if finding.severity != "breaks" and len({subject.vid for subject in vids}) == 1:
            yield "used", vids[0].vid
    elif finding.rule == "gateway-port-mode-wrong":
        interfaces = [subject for subject in finding.subjects if subject.interface]
        yield from (("tag", subject.device, subject.interface, vids[0].vid) for subject in interfaces if vids)
    elif finding.rule == "link-native-differs":
        yield "native", frozenset(End(str(subject.device), str(subject.port)) for subject in finding.subjects)
