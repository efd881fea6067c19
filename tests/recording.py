"""Answers as they were recorded: every question to small networks with faults, and what each edit of a cell leads to.

    python -m tests.recording

prints what is answered otherwise today, and writes that beside the surveys in `data/recorded/`: for where an answer is
meant to change. Read what it prints.
"""

import gzip
import json
import re
from collections.abc import Callable, Iterable, Iterator
from pathlib import Path

import crossthread as ct
from crossthread.answer import json_of
from crossthread.demo.generator import generate
from tests.building import DATA
from tests.test_changed_copies import changes
from tests.test_plan import plan_of
from tests.yard import quay, yard

SURVEYS = sorted((DATA / "recorded").glob("*/survey.json.gz"))
_PAIRS = 3
"""Of how many pairs that do not talk it is asked why."""
_FEW = 10
"""Of networks with fewer hosts all is asked."""


VIEWS = (
    ct.map_network, ct.inventory, ct.addresses, ct.vlans, ct.trees, ct.tree_advice, ct.tree_ways, ct.draft_plan,
    ct.class_matrix,
)  # fmt: skip
"""What can be asked of a network as a whole, besides what is found in it."""


def looked_at(network: ct.Network, number: int) -> Iterator[tuple[str, object]]:
    """One view of a network, something that is found in it, and at times a page: which they are, turns on a number."""
    view = VIEWS[number % len(VIEWS)]
    survey = network.survey
    ends = [(row.device, row.port) for row in survey.ports]
    words = [*(row.mac for row in survey.ports), *(row.chassis for row in survey.devices), *(a for a, _ in ends)]
    words += [word for row in (*survey.arp, *survey.hosts) for word in (row.mac, row.address)]
    words = [word.partition("/")[0] for word in words if word and word != "none"]
    pages = [(ct.device, ends[number % len(ends)][:1]), (ct.port, ends[number % len(ends)])]  # each is a check, too
    for question, about in ((view, ()), (ct.find, (words[number % len(words)],)), *pages[number % 4 : number % 4 + 1]):
        yield " ".join((question.__name__, *about)), plain(or_why_not(question, network, *about))


def known_by(survey: ct.Survey) -> list[str]:
    """What somebody may look for: of the tables the first words and the last ones."""
    columns = (
        ("hosts", "host"), ("hosts", "mac"), ("hosts", "address"), ("vlans", "vid"), ("vlans", "name"),
        ("gateways", "address"), ("ports", "description"), ("ports", "mac"), ("neighbors", "neighbor"),
        ("neighbors", "neighbor_chassis"), ("neighbors", "management"), ("arp", "address"), ("macs", "mac"),
    )  # fmt: skip
    found = [[str(value) for value in survey.column(*place) if value not in (None, "none")] for place in columns]
    return sorted({word for words in found for word in (*words[:1], *words[-1:])})


def or_why_not(question: Callable[..., object], *about: object) -> object:
    """An answer, or the sentence that says why there is none."""
    try:
        return question(*about)
    except ct.CrossThreadError as error:
        return str(error)


