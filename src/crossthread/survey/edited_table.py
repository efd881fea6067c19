"""A table on which changes are made, one after the other."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping, Sequence

import msgspec

from crossthread.survey.port_modes import that_follow
from crossthread.survey.records import Gateway, Port, Row, columns_of, folded
from crossthread.survey.table import Table


class EditedTable:
    """The changes of one table: which rows stand elsewhere now, or nowhere, and which were added."""

    def __init__(self, rows: Table[Row]) -> None:
        self._rows = rows
        self._edited: dict[int, Row | None] = {}
        self._added: list[Row | None] = []
        self._come_to: dict[object, set[int]] = defaultdict(set)
        """The rows, by where they stand, that came to have each value in the first column of the key."""

    def table(self) -> Table[Row]:
        """The table with all changes made."""
        return self._rows.edited(self._edited, [row for row in self._added if row is not None])

    def make(self, key: dict[str, object], wanted: dict[str, object], delete: bool) -> str | None:
        """Make one change; returns why it cannot be made, if so."""
        record = self._rows.record
        hits = self._hits(key)
        if record is Gateway and not delete:
            if not hits:
                hits = self._hits({**key, "address": None})
            if wanted.get("admin") == "up":
                wanted.setdefault("oper", "up")  # what was down because it was shut comes up
        if not delete and wanted.keys() & set(record.KEY) and self._taken(hits, wanted):
            return _taken_already(record)
        for n, row in hits.items():
            follow = that_follow(row, wanted) if isinstance(row, Port) else {}
            fresh = None if delete else msgspec.structs.replace(row, **follow, **wanted)
            self._put(n, fresh)
        if hits or delete:
            return None
        cells = {**key, **wanted}
        missing = [c for c, (_, must) in columns_of(record).items() if must and c not in cells]
        if missing:
            return f"a new row of {record.TABLE} also needs {', '.join(missing)}"
        if wanted.keys() & set(record.KEY) and self._hits({column: cells.get(column) for column in record.KEY}):
            return _taken_already(record)
        self._added.append(None)
        self._put(len(self._rows) + len(self._added) - 1, record(**cells))
        return None

    def _put(self, n: int, row: Row | None) -> None:
        """Let a row stand in a place, or none; the added ones stand after all others."""
        if n < len(self._rows):
            self._edited[n] = row
        else:
            self._added[n - len(self._rows)] = row
        if row is not None:
            self._come_to[folded(self._column, getattr(row, self._column))].add(n)

    @property
    def _column(self) -> str:
        """The first column of the key."""
        return self._rows.record.KEY[0] if self._rows.record.KEY else "device"

    def _taken(self, hits: Mapping[int, Row], wanted: dict[str, object]) -> bool:
        """Whether rows would get the key of another row, or of each other."""
        keys = [msgspec.structs.replace(row, **wanted).key for row in hits.values()]
        others = (self._hits(dict(zip(self._rows.record.KEY, key, strict=True))).keys() - hits.keys() for key in keys)
        return len(set(keys)) < len(keys) or any(others)

    def _hits(self, key: dict[str, object]) -> dict[int, Row]:
        """The rows with a key, by where they stand: those that were there already, and after them those added."""
        column, count = self._column, len(self._rows)
        first = folded(column, key.get(column))
        near: Sequence[int] = self._rows.positions(column).get(first, ()) if first else range(count)
        for other in key.keys() - {column} if near else ():  # which is quicker than to look at each of many rows
            held, wanted = self._rows.column(other), folded(other, key[other])
            near = [n for n in near if n in self._edited or folded(other, held[n]) == wanted]
        # Where it is not said whose rows are meant, they are looked for among all.
        come = self._come_to.get(first, set()) if first else range(count, count + len(self._added))
        rows = {
            n: self._edited.get(n, self._rows[n]) if n < count else self._added[n - count]
            for n in (*near, *sorted(come))
        }
        return {n: row for n, row in rows.items() if row is not None and _fits(row, key)}


def _taken_already(record: type[Row]) -> str:
    return f"another row of {record.TABLE} has that key already; expected one that is free"


def _fits(row: Row, key: dict[str, object]) -> bool:
    return all(folded(c, getattr(row, c)) == folded(c, value) for c, value in key.items())
