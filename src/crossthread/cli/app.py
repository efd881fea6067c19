"""All commands, in the order in which people come to need them."""

from __future__ import annotations

import os
import sys
from contextlib import suppress
from pathlib import Path
from typing import Annotated

import typer

from crossthread.cli import mapping, visiting, listening, checking, trees, asking  # isort: skip  (the order of the help)
from crossthread.cli.options import UNREADABLE, app
from crossthread.collector import held_still
from crossthread.errors import visible

__all__ = ["asking", "checking", "listening", "main", "mapping", "trees", "visiting"]


@app.command("demo")
def demo_command(
    folder: Annotated[Path, typer.Argument(metavar="FOLDER", help="Where the demo's surveys are written.")] = Path(
        "crossthread-demo"
    ),
    pause: Annotated[bool, typer.Option("--pause", help="Wait for Enter after each step.")] = False,
    live: Annotated[
        bool, typer.Option("--live", help="Start the campus's devices on this machine instead, and visit them.")
    ] = False,
) -> None:
    """A walk through all commands on a made-up museum campus, whose surveys are written for you to edit."""
    from crossthread.cli.tour import live_tour, tour

    live_tour(folder, pause) if live else tour(folder, pause)


def main() -> None:
    """Run the command line; ends the process with its exit status."""
    with held_still():  # one question is asked, and then the process ends: no garbage is looked for at its end either
        status = _status()
        with suppress(OSError):
            sys.stderr.flush()
        if isinstance(status, int):
            os._exit(status)  # taking a million records apart one by one would take longer than most questions, too
    raise SystemExit(status)


def _status() -> object:
    """Ask what the command line asks, and say how that went."""
    try:
        try:
            app(prog_name="crossthread")
            status: object = 0
        except SystemExit as end:
            status = end.code or 0
        sys.stdout.flush()
        return status
    except BrokenPipeError:  # the reader of our output has gone, as `head` does
        return 0
    except OSError as error:  # a full disk, say
        what = "the answer could not be written" if error.filename is None else visible(str(error.filename), 200)
        with suppress(OSError):
            typer.echo(f"{what}: {error.strerror or error}", err=True)
        return UNREADABLE
