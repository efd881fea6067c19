"""Whether findings rest on what is there: not on what only a mend that was given up again would have made so."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from msgspec import structs

from crossthread.diagnosis.findings import Finding
from crossthread.diagnosis.repair.trials import adds_interface, changes_of
from crossthread.survey.changes import Change


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


def _made(changes: Iterable[Change]) -> tuple[set[tuple[str, str, str | None]], set[str]]:
    """What some changes set, as `(key, column, value)`, and the keys that they make of others."""
    changes = list(changes)
    cells: set[tuple[str, str, str | None]] = set()
    cells |= {(str(c.key), column, str(value)) for c in changes for column, value in c.cells.items()}
    moved = {str({column: c.cells.get(column, value) for column, value in c.key.items()}) for c in changes}
    return cells, moved - {str(change.key) for change in changes}
