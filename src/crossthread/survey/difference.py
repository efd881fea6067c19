"""In which columns, and in which rows, one survey differs from another that it was made of."""

from __future__ import annotations

from typing import NamedTuple

from crossthread.survey.records import TABLES, Row
from crossthread.survey.survey import Survey
from crossthread.survey.table import Table


class Difference(NamedTuple):
    """What a changed copy of a survey has otherwise.

    Attributes
    ----------
    columns
        The columns that differ anywhere, as `table.column`; all of a table that has other rows.
    rows
        Of each table with as many rows the places of those that differ; None for any of them.
    """

    columns: frozenset[str]
    rows: dict[str, frozenset[int] | None]


def difference(old: Survey, new: Survey) -> Difference:
    """Compare a survey with one that it was made of by changes."""
    columns: set[str] = set()
    rows: dict[str, frozenset[int] | None] = {}
    for name in TABLES:
        before, after = old.table(name), new.table(name)
        if before is not after:
            differ, places = _of_table(before, after)
            columns |= {f"{name}.{column}" for column in differ}
            rows[name] = places
    return Difference(frozenset(columns), rows)


def _of_table(old: Table[Row], new: Table[Row]) -> tuple[frozenset[str], frozenset[int] | None]:
    columns: frozenset[str] = frozenset()
    rows: frozenset[int] | None = frozenset()
    while new is not old:
        if new.edit is None:
            return frozenset(new.record.__struct_fields__), None
        columns |= new.edit.columns
        rows = None if rows is None or new.edit.rows is None else rows | new.edit.rows
        new = new.edit.of
    return columns, rows
