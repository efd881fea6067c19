"""Rows that know their columns: a look through one column of a large table need not touch its rows."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from itertools import groupby
from operator import attrgetter
from typing import Any, TypeVar

from crossthread.survey.tables import Row

_R = TypeVar("_R", bound=Row)


class Table(tuple[_R, ...]):
    """The rows of a table, as a tuple.

    Parameters
    ----------
    rows
        The rows.
    columns
        Those of their columns that are known, each with a value for each row.
    """

    _columns: dict[str, Sequence[Any]]

    def __new__(cls, rows: Iterable[_R] = (), columns: Mapping[str, Sequence[Any]] | None = None) -> Table[_R]:
        table = super().__new__(cls, rows)
        table._columns = dict(columns or {})
        return table

    def column(self, name: str) -> Sequence[Any]:
        """What a column holds, row by row; it is kept from then on."""
        if name not in self._columns:
            self._columns[name] = list(map(attrgetter(name), self))
        return self._columns[name]

    def with_rows(self, edits: Mapping[int, _R]) -> Table[_R]:
        """A copy in which other rows stand at some places."""
        rows = list(self)
        for n, row in edits.items():
            rows[n] = row
        columns = {}
        for name, column in self._columns.items():
            differ = {n: value for n, row in edits.items() if (value := getattr(row, name)) is not column[n]}
            columns[name] = column
            if differ:
                columns[name] = fresh = list(column)
                for n, value in differ.items():
                    fresh[n] = value
        return Table(rows, columns)


def runs(column: Sequence[Any]) -> Iterator[tuple[Any, slice]]:
    """Where the same value stands in a column, as that of a device mostly does in row after row."""
    begin = 0
    for value, run in groupby(column):
        end = begin + len(list(run))
        yield value, slice(begin, end)
        begin = end
