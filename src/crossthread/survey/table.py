"""A table of a survey: columns of values, and rows that are made when they are first looked at.

A campus has a hundred thousand ports, and most questions look through a few columns of them and then at a few rows. So
reading gives columns; a record is made of what stands in them at one place when somebody asks for that place, and is
kept, so that a row is one object however often it is asked for.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator, KeysView, Mapping, Sequence
from functools import cached_property
from itertools import compress, groupby, islice
from operator import attrgetter, ne
from typing import Any, Generic, NamedTuple, TypeVar, overload

from crossthread.survey.records import Row, all_folded

_R = TypeVar("_R", bound=Row)
_K = TypeVar("_K")


class Edit(NamedTuple):
    """How a table was made out of another one of as many rows; None stands for all rows."""

    of: Table[Any]
    rows: frozenset[int] | None
    columns: frozenset[str]


class Table(Sequence[_R], Generic[_R]):
    """The rows of one table.

    Parameters
    ----------
    record
        The type of its rows.
    columns
        What is known by columns, a value for each row; a field of the record that is not there was not observed.
    count
        How many rows there are.
    file, lines
        Where it was read: the file, and the line of each row; 0 for a row that was changed since.

    Examples
    --------
    >>> from crossthread.survey.records import Vlan
    >>> table = Table(Vlan, {"device": ["quay", "quay"], "vid": [10, 20]}, 2)
    >>> table[1].vid, table.column("vid"), len(table)
    (20, [10, 20], 2)
    """

    def __init__(
        self,
        record: type[_R],
        columns: Mapping[str, Sequence[object]],
        count: int,
        file: str | None = None,
        lines: Sequence[int] = (),
    ) -> None:
        self.record, self.file, self.lines = record, file, lines
        self._columns, self._count = dict(columns), count
        self._made: list[_R | None] = []
        """The rows that were made so far; empty before the first."""
        self._all_made = not count
        self._numbers: dict[int, int] | None = None
        self._positions: dict[str, Mapping[object, Sequence[int]]] = {}
        self._distinct: dict[str, tuple[Any, ...]] = {}
        self.edit: Edit | None = None
        """What this table is a changed copy of; None for one that was read, or that has other rows."""

    @classmethod
    def of(cls, record: type[_R], rows: Iterable[_R]) -> Table[_R]:
        """A table of rows that are there already."""
        held = list(rows)
        table = cls(record, {}, len(held))
        table._made.extend(held)
        table._all_made = True
        return table

    def column(self, name: str) -> Sequence[Any]:
        """What a column holds, row by row; it is kept from then on."""
        if name not in self._columns:
            self._columns[name] = list(map(attrgetter(name), self._rows()))
        return self._columns[name]

    def positions(self, column: str) -> Mapping[object, Sequence[int]]:
        """Where the rows stand that have each value in a key column; devices and hosts by their names in lower case."""
        if column not in self._positions:
            self._positions[column] = positions(all_folded(column, self.column(column)))
        return self._positions[column]

    def distinct(self, column: str) -> tuple[Any, ...]:
        """The values that a column holds, each once, in the order in which they come first."""
        if column not in self._distinct:
            self._distinct[column] = tuple(dict.fromkeys(self.column(column)))
        return self._distinct[column]

    def _rows(self) -> list[_R]:
        """All rows; those that are not there yet are made in one go, which is quicker than one by one."""
        if not self._all_made:
            made = map(self.record, *self._values)
            self._made = [old or new for old, new in zip(self._made, made, strict=True)] if self._made else list(made)
            self._all_made, self._numbers = True, None
        return self._made  # type: ignore[return-value]  # none of them is missing now

    @cached_property
    def _values(self) -> list[Sequence[object]]:
        """The columns in the order of the record's fields, as far as any is known."""
        fields = self.record.__struct_fields__
        last = max((n for n, name in enumerate(fields) if name in self._columns), default=0)
        unseen = [None] * self._count
        return [self._columns.get(name, unseen) for name in fields[: last + 1]]

    def at(self, n: int) -> _R:
        """The row at a place from 0 on; the same as by `[]`, and a little quicker."""
        if not self._made:
            self._made = [None] * self._count
        row = self._made[n]
        if row is None:
            row = self._made[n] = self.record(*[column[n] for column in self._values])
            if self._numbers is not None:
                self._numbers[id(row)] = n
        return row

    @overload
    def __getitem__(self, index: int) -> _R: ...
    @overload
    def __getitem__(self, index: slice) -> Sequence[_R]: ...
    def __getitem__(self, index: int | slice) -> _R | Sequence[_R]:
        if isinstance(index, slice):
            if self._all_made:
                return self._rows()[index]
            return [self.at(n) for n in range(*index.indices(self._count))]
        return self._rows()[index] if self._all_made else self.at(range(self._count)[index])

    def __iter__(self) -> Iterator[_R]:
        return iter(self._rows())

    def __len__(self) -> int:
        return self._count

    def __eq__(self, other: object) -> bool:
        if self is other:
            return True
        return isinstance(other, Sequence) and len(self) == len(other) and all(map(_same, self, other))

    def __hash__(self) -> int:
        return hash(tuple(self))

    def __repr__(self) -> str:
        return f"<table {self.record.TABLE}: {self._count:,} rows>"

    def edited(self, edits: Mapping[int, _R | None], added: Sequence[_R] = ()) -> Table[_R]:
        """A copy in which other rows stand at some places, or none, and some are added at the end.

        Columns and rows that do not change are shared.
        """
        replaced = {n: row for n, row in edits.items() if row is not None}
        copy = Table(self.record, self._columns, self._count, self.file, self.lines)
        copy._made, copy._all_made = list(self._made), self._all_made
        for n, row in replaced.items():
            if not copy._made:
                copy._made = [None] * self._count
            copy._made[n] = row
        copy._positions, copy._distinct = dict(self._positions), dict(self._distinct)
        copy.edit = Edit(self, frozenset(replaced), self._differing(replaced))
        for name, column in self._columns.items():
            differ = {n: value for n, row in replaced.items() if (value := getattr(row, name)) is not column[n]}
            if differ:
                fresh = copy._columns[name] = list(column)
                for n, value in differ.items():
                    fresh[n] = value
                copy._positions.pop(name, None)
                copy._distinct.pop(name, None)
        if self.lines and edits:
            copy.lines = fresh_lines = list(self.lines)
            for n in edits:
                fresh_lines[n] = 0
        if None in edits.values():
            copy = copy.kept([edits.get(n, True) is not None for n in range(self._count)])
        if added:
            lines = [*copy.lines, *[0] * len(added)] if self.file else ()
            copy = Table.of(self.record, [*copy, *added])
            copy.file, copy.lines = self.file, lines
        return copy

    def _differing(self, rows: Mapping[int, _R]) -> frozenset[str]:
        """The columns in which some rows differ from those that stand in their places here."""
        names, pairs = self.record.__struct_fields__, [(self[n], row) for n, row in rows.items()]
        return frozenset(name for name in names if any(getattr(a, name) != getattr(b, name) for a, b in pairs))

    def unseen(self, *columns: str, but: Iterable[int] = ()) -> Table[_R]:
        """A copy in which nothing was observed in some columns, but at some places."""
        known = set(but)
        blank = {name: [v if n in known else None for n, v in enumerate(self.column(name))] for name in columns}
        copy = self.with_columns(blank if known else dict.fromkeys(columns, [None] * self._count))
        copy.file, copy.lines = None, ()
        return copy

    def with_columns(self, columns: Mapping[str, Sequence[object]]) -> Table[_R]:
        """A copy that holds something else in some columns."""
        known = {name: self.column(name) for name in self.record.__struct_fields__}
        copy = Table(self.record, {**known, **columns}, self._count, self.file, self.lines)
        copy.edit = Edit(self, None, frozenset(columns))
        return copy

    def kept(self, flags: Sequence[bool]) -> Table[_R]:
        """The rows that are flagged."""
        columns = {name: list(compress(column, flags)) for name, column in self._columns.items()}
        copy = Table(self.record, columns, sum(flags), self.file, list(compress(self.lines, flags)))
        copy._made, copy._all_made = list(compress(self._made, flags)), self._all_made
        return copy

    def where(self, row: Row) -> str | None:
        """The file and line that a row was read from; None for one that was not read, or that was changed since.

        Rows are told apart as objects: two equal ones may stand on different lines.
        """
        if not self.file:
            return None
        n = self._number(row)
        return f"{self.file}:{self.lines[n]}" if n is not None and self.lines[n] else None

    def _number(self, row: Row) -> int | None:
        """Where a row stands, if it was made here, or by the table that this is a changed copy of."""
        if self._numbers is None:
            self._numbers = {id(held): n for n, held in enumerate(self._made) if held is not None}
        n = self._numbers.get(id(row))
        if n is None and self.edit is not None:
            n = self.edit.of._number(row)
            return n if self.edit.rows is not None and n not in self.edit.rows else None
        return n


