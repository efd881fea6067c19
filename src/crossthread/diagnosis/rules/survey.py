"""The finding about the survey itself."""

from __future__ import annotations

from collections.abc import Sequence

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.findings import Alternative, Finding, Subject, at_station
from crossthread.diagnosis.registry import rule
from crossthread.diagnosis.unknown.looking import looks
from crossthread.network.hosts.station import HostStation
from crossthread.network.routing.walks import Stop
from crossthread.survey.survey import Evidence
from crossthread.values import NONE


@rule("survey-gap", "Plan and inventory", follows="host-not-located host-address-duplicate gateway-address-duplicate")
def survey_gap(context: Context, facts: Sequence[Evidence], example: tuple[str, str]) -> Finding:
    """A fact was not observed on which a verdict turns.

    Matters: whether some hosts reach each other cannot be said without it.
    Notice: nothing.
    Confirm: the fact that is named is empty in the survey.
    Mend: look at it, and survey again.
    """
    todo = "; ".join(look.says for look in looks(context, facts))
    says = f"Whether {example[0]} reaches {example[1]} was not observed: {todo}."
    subjects = tuple(_subject(fact) for fact in facts)
    return Finding("survey-gap", "note", subjects, says, tuple(facts[:9]))


def _subject(fact: Evidence) -> Subject:
    key = {column: str(value) for column, value in fact.key.items() if value is not None}
    return Subject(
        device=key.get("device"),
        port=key.get("port"),
        vid=int(key["vid"]) if key.get("vid") else None,
        host=key.get("host"),
        interface=key.get("interface"),
    )


@rule("survey-gap", "Plan and inventory")
def unexplained(context: Context, stop: Stop) -> Finding:
    """Say that what was observed is too little to tell what is wrong at a stop.

    Matters: something does stand in the way here, but no single change of what the survey lists would mend it.
    Notice: the pair does not work.
    Confirm: look at the facts that are named; survey what is cabled to them.
    Mend: observe what is named, and ask again.
    """
    station = stop.station
    columns = (
        ("address", "gateway", "device", "port")
        if isinstance(station, HostStation)
        else ("address", "vid", "port", "oper")
    )
    name = station.name if isinstance(station, HostStation) else f"{station.device} {station.name}"
    others = ", ".join(s.name if isinstance(s, HostStation) else f"{s.device} {s.name}" for s in stop.candidates)
    says = f"The packet stops at {name}, and the survey lists no way from there" + (f" to {others}" if others else "")
    says += " that a change of a setting would open: a cable, a device or a setting was not observed."
    if (lost := _asked_in_vain(context, stop)) is not None:
        says = f"{lost[0] or name} asks for {lost[1]}, which nothing that was read has: find out what is to have it."
    subjects = at_station(station), *map(at_station, stop.candidates)
    return Finding("survey-gap", "breaks", subjects, says, context.evidence(station.row, *columns))


def _asked_in_vain(context: Context, stop: Stop) -> tuple[str, str] | None:
    """An address that nothing has and is asked for at a stop, or beyond it as gateway, and by whom ("": who stops)."""
    holders = context.network.stations.by_address
    if stop.target is not None and not holders.of(str(stop.target)):
        return "", str(stop.target)
    beyond = holders.of(str(stop.target)) if stop.reason == "route" else ()
    told = ((s.name, s.row.gateway) for s in beyond if isinstance(s, HostStation) and s.row.gateway not in (None, NONE))
    return next(((name, hop) for name, hop in told if hop and not holders.of(hop)), None)


@rule("survey-gap", "Plan and inventory")
def route_unread(context: Context, finding: Finding) -> Finding | None:
    """A routing table that nobody read would have to have a route; what to do if, once read, it has none.

    Matters: the packet gets on or not by a table that was not read.
    Notice: nothing, if the route is there.
    Confirm: read the device's routing table.
    Mend: only if the route is really missing there, add it.
    """
    changes = [change for change in finding.repair if change.table == "routes" and not change.delete]
    devices = sorted({str(change.key["device"]) for change in changes})
    if not changes or not all(context.network.unread.routes_of(device) for device in devices):
        return None
    listed = " and ".join(devices)
    says = f"{listed} would need a route to {changes[0].key['prefix']}, and nobody read the routing table of {listed}."
    only = f"only if {listed}, once read, has no route there"
    told = finding.alternatives or (Alternative(finding.repair, ()),)
    maybe = tuple(Alternative(one.changes, (only, *one.because), one.weight) for one in told)
    return Finding("survey-gap", "note", finding.subjects, says, finding.evidence, alternatives=maybe)
