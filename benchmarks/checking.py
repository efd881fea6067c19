"""The whole check at scale, as ratios measured in one run.

    python benchmarks/checking.py [TIMES]

A generated campus of 2,000 switches, 100,000 ports, 60 VLANs and 80,000 hosts, and TIMES as large (10 by default): the
process `crossthread check` against `pandas.read_csv` over the same tables, each in a fresh process (goal: at most 5
times, below 1.5 GB; and ten times the campus at most twelve times the time).
"""

import os
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from crossthread import Change, apply_changes, write_survey
from crossthread.demo.generator import generate

PANDAS = """
import glob, sys, time
import pandas
begin = time.perf_counter()
for name in glob.glob(sys.argv[1] + "/*.csv"):
    pandas.read_csv(name)
print(time.perf_counter() - begin)
"""


def campus(folder, times, faulty=False):
    survey = generate(3, 2000 * times, 80_000 * times, 60, 56)
    if faulty:
        hosts = survey.hosts[:: len(survey.hosts) // 20]
        changes = [Change("ports", {"device": h.device, "port": h.port}, {"pvid": 2, "oper": "up"}) for h in hosts[:10]]
        changes += [Change("hosts", {"host": h.host}, {"gateway": "none"}) for h in hosts[10:]]
        survey = apply_changes(survey, changes)
    write_survey(survey, folder)
    return len(survey.devices), len(survey.ports), len(survey.hosts)


def checked(folder):
    command = Path(sys.executable).with_name("crossthread")
    begin = time.perf_counter()
    process = subprocess.Popen([command, "check", folder], stdout=subprocess.DEVNULL)
    _, _, used = os.wait4(process.pid, 0)
    return time.perf_counter() - begin, used.ru_maxrss / 1024


def read(folder):
    return float(subprocess.run([sys.executable, "-c", PANDAS, folder], capture_output=True, check=True).stdout)


def measure(folder, rounds):
    pairs = [(checked(folder), read(folder)) for _ in range(rounds)]
    ours = statistics.median(a for (a, _), _ in pairs)
    ratio = statistics.median(a / b for (a, _), b in pairs)
    return ours, statistics.median(b for _, b in pairs), ratio, max(peak for (_, peak), _ in pairs)


def main(words):
    times = int(words[0]) if words else 10
    with tempfile.TemporaryDirectory() as holder:
        sizes = {}
        for name, factor, faulty, rounds in (
            ("healthy", 1, False, 5),
            ("20 faults", 1, True, 3),
            ("large", times, False, 1),
        ):
            if factor == 1 and name == "large":
                continue
            folder = Path(holder) / name
            devices, ports, hosts = campus(folder, factor, faulty)
            ours, theirs, ratio, peak = measure(folder, rounds)
            sizes[name] = ours
            print(f"{name}: {devices:,} switches, {ports:,} ports, {hosts:,} hosts: check {ours:.2f} s,", end=" ")
            print(f"pandas.read_csv {theirs:.2f} s, ratio {ratio:.2f} (goal: 5); peak {peak:,.0f} MiB", flush=True)
        if "large" in sizes:
            print(f"{times} times the campus takes {sizes['large'] / sizes['healthy']:.1f} times the time (goal: 12)")


if __name__ == "__main__":
    main(sys.argv[1:])
