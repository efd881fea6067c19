"""What was not observed and a verdict turns on: the cells to look at."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.unknown.cells import empty_cells, of_open_end, of_port, of_way, vlan_columns
from crossthread.network.hosts.attachments import admits
from crossthread.network.hosts.learned_tags import may_be_told
from crossthread.network.hosts.station import HostStation, Interface, Station
from crossthread.network.routing.forwarding import Forwarding
from crossthread.network.routing.unread import Exit
from crossthread.network.routing.walks import Leg, Stop, Walk
from crossthread.network.topology.adjacency import bundle
from crossthread.survey.records import Host, Row
from crossthread.survey.survey import Evidence
from crossthread.values import Address


def gaps(context: Context, walks: Sequence[Walk]) -> tuple[Evidence, ...]:
    """The cells that some walks turn on and that were not observed, in the order of the way, each once."""
    return tuple({(e.table, str(e.key), e.column): e for e in _each(context, walks)}.values())


def first_gap(context: Context, walks: Sequence[Walk]) -> Evidence | None:
    """The first of them, without looking for any other."""
    return next(_each(context, walks), None)


def _each(context: Context, walks: Sequence[Walk]) -> Iterator[Evidence]:
    some = False
    for walk in walks:
        for cell in _of_walk(context, walk) if walk.arrives is None else ():
            some = True
            yield cell
    if not some:  # all was read, but makers differ in whether a gateway answers for another interface's address
        forwarding = Forwarding(context.network)
        asked = ((leg.sender, leg.target) for walk in walks if walk.arrives is None for leg in walk.legs)
        yield from (_answered(*one) for one in asked if len(forwarding.answers(*one)) > 1)


def _of_walk(context: Context, walk: Walk) -> Iterator[Evidence]:
    yield from (_answered(*one) for one in walk.contests if not _has_itself(context, *one))
    proxies = [(row, column) for row, column in walk.missing if column == "proxy_arp"]  # what hardly ever decides
    for row, column in walk.missing:
        if column.startswith("filter_") and getattr(row, column) is not None:
            yield _of_filter(row, getattr(row, column), walk.stop)
        elif (row, column) not in proxies:
            yield from context.evidence(row, column)
    for leg in (*walk.legs, *walk.aside):
        yield from _of_leg(context, leg)
    for row, column in proxies:
        yield from context.evidence(row, column)
    stop = walk.stop
    if stop is not None and stop.reason == "beyond":
        yield from _of_the_unread(context, stop)
    elif stop is not None and stop.reason == "unknown" and not isinstance(stop.station, HostStation):
        device = stop.station.device
        if stop.station in context.network.stations.managed:
            yield Evidence("routes", {"device": device, "prefix": "0.0.0.0/0"}, "next_hop", None)
        else:
            yield from empty_cells(context, context.device(device), "devices", {"device": device}, "routing")
    elif stop is not None and stop.reason == "filter" and not (walk.missing or walk.aside):
        # all was read, but makers differ in whether a filter concerns what a device sends or takes itself
        entry = stop.entry
        if entry is not None:
            yield from context.evidence(entry, "otherwise" if entry.number is None else "action")


def _of_filter(row: Row, name: str, stop: Stop | None) -> Evidence:
    """What was not read of a filter that is there, or the entry of which nobody can say what it does."""
    entry = stop.entry if stop is not None else None
    key: dict[str, object] = {"device": getattr(row, "device", None), "filter": name}
    if entry is None or entry.filter != name or entry.number is None:
        return Evidence("filters", key, "number", None)
    return Evidence("filters", {**key, "number": entry.number}, "action", None)


def _has_itself(context: Context, asker: Station, wanted: Address) -> bool:
    """Whether an asker has an address itself: whom else it would take for its holder, no cache tells."""
    own = [asker] if isinstance(asker, HostStation) else context.network.stations.on_device.get(asker.device, ())
    return any(station.ip == wanted for station in own)


def _answered(asker: Station, wanted: Address) -> Evidence:
    """Whom an asker takes for the holder of an address."""
    key = {"device": asker.name if isinstance(asker, HostStation) else asker.device, "address": str(wanted)}
    return Evidence("arp", key, "mac", None)


def _of_leg(context: Context, leg: Leg) -> Iterator[Evidence]:
    for station in (leg.sender, leg.receiver):
        yield from _of_station(context, station)
    there = leg.receiver if isinstance(leg.receiver, Interface) and not leg.proxy else None
    if there is not None and not there.has(leg.target):
        key = {"device": there.device, "interface": there.name}
        yield Evidence(
            "gateways", key, "address" if there in context.network.unread_addresses.link_local else "virtual", None
        )
    elif there is not None and there.ip != leg.target and there.row.virtual == str(leg.target):
        yield from empty_cells(context, there.row, "gateways", {}, "virtual_state")
    if leg.proxy:
        yield from empty_cells(context, leg.receiver.row, "gateways", {}, "proxy_arp")
    for one, two in ((leg.sender, leg.receiver), (leg.receiver, leg.sender)):
        for tap in one.taps:
            for goal in two.taps:
                yield from of_way(context, tap, goal)


def _of_station(context: Context, station: Station) -> list[Evidence]:
    found: list[Evidence] = []
    if isinstance(station.row, Host):
        if station.end is None:
            if (at := context.network.names.unsurveyed(station.row.device)) is not None:
                return [Evidence("devices", {"device": at}, "device", None)]
            return empty_cells(context, station.row, "hosts", {}, "device", "port")
        if len(station.wherever) > 1:
            several = len({place.end for place in station.wherever}) > 1
            if several:
                found += context.evidence(station.row, "port")
            else:
                found += empty_cells(context, station.row, "hosts", {}, "vid")
            return found + [cell for place in station.wherever for cell in _of_place(context, place)]
        return _of_place(context, station)
    if station.up is None:
        found += empty_cells(context, station.row, "gateways", {}, "admin", "oper")
    for adjacency in context.adjacencies_at.get(station.end, ()) if station.end is not None else ():
        if adjacency.up is None:
            found += of_port(context, adjacency.a, "oper") + of_port(context, adjacency.b, "oper")
    if any(tap.beyond for tap in station.taps) and station.end is not None:
        found += of_open_end(context, bundle(station.end, context.network.names))
    elif not any(tap.device for tap in station.taps):
        found += empty_cells(context, station.row, "gateways", {}, "port")
    if station.row.vid is None and (station.end is None or station.row.untagged == "no"):
        found += empty_cells(context, station.row, "gateways", {}, "vid")
    return found


def _of_place(context: Context, host: Station) -> list[Evidence]:
    """What was not observed of a host, and of the port that it is at."""
    assert isinstance(host, HostStation)
    assert host.end is not None
    found: list[Evidence] = []
    if host.up is None:
        found += empty_cells(context, host.row, "hosts", {}, "link") + of_port(context, host.end, "oper")
    if admits(context.port(host.end), host.row.mac) is None:
        found += empty_cells(context, host.row, "hosts", {}, "mac")
    if may_be_told(context.port(host.end), host.tag):
        found += of_port(context, host.end, "voice") if host.tag else []
    return found + of_port(context, host.end, *vlan_columns(context, host.end))


def _of_the_unread(context: Context, stop: Stop) -> list[Evidence]:
    """What a router that nobody read may be, or may know, the likeliest first."""
    unread, station = context.network.unread, stop.station
    found = _of_station(context, station) if isinstance(station, HostStation) else []
    if not isinstance(station, HostStation):
        if station.device in unread.devices:
            found.append(Evidence("gateways", {"device": station.device}, "interface", None))
        if not context.network.covered.fully(station.device, "routes"):
            found.append(Evidence("routes", {"device": station.device}, "prefix", None))
    wanted = str(stop.target)
    stranger = context.network.stranger_at(wanted)
    if stranger is not None:
        found += context.evidence(stranger, "mac")

    def likely(found: Exit) -> tuple[bool, bool, int, int]:
        rows = found.beyond.heard
        routes = any("router" in (row.capabilities or ()) for row in rows)
        return not any(row.management == wanted for row in rows), not routes, found.unknown, found.hops

    for one in sorted(unread.exits(station), key=likely):
        found += of_open_end(context, one.beyond.end)
    near = sorted(unread.devices & unread.devices_near(station))
    return found + [Evidence("gateways", {"device": device}, "interface", None) for device in near]
