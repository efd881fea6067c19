"""What both forms of a survey share: the text of a file, the head, the limits."""

from __future__ import annotations

from datetime import date, datetime
from typing import Any

from crossthread.errors import Problem
from crossthread.survey.records import READ_IN_FULL
from crossthread.survey.survey import FORMAT, Info

MAX_COLUMNS = 1000
"""More columns than any table of a survey has: a file with more is something else."""


def decoded(name: str, data: bytes, problems: list[Problem]) -> str | None:
    """The text of a file, or a problem that says where it stops being text."""
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        line = data.count(b"\n", 0, error.start) + 1
        says = f"not text in UTF-8 (byte {data[error.start]:#04x}); is this a binary file?"
        problems.append(Problem(name, says, line))
        return None
    zero = text.find("\0")
    if zero >= 0:
        problems.append(Problem(name, "a NUL byte, expected text", text.count("\n", 0, zero) + 1))
        return None
    return text


def info_of(values: dict[str, object], file: str, problems: list[Problem]) -> Info:
    """The head of a survey from what its file says, with a problem for each value that cannot be used."""
    values = dict(values)
    version = values.pop("format", FORMAT)
    if not isinstance(version, int) or isinstance(version, bool) or version < 1:
        problems.append(Problem(file, "expected a whole number from 1", None, "format", str(version)))
    elif version > FORMAT:
        says = f"this program reads surveys up to format {FORMAT}; a newer one is needed for this survey"
        problems.append(Problem(file, says, None, "format", str(version)))
    found: dict[str, Any] = {}
    for name in ("title", "site", "notes"):
        value = values.pop(name, None)
        if value is not None and not isinstance(value, str):
            problems.append(Problem(file, "expected text", None, name, str(value)))
        else:
            found[name] = value
    taken = values.pop("taken_at", None)
    if isinstance(taken, str):
        try:
            taken = datetime.fromisoformat(taken)
        except ValueError:
            taken = date.min
    if taken is not None and not isinstance(taken, datetime):
        problems.append(Problem(file, "expected a date and time such as 2026-05-04T06:00:00Z", None, "taken_at"))
        taken = None
    found["complete"] = _complete(values.pop("complete", []), file, problems)
    extra = tuple((str(name), str(value)) for name, value in values.items())
    return Info(taken_at=taken, extra=extra, **found)


def _complete(value: object, file: str, problems: list[Problem]) -> tuple[str, ...]:
    """The tables that a survey says were read in full of every device."""
    names = value if isinstance(value, list) else [value]
    for name in names:
        if name not in READ_IN_FULL:
            says = f"expected a list of tables that can be complete: {', '.join(READ_IN_FULL)}"
            problems.append(Problem(file, says, None, "complete", str(name)))
    return tuple(name for name in READ_IN_FULL if name in names)
