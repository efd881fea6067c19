"""The terminal: width, colour, and words from outside made harmless."""

from __future__ import annotations

import sys
from collections.abc import Sequence
from typing import IO, Any

from rich.console import Console
from rich.table import Table
from rich.text import Text

from crossthread.errors import visible

WIDTH = 100
MARKS = {"works": "✓", "fails": "✗", "unknown": "?"}
STYLES = {"works": "green", "fails": "bold red", "unknown": "yellow", "breaks": "bold red", "risks": "yellow",
          "note": "cyan"}  # fmt: skip


_LONG = 1000
"""From how many rows on a table is printed plainly: nobody looks at it but by a pager or a search."""


class _Console(Console):
    """A console that prints long tables in a fraction of the time: in columns as wide as their widest cell."""

    def print(self, *objects: object, **settings: Any) -> None:
        if len(objects) == 1 and isinstance(objects[0], Table) and objects[0].row_count > _LONG:
            self._print_long(objects[0])
        else:
            super().print(*objects, **settings)

    def _print_long(self, listed: Table) -> None:
        columns = []
        for column in listed.columns:
            cells = [
                str(column.header),
                *(cell.plain if isinstance(cell, Text) else str(cell) for cell in column.cells),
            ]
            width, adjust = max(map(len, cells)), str.rjust if column.justify == "right" else str.ljust
            columns.append([adjust(cell, width) for cell in cells])
        self.file.write("".join("  ".join(row).rstrip() + "\n" for row in zip(*columns, strict=True)))


def console(stream: IO[str] | None = None) -> Console:
    """A console on standard output, at most 100 columns wide; plain where it is no terminal or NO_COLOR is set."""
    target = stream or sys.stdout
    probe = Console(file=target, highlight=False, markup=False, emoji=False)
    width = min(WIDTH, probe.width) if probe.is_terminal else WIDTH
    return _Console(file=target, width=width, highlight=False, markup=False, emoji=False, soft_wrap=False)


def said(text: object, style: str = "") -> Text:
    """Text for the terminal: never markup, and control characters shown instead of obeyed."""
    return Text(visible(str(text), 2000), style=style)


def line(*parts: tuple[object, str] | object) -> Text:
    """One line of parts, each text or text with a style."""
    found = Text()
    for part in parts:
        text, style = part if isinstance(part, tuple) else (part, "")
        found.append_text(said(text, style))
    return found


def table(*columns: str, right: tuple[str, ...] = ()) -> Table:
    """A table without a frame: a head line, and columns that fold rather than get cut."""
    found = Table(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="bold", show_edge=False)
    for column in columns:
        found.add_column(column, overflow="fold", justify="right" if column in right else "left")
    return found


_NOTE = 24
"""How narrow the last of some columns may get."""


def columns(rows: Sequence[Sequence[Text]], out: Console) -> None:
    """Print rows in columns, of which the last is folded; all of them where the others are too wide.

    What a table would print, in a fraction of the time.
    """
    widths = [max(cell.cell_len for cell in column) for column in zip(*rows, strict=True)][:-1]
    begin = sum(widths) + 2 * len(widths)
    if out.width - begin < _NOTE:
        folded = table(*([""] * (len(widths) + 1)))
        folded.show_header = False
        for row in rows:
            folded.add_row(*row)
        out.print(folded)
        return
    lines = []
    for row in rows:
        text = Text()
        for cell, width in zip(row[:-1], widths, strict=True):
            text.append_text(cell).append(" " * (width - cell.cell_len + 2))
        first, *more = row[-1].wrap(out, out.width - begin) or [Text()]
        first.rstrip()
        lines += [text.append_text(first), *(Text(" " * begin).append_text(part) for part in more)]
    for text in lines:
        text.rstrip()
    out.print(Text("\n").join(lines), soft_wrap=True)


def paragraph(out: Console, text: Text, indent: int) -> None:
    """Print a text folded to the width, every line indented."""
    for part in text.wrap(out, out.width - indent):
        part.rstrip()
        out.print(Text(" " * indent).append_text(part))


def count(number: int, one: str, many: str | None = None) -> str:
    """A number with its noun: `1 link`, `3 links`."""
    return f"{number} {one if number == 1 else many or one + 's'}"
