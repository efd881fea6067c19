"""The command about spanning trees."""

from __future__ import annotations

from typing import Annotated

import typer

from crossthread.cli.input import load, load_changes
from crossthread.cli.options import Json, SurveyPath, app, expect_vlan, usage_error
from crossthread.cli.output import emit
from crossthread.cli.progress import progress
from crossthread.errors import UnknownNameError, visible
from crossthread.network import Network
from crossthread.survey import SurveyError
from crossthread.survey.changes import Change


@app.command("tree")
def tree_command(
    survey: SurveyPath,
    vlan: Annotated[int | None, typer.Option("--vlan", metavar="VID", help="The tree that this VLAN follows.")] = None,
    instance: Annotated[int | None, typer.Option("--instance", metavar="N", help="A tree by its number.")] = None,
    figure: Annotated[str | None, typer.Option("--figure", metavar="FILE", help="Also draw it: .png or .svg.")] = None,
    ways: Annotated[
        bool, typer.Option("--ways", help="Detours, idle links, and what is lost if a link or device fails.")
    ] = False,
    without: Annotated[
        str | None, typer.Option("--without", metavar="DEVICE[:PORT]", help="What is lost without a link or device.")
    ] = None,
    advice: Annotated[bool, typer.Option("--advice", help="Which root and backup root each tree should have.")] = False,
    change: Annotated[
        list[str] | None,
        typer.Option("--change", metavar="JSON", help="What a change would do; or a file of changes."),
    ] = None,
    json: Json = False,
) -> None:
    """Who is root and why, what blocks and because of what, and which way frames really go."""
    from crossthread.faces.terminal import tree as faces
    from crossthread.views.tree import instance_of, tree, tree_overview

    if (vlan is not None and instance is not None) or ways + (without is not None) + advice > 1:
        usage_error("expected one of --vlan and --instance, and one of --ways, --without and --advice")
    network = Network(load(survey))
    edits = load_changes(change) if change else []
    if edits and (advice or ways or without is not None or figure is not None):
        network, edits = _changed(network, edits), []
    if advice:
        from crossthread.questions.tree_advice import tree_advice

        emit(tree_advice(network), faces.show_advice, json)
        return
    if ways or without is not None:
        _ways(network, without, json)
        return
    expect_vlan(network, vlan)
    try:
        number = instance_of(network, vlan) if vlan is not None else instance
    except UnknownNameError as error:
        usage_error(str(error))
    known = {row.instance for rows in network.fabric.trees.bridges.values() for row in rows}
    if number is None and len(known) == 1 and (figure or edits):
        number = next(iter(known))
    if number is None:
        if figure or edits:
            usage_error("this survey has several trees; expected --vlan or --instance as well")
        emit(tree_overview(network), faces.show_overview, json)
        return
    if number not in known:
        listed = ", ".join(map(str, sorted(known))) or "none"
        usage_error(f"there is no tree {number} in this survey; it has {listed}")
    if edits:
        from crossthread.questions.tree_change import tree_change

        _changed(network, edits)
        emit(tree_change(network, number, edits), faces.show_tree_change, json)
        return
    found = tree(network, number)
    if figure is not None:
        from crossthread.cli.output import draw
        from crossthread.faces.pictures.overlay import tree_overlay
        from crossthread.views.map import map_network

        drawn = map_network(network)
        draw(drawn, figure, network.survey.info.title, tree_overlay(found, drawn))
    emit(found, faces.show_tree, json)


def _changed(network: Network, edits: list[Change]) -> Network:
    """A copy with the changes made, or the end with status 2 and what is wrong with them."""
    try:
        return network.changed(edits)
    except SurveyError as error:
        usage_error("\n".join(map(str, error.problems)))


def _ways(network: Network, without: str | None, json: bool) -> None:
    from crossthread.faces.terminal import tree as faces
    from crossthread.questions.tree_ways import failure_of, tree_ways

    if without is None:
        steps = len(network.adjacencies) + len(network.names.devices)
        with progress("letting each fail", steps) as advance:
            answer = tree_ways(network, advance)
        emit(answer, faces.show_ways, json)
        return
    try:
        emit(failure_of(network, without), faces.show_failure, json)
    except UnknownNameError as error:
        usage_error(visible(str(error), 300))
