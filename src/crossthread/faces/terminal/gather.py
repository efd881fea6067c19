"""What was gathered, in the terminal."""

from __future__ import annotations

from collections import Counter

from rich.console import Console

from crossthread.faces.terminal.console import count, line, paragraph, said, table
from crossthread.sources.gathering import Summary, Taken

_LISTED = 20


def _folder(path: str) -> str:
    return path.rpartition("/")[0] or path


def show_gathered(answer: Summary, out: Console) -> None:
    """First line: what was taken and whether anything changed; then by format, by table, and what is to be settled."""
    used = [entry for entry in answer.files if entry.kind is not None]
    unknown = [entry for entry in answer.files if entry.kind is None]
    state = "written" if answer.written else "nothing changed" if not answer.changed else "not written (dry run)"
    words = f"{count(len(used), 'file')} read, {len(unknown)} not used, {count(len(answer.differences), 'difference')}"
    out.print(line((words, "bold"), f": {state}."))
    if answer.kept:
        out.print(line(f"The survey as it was before is kept as {answer.kept}."))
    if used:
        out.print()
        listed = table("format", "files", "rows", right=("files", "rows"))
        files = Counter(entry.kind or "" for entry in used)
        for kind in sorted(files):
            listed.add_row(said(kind), str(files[kind]), str(sum(e.rows for e in used if e.kind == kind)))
        out.print(listed)
        out.print()
        listed = table("from", "files", "rows", "what", right=("files", "rows"))
        for folder in dict.fromkeys(_folder(entry.path) for entry in used):
            own = [entry for entry in used if _folder(entry.path) == folder]
            kinds = ", ".join(dict.fromkeys(entry.kind or "" for entry in own if entry.rows))
            listed.add_row(said(folder), str(len(own)), str(sum(e.rows for e in own)), said(kinds))
        out.print(listed)
    if answer.rows:
        out.print()
        listed = table("table", "rows before", "rows now", right=("rows before", "rows now"))
        for name, (before, now) in answer.rows.items():
            listed.add_row(said(name), str(before), str(now))
        out.print(listed)
    captures = [entry for entry in used if entry.kind == "capture"]
    if captures:
        out.print()
        out.print(line(("Captures:", "bold")))
        for entry in captures:
            paragraph(out, said(f"{entry.path}: {entry.says}"), 3)
    if answer.gone:
        out.print(line(f"{count(answer.gone, 'row')} left out: the same files told them before and no longer do."))
    if answer.differences:
        out.print()
        out.print(line(("What is told in two ways, or stood otherwise in the survey:", "bold")))
        for difference in answer.differences[:_LISTED]:
            paragraph(out, said(difference), 3)
        if len(answer.differences) > _LISTED:
            out.print(line(f"   … and {len(answer.differences) - _LISTED} more; --json has all."))
    damaged = [entry for entry in used if entry.problems]
    for title, concerned in (("Damaged, and so not read in full:", damaged), ("Not used:", unknown)):
        if concerned:
            out.print()
            out.print(line((title, "bold")))
            _show_unused(concerned, out)


def _show_unused(files: list[Taken], out: Console) -> None:
    for entry in files:
        only = len(entry.problems) == 1
        named = only and entry.kind is None  # what nothing was taken of says itself where it is
        paragraph(out, said(entry.says if named else f"{entry.path}: {entry.says}"), 3)
        for problem in () if only else entry.problems:
            paragraph(out, said(problem), 6)


def show_added_walks(answer: Summary, out: Console) -> None:
    """What walks did to a survey, in a line or two."""
    folder = answer.files[0].path.partition("/")[0]
    _show_news(f"What they told is kept in {folder}", answer, out)


def show_added(answer: Summary, out: Console) -> None:
    """What one more file did to a survey, in a line or two."""
    _show_news(f"Kept in {answer.files[0].path}", answer, out)


def _show_news(kept: str, answer: Summary, out: Console) -> None:
    more = [count(now - before, f"row of {name}", f"rows of {name}") for name, (before, now) in answer.rows.items()]
    known = [text for text, (before, now) in zip(more, answer.rows.values(), strict=True) if now > before]
    out.print()
    said_now = "added to the survey: " + ", ".join(known) if known else "the survey has nothing new by it"
    paragraph(out, line(f"{kept}; {said_now}."), 0)
    if answer.differences:
        says = f"{count(len(answer.differences), 'cell')} stood otherwise in the survey; `gather` lists them."
        out.print(line((says, "yellow")))
