"""What findings rest on: what was read, what a mend before would have made so, or one that was given up again."""

from __future__ import annotations

from collections.abc import Container, Iterable, Mapping, Sequence

from msgspec import structs

from crossthread.diagnosis.findings import Finding
from crossthread.diagnosis.repair.together import adds_interface, changes_of
from crossthread.network.network import Network
from crossthread.network.topology.names import End
from crossthread.survey.changes import Change
from crossthread.survey.records import TABLES, Port, folded
from crossthread.survey.survey import Evidence, Survey
from crossthread.values import VlanSet

ONCE_MENDED = "once mended"
"""The source of a fact that nobody read, as only another mend would make it so."""


class GivenUp:
    """What mends that were tried and left out again would have made so.

    Parameters
    ----------
    left, kept
        The findings whose mends were left out, and those whose mends stay.
    """

    def __init__(self, left: Iterable[Finding], kept: Iterable[Finding]) -> None:
        gone, stay = changes_of(left), changes_of(kept)
        added = {str(c.key) for c in gone if adds_interface(c)} - {str(c.key) for c in stay}
        cells, moved = _made(change for change in gone if str(change.key) not in added)
        true, there = _made(stay)
        self._added, self._keys, self._cells = added, moved - there, cells - true

    def contradicts(self, finding: Finding) -> bool:
        """Whether a finding takes a cell, or the address of an interface, to be otherwise than it is."""
        return any(
            str(fact.key) in self._keys or (str(fact.key), fact.column, fact.value) in self._cells
            for fact in finding.evidence
            if fact.source is None
        )

    def tells(self, finding: Finding) -> bool:
        """Whether a finding tells of an interface that was only thought to be there."""
        return any(str(fact.key) in self._added for fact in finding.evidence)

    def without(self, finding: Finding) -> Finding:
        """The same finding, which does not tell of such an interface."""
        evidence = tuple(fact for fact in finding.evidence if str(fact.key) not in self._added)
        return structs.replace(finding, evidence=evidence)


def resting_on(given_up: Iterable[Finding], findings: Iterable[Finding]) -> list[Finding]:
    """Those of some findings with a mend that take for granted what the mends that are given up would have made so."""
    mending = [one for one in findings if one.repair]
    lost = _made(changes_of(given_up))[0] - _made(changes_of(mending))[0]
    once = ((one, [fact for fact in one.evidence if fact.source in (None, ONCE_MENDED)]) for one in mending)
    return [one for one, facts in once if any((str(fact.key), fact.column, fact.value) in lost for fact in facts)]


def on_facts(needed: Sequence[Finding], findings: Sequence[Finding]) -> list[Finding] | None:
    """The findings that are needed of some, with those on whose mends they rest; None if one rests on nothing.

    A mend without which the pair works as well stays if another takes what it sets for granted: each of the two is a
    fault, and without the one nobody would have thought of the other.
    """
    kept = list(needed)
    while True:
        left = [finding for finding in findings if finding not in kept]
        given_up = GivenUp(left, kept)
        resting = [finding for finding in kept if given_up.contradicts(finding)]
        if not resting:
            return [given_up.without(finding) for finding in kept]
        ground = [one for one in left if any(GivenUp([one], kept).contradicts(finding) for finding in resting)]
        if not ground:
            return None
        kept = [finding for finding in findings if finding in kept or finding in ground]


def on_mends(survey: Survey, findings: Iterable[Finding]) -> list[Finding]:
    """The same findings without those that mend what is not there, nor would be by the mends of the others.

    Nor is an address mended again that a mend of another gives to an interface.
    """
    kept = list(findings)
    rows = {(folded("device", row.device), row.interface, row.address or "") for row in survey.gateways}
    while True:
        given = [change for finding in kept for change in finding.repair if "address" in change.cells]
        made = {str({**change.key, "address": change.cells["address"]}) for change in given}
        floating = [finding for finding in kept if any(_floats(change, rows, made) for change in finding.repair)]
        if not floating:
            return kept
        kept = [finding for finding in kept if finding is not floating[-1]]


def _floats(change: Change, rows: Container[tuple[object, ...]], made: Container[str]) -> bool:
    if change.table != "gateways" or adds_interface(change) or change.delete:
        return False
    key = change.key
    there = (folded("device", str(key["device"])), key["interface"], key.get("address") or "") in rows
    return not there and (str(key) not in made or "address" in change.cells)


def without_lists_of(network: Network, dropped: Iterable[Finding], findings: Iterable[Finding]) -> list[Finding]:
    """The same findings; no list of VLANs that a mend sets has what only the mends of some that are dropped add to it.

    A fault behind another is found on a copy on which that is mended, so that its list may have what the other adds.
    """

    def at(key: Mapping[str, object]) -> Port | None:
        return network.port(End(str(key["device"]), str(key["port"])))

    def listed(change: Change) -> VlanSet | None:
        row = at(change.key) if change.table == "ports" and change.cells.get("allowed") else None
        return row.allowed if row is not None else None

    added: dict[str, VlanSet] = {}
    for change in (change for finding in dropped for change in finding.repair):
        if (now := listed(change)) is not None:
            more = VlanSet.parse(str(change.cells["allowed"])) - now
            added[str(change.key)] = added.get(str(change.key), VlanSet()) | more

    def shortened(change: Change, own: VlanSet) -> Change:
        extra = added.get(str(change.key), VlanSet()) - own
        if not extra or listed(change) is None:
            return change
        allowed = VlanSet.parse(str(change.cells["allowed"])) - extra
        return structs.replace(change, cells={**change.cells, "allowed": allowed})

    def as_read(fact: Evidence) -> tuple[Evidence, ...]:
        changed = fact.column == "allowed" and str(fact.key) in added
        return network.evidence(at(fact.key), "allowed") if changed else (fact,)

    def kept(finding: Finding) -> Finding:
        own = VlanSet.of(subject.vid for subject in finding.subjects if subject.vid)
        repair = tuple(shortened(change, own) for change in finding.repair)
        if repair == finding.repair:
            return finding
        return structs.replace(
            finding, repair=repair, evidence=tuple(one for fact in finding.evidence for one in as_read(fact))
        )

    return [kept(finding) for finding in findings] if added else list(findings)


def told_apart(survey: Survey, findings: Iterable[Finding]) -> tuple[Finding, ...]:
    """The same findings; of facts found on a mended copy it is said where they were read, or that nobody did."""
    return tuple(
        structs.replace(
            finding,
            evidence=tuple(_as_read(survey, fact) for fact in finding.evidence),
            follows=told_apart(survey, finding.follows),
        )
        for finding in findings
    )


def _as_read(survey: Survey, fact: Evidence) -> Evidence:
    if fact.source is not None or fact.value is None or fact.table not in TABLES:
        return fact
    table, (first, *_) = survey.table(fact.table), fact.key
    places = table.positions(first).get(folded(first, fact.key[first]), ())
    found = (one for n in places for one in survey.evidence(table[n], fact.column))
    read = (one for one in found if (one.key, one.value) == (fact.key, fact.value))
    return next(read, structs.replace(fact, source=ONCE_MENDED))


def _made(changes: Iterable[Change]) -> tuple[set[tuple[str, str, str | None]], set[str]]:
    """What some changes set, as `(key, column, value)`, and the keys that they make of others."""
    changes = list(changes)
    cells: set[tuple[str, str, str | None]] = set()
    cells |= {(str(c.key), column, str(value)) for c in changes for column, value in c.cells.items()}
    moved = {str({column: c.cells.get(column, value) for column, value in c.key.items()}) for c in changes}
    return cells, moved - {str(change.key) for change in changes}
