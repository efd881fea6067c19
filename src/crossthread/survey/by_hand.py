"""Rows that somebody made by hand: records, dictionaries and data frames, checked as those of a file are."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import Any

import msgspec

from crossthread.errors import Problem, SurveyError
from crossthread.survey.building import Builder, cell_text
from crossthread.survey.records import TABLES, Row, columns_of
from crossthread.survey.table import Table


def checked(name: str, rows: Iterable[Any]) -> Table[Row]:
    """A table of records that are what they should be.

    Raises
    ------
    SurveyError
        For every value that the column does not take; each problem names the row, from 1 on, and the column.
    """
    record = TABLES[name]
    table: Table[Row] = Table.of(record, rows)
    strange = [n for n, row in enumerate(table, 1) if not isinstance(row, record)]
    if strange:
        says = f"expected a record of the type {record.__name__}; dictionaries are taken by Survey.of"
        raise SurveyError([Problem(name, says, row=n) for n in strange])
    problems: list[Problem] = []
    for column, (kind, must) in columns_of(record).items():
        known: dict[tuple[type, object], bool] = {}
        for n, value in enumerate(table.column(column), 1):
            if value is None and not must:
                continue
            if not _is_sound(kind, value, known):
                problems.append(Problem(name, f"expected {kind.expected}", None, column, str(value), n))
    if not problems:
        problems = _twice(name, table)
    if problems:
        raise SurveyError(problems)
    return table


def _is_sound(kind: object, value: object, known: dict[tuple[type, object], bool]) -> bool:
    """Whether a value is one that reading its own text gives."""
    try:
        key = (type(value), value)
        if key not in known:
            known[key] = _reads(kind, value)
        return known[key]
    except TypeError:  # not even hashable
        return False


def _reads(kind: Any, value: object) -> bool:
    try:
        text = kind.show(value)
        values, bad = kind.column([text], {})
    except (ValueError, TypeError, AttributeError):
        return False
    return not bad and type(values[0]) is type(value) and bool(values[0] == value)


def _twice(name: str, table: Table[Row]) -> list[Problem]:
    keys: dict[tuple[object, ...], int] = {}
    found = []
    for n, row in enumerate(table if table.record.KEY else (), 1):
        first = keys.setdefault(row.key, n)
        if first != n:
            says = f"stands twice, first in row {first}; expected each {' and '.join(table.record.KEY)} once"
            found.append(Problem(name, says, None, table.record.KEY[-1], " ".join(map(str, row.key)), n))
    return found


def table_of(name: str, rows: Any) -> Table[Row]:
    """A table of records, of dictionaries, or of a data frame whose columns are named as the table's.

    Raises
    ------
    SurveyError
        For every value that cannot be read; each problem names the row, from 1 on, and the column.
    """
    if name not in TABLES:
        raise SurveyError([Problem(name, f"expected a table of a survey: {', '.join(TABLES)}")])
    if hasattr(rows, "to_dict") and hasattr(rows, "columns"):  # a data frame, of whichever library
        rows = [{str(c): _cell(v) for c, v in row.items()} for row in rows.to_dict("records")]
    rows = list(rows)
    if not any(isinstance(row, Mapping) for row in rows):
        return checked(name, rows)
    plain = [row if isinstance(row, Mapping) else _texts(row) for row in rows]
    return _read(name, plain)


def _cell(value: object) -> object:
    """A cell of a data frame: what is missing as None, and whole numbers that became floats whole again."""
    if value is None or value != value:  # noqa: PLR0124  (only what is not a number differs from itself)
        return None
    return int(value) if isinstance(value, float) and value.is_integer() else value


def _texts(row: Row) -> dict[str, str]:
    kinds = columns_of(type(row))
    return {c: kind.show(value) for c, (kind, _) in kinds.items() if (value := getattr(row, c)) is not None}


def _read(name: str, rows: Sequence[Mapping[str, object]]) -> Table[Row]:
    header = list(dict.fromkeys(str(column) for row in rows for column in row))
    header += [c for c, (_, must) in columns_of(TABLES[name]).items() if must and c not in header]
    builder = Builder(TABLES[name], header, name)
    cells: list[list[str]] = []
    problems: list[Problem] = []
    for n, row in enumerate(rows, 1):
        line = []
        for column in header:
            try:
                value = row.get(column)
                line.append(str(value) if hasattr(value, "bits") else cell_text(value))
            except ValueError as error:
                problems.append(Problem(name, f"expected {error}", None, column, str(row.get(column)), n))
                line.append("")
        cells.append(line)
    if cells:
        builder.add(list(zip(*cells, strict=True)), range(1, len(cells) + 1))
    builder.finish()
    problems += [msgspec.structs.replace(problem, line=None, row=problem.line) for problem in builder.problems]
    if problems:
        raise SurveyError(problems)
    return Table(builder.table.record, {c: builder.table.column(c) for c in TABLES[name].__struct_fields__}, len(cells))
