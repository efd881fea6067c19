"""The commands that ask about pairs of hosts: why, matrix."""

from __future__ import annotations

from typing import Annotated

import typer

from crossthread.cli.running import (
    FAULTY,
    Json,
    SurveyPath,
    app,
    emit,
    load,
    usage_error,
)
from crossthread.network import Network
from crossthread.questions.hosts import UnknownHostError


@app.command("why")
def why_command(
    survey: SurveyPath,
    source: Annotated[str, typer.Argument(metavar="A", help="A host: by name, IP address or MAC address.")],
    target: Annotated[str, typer.Argument(metavar="B", help="Another host.")],
    json: Json = False,
) -> None:
    """Why A does not reach B: the verdict, every fault on the way there and back, the mend, the way hop by hop."""
    from crossthread.faces.why import show_why
    from crossthread.questions.why import why

    try:
        answer = why(Network(load(survey)), source, target)
    except UnknownHostError as error:
        usage_error(str(error))
    emit(answer, show_why, json)
    if answer.verdict != "works":
        raise typer.Exit(FAULTY)


@app.command("matrix")
def matrix_command(survey: SurveyPath, json: Json = False) -> None:
    """Who reaches whom: every ordered pair of hosts."""
    from crossthread.cli.running import progress
    from crossthread.faces.matrix import show_matrix
    from crossthread.questions.matrix import matrix

    network = Network(load(survey))
    with progress("hosts", len(network.survey.hosts)) as advance:
        answer = matrix(network, advance)
    emit(answer, show_matrix, json)
