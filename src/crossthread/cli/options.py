"""What all commands share: the application, options, exit statuses, and how a wrong one ends."""

from __future__ import annotations

from typing import Annotated, NoReturn

import typer

from crossthread.network import Network
from crossthread.values import VID_MAX

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


def usage_error(says: str) -> NoReturn:
    """End with status 2 and one sentence."""
    typer.echo(says, err=True)
    raise typer.Exit(USAGE)


def expect_vlan(network: Network, vlan: int | None) -> None:
    """End with status 2 if a VLAN is none that a survey speaks of."""
    from crossthread.network.switching.known_vids import speaks_of

    if vlan is not None and not (vlan > 0 and speaks_of(network.survey, vlan)):
        usage_error(f"the survey does not speak of VLAN {vlan}; expected a VID from 1 to {VID_MAX} that it has")
