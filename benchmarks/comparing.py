"""What `compare` says of networks that were really measured twice: healthy, and with faults.

Each argument is a folder of measured cases, each with `survey/`, and `truth.json` that has the pings before and after
the faults, and the changes that undo them.

    python benchmarks/comparing.py FOLDER...
"""

import json
import sys
from collections import Counter
from pathlib import Path

from crossthread import Change, apply_changes, compare, read_survey


def main() -> None:
    """Compare each case with faults to the same without, both ways round, and its pairs to what pings answered."""
    said: Counter[str] = Counter()
    for case in sorted(path for folder in sys.argv[1:] for path in Path(folder).glob("case-*")):
        truth = json.loads((case / "truth.json").read_text(encoding="utf-8"))
        undone = [change for fault in reversed(truth["faults"]) for change in fault["undo"]]
        faulty = read_survey(case / "survey")
        healthy = apply_changes(faulty, [Change(c["table"], c["key"], c["set"]) for c in undone])
        was, now = ({(a, b): v for a, b, v in truth[name]} for name in ("reaches", "healthy_reaches"))
        for way, before, after in (
            ("mended", (faulty, was), (healthy, now)),
            ("broken", (healthy, now), (faulty, was)),
        ):
            judge(f"{case.name} {way}", before, after, said)
    for name, count in sorted(said.items()):
        print(f"{count:6,} {name}")


def judge(case, before, after, said):
    answer = compare(before[0], after[0])
    sure = {pair for pair in before[1] if {before[1][pair], after[1].get(pair)} <= {True, False}}
    differ = {pair for pair in sure if before[1][pair] != after[1][pair]}
    unsure = set(map(tuple, answer.pairs.unsure))
    for name, reached in (("fixed", True), ("broken", False)):
        true = {pair for pair in differ if after[1][pair] == reached}
        told = set(map(tuple, getattr(answer.pairs, name)))
        wrong = {*(true - told - unsure), *((told & sure) - true)}
        said[f"{name} pairs, told"] += len(true & told)
        said[f"{name} pairs, said to be unsure"] += len((true - told) & unsure)
        said[f"{name} pairs, wrong"] += len(wrong)
        if wrong:
            print(f"{case}: {name}: {sorted(wrong)[:6]}")
    expected = {True: "better", False: "worse"}
    outcomes = {expected[after[1][pair]] for pair in differ}
    said["outcome " + answer.outcome] += 1
    if outcomes and answer.outcome not in outcomes:
        print(f"{case}: {answer.outcome}: {answer.because}")


if __name__ == "__main__":
    main()
