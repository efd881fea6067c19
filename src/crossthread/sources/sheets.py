"""Tables as people have them: separated or aligned text, JSON arrays, workbooks; with titles above their header."""

from __future__ import annotations

import csv
import io
import json
import re
import zipfile
from collections import Counter
from collections.abc import Collection, Iterable, Iterator, Sequence
from itertools import islice, zip_longest
from typing import Any

from crossthread.errors import Problem, SurveyError, visible

Row = dict[str, Any]
_TITLES = 50
"""Within how many rows from the top a header is looked for."""
_EXPANDED = 1 << 28
"""To how many octets a workbook may expand: a million rows of ten cells, and no more."""
_GAP = re.compile(r" {2,}")
_RULE = re.compile(r"[-=+| ]+")


def read_sheet(data: bytes, file: str, names: Collection[str], sheet: str | None = None) -> tuple[list[Row], list[int]]:
    """The rows below the header that has all of some names, each as a dictionary, and the lines they stand on.

    Parameters
    ----------
    data
        A JSON array of objects, a workbook (`.xlsx`), text with tabs, semicolons or commas, or text in columns that are
        at least two spaces apart; text in UTF-8, UTF-16 with a byte order mark, or Windows code page 1252.
    file
        What the file is called.
    names
        The columns that are wanted. Of several with one name the first goes by “NAME (1)”, the second by “NAME (2)”.
    sheet
        Which sheet of a workbook; without it, the one that has the columns.

    Raises
    ------
    SurveyError
        If it is nothing of that, or no row is such a header.
    """
    if data[:4] == b"PK\x03\x04":
        return _workbook(data, file, names, sheet)
    text = _text(data, file)
    if text.lstrip()[:1] == "[":
        return _json(text, file)
    nearest: tuple[int, list[str]] = (1, [])
    for separator in sorted("\t;,", key=text.split("\n", 1)[0].count, reverse=True):
        found = _below_header(_separated(text, separator, file), names, file)
        if not isinstance(found, tuple):
            return found.rows, found.lines
        nearest = max(nearest, found, key=lambda seen: (len(set(names) & set(seen[1])), len(seen[1])))
    aligned = _aligned(text, names, file)
    if aligned is not None:
        return aligned.rows, aligned.lines
    raise SurveyError(_absent(nearest, names, file))


class _Found:
    """The rows of a table, and the lines that they stand on."""

    def __init__(self, rows: list[Row], lines: list[int]) -> None:
        self.rows, self.lines = rows, lines


def _text(data: bytes, file: str) -> str:
    if data[:2] in (b"\xff\xfe", b"\xfe\xff"):
        coding = "utf-16"
    else:
        try:
            return data.decode("utf-8-sig")
        except UnicodeDecodeError:
            coding = "cp1252"
    try:
        text = data.decode(coding)
    except UnicodeDecodeError as error:
        line = data.count(b"\n", 0, error.start) + 1
        raise SurveyError([Problem(file, "no text in UTF-8 or code page 1252", line)]) from None
    if "\0" in text:
        raise SurveyError([Problem(file, "no text: it has NUL in it", text.count("\n", 0, text.index("\0")) + 1)])
    return text


def _json(text: str, file: str) -> tuple[list[Row], list[int]]:
    try:
        document = json.loads(text)
    except (ValueError, RecursionError) as error:
        raise SurveyError([Problem(file, f"not valid JSON: {error}")]) from None
    if not all(isinstance(row, dict) for row in document):
        raise SurveyError([Problem(file, "expected an array of objects")])
    return document, [1] * len(document)


def _separated(text: str, separator: str, file: str) -> Iterator[tuple[int, list[object]]]:
    reader = csv.reader(io.StringIO(text, newline=""), delimiter=separator)
    try:
        for cells in reader:
            yield reader.line_num, list(cells)
    except csv.Error as error:
        raise SurveyError([Problem(file, f"not valid CSV: {error}", reader.line_num)]) from None


def _below_header(
    table: Iterable[tuple[int, Sequence[Any]]], names: Collection[str], file: str
) -> _Found | tuple[int, list[str]]:
    """The rows below the first that has all the names; if none has, line and names of the nearest one."""
    rest = iter(table)
    wanted = {_without_number(name) for name in names} | set(names)
    nearest: tuple[int, list[str]] = (1, [])
    for line, cells in islice(rest, _TITLES):
        header = [str(cell).strip() if cell is not None else "" for cell in cells]
        numbered = _numbered(header)
        if set(names) <= {*numbered, *header} and any(header):
            _ask_which(header, names, file, line)
            rows, lines = [], []
            for at, values in rest:
                if any(value not in (None, "") for value in values):
                    rows.append(dict(zip_longest(numbered, values[: len(numbered)])))
                    lines.append(at)
            return _Found(rows, lines)
        nearest = max(nearest, (line, numbered), key=lambda seen: (len(wanted & set(seen[1])), len(seen[1]) > 1))
    return nearest


