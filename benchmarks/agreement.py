"""Compare verdicts with real pings, over folders of cases.

    python benchmarks/agreement.py FOLDER... [--repairs] [--check] [--trees]

A case is a folder with `survey/` and `truth.json`. Of truth.json are used: `reaches`, a list of `[from, to, verdict]`
with true, false or "unstable" (counted for nobody); with `--repairs` also `healthy_reaches` (the same before the
faults) and `faults` (each with `expected_rules`), to see whether `why` names what was put in, its mend is proven and is
no larger than undoing faults;
with `--check` whether each fault is found at its place by `check` (or `why` of a pair that it broke), and how many
findings of `check` break something and are explained by no fault; with `--trees` on how many ports that are up the
computed role and state of the spanning tree are the observed ones.
"""

import json
import sys
from collections import Counter
from itertools import combinations
from pathlib import Path

from crossthread import Change, Network, check, matrix, read_survey, why
from crossthread.network.routing.forwarding import Forwarding
from crossthread.views.tree import tree_overview

WORDS = {True: "works", False: "fails"}


def cases(folders):
    for folder in map(Path, folders):
        yield from sorted(path.parent for path in folder.rglob("truth.json"))


def verdicts(case, truth, network, totals):
    found = {(a, b): verdict for a, b, verdict in matrix(network).reaches}
    wrong = []
    for a, b, reached in truth["reaches"]:
        if reached == "unstable":
            totals["unstable"] += 1
            continue
        totals["pairs"] += 1
        if found[a, b] == WORDS[reached]:
            totals["agree"] += 1
        else:
            totals["unknown" if found[a, b] == "unknown" else "contradict"] += 1
            wrong.append(f"  {a} to {b}: pings say {WORDS[reached]}, the model says {found[a, b]}")
    print(f"{case.name}: {len(truth['reaches']) - len(wrong)} of {len(truth['reaches'])}", *wrong, sep="\n")


def things(changes):
    """How many ports, interfaces, hosts, ... are edited; what will only be observed does not count."""
    keys = set()
    for change in changes:
        if set(change.cells) - {"oper", "link"} or change.delete:
            keys.add((change.table, *(str(v) for c, v in change.key.items() if c != "address")))
    return max(1, len(keys))


def least_undo(network, faults, a, b):
    """How few edits it takes to undo so many of the faults that the pair works, and which faults."""
    undo = [
        [Change(c["table"], c["key"], c.get("set", {}), c.get("delete", False)) for c in fault["undo"]]
        for fault in faults
    ]
    sizes = sorted(
        (things([c for n in chosen for c in undo[n]]), many, chosen)
        for many in range(1, len(undo) + 1)
        for chosen in combinations(range(len(undo)), many)
    )
    for size, _, chosen in sizes:
        if reaches(network.changed([c for n in reversed(chosen) for c in undo[n]]), a, b):
            return size, chosen
    return 99, ()


def reaches(network, a, b):
    hosts = network.stations.hosts
    return Forwarding(network).echo(hosts[a], hosts[b])


def repairs(case, truth, network, totals):
    healthy = {(a, b) for a, b, reached in truth["healthy_reaches"] if reached is True}
    expected = {rule for fault in truth["faults"] for rule in fault["expected_rules"]}
    for a, b, reached in truth["reaches"]:
        if reached is False and (a, b) in healthy:
            answer = why(network, a, b)
            named = {finding.rule for finding in answer.findings}
            totals["broken pairs"] += 1
            totals["with a finding"] += bool(named)
            totals["mend proven"] += answer.repair_proven
            totals["only rules that were expected"] += named <= expected
            ours, (theirs, chosen) = things(answer.repair), least_undo(network, truth["faults"], a, b)
            in_the_way = [truth["faults"][n] for n in chosen]
            missed = [f["kind"] for f in in_the_way if not set(f["expected_rules"]) & named]
            totals["faults in the way"] += len(in_the_way)
            totals["faults in the way named"] += len(in_the_way) - len(missed)
            if missed:
                print(f"  {case.name} {a} to {b}: {sorted(named)}, not named: {missed}")
            totals["no larger than undoing the faults"] += ours <= theirs
            if ours > theirs:
                print(f"  {case.name} {a} to {b}: {ours} edits, undoing {theirs}: {sorted(named)}")
            if not answer.repair_proven or not named <= expected:
                print(f"  {case.name} {a} to {b}: {answer.verdict}, {sorted(named)}, proven: {answer.repair_proven}")


def all_of(findings):
    for finding in findings:
        yield finding
        yield from all_of(finding.follows)


def places(finding):
    """Everything that a finding names: subjects, evidence and mends."""
    keys = [subject.__struct_fields__ for subject in finding.subjects]
    found = [{f: getattr(s, f) for f in fields} for s, fields in zip(finding.subjects, keys, strict=True)]
    return found + [fact.key for fact in finding.evidence] + [change.key for change in finding.repair]


def fits(fault, finding):
    where = {name: str(value) for name, value in fault["where"].items()}
    for key in places(finding):
        told = {name: str(value) for name, value in key.items() if value is not None}
        if all(told.get(name, value) == value for name, value in where.items()) and where.items() & told.items():
            return True
    return False


def recall(case, truth, network, totals):
    findings = list(all_of(check(network).findings))
    for fault in truth["faults"]:
        rules = set(fault["expected_rules"])
        by_check = any(finding.rule in rules and fits(fault, finding) for finding in findings)
        totals["faults"] += 1
        totals["found by check"] += by_check
        if not by_check:
            broken = {tuple(pair[:2]) for pair in truth["reaches"] if pair[2] is False}
            by_why = any(
                finding.rule in rules and fits(fault, finding)
                for a, b in broken
                for finding in why(network, a, b).findings
            )
            totals["found by why only"] += by_why
            print(f"  {case.name} {fault['kind']} {fault['where']}: {'by why only' if by_why else 'NOT FOUND'}")
    for finding in findings:
        if finding.severity != "breaks":
            continue
        if not any(finding.rule in fault["expected_rules"] and fits(fault, finding) for fault in truth["faults"]):
            totals["breaks unexplained"] += 1
            print(f"  {case.name} unexplained: {finding.rule}: {finding.says}")


def trees(case, network, totals):
    for answer in tree_overview(network).instances:
        seen = [port for port in answer.ports if port.observed_role is not None]
        alike = [
            p for p in seen if (p.role, p.state) == (p.observed_role, p.observed_state) and "observed;" not in p.because
        ]
        totals["tree ports"] += len(seen)
        totals["tree ports as observed"] += len(alike)
        for port in seen:
            if port not in alike:
                says = f"{port.role} {port.state}, observed {port.observed_role} {port.observed_state}: {port.because}"
                print(f"  {case.name} {port.device} {port.port}: {says}")


def main(words):
    totals = Counter()
    for case in cases(word for word in words if not word.startswith("--")):
        truth = json.loads((case / "truth.json").read_text(encoding="utf-8"))
        network = Network(read_survey(case / "survey"))
        totals["cases"] += 1
        verdicts(case, truth, network, totals)
        if "--repairs" in words:
            repairs(case, truth, network, totals)
        if "--trees" in words:
            trees(case, network, totals)
        if "--check" in words:
            recall(case, truth, network, totals)
    if not totals["pairs"]:
        print("no case found: expected folders that hold survey/ and truth.json", file=sys.stderr)
        return 2
    print(", ".join(f"{count} {name}" for name, count in totals.items()))
    print(f"agreement: {totals['agree'] / totals['pairs']:.2%} of {totals['pairs']} stable pairs")
    return 0 if totals["agree"] == totals["pairs"] else 1


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
