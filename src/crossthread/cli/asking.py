"""The commands that ask about pairs of hosts: why, matrix, rehearse."""

from __future__ import annotations

from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import msgspec
import typer

from crossthread.cli.running import (
    FAULTY,
    Json,
    SurveyPath,
    any_survey,
    app,
    emit,
    load,
    usage_error,
)
from crossthread.network import Network
from crossthread.questions.hosts import UnknownHostError
from crossthread.survey.problems import visible

if TYPE_CHECKING:
    from crossthread.questions.why import Why


@app.command("why")
def why_command(
    survey: SurveyPath,
    source: Annotated[str, typer.Argument(metavar="A", help="A host: by name, IP address or MAC address.")],
    target: Annotated[str, typer.Argument(metavar="B", help="Another host.")],
    seat: Annotated[
        str | None, typer.Option("--seat", metavar="DEVICE", help="The device you are connected to: far ends go first.")
    ] = None,
    plan: Annotated[str | None, typer.Option("--plan", metavar="FILE", help="What was intended.")] = None,
    touches: Annotated[
        bool, typer.Option("--touches", help="Say of each step which other pairs of hosts gain and lose by it.")
    ] = False,
    via: Annotated[
        str | None, typer.Option("--via", metavar="DEVICE", help="Ask about a certain way: by this device.")
    ] = None,
    figure: Annotated[str | None, typer.Option("--figure", metavar="FILE", help="Also draw it: .png or .svg.")] = None,
    brief: Annotated[bool, typer.Option("--brief", help="Leave out the facts and the way.")] = False,
    json: Json = False,
) -> None:
    """Why A does not reach B: the verdict, every fault there and back, the work to do in order, the way hop by hop."""
    from crossthread.cli.running import load_plan
    from crossthread.faces.why import show_why
    from crossthread.questions.why import why

    network = Network(load(survey))
    intended = load_plan(plan) if plan else None
    try:
        if via is not None:
            from crossthread.questions.via import why_via

            answer = why_via(network, source, target, via, seat, intended)
        else:
            answer = why(network, source, target, seat, intended)
    except UnknownHostError as error:
        usage_error(str(error))
    if touches and answer.order:
        answer = _touched(network, answer)
    if figure is not None:
        from crossthread.cli.running import draw
        from crossthread.faces.overlay import why_overlay
        from crossthread.questions.map import map_network

        drawn = map_network(network)
        draw(drawn, figure, network.survey.info.title, why_overlay(answer, drawn))
    emit(answer, partial(show_why, brief=brief), json)
    if answer.verdict != "works":
        raise typer.Exit(FAULTY)


def _touched(network: Network, answer: Why) -> Why:
    from crossthread.cli.running import progress
    from crossthread.questions.touches import with_touches

    with progress("steps", len(answer.order)) as advance:
        return msgspec.structs.replace(answer, order=with_touches(network, answer.order, advance))


@app.command("matrix")
def matrix_command(
    survey: SurveyPath,
    classes: Annotated[
        bool, typer.Option("--classes", help="Take hosts together that the network cannot tell apart.")
    ] = False,
    json: Json = False,
) -> None:
    """Who reaches whom: every ordered pair of hosts."""
    from crossthread.cli.running import progress
    from crossthread.faces.matrix import show_classes, show_matrix
    from crossthread.questions.matrix import class_matrix, matrix

    network = Network(load(survey))
    if classes:
        with progress("classes", len(network.classes.all)) as advance:
            compact = class_matrix(network, advance)
        emit(compact, show_classes, json)
        return
    with progress("hosts", len(network.survey.hosts)) as advance:
        answer = matrix(network, advance)
    emit(answer, show_matrix, json)


@app.command("rehearse")
def rehearse_command(
    survey: SurveyPath,
    changes: Annotated[
        list[str] | None, typer.Argument(metavar="[CHANGE]...", help="Changes as JSON, or files of changes.")
    ] = None,
    repair_of: Annotated[
        tuple[str, str] | None, typer.Option("--repair-of", metavar="A B", help="The mends that `why A B` proposes.")
    ] = None,
    plan: Annotated[str | None, typer.Option("--plan", metavar="FILE", help="What was intended.")] = None,
    write: Annotated[
        str | None, typer.Option("--write", metavar="NEW_SURVEY", help="Write the changed survey there.")
    ] = None,
    json: Json = False,
) -> None:
    """What changes would do, tried on a copy: pairs mended and broken, findings gone and new, trees that move."""
    from crossthread.cli.running import load_changes, load_plan, progress
    from crossthread.faces.rehearse import show_rehearsal
    from crossthread.questions.rehearse import rehearse
    from crossthread.questions.why import why
    from crossthread.survey import SurveyError, write_survey
    from crossthread.survey.changes import apply_changes

    if bool(changes) == (repair_of is not None):
        usage_error("expected changes, or --repair-of A B")
    intended = load_plan(plan) if plan else None
    network = Network(load(survey))
    try:
        edits = load_changes(changes or [])
        if repair_of is not None:
            asked = why(network, *repair_of)
            edits = list(asked.repair)
            if not edits:
                usage_error(
                    f"`why` proposes no mend for {asked.source} and {asked.target}: the verdict is {asked.verdict}"
                )
        with progress("hosts", 2 * len(network.survey.hosts)) as advance:
            answer = rehearse(network, edits, intended, advance)
        if write is not None:
            if Path(write).exists() and any_survey(write):
                usage_error(f"there is something at {visible(write, 200)} already; expected a new place")
            write_survey(apply_changes(network.survey, edits), write)
    except UnknownHostError as error:
        usage_error(str(error))
    except SurveyError as error:
        usage_error("\n".join(map(str, error.problems)))
    except OSError as error:
        usage_error(f"the survey cannot be written to {visible(write or '', 200)}: {error.strerror}")
    emit(answer, show_rehearsal, json)
    if answer.broken:
        raise typer.Exit(FAULTY)
