"""The commands that ask about pairs of hosts: why, matrix, rehearse."""

from __future__ import annotations

import sys
from enum import StrEnum
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import msgspec
import typer

from crossthread.cli.input import any_survey, load
from crossthread.cli.options import FAULTY, Json, SurveyPath, app, usage_error
from crossthread.cli.output import emit
from crossthread.errors import UnknownNameError, visible
from crossthread.network import Network

if TYPE_CHECKING:
    from crossthread.plan import Plan
    from crossthread.questions.why_all import WhyAll
    from crossthread.questions.why_answer import Why


_SINGLY = 400
"""For so many hosts every pair is listed."""
_FEW = 1000
"""For so many hosts it is quickly worked out who else gains and loses by each step of a repair."""


class Form(StrEnum):
    """A machine form of a repair."""

    CHANGES = "changes"
    YANG = "yang"
    COMMANDS = "commands"


@app.command("why")
def why_command(
    survey: SurveyPath,
    source: Annotated[
        str | None,
        typer.Argument(metavar="[A]", help="A host, a device, or what has an address: by name, IP or MAC address."),
    ] = None,
    target: Annotated[str | None, typer.Argument(metavar="[B]", help="Another one.")] = None,
    every: Annotated[
        bool, typer.Option("--all", help="Instead of two hosts: every pair that should work, and what mends them all.")
    ] = False,
    seat: Annotated[
        str | None, typer.Option("--seat", metavar="DEVICE", help="The device you are connected to: far ends go first.")
    ] = None,
    plan: Annotated[str | None, typer.Option("--plan", metavar="FILE", help="What was intended.")] = None,
    touches: Annotated[
        bool | None,
        typer.Option(
            "--touches/--no-touches",
            help="Say of each step which other pairs of hosts gain and lose by it.",
            show_default=f"for up to {_FEW:,} hosts",
        ),
    ] = None,
    via: Annotated[
        str | None, typer.Option("--via", metavar="DEVICE", help="Ask about a certain way: by this device.")
    ] = None,
    steps: Annotated[
        bool,
        typer.Option("--steps", help="Only which ping breaks first: own gateway, next device, far gateway, far end."),
    ] = False,
    figure: Annotated[str | None, typer.Option("--figure", metavar="FILE", help="Also draw it: .png or .svg.")] = None,
    form: Annotated[
        Form | None, typer.Option("--as", help="Print only the repair: as changes, YANG instance data, or commands.")
    ] = None,
    brief: Annotated[bool, typer.Option("--brief", help="Leave out the facts and the way.")] = False,
    json: Json = False,
) -> None:
    """Why A does not reach B: the verdict, every fault there and back, the work to do in order, the way hop by hop."""
    from crossthread.cli.input import load_plan
    from crossthread.faces.terminal.why import show_why
    from crossthread.questions.why import why

    if every == (target is not None) or (every and (source or via or figure or touches or brief or steps)):
        usage_error(
            "expected two hosts or devices A and B, or --all without any (it takes --plan, --seat, --as and --json)"
        )
    intended = load_plan(plan) if plan else None
    network = Network(load(survey))
    if every:
        _why_every(network, intended, seat, form, json)
        return
    assert source is not None
    assert target is not None
    if steps:
        if via or figure or form or touches or brief:
            usage_error("--steps takes --plan and --json only")
        _why_steps(network, (source, target), intended, json)
        return
    try:
        if via is not None:
            from crossthread.questions.why_via import why_via

            answer = why_via(network, source, target, via, seat, intended)
        else:
            answer = why(network, source, target, seat, intended)
    except UnknownNameError as error:
        usage_error(str(error))
    if touches is None:
        touches = form is None and not brief and len(network.survey.hosts) <= _FEW
    if touches and answer.order:
        answer = _touched(network, answer)
    if figure is not None:
        from crossthread.cli.output import draw
        from crossthread.faces.pictures.overlay import why_overlay
        from crossthread.views.map import map_network

        drawn = map_network(network)
        draw(drawn, figure, network.survey.info.title, why_overlay(answer, drawn))
    if form is not None:
        doubt = None if answer.repair_proven else answer.unproven or "packets may still go another way"
        _print_repair(network, answer, form, doubt)
    else:
        emit(answer, partial(show_why, brief=brief), json)
    if answer.verdict != "works":
        raise typer.Exit(FAULTY)


def _why_steps(network: Network, pair: tuple[str, str], plan: Plan | None, json: bool) -> None:
    from crossthread.faces.terminal.why import show_steps
    from crossthread.questions.why_steps import why_steps

    try:
        answer = why_steps(network, *pair, plan)
    except UnknownNameError as error:
        usage_error(str(error))
    emit(answer, show_steps, json)
    if answer.breaks is not None or answer.breaks_back is not None:
        raise typer.Exit(FAULTY)


def _print_repair(network: Network, answer: Why | WhyAll, form: Form, doubt: str | None) -> None:
    """A repair in a machine form, and nothing else, on standard output; what it leaves open goes to standard error."""
    from crossthread.answer import json_of as as_json
    from crossthread.faces.scripts.commands import as_commands
    from crossthread.faces.scripts.instance_data import as_instance_data

    if answer.order and doubt:
        print(f"not proven: {doubt}", file=sys.stderr)
    if form is Form.COMMANDS:
        print(as_commands(network, answer.order))
    else:
        print(as_json(answer.repair if form is Form.CHANGES else as_instance_data(network, answer.repair)))


