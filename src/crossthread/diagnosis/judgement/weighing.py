"""What a set of changes weighs by all the evidence, and what speaks for it."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.judgement import weights
from crossthread.diagnosis.judgement.for_hosts import for_host
from crossthread.diagnosis.judgement.for_interfaces import for_interface
from crossthread.diagnosis.judgement.for_ports import for_port
from crossthread.diagnosis.judgement.hearing import Accused, Hearing
from crossthread.diagnosis.judgement.witness import Witness
from crossthread.network.topology.names import End
from crossthread.survey.changes import Change, edited
from crossthread.survey.records import Row
from crossthread.values import NONE, VlanSet, interface

_OF = {"ports": for_port, "hosts": for_host, "gateways": for_interface}


def witnesses(hearing: Hearing, changes: Iterable[Change]) -> list[Witness]:
    """What speaks for the values that some changes set, the weightiest first."""
    found = [one for change in changes for one in _for(hearing, change, _as_it_is(hearing.context, change))]
    return sorted(found, key=lambda one: -one.weight)


def weight(hearing: Hearing, changes: Sequence[Change]) -> float:
    """What speaks for what some changes set, less what speaks for what they overturn and what they cost."""
    gain = sum(one.weight for one in witnesses(hearing, changes))
    lost = sum(one.weight for change in changes for one in _for(hearing, _as_it_is(hearing.context, change), change))
    return gain - lost - weights.ROW * len(edited(changes))


def unplanned(context: Context, changes: Sequence[Change]) -> bool:
    """Whether some changes overturn what the plan has, and set nothing that it has instead."""
    hearing = Hearing(context, accused(context, changes))

    def planned(change: Change, instead: Change) -> float:
        return sum(one.weight for one in _for(hearing, change, instead) if one.weight >= weights.PLAN)

    hops = [(change.delete, context.plan.served_at(str(change.key.get("next_hop")))) for change in changes]
    if any(gone and vid for gone, vid in hops) and any(
        not gone and not vid and change.table == "routes" for (gone, vid), change in zip(hops, changes, strict=True)
    ):
        return True  # a route to where the plan has a gateway leads elsewhere
    pairs = [(change, _as_it_is(context, change)) for change in changes]
    return any(planned(now, change) > planned(change, now) or _beyond(context, change, now) for change, now in pairs)


def _beyond(context: Context, change: Change, now: Change) -> bool:
    """Whether a change lets a port carry what the plan does not let it."""
    planned = context.planned_port(_end(change)).allowed if change.table == "ports" else None
    if planned is None or not change.cells.get("allowed"):
        return False
    then, before = (VlanSet.parse(str(one.cells.get("allowed") or NONE)) for one in (change, now))
    return bool(then - before - planned)


def accused(context: Context, changes: Iterable[Change]) -> set[Accused]:
    """The hosts and interfaces that some changes call wrong: by their own settings, or a host by its access port.

    Not an interface that gets another address of its subnet: where that lives, and how large it is, it tells anyway.
    """
    found = set[Accused]()
    for change in changes:
        if change.table == "hosts" and set(change.cells) - {"link"}:
            found.add(("", str(change.key["host"])))
        elif change.table == "gateways" and set(change.cells) - {"admin", "oper"} and not _stays(change):
            found.add((str(change.key["device"]), str(change.key["interface"])))
        elif change.table == "ports" and "pvid" in change.cells:
            found |= {("", host.name) for host in context.hosts_at(_end(change))}
    return found


def _stays(change: Change) -> bool:
    """Whether a change gives an interface another address of the very subnet that it is in."""
    now, then = (str(cells.get("address") or NONE) for cells in (change.key, change.cells))
    moves = set(change.cells) != {"address"} or NONE in (now, then)
    return not moves and interface(now).network == interface(then).network


def _for(hearing: Hearing, change: Change, instead: Change) -> Iterator[Witness]:
    if change.table in _OF and change.cells:
        yield from _OF[change.table](hearing, change, instead)


def _as_it_is(context: Context, change: Change) -> Change:
    """The change that would set what is there already, in the same cells."""
    row = _row(context, change)
    cells = {column: _plain(getattr(row, column, None), column) for column in change.cells} if row is not None else {}
    return Change(change.table, change.key, {column: value for column, value in cells.items() if value is not None})


def _row(context: Context, change: Change) -> Row | None:
    stations, key = context.network.stations, change.key
    if change.table == "ports":
        return context.port(_end(change))
    if change.table == "hosts":
        host = stations.hosts.get(str(key["host"]).casefold())
        return host.row if host is not None else None
    if change.table == "gateways":
        own = (s.row for s in stations.on_device.get(str(key["device"]), ()) if s.name == key["interface"])
        return next((row for row in own if (row.address or "") == (key.get("address") or "")), None)
    return None


def _end(change: Change) -> End:
    return End(str(change.key["device"]), str(change.key["port"]))


def _plain(value: object, column: str) -> object:
    if column == "pvid" and value == 0:
        return NONE
    return str(value) if isinstance(value, VlanSet) else value
