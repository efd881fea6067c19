"""Compare verdicts with real pings, over folders of cases.

    python benchmarks/agreement.py FOLDER... [--repairs]

A case is a folder with `survey/` and `truth.json`. Of truth.json are used: `reaches`, a list of `[from, to, verdict]`
with true, false or "unstable" (counted for nobody); with `--repairs` also `healthy_reaches` (the same before the
faults) and `faults` (each with `expected_rules`), to see whether `why` names what was put in and its mend is proven.
"""

import json
import sys
from collections import Counter
from pathlib import Path

from crossthread import Network, matrix, read_survey, why

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
            if not answer.repair_proven or not named <= expected:
                print(f"  {case.name} {a} to {b}: {answer.verdict}, {sorted(named)}, proven: {answer.repair_proven}")


def main(words):
    totals = Counter()
    for case in cases(word for word in words if not word.startswith("--")):
        truth = json.loads((case / "truth.json").read_text(encoding="utf-8"))
        network = Network(read_survey(case / "survey"))
        totals["cases"] += 1
        verdicts(case, truth, network, totals)
        if "--repairs" in words:
            repairs(case, truth, network, totals)
    if not totals["pairs"]:
        print("no case found: expected folders that hold survey/ and truth.json", file=sys.stderr)
        return 2
    print(", ".join(f"{count} {name}" for name, count in totals.items()))
    print(f"agreement: {totals['agree'] / totals['pairs']:.2%} of {totals['pairs']} stable pairs")
    return 0 if totals["agree"] == totals["pairs"] else 1


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
