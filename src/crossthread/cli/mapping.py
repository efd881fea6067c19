"""The commands around the map: gather, map, inventory, drawing, addresses, find."""

from __future__ import annotations

from typing import Annotated

import typer

from crossthread.cli.input import load, load_mapping
from crossthread.cli.options import FAULTY, UNREADABLE, Json, SurveyPath, app, usage_error
from crossthread.cli.output import add_to_survey, draw, emit, write_export
from crossthread.errors import UnknownNameError
from crossthread.network import Network


@app.command("gather")
def gather_command(
    sources: Annotated[list[str], typer.Argument(metavar="SOURCE...", help="Files and folders with what there is.")],
    into: Annotated[str, typer.Option("--into", metavar="SURVEY", help="The survey to write or to add to.")],
    mapping: Annotated[
        str | None, typer.Option("--mapping", metavar="FILE", help="What the columns of exported or typed tables mean.")
    ] = None,
    dry_run: Annotated[bool, typer.Option("--dry-run", help="Say what would be taken, and write nothing.")] = False,
    keep: Annotated[
        bool | None,
        typer.Option(
            "--keep/--no-keep", help="Keep the survey before as a dated copy.", show_default="if rows are lost"
        ),
    ] = None,
    json: Json = False,
) -> None:
    """Make one survey of what the network says of itself: captures and listings, recognised by their content."""
    from crossthread.faces.terminal.gather import show_gathered

    tables = load_mapping(mapping) if mapping else ()
    answer = add_to_survey(sources, into, tables, dry_run, keep)
    emit(answer, show_gathered, json)
    if any(entry.kind is None or entry.problems for entry in answer.files):
        raise typer.Exit(UNREADABLE)


@app.command("map")
def map_command(
    survey: SurveyPath,
    figure: Annotated[str | None, typer.Option("--figure", metavar="FILE", help="Also draw it: .png or .svg.")] = None,
    export: Annotated[
        str | None,
        typer.Option("--export", metavar="FILE", help="Also write it for other programs: .graphml, .dot, .json."),
    ] = None,
    json: Json = False,
) -> None:
    """Who is plugged into whom: devices, links port by port, which end told it, what is loose."""
    from crossthread.faces.terminal.map import show_map
    from crossthread.views.map import map_network

    network = Network(load(survey))
    answer = map_network(network)
    if figure is not None:
        draw(answer, figure, network.survey.info.title)
    if export is not None:
        write_export(answer, export)
    emit(answer, show_map, json)


@app.command("inventory")
def inventory_command(survey: SurveyPath, json: Json = False) -> None:
    """Every device, surveyed or only heard of: what it is, how it is known, and what is odd about its neighbours."""
    from crossthread.faces.terminal.inventory import show_inventory
    from crossthread.questions.inventory import inventory

    emit(inventory(Network(load(survey))), show_inventory, json)


@app.command("drawing")
def drawing_command(
    survey: SurveyPath,
    drawing: Annotated[
        str, typer.Argument(metavar="LIST", help="The documented cables: CSV with device, port, far_device, far_port.")
    ],
    corrected: Annotated[
        str | None, typer.Option("--corrected", metavar="FILE", help="Write the list as it should be.")
    ] = None,
    json: Json = False,
) -> None:
    """The map against the drawing: documented cables that are missing, extra, or moved to other ports."""
    from crossthread.cli.input import load_drawing
    from crossthread.cli.output import write_text
    from crossthread.faces.terminal.inventory import corrected_csv, show_drawing
    from crossthread.views.drawing import compare_drawing

    answer = compare_drawing(Network(load(survey)), load_drawing(drawing))
    if corrected is not None:
        write_text(corrected, corrected_csv(answer))
    emit(answer, show_drawing, json)
    if answer.missing or answer.extra or answer.moved:
        raise typer.Exit(FAULTY)


@app.command("addresses")
def addresses_command(
    survey: SurveyPath,
    csv: Annotated[bool, typer.Option("--csv", help="Print CSV that is safe to open in a spreadsheet.")] = False,
    markdown: Annotated[bool, typer.Option("--markdown", help="Print a Markdown table.")] = False,
    json: Json = False,
) -> None:
    """The addressing table: every interface and host with VLAN, address, prefix and gateway."""
    from crossthread.faces.terminal.addresses import addresses_csv, addresses_markdown, show_addresses
    from crossthread.views.addresses import addresses

    if csv + markdown + json > 1:
        usage_error("expected one of --csv, --markdown and --json")
    answer = addresses(Network(load(survey)))
    if csv or markdown:
        print(addresses_csv(answer) if csv else addresses_markdown(answer), end="")
    else:
        emit(answer, show_addresses, json)


@app.command("find")
def find_command(
    survey: SurveyPath,
    what: Annotated[str, typer.Argument(metavar="WHAT", help="A host, device, MAC or IP address, or a VLAN's name.")],
    json: Json = False,
) -> None:
    """Where something is plugged in, how that is known, and where it was seen inconsistently."""
    from crossthread.faces.terminal.find import show_found
    from crossthread.views.find import find

    try:
        answer = find(Network(load(survey)), what)
    except UnknownNameError as error:
        usage_error(str(error))
    emit(answer, show_found, json)
