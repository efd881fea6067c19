"""Where to look next: what was not observed, put into words by device and table instead of cell by cell."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Sequence

import msgspec

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.way.echo import walks
from crossthread.network.hosts.ends import end_name
from crossthread.network.hosts.station import HostStation, Interface, Station
from crossthread.network.routing.forwarding import Forwarding
from crossthread.network.routing.walks import Walk
from crossthread.network.three_valued import VERDICTS, all_of
from crossthread.network.topology.names import End
from crossthread.survey.changes import Change
from crossthread.survey.survey import Evidence
from crossthread.values import NONE
from crossthread.views.coverage import TABLES_IN_WORDS, listed
from crossthread.views.way import Hop

_FEW = 4
"""Up to how many cells of one port or interface are named one by one."""


class Look(msgspec.Struct, frozen=True, omit_defaults=True):
    """One thing to do to know more.

    Attributes
    ----------
    says
        What to read or survey, and from where it is reached.
    devices
        The devices that it is about.
    table
        The table to read of them; None for a device that was not surveyed at all, or a host to be found.
    """

    says: str
    devices: tuple[str, ...] = ()
    table: str | None = None


def looks(context: Context, facts: Iterable[Evidence], near: Sequence[End] = ()) -> tuple[Look, ...]:
    """What to look at, in the order of the facts that are missing; those of one table are one thing to do.

    Of several open ends by which an unsurveyed device is reached the first of those `near` is named.
    """
    groups: dict[tuple[str, str], list[Evidence]] = defaultdict(list)
    for fact in facts:
        unsurveyed = fact.table == "devices" and fact.column == "device"
        whom = str(fact.key.get("host") or fact.key.get("device") or "") if unsurveyed or fact.table == "hosts" else ""
        groups[fact.table, whom].append(fact)
    return tuple(
        Look(f"survey {whom}{_reached(context, whom, near)}", (whom,))
        if whom and table == "devices"
        else _look(context, table, whom, held)
        for (table, whom), held in groups.items()
    )


def _look(context: Context, table: str, whom: str, facts: Sequence[Evidence]) -> Look:
    if table == "hosts":
        return _of_host(context, whom, facts)
    devices = tuple(dict.fromkeys(str(fact.key.get("device", "")) for fact in facts))
    if table == "gateways" and {fact.column for fact in facts} == {"virtual"}:
        sharing = listed(tuple(f"{fact.key['device']} {fact.key['interface']}" for fact in facts))
        return Look(f"read the shared addresses of {sharing}", devices, table)
    if {fact.column for fact in facts} == {"table"}:
        whose = "routes" if table == "routes" else "routing interfaces"
        return Look(f"read in which routing table each of the {whose} of {listed(devices)} is", devices, table)
    if table == "ports" and {fact.column for fact in facts} == {"lag_state"}:
        return Look(f"read which members of their aggregates are attached at {listed(devices)}", devices, table)
    cells = [fact for fact in facts if len(fact.key) > 1]
    one = len({str(fact.key) for fact in cells}) == 1
    if len(cells) == len(facts) and one and len(cells) <= _FEW:
        columns = " and ".join(dict.fromkeys(fact.column for fact in cells))
        place = " ".join(str(part) for part in cells[0].key.values() if part is not None)
        if table == "gateways" and columns == "address":
            return Look(f"read the link-local address of {place}", devices, table)
        if table == "neighbors":
            return Look(f"find what is at the far end of {place}", devices, table)
        if table == "arp" and cells[0].value is not None:
            return _of_stranger(context, cells[0])
        if table == "arp":
            asked = f"which MAC address {cells[0].key['address']} has"
            return Look(f"look in the ARP cache of {listed(devices)} {asked}", devices, table)
        if table == "routes":
            prefix = str(cells[0].key.get("prefix") or "/0")
            route = "default route" if prefix.endswith("/0") else f"route to {prefix}"
            return Look(f"read the {route} of {listed(devices)}", devices, table)
        return Look(f"read {columns} of {place} ({table}.csv)", devices, table)
    return Look(f"read the {TABLES_IN_WORDS.get(table, table)} of {listed(devices)}", devices, table)


def _of_stranger(context: Context, fact: Evidence) -> Look:
    """What to survey, where only an ARP cache tells of somebody."""
    mac, names = str(fact.value), context.network.names
    told = (End(names.spelled[entry.device], entry.port or "") for entry in context.learned.get(mac, ()))
    edge = next((end for end in told if end.port and end not in context.adjacencies_at), None)
    where = f"learned at {edge}" if edge is not None else f"in the ARP cache of {fact.key['device']}"
    return Look(f"survey what answers for {fact.key['address']}: MAC address {mac}, {where}", (), "arp")


def _of_host(context: Context, host: str, facts: Sequence[Evidence]) -> Look:
    station = context.network.stations.hosts.get(host.casefold())
    if station is not None and len(station.wherever) > 1 and any(fact.column == "vid" for fact in facts):
        return Look(f"see whether {host} tags its frames: {' or '.join(_tags(station))}")
    if not any(fact.column in ("device", "port") for fact in facts):
        columns = " and ".join(dict.fromkeys(fact.column.replace("mac", "MAC address") for fact in facts))
        return Look(f"ask {host} for its {columns}")
    places = station.wherever if station is not None else ()
    if station is not None and len(places) > 1:
        learned = " or ".join(str(one.end) for one in places[1:])
        return Look(f"find the port that {host} is plugged into: {learned}, where it was learned, or {station.end}")
    beyond = [context.network.open_ends[end] for end in context.learned_at_open_ends(station)] if station else []
    named = context.only_named_at(station) if station is not None else None
    if named is not None:
        learned = ", and which has learned its MAC address" if beyond else ""
        return Look(f"see whether {host} is plugged into {named}, whose description names it{learned}")
    if beyond:
        names = ", ".join(dict.fromkeys(one.name or f"what is beyond {one.end}" for one in beyond))
        at = ", ".join(str(one.end) for one in beyond)
        return Look(f"survey {names}: the MAC address of {host} was learned at {at}", (), None)
    return Look(f"find the port that {host} is plugged into")


def _tags(host: Station) -> list[str]:
    """The tags that a host may send."""
    return [f"with VLAN {one.tag}" if one.tag else "not at all" for one in host.wherever]


def _reached(context: Context, device: str, near: Sequence[End]) -> str:
    """How a device that was not surveyed is reached: its management address, and where it was heard."""
    beyond = [one for one in context.network.open_ends.values() if one.name == device]
    beyond.sort(key=lambda one: near.index(one.end) if one.end in near else len(near))
    rows, ends = [row for one in beyond for row in one.heard], [one.end for one in beyond]
    address = next((row.management for row in rows if row.management and row.management != NONE), None)
    where = f", heard at {ends[0]}" if rows else f", which the description of {ends[0]} names" if ends else ""
    return (f", {address}" if address else "") + where


def how_far(context: Context, source: Station, walk: Walk, back: bool = False) -> str:
    """How far a packet surely gets, in one sentence."""
    network = context.network
    forwarding, station = Forwarding(network), source
    passed: list[str] = []
    for leg in walk.legs:
        sure = (one for one, _, heard in forwarding.answers(leg.sender, leg.target) if heard)
        if leg.sender is not station or all(one is not leg.receiver for one in sure):
            break
        station = leg.receiver
        passed.append(_called(station))
    if walk.stop is not None and walk.stop.reason == "beyond" and walk.stop.station.device == station.device:
        station = walk.stop.station
    what = "reply" if back else "echo"
    way = f" by way of {', '.join(passed)}" if passed else ""
    if len(station.wherever) > 1:
        if passed:
            return f"Where the {what} from {source.name} meets {station.name} is not known."
        several = len({place.end for place in station.wherever}) > 1
        return (
            f"{'By which port' if several else 'With which tag'} the {what} from {source.name} comes in is not known."
        )
    exit_ = next((found for found in network.unread.exits(station) if found.unknown == 0), None)
    if exit_ is not None:
        inside = f" in VLAN {exit_.vid}" if exit_.vid else ""
        where = f"{exit_.beyond.end}{inside}" if exit_.beyond.end.port else exit_.beyond.end.device
        return f"The {what} surely gets from {source.name}{way} to {where}; beyond that nobody looked."
    tap = next((tap for tap in station.taps if tap.device and tap.enters.sure), None)
    if station.up is True and tap is not None:
        vid = tap.enters.sure.bit_length() - 1
        return f"The {what} surely gets from {source.name}{way} into VLAN {vid} on {tap.device}."
    if passed:
        return f"The {what} surely gets from {source.name} to {passed[-1]}."
    return f"The {what} is not sure to get out of {source.name}."


def how_it_turns_by_place(context: Context, source: Station, target: Station) -> str | None:
    """What the verdict will be by where a host is that was learned elsewhere than its row has it, or by how it tags."""
    for host in (source, target):
        if len(host.wherever) == 1:
            continue
        several = len({place.end for place in host.wherever}) > 1
        found: dict[str, list[str]] = defaultdict(list)
        for place in (place for place in host.wherever if place.end is not None):
            changes = _placed(context, host, place.end) if several and place.end else [_tagging(host, place.tag)]
            there = walks(context.network.mended(changes), end_name(source), end_name(target))
            case = f"at {place.end}" if several else f"tags with VLAN {place.tag}" if place.tag else "does not tag"
            found[VERDICTS[all_of(walk.arrives for walk in there)]].append(case)
        if "unknown" in found:
            what = f"the port that {host.name} is plugged into" if several else f"whether {host.name} tags its frames"
            return f"It turns on {what}, and on more."
        cases = sorted(found.items(), reverse=True)  # what works before what fails
        says = "; it ".join(
            f"{verdict} if {host.name} {'is ' * several}{' or '.join(dict.fromkeys(told))}" for verdict, told in cases
        )
        return f"It {says}."
    return None


def how_it_turns_beyond(context: Context, source: Station, target: Station) -> str | None:
    """What the verdict will be where a host was learned at one port only, and beyond that port nobody looked."""
    for host in (source, target):
        ends = context.learned_at_open_ends(host) if isinstance(host, HostStation) and host.end is None else []
        if len(ends) != 1:
            continue
        there = walks(context.closed.network, end_name(source), end_name(target))
        name = context.network.open_ends[ends[0]].name or f"what is beyond {ends[0]}"
        known = context.closed.network.stations.hosts[host.name.casefold()]
        vid = known.tag or next((tap.enters.sure.bit_length() - 1 for tap in known.taps if tap.enters.sure), 0)
        passed = f"{name} passes on what it did when {host.name} was learned at {ends[0]}"
        passed += f" in VLAN {vid}" if vid > 0 else ""
        if (arrives := all_of(walk.arrives for walk in there)) is not None:
            return f"It works if {passed}." if arrives else f"It fails even if {passed}, as far as was read."
    return None


def _tagging(host: Station, tag: int) -> Change:
    """That a host sends with a tag, or without any."""
    return Change("hosts", {"host": host.name}, {"vid": tag or NONE})


def _placed(context: Context, host: Station, end: End) -> list[Change]:
    """That a host which was learned elsewhere is at a port, and is learned there."""
    entries = context.network.stations.locating.unsettled[host.name]
    entry, row = entries.get(end) or next(iter(entries.values())), context.port(end)
    vid = entry.vid if end in entries else (row.pvid if row is not None else None) or entry.vid
    here = {"port": end.port, "kind": "learned"}
    return [
        Change("hosts", {"host": host.name}, {"device": end.device, "port": end.port}),
        Change("macs", {"device": end.device, "vid": vid, "mac": entry.mac}, here),
    ]


def how_it_turns(context: Context, walk: Walk, facts: Sequence[Evidence], path: Sequence[Hop]) -> str:
    """What the verdict will be when it is known what is there."""
    stop = walk.stop
    ways = [End(hop.name, port) for hop in path for port in (hop.enters, hop.leaves) if port and hop.kind == "bridge"]
    for end in ways if not facts else ():
        devices = {link.far(end).device for link in context.adjacencies_at.get(end, ()) if end in link.spread}
        if devices:
            return f"It turns on which member of {end} takes the frame: they lead to {' and '.join(sorted(devices))}."
    if stop is not None and stop.reason == "beyond":
        if isinstance(stop.station, HostStation):
            return f"It works if something there answers for {stop.target} and passes the packet on; else it fails."
        if stop.choice is not None:
            return f"It works if {stop.target} is there and passes the packet on; else it fails."
        return f"It works if {stop.station.device} has a way to {stop.target} that nobody read; else it fails."
    legs = [(leg.receiver, leg.target) for leg in (*walk.legs, *walk.aside) if not leg.proxy]
    named = {_called(one): wanted for one, wanted in legs if isinstance(one, Interface) and not one.has(wanted)}
    if len(set(named.values())) == 1 and {fact.table for fact in facts} == {"gateways"}:
        return f"It works if {' or '.join(named)} has {next(iter(named.values()))}; else it fails."
    for before, here, after in zip(path, path[1:], path[2:], strict=False):
        if here.kind == "unsurveyed":
            turned = "" if after.vid == before.vid else f" and comes out as VLAN {after.vid}"
            return f"It works if VLAN {before.vid} gets through there{turned}, both ways; else it fails."
    if walk.contests and not facts:
        (_, wanted), *_ = walk.contests
        return f"It works or fails by who answers first for {wanted}, as long as more than one has that address."
    if facts and all(fact.column == "metric" for fact in facts):
        return "It works or fails by which of these routes has the lowest metric."
    if walk.forks and not facts:
        return f"It works or fails by which of several ways that are as good {walk.forks[0].station.device} takes."
    if any(fact.table == "hosts" and fact.column == "port" for fact in facts):
        return "It turns on the port that the host is plugged into."
    return "It works if all of that is as the rest of the way needs it; else it fails."


def _called(station: Station) -> str:
    return station.name if isinstance(station, HostStation) else f"{station.device} {station.name}"
