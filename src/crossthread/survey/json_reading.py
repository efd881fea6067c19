"""The single-file form of a survey: the same tables as one JSON object, plain or compressed."""

from __future__ import annotations

import gzip
import json
import re
import zlib
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from crossthread.errors import Problem, SurveyError, visible
from crossthread.survey.building import Builder, cell_text
from crossthread.survey.contents import MAX_COLUMNS, decoded, info_of
from crossthread.survey.records import TABLES, columns_of
from crossthread.survey.survey import Info, Survey

_TOKEN = re.compile(r'"(?:[^"\\]|\\.)*"|[{}\[\]]')


def read_single(path: Path) -> Survey:
    """Read a survey from a `.json` or `.json.gz` file; raises `SurveyError` with all its problems."""
    label = path.name
    problems: list[Problem] = []
    try:
        data = path.read_bytes()
        if data.startswith(b"\x1f\x8b"):
            data = gzip.decompress(data)
    except (OSError, EOFError, zlib.error) as error:
        raise SurveyError([Problem(label, f"cannot be read: {error}")]) from None
    text = decoded(label, data, problems)
    if text is None:
        raise SurveyError(problems)
    try:
        document = json.loads(text, parse_int=_whole)
    except json.JSONDecodeError as error:
        raise SurveyError([Problem(label, f"not valid JSON: {error.msg}", error.lineno)]) from None
    except RecursionError:
        raise SurveyError([Problem(label, "nested too deeply for a survey")]) from None
    if not isinstance(document, dict):
        raise SurveyError([Problem(label, "expected one JSON object with the survey's tables")])
    return _survey(document, text, label, problems)


def _whole(digits: str) -> int | str:
    return int(digits) if len(digits) < 300 else digits


def _survey(document: dict[str, object], text: str, label: str, problems: list[Problem]) -> Survey:
    notices = []
    head = document.get("survey", {})
    info = Info()
    if isinstance(head, dict):
        info = info_of(head, label, problems)
    else:
        problems.append(Problem(label, "expected an object", None, "survey"))
    for name in document:
        if name != "survey" and name not in TABLES:
            notices.append(f"{label}: “{visible(name)}” is not a table of a survey, so it was not read")
    if "survey" not in document and not any(name in TABLES for name in document):
        problems.append(Problem(label, "no survey here: expected “survey” and tables such as “ports”"))
    lines = _row_lines(text)
    tables: dict[str, Any] = {}
    for name in TABLES:
        if name not in document:
            continue
        builder = _table(name, document[name], lines.get(name, []), label, problems)
        if builder is not None:
            problems += builder.problems
            tables[name] = builder.table
            notices += builder.notices(f"{label}: {name}")
    if problems:
        raise SurveyError(problems)
    return Survey(info=info, **tables, notices=tuple(notices))


def _table(name: str, rows: object, lines: list[int], label: str, problems: list[Problem]) -> Builder | None:
    if not isinstance(rows, list):
        problems.append(Problem(label, "expected a list of rows", None, name))
        return None
    good, at = [], []
    for number, row in enumerate(rows):
        line = lines[number] if number < len(lines) else 1
        if isinstance(row, dict):
            good.append(row)
            at.append(line)
        else:
            problems.append(Problem(label, f"row {number + 1} of {name}: expected an object", line))
    header = list(dict.fromkeys(column for row in good for column in row))
    required = [c for c, (_, must) in columns_of(TABLES[name]).items() if must]
    header += [column for column in required if column not in header]
    if len(header) > MAX_COLUMNS:
        says = f"{len(header)} columns, expected at most {MAX_COLUMNS}; is this a table of a survey?"
        problems.append(Problem(label, says, None, name))
        return None
    builder = Builder(TABLES[name], header, label)
    body: list[list[str]] = []
    for row, line in zip(good, at, strict=True):
        cells = []
        for column in header:
            try:
                cells.append(cell_text(row.get(column)))
            except ValueError as error:
                problems.append(Problem(label, f"expected {error}", line, column))
                cells.append("")
        body.append(cells)
    if body:
        builder.add(list(zip(*body, strict=True)), at)
    builder.finish()
    return builder


def _row_lines(text: str) -> dict[str, list[int]]:
    """The line on which each row of each table begins, for the places of rows and errors."""
    found: dict[str, list[int]] = {}
    depth, table, last = 0, "", ""
    for token, line in _tokens(text):
        if token in "{[":
            depth += 1
            if token == "{" and depth == 3:
                found.setdefault(table, []).append(line)
        elif token in "}]":
            depth -= 1
        else:
            last = token
        if depth == 1 and token not in "{}[]":
            table = json.loads(last)
    return found


def _tokens(text: str) -> Iterator[tuple[str, int]]:
    line, at = 1, 0
    for match in _TOKEN.finditer(text):
        line += text.count("\n", at, match.start())
        at = match.start()
        yield match.group(), line
