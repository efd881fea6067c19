"""The speed that users feel, as ratios measured in one run.

    python benchmarks/speed.py

1. `crossthread why` on the demo, whole process, against a bare start of Python with the libraries it needs
   (goal: at most 2.5 times).
2. Reading a survey of 100,000 ports and 100,000 rows of filtering databases, against csv.reader alone over the same
   files (goal: at most 4 times, and at most 1 GB).
"""

import csv
import resource
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from crossthread import read_survey, write_survey
from crossthread.demo import faulty

ROUNDS = 7


def seconds(call):
    begin = time.perf_counter()
    call()
    return time.perf_counter() - begin


def compare(one, two):
    """Both in turn, several times after a warm-up: the median of each, and of the ratios pair by pair."""
    one(), two()
    times = [(seconds(one), seconds(two)) for _ in range(ROUNDS)]
    first, second = (statistics.median(column) for column in zip(*times, strict=True))
    return first, second, statistics.median(a / b for a, b in times)


def process(*words):
    return lambda: subprocess.run(words, stdout=subprocess.DEVNULL, check=False)


def starting(folder):
    write_survey(faulty(), folder / "faulty")
    command = Path(sys.executable).with_name("crossthread")
    ours = process(command, "why", folder / "faulty", "foghorn-exhibit", "camera-recorder")
    bare = process(sys.executable, "-c", "import typer, msgspec, rich.table")
    a, b, ratio = compare(ours, bare)
    print(f"why on the demo: {a:.3f} s, a bare start {b:.3f} s, ratio {ratio:.2f} (goal: 2.5)")


def large(folder):
    folder.mkdir()
    with open(folder / "ports.csv", "w", newline="") as out:
        rows = csv.writer(out)
        rows.writerow(
            [
                "device",
                "port",
                "description",
                "mac",
                "admin",
                "oper",
                "speed",
                "duplex",
                "mtu",
                "mode",
                "pvid",
                "allowed",
                "discovery",
            ]
        )
        for n in range(100_000):
            mac = f"02:00:00:{n >> 16:02x}:{n >> 8 & 255:02x}:{n & 255:02x}"
            link = ["up", "up", 1000, "full", 1500, "access", 10 + n % 60, "", "both"]
            rows.writerow([f"sw-{n // 50}", f"port{n % 50 + 1}", f"outlet {n}", mac, *link])
    with open(folder / "macs.csv", "w", newline="") as out:
        rows = csv.writer(out)
        rows.writerow(["device", "vid", "mac", "port", "kind"])
        for n in range(100_000):
            mac = f"02:00:01:{n >> 16:02x}:{n >> 8 & 255:02x}:{n & 255:02x}"
            rows.writerow([f"sw-{n // 50}", 10 + n % 60, mac, f"port{n % 50 + 1}", "learned"])


def plain(folder):
    for name in ("ports.csv", "macs.csv"):
        with open(folder / name, newline="", encoding="utf-8") as file:
            for _ in csv.reader(file):
                pass


def reading(folder):
    large(folder)
    a, b, ratio = compare(lambda: read_survey(folder), lambda: plain(folder))
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    print(
        f"reading 200,000 rows: {a:.3f} s, csv.reader alone {b:.3f} s, ratio {ratio:.2f} (goal: 4); peak {peak:.0f} MiB"
    )


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as holder:
        starting(Path(holder))
        reading(Path(holder) / "large")
