"""Findings about devices that keep several routing tables (RFC 4364, 3: a table for each set of subnets)."""

from __future__ import annotations

from collections.abc import Iterator

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.edits import set_gateway
from crossthread.diagnosis.findings import Finding, Subject, at_station
from crossthread.diagnosis.registry import About, rule
from crossthread.network.hosts.station import Interface
from crossthread.network.routing.routes import Choice
from crossthread.survey.changes import Change
from crossthread.survey.records import Route
from crossthread.values import NONE, Address, address, prefix


@rule("routing-tables-apart", "What stands between")
def routing_tables_apart(context: Context, gateway: Interface, target: Address) -> Finding | None:
    """A device keeps two subnets in different routing tables, between which it passes nothing on.

    Matters: the two subnets do not reach each other by this device; that may be just what the tables are for.
    Notice: each subnet works by itself, and with others of its own table.
    Confirm: list the interfaces of the device with their routing tables, and ask whether the two are meant to talk.
    Mend: if they are, put the interface into the table of the other, or lead routes from one table into the other.
    """
    apart = _apart(context, gateway, target)
    if not apart:
        return None
    return Finding(
        "routing-tables-apart",
        "breaks",
        (at_station(gateway), at_station(apart[0])),
        f"{gateway.device} has {gateway.name} in {_called(gateway.row.table)}, and {apart[0].name}, where {target} is, "
        f"in {_called(apart[0].row.table)}.",
        context.evidence(gateway.row, "table") + context.evidence(apart[0].row, "table", "address"),
    )


@rule("route-missing", "Gateway and routing")
@rule("route-back-missing", "Gateway and routing")
def route_missing_in_table(context: Context, gateway: Interface, target: Address, back: bool) -> Finding | None:
    """A routing table has no route to a subnet of another table, though a router beside it leads there.

    Matters: packets from this table's subnets are dropped, or their answers are, though somebody is there to pass them
    on.
    Notice: subnets of one table reach those of the other one, or get answers from them, no more.
    Confirm: look the destination up in that very table, and in that of the router that joins the two.
    Decide: ask whether the two are meant to talk, and by which router.
    Mend: add the route to the table that lacks it, as the device's other tables have it.
    """
    device, table = gateway.device, gateway.row.table
    apart = _apart(context, gateway, target)
    if not apart or context.network.unread.routes_of(device):
        return None
    for own, far, way in _leading(context, gateway, target):
        hop = far.address.ip if far.address is not None else None
        alike = _as_others_lead(context, gateway, far.device, target)
        goal = alike.prefix if alike is not None else apart[0].address and apart[0].address.network
        key = {"device": device, "prefix": str(goal), "next_hop": str(hop)} | ({"table": table} if table else {})
        evidence = context.evidence(own.row, "table") + context.evidence(far.row, "address")
        for row in filter(None, (way.route, alike)):
            evidence += context.evidence(row, "next_hop")
        return Finding(
            "route-back-missing" if back else "route-missing",
            "breaks",
            (Subject(device=device), Subject(device=device, interface=own.name)),
            f"{device} has no route to {goal} in {_called(table)}; {hop} (by {own.name}) leads there.",
            evidence,
            (Change("routes", key, {"interface": own.name, "origin": "static"}),),
        )
    return None


@rule(
    "gateway-table-differs", "Gateway and routing", About.GATEWAY, follows="route-missing route-back-missing", cuts=True
)
def gateway_table_differs(context: Context, gateway: Interface) -> Finding | None:
    """Routes of one routing table lead out of an interface that is in another one, where no route leads out of it.

    Matters: many devices use no such route; and what comes in there is looked up in the wrong table, and may go round.
    Notice: the subnets of one table have no way out, from the day on which the interface was set up anew.
    Confirm: list the interfaces of the device with their tables; look whether the table has that route as active.
    Decide: ask which table the interface belongs to; routes may lead from one table into another on purpose.
    Mend: put the interface into the table whose routes lead out of it.
    """
    own, rows = gateway.address, context.network.routing.routes(gateway.device)
    led = [row for row in rows if row.interface == gateway.name and row.next_hop not in (None, NONE)]
    tables = {row.table for row in led}
    if own is None or len(tables) != 1 or gateway.row.table in tables:
        return None
    if not any(address(row.next_hop or "") in own.network for row in led):
        return None
    (table,) = tables
    beside = (other for other in context.network.stations.on_device[gateway.device] if other.name != gateway.name)
    if all(other.row.table != table for other in beside):
        return None  # it is the routes that are in a table where nothing else is
    says = (
        f"{gateway.device} {gateway.name} is in {_called(gateway.row.table)}, but the routes that lead out of it are "
    )
    leading = tuple(fact for row in led[:3] for fact in context.evidence(row, "interface"))
    return Finding(
        "gateway-table-differs",
        "breaks",
        (at_station(gateway),),
        f"{says}are in {_called(table)}.",
        context.evidence(gateway.row, "table") + leading,
        (set_gateway(gateway, table=table or ""),),
    )


def _apart(context: Context, gateway: Interface, target: Address) -> list[Interface]:
    """The interfaces of a device in whose subnet an address is, in other tables than that of one."""
    here = context.network.stations.on_device[gateway.device]
    return [s for s in here if s.address and target in s.address.network and s.row.table != gateway.row.table]


def _called(table: str | None) -> str:
    return f"table “{table}”" if table else "the main table"


def _leading(context: Context, gateway: Interface, target: Address) -> Iterator[tuple[Interface, Interface, Choice]]:
    """The interfaces in a table beside which a router passes on to an address, those routers' interfaces, and how."""
    routing = context.network.routing
    for own in context.network.stations.on_device[gateway.device]:
        if own.row.table != gateway.row.table or own.address is None or own.up is False:
            continue
        if own.address.version != target.version:
            continue
        for far in context.expected.interfaces_near(own.address.ip):
            if far.device == own.device or routing.on(far.device) is False:
                continue
            ways = [way for way in routing.choices(far.device, far.row.table, target) if way.usable and way.length]
            if ways and not ways[0].discards and ways[0].interface.name != far.name:
                yield own, far, ways[0]


def _as_others_lead(context: Context, gateway: Interface, router: str, target: Address) -> Route | None:
    """The route to a router in another table of a device, whose prefix an address is in."""
    held = {str(s.address.ip) for s in context.network.stations.on_device.get(router, ()) if s.address is not None}
    rows = (row for row in context.network.routing.routes(gateway.device) if row.table != gateway.row.table)
    return next((row for row in rows if row.next_hop in held and target in prefix(row.prefix)), None)
