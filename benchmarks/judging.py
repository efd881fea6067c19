"""Of the mends that `why` proposes, how many undo what was really broken; and what its words of confidence are worth.

    python benchmarks/judging.py FOLDER... [--pairs N] [--missed] [--planned] [--check] [--raw]

FOLDER holds cases as `imagined.py` or a lab writes them. Of each case up to N broken pairs are asked (4 unless told).
A mend is *true* if every cell that it changes gets the value of the healthy network, and *listed* if it is the first or
an alternative of each finding. Printed for each folder, and for all together: how many are true and listed, by word of
confidence; how many are true or, where the answer says that two explanations are possible, listed; and how many wrong
mends stop a pair that works (other than those that `why` tells as working by luck only). With --missed each pair whose
true mend is not the first is told, with what was proposed. With --planned each is asked with the plan that is drafted
from the healthy network, so that it is known what was intended. With --check the mends of `check` are judged instead:
of each rule how many are true, by word of confidence; what it finds in the healthy network as well does not count.
With --raw what is asked is gathered from the outputs in the case's folder `raw/`, and not read from its survey.
"""

import argparse
import ipaddress
import json
import random
import sys
from collections import Counter
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

import crossthread as ct
from crossthread.plan.reading import parse_plan
from crossthread.sources.gathering import gather

SEEN = {
    "oper",
    "link",
    "speed",
    "duplex",
    "root_port",
    "interface",
    "origin",
    "metric",
    "port",
    "untagged",
    "proxy_arp",
}
"""Columns that are only observed: whatever a mend says of them is not judged."""


HABITS = {"discovery", "priority"}
"""Columns of which `check` says what is good practice: no fault of the cases is about them."""


def row_of(network, change):
    """The row of the healthy network that a change is about, by the key it has before or after."""
    rows = getattr(network.survey, change.table)
    for key in (change.key, {**change.key, **{c: v for c, v in change.cells.items() if c in change.key}}):
        for row in rows:
            if all(str(getattr(row, c) or "").casefold() == str(v or "").casefold() for c, v in key.items()):
                return row
    return None


def is_right(network, change):
    """Whether a change gives every cell the value that the healthy network has."""
    row = row_of(network, change)
    if change.delete or row is None:
        return change.delete and row is None
    return all(agrees(row, change, column, value) for column, value in change.cells.items())


def agrees(row, change, column, value):
    lost_list = column in {"pvid", "allowed"} and change.cells.get("mode") in {"trunk", "hybrid"}
    if column in SEEN or lost_list:
        return True  # a trunk's lost native VLAN and list cannot be known
    want, value = str(getattr(row, column) or ""), str(value or "")
    if column == "vid" and not value:
        return True  # a tag that is cleared on the way
    if change.table == "hosts" and column == "address" and "/" in want and "/" in value:
        return ipaddress.ip_interface(want).network == ipaddress.ip_interface(value).network  # which one is not known
    if column == "allowed":
        return not ct.VlanSet.parse(value or "none") - ct.VlanSet.parse(want or "none")
    if column == "allowed_macs":
        return not (row.mac and value) or want in {"", value} or want in value
    return value.casefold() == want.casefold() or {value.casefold(), want.casefold()} <= {"", "none"}


def undone(network, faults):
    changes = [
        ct.Change(c["table"], c["key"], c.get("set", {}), c.get("delete", False))
        for fault in reversed(faults)
        for c in fault["undo"]
    ]
    for change in changes:
        network = network.changed([change])
    return network


def networks(case, raw, faults):
    """A case's network as it is, and as it was before anything was broken."""
    network = ct.Network(ct.read_survey(case / "survey"))
    return ct.Network(gather([case / "raw"]).survey) if raw else network, undone(network, faults)


def drafted(healthy):
    """The plan that a healthy network keeps: what was intended before anything was broken."""
    return parse_plan(ct.draft_plan(healthy), "drafted", [])


