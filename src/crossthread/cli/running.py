"""What every command does around its question: reading the survey, printing, exit statuses."""

from __future__ import annotations

import csv
import sys
from collections.abc import Callable, Iterator, Sequence
from contextlib import ExitStack, contextmanager
from pathlib import Path
from time import monotonic
from typing import TYPE_CHECKING, Annotated, Any, NoReturn, TypeVar

import msgspec
import typer

from crossthread.errors import visible
from crossthread.survey import Survey, SurveyError, read_survey
from crossthread.survey.changes import Change
from crossthread.values import VID_MAX

if TYPE_CHECKING:
    from crossthread.faces.pictures.overlay import Overlay
    from crossthread.network import Network
    from crossthread.plan import Plan
    from crossthread.sources.table_mapping import TableMapping
    from crossthread.views.drawing import Cable
    from crossthread.views.map import Map

app = typer.Typer(
    name="crossthread",
    help="Finds why hosts on a campus switched network cannot reach each other, from what the network says of itself.",
    no_args_is_help=True,
    add_completion=False,
    pretty_exceptions_enable=False,
    rich_markup_mode=None,
)
SurveyPath = Annotated[str, typer.Argument(metavar="SURVEY", help="A survey: a folder, or a .json or .json.gz file.")]
Json = Annotated[bool, typer.Option("--json", help="Print the answer as one JSON object.")]

FAULTY, USAGE, UNREADABLE = 1, 2, 3
"""Exit statuses: something is wrong in the network; with the command; with the input."""

_MANY = 200
_REDRAWN = 0.1
"""After how many seconds a progress bar is drawn again."""
_Answer = TypeVar("_Answer")


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

    try:
        return read_plan(path)
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


def usage_error(says: str) -> NoReturn:
    """End with status 2 and one sentence."""
    typer.echo(says, err=True)
    raise typer.Exit(USAGE)


def expect_vlan(network: Network, vlan: int | None) -> None:
    """End with status 2 if a VLAN is none that a survey speaks of."""
    if vlan is not None and not (vlan > 0 and network.fabric.known >> vlan & 1):
        usage_error(f"the survey does not speak of VLAN {vlan}; expected a VID from 1 to {VID_MAX} that it has")


def draw(answer: Map, path: str, title: str | None, overlay: Overlay | None = None) -> None:
    """Draw a map into a file, or end with status 2 and why it cannot be."""
    from crossthread.faces.pictures.map_figure import draw_map

    try:
        draw_map(answer, Path(path), title, overlay)
    except ValueError as error:
        usage_error(f"expected {error}")
    except OSError as error:
        usage_error(f"the figure cannot be written to {visible(path, 200)}: {error.strerror}")


def write_export(answer: Map, path: str) -> None:
    """Write a map for another program, in the format that the file's name tells."""
    from crossthread.faces.documents.exports import as_dot, as_graphml
    from crossthread.faces.documents.json import as_json

    forms = {".graphml": as_graphml, ".dot": as_dot, ".json": as_json}
    form = forms.get(Path(path).suffix.lower())
    if form is None:
        usage_error(f"expected a file name that ends in {', '.join(forms)} instead of “{visible(path, 200)}”")
    write_text(path, form(answer))


def write_text(path: str, text: str) -> None:
    """Write a file whole, or end with status 2 and why it cannot be."""
    from crossthread.survey.writing import replace_file

    try:
        replace_file(Path(path), text.encode())
    except OSError as error:
        usage_error(f"{visible(path, 200)} cannot be written: {error.strerror}")


def load_drawing(path: str) -> list[Cable]:
    """Read a documented list of cables; print every error and end with status 3 if it cannot be read."""
    from crossthread.views.drawing import Cable

    columns = ("device", "port", "far_device", "far_port")
    try:
        with open(path, newline="", encoding="utf-8-sig") as file:
            reader = csv.DictReader(file, strict=True)
            rows = [(reader.line_num, row) for row in reader]
    except (OSError, UnicodeDecodeError, csv.Error) as error:
        typer.echo(f"{visible(path, 200)} cannot be read: {getattr(error, 'strerror', None) or error}", err=True)
        raise typer.Exit(UNREADABLE) from None
    wrong = [f"{visible(path, 200)}:1: expected a column {c}" for c in columns if c not in (reader.fieldnames or ())]
    if not wrong:
        wrong = [
            f"{visible(path, 200)}:{n}: {c}: empty, expected a name" for n, row in rows for c in columns if not row[c]
        ]
    for says in wrong:
        typer.echo(says, err=True)
    if wrong:
        raise typer.Exit(UNREADABLE)
    return [Cable(*(row[column].strip() for column in columns)) for _, row in rows]


def emit(answer: _Answer, face: Callable[[_Answer, Any], None], json: bool) -> None:
    """Print an answer: as JSON, or by its face."""
    if json:
        from crossthread.faces.documents.json import as_json

        print(as_json(answer))
        return
    from crossthread.faces.terminal.console import console

    face(answer, console())


@contextmanager
def progress(what: str, total: int | Callable[[], int], many: int = _MANY) -> Iterator[Callable[..., None]]:
    """A progress bar on standard error for long work, if that is a terminal.

    A total that takes work to know is asked for with the first step; only if `many` is 0 the bar is there before it.
    """
    if not sys.stderr.isatty():
        yield lambda _=1: None
        return
    with ExitStack() as shown:
        draw = shown.enter_context(_bar(what)) if not many else None
        done, known = 0, None if callable(total) else total

        def advance(steps: int = 1) -> None:
            nonlocal draw, done, known
            if known is None:
                known = total() if callable(total) else total
            if draw is None and known >= many:
                draw = shown.enter_context(_bar(what))
            done += steps
            if draw is not None:
                draw(done, known)

        yield advance


@contextmanager
def _bar(what: str) -> Iterator[Callable[[int, int], None]]:
    """A bar that is drawn by what it counts, and by no thread: a process with threads is not copied."""
    from rich.console import Console
    from rich.progress import Progress

    with Progress(console=Console(stderr=True), transient=True, auto_refresh=False) as bar:
        task, drawn = bar.add_task(what, total=None), 0.0
        bar.refresh()

        def draw(done: int, total: int) -> None:
            nonlocal drawn
            if monotonic() - drawn > _REDRAWN:
                bar.update(task, completed=done, total=total, refresh=True)
                drawn = monotonic()

        yield draw
