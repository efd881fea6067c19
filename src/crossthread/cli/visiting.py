"""The command that goes from one address to the whole campus."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from time import monotonic
from typing import TYPE_CHECKING, Annotated

import typer

from crossthread.cli.input import any_survey, load, told_problems
from crossthread.cli.options import FAULTY, Json, app, usage_error
from crossthread.cli.output import add_to_survey, emit
from crossthread.errors import VisitError

if TYPE_CHECKING:
    from crossthread.live.account import Standing


@app.command("visit")
def visit_command(
    start: Annotated[list[str], typer.Argument(metavar="START...", help="Addresses of devices to begin with.")],
    within: Annotated[
        list[str], typer.Option("--within", metavar="PREFIX", help="Nobody outside is asked; may be repeated.")
    ],
    access: Annotated[str, typer.Option("--access", metavar="FILE", help="How devices may be read: an access file.")],
    into: Annotated[str, typer.Option("--into", metavar="SURVEY", help="The survey to write or to add to.")],
    also: Annotated[
        list[str] | None,
        typer.Option("--also", metavar="PREFIX", help="Ask every address of it, named by somebody or not."),
    ] = None,
    hops: Annotated[
        int | None, typer.Option("--hops", metavar="N", help="How many devices to go on.", min=0, show_default="all")
    ] = None,
    at_once: Annotated[int, typer.Option("--at-once", metavar="N", help="Devices at a time.", min=1, max=4096)] = 64,
    patience: Annotated[
        float, typer.Option("--patience", metavar="SECONDS", help="How long to wait for an answer.", min=0.1, max=60)
    ] = 2.0,
    tries: Annotated[int, typer.Option("--tries", metavar="N", help="How often to ask a thing.", min=1, max=20)] = 3,
    again: Annotated[bool, typer.Option("--again", help="Ask those, too, that were read before.")] = False,
    dry_run: Annotated[bool, typer.Option("--dry-run", help="Say who would be asked how, and ask nobody.")] = False,
    json: Json = False,
) -> None:
    """From one address to the whole campus: read each device, go on to its neighbours, and make the survey."""
    from crossthread.faces.terminal.gather import show_added_walks
    from crossthread.faces.terminal.visit import show_planned, show_visit
    from crossthread.live.access import read_access
    from crossthread.live.visit_folder import walks_beside
    from crossthread.live.visiting import planned, visit

    entries = told_problems(lambda: read_access(access))
    if Path(into).exists() and any_survey(into):
        load(into)  # what cannot be read is said before anybody is asked
    folder = walks_beside(into)
    prefixes, sweeps = _words(within), _words(also or [])
    try:
        if dry_run:
            emit(planned(start, prefixes, entries, folder, also=sweeps), show_planned, json)
            return
        with standing() as progress:
            answer = visit(
                start,
                prefixes,
                entries,
                folder,
                also=sweeps,
                hops=hops,
                at_once=at_once,
                patience=patience,
                tries=tries,
                again=again,
                progress=progress,
            )
    except VisitError as error:
        usage_error(str(error))
    except KeyboardInterrupt:
        usage_error("the visit was interrupted; the same command goes on where it was")
    emit(answer, show_visit, json)
    if answer.walks:
        summary = add_to_survey(answer.walks, into)
        if not json:
            emit(summary, show_added_walks, json)
    if any(device.status not in ("complete", "same device") for device in answer.devices):
        raise typer.Exit(FAULTY)


def _words(texts: list[str]) -> list[str]:
    """Prefixes, however they were put: the option repeated, or several in one."""
    return [word for text in texts for word in text.replace(",", " ").split()]


@contextmanager
def standing() -> Iterator[Callable[[Standing], None] | None]:
    """A line on standard error that says how a visit stands, if that is a terminal."""
    if not sys.stderr.isatty():
        yield None
        return
    from rich.console import Console
    from rich.live import Live
    from rich.text import Text

    began = monotonic()
    with Live(console=Console(stderr=True), transient=True, auto_refresh=False) as shown:

        def draw(standing: Standing) -> None:
            speed = standing.objects / max(monotonic() - began, 0.1)
            says = f"{standing.done} done, {standing.asking} being asked, {standing.waiting} waiting"
            silent = f", {standing.silent} silent" if standing.silent else ""
            shown.update(Text(f"visiting: {says}{silent}; {speed:,.0f} objects a second"), refresh=True)

        yield draw
