"""Carry out proposed repairs on real switches, and see whether real pings then pass.

    python benchmarks/proving.py BUILDER FOLDER... [--pairs 1] [--seed 5] [--all]

BUILDER is the folder of the program that builds such networks (`python3 -m lab prove` is run in it). Of each case in
the folders some pairs are picked that worked in the healthy network and fail with the faults. The repair that `why`
proposes is made on the running switches, and all pairs are measured again. Printed are: whether the pair then answers
both ways, and how many of all the verdicts that the model foretells for the repaired network the pings bear out.
With --all what `why --all` proposes is made instead, and printed how many of the pairs that worked in the healthy
network work then, and how many that worked before do not.
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

from crossthread import Network, apply_changes, matrix, read_survey, why, why_all

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
    after, aside = carried_out(builder, case, survey, answer.repair, totals)
    if after:
        works = after[pair] is True and after[pair[1], pair[0]] is True
        totals["answer both ways"] += works
        aside = f"{'answers both ways' if works else 'DOES NOT ANSWER'}{aside}"
    print(f"{label}: {aside}", flush=True)


def carried_out(builder, case, survey, repair, totals):
    """What is measured with some changes made; and what was foretold otherwise, or why they could not be made."""
    measured = prove(builder, case, repair)
    if isinstance(measured, str):
        return {}, f"could not be carried out: {measured}"
    after = {(a, b): verdict for a, b, verdict in measured}
    foretold = {(a, b): verdict for a, b, verdict in matrix(Network(apply_changes(survey, repair))).reaches}
    stable = {key: WORDS[verdict] for key, verdict in after.items() if verdict != "unstable"}
    wrong = [f"{a} to {b}" for (a, b), verdict in stable.items() if foretold[a, b] not in (verdict, "unknown")]
    totals["verdicts"] += len(stable)
    totals["verdicts foretold"] += len(stable) - len(wrong)
    return after, f"; foretold otherwise: {', '.join(wrong)}" if wrong else ""


def all_pairs(builder, case, survey, healthy, before, totals):
    answer = why_all(Network(survey))
    if not answer.repair:
        print(f"{case.name}: no repair is proposed", flush=True)
        return
    after, aside = carried_out(builder, case, survey, answer.repair, totals)
    held = [pair for pair in healthy if after.get(pair) is True]
    lost = [pair for pair in before if after and after[pair] is False]
    totals["healthy pairs"] += len(healthy)
    totals["of them work"] += len(held)
    totals["stopped"] += len(lost)
    rules = ", ".join(mend.finding.rule for mend in answer.mends)
    print(f"{case.name}: {rules}: {len(held)} of {len(healthy)} work, {len(lost)} stopped{aside}", flush=True)


def main():
    given = argparse.ArgumentParser()
    given.add_argument("builder", type=Path)
    given.add_argument("folders", type=Path, nargs="+")
    given.add_argument("--pairs", type=int, default=1)
    given.add_argument("--seed", type=int, default=5)
    given.add_argument("--all", action="store_true")
    given = given.parse_args()
    chance, totals = random.Random(given.seed), Counter()
    for case in sorted(path.parent for folder in given.folders for path in folder.rglob("truth.json")):
        truth = json.loads((case / "truth.json").read_text())
        healthy = {(a, b) for a, b, reached in truth["healthy_reaches"] if reached is True}
        broken = sorted((a, b) for a, b, reached in truth["reaches"] if reached is False and (a, b) in healthy)
        survey = read_survey(case / "survey")
        if given.all:
            before = {(a, b) for a, b, reached in truth["reaches"] if reached is True}
            all_pairs(given.builder, case, survey, healthy, before, totals)
            continue
        for pair in chance.sample(broken, min(given.pairs, len(broken))):
            one_pair(given.builder, case, survey, pair, totals)
    print(dict(totals))


if __name__ == "__main__":
    main()
