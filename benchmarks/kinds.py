"""Small networks of real switches, routers and hosts that have what stands between: verdicts against real pings.

    sudo python benchmarks/kinds.py [COUNT] [SEED] [--raw] [--repairs] [--keep FOLDER]

Each network is made of Open vSwitch bridges, a Linux router with a port for each VLAN and Linux hosts, in namespaces of
its own that are gone when it ends. It gets some of: both versions of IP with link-local gateways, isolated ports,
packet filters of the router, flows of a switch that drop, routes that discard, a bundle between the switches (with and
without LACP, with one end that does not speak it), a service-tag tunnel in the uplink, a gateway address that is
shared, a second router with a daemon that shares one, a host without an address, a VLAN left out at one end of the
uplink, an uplink that passes frames in one direction only, two kernel bridges behind a switch of which a guard keeps
one out; the two switches have a management address each, with a default route or without. Then every host pings every
other, by each version that both have, hosts, switches and the router ping each other, and the verdicts of the survey
must agree; where frames pass in one direction only, a tick must say so.

With `--raw` the devices' own listings are gathered as well, and the verdicts of that survey compared. With `--repairs`
a proven repair of one broken pair is carried out on the running network, and everything is pinged again.

Needs Linux, root, openvswitch-switch, nftables, iproute2 and ping; keepalived for the second router. No timings: it
says what agrees.
"""

import argparse
import json
import os
import random
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

from kinds_campus import Campus
from kinds_live import Live, run
from kinds_raw import keep

WORDS = {True: "works", False: "fails"}


def contradicted(survey, real, warned):
    """The pairs of which the survey says otherwise, and of how many it says nothing."""
    from crossthread import matrix, why

    said = {(a, b): verdict for a, b, verdict in matrix(survey).reaches}
    wrong = [pair for pair, value in real.items() if said[pair] not in ("unknown", WORDS[value])]
    if warned:  # a tick that says what may be wrong with it is none
        wrong = [
            pair
            for pair in wrong
            if said[pair] == "fails" or not any("one direction only" in told for told in why(survey, *pair).caveats)
        ]
    told = [f"{a} {b}: {said[a, b]}, real {real[a, b]}" for a, b in wrong]
    return told, sum(verdict == "unknown" for verdict in said.values())


def gathered(live, real, warned):
    """The same of what the devices list themselves."""
    from crossthread import Change, Survey, apply_changes
    from crossthread.sources.gathering import gather
    from crossthread.survey import Info
    from crossthread.survey.writing import write_survey

    with tempfile.TemporaryDirectory() as place:
        typed = Survey.of(Info(title="typed"), **keep(live, Path(place) / "raw"))
        survey = gather([Path(place) / "raw"], typed).survey
        heard = [
            Change("coverage", {"device": row.device, "table": "neighbors"}, {"complete": "yes"})
            for row in survey.coverage
            if row.table == "neighbors"
        ]
        survey = apply_changes(survey, heard)  # the typed cables are all that there are
        if keeping := os.environ.get("KINDS_RAW"):
            shutil.copytree(place, keeping, dirs_exist_ok=True)
            write_survey(survey, Path(keeping) / "survey")
    return contradicted(survey, real, warned)


def carried_out(survey, live, real, seed):
    """A repair of one broken pair on the running network: whether the pair then answers, and who does not any more."""
    from crossthread import apply_changes, matrix, why

    broken = [pair for pair, value in real.items() if not value]
    for pair in random.Random(seed).sample(broken, len(broken)):
        answer = why(survey, *pair)
        if not (answer.repair_proven and answer.repair):
            continue
        done = [live.change(change) for change in answer.repair]
        if not all(done):
            return f"{answer.findings[0].rule}: not for this network", False, []
        after = live.ping_all()
        foretold = {(a, b): v for a, b, v in matrix(apply_changes(survey, answer.repair)).reaches}
        lost = [f"{a} {b}" for (a, b), value in real.items() if value and not after[a, b] and foretold[a, b] == "works"]
        return ", ".join(dict.fromkeys(f.rule for f in answer.findings)), after[pair], lost
    return None, False, []


