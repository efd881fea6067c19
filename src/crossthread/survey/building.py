"""Columns of cells in, typed rows out, with every bad cell reported: shared by both forms of a survey."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Sequence
from functools import cached_property
from itertools import chain

from crossthread.errors import Problem, visible
from crossthread.survey.cell_kinds import Kind
from crossthread.survey.records import Row, all_folded, columns_of
from crossthread.survey.table import Table, runs


class Builder:
    """Collects the rows of one table, chunk by chunk."""

    def __init__(self, record: type[Row], header: Sequence[str], file: str) -> None:
        self.record, self.header, self.file = record, list(header), file
        self._values: dict[str, list[object]] = defaultdict(list)
        self._spans: list[Sequence[int]] = []
        self.problems: list[Problem] = []
        self._known: dict[str, dict[str, object]] = defaultdict(dict)
        self.unknown = [name for name in self.header if name not in self.columns]
        self._tails: dict[str, tuple[object, ...]] = {}

    @property
    def columns(self) -> dict[str, tuple[Kind, bool]]:
        """Each column that the table may have: its kind, and whether its cells must not be empty."""
        return columns_of(self.record)

    def add(self, columns: Sequence[Sequence[str]], lines: Sequence[int]) -> None:
        """Take a chunk: the cells of each column of the header, and the line of each row."""
        given = dict(zip(self.header, columns, strict=True))
        values: dict[str, Sequence[object]] = {}
        for name, (kind, required) in self.columns.items():
            if name in given:
                values[name], bad = kind.column(given[name], self._known[name])
                if bad or (required and None in values[name]):
                    self._complain(name, kind, given[name], bad, lines, required)
        if self.unknown:
            pairs = zip(*(given[name] for name in self.unknown), strict=True)
            values["extra"] = [tuple((n, c) for n, c in zip(self.unknown, row, strict=True) if c) for row in pairs]
        self._take(values, lines)

    def add_tailed(self, columns: Sequence[Sequence[str]], tails: Sequence[str], lines: Sequence[int]) -> bool:
        """Take a chunk of rows of which only the first cells were split, and the rest is the same in many of them.

        Returns
        -------
        bool
            Whether it was taken; if a cell of it is bad it was not, and `add` can say which.
        """
        values: dict[str, Sequence[object]] = {}
        for name, cells in zip(self.header, columns, strict=False):
            kind, required = self.columns[name]
            values[name], bad = kind.column(cells, self._known[name])
            if bad or (required and None in values[name]):
                return False
        ends = self.header[len(columns) :]
        fresh = list(set(tails).difference(self._tails))
        if fresh:
            split = [tail.split(",") for tail in fresh]
            if {len(ends)} != set(map(len, split)):
                return False
            read = []
            for name, cells in zip(ends, zip(*split, strict=True), strict=True):
                kind, required = self.columns[name]
                found, bad = kind.column(cells, self._known[name])
                if bad or (required and None in found):
                    return False
                read.append(found)
            self._tails.update(zip(fresh, zip(*read, strict=True), strict=True))
        values.update(zip(ends, zip(*map(self._tails.__getitem__, tails), strict=True), strict=True))
        self._take(values, lines)
        return True

    def _take(self, values: dict[str, Sequence[object]], lines: Sequence[int]) -> None:
        if lines:
            for name, column in values.items():
                self._values[name] += column
            self._spans.append(lines)

    @cached_property
    def table(self) -> Table[Row]:
        """The table, once all rows are taken."""
        count = len(self.lines)
        blank = [None] * count
        fields = [name for name in self.record.__struct_fields__ if name != "extra" or name in self._values]
        return Table(
            self.record, {name: self._values.get(name, blank) for name in fields}, count, self.file, self.lines
        )

    @cached_property
    def lines(self) -> Sequence[int]:
        """The line of each row, once all are taken: a range where none was left out, which takes no memory."""
        spans = self._spans
        ends = [span.stop if isinstance(span, range) else 0 for span in spans]
        if ends and [span[0] for span in spans[1:]] == ends[:-1] and ends[-1]:
            return range(spans[0][0], ends[-1])
        return list(chain.from_iterable(spans))

    def notices(self, place: str) -> list[str]:
        """What was read at a place, but not understood."""
        listed = ", ".join(map(visible, self.unknown))
        return [f"{place}: kept, but not understood: column {listed}"] if listed else []

    def _complain(
        self,
        name: str,
        kind: Kind,
        cells: Sequence[str],
        bad: dict[str, str],
        lines: Sequence[int],
        required: bool,
    ) -> None:
        for cell, line in zip(cells, lines, strict=True):
            if cell in bad:
                self.problems.append(Problem(self.file, bad[cell], line, name, cell))
            elif required and not cell.strip():
                self.problems.append(Problem(self.file, f"empty, expected {kind.expected}", line, name))

    def finish(self) -> None:
        """Look for keys that stand twice."""
        key_columns = self.record.KEY
        if not key_columns or not self._spans:
            return
        columns: list[Sequence[object]] = []
        for name in key_columns:
            column: Sequence[object] = self._values.get(name) or [None] * len(self.lines)
            columns.append(all_folded(name, column))
        if _all_differ(columns):
            return
        keys = list(zip(*columns, strict=True))
        counts = Counter(keys)
        first: dict[tuple[object, ...], int] = {}
        for row, key, line in zip(self.table, keys, self.lines, strict=True):
            if counts[key] == 1:
                continue
            if key in first:
                name = " ".join(visible(str(getattr(row, c))) for c in key_columns if getattr(row, c) is not None)
                says = f"stands twice, first in line {first[key]}; expected each {' and '.join(key_columns)} once"
                self.problems.append(Problem(self.file, says, line, key_columns[-1], name))
            else:
                first[key] = line


_FIRST = 16
"""How many cells tell whether those of a column may all differ from each other."""


def _all_differ(columns: Sequence[Sequence[object]]) -> bool:
    """Whether no two rows of some columns are surely the same."""
    first = [len(set(column[:_FIRST])) == len(column[:_FIRST]) for column in columns]
    if any(unlike and len(set(column)) == len(column) for unlike, column in zip(first, columns, strict=True)):
        return True
    if len(columns) == 1:
        return False
    seen = set()
    for device, run in runs(columns[0]):  # where the rows of a device stand together, they need no other's
        others = [column[run] for column in columns[1:]]
        if device in seen or len(set(zip(*others, strict=True))) < len(others[0]):
            # Different hashes mean different rows; keeping numbers instead of tuples spares memory.
            return len(set(map(hash, zip(*columns, strict=True)))) == len(columns[0])
        seen.add(device)
    return True


def cell_text(value: object) -> str:
    """A JSON value as the text of a cell: numbers, booleans and lists are taken as people mean them.

    Raises
    ------
    ValueError
        For an object, or text that no file could hold (a lone surrogate, a NUL).
    """
    if value is None:
        return ""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, list):
        return " ".join(cell_text(part) for part in value) or "none"
    if isinstance(value, dict):
        raise ValueError("text, a number, yes or no, or a list of such")
    text = str(value)
    if "\0" in text or (not text.isascii() and any("\ud800" <= c <= "\udfff" for c in text)):
        raise ValueError("text in UTF-8 without NUL")
    return text
