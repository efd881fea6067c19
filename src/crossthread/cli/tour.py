"""The demo's walk: each command on the demo campus, with what to look for."""

from __future__ import annotations

import shlex
from collections.abc import Callable
from pathlib import Path
from typing import Any

import typer
from rich.console import Console

from crossthread.cli.input import load
from crossthread.cli.options import usage_error
from crossthread.cli.output import add_to_survey, emit
from crossthread.cli.visiting import standing
from crossthread.demo import FAULTS, faulty, healthy
from crossthread.faces.terminal.check import show_check
from crossthread.faces.terminal.console import console, line
from crossthread.faces.terminal.gather import show_added_walks
from crossthread.faces.terminal.map import show_map
from crossthread.faces.terminal.matrix import show_matrix
from crossthread.faces.terminal.pages import show_port
from crossthread.faces.terminal.tree import show_tree
from crossthread.faces.terminal.visit import show_visit
from crossthread.faces.terminal.vlan import show_vlan
from crossthread.faces.terminal.why import show_steps, show_why
from crossthread.faces.terminal.why_all import show_why_all
from crossthread.live.access import Access
from crossthread.live.agent import agents
from crossthread.live.device_objects import untold
from crossthread.live.visit_folder import walks_beside
from crossthread.live.visiting import visit
from crossthread.network import Network
from crossthread.questions.check import check
from crossthread.questions.port import port_page
from crossthread.questions.why import why
from crossthread.questions.why_all import why_all
from crossthread.questions.why_steps import why_steps
from crossthread.survey import write_survey
from crossthread.views.map import map_network
from crossthread.views.matrix import matrix
from crossthread.views.tree import instance_of, tree
from crossthread.views.vlan import vlan_view

_STEPS: list[tuple[str, list[str], str]] = [
    (
        "The campus: a museum and its boatyard, ten switches and a router. Each cable stands there once, with each "
        "port beside its own device, and who told of it.",
        ["map", "healthy"],
        "healthy",
    ),
    ("All is well: the check finds nothing.", ["check", "healthy"], "healthy"),
    (
        "Who reaches whom. Two hosts have only an IPv6 address, so they do not reach those that have only IPv4.",
        ["matrix", "healthy"],
        "healthy",
    ),
    (
        "Now the same campus after a bad week. The check names what is wrong, worst first.",
        ["check", "faulty"],
        "faulty",
    ),
    (
        "One VLAN in full: its pieces, and every port that carries it, with the link of which one end does not.",
        ["vlan", "faulty", "20"],
        "faulty",
    ),
    (
        "The spanning tree: who is root and why, and what each blocked port waits for.",
        ["tree", "healthy", "--vlan", "20"],
        "healthy",
    ),
    ("Most of the campus is cut off.", ["matrix", "faulty"], "faulty"),
    (
        "The heart: why does the foghorn in the Rope Hall not reach the camera recorder? Not one fault stands in the "
        "way but several, one behind the other. Each is named, with what was seen and where; then the mends, tried out "
        "on a copy; then the way, hop by hop.",
        ["why", "faulty", "foghorn-exhibit", "camera-recorder"],
        "faulty",
    ),
    (
        "A host is found by its address, too. Here the far end is to blame: the echo arrives, and the reply has no way "
        "back.",
        ["why", "faulty", "10.61.20.13", "archive-store"],
        "faulty",
    ),
    (
        "As one would ping, step by step from both ends: the first ping without an answer says where to look.",
        ["why", "faulty", "foghorn-exhibit", "camera-recorder", "--steps"],
        "faulty",
    ),
    (
        "A single port, with all that is known of it: here the Galley's uplink, both ends side by side.",
        ["port", "faulty", "galley", "port1"],
        "faulty",
    ),
    (
        "And all pairs at once: the fewest repairs that mend all that should work, those that hold up most first.",
        ["why", "faulty", "--all"],
        "faulty",
    ),
]


