"""Tables that somebody exported or typed: CSV, TSV or a JSON array, with a small mapping that says what is what.

A mapping is a TOML file:

    [[table]]
    files = "interfaces*.csv"      # which files it is for, by name
    into = "ports"                 # the survey's table
    columns.port = "Interface"     # the survey's column = theirs
    columns.oper = "State"
    always.device = "sw-1"         # what is the same in every row
    words.oper.connected = "up"    # how their words translate
    complete = false               # whether it lists all that each of its devices has
"""

from __future__ import annotations

import csv
import io
import json
import tomllib
from collections.abc import Iterable, Mapping, Sequence
from fnmatch import fnmatch
from typing import Any

import msgspec
from msgspec.structs import replace

from crossthread.errors import Problem, SurveyError, visible
from crossthread.survey.building import Builder, cell_text
from crossthread.survey.records import READ_IN_FULL, TABLES, Coverage, Filter, Row, columns_of


class TableMapping(msgspec.Struct, frozen=True):
    """What the columns of some files mean."""

    into: str
    files: str = "*"
    columns: dict[str, str] = {}
    always: dict[str, str] = {}
    words: dict[str, dict[str, str]] = {}
    complete: bool | None = None


def read_mapping(text: str, file: str) -> list[TableMapping]:
    """Read a mapping.

    Raises
    ------
    SurveyError
        With everything that is wrong in it.
    """
    try:
        document = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise SurveyError([Problem(file, f"not valid TOML: {error}")]) from None
    problems: list[Problem] = []
    found = []
    tables = document.get("table")
    if not isinstance(tables, list) or not tables:
        raise SurveyError([Problem(file, "expected at least one [[table]] with “into” and “columns”")])
    for number, entry in enumerate(tables, 1):
        label = f"table {number}"
        try:
            mapping = msgspec.convert(entry, TableMapping)
        except msgspec.ValidationError as error:
            problems.append(Problem(file, f"{label}: {error}"))
            continue
        if mapping.into not in TABLES:
            says = f"{label}: expected one of {', '.join(TABLES)}"
            problems.append(Problem(file, says, column="into", value=mapping.into))
            continue
        known = columns_of(TABLES[mapping.into])
        given = {*mapping.columns, *mapping.always}
        for column in sorted(({*given, *mapping.words} - known.keys()) | (mapping.columns.keys() & mapping.always)):
            says = f"{label}: {mapping.into} has the columns {', '.join(known)}, each of which may be told once"
            problems.append(Problem(file, says, column=column))
        missing = [column for column, (_, must) in known.items() if must and column not in given]
        if missing:
            problems.append(Problem(file, f"{label}: nothing says where {', '.join(missing)} comes from"))
        found.append(mapping)
    if problems:
        raise SurveyError(problems)
    return found


def mapping_for(name: str, mappings: Iterable[TableMapping]) -> list[TableMapping]:
    """The mappings that are for a file of this name."""
    return [mapping for mapping in mappings if fnmatch(name, mapping.files)]


def read_mapped(data: bytes, file: str, mapping: TableMapping) -> list[Row]:
    """The rows of a table in CSV, TSV or as a JSON array.

    Raises
    ------
    SurveyError
        With every cell that cannot be read, or the column that is not there.
    """
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        line = data.count(b"\n", 0, error.start) + 1
        raise SurveyError([Problem(file, "not text in UTF-8", line)]) from None
    rows, lines = _json_rows(text, file) if text.lstrip()[:1] == "[" else _text_rows(text, file)
    return rows_of(rows, lines, file, mapping)


def rows_of(rows: Sequence[Mapping[str, Any]], lines: Sequence[int], file: str, mapping: TableMapping) -> list[Row]:
    """Rows given as dictionaries, such as `frame.to_dict("records")` of a pandas data frame; see `read_mapped`."""
    theirs = {str(column) for row in rows for column in row}
    listed = ", ".join(sorted(map(visible, theirs)))
    absent = [name for name in mapping.columns.values() if rows and name not in theirs]
    problems = [Problem(file, f"there is no such column; there are {listed}", 1, name) for name in absent]
    if problems:
        raise SurveyError(problems)
    header = [*mapping.columns, *mapping.always]
    builder = Builder(TABLES[mapping.into], header, file)
    cells: list[list[str]] = []
    for row, line in zip(rows, lines, strict=True):
        found = []
        for column, name in mapping.columns.items():
            try:
                found.append(_translated(cell_text(_present(row.get(name))).strip(), mapping.words.get(column, {})))
            except ValueError as error:
                builder.problems.append(Problem(file, f"expected {error}", line, name))
                found.append("")
        cells.append(found + [str(value) for value in mapping.always.values()])
    if cells:
        builder.add(list(zip(*cells, strict=True)), lines)
    builder.finish()
    if builder.problems:
        raise SurveyError(builder.problems)
    read: list[Row] = [
        row if "source" in header or isinstance(row, Filter) else replace(row, source=f"{file}:{line}")
        for row, line in zip(builder.table, builder.lines, strict=True)
    ]
    return read + _coverage(read, file, mapping)


def _coverage(rows: Sequence[Row], file: str, mapping: TableMapping) -> list[Row]:
    """Whether a table lists all that each of its devices has, where the mapping says so."""
    if mapping.complete is None or mapping.into not in READ_IN_FULL:
        return []
    devices = dict.fromkeys(device for row in rows if (device := getattr(row, "device", None)))
    return [Coverage(device, mapping.into, "yes" if mapping.complete else "no", source=file) for device in devices]


def _present(value: Any) -> Any:
    """A cell; the not-a-number that data frames have for an empty one is none."""
    return None if isinstance(value, float) and value != value else value  # noqa: PLR0124


def _translated(cell: str, words: Mapping[str, str]) -> str:
    folded = {word.casefold(): meaning for word, meaning in words.items()}
    return folded.get(cell.casefold(), cell)


def _json_rows(text: str, file: str) -> tuple[list[dict[str, Any]], list[int]]:
    try:
        document = json.loads(text)
    except (ValueError, RecursionError) as error:
        raise SurveyError([Problem(file, f"not valid JSON: {error}")]) from None
    if not all(isinstance(row, dict) for row in document):
        raise SurveyError([Problem(file, "expected an array of objects")])
    return document, [1] * len(document)


def _text_rows(text: str, file: str) -> tuple[list[dict[str, Any]], list[int]]:
    """The rows of a text table; the separator is the one of tab, semicolon and comma that the head line has most of."""
    head = text.split("\n", 1)[0]
    separator = max("\t;,", key=head.count)
    reader = csv.reader(io.StringIO(text, newline=""), delimiter=separator)
    rows, lines = [], []
    try:
        header = [cell.strip() for cell in next(reader, [])]
        for cells in reader:
            if cells:
                rows.append(dict(zip(header, cells, strict=False)))
                lines.append(reader.line_num)
    except csv.Error as error:
        raise SurveyError([Problem(file, f"not valid CSV: {error}", reader.line_num)]) from None
    return rows, lines
