"""What was not observed and a verdict turns on: the cells to look at."""

from __future__ import annotations

from collections.abc import Sequence

from crossthread.network.forwarding import Leg, Walk
from crossthread.network.names import End
from crossthread.network.segments import Crossing, Node
from crossthread.network.station import Station, Tap
from crossthread.network.truth import vids_in
from crossthread.questions.scene import Scene
from crossthread.survey.survey import Evidence
from crossthread.survey.tables import TABLES, Host, Row


def gaps(scene: Scene, walks: Sequence[Walk]) -> tuple[Evidence, ...]:
    """The cells that some walks turn on and that were not observed, in the order of the way, each once."""
    found: list[Evidence] = []
    for walk in walks:
        if walk.arrives is not None:
            continue
        for asker, wanted in walk.contests:
            key = {"device": asker.name if asker.is_host else asker.device, "address": str(wanted)}
            found.append(Evidence("arp", key, "mac", None))
        for row, column in walk.missing:
            found += scene.evidence(row, column)
        for leg in (*walk.legs, *walk.aside):
            found += _of_leg(scene, leg)
    return tuple({(e.table, str(e.key), e.column): e for e in found}.values())


def _missing(scene: Scene, row: Row | None, table: str, key: dict[str, object], *columns: str) -> list[Evidence]:
    if row is None:
        return [Evidence(table, dict(key), column, None) for column in columns]
    return [e for e in scene.evidence(row, *columns) if e.value is None]


def _of_leg(scene: Scene, leg: Leg) -> list[Evidence]:
    found: list[Evidence] = []
    for station in (leg.sender, leg.receiver):
        found += _of_station(scene, station)
    if leg.proxy:
        found += _missing(scene, leg.receiver.row, "gateways", {}, "proxy_arp")
    for one, two in ((leg.sender, leg.receiver), (leg.receiver, leg.sender)):
        for tap in one.taps:
            for goal in two.taps:
                found += _of_way(scene, tap, goal)
    return found


def _of_station(scene: Scene, station: Station) -> list[Evidence]:
    found: list[Evidence] = []
    if isinstance(station.row, Host):
        if station.end is None:
            return _missing(scene, station.row, "hosts", {}, "device", "port")
        if station.up is None:
            found += _missing(scene, station.row, "hosts", {}, "link")
            found += _of_port(scene, station.end, "oper")
        return found + _of_port(scene, station.end, *_vlan_columns(scene, station.end))
    if station.up is None:
        found += _missing(scene, station.row, "gateways", {}, "admin", "oper")
    if not any(tap.device for tap in station.taps):
        found += _missing(scene, station.row, "gateways", {}, "port")
    if station.row.vid is None and (station.end is None or station.row.untagged == "no"):
        found += _missing(scene, station.row, "gateways", {}, "vid")
    return found


def _of_port(scene: Scene, end: End, *columns: str) -> list[Evidence]:
    return _missing(scene, scene.port(end), "ports", {"device": end.device, "port": end.port}, *columns)


def _vlan_columns(scene: Scene, end: End) -> tuple[str, ...]:
    row = scene.port(end)
    mode = row.mode if row else None
    if mode == "access":
        return ("pvid",)
    columns = ("mode", "pvid", "allowed")
    return (*columns, "untagged") if mode == "hybrid" else columns


def _of_way(scene: Scene, tap: Tap, goal: Tap) -> list[Evidence]:
    """What was not observed on the surest way between two taps."""
    if not tap.device or not goal.device:
        return []
    fabric = scene.network.fabric
    found: list[Evidence] = []
    for end, bounds in ((tap.end, tap.enters), (goal.end, goal.leaves)):
        if end is not None and bounds.sure != bounds.possible:
            found += _of_port(scene, end, *_vlan_columns(scene, end))
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
            found += _of_crossing(scene, step.crossing, step.came_from.vid)
    return found


def _of_crossing(scene: Scene, crossing: Crossing, vid: int) -> list[Evidence]:
    fabric = scene.network.fabric
    if crossing.through is not None:
        return [Evidence("devices", {"device": crossing.through}, "device", None)]
    if any(sure and node.vid == vid for _, node, _, sure in fabric.cross(crossing, vid)):
        return []
    found: list[Evidence] = []
    for end in (crossing.near, crossing.far):
        if crossing.adjacency.up is None:
            found += _of_port(scene, end, "oper")
        member = fabric.member(end)
        if None in (member.accepts.has(vid), member.untagged.has(vid), member.pvid):
            found += _of_port(scene, end, *_vlan_columns(scene, end))
        if fabric.trees.forwarding(end).has(vid) is None:
            row = fabric.trees.row(end, vid)
            key: dict[str, object] = {"device": end.device, "port": end.port}
            found += _missing(scene, row, TABLES["tree_ports"].TABLE, key, "state")
        vlan = fabric.vlan_rows.get(end.device, {}).get(vid)
        if vlan is not None and vlan.state is None:
            found += _missing(scene, vlan, "vlans", {}, "state")
    return found
