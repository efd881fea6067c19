"""What half-known surveys say, against the whole ones: verdicts that contradict, and mends that do harm.

    python benchmarks/leaving_out.py FOLDER... [--pairs N] [--tables] [--columns] [--random N] [--campus]
                                     [--planned [--old]]

FOLDER holds surveys, each in a folder `survey/`. Of each, every device is left out in turn (its hosts stay, without a
place); with --tables every table as well, of all devices at once; with --columns every column; and with --random N so
often devices, tables of devices, rows and cells at random, while coverage says what was not read in full. The whole
survey's verdicts are the truth. Counted are the verdicts that are known, those that contradict it, and what became of
the mends that `why` proposes for up to N pairs that fail (3 unless told), carried out on the whole survey: a pair that
works there must not stop. One that works there by luck only is counted by itself: from a half-known survey nobody can
see that, and the true mend ends it, too. With --campus the same of each mend of `check`, and of all that `why --all`
proposes together. With --planned all are asked with the plan that is drafted from the network before anything was
broken (`truth.json` beside the survey says what was). With --old as well, that plan is out of date: hosts, trunks and
gateways are not as they were when it was written.
"""

import argparse
import json
import random
import sys
from collections import Counter
from concurrent.futures import ProcessPoolExecutor
from dataclasses import replace as tables
from pathlib import Path

from judging import drafted, undone
from msgspec.structs import replace

import crossthread as ct
from crossthread.diagnosis.context import Context
from crossthread.diagnosis.way.echo import lucky
from crossthread.survey.records import READ_IN_FULL, TABLES, Coverage, columns_of

UNREAD = ("gateways", "routes", "ports", "trees", "tree_ports", "macs", "arp", "neighbors", "devices")
"""Tables left out; of `vlans`, no row says that every VLAN exists, so it is none that can be unread."""


EMPTY = {
    "devices": ("routing6", "vlan_aware"),
    "ports": ("allowed_macs", "authorized", "isolated", "untagged"),
    "gateways": ("port", "untagged", "table"),
    "routes": ("table",),
    "hosts": ("vid",),
}
"""Columns whose empty cells mean something, or which hardly anybody reads."""


def rebuilt(survey, rows):
    return ct.Survey(info=survey.info, **{name: tuple(rows.get(name, survey.table(name))) for name in TABLES})


def optional(name):
    """The columns of a table that may be left out, and mean nothing where they are empty."""
    fixed = {*TABLES[name].KEY, "device", "source", "extra", *EMPTY.get(name, ())}
    return [column for column, (_, must) in columns_of(TABLES[name]).items() if not must and column not in fixed]


def without_columns(survey):
    """The survey without each column that is no key, and means nothing where it is empty."""
    for name in TABLES:
        rows = survey.table(name)
        for column in optional(name) if name not in ("coverage", "filters", "vlans") else ():
            if any(getattr(row, column) is not None for row in rows):
                yield f"{name}.{column}", rebuilt(survey, {name: [replace(row, **{column: None}) for row in rows]})


def thinned(survey, chance):
    """The survey without whatever chance leaves out."""
    devices = list(dict.fromkeys(row.device for row in survey.ports))
    gone = set(chance.sample(devices, min(len(devices) - 1, chance.choice([0, 0, 1, 1, 2]))))
    rows, unread = {}, set()
    for name in TABLES:
        kept, lost = [], {device for device in devices if chance.random() < 0.08}
        blank = {column for column in optional(name) if column != "port" and chance.random() < 0.06}
        whole = chance.random() < 0.5
        for row in survey.table(name) if name != "coverage" else ():
            if (name not in ("hosts", "vlans") and row.device in gone | lost) or chance.random() < 0.01:
                unread.add((row.device, name))
                continue
            some = name not in ("filters", "vlans") and (whole or chance.random() < 0.3)
            unplugged = {"device": None, "port": None} if name == "hosts" and row.device in gone else {}
            kept.append(replace(row, **unplugged, **dict.fromkeys(blank if some else ())))
        rows[name] = kept
    rows["coverage"] = [Coverage(*place, "no") for place in sorted(p for p in unread if p[1] in READ_IN_FULL)]
    return rebuilt(survey, rows)


def parts(survey, with_tables, columns, random_ones, label):
    """The half-known surveys, each with what was left out."""
    yield from (without_columns(survey) if columns else ())
    for number in range(random_ones):
        yield f"part {number}", thinned(survey, random.Random(f"{label} {number}"))
    for device in dict.fromkeys(row.device for row in survey.ports):
        rows = {name: [r for r in survey.table(name) if r.device != device] for name in TABLES if name != "hosts"}
        hosts = [replace(r, device=None, port=None) if r.device == device else r for r in survey.hosts]
        yield device, rebuilt(survey, rows | {"hosts": hosts})
    for table in UNREAD if with_tables else ():
        if survey.table(table):
            covered = [row for row in survey.coverage if row.table != table]
            claimed = tuple(name for name in survey.info.complete if name != table)
            part = rebuilt(survey, {table: (), "coverage": covered})
            yield f"{table}.csv", tables(part, info=replace(part.info, complete=claimed))


