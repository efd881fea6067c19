"""Whether what an unknown verdict says to look at settles it: followed step by step, out of the whole survey.

    python benchmarks/following.py FOLDER... [--random N] [--first]

FOLDER holds surveys, each in a folder `survey/`. Of each, the parts that `leaving_out.py --tables --columns` makes are
asked for two pairs whose verdict the part leaves unknown and the whole survey knows. What `why` says to look at is then
taken from the whole survey, all of it or with --first only what it says first, and asked again, until the verdict is
known. Told are the pairs that nothing more settles, those without anything to look at, and verdicts that are not the
whole survey's. States of a tree that the whole survey has not are put in as they are computed: switches can say them.
"""

import argparse
import random
from collections import Counter
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

from leaving_out import parts, rebuilt
from msgspec.structs import replace

import crossthread as ct
from crossthread.network.topology.names import End
from crossthread.survey.records import READ_IN_FULL, TABLES, Coverage

MOST = 25
"""After so many steps a verdict counts as not settled."""
TOLD = tuple(name for name in TABLES if name not in ("hosts", "coverage"))


def with_states(survey):
    """The survey with the states of its trees as they are computed, where it has none."""
    trees = ct.Network(survey).fabric.trees
    rows = []
    for row in survey.tree_ports:
        role = trees.compute(row.instance).get(End(row.device, row.port))
        computed = "forwarding" if role is None or role.forwards else "discarding"
        rows.append(row if row.state or row.role else replace(row, state=computed))
    return rebuilt(survey, {"tree_ports": rows})


def looked_at(part, network, answer, first):
    """The part, with what an answer says to look at as it is in the whole survey."""
    whole, rows = network.survey, {name: list(part.table(name)) for name in TABLES}
    spelled = {row.device.casefold(): row.device for row in (*whole.devices, *whole.ports)}
    spelled |= {row.chassis.casefold(): row.device for row in whole.devices if row.chassis}

    def read(device, tables):
        for name in tables if device else ():
            rows[name] = [row for row in rows[name] if row.device.casefold() != device.casefold()]
            rows[name] += [row for row in whole.table(name) if row.device == device]
            if name in READ_IN_FULL:
                kept = [row for row in rows["coverage"] if (row.device.casefold(), row.table) != (device, name)]
                rows["coverage"] = [*kept, Coverage(device, name, "yes")]

    for look in answer.look[:1] if first else answer.look:
        for device in look.devices if look.table is None else ():
            read(spelled.get(device.casefold()), TOLD)
    for cell in answer.observe[:1] if first else answer.observe:
        device = spelled.get(str(cell.key.get("device") or "").casefold())
        if cell.table == "hosts":
            for row in whole.devices if cell.column == "port" else ():
                read(row.device, ["macs"])
            host = str(cell.key.get("host")).casefold()
            known = {row.host.casefold(): row for row in whole.hosts}
            rows["hosts"] = [known[host] if row.host.casefold() == host else row for row in rows["hosts"]]
        elif (cell.table, cell.column) == ("devices", "device"):
            read(device, TOLD)
        else:
            read(device, [cell.table])
        if cell.table == "neighbors":
            end = End(device or "", str(cell.key.get("port")))
            for link in network.adjacencies_at.get(end, ()):
                read(link.far(end).device, TOLD)
    return rebuilt(part, rows)


def said(survey):
    return {name: sorted(map(str, survey.table(name))) for name in TABLES}


def followed(job):
    case, many, first = job
    whole = with_states(ct.read_survey(case / "survey"))
    network = ct.Network(whole)
    truth = {(a, b): verdict for a, b, verdict in ct.matrix(network).reaches}
    count, lines = Counter(), []
    for left_out, part in parts(whole, True, True, many, case.name):
        unknown = [(a, b) for a, b, verdict in ct.matrix(part).reaches if verdict == "unknown"]
        unknown = [pair for pair in unknown if truth[pair] != "unknown"]
        random.Random(f"{case.name} {left_out}").shuffle(unknown)
        for pair in unknown[:2]:
            now, steps, end = part, 0, None
            while end is None:
                answer = ct.why(now, *pair)
                if answer.verdict != "unknown":
                    end = "settled" if answer.verdict == truth[pair] else f"WRONG: {answer.verdict}"
                elif not answer.look:
                    end = f"nothing to look at: {answer.turns}"
                else:
                    more, steps = looked_at(now, network, answer, first), steps + 1
                    if steps > MOST or said(more) == said(now):
                        end = f"not settled by: {answer.look[0].says}"
                    now = more
            count += Counter({"asked": 1, "steps": steps, end.partition(":")[0]: 1})
            if end != "settled":
                lines.append(f"  {case.name} without {left_out}: {' '.join(pair)}, {steps} steps, {end}")
    return count, lines


def main():
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("folders", nargs="+", type=Path)
    parser.add_argument("--random", type=int, default=0)
    parser.add_argument("--first", action="store_true")
    args = parser.parse_args()
    cases = [path.parent for folder in args.folders for path in sorted(folder.glob("*/survey"))]
    total = Counter()
    with ProcessPoolExecutor() as pool:
        for count, lines in pool.map(followed, [(case, args.random, args.first) for case in cases]):
            total += count
            for line in lines:
                print(line)
    print(f"{len(cases)} surveys: {', '.join(f'{number} {what}' for what, number in total.items())}")


if __name__ == "__main__":
    main()
