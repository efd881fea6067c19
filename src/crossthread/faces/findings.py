"""Findings in the terminal: the statement, its evidence, its mend."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Console

from crossthread.faces.console import STYLES, line, paragraph, said
from crossthread.questions.findings import Finding
from crossthread.survey.changes import Change


def show_findings(findings: Sequence[Finding], out: Console, numbered: bool = True) -> None:
    """Each finding as a paragraph: severity and rule, what it says, the facts with their sources, the changes."""
    for number, finding in enumerate(findings, 1):
        out.print()
        head = f"{number}. " if numbered else ""
        out.print(line((head, "bold"), (finding.severity, STYLES[finding.severity]), "  ", (finding.rule, "bold")))
        paragraph(out, said(finding.says), 3)
        for fact in finding.evidence:
            paragraph(out, line(("seen  ", "dim"), (fact, "dim")), 5)
        for change in finding.repair:
            paragraph(out, line(("mend  ", "green"), describe(change)), 5)


def describe(change: Change) -> str:
    """A change in words."""
    key = " ".join(str(value) for value in change.key.values() if value not in ("", None))
    if change.delete:
        return f"{change.table} {key}: remove the row"
    cells = ", ".join(f"{column} → {value if value != '' else 'empty'}" for column, value in change.cells.items())
    return f"{change.table} {key}: {cells}"