def tried(job):
    """What one whole survey's parts come to: counts, and a line for everything that must not be."""
    case, many, campus, planned, old, *which = job
    label = case.parent.name if case.name == "survey" else case.name
    whole = ct.read_survey(case)
    full = ct.Network(whole)
    truth = {(a, b): verdict for a, b, verdict in ct.matrix(full).reaches}
    truth_of = case.parent / "truth.json"
    faults = json.loads(truth_of.read_text(encoding="utf-8"))["faults"] if planned and truth_of.exists() else []
    plan = drafted(undone(full, faults)) if planned else ct.Plan()
    plan = outdated(plan, random.Random(f"o{label}")) if old else plan
    context, count, lines, known = Context(full), Counter(), [], {}
    for left_out, survey in parts(whole, *which, label):
        network = ct.Network(survey)
        said = {(a, b): verdict for a, b, verdict in ct.matrix(network).reaches}
        count["verdicts"] += len(said)
        for pair, verdict in said.items():
            count["known"] += verdict != "unknown"
            if verdict != "unknown" and truth[pair] not in {verdict, "unknown"}:
                count["contradict"] += 1
                lines.append(f"  {label} without {left_out}: {' '.join(pair)} {verdict}, is {truth[pair]}")
        failing = [pair for pair, verdict in said.items() if verdict == "fails"]
        random.Random(f"{label} {left_out}").shuffle(failing)
        asked = [(f"{a} {b}", ct.why(network, a, b, plan=plan)) for a, b in failing[:many]]
        if campus:
            asked += [(f"check {finding.rule}", finding) for finding in ct.check(network, plan).findings]
            asked.append(("why --all", ct.why_all(network, plan)))
        for question, answer in asked:
            count["mends"] += bool(answer.repair)
            key = tuple(map(str, answer.repair))
            if key not in known:
                known[key] = stopping(full, truth, answer.repair)
            sound = [pair for pair in known[key] if not lucky(context, *pair)]
            if known[key]:
                count["mends that stop somebody"] += bool(sound)
                count["mends that end luck"] += not sound
            if sound:
                what = f"{question}: {'; '.join(key)}: stops {' '.join(sound[0])}"
                lines.append(f"  {label} without {left_out}: {what}")
    return count, lines


def outdated(plan, chance):
    """A plan of how a network was before hosts moved, and trunks and gateways were set anew."""
    vids, ports, hosts, vlans = sorted(plan.vlans) or [1], dict(plan.ports), dict(plan.hosts), dict(plan.vlans)
    access = [key for key, entry in ports.items() if entry.vlan]
    trunks = [key for key, entry in ports.items() if entry.allowed is not None]
    for key in chance.sample(access, min(2, len(access))):
        ports[key] = replace(ports[key], vlan=chance.choice(vids))
    for key in chance.sample(trunks, min(2, len(trunks))):
        anew = [
            {"native": chance.choice([0, *vids])},
            {"allowed": ports[key].allowed - ct.VlanSet.of([chance.choice(vids)])},
            {"mode": "access", "vlan": chance.choice(vids), "allowed": None, "native": None},
        ]
        ports[key] = replace(ports[key], **chance.choice(anew))
    for key in chance.sample(sorted(hosts), min(2, len(hosts))):
        some = hosts[chance.choice(sorted(hosts))]
        anew = [{"vlan": chance.choice(vids)}, {"gateway": some.gateway}, {"address": some.address}]
        hosts[key] = replace(hosts[key], **chance.choice(anew))
    for key in chance.sample(sorted(vlans), min(1, len(vlans))):
        some = vlans[chance.choice(sorted(vlans))]
        anew = [{"gateways": some.gateways}, {"subnets": some.subnets}]
        vlans[key] = replace(vlans[key], **chance.choice(anew))
    return replace(plan, ports=ports, hosts=hosts, vlans=vlans)


def stopping(full, truth, repair):
    """The pairs that work on the whole survey, and no longer with a mend; none if it can no longer be made there."""
    try:
        after = ct.matrix(full.changed(repair)).reaches if repair else ()
    except ct.SurveyError:
        return []
    return [(a, b) for a, b, verdict in after if verdict == "fails" and truth.get((a, b)) == "works"]


def main():
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("folders", nargs="+", type=Path)
    parser.add_argument("--pairs", type=int, default=3)
    parser.add_argument("--tables", action="store_true")
    parser.add_argument("--columns", action="store_true")
    parser.add_argument("--random", type=int, default=0, metavar="N")
    parser.add_argument("--campus", action="store_true")
    parser.add_argument("--planned", action="store_true")
    parser.add_argument("--old", action="store_true")
    given = parser.parse_args()
    total = Counter()
    found = [path.parent for folder in given.folders for path in sorted(folder.rglob("survey.toml"))]
    with ProcessPoolExecutor(2) as pool:
        which = (given.pairs, given.campus, given.planned, given.old, given.tables, given.columns, given.random)
        jobs = [(case, *which) for case in found]
        for count, lines in pool.map(tried, jobs, chunksize=2):
            total += count
            print(*lines, sep="\n", end="\n" if lines else "")
    print(f"{len(found)} surveys: " + ", ".join(f"{number} {name}" for name, number in total.items()))


if __name__ == "__main__":
    sys.exit(main())