def _numbered(header: Sequence[str]) -> list[str]:
    """The names of columns, those that stand there more than once with which of them it is."""
    times = Counter(header)
    seen: Counter[str] = Counter()
    found = []
    for name in header:
        seen[name] += 1
        found.append(f"{name} ({seen[name]})" if times[name] > 1 else name)
    return found


def _without_number(name: str) -> str:
    return re.sub(r" \(\d+\)$", "", name)


def _ask_which(header: Sequence[str], names: Collection[str], file: str, line: int) -> None:
    problems = []
    for name in names:
        places = [place for place, other in enumerate(header, 1) if other == name]
        if len(places) > 1:
            each = " or ".join(f"“{visible(name)} ({n})” (column {place})" for n, place in enumerate(places, 1))
            problems.append(
                Problem(file, f"{len(places)} columns have this name; say which is meant: {each}", line, name)
            )
    if problems:
        raise SurveyError(problems)


def _absent(nearest: tuple[int, list[str]], names: Collection[str], file: str) -> list[Problem]:
    line, header = nearest
    listed = ", ".join(sorted({visible(name) for name in header if name})) or "none"
    return [
        Problem(file, f"there is no such column; there are {listed}", line, name)
        for name in names
        if name not in header
    ]


def _aligned(text: str, names: Collection[str], file: str) -> _Found | None:
    """A table in columns of text: between two of them at least two spaces in the header, and one in every line."""
    lines = [line.expandtabs().rstrip() for line in text.splitlines()]
    for top, head in enumerate(lines[:_TITLES]):
        header = _GAP.split(head.strip())
        numbered = _numbered(header)
        if not set(names) <= {*numbered, *header}:
            continue
        _ask_which(header, names, file, top + 1)
        body = [
            (number, line)
            for number, line in enumerate(lines[top + 1 :], top + 2)
            if line and not _RULE.fullmatch(line)
        ]
        edges, problems = [0], []
        for gap in _GAP.finditer(head, len(head) - len(head.lstrip())):
            clear = [at for at in range(*gap.span()) if all(line[at : at + 1] in ("", " ") for _, line in body)]
            if not clear:
                last = gap.end() - 1
                number = next(number for number, line in body if line[last : last + 1] not in ("", " "))
                says = f"a cell reaches into column “{visible(header[len(edges)])}”; expected a space between them"
                problems.append(Problem(file, says, number))
            edges.append(clear[-1] if clear else gap.end())
        if problems:
            raise SurveyError(problems)
        ends = [*edges[1:], None]
        rows = [
            {name: line[start:end].strip() for name, start, end in zip(numbered, edges, ends, strict=True)}
            for _, line in body
        ]
        return _Found(rows, [number for number, _ in body])
    return None


def _workbook(data: bytes, file: str, names: Collection[str], sheet: str | None) -> tuple[list[Row], list[int]]:
    import openpyxl  # type: ignore[import-untyped]

    try:
        with zipfile.ZipFile(io.BytesIO(data)) as parts:
            if sum(part.file_size for part in parts.infolist()) > _EXPANDED:
                raise SurveyError([Problem(file, f"a workbook that expands to more than {_EXPANDED >> 20} MiB")])
        book = openpyxl.load_workbook(io.BytesIO(data), read_only=True, data_only=True)
        sheets = {own.title: own for own in book.worksheets}
        if sheet is not None and sheet not in sheets:
            listed = ", ".join(map(visible, sheets))
            raise SurveyError([Problem(file, f"there is no such sheet; there are {listed}", value=sheet)])
        chosen = [sheets[sheet]] if sheet is not None else list(sheets.values())
        found = {own.title: _below_header(enumerate(own.iter_rows(values_only=True), 1), names, file) for own in chosen}
    except SurveyError:
        raise
    except Exception as error:  # whatever the library raises on damaged workbooks; it has no error of its own
        raise SurveyError([Problem(file, f"no workbook that can be read ({type(error).__name__})")]) from None
    fitting = {title: rows for title, rows in found.items() if isinstance(rows, _Found)}
    if len(fitting) > 1:
        listed = ", ".join(map(visible, fitting))
        raise SurveyError([Problem(file, f"several sheets have these columns: {listed}; say which with “sheet”")])
    if not fitting:
        nearest = max((seen for seen in found.values() if isinstance(seen, tuple)), key=lambda seen: len(seen[1]))
        raise SurveyError(_absent(nearest, names, file))
    (own,) = fitting.values()
    return own.rows, own.lines
