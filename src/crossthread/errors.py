"""What can go wrong, in one tree of exceptions, each said so that a person can go and mend it.

CrossThreadError
SurveyError        what was given cannot be used: a survey, a plan, a change; with every problem in it
UnknownNameError   nothing in the survey goes by this name, or it is not clear what does
UnreadableError    a file of a known format is broken
ListeningError     an interface of this machine cannot be listened on
VisitError         devices cannot be visited, or what they tell cannot be kept
"""

from __future__ import annotations

import msgspec


def visible(text: str, width: int = 60) -> str:
    """A value from outside as one short line: control characters escaped, the rest cut at `width`."""
    if len(text) <= width and text.isprintable():
        return text
    shown = "".join(c if c.isprintable() else c.encode("unicode_escape").decode() for c in text[: width + 1])
    return shown if len(text) <= width else shown[: width - 1] + "…"


class Problem(msgspec.Struct, frozen=True):
    """One thing that cannot be read: where it stands, what stands there, and what was expected."""

    file: str
    says: str
    line: int | None = None
    column: str | None = None
    value: str | None = None
    row: int | None = None
    """Of a table that was made by hand: which row, from 1 on."""

    def __str__(self) -> str:
        where = visible(self.file, 200) + (f":{self.line}" if self.line else f" row {self.row}" if self.row else "")
        what = f" {visible(self.column)}" if self.column is not None else ""
        value = f" “{visible(self.value)}”" if self.value is not None else ""
        return f"{where}:{what}{value}: {self.says}" if what or value else f"{where}: {self.says}"


class CrossThreadError(Exception):
    """The base of all that Cross Thread raises on purpose."""


class SurveyError(CrossThreadError):
    """A survey that cannot be read, or a change that cannot be made to it.

    Attributes
    ----------
    problems
        Every problem that was found, in the order of files and lines.
    """

    def __init__(self, problems: list[Problem]) -> None:
        super().__init__("\n".join(map(str, problems)))
        self.problems = tuple(problems)


class ListeningError(CrossThreadError):
    """An interface of this machine cannot be listened on; one sentence says why, and what to do about it."""


class VisitError(CrossThreadError):
    """Devices cannot be visited as it was asked for, or what they tell cannot be kept; one sentence says why."""


class UnknownNameError(CrossThreadError):
    """Nothing in the survey goes by this name, address or number, or it is not clear what does; one sentence."""


class UnreadableError(CrossThreadError):
    """A file of a known format that is broken; the message is one sentence with what was expected."""
