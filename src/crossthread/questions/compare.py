"""Two surveys of one campus, before and after: what is new, gone and changed, and whether it is better now."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from typing import Any, Literal

import msgspec

from crossthread.answer import Answer
from crossthread.collector import held_still
from crossthread.diagnosis.context import Context
from crossthread.diagnosis.findings import Finding
from crossthread.diagnosis.repair.side_effects import Pairs, changed_pairs
from crossthread.diagnosis.wanted_pairs import Share, Wanted
from crossthread.network.given import Given, network_of, of_network
from crossthread.network.network import Network
from crossthread.plan import Plan
from crossthread.questions.check import check
from crossthread.survey import Survey
from crossthread.survey.changes import Change
from crossthread.survey.records import TABLES, Port, Row, columns_of, folded
from crossthread.views.matrix import class_matrix

_COUNTERS = ("in_errors", "crc_errors", "out_errors", "late_collisions", "violations")
_TRAFFIC = ("counted_for", "in_packets", "out_packets")
_OWN = {"source", "extra", "taken_at", *_COUNTERS, *_TRAFFIC}
"""Columns in which two surveys differ though nothing was changed."""
_TABLES = {"devices": "devices", "ports": "ports", "vlans": "vlans", "gateways": "gateways", "routes": "routes",
           "filters": "filters"}  # fmt: skip
Outcome = Literal["better", "worse", "same", "different"]
Done = Literal["done", "in part", "otherwise", "not done"]


class Changed(msgspec.Struct, frozen=True):
    """One thing that is otherwise now: what, in which respect, as it was and as it is."""

    what: str
    column: str
    before: str | None
    after: str | None


class Part(msgspec.Struct, frozen=True):
    """What is new, gone and changed of one kind."""

    new: tuple[str, ...] = ()
    gone: tuple[str, ...] = ()
    changed: tuple[Changed, ...] = ()

    def __bool__(self) -> bool:
        return bool(self.new or self.gone or self.changed)


class Rose(msgspec.Struct, frozen=True):
    """A counter of damaged frames or refusals that went up, and by how much a minute, if both times are known."""

    port: str
    counter: str
    by: int
    a_minute: float | None = None


class Progress(msgspec.Struct, frozen=True):
    """A change that was planned, and whether it was made: in part, or otherwise than planned."""

    change: Change
    done: Done


class FoundAgain(msgspec.Struct, frozen=True):
    """The findings that are gone, new, and left."""

    gone: tuple[Finding, ...]
    new: tuple[Finding, ...]
    left: tuple[Finding, ...]


class PairsChanged(msgspec.Struct, frozen=True):
    """The ordered pairs of hosts that start to work, that stop, and of which what is known changes."""

    fixed: Pairs
    broken: Pairs
    unsure: Pairs


class Comparison(Answer, frozen=True):
    """What differs between two surveys.

    Attributes
    ----------
    outcome, because
        Whether it is better, worse, the same, or only different, and why.
    devices, links, ports, vlans, trees, gateways, routes, filters, hosts
        What is new, gone and changed. A link that has another end is changed, a host that has another name and the
        same MAC address, too; of trees, whose root moved and which ports changed their part.
    counters
        What was counted more since.
    findings, pairs
        By `check`, and by who reaches whom.
    wanted
        How many of the pairs that should work do, before and after.
    repair
        Of a planned repair, what was made of it.
    """

    ROWS = "repair"
    outcome: Outcome
    because: str
    devices: Part
    links: Part
    ports: Part
    vlans: Part
    trees: Part
    gateways: Part
    routes: Part
    filters: Part
    hosts: Part
    counters: tuple[Rose, ...]
    findings: FoundAgain
    pairs: PairsChanged
    wanted: tuple[Share, Share]
    repair: tuple[Progress, ...] = ()

    @property
    def differs(self) -> bool:
        """Whether anything is otherwise than before."""
        return any((self.devices, self.links, self.ports, self.vlans, self.trees, self.gateways, self.routes,
                    self.filters, self.hosts, self.findings.gone, self.findings.new))  # fmt: skip


@of_network
def compare(before: Network, after: Given, plan: Plan | None = None, repair: Sequence[Change] = ()) -> Comparison:
    """Compare a survey with a later one of the same campus.

    Parameters
    ----------
    before, after
        Networks, surveys, or the places of such: folders, or `.json` or `.json.gz` files.
    plan
        What was intended; None to compare each with itself.
    repair
        The changes that were planned, to see which were made.

    Returns
    -------
    Comparison
        What is new, gone and changed, findings and pairs among it, and whether it is better now.

    Raises
    ------
    SurveyError
        If a place was given and no survey can be read there.

    Examples
    --------
    >>> from crossthread.demo import faulty, healthy
    >>> compare(faulty(), healthy()).outcome
    'better'
    """
    with held_still():
        return _compare(before, network_of(after), plan, repair)


def _compare(before: Network, after: Network, plan: Plan | None, repair: Sequence[Change]) -> Comparison:
    parts = {name: _part(before.told, after.told, table) for table, name in _TABLES.items()}
    first, then = (list(_all(check(network, plan).findings)) for network in (before, after))
    known, now = ({finding.identity for finding in found} for found in (first, then))
    findings = FoundAgain(
        tuple(f for f in first if f.identity not in now),
        tuple(f for f in then if f.identity not in known),
        tuple(f for f in then if f.identity in known),
    )
    matrices = class_matrix(before), class_matrix(after)
    gained, lost, unsure = changed_pairs(*matrices)
    wanted = Wanted(Context(before, plan))
    shares = wanted.share(matrices[0]), wanted.share(matrices[1])
    outcome, because = _outcome(findings, gained, lost, shares, any(parts.values()))
    return Comparison(
        outcome=outcome,
        because=because,
        links=_links(before, after),
        trees=_trees(before, after),
        hosts=_hosts(before.told, after.told),
        counters=tuple(_counters(before.told, after.told)),
        findings=findings,
        pairs=PairsChanged(gained, lost, unsure),
        wanted=shares,
        repair=tuple(Progress(change, _done(change, before.told, after.told)) for change in repair),
        **parts,
    )


def _outcome(
    findings: FoundAgain, gained: Pairs, lost: Pairs, shares: tuple[Share, Share], moved: bool
) -> tuple[Outcome, str]:
    """Better or worse: first by the pairs, then by what breaks and what is at risk."""
    told = [
        f"{len(gained)} pairs of hosts work that did not" if len(gained) != 1 else "1 pair of hosts works that did not"
    ]
    told = told if gained else []
    told += [f"{len(lost)} that did work no more" if len(lost) != 1 else "1 that did works no more"] if lost else []
    heavy = [sum(f.severity != "note" for f in found) for found in (findings.gone, findings.new)]
    told += [f"{heavy[0]} findings are gone" if heavy[0] != 1 else "1 finding is gone"] if heavy[0] else []
    told += [f"{heavy[1]} are new" if heavy[1] != 1 else "1 is new"] if heavy[1] else []
    balance = (shares[1].works - shares[0].works, len(gained) - len(lost), heavy[0] - heavy[1])
    if any(balance):
        sign = next(number for number in balance if number)
        return ("better" if sign > 0 else "worse"), "; ".join(told)
    if gained or lost or findings.gone or findings.new or moved:
        return "different", "; ".join(told) or "no pair of hosts and no finding changed"
    return "same", "nothing that was read differs"


def _all(findings: Iterable[Finding]) -> Iterator[Finding]:
    for finding in findings:
        yield msgspec.structs.replace(finding, follows=())
        yield from _all(finding.follows)


def _name(row: Row) -> str:
    return " ".join(str(value) for column in type(row).KEY if (value := getattr(row, column)) not in (None, ""))


def _part(before: Survey, after: Survey, table: str) -> Part:
    """What is new, gone and changed in one table, by the keys of its rows."""
    old, new = ({row.key: row for row in survey.table(table)} for survey in (before, after))
    differ = [change for key, row in old.items() if key in new for change in _cells(row, new[key])]
    gone, fresh = [k for k in old if k not in new], [k for k in new if k not in old]
    return Part(tuple(_name(new[k]) for k in fresh), tuple(_name(old[k]) for k in gone), tuple(differ))


def _cells(one: Row, two: Row, but: Iterable[str] = ()) -> Iterator[Changed]:
    left_out = {*_OWN, *but, *type(one).KEY} if type(one).TABLE != "filters" else {"extra"}
    for column, (kind, _) in columns_of(type(one)).items():
        values = getattr(one, column), getattr(two, column)
        if column not in left_out and values[0] != values[1]:
            shown = [kind.show(value) if value is not None else None for value in values]
            yield Changed(_name(one), column, shown[0], shown[1])


def _links(before: Network, after: Network) -> Part:
    """Cables: new, gone, and moved, where one end is as before and the other is elsewhere."""
    old, new = ({frozenset((str(link.a), str(link.b))): link for link in network.links} for network in (before, after))
    gone, fresh = [ends for ends in old if ends not in new], [ends for ends in new if ends not in old]
    moved: list[Changed] = []
    for ends in list(gone):
        match = next((other for other in fresh if len(ends & other) == 1), None)
        if match is not None:
            (kept,) = ends & match
            moved.append(Changed(kept, "far end", *(next(iter(pair - {kept})) for pair in (ends, match))))
            gone.remove(ends)
            fresh.remove(match)
    states = [
        Changed(
            " – ".join(sorted(ends)), "state", *({True: "up", False: "down", None: "unknown"}[link.up] for link in pair)
        )
        for ends in old.keys() & new.keys()
        for pair in [(old[ends], new[ends])]
        if pair[0].up is not pair[1].up
    ]
    return Part(
        tuple(" – ".join(sorted(ends)) for ends in fresh),
        tuple(" – ".join(sorted(ends)) for ends in gone),
        tuple(moved + sorted(states, key=lambda one: one.what)),
    )


def _trees(before: Network, after: Network) -> Part:
    """Settings of the trees, roots that moved, and ports that have another part now."""
    found = [*_part(before.told, after.told, "trees").changed, *_part(before.told, after.told, "tree_ports").changed]
    return Part((), (), tuple(found))


def _hosts(before: Survey, after: Survey) -> Part:
    """Hosts by name; one that is gone and one that is new with the same MAC address are one with another name."""
    old, new = ({row.host.casefold(): row for row in survey.hosts} for survey in (before, after))
    gone = {name: row for name, row in old.items() if name not in new}
    by_mac = {row.mac: name for name, row in new.items() if name not in old and row.mac}
    changed: list[Changed] = []
    renamed: set[str] = set()
    for name, row in list(gone.items()):
        other = by_mac.get(row.mac) if row.mac else None
        if other is not None:
            changed.append(Changed(row.host, "host", row.host, new[other].host))
            changed += _cells(row, new[other])
            renamed.add(other)
            del gone[name]
    changed += [change for name, row in old.items() if name in new for change in _cells(row, new[name])]
    fresh = [row.host for name, row in new.items() if name not in old and name not in renamed]
    return Part(tuple(fresh), tuple(row.host for row in gone.values()), tuple(changed))


def _counters(before: Survey, after: Survey) -> Iterator[Rose]:
    times = before.info.taken_at, after.info.taken_at
    minutes = (times[1] - times[0]).total_seconds() / 60 if times[0] and times[1] else None
    old: dict[Any, Port] = {row.key: row for row in before.ports}
    for row in after.ports:
        was = old.get(row.key)
        for counter in _COUNTERS if was is not None else ():
            count = (getattr(row, counter) or 0) - (getattr(was, counter) or 0)
            if count > 0 and getattr(was, counter) is not None:
                rate = round(count / minutes, 2) if minutes and minutes > 0 else None
                yield Rose(_name(row), counter.replace("_", " "), count, rate)


def _done(change: Change, before: Survey, after: Survey) -> Done:
    """What was made of a planned change."""
    record = TABLES.get(change.table)
    if record is None:
        return "not done"
    was, now = (_row(survey, record, change) for survey in (before, after))
    if change.delete:
        return "done" if now is None else "not done"
    wanted = {column: _read(record, column, value) for column, value in change.cells.items()}
    if now is None:
        return "not done"
    as_wanted = [getattr(now, column) == value for column, value in wanted.items()]
    if all(as_wanted):
        return "done"
    same = was is not None and all(getattr(now, column) == getattr(was, column) for column in wanted)
    return "not done" if same else "in part" if any(as_wanted) else "otherwise"


def _row(survey: Survey, record: type[Row], change: Change) -> Row | None:
    """The row that a change is about; an interface that was given another address is known by its name."""
    for but in ((), ("address",)):
        wanted = {c: folded(c, _read(record, c, v)) for c, v in change.key.items() if c not in but}
        rows = [r for r in survey.rows(record) if all(folded(c, getattr(r, c)) == v for c, v in wanted.items())]
        if rows or record.TABLE != "gateways":
            return rows[0] if rows else None
    return None


def _read(record: type[Row], column: str, value: object) -> Any:
    text = "" if value is None else str(value)
    kind = columns_of(record)[column][0] if column in columns_of(record) else None
    try:
        return kind.read(text) if kind is not None and text.strip() else None
    except ValueError:
        return value
