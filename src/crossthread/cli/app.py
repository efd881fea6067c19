"""All commands, in the order in which people come to need them."""

from __future__ import annotations

import gc
import os
import sys
from pathlib import Path
from typing import Annotated

import typer

from crossthread.cli import mapping, checking, trees, asking  # isort: skip  (the order of the help)
from crossthread.cli.running import app

__all__ = ["asking", "checking", "main", "mapping", "trees"]


@app.command("demo")
def demo_command(
    folder: Annotated[Path, typer.Argument(metavar="FOLDER", help="Where the demo's surveys are written.")] = Path(
        "crossthread-demo"
    ),
    pause: Annotated[bool, typer.Option("--pause", help="Wait for Enter after each step.")] = False,
) -> None:
    """A walk through all commands on a made-up museum campus, whose surveys are written for you to edit."""
    from crossthread.cli.tour import tour

    tour(folder, pause)


def main() -> None:
    """Run the command line; ends the process with its exit status."""
    gc.disable()  # records hold no cycles, and looking for them among a million takes longer than most questions
    try:
        app(prog_name="crossthread")
    except BrokenPipeError:  # the reader of our output has gone, as `head` does
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        raise SystemExit(0) from None
