"""What speaks against a mend although it fits best: told beside what speaks for it."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator, Sequence

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.expected.listed_vlans import ListedVlans
from crossthread.diagnosis.expected.prefix_lengths import end_of
from crossthread.diagnosis.judgement.for_hosts import looks_changed
from crossthread.diagnosis.judgement.hearing import Hearing
from crossthread.network.hosts.station import HostStation, Interface
from crossthread.network.topology.names import End
from crossthread.survey.changes import Change
from crossthread.survey.records import MacEntry
from crossthread.values import NONE, address, interface


def against(hearing: Hearing, changes: Sequence[Change]) -> Iterator[str]:
    """What speaks against another VLAN for the port of a station, and against a gateway or a gateway's address."""
    yield from _against_moving(hearing, changes)
    yield from _among_others(hearing, changes)
    yield from _of_an_unlisted(hearing, changes)
    yield from _of_one_user(hearing, changes)
    yield from _from_its_own(hearing, changes)
    for change in changes:
        hop, host = change.cells.get("gateway"), hearing.context.network.stations.hosts.get(_name(change))
        if host is not None and hop not in (None, NONE) and "address" not in change.cells:
            yield from [*looks_changed(hearing, host, str(hop))] or _as_likely(hearing, host, str(hop))


def _as_likely(hearing: Hearing, host: HostStation, hop: str) -> Iterator[str]:
    """A host's gateway, which nobody has, looks like one as well, and no other host uses the one that it is to have."""
    now, own = host.row.gateway, host.address
    held = now in (None, NONE) or now in hearing.context.network.stations.by_address
    if held or own is None or hearing.count_users(hop, host):
        return
    if (end := end_of(address(now or ""), own)) is not None:
        yield f"{now} is the {end} address of its subnet, as gateways mostly have, and no other host uses {hop}"


def _name(change: Change) -> str:
    return str(change.key.get("host") or "").casefold()


def _end(change: Change) -> End:
    return End(str(change.key["device"]), str(change.key["port"]))


def _interface(context: Context, change: Change) -> Interface | None:
    rows = context.network.stations.on_device.get(str(change.key["device"]), ())
    return next((s for s in rows if s.name == change.key["interface"]), None)


def _against_moving(hearing: Hearing, changes: Iterable[Change]) -> Iterator[str]:
    """Others live where the port is, or somebody means that VLAN to be used."""
    moved = (c for c in changes if c.table == "ports" and "pvid" in c.cells and "mode" not in c.cells)
    for end in map(_end, moved):
        row, hosts = hearing.context.port(end), hearing.context.hosts_at(end)
        if row is None or row.mode != "access" or not row.pvid or row.pvid == 1 or not hosts:
            continue  # what nobody set says nothing
        if all(hearing.strangers(row.pvid, host) for host in hosts):
            yield f"others live in VLAN {row.pvid}, where {end} is now"
        elif hearing.context.once(ListedVlans).of_nobody_known(row.pvid):
            yield f"trunks carry VLAN {row.pvid}, where {end} is now, and no interface is known to serve it"


def _among_others(hearing: Hearing, changes: Iterable[Change]) -> Iterator[str]:
    """More hosts of other subnets live where a port would be put, and no interface serves its host's subnet there."""
    for change in changes:
        vid = change.cells.get("pvid") if change.table == "ports" else None
        if not isinstance(vid, int):
            continue
        for host in hearing.context.hosts_at(_end(change))[:1]:
            near = [one for one in hearing.kin(host) if hearing.vlan(one.station) == vid]
            living = [one for one in hearing.context.living_in(vid, host) if one.block is not None]
            others = sum(len(one.hosts) for one in living) - sum(one.number for one in near)
            served = any(isinstance(one.station, Interface) for one in near)
            if near and not served and others > sum(one.number for one in near):
                yield f"{others} hosts of other subnets live in VLAN {vid}"


def _from_its_own(hearing: Hearing, changes: Iterable[Change]) -> Iterator[str]:
    """An interface without a tag says that it serves a VLAN that trunks name, and would go to another subnet's."""
    for change in changes:
        own = _interface(hearing.context, change) if change.table == "gateways" else None
        now, vid = own.row.vid if own is not None else None, change.cells.get("vid")
        if own is None or own.tag or not now or not isinstance(vid, int) or hearing.context.living_in(now, own):
            continue
        if hearing.context.once(ListedVlans).on_trunks(now) and hearing.others_served(vid, own):
            says = f"{own.device} {own.name} says that it serves VLAN {now}, which trunks name"
            yield f"{says}; others live in VLAN {vid}"


def _of_one_user(hearing: Hearing, changes: Iterable[Change]) -> Iterator[str]:
    """A single host asks for what an interface is to have, and one of the two addresses looks more like a gateway's.

    Gateways mostly are at an end of their subnets: that which it has, or others here and not what it is to have.
    """
    expected, gateways = hearing.context.expected, hearing.context.network.stations.gateways
    for change in changes:
        text, had = (str(cell or NONE) for cell in (change.cells.get("address"), change.key.get("address")))
        if change.table != "gateways" or text == NONE or len(expected.users(interface(text).ip)) != 1:
            continue
        own, now = interface(text), interface(had) if had != NONE else None
        if now is not None and now.ip != own.ip and now.ip in own.network and end_of(now.ip, now) is not None:
            yield f"only one host asks for {own.ip}, and {now.ip} is the {end_of(now.ip, now)} address of that subnet"
            continue
        used = [at for s in gateways if (at := s.address) is not None and expected.users(at.ip)]
        if len(used) > 1 and None not in {end_of(at.ip, at) for at in used} and end_of(own.ip, own) is None:
            yield f"only one host asks for {own.ip}, which is at no end of its subnet, as the other gateways are"


def _of_an_unlisted(hearing: Hearing, changes: Iterable[Change]) -> Iterator[str]:
    """Somebody is in the VLAN of whom no more than a MAC address is known: what is to get an address may be there."""
    context = hearing.context
    for change in changes:
        text = str(change.cells.get("address") or change.key.get("address") or NONE)
        if change.table != "gateways" or change.delete or text == NONE or not context.is_lost(str(interface(text).ip)):
            continue
        own = _interface(context, change)
        vid = change.cells.get("vid") or (context.expected.current_vlan(own) if own is not None else None)
        for entry in context.once(_unlisted).get(vid, ())[:1]:
            yield f"{entry.device} {entry.port} has learned {entry.mac} in VLAN {vid}, whose address nobody read"


def _unlisted(context: Context) -> dict[object, list[MacEntry]]:
    """By VLAN, what was learned at ports that lead to no device, of hosts and devices of which there is no row."""
    survey, names = context.network.survey, context.network.names
    known = {*survey.column("hosts", "mac"), *survey.column("ports", "mac"), *survey.column("devices", "chassis")}
    found: dict[object, list[MacEntry]] = defaultdict(list)
    for entry in survey.macs if any(mac not in known for mac in survey.column("macs", "mac")) else ():
        device = names.spelled[entry.device]
        end = End(device, names.port(device, entry.port) or entry.port or "")
        if entry.mac not in known and entry.kind != "self" and end.port and end not in context.adjacencies_at:
            found[entry.vid].append(entry)
    return found
