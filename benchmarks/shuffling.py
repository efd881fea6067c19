"""Whether what is answered turns on the order in which the rows of a survey stand. No timings.

    python benchmarks/shuffling.py FOLDER... [--times N]

FOLDER holds cases as `imagined.py` or a lab writes them, or is a survey itself. The rows of every table are put into
another order, N times (2 unless told), and all is asked again: every verdict, the mends that `check` proposes, and
`why` of three pairs that fail. Printed is each survey of which anything differs, and what; of findings that stand for
others like them, which one is told may differ by design.
"""

import argparse
import dataclasses
import random
from collections import Counter
from pathlib import Path

from crossthread import Network, check, matrix, read_survey, why
from crossthread.survey.records import TABLES


def shuffled(survey, seed):
    """The same survey with the rows of each table in another order."""
    chance = random.Random(seed)
    tables = {name: list(survey.table(name)) for name in TABLES}
    for rows in tables.values():
        chance.shuffle(rows)
    return dataclasses.replace(survey, **tables)


def answers(survey, failing=None):
    """The verdicts, the mends of `check`, and what `why` says of three pairs that fail."""
    network = Network(survey)
    verdicts = {(one, two): verdict for one, two, verdict in matrix(network).reaches}
    mends = Counter((f.rule, f.severity, frozenset(map(str, f.repair))) for f in check(network).findings if f.repair)
    pairs = failing or [pair for pair, verdict in verdicts.items() if verdict == "fails"][:3]
    told = {}
    for pair in pairs:
        answer = why(network, *pair)
        told[pair] = answer.verdict, answer.confidence, frozenset(map(str, answer.repair))
    return verdicts, mends, told


def differences(one, two):
    """What differs between two answers, each in a line."""
    verdicts, mends, told = zip(one, two, strict=True)
    for pair, verdict in verdicts[0].items():
        if verdicts[1][pair] != verdict:
            yield f"{' to '.join(pair)}: {verdict}, or {verdicts[1][pair]}"
    for mine, other in ((mends[0], mends[1]), (mends[1], mends[0])):
        yield from (f"check only once: {rule} {severity} {sorted(mend)}" for rule, severity, mend in mine - other)
    yield from (
        f"why {' to '.join(pair)}: {told[0][pair]}, or {told[1][pair]}"
        for pair in told[0]
        if told[0][pair] != told[1][pair]
    )


def main():
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("folders", nargs="+", type=Path)
    parser.add_argument("--times", type=int, default=2)
    given = parser.parse_args()
    count, differ = 0, 0
    for case in (case for folder in given.folders for case in sorted(folder.glob("case-*")) or [folder]):
        survey = read_survey(case / "survey" if (case / "survey").is_dir() else case)
        first = answers(survey)
        found = [
            line
            for seed in range(given.times)
            for line in differences(first, answers(shuffled(survey, seed), list(first[2])))
        ]
        count, differ = count + 1, differ + bool(found)
        for line in dict.fromkeys(found):
            print(f"{case}: {line}", flush=True)
    print(f"{differ} of {count} surveys differ")


if __name__ == "__main__":
    main()
