"""Where something is, in the terminal."""

from __future__ import annotations

from rich.console import Console

from crossthread.faces.terminal.console import count, line, paragraph, said
from crossthread.views.sightings import Found


def show_found(answer: Found, out: Console) -> None:
    """First line: the surest place; then every place with how it is known, and what does not agree."""
    if not answer.places:
        seen = "no cable to it is known" if answer.kind == "device" else "no edge port is known"
        out.print(line((f"{answer.kind} {answer.what}", "bold"), f": {seen}."))
    elif answer.kind in ("VLAN", "device"):
        noun = "device" if answer.kind == "VLAN" else "cable"
        out.print(line((f"{answer.kind} {answer.what}", "bold"), f": {count(len(answer.places), noun)}."))
    else:
        first = answer.places[0]
        port = f" {first.port}" if first.port else (f" {first.interface}" if first.interface else "")
        vlan = f", VLAN {first.vid}" if first.vid else ""
        towards = "somewhere behind " if first.how == "towards" else ""
        out.print(line((f"{answer.kind} {answer.what}", "bold"), f": {towards}{first.device}{port}{vlan}."))
    for place in answer.places:
        paragraph(out, said(f"{place.says}."), 3)
        for fact in place.evidence:
            paragraph(out, line(("seen  ", "dim"), (fact, "dim")), 5)
    for conflict in answer.conflicts:
        paragraph(out, line(("! ", "bold yellow"), f"{conflict}."), 1)
