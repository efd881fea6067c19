"""The check in the terminal."""

from __future__ import annotations

from rich.console import Console

from crossthread.faces.console import STYLES, count, line
from crossthread.faces.findings import show_findings
from crossthread.questions.check import Check


def show_check(answer: Check, out: Console) -> None:
    """First line: how bad it is; then every finding."""
    counts = answer.counts
    if not answer.findings:
        out.print(line(("Nothing found.", "bold green")))
        return
    words = [
        (f"{counts['breaks']} that break traffic", STYLES["breaks"] if counts["breaks"] else ""),
        (f"{counts['risks']} that risk it", STYLES["risks"] if counts["risks"] else ""),
        (f"{counts['note']} to note", ""),
    ]
    out.print(
        line((count(len(answer.findings), "finding") + ": ", "bold"), words[0], ", ", words[1], ", ", words[2], ".")
    )
    show_findings(answer.findings, out)
