"""What was made of planned changes, by the surveys before and after."""

from __future__ import annotations

from typing import Literal

from crossthread.survey.changes import Change
from crossthread.survey.records import TABLES, Row, columns_of, folded
from crossthread.survey.survey import Survey

Done = Literal["done", "in part", "otherwise", "not done"]


def carried_out(change: Change, before: Survey, after: Survey) -> Done:
    """What was made of a planned change."""
    record = TABLES.get(change.table)
    if record is None:
        return "not done"
    was, now = (_row(survey, record, change) for survey in (before, after))
    if change.delete:
        return "done" if now is None else "not done"
    wanted = {column: _read(record, column, value) for column, value in change.cells.items()}
    if now is None:
        return "not done"
    as_wanted = [getattr(now, column) == value for column, value in wanted.items()]
    if all(as_wanted):
        return "done"
    same = was is not None and all(getattr(now, column) == getattr(was, column) for column in wanted)
    return "not done" if same else "in part" if any(as_wanted) else "otherwise"


def _row(survey: Survey, record: type[Row], change: Change) -> Row | None:
    """The row that a change is about; an interface that was given another address is known by its name."""
    for but in ((), ("address",)):
        wanted = {c: folded(c, _read(record, c, v)) for c, v in change.key.items() if c not in but}
        rows = [r for r in survey.rows(record) if all(folded(c, getattr(r, c)) == v for c, v in wanted.items())]
        if rows or record.TABLE != "gateways":
            return rows[0] if rows else None
    return None


def _read(record: type[Row], column: str, value: object) -> object:
    text = "" if value is None else str(value)
    kind = columns_of(record)[column][0] if column in columns_of(record) else None
    try:
        return kind.read(text) if kind is not None and text.strip() else None
    except ValueError:
        return value
