"""The commands around the check: check, vlan, link, plan, findings."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from crossthread.cli.input import load, load_plan
from crossthread.cli.options import FAULTY, Json, SurveyPath, app, expect_vlan, usage_error
from crossthread.cli.output import emit, write_text
from crossthread.errors import UnknownNameError, visible
from crossthread.network import Network

_MANY = 20_000
"""From how many hosts on somebody waits before the first question is asked."""

plan_app = typer.Typer(help="The plan: what was intended.", no_args_is_help=True)
app.add_typer(plan_app, name="plan")


@app.command("check")
def check_command(
    survey: SurveyPath,
    plan: Annotated[str | None, typer.Option("--plan", metavar="FILE", help="What was intended.")] = None,
    only: Annotated[str | None, typer.Option("--only", metavar="NAME", help="Only findings of this name.")] = None,
    at: Annotated[
        str | None, typer.Option("--at", metavar="DEVICE[:PORT]", help="Only findings at this place.")
    ] = None,
    vlan: Annotated[int | None, typer.Option("--vlan", metavar="VID", help="Only findings about this VLAN.")] = None,
    severity: Annotated[
        str | None, typer.Option("--severity", metavar="WORD", help="breaks, risks, or note: this and worse.")
    ] = None,
    csv: Annotated[bool, typer.Option("--csv", help="Print CSV that is safe to open in a spreadsheet.")] = False,
    sarif: Annotated[bool, typer.Option("--sarif", help="Print SARIF 2.1 for code-review tools.")] = False,
    json: Json = False,
) -> None:
    """What is wrong: every host, port, link, VLAN and gateway against each other and the plan, worst first."""
    from crossthread.cli.progress import progress
    from crossthread.diagnosis.findings import SEVERITIES
    from crossthread.diagnosis.meanings import meaning
    from crossthread.faces.terminal.check import check_csv, check_sarif, show_check
    from crossthread.questions.check import check, select

    if csv + sarif + json > 1:
        usage_error("expected one of --csv, --sarif and --json")
    if only is not None and meaning(only) is None:
        usage_error(f"there is no finding “{visible(only)}”; `crossthread findings` lists them")
    if severity is not None and severity not in SEVERITIES:
        usage_error(f"expected --severity {' or '.join(SEVERITIES)} instead of “{visible(severity)}”")
    intended = load_plan(plan) if plan else None
    network = Network(load(survey))
    place = _place(network, at) if at is not None else None
    expect_vlan(network, vlan)
    many = 0 if len(network.survey.hosts) > _MANY else 4000
    with progress("asking", lambda: 20 * len(network.classes.all), many) as advance:
        answer = select(check(network, intended, progress=advance), only, place, vlan, severity)
    if csv:
        print(check_csv(answer), end="")
    elif sarif:
        print(check_sarif(answer, survey))
    else:
        emit(answer, show_check, json)
    if answer.counts["breaks"]:
        raise typer.Exit(FAULTY)


def _place(network: Network, text: str) -> tuple[str, str | None]:
    """The device and port that somebody means by DEVICE or DEVICE:PORT; port names may have colons in them."""
    known = network.names.device(text)
    if known is not None:
        return known, None
    device, _, port = text.partition(":")
    known = network.names.device(device)
    if known is None:
        usage_error(f"there is no device “{visible(device)}” in this survey")
    interfaces = {station.name for station in network.stations.on_device.get(known, ())}
    name = network.names.port(known, port) or (port if port in interfaces else None)
    if name is None and not any((known, port) in (link.a, link.b) for link in network.links):
        usage_error(f"{known} has no port or interface “{visible(port)}” in this survey")
    return known, name or port


@app.command("vlan")
def vlan_command(
    survey: SurveyPath,
    vid: Annotated[int | None, typer.Argument(metavar="[VID]", help="Without it, all.")] = None,
    figure: Annotated[str | None, typer.Option("--figure", metavar="FILE", help="Also draw it: .png or .svg.")] = None,
    json: Json = False,
) -> None:
    """Where a VLAN is: its pieces, every port that carries it, tagged or not, blocked, or at one end only."""
    from crossthread.cli.output import draw
    from crossthread.faces.pictures.overlay import vlan_overlay
    from crossthread.faces.terminal.vlan import show_overview, show_vlan
    from crossthread.views.map import map_network
    from crossthread.views.vlan import vlan_overview, vlan_view

    network = Network(load(survey))
    if vid is None:
        if figure is not None:
            usage_error("--figure draws one VLAN; expected its VID as well")
        emit(vlan_overview(network), show_overview, json)
        return
    try:
        answer = vlan_view(network, vid)
    except UnknownNameError as error:
        usage_error(str(error))
    if figure is not None:
        drawn = map_network(network)
        draw(drawn, figure, network.survey.info.title, vlan_overlay(answer, drawn))
    emit(answer, show_vlan, json)


@app.command("link")
def link_command(
    survey: SurveyPath,
    device: Annotated[str, typer.Argument(metavar="DEVICE", help="The device at one end.")],
    port: Annotated[str, typer.Argument(metavar="PORT", help="Its port.")],
    json: Json = False,
) -> None:
    """Both ends of a link side by side, with what differs marked."""
    from crossthread.faces.terminal.vlan import show_link
    from crossthread.questions.link import link_view

    try:
        answer = link_view(Network(load(survey)), device, port)
    except UnknownNameError as error:
        usage_error(str(error))
    emit(answer, show_link, json)


@app.command("port")
def port_command(
    survey: SurveyPath,
    device: Annotated[str, typer.Argument(metavar="DEVICE", help="The device.")],
    port: Annotated[str, typer.Argument(metavar="PORT", help="Its port.")],
    json: Json = False,
) -> None:
    """Everything about one port: state, far end, neighbours, counters, cable test, trees, stations, findings."""
    from crossthread.faces.terminal.pages import show_port
    from crossthread.questions.port import port_page

    try:
        answer = port_page(Network(load(survey)), device, port)
    except UnknownNameError as error:
        usage_error(str(error))
    emit(answer, show_port, json)


@app.command("device")
def device_command(
    survey: SurveyPath,
    device: Annotated[str, typer.Argument(metavar="DEVICE", help="The device; also one that was only heard of.")],
    json: Json = False,
) -> None:
    """Everything about one device: what it says of itself and others of it, ports, VLANs, routes, trees, findings."""
    from crossthread.faces.terminal.pages import show_device
    from crossthread.questions.device import device_page

    try:
        answer = device_page(Network(load(survey)), device)
    except UnknownNameError as error:
        usage_error(str(error))
    emit(answer, show_device, json)


@app.command("compare")
def compare_command(
    before: SurveyPath,
    after: Annotated[str, typer.Argument(metavar="AFTER", help="A later survey of the same campus.")],
    plan: Annotated[str | None, typer.Option("--plan", metavar="FILE", help="What was intended.")] = None,
    repair: Annotated[
        str | None, typer.Option("--repair", metavar="FILE", help="The planned changes: which of them were made.")
    ] = None,
    csv: Annotated[bool, typer.Option("--csv", help="Print CSV that is safe to open in a spreadsheet.")] = False,
    markdown: Annotated[bool, typer.Option("--markdown", help="Print a page to hand over.")] = False,
    json: Json = False,
) -> None:
    """Before and after: better, worse or the same, and what is new, gone and changed."""
    from crossthread.cli.input import load_changes
    from crossthread.faces.terminal.compare import comparison_csv, comparison_markdown, show_comparison
    from crossthread.questions.compare import compare

    if csv + markdown + json > 1:
        usage_error("expected one of --csv, --markdown and --json")
    intended = load_plan(plan) if plan else None
    planned = load_changes([repair]) if repair else []
    answer = compare(Network(load(before)), Network(load(after)), intended, planned)
    if csv:
        print(comparison_csv(answer), end="")
    elif markdown:
        print(comparison_markdown(answer), end="")
    else:
        emit(answer, show_comparison, json)
    if answer.differs:
        raise typer.Exit(FAULTY)


@app.command("findings")
def findings_command(
    name: Annotated[str | None, typer.Argument(metavar="[NAME]", help="One finding; without it, all.")] = None,
    markdown: Annotated[bool, typer.Option("--markdown", help="Print the page docs/findings.md.")] = False,
    json: Json = False,
) -> None:
    """What a finding means, what users notice, how to confirm it by hand, and the usual mend."""
    from difflib import get_close_matches

    from crossthread.diagnosis.meanings import meaning, meanings
    from crossthread.faces.terminal.meanings import meanings_page, show_meanings

    answer = meanings()
    if name is not None:
        one = meaning(name)
        if one is None:
            close = get_close_matches(name, [known.rule for known in answer], 1)
            usage_error(f"there is no finding “{visible(name)}”" + (f"; is {close[0]} meant?" if close else ""))
        answer = (one,)
    if markdown:
        print(meanings_page(answer), end="")
    else:
        emit(answer, show_meanings, json)


@plan_app.command("draft")
def draft_command(
    survey: SurveyPath,
    into: Annotated[str | None, typer.Option("--into", metavar="FILE", help="Write it there instead.")] = None,
    replace: Annotated[bool, typer.Option("--replace", help="Replace the file that is there.")] = False,
) -> None:
    """Write a plan from what is there: what most do, with comments on what is a guess."""
    from crossthread.questions.plan_draft import draft_plan

    if into is not None and Path(into).exists() and not replace:
        usage_error(f"there is something at {visible(into, 200)} already; --replace replaces it")
    text = draft_plan(Network(load(survey)))
    if into is None:
        print(text, end="")
    else:
        write_text(into, text)
