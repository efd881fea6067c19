"""A rehearsal in the terminal."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence

from rich.console import Console

from crossthread.diagnosis.findings import Finding
from crossthread.faces.terminal.console import STYLES, count, line, paragraph
from crossthread.faces.terminal.findings import describe
from crossthread.faces.terminal.why_all import show_progress
from crossthread.questions.rehearse import Rehearsal
from crossthread.survey.changes import Change

_LISTED = 12


def show_rehearsal(answer: Rehearsal, out: Console, changes: Sequence[Change] = ()) -> None:
    """First line: how many pairs it mends and how many it breaks; then step by step, which, findings and trees."""
    mends = (f"mends {count(len(answer.fixed), 'pair')}", "bold green" if answer.fixed else "bold")
    breaks = (f"breaks {len(answer.broken)}", "bold red" if answer.broken else "bold")
    gone = f"; {count(len(answer.findings_gone), 'finding')} gone, {len(answer.findings_new)} new"
    trees = f"; {count(len(answer.trees), 'tree')} forms anew" if answer.trees else "; no tree moves"
    lost = (f", cuts {count(len(answer.unmanaged), 'device')} off", "bold red") if answer.unmanaged else ""
    out.print(line(("It ", "bold"), mends, (", ", "bold"), breaks, lost, gone, trees, "."))
    if len(answer.steps) == len(changes) + 1:
        out.print()
        names = [f"after {number}: {describe(change)}" for number, change in enumerate(changes, 1)]
        show_progress(list(zip(["now", *names], answer.steps, strict=True)), out)
    show_pairs("Would no longer get from where they are managed to their gateway", answer.unmanaged, "bold red", out)
    show_pairs("Would no longer reach each other", answer.broken, "bold red", out)
    show_pairs("Would reach each other", answer.fixed, "green", out)
    show_pairs("Would be known, or unknown, in future", answer.unsure, "yellow", out)
    _findings("Gone", answer.findings_gone, out)
    _findings("New", answer.findings_new, out)
    for tree in answer.trees:
        out.print()
        out.print(line((f"Tree {tree.instance} forms anew:", "bold")))
        for port in tree.moved:
            paragraph(out, line(f"{port.device} {port.port}: {port.before} → {port.after}"), 3)


def show_pairs(title: str, pairs: Sequence[tuple[str, str]], style: str, out: Console) -> None:
    """Some pairs of hosts, by sender, those with most receivers first."""
    if not pairs:
        return
    out.print()
    out.print(line((f"{title}:", style)))
    senders = Counter(one for one, _ in pairs)
    for one, number in senders.most_common(_LISTED):
        others = [two for sender, two in pairs if sender == one]
        more = f" and {number - 4} more" if number > 4 else ""
        paragraph(out, line((one, "bold"), f" → {', '.join(others[:4])}{more}"), 3)
    if len(senders) > _LISTED:
        paragraph(out, line((f"… and {len(senders) - _LISTED} more hosts; --json has every pair.", "dim")), 3)


def _findings(title: str, findings: Sequence[Finding], out: Console) -> None:
    if not findings:
        return
    out.print()
    out.print(line((f"{title}:", "bold")))
    for finding in findings:
        head = ((f"{finding.severity}  ", STYLES[finding.severity]), (finding.rule, "bold"))
        paragraph(out, line(*head, f"  {finding.says}"), 3)
