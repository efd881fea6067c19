"""How far a packet surely gets whose arrival is not known, and how that verdict will turn once more is."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence

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
from crossthread.views.way import Hop


def how_far(context: Context, source: Station, walk: Walk, back: bool = False) -> str:
    """How far a packet surely gets, in one sentence."""
    network = context.network
    forwarding, station = Forwarding(network), source
    passed: list[str] = []
    filtering = walk.stop.station if walk.stop is not None and walk.stop.reason == "filter" else None
    for leg in walk.legs:
        if station is filtering:
            break
        sure = (one for one, _, heard in forwarding.answers(leg.sender, leg.target) if heard)
        if leg.sender is not station or all(one is not leg.receiver for one in sure):
            break
        station = leg.receiver
        passed.append(_called(station))
    beyond = walk.stop.station if walk.stop is not None and walk.stop.reason == "beyond" else None
    if beyond is not None and beyond.device == station.device:
        station = beyond
    what = "reply" if back else "echo"
    way = f" by way of {', '.join(passed)}" if passed else ""
    if station is filtering and walk.stop is not None and walk.stop.port is None:
        if not passed:
            return f"The {what} may be dropped at once by a packet filter of {_called(station)}."
        return f"The {what} surely gets from {source.name} to {passed[-1]}; there a packet filter may drop it."
    if passed and isinstance(station, Interface) and station is not beyond:
        return f"The {what} surely gets from {source.name} to {passed[-1]}."  # from there it goes elsewhere
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
    if facts and all(fact.table == "filters" and fact.value is not None for fact in facts):
        return "It fails if it is, as that filter drops this; else it works."
    if walk.contests and all(fact.table == "arp" for fact in facts):
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