class RowsBy(Mapping[_K, _R], Generic[_K, _R]):
    """Rows of a table by some key, each made when it is looked at.

    Parameters
    ----------
    table
        The table.
    numbers
        For each key the place of its row.
    """

    def __init__(self, table: Table[_R], numbers: Mapping[_K, int]) -> None:
        self._table, self.numbers = table, numbers

    def __getitem__(self, key: _K) -> _R:
        return self._table.at(self.numbers[key])

    def get(
        self, key: _K, default: object = None
    ) -> Any:  # asked for often: without an exception for what is not there
        n = self.numbers.get(key)
        return self._table.at(n) if n is not None else default

    def __iter__(self) -> Iterator[_K]:
        return iter(self.numbers)

    def __len__(self) -> int:
        return len(self.numbers)

    def __contains__(self, key: object) -> bool:
        return key in self.numbers

    def keys(self) -> KeysView[_K]:
        """The keys, as a set of which differences are quick."""
        return self.numbers.keys()

    def cell(self, key: _K, column: str) -> object:
        """What a column holds in the row of a key, without making the row."""
        return self._table.column(column)[self.numbers[key]]


def _same(one: object, two: object) -> bool:
    return one is two or one == two


class _Single(Mapping[object, Sequence[int]]):
    """Where each value stands in a column in which none stands twice."""

    def __init__(self, places: Mapping[object, int]) -> None:
        self._places = places

    def __getitem__(self, value: object) -> Sequence[int]:
        return (self._places[value],)

    def __iter__(self) -> Iterator[object]:
        return iter(self._places)

    def __len__(self) -> int:
        return len(self._places)


def positions(column: Sequence[object]) -> Mapping[object, Sequence[int]]:
    """Where each value stands in a column: in one place only, in row after row, or anywhere."""
    last = dict(zip(column, range(len(column)), strict=True))
    if len(last) == len(column):
        return _Single(last)
    found: dict[object, list[int]] = defaultdict(list)
    if _LONG * sum(map(ne, column, islice(column, 1, None))) < len(column):
        for value, run in runs(column):
            found[value] += range(run.start, run.stop)
    else:
        for n, value in enumerate(column):
            found[value].append(n)
    return dict(found)


_LONG = 8
"""In how many rows, on the average, a value stands in one after the other where a column is taken run by run."""


def runs(column: Sequence[object]) -> Iterator[tuple[Any, slice]]:
    """Where the same value stands in a column, as that of a device mostly does in row after row."""
    begin = 0
    for value, run in groupby(column):
        end = begin + len(list(run))
        yield value, slice(begin, end)
        begin = end
