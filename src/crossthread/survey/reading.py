"""Reading a survey: a folder of CSV tables, or the same tables as one JSON object."""

from __future__ import annotations

import csv
import io
from bisect import bisect_left
from collections.abc import Callable, Iterable, Iterator, Sequence
from itertools import islice
from pathlib import Path
from typing import Any

from crossthread.collector import held_still
from crossthread.errors import Problem, SurveyError, visible
from crossthread.survey.building import Builder
from crossthread.survey.contents import MAX_COLUMNS, decoded, info_of
from crossthread.survey.json_reading import read_single
from crossthread.survey.records import TABLES, columns_of
from crossthread.survey.survey import Info, Survey
from crossthread.survey.toml_text import parse_toml
from crossthread.survey.writing import committed

_CHUNK = 1 << 16
"""How many characters of a table are split at once."""
_HEAD = 1 << 18
"""Within how many it shows whether rows end in the same words again and again."""
_ROWS = 256


def read_survey(path: str | Path, progress: Callable[[int], None] = lambda _: None) -> Survey:
    """Read a survey from a folder, or from a `.json` or `.json.gz` file.

    Parameters
    ----------
    path
        The folder or file.
    progress
        Called again and again with about how many more octets of a folder's tables were read.

    Returns
    -------
    Survey
        With `notices` about what was read but not understood (columns and files the format does not name).

    Raises
    ------
    SurveyError
        If anything in it cannot be read: all problems at once.
    """
    path = Path(path)
    if path.is_dir():
        with held_still():
            return _read_folder(path, progress)
    if path.suffix.lower() in (".csv", ".toml") and path.is_file():
        says = "this is one file of a survey; expected the folder that it is in, or a .json file"
        raise SurveyError([Problem(str(path), says)])
    if path.is_file():
        return read_single(path)
    raise SurveyError([Problem(str(path), "no survey here: there is no such folder or file")])


def _read_folder(folder: Path, progress: Callable[[int], None]) -> Survey:
    problems: list[Problem] = []
    notices: list[str] = []
    tables: dict[str, Any] = {}
    files = committed(folder)
    for name in sorted(files):
        stem, _, suffix = name.rpartition(".")
        if suffix == "csv" and stem not in TABLES:
            close = _closest(stem, TABLES)
            hint = f" (did you mean {close}.csv?)" if close else ""
            notices.append(f"{visible(name)}: not a table of a survey{hint}, so it was not read")
    known = [name for name in TABLES if f"{name}.csv" in files]
    info = Info()
    if "survey.toml" in files:
        info = _read_info(files["survey.toml"], problems)
    elif not known:
        listed = ", ".join(f"{name}.csv" for name in TABLES)
        raise SurveyError([Problem(str(folder), f"no survey here: expected survey.toml and tables such as {listed}")])
    else:
        notices.append("survey.toml: there is none; title and time of the survey are not known")
    contents = {name: data for name in known if (data := _bytes(files[f"{name}.csv"], problems)) is not None}
    for name in list(contents):
        label = f"{name}.csv"
        builder = read_table(name, contents.pop(name), problems, progress)
        if builder is not None:
            problems += builder.problems
            tables[name] = builder.table
            notices += builder.notices(label)
    if problems:
        raise SurveyError(problems)
    return Survey(info=info, **tables, notices=tuple(notices))


def _bytes(file: Path, problems: list[Problem]) -> bytes | None:
    try:
        return file.read_bytes()
    except OSError as error:
        problems.append(Problem(file.name, f"cannot be read: {error.strerror}"))
        return None


def _read_info(file: Path, problems: list[Problem]) -> Info:
    data = _bytes(file, problems)
    text = decoded("survey.toml", data, problems) if data is not None else None
    document = parse_toml(text, "survey.toml", problems) if text is not None else None
    return Info() if document is None else info_of(document, "survey.toml", problems)


def read_table(
    name: str, data: bytes, problems: list[Problem], progress: Callable[[int], None] = lambda _: None
) -> Builder | None:
    """Read the contents of a table's file; None, and why among the problems, if there is nothing to read in it."""
    label = f"{name}.csv"
    text = decoded(label, data, problems)
    if text is None:
        return None
    plain = text.replace("\r\n", "\n") if "\r" in text else text
    quoted = '"' in plain or "\r" in plain
    try:
        head = next(csv.reader(_lines(text)), []) if quoted else plain.split("\n", 1)[0].split(",")
    except csv.Error as error:
        problems.append(_not_csv(label, error, 1))
        return None
    header = [cell.strip() for cell in head]
    if not _header_is_sound(name, header, label, problems):
        return None
    builder = Builder(TABLES[name], header, label)
    if quoted:
        _add_quoted(builder, text, problems)
        progress(len(data))
    else:
        _add_plain(builder, plain, progress)
    builder.finish()
    return builder


