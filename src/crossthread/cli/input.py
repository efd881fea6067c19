"""What comes in: surveys, plans, changes, mappings, drawings; each read, or the command ended with every error."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, TypeVar

import msgspec
import typer

from crossthread.cli.options import UNREADABLE
from crossthread.cli.progress import progress
from crossthread.errors import SurveyError, visible
from crossthread.survey import Survey, read_survey
from crossthread.survey.changes import Change

if TYPE_CHECKING:
    from crossthread.plan import Plan
    from crossthread.plan.drawing import DrawnCable
    from crossthread.sources.table_mapping import TableMapping

_Read = TypeVar("_Read")


def load(path: str) -> Survey:
    """Read a survey; print what was not understood, or every error and end with status 3."""
    try:
        with progress("reading", lambda: _octets(path), many=20_000_000) as advance:
            survey = read_survey(path, advance)
    except SurveyError as error:
        problems = error.problems
        if len(problems) > 1:
            typer.echo(f"{visible(path, 200)} cannot be read: {len(problems)} problems.", err=True)
        for problem in problems:
            typer.echo(str(problem), err=True)
        raise typer.Exit(UNREADABLE) from None
    for notice in survey.notices:
        typer.echo(f"notice: {notice}", err=True)
    return survey


def _octets(path: str) -> int:
    return sum(file.stat().st_size for file in Path(path).glob("*.csv"))


def load_plan(path: str) -> Plan:
    """Read a plan; print every error and end with status 3 if it cannot be read."""
    from crossthread.plan import read_plan

    return told_problems(lambda: read_plan(path))


def told_problems(read: Callable[[], _Read]) -> _Read:
    """What is read; every error is printed and the command ends with status 3 if it cannot be."""
    try:
        return read()
    except SurveyError as error:
        for problem in error.problems:
            typer.echo(str(problem), err=True)
        raise typer.Exit(UNREADABLE) from None


def load_changes(words: Sequence[str]) -> list[Change]:
    """Read changes: each word is one change as JSON, or a file with a JSON list of them; ends with status 3 if not."""
    found: list[Change] = []
    for word in words:
        text = word
        if not word.lstrip().startswith(("{", "[")):
            try:
                text = Path(word).read_text(encoding="utf-8")
            except (OSError, UnicodeDecodeError) as error:
                says = getattr(error, "strerror", None) or "not text"
                typer.echo(
                    f"{visible(word, 200)} cannot be read: {says}; expected a change as JSON or a file", err=True
                )
                raise typer.Exit(UNREADABLE) from None
        try:
            found += (
                [msgspec.json.decode(text, type=Change)]
                if text.lstrip()[:1] == "{"
                else msgspec.json.decode(text, type=list[Change])
            )
        except msgspec.MsgspecError as error:
            says = 'expected {"table": …, "key": {…}, "set": {…}}, or a list of such'
            typer.echo(f"{visible(word, 80)}: not a change ({visible(str(error), 200)}); {says}", err=True)
            raise typer.Exit(UNREADABLE) from None
    return found


def load_mapping(path: str) -> list[TableMapping]:
    """Read a mapping of tables; print every error and end with status 3 if it cannot be read."""
    from crossthread.sources.table_mapping import read_mapping

    try:
        return read_mapping(Path(path).read_text(encoding="utf-8"), path)
    except (OSError, UnicodeDecodeError) as error:
        typer.echo(f"{visible(path, 200)} cannot be read: {getattr(error, 'strerror', None) or 'not text'}", err=True)
    except SurveyError as error:
        for problem in error.problems:
            typer.echo(str(problem), err=True)
    raise typer.Exit(UNREADABLE)


def any_survey(path: str) -> bool:
    """Whether there is something to read at a place where a survey may be written: not an empty folder."""
    found = Path(path)
    return found.is_file() or any(found.iterdir())


def load_drawing(path: str) -> list[DrawnCable]:
    """Read a documented list of cables; print every error and end with status 3 if it cannot be read."""
    from crossthread.plan.drawing import read_drawing

    return told_problems(lambda: read_drawing(path))
