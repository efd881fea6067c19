"""The matrix in the terminal: a grid while it fits, a summary beyond."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence

from rich.console import Console
from rich.text import Text

from crossthread.faces.terminal.console import MARKS, STYLES, count, line, said, table
from crossthread.faces.terminal.rehearse import show_pairs
from crossthread.faces.terminal.why_all import show_progress
from crossthread.network.three_valued import Verdict
from crossthread.questions.matrix_change import MatrixChange
from crossthread.views.class_matrix import ClassMatrix
from crossthread.views.matrix import Matrix

_WORDS: dict[Verdict, str] = {"works": "work", "fails": "fail", "unknown": "unknown"}
_GRID = 30
_LISTED = 40


def show_matrix(answer: Matrix, out: Console) -> None:
    """First line: how many pairs work; then who reaches whom."""
    counts = Counter(verdict for _, _, verdict in answer.reaches)
    parts: list[object] = [(count(len(answer.reaches), "pair"), "bold"), ": "]
    for number, verdict in enumerate(_WORDS):
        word = _WORDS[verdict]
        parts += [", " if number else "", (f"{counts[verdict]} {word}", STYLES[verdict] if counts[verdict] else "")]
    out.print(line(*parts, "."))
    strangers = 2 * answer.ip_versions.count(4) * answer.ip_versions.count(6)
    if strangers:
        says = (
            f"{strangers} of the failing pairs have no kind of IP address in common: one has IPv4 only, one IPv6 only."
        )
        out.print(line((says, "dim")))
    if not answer.reaches:
        return
    out.print()
    if len(answer.hosts) <= _GRID:
        _grid(answer, out)
    else:
        _rows(answer, out)


def show_change(answer: MatrixChange, steps: Sequence[str], out: Console) -> None:
    """First line: how many pairs more work and how many fewer; then step by step, and who reaches whom."""
    more = (f"{count(len(answer.gained), 'pair')} more work", "bold green" if answer.gained else "bold")
    fewer = (f"{len(answer.lost)} fewer", "bold red" if answer.lost else "bold")
    aside = f", of {len(answer.unsure)} it changes what is known" if answer.unsure else ""
    out.print(line(more, (", ", "bold"), fewer, f"{aside}."))
    out.print()
    show_progress(list(zip(steps, answer.steps, strict=True)), out)
    show_pairs("No longer reach each other", answer.lost, "bold red", out)
    show_pairs("Reach each other now", answer.gained, "green", out)
    show_pairs("Become known or unknown", answer.unsure, "yellow", out)


def show_classes(answer: ClassMatrix, out: Console) -> None:
    """First line: how many pairs work; then each class with what it does not reach."""
    total = sum(answer.pairs.values())
    parts: list[object] = [
        (f"{count(total, 'pair')} of {count(len(answer.classes), 'class', 'classes')}", "bold"),
        ": ",
    ]
    for number, verdict in enumerate(_WORDS):
        word = _WORDS[verdict]
        style = STYLES[verdict] if answer.pairs[verdict] else ""
        parts += [", " if number else "", (f"{answer.pairs[verdict]:,} {word}", style)]
    out.print(line(*parts, "."))
    if not answer.reaches:
        return
    out.print()
    numbers = ("works", "fails", "unknown")
    listed = table("class", "hosts", "first hosts", *numbers, right=("class", "hosts", *numbers))
    counts: dict[int, Counter[str]] = {number: Counter() for number in range(len(answer.classes))}
    for one, _, verdict in answer.reaches:
        counts[one][verdict] += 1
    worst = sorted(counts, key=lambda number: (counts[number]["works"], -len(answer.classes[number])))
    for number in worst[:_LISTED]:
        names = answer.classes[number]
        shown = ", ".join(names[:3]) + (" …" if len(names) > 3 else "")
        row = (str(number), str(len(names)), shown, *(str(counts[number][v]) for v in numbers))
        listed.add_row(*map(said, row))
    out.print(listed)
    out.print()
    more = f"{len(worst) - _LISTED} classes that do better are left out. " if len(worst) > _LISTED else ""
    out.print(line((f"{more}works, fails, unknown count classes that each one reaches; --json has every pair.", "dim")))


def _grid(answer: Matrix, out: Console) -> None:
    verdicts = {(a, b): verdict for a, b, verdict in answer.reaches}
    width = min(max(len(name) for name in answer.hosts), 34)
    versions = dict(zip(answer.hosts, answer.ip_versions, strict=True))
    numbers = range(1, len(answer.hosts) + 1)
    for digits in ([n // 10 or " " for n in numbers], [n % 10 for n in numbers]):
        out.print(Text(" " * (width + 5) + "".join(f" {digit}" for digit in digits), style="bold"))
    for number, one in enumerate(answer.hosts, 1):
        row = said(one[:width].ljust(width)) + Text(f" {number:>2}  ", style="bold")
        for two in answer.hosts:
            verdict = verdicts.get((one, two))
            if {versions[one], versions[two]} == {4, 6}:
                row.append(" –", style="dim")
                continue
            row.append(f" {MARKS[verdict]}" if verdict else " ·", style=STYLES[verdict] if verdict else "dim")
        out.print(row)
    out.print()
    out.print(
        line(
            ("Rows are senders, columns receivers: ", "dim"),
            ("✓ works  ✗ fails  ? unknown  – no kind of address in common", "dim"),
        )
    )


def _rows(answer: Matrix, out: Console) -> None:
    per_host: dict[str, Counter[str]] = {name: Counter() for name in answer.hosts}
    for one, _, verdict in answer.reaches:
        per_host[one][verdict] += 1
    worst = sorted(answer.hosts, key=lambda name: (per_host[name]["works"], name))
    listed = table("host", "works", "fails", "unknown", right=("works", "fails", "unknown"))
    for name in worst[:_LISTED]:
        counted = per_host[name]
        listed.add_row(said(name), *(str(counted[verdict]) for verdict in ("works", "fails", "unknown")))
    out.print(listed)
    if len(worst) > _LISTED:
        out.print(line((f"… and {len(worst) - _LISTED} hosts that do better; --json has every pair.", "dim")))
