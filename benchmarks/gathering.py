"""Reading captures and walks, as ratios measured in one run.

    python benchmarks/gathering.py

1. A capture of 1,000,000 frames of which 1% matter, against `tcpdump -r FILE -w /dev/null` (goal: at most 12 times).
2. A walk of 650,000 lines, against reading its lines with a compiled regular expression (goal: at most 3 times).
"""

import random
import re
import shutil
import struct
import subprocess
import tempfile
import time
from pathlib import Path

from crossthread.sources.frames import lldp
from crossthread.sources.frames.capture import read_capture
from crossthread.sources.snmp.device import read_walk

FRAMES, LINES, ROUNDS = 1_000_000, 650_000, 3


def best(call):
    times = []
    for _ in range(ROUNDS):
        begin = time.perf_counter()
        call()
        times.append(time.perf_counter() - begin)
    return min(times)


def capture_file(path):
    chance = random.Random(1)
    head = bytes.fromhex("0180c200000e020000000001")
    known = [
        head + b"\x88\xcc" + lldp.encode(lldp.Lldpdu(7, f"c{n}", 5, f"p{n}", 120, name=f"sw-{n}")) for n in range(9)
    ]
    other = [bytes.fromhex("020000000002020000000003") + b"\x08\x00" + chance.randbytes(86) for _ in range(50)]
    with open(path, "wb") as out:
        out.write(struct.pack("<IHHiIII", 0xA1B2C3D4, 2, 4, 0, 0, 65535, 1))
        for n in range(FRAMES):
            frame = known[n // 100 % 9] if n % 100 == 0 else other[n % 50]
            out.write(struct.pack("<IIII", n // 1000, n % 1000, len(frame), len(frame)) + frame)


def walk_text():
    """A device with many ports and a large filtering database, and as many counters that nobody asks for."""
    lines = ['.1.3.6.1.2.1.1.5.0 = STRING: "large"']
    for n in range(1, 2001):
        lines += [
            f'.1.3.6.1.2.1.31.1.1.1.1.{n} = STRING: "port{n}"',
            f".1.3.6.1.2.1.2.2.1.3.{n} = INTEGER: 6",
            f".1.3.6.1.2.1.2.2.1.8.{n} = INTEGER: 1",
            f".1.3.6.1.2.1.17.1.4.1.2.{n} = INTEGER: {n}",
        ]
    for n in range(100_000):
        index = f"{10 + n % 60}.2.0.0.{n >> 16}.{n >> 8 & 255}.{n & 255}"
        lines += [
            f".1.3.6.1.2.1.17.7.1.2.2.1.2.{index} = INTEGER: {n % 2000 + 1}",
            f".1.3.6.1.2.1.17.7.1.2.2.1.3.{index} = INTEGER: 3",
        ]
    n = 0
    while len(lines) < LINES:
        n += 1
        lines.append(f".1.3.6.1.2.1.31.1.1.1.{2 + n % 9}.{n} = Counter64: {n * 7919}")
    return "\n".join(lines) + "\n"


def matched(line, text):
    for part in text.split("\n"):
        line.match(part)


def main():
    with tempfile.TemporaryDirectory() as holder:
        path = Path(holder) / "large.pcap"
        capture_file(path)
        ours = best(lambda: read_capture(path.read_bytes()))
        if shutil.which("tcpdump"):
            words = ["tcpdump", "-r", str(path), "-w", "/dev/null"]
            theirs = best(lambda: subprocess.run(words, stderr=subprocess.DEVNULL, check=True))
            print(f"{FRAMES:,} frames: {ours:.2f} s, tcpdump {theirs:.2f} s, ratio {ours / theirs:.1f} (goal: 12)")
        else:
            print(f"{FRAMES:,} frames: {ours:.2f} s; tcpdump is not here to compare with")
    text = walk_text()
    line = re.compile(r"\.?([\d.]+) = (?:([\w-]+): )?(.*)")
    ours = best(lambda: read_walk(text, "x", "x"))
    plain = best(lambda: matched(line, text))
    print(f"{LINES:,} lines: {ours:.2f} s, a regular expression {plain:.2f} s, ratio {ours / plain:.1f} (goal: 3)")


if __name__ == "__main__":
    main()
