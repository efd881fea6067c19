"""Columns of cells in, typed rows out, with every bad cell reported: shared by both forms of a survey."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from itertools import repeat
from typing import Any

from crossthread.survey.cells import Kind
from crossthread.survey.problems import Problem, visible
from crossthread.survey.tables import Row, columns_of, folded


class Builder:
    """Collects the rows of one table, chunk by chunk."""

    def __init__(self, record: type[Row], header: Sequence[str], file: str) -> None:
        self.record, self.header, self.file = record, list(header), file
        self.columns = columns_of(record)
        self.rows: list[Row] = []
        self.lines: list[int] = []
        self.problems: list[Problem] = []
        self.known: dict[str, dict[str, Any]] = {}
        self.keys: dict[str, list[Any]] = {name: [] for name in record.KEY}
        self.unknown = [name for name in self.header if name not in self.columns]

    def add(self, columns: Sequence[Sequence[str]], lines: Sequence[int]) -> None:
        """Take a chunk: the cells of each column of the header, and the line of each row."""
        given = dict(zip(self.header, columns, strict=True))
        values: list[Any] = []
        for name, (kind, required) in self.columns.items():
            cells = given.get(name)
            if cells is None:
                values.append(repeat(None))
                if name in self.keys:
                    self.keys[name] += repeat(None, len(lines))
                continue
            found, bad = kind.column(cells, self.known.setdefault(name, {}))
            if name in self.keys:
                self.keys[name] += found
            if bad or (required and None in found):
                self._complain(name, kind, cells, bad, lines, required)
            values.append(found)
        if self.unknown:
            pairs = zip(*(given[name] for name in self.unknown), strict=True)
            extras: Any = (tuple((n, c) for n, c in zip(self.unknown, row, strict=True) if c) for row in pairs)
        else:
            extras = repeat(())
        if lines:
            self.rows.extend(map(self.record, *values, extras))
            self.lines.extend(lines)

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
        if not key_columns:
            return
        for name in {"device", "host"}.intersection(key_columns):
            given = self.keys[name]
            distinct = set(given)
            if len(distinct) == len(given):
                self.keys[name] = [folded(name, value) for value in given]
            else:
                once = {value: folded(name, value) for value in distinct}
                self.keys[name] = list(map(once.__getitem__, given))
        # Different hashes mean different keys; keeping numbers instead of tuples spares the garbage collector.
        if len(set(map(hash, zip(*self.keys.values(), strict=True)))) == len(self.rows):
            return
        keys = list(zip(*self.keys.values(), strict=True))
        counts = Counter(keys)
        first: dict[tuple[Any, ...], int] = {}
        for row, key, line in zip(self.rows, keys, self.lines, strict=True):
            if counts[key] == 1:
                continue
            if key in first:
                name = " ".join(visible(str(getattr(row, c))) for c in key_columns if getattr(row, c) is not None)
                says = f"stands twice, first in line {first[key]}; expected each {' and '.join(key_columns)} once"
                self.problems.append(Problem(self.file, says, line, key_columns[-1], name))
            else:
                first[key] = line
