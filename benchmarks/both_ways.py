"""Whether the same is proposed for a pair whichever of the two is asked about first. No timings.

    python benchmarks/both_ways.py FOLDER... [--pairs N]

FOLDER holds surveys, each in a folder `survey/`. Of each up to N pairs that fail (8 unless told) are asked about in
both directions. Told is each for which two different mends are proposed, neither of them as `open`: at most one of
them can be what an engineer would do.
"""

import argparse
from concurrent.futures import ProcessPoolExecutor
from itertools import islice
from pathlib import Path

import crossthread as ct


def told_of(change):
    """A change in words, whichever cell it names first."""
    return str(ct.Change(change.table, change.key, dict(sorted(change.cells.items())), change.delete))


def asked(job):
    """How many pairs of one survey were asked about, and a line for each that is mended in two ways."""
    case, many = job
    network = ct.Network(ct.read_survey(case))
    failing = [(a, b) for a, b, verdict in ct.matrix(network).reaches if verdict == "fails"]
    pairs = dict.fromkeys(frozenset(pair) for pair in failing)
    told, some = [], [sorted(pair) for pair in islice(pairs, many)]
    for a, b in some:
        there, back = ct.why(network, a, b), ct.why(network, b, a)
        mends = [sorted(map(told_of, answer.repair)) for answer in (there, back)]
        if all(mends) and mends[0] != mends[1] and "open" not in (there.confidence, back.confidence):
            words = (
                f"{answer.confidence} {'; '.join(mend)}" for answer, mend in zip((there, back), mends, strict=True)
            )
            told.append(f"  {case.parent.name} {a} {b}: {' | '.join(words)}")
    return len(some), told


def main():
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("folders", nargs="+", type=Path)
    parser.add_argument("--pairs", type=int, default=8)
    given = parser.parse_args()
    cases = [path.parent for folder in given.folders for path in sorted(folder.rglob("survey.toml"))]
    total = 0
    with ProcessPoolExecutor(2) as pool:
        for count, lines in pool.map(asked, [(case, given.pairs) for case in cases], chunksize=2):
            total += count
            print(*lines, sep="\n", end="\n" if lines else "")
    print(f"{len(cases)} surveys, {total} pairs asked about both ways")


if __name__ == "__main__":
    main()