def _why_every(network: Network, plan: Plan | None, seat: str | None, form: Form | None, json: bool) -> None:
    from crossthread.cli.progress import progress
    from crossthread.faces.terminal.why_all import show_why_all
    from crossthread.questions.why_all import why_all

    if seat is not None and network.names.device(seat) is None:
        usage_error(f"there is no device “{visible(seat)}” in this survey")
    with progress("pairs", len(network.survey.hosts)) as advance:
        answer = why_all(network, plan, seat, advance)
    if form is not None:
        left = answer.then.wanted - answer.then.works
        _print_repair(network, answer, form, f"{left} wanted pairs still do not work" if left else None)
    else:
        emit(answer, show_why_all, json)
    if answer.now.works < answer.now.wanted:
        raise typer.Exit(FAULTY)


def _touched(network: Network, answer: Why) -> Why:
    from crossthread.cli.progress import progress
    from crossthread.diagnosis.repair.harm.side_effects import with_touches

    with progress("steps", len(answer.order), 1 if len(network.survey.hosts) > 500 else 99) as advance:
        return msgspec.structs.replace(answer, order=with_touches(network, answer.order, advance))


@app.command("matrix")
def matrix_command(
    survey: SurveyPath,
    things: Annotated[
        list[str] | None, typer.Argument(metavar="[THING]...", help="Only among these: hosts, devices, addresses.")
    ] = None,
    classes: Annotated[
        bool | None,
        typer.Option(
            "--classes/--each",
            help="Take hosts together that the network cannot tell apart, or list each.",
            show_default=f"together for more than {_SINGLY} hosts",
        ),
    ] = None,
    before: Annotated[
        str | None, typer.Option("--before", metavar="SURVEY", help="What changed since an earlier survey.")
    ] = None,
    after: Annotated[
        list[str] | None,
        typer.Option("--after", metavar="CHANGE", help="What changes would do: JSON or a file; each is one step."),
    ] = None,
    plan: Annotated[str | None, typer.Option("--plan", metavar="FILE", help="What was intended.")] = None,
    json: Json = False,
) -> None:
    """Who reaches whom: every ordered pair of hosts; or what becomes of it by changes."""
    from crossthread.cli.progress import progress
    from crossthread.faces.terminal.matrix import show_classes, show_matrix
    from crossthread.views.class_matrix import class_matrix
    from crossthread.views.matrix import matrix, matrix_among

    if bool(before) + bool(after) + (classes is not None) > 1:
        usage_error("expected only one of --classes, --each, --before and --after")
    network = Network(load(survey))
    if things:
        if len(things) < 2 or before or after or classes is not None:
            usage_error("expected at least two things, without --classes, --each, --before and --after")
        try:
            emit(matrix_among(network, things), show_matrix, json)
        except UnknownNameError as error:
            usage_error(str(error))
        return
    if before or after:
        _matrix_change(network, before, after or [], plan, json)
        return
    if classes is None and len(network.survey.hosts) > _SINGLY:
        typer.echo("notice: hosts that the network cannot tell apart are one row; --each lists all of them", err=True)
        classes = True
    if classes:
        with progress("classes", len(network.classes.all)) as advance:
            compact = class_matrix(network, advance)
        emit(compact, show_classes, json)
        return
    with progress("hosts", len(network.survey.hosts)) as advance:
        answer = matrix(network, advance)
    emit(answer, show_matrix, json)


def _matrix_change(network: Network, before: str | None, after: list[str], plan: str | None, json: bool) -> None:
    from crossthread.cli.input import load_changes, load_plan
    from crossthread.cli.progress import progress
    from crossthread.faces.terminal.matrix import show_change
    from crossthread.questions.matrix_change import matrix_after, matrix_before
    from crossthread.survey import SurveyError

    intended = load_plan(plan) if plan else None
    if before is not None:
        answer, names = matrix_before(network, load(before), intended), ["before", "now"]
    else:
        steps = [load_changes([given]) for given in after]
        names = ["now", *(f"after step {number}" for number in range(1, len(steps) + 1))]
        try:
            with progress("steps", len(steps), 1 if len(network.survey.hosts) > 500 else len(steps) + 1) as advance:
                answer = matrix_after(network, steps, intended, advance)
        except SurveyError as error:
            usage_error("\n".join(map(str, error.problems)))
    emit(answer, lambda found, out: show_change(found, names, out), json)


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
    """What changes would do, tried on a copy: pairs mended and broken, devices cut off, findings, trees that move."""
    from crossthread.cli.input import load_changes, load_plan
    from crossthread.cli.progress import progress
    from crossthread.faces.terminal.rehearse import show_rehearsal
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
        with progress("steps", len(edits), 1 if len(network.survey.hosts) > 500 else len(edits) + 1) as advance:
            answer = rehearse(network, edits, intended, advance)
        if write is not None:
            if Path(write).exists() and any_survey(write):
                usage_error(f"there is something at {visible(write, 200)} already; expected a new place")
            write_survey(apply_changes(network.told, edits), write)
    except UnknownNameError as error:
        usage_error(str(error))
    except SurveyError as error:
        usage_error("\n".join(map(str, error.problems)))
    except OSError as error:
        usage_error(f"the survey cannot be written to {visible(write or '', 200)}: {error.strerror}")
    emit(answer, partial(show_rehearsal, changes=edits), json)
    if answer.broken or answer.unmanaged:
        raise typer.Exit(FAULTY)
