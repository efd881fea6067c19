"""Which cells of a way over bridges were not observed: those of its ports, links, VLANs and spanning trees."""

from __future__ import annotations

from collections.abc import Iterable

from crossthread.diagnosis.context import Context
from crossthread.network.hosts.station import Tap
from crossthread.network.switching.nodes import Crossing
from crossthread.network.three_valued import vids_in
from crossthread.network.topology.adjacency import bundle
from crossthread.network.topology.names import End
from crossthread.network.topology.open_ends import OUTSIDE
from crossthread.survey.records import TABLES, Port, Row
from crossthread.survey.survey import Evidence


def of_way(context: Context, tap: Tap, goal: Tap) -> list[Evidence]:
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
            found += of_port(context, one.end, *vlan_columns(context, one.end))
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
        return of_open_end(context, crossing.near if crossing.far == OUTSIDE else crossing.far)
    if any(sure and node.vid == vid for _, node, _, sure in fabric.cross(crossing, vid)):
        return []
    found: list[Evidence] = []
    if crossing.adjacency.up is None:
        ports = [port for link in crossing.adjacency.links for port in (link.a, link.b)]
        found += [cell for port in ports for cell in of_port(context, port, "oper")]
        ends = [] if found else [end for end in (crossing.near, crossing.far) if _leads_to_several(context, end)]
        members = [port for port in ports if bundle(port, context.network.names) in ends]
        found += [cell for port in members for cell in of_port(context, port, "lag_state")]
    for end in (crossing.near, crossing.far):
        member = fabric.member(end)
        if None in (member.accepts.has(vid), member.untagged.has(vid), member.pvid):
            found += of_port(context, end, *vlan_columns(context, end))
        found += _of_tree(context, end, vid)
        found += _of_vlan(context, end.device, vid)
    return found


def _leads_to_several(context: Context, end: End) -> bool:
    """Whether the members of an aggregate lead to several devices."""
    return len({link.far(end).device for link in context.adjacencies_at.get(end, ())}) > 1


def _of_tree(context: Context, end: End, vid: int) -> list[Evidence]:
    """What was not observed of whether a spanning tree lets a VLAN pass at a port."""
    trees = context.network.fabric.trees
    if trees.forwarding(end).has(vid) is not None:
        return []
    row = trees.row(end, vid)
    followed = Evidence("trees", {"device": end.device}, "vlans", None)
    if row is not None and row.state is not None:  # only which VLANs follow that tree is not known
        return [followed]
    key: dict[str, object] = {"device": end.device, "port": end.port}
    found = empty_cells(context, row, TABLES["tree_ports"].TABLE, key, "state")
    known = row is not None or context.network.covered.fully(end.device, "trees")
    return found if known else [*found, followed]


def _of_vlan(context: Context, device: str, vid: int) -> list[Evidence]:
    """What was not observed of whether a VLAN exists on a device, and is active there."""
    row = context.network.fabric.vlan_row(device, vid)
    if row is not None and row.state is None:
        return empty_cells(context, row, "vlans", {}, "state")
    doubtful = row is None and context.network.fabric.exists(device).has(vid) is None
    return [Evidence("vlans", {"device": device}, "vid", None)] if doubtful else []


def of_open_end(context: Context, end: End) -> list[Evidence]:
    """What was not observed at an open end: what is there, or a whole device that is known by name."""
    beyond = context.network.open_ends.get(end)
    if beyond is None or not end.port:  # of a device of which not all ports were read
        return [Evidence("ports", {"device": end.device}, "port", None)]
    if beyond.name is not None and context.network.names.device(beyond.name) is None:
        return [Evidence("devices", {"device": beyond.name}, "device", None)]
    found = [Evidence("neighbors", {"device": end.device, "port": end.port}, "neighbor", None)]
    rows = [*_ports_of(context, end.device)]
    bare = any(row.mode is None and row.pvid is None and row.oper != "down" for row in rows)
    if bare and not any(row.lag for row in rows):  # it may be a member, of which its aggregate has the VLANs
        found.append(Evidence("ports", {"device": end.device}, "lag", None))
    return found


def of_port(context: Context, end: End, *columns: str) -> list[Evidence]:
    """Which of some columns of a port are empty; of a bridge that may have no modes, also whether it has none."""
    key: dict[str, object] = {"device": end.device, "port": end.port}
    found = empty_cells(context, context.port(end), "ports", key, *columns)
    told = (row.mode or row.pvid or row.allowed is not None for row in _ports_of(context, end.device))
    silent = context.port(end) is not None and not any(told)
    if silent and any(cell.column == "mode" for cell in found):
        device: dict[str, object] = {"device": end.device}  # on one without regard to VLANs no port has a mode
        found += empty_cells(context, context.device(end.device), "devices", device, "vlan_aware")
    return found


def _ports_of(context: Context, device: str) -> Iterable[Port]:
    return context.network.names.ports.get(device, {}).values()


def vlan_columns(context: Context, end: End) -> tuple[str, ...]:
    """The columns of a port that say which VLANs it has, by the mode that it has."""
    row = context.port(end)
    mode = row.mode if row else None
    if mode in ("access", "routed"):
        return ("pvid",) if mode == "access" else ()
    columns = ("mode", "pvid", "allowed")
    return (*columns, "untagged") if mode == "hybrid" else columns


def empty_cells(context: Context, row: Row | None, table: str, key: dict[str, object], *columns: str) -> list[Evidence]:
    """Which of some columns of a row are empty; all of them if there is no row."""
    if row is None:
        return [Evidence(table, dict(key), column, None) for column in columns]
    return [e for e in context.evidence(row, *columns) if e.value is None]