def asked(network: ct.Network, plan: ct.Plan | None = None) -> Iterator[tuple[str, object]]:
    """Every question to a network, by what it is called in the record, and its answer."""
    survey, verdicts = network.told, ct.matrix(network)
    yield "matrix", verdicts
    yield "check", ct.check(network, plan)
    for name, question in (("map", ct.map_network), ("inventory", ct.inventory),
                           ("addresses", ct.addresses), ("vlans", ct.vlans), ("trees", ct.trees),
                           ("tree advice", ct.tree_advice), ("plan draft", ct.draft_plan)):  # fmt: skip
        yield name, question(network)
    yield "classes", ct.class_matrix(network)
    if len(survey.hosts) < _FEW:
        yield "why all", ct.why_all(network, plan)
        yield "tree ways", ct.tree_ways(network)
    for row in survey.trees[:1]:
        yield f"tree {row.instance}", ct.tree(network, row.instance)
        yield f"without {row.device}", ct.tree_without(network, row.device)
    for word in known_by(survey):
        yield f"find {word}", or_why_not(ct.find, network, word)
    for device in survey.devices[:2]:
        yield f"device {device.device}", ct.device(network, device.device)
    for port in [row for row in survey.ports if row.mode == "trunk"][:2]:
        yield f"port {port.device} {port.port}", ct.port(network, port.device, port.port)
    for cable in list(network.adjacencies)[:2]:
        yield f"link {cable.a}", ct.link(network, cable.a.device, cable.a.port)
    for vid in sorted({row.vid for row in survey.gateways if row.vid})[:2]:
        yield f"vlan {vid}", ct.vlan(network, vid)
    stopped = [(a, b) for a, b, verdict in verdicts.reaches if verdict != "works"]
    for number, (a, b) in enumerate(stopped[:: max(1, len(stopped) // _PAIRS)][:_PAIRS]):
        answer = ct.why(network, a, b, plan=plan)
        yield f"why {a} {b}", answer
        if number:
            continue  # the rest takes long, and is asked of one pair
        for device in [row.device for row in survey.devices][-1:]:
            yield f"why {device} {b}", or_why_not(ct.why, network, device, b)
        if answer.repair:
            yield f"rehearse {a} {b}", ct.rehearse(network, answer.repair, plan)
            yield f"compare {a} {b}", ct.compare(network, ct.Network(ct.apply_changes(survey, answer.repair)))
    passed = [(a, b) for a, b, verdict in verdicts.reaches if verdict == "works"]
    for a, b in passed[:1]:
        yield f"why {a} {b}", ct.why(network, a, b)
        yield f"steps {a} {b}", ct.why_steps(network, a, b)
        for router in [row.device for row in survey.devices if row.routing == "yes"][:1]:
            yield f"via {router} {a} {b}", ct.why_via(network, a, b, router)


def plain(answer: object) -> object:
    """An answer as plain values, without the folder that a plan was read from."""
    return json.loads(re.sub(r'"[^"]*/plan.toml', '"plan.toml', json_of(answer)))


def answers(place: Path, network: ct.Network | None = None) -> dict[str, object]:
    """All answers about one recorded survey."""
    beside = place.with_name("plan.toml")
    plan = ct.read_plan(beside) if beside.exists() else None
    return dict(asked(network or ct.Network(ct.read_survey(place)), plan))


def plainly(given: dict[str, object]) -> dict[str, object]:
    """Answers as they are recorded."""
    return {name: plain(answer) for name, answer in given.items()}


def recorded(survey: Path) -> dict[str, object]:
    """What they were when they were recorded."""
    path = survey.with_name("answers.json.gz")
    return json.loads(gzip.decompress(path.read_bytes())) if path.exists() else {}


def differences(was: object, now: object, at: str = "") -> Iterator[str]:
    """Where two answers differ, value by value."""
    if isinstance(was, dict) and isinstance(now, dict):
        for key in sorted({*was, *now}):
            yield from differences(was.get(key), now.get(key), f"{at} / {key}" if at else key)
    elif isinstance(was, list) and isinstance(now, list) and len(was) == len(now):
        for number, (one, two) in enumerate(zip(was, now, strict=True)):
            yield from differences(one, two, f"{at} {number}")
    elif was != now:
        yield f"{at}: {json.dumps(was)[:400]} → {json.dumps(now)[:400]}"


EDITED = {
    "yard": 3, "keel-routes": 2, "campus": 2, "quay": 2, "planned": 2, "museum-between": 1, "kinds-05": 1,
    "network-06": 1, "half-00": 1,
}  # fmt: skip
"""How many values each column of a small network is given, one at a time; in every second edit two columns."""
_PLAN = """
[vlans]
1 = { name = "ground" }
10 = { name = "desks", subnets = ["10.9.10.0/24"], gateways = ["10.9.10.1"], root = "north", backup_root = "south" }
20 = { name = "tills", subnets = ["10.9.20.0/24"], root = "south", backup_root = "east" }
30 = { name = "transit" }

[settings]
native = 1
tree = "per-vlan"
mtu = 1500
speed = 1000
discovery = "between-devices"

[ports.north]
t1 = { mode = "trunk", allowed = "1 10 20 30", native = 1 }
desk = { mode = "access", vlan = 10 }

[hosts]
till = { vlan = 20, address = "10.9.20.20/24", gateway = "10.9.20.1" }
desk-north = { vlan = 10 }

[[links]]
ends = ["north", "t1", "east", "t1"]
carries = "10 20"

[[links]]
ends = ["south", "t1", "east", "t2"]

[[talk]]
vlans = "10"
others = "20"
may = false

[[accept]]
rule = "tree-detour"
reason = "south is to be cabled anew"
"""
"""What is meant with the quay that is `planned`: not all of it is there, nor just so."""


def small(name: str) -> ct.Survey:
    """One of those networks."""
    if (DATA / "recorded" / name).is_dir():
        return ct.read_survey(DATA / "recorded" / name / "survey.json.gz")
    if name == "campus":
        return generate(5, 4, 6, 3)
    return quay() if name in ("quay", "planned") else yard(style="stick" if name == "yard" else "own")


def edited(name: str) -> Iterator[dict[str, object]]:
    """What one cell of a small network, or two, set otherwise, leads to: whom it stops and why, and what is found."""
    survey, plan = small(name), plan_of(_PLAN) if name == "planned" else None
    before = {(a, b): verdict for a, b, verdict in ct.matrix(ct.Network(survey)).reaches}
    last: list[ct.Change] = []
    for number, edit in enumerate(changes(name, survey, EDITED[name])):
        edits, last = [*edit, *last[: number % 2]], edit
        made = "; ".join(map(str, edits))
        try:
            network = ct.Network(ct.apply_changes(survey, edits))
        except ct.SurveyError as error:
            yield {"edit": made, "error": str(error).splitlines()[0]}
            continue
        turned = [[a, b, verdict] for a, b, verdict in ct.matrix(network).reaches if before.get((a, b)) != verdict]
        stopped = next(((a, b) for a, b, verdict in turned if verdict != "works"), None)
        yield {"edit": made, "turned": turned, "check": plain(ct.check(network, plan)),
               "why": plain(ct.why(network, *stopped, plan=plan)) if stopped else None,
               "views": dict(looked_at(network, number))}  # fmt: skip


def kept(name: str) -> list[dict[str, object]]:
    """What it led to when that was recorded."""
    path = DATA / "recorded" / f"{name}.json.gz"
    return [json.loads(line) for line in gzip.decompress(path.read_bytes()).splitlines()] if path.exists() else []


def keep(path: Path, lines: Iterable[object]) -> None:
    """Write a record."""
    text = "\n".join(json.dumps(line, ensure_ascii=False) for line in lines)
    path.write_bytes(gzip.compress(text.encode(), mtime=0))


if __name__ == "__main__":
    for network in EDITED:
        lines = list(edited(network))
        for was, now in zip(kept(network), lines, strict=False):
            for line in differences(was, now, str(now["edit"])):
                print(line)
        keep(DATA / "recorded" / f"{network}.json.gz", lines)
    for place in SURVEYS:
        new = plainly(answers(place))
        for line in differences(recorded(place), new, place.parent.name):
            print(line)
        keep(place.with_name("answers.json.gz"), [new])
