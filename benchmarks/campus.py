"""Every command at a campus's size, as multiples of `pandas.read_csv` over the same tables.

    python benchmarks/campus.py [SWITCHES HOSTS]

A generated campus of 2,000 switches, 100,000 ports, 60 VLANs and 80,000 hosts, with 20 faults. Goal: at most 10 times
for each command, 25 times for `why --all` and for the map's figure, below 1 GB.
"""

import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from checking import PANDAS

from crossthread import Change, apply_changes, write_survey
from crossthread.demo.generator import generate

LIMIT = 300


def faulty(switches, hosts):
    survey = generate(3, switches, hosts, 60, 56)
    wrong = survey.hosts[:: len(survey.hosts) // 20]
    changes = [Change("ports", {"device": h.device, "port": h.port}, {"pvid": 2, "oper": "up"}) for h in wrong[:10]]
    return apply_changes(
        survey, [*changes, *(Change("hosts", {"host": h.host}, {"gateway": "none"}) for h in wrong[10:])]
    )


def commands(survey, folder, beside):
    link = survey.neighbors[50]
    one, two = survey.hosts[0].host, survey.hosts[-1].host
    mend = f'{{"table": "hosts", "key": {{"host": "{one}"}}, "set": {{"gateway": "none"}}}}'
    yield from (["map", folder], ["map", folder, "--figure", str(beside / "map.png")], ["inventory", folder])
    yield from (["addresses", folder], ["find", folder, two], ["check", folder], ["vlan", folder])
    yield from (["vlan", folder, str(survey.gateways[0].vid)], ["link", folder, link.device, link.port])
    yield from (["tree", folder], ["tree", folder, "--advice"], ["tree", folder, "--ways"], ["plan", "draft", folder])
    yield from (["why", folder, one, two], ["why", folder, "--all"], ["matrix", folder], ["rehearse", folder, mend])


def run(words):
    """How long a command took, in seconds, and its largest size, in MiB; no time if it did not end."""
    command = Path(sys.executable).with_name("crossthread")
    begin = time.perf_counter()
    process = subprocess.Popen([command, *words], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    while (ended := os.wait4(process.pid, os.WNOHANG))[0] == 0:
        if time.perf_counter() - begin > LIMIT:
            process.kill()
            process.wait()
            return None, 0.0
        time.sleep(0.02)
    return time.perf_counter() - begin, ended[2].ru_maxrss / 1024


def main(words):
    switches, hosts = map(int, words) if words else (2000, 80_000)
    with tempfile.TemporaryDirectory() as holder:
        survey, folder = faulty(switches, hosts), str(Path(holder) / "campus")
        write_survey(survey, folder)
        print(f"{switches:,} switches, {len(survey.ports):,} ports, {hosts:,} hosts, 20 faults")
        reads = [
            subprocess.run([sys.executable, "-c", PANDAS, folder], capture_output=True, check=True) for _ in range(3)
        ]
        unit = sorted(float(done.stdout) for done in reads)[1]
        print(f"pandas.read_csv {unit:.2f} s")
        for given in commands(survey, folder, Path(holder)):
            took, peak = run(given)
            name = " ".join(word for word in given if word != folder and "/" not in word)[:60]
            told = (
                f"{took:6.2f} s  {took / unit:5.1f} times  {peak:5.0f} MiB" if took is not None else f"over {LIMIT} s"
            )
            print(f"{name:60} {told}", flush=True)


if __name__ == "__main__":
    main(sys.argv[1:])
