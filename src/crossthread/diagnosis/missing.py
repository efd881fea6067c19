"""What was not observed and a verdict turns on: the cells to look at."""

from __future__ import annotations

from collections.abc import Sequence

from crossthread.diagnosis.context import Context
from crossthread.network.hosts.station import HostStation, Station, Tap
from crossthread.network.routing.forwarding import Leg, Walk
from crossthread.network.switching.segments import Crossing, Node
from crossthread.network.three_valued import vids_in
from crossthread.network.topology.names import End
from crossthread.survey.records import TABLES, Host, Row
from crossthread.survey.survey import Evidence


def gaps(context: Context, walks: Sequence[Walk]) -> tuple[Evidence, ...]:
    """The cells that some walks turn on and that were not observed, in the order of the way, each once."""
    found: list[Evidence] = []
    for walk in walks:
        if walk.arrives is not None:
            continue
        for asker, wanted in walk.contests:
            key = {"device": asker.name if isinstance(asker, HostStation) else asker.device, "address": str(wanted)}
            found.append(Evidence("arp", key, "mac", None))
        for row, column in walk.missing:
            found += context.evidence(row, column)
        for leg in (*walk.legs, *walk.aside):
            found += _of_leg(context, leg)
    return tuple({(e.table, str(e.key), e.column): e for e in found}.values())


def _missing(context: Context, row: Row | None, table: str, key: dict[str, object], *columns: str) -> list[Evidence]:
    if row is None:
        return [Evidence(table, dict(key), column, None) for column in columns]
    return [e for e in context.evidence(row, *columns) if e.value is None]


def _of_leg(context: Context, leg: Leg) -> list[Evidence]:
    found: list[Evidence] = []
    for station in (leg.sender, leg.receiver):
        found += _of_station(context, station)
    if leg.proxy:
        found += _missing(context, leg.receiver.row, "gateways", {}, "proxy_arp")
    for one, two in ((leg.sender, leg.receiver), (leg.receiver, leg.sender)):
        for tap in one.taps:
            for goal in two.taps:
                found += _of_way(context, tap, goal)
    return found


def _of_station(context: Context, station: Station) -> list[Evidence]:
    found: list[Evidence] = []
    if isinstance(station.row, Host):
        if station.end is None:
            return _missing(context, station.row, "hosts", {}, "device", "port")
        if station.up is None:
            found += _missing(context, station.row, "hosts", {}, "link")
            found += _of_port(context, station.end, "oper")
        return found + _of_port(context, station.end, *_vlan_columns(context, station.end))
    if station.up is None:
        found += _missing(context, station.row, "gateways", {}, "admin", "oper")
    if not any(tap.device for tap in station.taps):
        found += _missing(context, station.row, "gateways", {}, "port")
    if station.row.vid is None and (station.end is None or station.row.untagged == "no"):
        found += _missing(context, station.row, "gateways", {}, "vid")
    return found


def _of_port(context: Context, end: End, *columns: str) -> list[Evidence]:
    return _missing(context, context.port(end), "ports", {"device": end.device, "port": end.port}, *columns)


def _vlan_columns(context: Context, end: End) -> tuple[str, ...]:
    row = context.port(end)
    mode = row.mode if row else None
    if mode == "access":
        return ("pvid",)
    columns = ("mode", "pvid", "allowed")
    return (*columns, "untagged") if mode == "hybrid" else columns


def _of_way(context: Context, tap: Tap, goal: Tap) -> list[Evidence]:
    """What was not observed on the surest way between two taps."""
    if not tap.device or not goal.device:
        return []
    fabric = context.network.fabric
    found: list[Evidence] = []
    for end, bounds in ((tap.end, tap.enters), (goal.end, goal.leaves)):
        if end is not None and bounds.sure != bounds.possible:
            found += _of_port(context, end, *_vlan_columns(context, end))
    ways = [
        (reached.unknown, reached.hops, Node(tap.device, vid), Node(goal.device, arrives))
        for vid in vids_in(tap.enters.possible)
        for arrives in vids_in(goal.leaves.possible & fabric.known)
        if (reached := fabric.flood(Node(tap.device, vid)).get(Node(goal.device, arrives))) is not None
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
    if crossing.through is not None:
        return [Evidence("devices", {"device": crossing.through}, "device", None)]
    if any(sure and node.vid == vid for _, node, _, sure in fabric.cross(crossing, vid)):
        return []
    found: list[Evidence] = []
    for end in (crossing.near, crossing.far):
        if crossing.adjacency.up is None:
            found += _of_port(context, end, "oper")
        member = fabric.member(end)
        if None in (member.accepts.has(vid), member.untagged.has(vid), member.pvid):
            found += _of_port(context, end, *_vlan_columns(context, end))
        if fabric.trees.forwarding(end).has(vid) is None:
            row = fabric.trees.row(end, vid)
            key: dict[str, object] = {"device": end.device, "port": end.port}
            found += _missing(context, row, TABLES["tree_ports"].TABLE, key, "state")
        vlan = fabric.vlan_row(end.device, vid)
        if vlan is not None and vlan.state is None:
            found += _missing(context, vlan, "vlans", {}, "state")
    return found
