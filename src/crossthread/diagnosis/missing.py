"""What was not observed and a verdict turns on: the cells to look at."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from crossthread.diagnosis.context import Context
from crossthread.network.hosts.attachments import admits
from crossthread.network.hosts.learned_tags import may_be_told
from crossthread.network.hosts.station import HostStation, Interface, Station, Tap
from crossthread.network.routing.forwarding import Forwarding
from crossthread.network.routing.unread import Exit
from crossthread.network.routing.walks import Leg, Stop, Walk
from crossthread.network.switching.nodes import Crossing
from crossthread.network.three_valued import vids_in
from crossthread.network.topology.adjacency import bundle
from crossthread.network.topology.names import End
from crossthread.network.topology.open_ends import OUTSIDE
from crossthread.survey.records import TABLES, Host, Row
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
        yield from context.evidence(row, column) if (row, column) not in proxies else ()
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
            yield from _missing(context, context.device(device), "devices", {"device": device}, "routing")
    elif stop is not None and stop.reason == "filter" and not (walk.missing or walk.aside):
        # all was read, but makers differ in whether a filter concerns what a device sends or takes itself
        entry = stop.entry
        if entry is not None:
            yield from context.evidence(entry, "otherwise" if entry.number is None else "action")


def _has_itself(context: Context, asker: Station, wanted: Address) -> bool:
    """Whether an asker has an address itself: whom else it would take for its holder, no cache tells."""
    own = [asker] if isinstance(asker, HostStation) else context.network.stations.on_device.get(asker.device, ())
    return any(station.ip == wanted for station in own)


def _answered(asker: Station, wanted: Address) -> Evidence:
    """Whom an asker takes for the holder of an address."""
    key = {"device": asker.name if isinstance(asker, HostStation) else asker.device, "address": str(wanted)}
    return Evidence("arp", key, "mac", None)


def _missing(context: Context, row: Row | None, table: str, key: dict[str, object], *columns: str) -> list[Evidence]:
    if row is None:
        return [Evidence(table, dict(key), column, None) for column in columns]
    return [e for e in context.evidence(row, *columns) if e.value is None]


def _of_leg(context: Context, leg: Leg) -> Iterator[Evidence]:
    for station in (leg.sender, leg.receiver):
        yield from _of_station(context, station)
    there = leg.receiver if isinstance(leg.receiver, Interface) and not leg.proxy else None
    if there is not None and not there.has(leg.target):
        key = {"device": there.device, "interface": there.name}
        yield Evidence(
            "gateways", key, "address" if there in context.network.unread_addresses.link_local else "virtual", None
        )
    if leg.proxy:
        yield from _missing(context, leg.receiver.row, "gateways", {}, "proxy_arp")
    for one, two in ((leg.sender, leg.receiver), (leg.receiver, leg.sender)):
        for tap in one.taps:
            for goal in two.taps:
                yield from _of_way(context, tap, goal)


def _of_station(context: Context, station: Station) -> list[Evidence]:
    found: list[Evidence] = []
    if isinstance(station.row, Host):
        if station.end is None:
            if (at := context.network.names.unsurveyed(station.row.device)) is not None:
                return [Evidence("devices", {"device": at}, "device", None)]
            return _missing(context, station.row, "hosts", {}, "device", "port")
        if len(station.wherever) > 1:
            several = len({place.end for place in station.wherever}) > 1
            if several:
                found += context.evidence(station.row, "port")
            else:
                found += _missing(context, station.row, "hosts", {}, "vid")
            return found + [cell for place in station.wherever for cell in _of_place(context, place)]
        return _of_place(context, station)
    if station.up is None:
        found += _missing(context, station.row, "gateways", {}, "admin", "oper")
    for adjacency in context.adjacencies_at.get(station.end, ()) if station.end is not None else ():
        if adjacency.up is None:
            found += _of_port(context, adjacency.a, "oper") + _of_port(context, adjacency.b, "oper")
    if any(tap.beyond for tap in station.taps) and station.end is not None:
        found.append(_beyond(context, bundle(station.end, context.network.names)))
    elif not any(tap.device for tap in station.taps):
        found += _missing(context, station.row, "gateways", {}, "port")
    if station.row.vid is None and (station.end is None or station.row.untagged == "no"):
        found += _missing(context, station.row, "gateways", {}, "vid")
    return found


def _of_place(context: Context, host: Station) -> list[Evidence]:
    """What was not observed of a host, and of the port that it is at."""
    assert isinstance(host, HostStation)
    assert host.end is not None
    found: list[Evidence] = []
    if host.up is None:
        found += _missing(context, host.row, "hosts", {}, "link") + _of_port(context, host.end, "oper")
    if admits(context.port(host.end), host.row.mac) is None:
        found += _missing(context, host.row, "hosts", {}, "mac")
    if may_be_told(context.port(host.end), host.tag):
        found += _of_port(context, host.end, "voice") if host.tag else []
    return found + _of_port(context, host.end, *_vlan_columns(context, host.end))


def _of_port(context: Context, end: End, *columns: str) -> list[Evidence]:
    return _missing(context, context.port(end), "ports", {"device": end.device, "port": end.port}, *columns)


def _vlan_columns(context: Context, end: End) -> tuple[str, ...]:
    row = context.port(end)
    mode = row.mode if row else None
    if mode in ("access", "routed"):
        return ("pvid",) if mode == "access" else ()
    columns = ("mode", "pvid", "allowed")
    return (*columns, "untagged") if mode == "hybrid" else columns


def _of_way(context: Context, tap: Tap, goal: Tap) -> list[Evidence]:
    """What was not observed on the surest way between two taps."""
    fabric = context.network.fabric
    found: list[Evidence] = []
    if not (tap.beyond or tap.device) or not (goal.beyond or goal.device):
        return []
    for one, bounds in ((tap, tap.enters), (goal, goal.leaves)):
        if bounds.sure == bounds.possible:
            continue
        in_doubt = next(vids_in(bounds.possible & ~bounds.sure))
        if one.end is not None:
            found += _of_port(context, one.end, *_vlan_columns(context, one.end))
            found += _of_tree(context, one.end, in_doubt)
        found += _of_vlan(context, one.device, in_doubt) if one.device else []
    ways = [
        (reached.unknown, reached.hops, start, last)
        for start in tap.enter(vids_in(tap.enters.possible))
        for last in goal.enter(vids_in(goal.leaves.possible & fabric.vids))
        if (reached := fabric.reached(start, last)) is not None
    ]
    if not ways:
        return found
    _, _, start, last = min(ways)
    for step in fabric.way(start, last):
        if step.crossing is not None and step.came_from is not None:
            found += _of_crossing(context, step.crossing, step.came_from.vid)
    return found


def _of_crossing(context: Context, crossing: Crossing, vid: int) -> list[Evidence]:
    fabric = context.network.fabric
    if OUTSIDE in (crossing.near, crossing.far):
        return [_beyond(context, crossing.near if crossing.far == OUTSIDE else crossing.far)]
    if any(sure and node.vid == vid for _, node, _, sure in fabric.cross(crossing, vid)):
        return []
    found: list[Evidence] = []
    if crossing.adjacency.up is None:
        ports = [port for link in crossing.adjacency.links for port in (link.a, link.b)]
        found += [cell for port in ports for cell in _of_port(context, port, "oper")]
        ends = [] if found else [end for end in (crossing.near, crossing.far) if _leads_to_several(context, end)]
        members = [port for port in ports if bundle(port, context.network.names) in ends]
        found += [cell for port in members for cell in _of_port(context, port, "lag_state")]
    for end in (crossing.near, crossing.far):
        member = fabric.member(end)
        if None in (member.accepts.has(vid), member.untagged.has(vid), member.pvid):
            found += _of_port(context, end, *_vlan_columns(context, end))
        found += _of_tree(context, end, vid)
        found += _of_vlan(context, end.device, vid)
    return found


def _of_vlan(context: Context, device: str, vid: int) -> list[Evidence]:
    """What was not observed of whether a VLAN exists on a device, and is active there."""
    row = context.network.fabric.vlan_row(device, vid)
    if row is not None and row.state is None:
        return _missing(context, row, "vlans", {}, "state")
    doubtful = row is None and context.network.fabric.exists(device).has(vid) is None
    return [Evidence("vlans", {"device": device}, "vid", None)] if doubtful else []


def _leads_to_several(context: Context, end: End) -> bool:
    """Whether the members of an aggregate lead to several devices."""
    return len({link.far(end).device for link in context.adjacencies_at.get(end, ())}) > 1


def _of_tree(context: Context, end: End, vid: int) -> list[Evidence]:
    """What was not observed of whether a spanning tree lets a VLAN pass at a port."""
    trees = context.network.fabric.trees
    if trees.forwarding(end).has(vid) is not None:
        return []
    row = trees.row(end, vid)
    if row is not None and row.state is not None:  # only which VLANs follow that tree is not known
        return [Evidence("trees", {"device": end.device}, "vlans", None)]
    key: dict[str, object] = {"device": end.device, "port": end.port}
    return _missing(context, row, TABLES["tree_ports"].TABLE, key, "state")


def _beyond(context: Context, end: End) -> Evidence:
    """What was not observed at an open end: what is there, or a whole device that is known by name."""
    beyond = context.network.open_ends.get(end)
    if beyond is None or not end.port:  # of a device of which not all ports were read
        return Evidence("ports", {"device": end.device}, "port", None)
    if beyond.name is not None and context.network.names.device(beyond.name) is None:
        return Evidence("devices", {"device": beyond.name}, "device", None)
    return Evidence("neighbors", {"device": end.device, "port": end.port}, "neighbor", None)


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

    found += [_beyond(context, one.beyond.end) for one in sorted(unread.exits(station), key=likely)]
    near = sorted(unread.devices & unread.devices_near(station))
    return found + [Evidence("gateways", {"device": device}, "interface", None) for device in near]