def _add_plain(builder: Builder, text: str, progress: Callable[[int], None]) -> None:
    """Take a text without quotes: its cells are what stands between commas, which is split by the thousand."""
    width, at, line = len(builder.header), text.find("\n") + 1, 2
    cut = width
    while 0 < at < len(text):
        end = text.find("\n", at + _CHUNK)
        end = end if end >= 0 else len(text)
        chunk = text[at:end].removesuffix("\n")
        count = chunk.count("\n") + 1
        lines = range(line, line + count)
        progress(end - at)
        at, line = end + 1, line + count
        if cut < width and _add_tailed(builder, chunk, cut, lines):
            continue
        # A line feed as a cell of its own shows whether each row has as many cells as the header.
        cells = chunk.replace("\n", ",\n,").split(",")
        if cells[width :: width + 1].count("\n") == count - 1 and len(cells) == count * (width + 1) - 1 and width > 1:
            columns = [cells[n :: width + 1] for n in range(width)]
            builder.add(columns, lines)
            if at < min(len(text), _HEAD) and not builder.unknown:
                cut = _where_tails_begin(columns)
        else:
            rows = [row.split(",") if row else [] for row in chunk.split("\n")]
            _add_uneven(builder, rows, lines)


def _where_tails_begin(columns: Sequence[Sequence[str]]) -> int:
    """The column from which on rows end in the same words again and again, by some rows of a table.

    Most ports are up, of one speed, in one of a few VLANs. Where at least three columns are so, each such end of a row
    is split and read once only.
    """

    def repeat(cut: int) -> bool:
        return 8 * len(set(zip(*columns[cut:], strict=True))) <= len(columns[0])

    cut = bisect_left(range(len(columns)), True, 1, key=repeat)  # the longer the ends, the fewer are the same
    return cut if len(columns) - cut >= 3 else len(columns)


def _add_tailed(builder: Builder, chunk: str, cut: int, lines: range) -> bool:
    split = [row.split(",", cut) for row in chunk.split("\n")]
    if set(map(len, split)) != {cut + 1}:
        return False
    *columns, tails = zip(*split, strict=True)
    return builder.add_tailed(columns, tails, lines)


def _add_quoted(builder: Builder, text: str, problems: list[Problem]) -> None:
    """Take any other text, row by row (RFC 4180)."""
    reader = csv.reader(_lines(text), strict=True)
    width = len(builder.header)
    try:
        next(reader)
        while True:
            before = reader.line_num
            rows = list(islice(reader, _ROWS))
            if not rows:
                break
            if reader.line_num - before == len(rows) and all(map(width.__eq__, map(len, rows))):
                builder.add(list(zip(*rows, strict=True)), range(before + 1, reader.line_num + 1))
            else:
                _add_uneven(builder, rows, _first_lines(text, before, len(rows)))
    except csv.Error as error:
        problems.append(_not_csv(builder.file, error, max(reader.line_num, 1)))


def _not_csv(label: str, error: csv.Error, line: int) -> Problem:
    told = "a lone carriage return; expected lines that end in LF or CRLF" if "new-line" in str(error) else error
    return Problem(label, f"not valid CSV: {told}", line)


def _lines(text: str) -> Iterator[str]:
    """The physical lines of a text with their ends: by line feeds only, as a cell may hold any other separator."""
    return io.StringIO(text, newline="\n")


def _header_is_sound(name: str, header: list[str], label: str, problems: list[Problem]) -> bool:
    required = [c for c, (_, must) in columns_of(TABLES[name]).items() if must]
    if len(header) > MAX_COLUMNS:
        says = f"{len(header)} columns, expected at most {MAX_COLUMNS}; is this a table of a survey?"
        problems.append(Problem(label, says, 1))
        return False
    twice = sorted({c for c in header if header.count(c) > 1})
    for column in twice:
        problems.append(Problem(label, "stands twice in the header, expected each column once", 1, column))
    missing = [c for c in required if c not in header]
    for column in missing:
        close = _closest(column, header)
        hint = f" (is “{visible(close)}” meant?)" if close else ""
        problems.append(Problem(label, f"the header lacks this column{hint}", 1, column))
    return not twice and not missing


def _closest(word: str, known: Iterable[str]) -> str | None:
    """The known word that is most like one that is not; None if none is."""
    from difflib import get_close_matches

    return next(iter(get_close_matches(word, list(known), 1)), None)


def _add_uneven(builder: Builder, rows: list[list[str]], lines: Sequence[int]) -> None:
    """Take rows of which some are blank, too short, too long, or run over several lines."""
    width = len(builder.header)
    good: list[list[str]] = []
    at: list[int] = []
    for row, line in zip(rows, lines, strict=True):
        if len(row) == width:
            good.append(row)
            at.append(line)
        elif row:
            says = f"{len(row)} cells, expected {width} as in the header"
            builder.problems.append(Problem(builder.file, says, line))
    if good:
        builder.add(list(zip(*good, strict=True)), at)


def _first_lines(text: str, before: int, count: int) -> list[int]:
    reader = csv.reader(islice(_lines(text), before, None), strict=True)
    found = []
    line = before + 1
    for _ in islice(reader, count):
        found.append(line)
        line = before + 1 + reader.line_num
    return found
