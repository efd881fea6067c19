"""Where something is, in the terminal."""

from __future__ import annotations

from rich.console import Console

from crossthread.faces.terminal.console import count, line, paragraph, said
from crossthread.views.sightings import EDGES, Found, Sighting


def _place(sighting: Sighting) -> str:
    """One place in a few words."""
    port = sighting.port or sighting.interface
    vlan = f", VLAN {sighting.vid}" if sighting.vid else ""
    towards = {"towards": "somewhere behind ", "named": "maybe at "}.get(sighting.how, "")
    return f"{towards}{sighting.device}{f' {port}' if port else ''}{vlan}"


def show_found(answer: Found, out: Console) -> None:
    """First line: the surest place; then every place with how it is known, and what does not agree."""
    if not answer.places:
        seen = "no cable to it is known" if answer.kind == "device" else "no edge port is known"
        out.print(line((f"{answer.kind} {answer.what}", "bold"), f": {seen}."))
    elif answer.kind in ("VLAN", "device"):
        noun = "device" if answer.kind == "VLAN" else "cable"
        out.print(line((f"{answer.kind} {answer.what}", "bold"), f": {count(len(answer.places), noun)}."))
    else:
        either = [place for place in answer.places if place.how in EDGES] if answer.conflicts else answer.places[:1]
        where = " or ".join(map(_place, either))
        out.print(line((f"{answer.kind} {answer.what}", "bold"), f": {where}."))
    for place in answer.places:
        paragraph(out, said(f"{place.says}."), 3)
        for fact in place.evidence:
            paragraph(out, line(("seen  ", "dim"), (fact, "dim")), 5)
    for conflict in answer.conflicts:
        paragraph(out, line(("! ", "bold yellow"), f"{conflict}."), 1)
