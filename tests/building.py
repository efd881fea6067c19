"""Small networks for tests, written as a person would write the tables."""

import json
import tempfile
from pathlib import Path

from crossthread import Network, Survey, read_survey
from crossthread.survey import Info
from crossthread.survey.records import READ_IN_FULL

DATA = Path(__file__).parent / "data"
KNOWN = Info(complete=READ_IN_FULL)
"""The head of a survey in which nothing was left unread."""
LAB = sorted((DATA / "lab").iterdir())


def survey_of(**tables: str) -> Survey:
    """A survey of tables given as text: a head line with the columns, then rows; cells apart by `|`."""
    with tempfile.TemporaryDirectory() as holder:
        folder = Path(holder)
        (folder / "survey.toml").write_text(f"format = 1\ncomplete = {json.dumps(READ_IN_FULL)}\n")
        for name, text in tables.items():
            lines = [line.strip() for line in text.strip().splitlines()]
            cells = [[cell.strip() for cell in line.split("|")] for line in lines]
            rows = ["\t".join(line).replace(",", " ").replace("\t", ",") for line in cells]
            (folder / f"{name}.csv").write_text("\n".join(rows) + "\n", encoding="utf-8")
        return read_survey(folder)


def network_of(**tables: str) -> Network:
    return Network(survey_of(**tables))


def cabled(*cables: str) -> str:
    """Neighbour rows for cables given as `sw-a p1 sw-b p2`, heard at both ends."""
    rows = ["device|port|neighbor|neighbor_port"]
    for cable in cables:
        a, p, b, q = cable.split()
        rows += [f"{a}|{p}|{b}|{q}", f"{b}|{q}|{a}|{p}"]
    return "\n".join(rows)


def ports(*rows: str) -> str:
    """Port rows that are up: `device port mode pvid allowed`, the rest of the line being the allowed set."""
    found = ["device|port|admin|oper|mode|pvid|allowed"]
    for row in rows:
        device, port, mode, pvid, *allowed = row.split()
        found.append(f"{device}|{port}|up|up|{mode}|{pvid}|{' '.join(allowed)}")
    return "\n".join(found)


def hosts(*rows: str) -> str:
    """Host rows: `name address gateway device port`, each plugged in and up."""
    found = ["host|mac|address|gateway|device|port|link"]
    for number, row in enumerate(rows, 1):
        name, address, gateway, device, port = row.split()
        found.append(f"{name}|02:00:00:00:00:{number:02x}|{address}|{gateway}|{device}|{port}|up")
    return "\n".join(found)


def truth_of(case: Path) -> dict:
    return json.loads((case / "truth.json").read_text())
