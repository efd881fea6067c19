"""Findings in the terminal: the statement, its evidence, its mend."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import groupby

from rich.console import Console

from crossthread.diagnosis.findings import Alternative, Finding
from crossthread.diagnosis.meanings import meaning
from crossthread.diagnosis.repair.facts import ONCE_MENDED
from crossthread.faces.terminal.console import STYLES, count, line, paragraph, said
from crossthread.survey.changes import Change

_Homes = dict[tuple[str, ...], int]
"""Each explanation with the number of the finding at which it is told: others that it does without refer to that."""


def show_findings(
    findings: Sequence[Finding], out: Console, numbered: bool = True, evidence: bool = True, decide: bool = True
) -> None:
    """Each finding as a paragraph: severity and rule, what it says, the facts with their sources, the changes.

    Where there are two explanations, also what would `decide` between them.
    """
    homes = _homes(findings)
    for number, alike in _alike(findings):
        if len(alike) >= (CROWD if alike[0].affected else _MANY):
            _folded(number, alike, out, numbered)
            continue
        _show_each(number, alike, out, numbered, evidence, decide, homes)


_MANY, _SHOWN = 5, 3
"""From how many equal findings on they are shown as one, and how many of them in words."""
CROWD, _NAMED = 20, 30
"""From how many on those are that cost a host each, and how many are named then."""


def _alike(findings: Sequence[Finding]) -> Iterator[tuple[int, list[Finding]]]:
    """Findings that differ only in where they stand, together, with the number of the first."""
    number = 1
    for key, group in groupby(findings, lambda f: (f.rule, f.severity, f.affected, not f.follows, _is_one(f))):
        held = list(group)
        plain = key[2] < 2 and key[3] and key[4]
        for part in [held] if plain else [[finding] for finding in held]:
            yield number, part
            number += len(part)


def _is_one(finding: Finding) -> bool:
    """Whether one mend is proposed for a finding, or none at all."""
    return bool(finding.repair) or not finding.alternatives


def _folded(number: int, findings: Sequence[Finding], out: Console, numbered: bool) -> None:
    first, last = findings[0], number + len(findings) - 1
    out.print()
    head = f"{number}–{last}. " if numbered else ""
    count_of = f"  {len(findings)} {'hosts' if first.affected else 'places'}"
    out.print(line((head, "bold"), (first.severity, STYLES[first.severity]), "  ", (first.rule, "bold"), count_of))
    for finding in findings[:_SHOWN]:
        paragraph(out, said(finding.says), 3)
    paragraph(out, line(("and at  ", "dim"), others(findings[_SHOWN:])), 3)
    for finding in findings if len(findings) < CROWD else findings[:_SHOWN]:
        show_mend(finding, out)
    if len(findings) >= CROWD and any(finding.repair for finding in findings):
        paragraph(out, line(("      and so on; --json has the mend of each", "dim")), 5)


def others(findings: Sequence[Finding]) -> str:
    """Where some more findings are, the first of them by name."""
    named = [str(finding.subjects[0]) for finding in findings if finding.subjects]
    more = f" and {len(named) - _NAMED} more" if len(named) > _NAMED else ""
    return "; ".join(named[:_NAMED]) + more


def _show_each(
    number: int,
    findings: Sequence[Finding],
    out: Console,
    numbered: bool,
    evidence: bool,
    decide: bool,
    homes: _Homes,
) -> None:
    for at, finding in enumerate(findings, number):
        out.print()
        head = f"{at}. " if numbered else ""
        loses = f"  {count(finding.affected, 'host')}" if finding.affected else ""
        out.print(
            line((head, "bold"), (finding.severity, STYLES[finding.severity]), "  ", (finding.rule, "bold"), loses)
        )
        paragraph(out, said(finding.says), 3)
        if finding.example:
            words = f"{finding.example[0]} does not reach {finding.example[1]}"
            hit = f"; {_hosts(finding)}" if finding.affected > 1 else ""
            paragraph(out, line(("hits  ", STYLES["breaks"]), words, hit), 5)
        for fact in finding.evidence if evidence else ():
            label = "then  " if fact.source == ONCE_MENDED else "seen  "
            paragraph(out, line((label, "dim"), (fact, "dim")), 5)
        if finding.alternatives:
            _mends(finding.alternatives, bool(finding.repair), out, at, homes, finding.confidence == "likely")
            if decide:
                _what_decides(finding, out)
        else:
            show_mend(finding, out)
        _under(finding, out, 5)


def show_either(finding: Finding, out: Console) -> None:
    """The mend of a finding with what else may be meant; where none is proposed, also what would decide."""
    if not finding.alternatives:
        show_mend(finding, out)
        return
    _mends(finding.alternatives, bool(finding.repair), out, 1, _homes([finding]), finding.confidence == "likely")
    _what_decides(finding, out)


def _what_decides(finding: Finding, out: Console) -> None:
    """Whom to ask, or what to look at, where there are two explanations and none is proposed."""
    told = meaning(finding.rule) if not finding.repair and len(finding.alternatives) > 1 else None
    if told is not None:
        paragraph(out, line(("decide  ", "bold"), told.decide or told.confirm), 5)


def show_mend(finding: Finding, out: Console) -> None:
    """The mend of a finding, and whether something speaks for another explanation."""
    for left, change in enumerate(finding.repair, 1 - len(finding.repair)):
        word = "  (likely)" if not left and finding.confidence == "likely" else ""
        paragraph(out, line(("mend  ", "green"), describe(change), (word, "dim")), 5)


def _mends(
    ranked: Sequence[Alternative], proposed: bool, out: Console, at: int, homes: _Homes, likely: bool = False
) -> None:
    """The mend and its alternatives, each with what speaks for it and against it; "maybe" where none is proposed."""
    for number, one in enumerate(ranked):
        if (home := homes[_key(one)]) != at:
            paragraph(out, line(("or    ", "dim"), f"nothing here, if another mend of {home} is right"), 5)
            continue
        for place, change in enumerate(one.changes):
            word = "      " if place else "or    " if number else "mend  " if proposed else "maybe "
            sure = "likely" if likely and not number else ""
            reasons = _reasons(one, sure) if place == len(one.changes) - 1 else ""
            paragraph(out, line((word, "dim" if number else "green"), describe(change), (reasons, "dim")), 5)


def _homes(findings: Sequence[Finding]) -> _Homes:
    """Where each explanation is told in full: at the finding that is most about what it changes."""
    homes, most = _Homes(), dict[tuple[str, ...], int]()
    for at, finding in enumerate(findings, 1):
        seen = [fact.key for fact in finding.evidence]
        for one in finding.alternatives:
            key, about = _key(one), sum(change.key in seen for change in one.changes)
            if about > most.get(key, -1):
                homes[key], most[key] = at, about
    return homes


def _key(one: Alternative) -> tuple[str, ...]:
    return tuple(map(str, one.changes))


def _reasons(one: Alternative, sure: str = "") -> str:
    """How sure a mend is, what speaks for it, and what against it."""
    told = (("because", one.because), ("but", one.against))
    parts = [*filter(None, [sure]), *(f"{word} {'; '.join(held)}" for word, held in told if held)]
    return f"  ({'; '.join(parts)})" if parts else ""


def _hosts(finding: Finding) -> str:
    """The hosts that lose, the first of them by name."""
    names = finding.affects[:4]
    more = f" and {finding.affected - len(names)} more" if finding.affected > len(names) else ""
    return f"{', '.join(names)}{more} lose by it"


def _under(finding: Finding, out: Console, indent: int) -> None:
    for other in finding.follows:
        paragraph(out, line(("from it  ", "dim"), (other.rule, "bold"), f"  {other.says}"), indent)
        _under(other, out, indent + 3)


def describe(change: Change) -> str:
    """A change in words."""
    key = " ".join(str(value) for value in change.key.values() if value not in ("", None))
    if change.delete:
        return f"{change.table} {key}: remove the row"
    cells = ", ".join(f"{column} → {value if value != '' else 'empty'}" for column, value in change.cells.items())
    return f"{change.table} {key}: {cells}"