def compare(seed, args):
    """Build a network, ping, and compare with what is said of its survey."""
    from crossthread import Survey, why, write_survey
    from crossthread.network import Network
    from crossthread.survey import Info
    from crossthread.survey.records import READ_IN_FULL

    campus = Campus(seed)
    live = Live(campus)
    live.start()
    survey = Survey.of(Info(title=f"kinds {seed}", complete=READ_IN_FULL), **campus.rows)
    real, routed = live.ping_all(), live.ping_gateways()
    warned = "one-way" in campus.kinds
    wrong, unknown = contradicted(survey, real, warned)
    raw = gathered(live, real, warned) if args.raw else ([], 0)
    four = Network(survey).survey  # by IPv4 alone, in which the router is pinged
    for (a, b), value in routed.items():
        answer = why(four, a, b)
        unknown += answer.verdict == "unknown"
        ticked = warned and any("one direction only" in told for told in answer.caveats)
        if answer.verdict not in ("unknown", WORDS[value]) and not ticked:
            wrong.append(f"{a} to {b}: {answer.verdict}, real {value}")
    failing = [pair for pair, value in real.items() if not value]
    told = {}
    for pair in random.Random(seed).sample(failing, min(4, len(failing))):
        answer = why(survey, *pair)
        for name in dict.fromkeys(f.rule for f in answer.findings) or [f"({answer.verdict}, nothing named)"]:
            told[name] = told.get(name, 0) + 1
    mended = carried_out(survey, live, real, seed) if args.repairs and not warned else (None, False, [])
    live.stop()
    if args.keep:
        write_survey(survey, Path(args.keep) / f"kinds-{seed}")
        pairs = [[*pair, value] for pair, value in real.items()]
        (Path(args.keep) / f"kinds-{seed}.json").write_text(json.dumps(pairs))
    more = (campus.bundle, "tunnel" if campus.tunnel else None, "dual" if campus.dual else None)
    return {
        "seed": seed,
        "kinds": sorted(campus.kinds | set(filter(None, more))),
        "pairs": len(real) + len(routed),
        "wrong": wrong,
        "unknown": unknown,
        "failing": len(failing),
        "told": told,
        "mended": mended,
        "raw": {"wrong": raw[0], "unknown": raw[1]},
    }


def main():
    parser = argparse.ArgumentParser(description=__doc__.split("\n", 1)[0])
    parser.add_argument("count", type=int, nargs="?", default=10)
    parser.add_argument("seed", type=int, nargs="?", default=1)
    parser.add_argument("--keep", default="")
    parser.add_argument("--raw", action="store_true")
    parser.add_argument("--repairs", action="store_true")
    parser.add_argument("--inside", action="store_true", help=argparse.SUPPRESS)
    args = parser.parse_args()
    if args.inside:
        run("mount", "--make-rprivate", "/")
        run("mount", "-t", "tmpfs", "kinds", "/run")
        print(json.dumps(compare(args.seed, args)))
        sys.stdout.flush()
        os._exit(0)
    if not shutil.which("ovs-vsctl") or os.geteuid():
        sys.exit("needs root and Open vSwitch")
    total = dict.fromkeys(
        ("pairs", "wrong", "unknown", "raw pairs", "raw wrong", "raw unknown", "mended", "not", "lost"), 0
    )
    options = [word for word, on in (("--raw", args.raw), ("--repairs", args.repairs)) if on]
    for seed in range(args.seed, args.seed + args.count):
        argv = [
            "unshare",
            "--mount",
            "--net",
            "--pid",
            "--fork",
            "--kill-child",
            "--mount-proc",
            sys.executable,
            __file__,
            "1",
            str(seed),
            "--inside",
            "--keep",
            args.keep,
            *options,
        ]
        done = subprocess.run(argv, capture_output=True, text=True, timeout=400, check=False)
        if not done.stdout.strip():
            print(seed, "not built:", done.stderr.strip()[-600:], flush=True)
            continue
        found = json.loads(done.stdout.strip().splitlines()[-1])
        (rules, answers, lost), raw = found["mended"], found["raw"]
        for name, number in (
            ("pairs", found["pairs"]),
            ("wrong", len(found["wrong"])),
            ("unknown", found["unknown"]),
            ("raw wrong", len(raw["wrong"])),
            ("raw unknown", raw["unknown"]),
            ("mended", answers),
            ("not", bool(rules) and not answers and "not for" not in rules),
            ("lost", len(lost)),
        ):
            total[name] += number
        counts = (
            f"{found['failing']} of {found['pairs']} fail; {len(found['wrong'])} wrong, {found['unknown']} unknown;"
        )
        aside = [f"raw: {len(raw['wrong'])} wrong, {raw['unknown']} unknown"] if args.raw else []
        aside += [f"{'mended' if answers else 'NOT MENDED'}: {rules}; lost: {lost}"] if rules else []
        print(
            seed,
            *found["kinds"],
            counts,
            found["told"],
            *aside,
            *found["wrong"][:3],
            *raw["wrong"][:3],
            sep="  ",
            flush=True,
        )
    print(total)


if __name__ == "__main__":
    main()
