"""Small networks in which some cells are set at random, half of them with a plan: what holds of any network.

    python benchmarks/random_cells.py [COUNT] [SEED] [--keep FOLDER]

Each is a network of the tests of which two to fourteen edits are made, each of a cell that gets another value of its
column, or of a row that goes or comes; where there is a plan, it is that of the network before. Nobody has such a
network; so nearly every branch of the code is taken, and what a plausible network never shows comes out. Printed is
every answer that breaks a law: `why` says what the matrix says; a mend that is called proven makes the pair work;
whoever stops by a mend of `why` is told with it, and `why --all` stops nobody; the steps of the work order end where
the repair does; each question ends with an answer. With --keep the networks are written to FOLDER, as
`tests/data/recorded/odd-NN` were, whose answers are recorded.
"""

import argparse
import random
import sys
import tempfile
from pathlib import Path

import crossthread as ct

sys.path.insert(0, str(Path(__file__).resolve().parent.parent))
from tests import test_designs
from tests.test_changed_copies import changes
from tests.yard import quay, yard

ASKED = 3
"""Of how many pairs that do not talk it is asked why, and of how many that do."""


def networks():
    """The networks that are edited, by name."""
    found = {"quay": quay(), "quay once more": quay()}
    found |= {f"yard {style}": yard((2, 2), (2, 1), style) for style in ("stick", "ports", "own")}
    return found | {name: getattr(test_designs, name)() for name in ("managed", "carried", "doubled", "between")}


def with_edits(survey, chance):
    """A network with some edits, and its plan before them, or None; None where they cannot be made together."""
    edits = list(changes(chance.random(), survey, 4))
    plan = ct.draft_plan(ct.Network(survey)) if chance.random() < 0.5 else None
    for _ in range(20):
        try:
            edited = ct.apply_changes(survey, [c for e in chance.sample(edits, chance.randint(2, 14)) for c in e])
            return edited, plan
        except ct.SurveyError:
            continue
    return None


def verdicts(survey):
    return {(a, b): verdict for a, b, verdict in ct.matrix(ct.Network(survey)).reaches}


def stopping(before, survey, repair):
    """Who works and fails once a repair is made."""
    after = verdicts(ct.apply_changes(survey, repair))
    return after, [pair for pair, verdict in before.items() if verdict == "works" and after.get(pair) == "fails"]


def broken_laws(survey, plan, chance):
    """What is said of a network that cannot be right."""
    network, before = ct.Network(survey), verdicts(survey)
    for finding in ct.check(network, plan).findings:
        ct.apply_changes(survey, finding.repair)
    for works in (False, True):
        pairs = [pair for pair, verdict in before.items() if (verdict == "works") is works]
        for one, two in chance.sample(pairs, min(ASKED, len(pairs))):
            told = ct.why(network, one, two, plan=plan)
            if told.verdict != before[one, two]:
                yield f"{one} to {two}: why says {told.verdict}, the matrix {before[one, two]}"
            if not told.repair:
                continue
            after, stopped = stopping(before, survey, told.repair)
            added = len(ct.apply_changes(survey, told.repair).gateways) - len(survey.gateways)
            if added > sum("proxy_arp" in change.cells for change in told.repair):
                yield f"{one} to {two}: a mend adds an interface that nobody meant: {'; '.join(map(str, told.repair))}"
            if told.repair_proven and after[one, two] != "works":
                yield f"{one} to {two}: {after[one, two]} with what is proven"
            if stopped and not (told.costs or told.luck or told.unsure):
                yield f"{one} to {two}: {stopped[:2]} stop, and nobody says so"
            if verdicts(ct.apply_changes(survey, [c for step in told.order for c in step.changes])) != after:
                yield f"{one} to {two}: the work order ends elsewhere than the repair"
    whole = ct.why_all(network, plan)
    if whole.repair and whole.then.works < whole.now.works:
        yield "why --all: fewer work than before"


def tried(survey, plan, chance):
    """The same, with what ends in no answer."""
    try:
        yield from broken_laws(survey, plan, chance)
    except Exception as error:  # whatever it is, it is a fault of ours
        yield f"{type(error).__name__}: {error}"


def main():
    given = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    given.add_argument("count", type=int, nargs="?", default=200)
    given.add_argument("seed", type=int, nargs="?", default=1)
    given.add_argument("--keep", type=Path, help="where the networks are written")
    told = given.parse_args()
    chance, started, wrong, asked = random.Random(told.seed), networks(), 0, 0
    for number in range(told.count):
        name = chance.choice(sorted(started))
        made = with_edits(started[name], chance)
        if made is None:
            continue
        asked += 1
        with tempfile.TemporaryDirectory() as holder:
            folder = told.keep / f"{number:03}" if told.keep else Path(holder)
            folder.mkdir(parents=True, exist_ok=True)
            ct.write_survey(made[0], folder / "survey.json.gz")
            survey, plan = ct.read_survey(folder / "survey.json.gz"), None
            if made[1] is not None:
                (folder / "plan.toml").write_text(made[1], encoding="utf-8")
                plan = ct.read_plan(folder / "plan.toml")
        for line in tried(survey, plan, chance):
            wrong += 1
            print(f"{number:03} {name}: {line}", flush=True)
    print(f"{asked} networks, {wrong} answers that break a law")


if __name__ == "__main__":
    main()
