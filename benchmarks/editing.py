"""One edit at random in a healthy network: what `why` and `check` make of it. No timings.

    python benchmarks/editing.py FOLDER... [--edits N] [--seed N] [--told]

Each argument is a folder of cases with `survey/` and `truth.json`, whose faults are undone first; without any, the
museum of the demo is edited. An edit gives a cell another value of its column, or what stops things; an address, a
prefix or a next hop one that is near, or another's; or a port the settings of another port. Where a pair that worked
fails then, `why` of two such pairs is to bring back just what worked, and `check` is to tell one finding that breaks
something, whose mend brings all of it back. Printed is how often, by kind of edit; `--told` lists the rest.
"""

import argparse
import ipaddress
import json
import random
from collections import Counter
from pathlib import Path

from crossthread import Change, CrossThreadError, Network, apply_changes, check, matrix, read_survey, why
from crossthread.demo import healthy
from crossthread.survey.records import TABLES, columns_of

STOPS = {"admin": "down", "oper": "down", "link": "down", "authorized": "no", "isolated": "yes", "routing": "no"}
SETTINGS = ("mode", "pvid", "allowed", "untagged")
SILENT = {"description", "source", "extra"}


def text(row, column):
    """A cell as it is written."""
    value = getattr(row, column)
    return "none" if column == "pvid" and value == 0 else "" if value is None else str(value)


def key_of(table, row):
    return {column: text(row, column) for column in TABLES[table].KEY if getattr(row, column) is not None}


def other_cell(survey, chance):
    """A cell that gets another value of its column."""
    table = chance.choice([name for name in ("ports", "hosts", "gateways", "vlans", "devices") if survey.table(name)])
    rows = survey.table(table)
    row = chance.choice(rows)
    held = [c for c in columns_of(TABLES[table]) if c not in {*SILENT, *TABLES[table].KEY} and text(row, c)]
    if not held:
        return None
    column = chance.choice(held)
    values = {text(one, column) for one in rows} | {STOPS.get(column, "")}
    values = sorted(values - {"", text(row, column)})
    if not values:
        return None
    return f"{table}.{column}", [Change(table, key_of(table, row), {column: chance.choice(values)})]


def near(chance, written, others):
    """An address that a slip would make of one, with its prefix length: what the slip is, and the address."""
    own = ipaddress.ip_interface(written)
    length, size, widest = own.network.prefixlen, own.network.num_addresses, own.max_prefixlen
    slip = chance.choice(("host part", "next subnet", "length", "another's"))
    if slip == "another's":
        return slip, chance.choice(others)
    if slip == "length":
        return slip, f"{own.ip}/{max(8, min(length + chance.choice((-2, -1, 1, 2)), widest - 2))}"
    step = chance.choice((-size, size)) if slip == "next subnet" else chance.choice((-3, -2, -1, 1, 2, 3))
    return slip, f"{ipaddress.ip_address((int(own.ip) + step) % 2**widest)}/{length}"


def other_address(survey, chance):
    """A host or an interface that gets an address by a slip, or a route another next hop."""
    table = chance.choice([name for name in ("hosts", "gateways", "routes") if survey.table(name)])
    row = chance.choice(survey.table(table))
    gateways = [one.address for one in survey.gateways if one.address]
    if table == "routes":
        if not gateways or row.next_hop in (None, "none"):
            return None
        hop = chance.choice(gateways).partition("/")[0]
        cells = {column: text(row, column) for column in ("interface", "origin") if text(row, column)}
        moved = Change("routes", {**key_of(table, row), "next_hop": hop}, cells)
        return "routes.next_hop", [Change("routes", key_of(table, row), delete=True), moved]
    if not row.address or row.address == "none" or " " in row.address:
        return None
    others = gateways if table == "gateways" else [one.address for one in survey.hosts if "/" in (one.address or "")]
    slip, written = near(chance, row.address, others)
    return f"{table}.address, {slip}", [Change(table, key_of(table, row), {"address": written})]


def other_settings(survey, chance):
    """A port that gets the settings of another one."""
    ports = [row for row in survey.ports if row.mode in ("access", "trunk", "hybrid", "routed")]
    one, two = chance.sample([row for row in ports if row.mode != "routed"], 1) + chance.sample(ports, 1)
    cells = {column: text(two, column) for column in SETTINGS}
    return f"a port's settings, {two.mode} for {one.mode}", [Change("ports", key_of("ports", one), cells)]


def reaches(network):
    return {(one, two): verdict for one, two, verdict in matrix(network).reaches}


def judged(survey, changes, chance):
    """What `why` and `check` make of an edit: a word each; nothing if no pair that worked fails by it."""
    network, was = Network(apply_changes(survey, changes)), reaches(Network(survey))
    now = reaches(network)
    lost = [pair for pair, verdict in was.items() if verdict == "works" and now.get(pair) == "fails"]
    for pair in chance.sample(lost, min(2, len(lost))):
        answer = why(network, *pair)
        yield "why", word(network, answer.repair, was, now, [pair]), answer.confidence
    if lost:
        breaking = [one for one in check(network).findings if one.severity == "breaks"]
        mends = list({str(change): change for one in breaking for change in one.repair}.values())
        told = word(network, mends, was, now, lost)
        yield "check", told, "one finding" if len(breaking) == 1 else f"{len(breaking)} findings"


def word(network, repair, was, now, lost):
    """What a repair does to a broken network."""
    try:
        then = reaches(network.changed(repair)) if repair else now
    except CrossThreadError:
        return "refused"
    if any(now[pair] == was[pair] == "works" and then.get(pair) == "fails" for pair in now):
        return "HARM"
    if not repair:
        return "no mend"
    return "mended" if all(then.get(pair) == "works" for pair in lost) else "NOT MENDED"


def networks(folders):
    """The healthy networks: cases with their faults undone, or the museum."""
    for case in sorted(case for folder in folders for case in Path(folder).glob("case-*")):
        faults = json.loads((case / "truth.json").read_text(encoding="utf-8"))["faults"]
        undo = [Change(c["table"], c["key"], c.get("set", {})) for f in reversed(faults) for c in f["undo"]]
        yield case.name, apply_changes(read_survey(case / "survey"), undo)
    if not folders:
        yield "museum", healthy()


def main():
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("folders", nargs="*")
    parser.add_argument("--edits", type=int, default=10, help="how many of each network")
    parser.add_argument("--seed", type=int, default=0)
    parser.add_argument("--told", action="store_true", help="list what was not mended by one finding")
    given = parser.parse_args()
    counts = {}
    for name, survey in networks(given.folders):
        for number in range(given.edits):
            chance = random.Random(f"{name} {given.seed} {number}")
            edit = chance.choice((other_cell, other_address, other_settings))(survey, chance)
            if edit is None:
                continue
            kind, changes = edit
            try:
                apply_changes(survey, changes)
            except CrossThreadError:
                continue
            for question, told, how in judged(survey, changes, chance):
                counts.setdefault((kind, question), Counter())[f"{told}, {how}"] += 1
                fine = told == "mended" and how not in ("open",) and not how.startswith(("0", "2", "3", "4", "5"))
                if given.told and not fine:
                    print(f"{name} {number}: {question} {told}, {how}: {'; '.join(map(str, changes))}", flush=True)
    for (kind, question), found in sorted(counts.items()):
        print(f"{kind} / {question}: " + ", ".join(f"{count} {says}" for says, count in found.most_common()))


if __name__ == "__main__":
    main()
