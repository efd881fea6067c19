"""Carry out proposed repairs on real switches, and see whether real pings then pass.

    python benchmarks/proving.py BUILDER FOLDER... [--pairs 1] [--seed 5]

BUILDER is the folder of the program that builds such networks (`python3 -m lab prove` is run in it). Of each case in
the folders some pairs are picked that worked in the healthy network and fail with the faults. The repair that `why`
proposes is made on the running switches, and all pairs are measured again. Printed are: whether the pair then answers
both ways, and how many of all the verdicts that the model foretells for the repaired network the pings bear out.
"""

import argparse
import json
import os
import random
import subprocess
import tempfile
from collections import Counter
from pathlib import Path

import msgspec

from crossthread import Network, apply_changes, matrix, read_survey, why

WORDS = {True: "works", False: "fails"}


def prove(builder, case, changes):
    with tempfile.NamedTemporaryFile("w", suffix=".json") as file:
        file.write(msgspec.json.encode(changes).decode())
        file.flush()
        command = ["python3", "-m", "lab", "prove", "--case", str(case.resolve()), "--changes", file.name]
        environment = {**os.environ, "PYTHONDONTWRITEBYTECODE": "1"}
        run = subprocess.run(command, cwd=builder, capture_output=True, text=True, env=environment, check=False)
    return json.loads(run.stdout)["reaches"] if run.returncode == 0 else run.stderr.strip()[-300:]


def one_pair(builder, case, survey, pair, totals):
    answer = why(Network(survey), *pair)
    label = f"{case.name} {pair[0]} to {pair[1]}: {', '.join(finding.rule for finding in answer.findings)}"
    totals["pairs"] += 1
    if not answer.repair_proven:
        print(f"{label}: no proven repair", flush=True)
        return
    measured = prove(builder, case, answer.repair)
    if isinstance(measured, str):
        print(f"{label}: could not be carried out: {measured}", flush=True)
        return
    after = {(a, b): verdict for a, b, verdict in measured}
    foretold = {(a, b): verdict for a, b, verdict in matrix(Network(apply_changes(survey, answer.repair))).reaches}
    works = after[pair] is True and after[pair[1], pair[0]] is True
    stable = {key: WORDS[verdict] for key, verdict in after.items() if verdict != "unstable"}
    wrong = [f"{a} to {b}" for (a, b), verdict in stable.items() if foretold[a, b] != verdict]
    totals["answer both ways"] += works
    totals["verdicts"] += len(stable)
    totals["verdicts foretold"] += len(stable) - len(wrong)
    aside = f"; foretold otherwise: {', '.join(wrong)}" if wrong else ""
    print(f"{label}: {'answers both ways' if works else 'DOES NOT ANSWER'}{aside}", flush=True)


def main():
    given = argparse.ArgumentParser()
    given.add_argument("builder", type=Path)
    given.add_argument("folders", type=Path, nargs="+")
    given.add_argument("--pairs", type=int, default=1)
    given.add_argument("--seed", type=int, default=5)
    given = given.parse_args()
    chance, totals = random.Random(given.seed), Counter()
    for case in sorted(path.parent for folder in given.folders for path in folder.rglob("truth.json")):
        truth = json.loads((case / "truth.json").read_text())
        healthy = {(a, b) for a, b, reached in truth["healthy_reaches"] if reached is True}
        broken = sorted((a, b) for a, b, reached in truth["reaches"] if reached is False and (a, b) in healthy)
        survey = read_survey(case / "survey")
        for pair in chance.sample(broken, min(given.pairs, len(broken))):
            one_pair(given.builder, case, survey, pair, totals)
    print(dict(totals))


if __name__ == "__main__":
    main()
