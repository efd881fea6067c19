"""Findings about neighbour discovery (IEEE 802.1AB)."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Sequence

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.findings import Finding, at_port
from crossthread.diagnosis.registry import About, rule
from crossthread.network.topology.links import Link, Loose
from crossthread.network.topology.names import End, is_one_device
from crossthread.survey.records import Neighbor
from crossthread.values import NONE

_HOLD = 4
"""How many intervals the hold time usually spans (msgTxHold, IEEE 802.1AB clause 9.2.5.6)."""
_PATIENCE = 1.5
"""An entry is stale if it was not refreshed for this many intervals."""


@rule("neighbor-conflict", "Neighbour discovery", About.LOOSE)
def neighbor_conflict(context: Context, entry: Loose) -> Finding | None:
    """The two ends of what looks like one link name different ports.

    Matters: one of the two readings is stale, or something in between passes neighbour discovery on; no link is drawn
    until that is settled.
    Notice: the map lacks a cable that everybody knows.
    Confirm: read the neighbour tables of both devices again; follow the cable.
    Mend: survey both devices again once the old entries have aged out; label the cable.
    """
    if entry.why != "conflict" or entry.claims is None:
        return None
    others = [link for link in context.network.links if entry.claims in (link.a, link.b)]
    hears = f"{entry.claims} hears {others[0].far(entry.claims)}" if others else f"{entry.claims} hears somebody else"
    evidence = context.evidence(entry.row, "neighbor", "neighbor_port")
    for other in context.network.loose:
        if other.end == entry.claims:
            evidence += context.evidence(other.row, "neighbor", "neighbor_port")
    for link in others[:1]:
        for row in (*link.seen_a, *link.seen_b):
            if row.port == entry.claims.port:
                evidence += context.evidence(row, "neighbor", "neighbor_port")
    return Finding(
        "neighbor-conflict",
        "risks",
        (at_port(entry.end), at_port(entry.claims)),
        f"{entry.end} hears {entry.claims}, but {hears}.",
        evidence,
    )


@rule("neighbor-one-way", "Neighbour discovery", About.CABLE, follows="discovery-off port-admin-down port-down")
def neighbor_one_way(context: Context, link: Link) -> Finding | None:
    """Only one end of a link hears the other.

    Matters: the map rests on one witness here; one strand of a fibre may be broken, or a port may not speak.
    Notice: a device is missing from its neighbour's list.
    Confirm: look at both devices' neighbour tables, and whether both ends speak and listen.
    Mend: turn neighbour discovery on at the silent end; if it is on, clean or swap the fibre.
    """
    if bool(link.seen_a) == bool(link.seen_b):
        return None
    silent, heard = (link.b, link.a) if link.seen_a else (link.a, link.b)
    told = (link.seen_a or link.seen_b)[0]
    if told.protocol == "stp":
        return None  # a spanning tree tells of a link at one end only
    if not context.network.covered.fully(silent.device, "neighbors"):
        return None  # nobody read what it hears
    return Finding(
        "neighbor-one-way",
        "note",
        (at_port(silent), at_port(heard)),
        f"{silent} hears nothing of {heard}: {_reason(context, silent, heard)}.",
        context.evidence(told, "neighbor", "neighbor_port"),
    )


def _reason(context: Context, silent: End, heard: End) -> str:
    """Why the one end does not hear the other."""
    for end, deaf, word in (
        (silent, ("send", "off"), "does not listen"),
        (heard, ("receive", "off"), "does not speak"),
    ):
        row, port = context.device(end.device), context.port(end)
        if row is not None and row.discovery == "off":
            return f"neighbour discovery is off on {end.device}"
        if port is not None and port.discovery in deaf:
            return f"{end} {word} (discovery {port.discovery})"
    return "its neighbour table lacks it; ask again, or look for something in between"


@rule("neighbor-several", "Neighbour discovery", About.HEARING)
def neighbor_several(context: Context, end: End, rows: Sequence[Neighbor]) -> Finding | None:
    """A port hears more than one neighbour.

    Matters: something that is in no table stands in between, such as an unmanaged switch, or a telephone with a
    computer behind it.
    Notice: nothing, until that box fails or makes a loop.
    Confirm: follow the cable from the port.
    Mend: put the box on the drawing, or replace it by a cable or a managed switch.
    """
    who: list[Neighbor] = []
    for row in rows:
        if not any(_identity(row) == _identity(other) or is_one_device(row, other) for other in who):
            who.append(row)
    if len(who) < 2:
        return None
    listed = " and ".join(sorted({row.neighbor or row.neighbor_chassis or "?" for row in rows}))
    evidence = tuple(fact for row in rows for fact in context.evidence(row, "neighbor"))
    says = f"{end} hears {len(who)} neighbours: {listed}."
    return Finding("neighbor-several", "note", (at_port(end),), says, evidence)


@rule("neighbor-stale", "Neighbour discovery", About.HEARING)
def neighbor_renamed(context: Context, end: End, rows: Sequence[Neighbor]) -> Finding | None:
    """One neighbour is heard by two names, the older of which is ageing out.

    Matters: whoever looks for the old name believes that there is a second device.
    Notice: a device stands twice in lists.
    Confirm: wait for the hold time, and read the neighbour table again.
    Mend: none is needed; survey again after the hold time.
    """
    for number, one in enumerate(rows):
        for two in rows[number + 1 :]:
            if not (one.neighbor and two.neighbor) or one.neighbor == two.neighbor or not is_one_device(one, two):
                continue
            old = min(one, two, key=lambda row: row.remaining or 0)
            who = one.neighbor_chassis or one.management
            listed = " and ".join(sorted((one.neighbor, two.neighbor)))
            says = f"{end} hears {who} as {listed}: renamed; {old.neighbor} is ageing out."
            evidence = context.evidence(old, "neighbor", "remaining")
            return Finding("neighbor-stale", "note", (at_port(end),), says, evidence)
    return None


def _identity(row: Neighbor) -> str:
    return row.neighbor_chassis or row.neighbor or "?"


@rule("neighbor-stale", "Neighbour discovery", About.HEARING)
def neighbor_stale(context: Context, end: End, rows: Sequence[Neighbor]) -> Iterator[Finding]:
    """A neighbour has not been heard for longer than its own interval.

    Matters: the entry is of the past; the neighbour may be gone, or renamed, or its frames get lost.
    Notice: the map shows a cable that may have been pulled.
    Confirm: read the neighbour table again after the hold time; the entry is then gone or fresh.
    Mend: survey again; if the entry stays old while the link is up, look for lost frames on the link.
    """
    for row in rows:
        interval = row.interval or (row.ttl / _HOLD if row.ttl else None)
        if row.ttl is None or row.remaining is None or not interval or row.ttl - row.remaining <= _PATIENCE * interval:
            continue
        name = row.neighbor or row.neighbor_chassis or "a neighbour"
        says = f"{end} has not heard {name} for {row.ttl - row.remaining:g} s, though it speaks every {interval:g} s"
        yield Finding(
            "neighbor-stale",
            "note",
            (at_port(end),),
            f"{says}; {row.remaining:g} s of {row.ttl:g} s are left.",
            context.evidence(row, "ttl", "remaining", "interval"),
        )


@rule("neighbor-no-address", "Neighbour discovery", About.CAMPUS, follows="neighbor-unsurveyed")
def neighbor_no_address(context: Context) -> Iterator[Finding]:
    """A neighbour gives no management address.

    Matters: it cannot be asked anything over the network, and a survey that follows neighbours ends there.
    Notice: nothing.
    Confirm: look at the neighbour's own discovery settings and whether it has an address at all.
    Mend: give it a management address, and let it announce that.
    """
    silent: dict[str | None, list[tuple[End, Neighbor]]] = defaultdict(list)
    for end, rows in context.heard_at.items():
        for row in rows:
            if row.management == NONE:  # an empty cell was not observed
                silent[row.neighbor_chassis or row.neighbor].append((end, row))
    for heard in silent.values():
        row = heard[0][1]
        name = row.neighbor or row.neighbor_chassis or "a neighbour"
        places = ", ".join(str(end) for end, _ in heard[:3]) + (f" and {len(heard) - 3} more" if len(heard) > 3 else "")
        evidence = context.evidence(row, "neighbor", "management")
        says = f"{name}, heard at {places}, gives no management address."
        yield Finding("neighbor-no-address", "note", tuple(at_port(end) for end, _ in heard), says, evidence)


@rule("neighbor-unsurveyed", "Neighbour discovery", About.LOOSE)
def neighbor_unsurveyed(context: Context, entry: Loose) -> Finding | None:
    """A neighbour was heard that is not in the survey.

    Matters: whatever it does with VLANs and trees is unknown, and so are verdicts on ways through it.
    Notice: nothing.
    Confirm: ask the neighbour what it is; its name and address are in the neighbour table.
    Mend: survey it as well, or write into the plan that it is nobody's business.
    """
    if entry.why != "unsurveyed":
        return None
    row = entry.row
    name = row.neighbor or row.neighbor_chassis or "somebody"
    return Finding(
        "neighbor-unsurveyed",
        "note",
        (at_port(entry.end),),
        f"{entry.end} hears {name}, which is not in the survey.",
        context.evidence(row, "neighbor", "neighbor_chassis", "management"),
    )