_LIVE_STEPS: list[tuple[str, list[str], str]] = [
    ("The map of what was visited: the same as from the tables of the demo.", ["map", "live"], "live"),
    ("What is wrong on it.", ["check", "live"], "live"),
    (
        "And why the foghorn does not reach the camera recorder, each fact down to the walk that it was read in.",
        ["why", "live", "foghorn-exhibit", "camera-recorder"],
        "live",
    ),
]


def tour(folder: Path, pause: bool) -> None:
    """Write the demo's surveys and run each command on them, as the command line would.

    Surveys that are already in the folder are kept: they may have been edited.
    """
    out = console()
    for name, make in (("healthy", healthy), ("faulty", faulty)):
        if (folder / name).exists():
            out.print(line(f"{folder / name} is already there and kept as it is."))
            continue
        try:
            write_survey(make(), folder / name)
        except OSError as error:
            usage_error(f"the demo cannot be written to {folder / name}: {error.strerror}")
        out.print(line(f"{folder / name} written."))
    _walk(_STEPS, folder, pause, out)
    out.print()
    out.rule()
    out.print(line(f"What was done to {folder / 'faulty'}:"))
    for fault in FAULTS:
        out.print(line(f"  - {fault}"))
    says = "Edit the tables, mend a fault, and ask again. With --json each command answers for programs."
    out.print(line(says))


def _walk(steps: list[tuple[str, list[str], str]], folder: Path, pause: bool, out: Console) -> None:
    """Each step: what it shows, what one would type, and what then is seen."""
    for number, (says, words, survey) in enumerate(steps, 1):
        out.print()
        out.rule(line((f"{number} of {len(steps)}", "bold")))
        out.print(line(says))
        out.print()
        typed = [words[0], str(folder / survey), *words[2:]]
        out.print(line(("$ crossthread " + shlex.join(typed), "bold cyan")))
        _run(words, load(str(folder / survey)))
        if pause and number < len(steps):
            typer.prompt("Enter for the next step", default="", show_default=False, prompt_suffix=" ")


def live_tour(folder: Path, pause: bool) -> None:
    """Start the campus's devices as agents on this machine, visit them from one address, and ask about what was found.

    What no device tells is typed in before, as one would: the hosts, which stations a port admits, proxy ARP.
    """
    out, campus, into = console(), faulty(), folder / "live"
    if into.exists():
        usage_error(f"{into} is already there; expected a folder without it, or one in which it may be removed first")
    first = campus.devices[0].management or ""
    within = ["10.61.0.0/16"]
    try:
        write_survey(untold(campus), into)
        with agents(campus) as running, standing() as progress:
            answer = visit(
                [first],
                within,
                [Access.by_community("public", within)],
                walks_beside(into),
                places=running.places,
                progress=progress,
            )
    except OSError as error:
        usage_error(f"the devices cannot be started, or {into} cannot be written: {error.strerror}")
    says = "answer on a loopback address; known is only"
    out.print(line(f"{len(running.places)} devices of the museum {says} {first} and that all are in {within[0]}."))
    out.print(line("What no device tells was typed in before: the hosts, and which stations a port admits."))
    out.print()
    emit(answer, show_visit, False)
    emit(add_to_survey(answer.walks, str(into)), show_added_walks, False)
    _walk(_LIVE_STEPS, folder, pause, out)


def _run(words: list[str], survey: Any) -> None:
    network = Network(survey)
    questions: dict[str, Callable[[], tuple[object, Callable[[Any, Any], None]]]] = {
        "map": lambda: (map_network(network), show_map),
        "check": lambda: (check(network), show_check),
        "matrix": lambda: (matrix(network), show_matrix),
        "vlan": lambda: (vlan_view(network, int(words[2])), show_vlan),
        "tree": lambda: (tree(network, instance_of(network, int(words[3]))), show_tree),
        "port": lambda: (port_page(network, words[2], words[3]), show_port),
        "why": lambda: (why(network, words[2], words[3]), show_why) if words[3:] else (why_all(network), show_why_all),
        "why --steps": lambda: (why_steps(network, words[2], words[3]), show_steps),
    }
    answer, face = questions["why --steps" if "--steps" in words else words[0]]()
    emit(answer, face, False)
