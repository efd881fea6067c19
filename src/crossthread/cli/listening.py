"""The commands at a desk: what a capture says of the cable that it was taken on, and listening on it now."""

from __future__ import annotations

import sys
from datetime import UTC, datetime
from pathlib import Path
from typing import Annotated

import typer

from crossthread.cli.options import Json, app, usage_error
from crossthread.cli.output import add_to_survey, emit
from crossthread.errors import ListeningError, visible


@app.command("desk")
def desk_command(
    source: Annotated[
        str, typer.Argument(metavar="FILE", help="A capture, or a discovery daemon's neighbours as JSON.")
    ],
    json: Json = False,
) -> None:
    """At a desk: the switch and port at the other end of this cable, its VLANs, the trees, and who else talks here."""
    from crossthread.cli.input import told_problems
    from crossthread.faces.terminal.desk import show_desk
    from crossthread.sources.desk import desk

    emit(told_problems(lambda: desk(source)), show_desk, json)


@app.command("listen")
def listen_command(
    interface: Annotated[str, typer.Argument(metavar="INTERFACE", help="An Ethernet interface of this machine.")],
    seconds: Annotated[float, typer.Option("--for", metavar="SECONDS", help="For how long.", min=1, max=86_400)] = 65,
    first: Annotated[bool, typer.Option("--first", help="End as soon as a switch has said which port it is.")] = False,
    into: Annotated[
        str | None, typer.Option("--into", metavar="SURVEY", help="Keep what was heard, and add it to this survey.")
    ] = None,
    json: Json = False,
) -> None:
    """At a desk, now: listen on an interface, and say the switch, port and VLANs as soon as they are heard."""
    from crossthread.cli.progress import progress
    from crossthread.faces.terminal.desk import heard_line, show_desk
    from crossthread.faces.terminal.gather import show_added
    from crossthread.live.listening import listen

    keep = _file_beside(Path(into), interface) if into is not None else None
    # by plain print: a progress bar on the terminal then makes room for it
    heard = None if json or first else lambda answer: print(heard_line(answer), file=sys.stderr)
    try:
        with progress(f"listening on {visible(interface)}", round(seconds), many=0) as advance:
            answer = listen(interface, seconds, first, keep, heard, advance)
    except ListeningError as error:
        usage_error(str(error))
    except OSError as error:
        usage_error(f"what was heard cannot be written to {visible(str(keep), 200)}: {error.strerror}")
    emit(answer, show_desk, json)
    if into is not None and answer.kept is not None:
        summary = add_to_survey([answer.kept], into)
        if not json:
            emit(summary, show_added, json)


def _file_beside(survey: Path, interface: str) -> Path:
    """Where what is heard for a survey is kept: a file for each time, in a folder beside the survey."""
    name = survey.resolve().name.partition(".json")[0]
    own = "".join(c if c.isascii() and (c.isalnum() or c in "-_") else "_" for c in interface)
    return survey.resolve().parent / f"{name}.heard" / f"{own}-{datetime.now(UTC):%Y%m%dT%H%M%SZ}.pcap"
