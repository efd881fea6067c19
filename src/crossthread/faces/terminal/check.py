"""The check in the terminal, as CSV, and for code-review tools (SARIF 2.1.0, an OASIS standard)."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator

from rich.console import Console

from crossthread.diagnosis.findings import Finding
from crossthread.diagnosis.meanings import meaning
from crossthread.errors import visible
from crossthread.faces.documents.exports import as_csv
from crossthread.faces.terminal.console import STYLES, count, line, paragraph
from crossthread.faces.terminal.findings import describe, show_findings
from crossthread.questions.check import Check

_LEVELS = {"breaks": "error", "risks": "warning", "note": "note"}


def show_check(answer: Check, out: Console) -> None:
    """First line: how bad it is; then every finding."""
    counts = answer.counts
    accepted = f" {count(len(answer.accepted), 'finding')} accepted by the plan." if answer.accepted else ""
    elsewhere = f" {count(answer.left_out, 'finding')} besides, not asked for." if answer.left_out else ""
    if not answer.findings:
        says, style = "Nothing found.", "bold green"
        if answer.left_out:
            says, style = "Nothing found of what was asked for.", "bold"
        elif answer.unchecked:
            lacking = count(len(answer.unchecked), "thing")
            says, style = f"Nothing found in what was read; {lacking} could not be checked.", "bold yellow"
        out.print(line((says, style), elsewhere, accepted))
        _unchecked(answer, out)
        return
    words = [
        (f"{counts['breaks']} that break traffic", STYLES["breaks"] if counts["breaks"] else ""),
        (f"{counts['risks']} that risk it", STYLES["risks"] if counts["risks"] else ""),
        (f"{counts['note']} to note", ""),
    ]
    head = (count(len(answer.findings), "finding") + ": ", "bold")
    out.print(line(head, words[0], ", ", words[1], ", ", words[2], ".", elsewhere, accepted))
    show_findings(answer.findings, out)
    _unchecked(answer, out)


def _unchecked(answer: Check, out: Console) -> None:
    """What could not be checked, and what to collect for it."""
    if not answer.unchecked:
        return
    out.print()
    out.print(line(("Not checked, as nobody read it:", "bold")))
    for entry in answer.unchecked:
        paragraph(out, line((entry.means, "bold"), f": {entry.says}."), 3)


def _every(findings: tuple[Finding, ...], cause: str = "") -> Iterator[tuple[Finding, str]]:
    """All findings with those that follow from each, and the rule of the cause."""
    for finding in findings:
        yield finding, cause
        yield from _every(finding.follows, finding.rule)


def check_csv(answer: Check) -> str:
    """A line for each finding; what follows from another names its rule."""
    header = ("severity", "rule", "subjects", "hosts", "from", "to", "says", "mend", "confidence", "follows_from")
    rows = []
    for finding, cause in _every(answer.findings):
        subjects = "; ".join(map(str, finding.subjects))
        mend = "; ".join(map(describe, finding.repair))
        example = finding.example or ("", "")
        told = (finding.severity, finding.rule, subjects, finding.affected, *example, finding.says)
        rows.append((*told, mend, finding.confidence or "", cause))
    return as_csv(header, rows)


def check_sarif(answer: Check, survey: str) -> str:
    """The findings at the lines of the survey's files that show them."""
    found = list(_every(answer.findings))
    rules = sorted({finding.rule for finding, _ in found})
    places = {rule: number for number, rule in enumerate(rules)}
    results = [_result(finding, places[finding.rule], survey) for finding, _ in found]
    driver = {"name": "crossthread", "rules": [_rule(rule) for rule in rules]}
    document = {
        "$schema": "https://json.schemastore.org/sarif-2.1.0.json",
        "version": "2.1.0",
        "runs": [{"tool": {"driver": driver}, "results": results}],
    }
    return json.dumps(document, indent=2, ensure_ascii=True)


def _rule(rule: str) -> dict[str, object]:
    known = meaning(rule)
    found: dict[str, object] = {"id": rule}
    if known is not None:
        found["shortDescription"] = {"text": known.means}
        found["help"] = {"text": f"To confirm it: {known.confirm} The usual mend: {known.mend}"}
    return found


def _result(finding: Finding, index: int, survey: str) -> dict[str, object]:
    places = []
    for fact in finding.evidence:
        at = re.fullmatch(r"([^:]+\.(?:csv|toml)):(\d+)", fact.source or "")
        place = (at[1], int(at[2])) if at else None
        if place is not None and place not in places:
            places.append(place)
    locations: list[dict[str, object]] = [
        {
            "physicalLocation": {
                "artifactLocation": {"uri": _uri(name if name.endswith(".toml") else f"{survey.rstrip('/')}/{name}")},
                "region": {"startLine": row},
            }
        }
        for name, row in places
    ]
    named = [{"fullyQualifiedName": visible(str(subject), 200)} for subject in finding.subjects]
    if locations:
        locations[0]["logicalLocations"] = named
    elif named:
        locations = [{"logicalLocations": named}]
    return {
        "ruleId": finding.rule,
        "ruleIndex": index,
        "level": _LEVELS[finding.severity],
        "message": {"text": visible(finding.says, 2000)},
        "locations": locations[:1],
        "relatedLocations": locations[1:],
        "properties": {"hosts": finding.affected},
    }


def _uri(path: str) -> str:
    from urllib.parse import quote

    return quote(path)
