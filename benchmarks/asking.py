"""Questions about hosts at scale, as ratios measured in one run.

    python benchmarks/asking.py

A generated campus of 2,000 switches and 50,000 hosts: the matrix by classes against loading the survey (goal: at most
3 times), and one `why` with a repair, after loading (goal: at most 2 s or 0.3 times the loading, if that is more).
"""

import gc
import statistics
import tempfile
import time

from crossthread import Change, Network, apply_changes, read_survey, why, write_survey
from crossthread.demo.generator import generate
from crossthread.views.class_matrix import class_matrix

ROUNDS = 5


def timed(call):
    begin = time.perf_counter()
    found = call()
    return time.perf_counter() - begin, found


def faults(survey):
    """A host to ask for, and what is wrong on its way, by name."""
    host = survey.hosts[777]
    port = {"device": host.device, "port": host.port}
    wrong, shut = Change("ports", port, {"pvid": 2}), Change("ports", port, {"admin": "down", "oper": "down"})
    lost = Change("hosts", {"host": host.host}, {"gateway": "none"})
    other = survey.hosts[40_000]
    far = Change("ports", {"device": other.device, "port": other.port}, {"admin": "down", "oper": "down"})
    return (
        host.host,
        other.host,
        {
            "its port is in another VLAN": [wrong],
            "its port is shut": [shut],
            "it has no gateway": [lost],
            "no gateway, and the other's port is shut": [lost, far],
        },
    )


def main():
    gc.disable()  # as the command does
    with tempfile.TemporaryDirectory() as folder:
        write_survey(generate(3, 2000, 50_000, 60, 36), folder)
        loads, ratios = [], []
        for _ in range(ROUNDS):
            load, survey = timed(lambda: read_survey(folder))
            asked, found = timed(lambda: class_matrix(Network(survey)))  # noqa: B023
            loads.append(load)
            ratios.append(asked / load)
        load = statistics.median(loads)
        pairs = sum(found.pairs.values())
        print(
            f"{len(survey.devices):,} switches, {len(survey.ports):,} ports, {len(survey.hosts):,} hosts, "
            f"loaded in {load:.2f} s"
        )
        print(
            f"matrix of {pairs:,} pairs in {len(found.classes)} classes: {statistics.median(ratios):.2f} times the "
            "loading (goal: 3)"
        )
        one, two, known = faults(survey)
        for name, changes in known.items():
            network = [Network(apply_changes(survey, changes)) for _ in range(ROUNDS)]
            runs = [timed(lambda: why(n, one, two)) for n in network]  # noqa: B023
            assert all(answer.repair_proven for _, answer in runs)
            took = statistics.median(took for took, _ in runs)
            print(f"why, {name}: {took:.2f} s, {took / load:.2f} times the loading (goal: 2 s or 0.3 times)")


if __name__ == "__main__":
    main()
