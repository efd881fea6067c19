"""Two surveys compared: in the terminal, as Markdown and as CSV."""

from __future__ import annotations

from collections.abc import Iterator

from rich.console import Console

from crossthread.diagnosis.findings import Finding
from crossthread.faces.documents.exports import as_csv, as_markdown
from crossthread.faces.terminal.console import STYLES, count, line, paragraph, said, table
from crossthread.faces.terminal.findings import describe
from crossthread.faces.terminal.rehearse import show_pairs
from crossthread.questions.compare import Comparison
from crossthread.views.differences import Part

_PARTS = ("devices", "links", "ports", "vlans", "trees", "gateways", "routes", "filters", "hosts")
_STYLES = {"better": "bold green", "worse": "bold red", "same": "bold", "different": "bold yellow"}
_LISTED = 60


def show_comparison(answer: Comparison, out: Console) -> None:
    """First line: better, worse or the same, and why; then pairs, the planned repair, findings, and what differs."""
    word = {"same": "the same", "different": "neither better nor worse"}.get(answer.outcome, answer.outcome)
    paragraph(out, line((f"It is {word}", _STYLES[answer.outcome]), f": {answer.because}."), 0)
    shares = " → ".join(f"{share.works} of {share.wanted} ({share.part:.0%})" for share in answer.wanted)
    paragraph(out, line(("Pairs that should work and do: ", "dim"), shares), 0)
    if answer.repair:
        done = sum(step.done == "done" for step in answer.repair)
        out.print()
        out.print(line((f"Of the planned repair {done} of {count(len(answer.repair), 'change')} made:", "bold")))
        for step in answer.repair:
            style = {"done": "green", "not done": "dim"}.get(step.done, "yellow")
            paragraph(out, line((f"{step.done:<10}", style), describe(step.change)), 3)
    show_pairs("No longer reach each other", answer.pairs.broken, "bold red", out)
    show_pairs("Reach each other now", answer.pairs.fixed, "green", out)
    for title, findings in (("New findings", answer.findings.new), ("Findings that are gone", answer.findings.gone)):
        _findings(title, findings, out)
    if answer.findings.left:
        out.print()
        out.print(line((f"{count(len(answer.findings.left), 'finding')} left as before.", "dim")))
    rows = list(_rows(answer))
    if rows:
        out.print()
        out.print(line(("What differs:", "bold")))
        listed = table("", "what", "in", "before", "after")
        for kind, what, column, before, after in rows[:_LISTED]:
            listed.add_row(*map(said, (kind, what, column, before, after)))
        out.print(listed)
        if len(rows) > _LISTED:
            out.print(line((f"… and {len(rows) - _LISTED} more; --json and --csv have all of them.", "dim")))
    if answer.counters:
        out.print()
        out.print(line(("Counted more since:", "bold")))
        for one in answer.counters[:_LISTED]:
            rate = f", {one.a_minute:g} a minute" if one.a_minute is not None else ""
            paragraph(out, line(f"{one.port}: {one.counter} +{one.by:,}{rate}"), 3)


def _findings(title: str, findings: tuple[Finding, ...], out: Console) -> None:
    if findings:
        out.print()
        out.print(line((f"{title}:", "bold")))
        for finding in findings:
            head = ((f"{finding.severity}  ", STYLES[finding.severity]), (finding.rule, "bold"))
            paragraph(out, line(*head, f"  {finding.says}"), 3)


_HEADER = ("kind", "what", "column", "before", "after")


def _rows(answer: Comparison) -> Iterator[tuple[str, str, str, str, str]]:
    """Everything that differs, a line each."""
    for kind in _PARTS:
        part: Part = getattr(answer, kind)
        yield from ((kind, what, "", "", "new") for what in part.new)
        yield from ((kind, what, "", "", "gone") for what in part.gone)
        for one in part.changed:
            unseen = "(not read)"
            yield kind, one.what, one.column, unseen if one.before is None else one.before, one.after or unseen


def comparison_csv(answer: Comparison) -> str:
    """A line for everything that differs, then for each finding that came or went."""
    rows: list[tuple[object, ...]] = list(_rows(answer))
    for word, findings in (("gone", answer.findings.gone), ("new", answer.findings.new)):
        rows += [("findings", finding.rule, finding.severity, finding.says, word) for finding in findings]
    rows += [("counters", one.port, one.counter, "", f"+{one.by}") for one in answer.counters]
    return as_csv(_HEADER, rows)


def comparison_markdown(answer: Comparison) -> str:
    """The same as a page to hand over."""
    shares = " → ".join(f"{share.works} of {share.wanted}" for share in answer.wanted)
    head = f"# {answer.outcome.capitalize()}\n\n{answer.because}. Pairs that should work and do: {shares}.\n\n"
    found = [
        (word, f.severity, f.rule, f.says)
        for word, findings in (
            ("new", answer.findings.new),
            ("gone", answer.findings.gone),
            ("left", answer.findings.left),
        )
        for f in findings
    ]
    parts = [head]
    if answer.repair:
        steps = [(step.done, describe(step.change)) for step in answer.repair]
        parts.append("## The planned repair\n\n" + as_markdown(("made", "change"), steps) + "\n")
    if found:
        parts.append("## Findings\n\n" + as_markdown(("", "severity", "finding", "what was seen"), found) + "\n")
    rows = list(_rows(answer))
    if rows:
        parts.append("## What differs\n\n" + as_markdown(_HEADER, rows) + "\n")
    return "".join(parts)
