"""Builders of changes: the edits that rules and repairs propose."""

from __future__ import annotations

from crossthread.diagnosis.context import Context
from crossthread.network.hosts.station import Station
from crossthread.network.topology.names import End
from crossthread.survey.changes import Change
from crossthread.survey.records import Port
from crossthread.values import NONE, VlanSet


def closed_itself(row: Port | None) -> bool:
    """Whether a port shut itself after a violation: it is down, nobody shut it, and it refuses that way."""
    return row is not None and row.violation == "shutdown" and bool(row.violations) and _dark(row)


def _dark(row: Port) -> bool:
    return row.oper == "down" and row.admin != "down"


def raise_link(context: Context, end: End) -> tuple[Change, ...]:
    """The changes that bring a port's link up, and what will then be observed at its far ends.

    An aggregate whose members are all shut comes up with them.
    """
    found = []
    ends = [end, *(a.far(end) for a in context.adjacencies_at.get(end, ()))]
    for adjacency in context.adjacencies_at.get(end, ()):
        ends += [e for link in adjacency.links for e in (link.a, link.b)]
    rows = {each: row for each in ends if (row := context.port(each)) is not None}
    members = [each for each, row in rows.items() if each.device == end.device and row.lag == end.port]
    opened = {end, *members} if all(rows[member].admin == "down" for member in members) else {end}
    for each, row in rows.items():
        cells = {"admin": "up"} if row.admin == "down" and each in opened else {}
        if row.oper == "down":
            cells["oper"] = "up"
        if cells:
            found.append(set_port(each, **cells))
    for host in context.hosts_at(end):
        if host.row.link == "down":
            found.append(Change("hosts", {"host": host.name}, {"link": "up"}))
    for gateway in (s for each in dict.fromkeys(ends) for s in context.network.gateways_at.get(each, ())):
        if gateway.row.oper == "down" and gateway.row.admin != "down":
            found.append(set_gateway(gateway, oper="up"))
    return tuple(found)


def set_port(end: End, **cells: object) -> Change:
    """A change of a port's cells."""
    shown = {column: str(value) if isinstance(value, VlanSet) else value for column, value in cells.items()}
    return Change("ports", {"device": end.device, "port": end.port}, shown)


def planned_trunk(context: Context, end: End) -> dict[str, object]:
    """The list and the native VLAN that the plan has for a trunk, as cells; no native VLAN that contradicts itself."""
    native = context.planned_native(end)
    others = {context.planned_native(link.far(end)) for link in context.adjacencies_at.get(end, ())} - {None}
    if others - {native}:
        native = None
    cells = {"pvid": NONE if native == 0 else native, "allowed": context.planned_port(end).allowed}
    return {column: value for column, value in cells.items() if value is not None}


def carry(context: Context, end: End, more: VlanSet, **cells: object) -> Change:
    """A change that lets a port carry more VLANs, untagged if that is planned, and no longer forbids them there."""
    row = context.port(end)
    allowed = ((row.allowed if row else None) or VlanSet()) | more
    forbidden = row.forbidden if row else None
    lifted = {} if forbidden is None or not forbidden & more else {"forbidden": forbidden - more}
    native = context.planned_native(end)
    planned = {"pvid": native} if native and native in more and row is not None and row.pvid != native else {}
    return set_port(end, **{"allowed": allowed, **lifted, **planned, **cells})


def set_gateway(gateway: Station, **cells: object) -> Change:
    """A change of an interface's cells."""
    row = gateway.row
    key = {"device": gateway.device, "interface": gateway.name, "address": getattr(row, "address", None) or ""}
    return Change("gateways", key, dict(cells))


def in_its_table(context: Context, device: str, interface: str = "") -> dict[str, object]:
    """The routing table that a new interface of a device is in, as a cell: that of its routes, or of all the others."""
    routing = context.network.routing
    if routing.untold(device) is not None:
        return {}
    led = {row.table for row in routing.routes(device) if interface and row.interface == interface}
    own = (s.row for s in context.network.stations.on_device.get(device, ()) if s.address is not None)
    tables = led or {getattr(row, "table", None) for row in own}
    return {"table": table} if len(tables) == 1 and (table := tables.pop()) else {}


def set_host(host: Station, **cells: object) -> Change:
    """A change of a host's cells."""
    return Change("hosts", {"host": host.name}, dict(cells))