def judged(job):
    """What became of a case's broken pairs: `(case, pair, confidence, true, listed, whom it stops, what was wrong)`."""
    case, many, planned, raw = job
    truth = json.loads((case / "truth.json").read_text(encoding="utf-8"))
    healthy_pairs = {(a, b) for a, b, reached in truth["healthy_reaches"] if reached is True}
    works = {(a, b) for a, b, reached in truth["reaches"] if reached is True}
    broken = [(a, b) for a, b, reached in truth["reaches"] if reached is False and (a, b) in healthy_pairs]
    random.Random("j" + case.name).shuffle(broken)
    network, healthy = networks(case, raw, truth["faults"])
    plan = drafted(healthy) if planned else None
    rows = []
    for a, b in broken[:many]:
        said = ct.why(network, a, b, plan=plan)
        bad = [change for change in said.repair if not is_right(healthy, change)]
        true = bool(said.repair) and not bad
        listed = true or (bool(said.findings) and all(is_listed(healthy, f) for f in said.findings))
        stops = set()
        if bad:
            after = ct.matrix(network.changed(said.repair)).reaches
            stops = {(x, y) for x, y, verdict in after if verdict == "fails" and (x, y) in works} - set(said.luck)
        kinds = " ".join(fault["kind"] for fault in truth["faults"])
        wrong = "; ".join(map(str, bad)) or said.verdict
        rows.append((case.name, f"{a} {b}", said.confidence, true, listed, len(stops), f"[{kinds}] {wrong}"))
    return rows


def checked(job):
    """The mends of `check`: `(case, rule, confidence, true, what was wrong)`."""
    case, raw = job
    truth = json.loads((case / "truth.json").read_text(encoding="utf-8"))
    network, healthy = networks(case, raw, truth["faults"])
    known = {(one.rule, one.subjects) for one in ct.check(healthy).findings}
    kinds = " ".join(fault["kind"] for fault in truth["faults"])
    rows = []
    for one in ct.check(network).findings:
        columns = {column for change in one.repair for column in change.cells}
        if columns - HABITS and one.severity != "note" and (one.rule, one.subjects) not in known:
            bad = "; ".join(str(change) for change in one.repair if not is_right(healthy, change))
            rows.append((case.name, one.rule, one.confidence or "plain", not bad, f"[{kinds}] {bad}"))
    return rows


def told_of_check(folders, missed, raw):
    with ProcessPoolExecutor(2) as pool:
        cases = [(path.parent, raw) for folder in folders for path in sorted(folder.rglob("truth.json"))]
        rows = [row for part in pool.map(checked, cases, chunksize=4) for row in part]
    for rule in (*sorted({row[1] for row in rows}), None):
        mine = [row for row in rows if rule in (row[1], None)]
        said, right = Counter(row[2] for row in mine), Counter(row[2] for row in mine if row[3])
        words = ", ".join(f"{word} {right[word]}/{said[word]}" for word in ("sure", "likely", "plain") if said[word])
        print(f"{rule or 'together'}: {words}")
        for case, _, word, true, wrong in mine if missed and rule else ():
            if not true:
                print(f"  {case}: {word}: {wrong}")


def is_listed(healthy, finding):
    each = [finding.repair, *(other.changes for other in finding.alternatives)]
    return any(changes and all(is_right(healthy, c) for c in changes) for changes in each)


def told(name, rows):
    many = max(len(rows), 1)
    true, listed = (sum(row[n] for row in rows) for n in (3, 4))
    honest = sum(row[3] or (row[4] and row[2] == "open") for row in rows)
    said = Counter(row[2] for row in rows)
    right = Counter(row[2] for row in rows if row[3])
    words = ", ".join(f"{word} {right[word]}/{said[word]}" for word in ("sure", "likely", "open"))
    print(
        f"{name}: {len(rows)} pairs, true {true / many:.1%}, listed {listed / many:.1%}, true or open and listed "
        f"{honest / many:.1%}, stop somebody {sum(bool(row[5]) for row in rows)}; {words}"
    )


def main():
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("folders", nargs="+", type=Path)
    parser.add_argument("--pairs", type=int, default=4)
    parser.add_argument("--missed", action="store_true")
    parser.add_argument("--planned", action="store_true")
    parser.add_argument("--check", action="store_true")
    parser.add_argument("--raw", action="store_true")
    given = parser.parse_args()
    if given.check:
        told_of_check(given.folders, given.missed, given.raw)
        return
    everything = []
    with ProcessPoolExecutor(2) as pool:
        for folder in given.folders:
            found = sorted(path.parent for path in folder.rglob("truth.json"))
            jobs = [(case, given.pairs, given.planned, given.raw) for case in found]
            rows = [row for part in pool.map(judged, jobs, chunksize=4) for row in part]
            if given.missed:
                for case, pair, word, true, listed, stops, wrong in rows:
                    if not true or stops:
                        print(f"  {case} {pair}: {word}, {'' if listed else 'not '}listed, stops {stops}: {wrong}")
            told(folder.name, rows)
            everything += rows
    told("together", everything)


if __name__ == "__main__":
    sys.exit(main())
