"""Tables that somebody exported or typed, with a small mapping that says what is what.

A mapping is a TOML file:

    [[table]]
    files = "interfaces*.csv"      # which files it is for, by name
    into = "ports"                 # the survey's table
    columns.port = "Interface"     # the survey's column = theirs
    columns.oper = "State"
    columns.address = ["IP", "Mask"]  # an address whose mask has a column of its own
    always.device = "sw-1"         # what is the same in every row
    words.oper.connected = "up"    # how their words translate
    complete = false               # whether it lists all that each of its devices has
    sheet = "Floor 2"              # of a workbook, if several sheets have these columns
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from datetime import date, time, timedelta
from fnmatch import fnmatch
from ipaddress import ip_network

import msgspec
from msgspec.structs import replace

from crossthread.errors import Problem, SurveyError, visible
from crossthread.sources.sheets import read_sheet
from crossthread.survey.building import Builder, cell_text
from crossthread.survey.records import READ_IN_FULL, TABLES, Coverage, Filter, Row, columns_of
from crossthread.survey.toml_text import parse_toml


class TableMapping(msgspec.Struct, frozen=True):
    """What the columns of some files mean."""

    into: str
    files: str = "*"
    columns: dict[str, str | tuple[str, ...]] = {}
    always: dict[str, str] = {}
    words: dict[str, dict[str, str]] = {}
    complete: bool | None = None
    sheet: str | None = None


def read_mapping(text: str, file: str) -> list[TableMapping]:
    """Read a mapping.

    Raises
    ------
    SurveyError
        With everything that is wrong in it.
    """
    problems: list[Problem] = []
    document = parse_toml(text, file, problems)
    if document is None:
        raise SurveyError(problems)
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
        for column, theirs in mapping.columns.items():
            if len(_names(theirs)) != 1 and (len(_names(theirs)) != 2 or column not in ("address", "prefix")):
                says = f"{label}: expected one column; only an address may come from two, itself and its mask"
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
    """The rows of a table: separated or aligned text, a JSON array, a workbook; see `read_sheet`.

    Raises
    ------
    SurveyError
        With every cell that cannot be read, or the column that is not there.
    """
    names = [name for theirs in mapping.columns.values() for name in _names(theirs)]
    rows, lines = read_sheet(data, file, names, mapping.sheet)
    return rows_of(rows, lines, file, mapping)


def rows_of(rows: Sequence[Mapping[str, object]], lines: Sequence[int], file: str, mapping: TableMapping) -> list[Row]:
    """Rows given as dictionaries, such as `frame.to_dict("records")` of a pandas data frame; see `read_mapped`."""
    theirs = {str(column) for row in rows for column in row}
    listed = ", ".join(sorted(map(visible, theirs)))
    absent = [name for own in mapping.columns.values() for name in _names(own) if rows and name not in theirs]
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
                found.append(_cell(row, name, mapping.words.get(column, {})))
            except ValueError as error:
                builder.problems.append(Problem(file, f"expected {error}", line, " and ".join(_names(name))))
                found.append("")
        cells.append(found + [str(value) for value in mapping.always.values()])
    if cells:
        builder.add(list(zip(*cells, strict=True)), lines)
    builder.finish()
    if builder.problems:
        raise SurveyError([_in_their_words(problem, mapping) for problem in builder.problems])
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


def _in_their_words(problem: Problem, mapping: TableMapping) -> Problem:
    """The same problem, with the column named as it is in their table."""
    theirs = mapping.columns.get(problem.column or "")
    return problem if theirs is None else replace(problem, column=" and ".join(_names(theirs)))


def _names(theirs: str | tuple[str, ...]) -> tuple[str, ...]:
    return (theirs,) if isinstance(theirs, str) else theirs


def _cell(row: Mapping[str, object], theirs: str | tuple[str, ...], words: Mapping[str, str]) -> str:
    """A cell in the survey's words; of an address and its mask in two columns, the address with its prefix length."""
    texts = [_translated(cell_text(_present(row.get(name))).strip(), words) for name in _names(theirs)]
    if len(texts) == 1:
        return texts[0]
    own, mask = texts
    if not mask or own in ("", "none"):
        return own
    return f"{own}/{_prefix_length(mask.removeprefix('/'))}"


def _prefix_length(mask: str) -> int:
    """How long the prefix of a mask is, written as its length or as an address."""
    try:
        if mask.isdecimal():
            return int(mask)
        if not mask.startswith("0.") or mask == "0.0.0.0":  # the mask of what may differ is another matter
            return ip_network(f"{'::' if ':' in mask else '0.0.0.0'}/{mask}").prefixlen
    except ValueError:
        pass
    raise ValueError(f"a mask or a prefix length instead of “{visible(mask)}”")


def _present(value: object) -> object:
    """A cell; the not-a-number that data frames have for an empty one is none, and 30.0 is the number 30.

    Raises
    ------
    ValueError
        For a date: spreadsheets make one of a port's number such as 1/2, and what stood there is lost.
    """
    if isinstance(value, date | time | timedelta):
        raise ValueError("text; the spreadsheet has made a date or time of it")
    if isinstance(value, float):
        return None if value != value else int(value) if value.is_integer() else value  # noqa: PLR0124
    return value


def _translated(cell: str, words: Mapping[str, str]) -> str:
    folded = {word.casefold(): meaning for word, meaning in words.items()}
    return folded.get(cell.casefold(), cell)
