"""A visit that is killed at random moments goes on where it was, and asks nobody twice.

    python benchmarks/interrupting.py [--kills 50] [--devices 40] [--seed 1]

Visits agents with the installed command, kills it again and again, and compares in the end: the survey with that of a
visit that was left alone, and how many requests each agent got with how many it got there. A request whose answer was
on its way when the process died has to be sent again: at most one a device and kill.
"""

from __future__ import annotations

import argparse
import asyncio
import json
import multiprocessing
import os
import random
import signal
import subprocess
import sys
from collections.abc import Mapping
from multiprocessing.connection import Connection
from pathlib import Path
from tempfile import TemporaryDirectory
from time import sleep

from crossthread import Access, Survey, agents_async, gather, visit
from crossthread.demo.generator import generate

VISITOR = """
import sys, json
from crossthread import Access, visit
start, folder, places = json.load(open(sys.argv[1]))
everywhere = ["10.0.0.0/8"]
access = [Access.by_community("public", everywhere)]
visit([start], everywhere, access, folder, places={a: tuple(p) for a, p in places.items()}, at_once=4)
"""


def serve(pipe: Connection, devices: int, seed: int) -> None:
    """Run the agents; each time that somebody asks, tell how often each was asked since the last time."""

    async def run() -> None:
        async with agents_async(generate(seed, switches=devices, hosts=5 * devices, ports=24), delay=0.003) as running:
            pipe.send(running.places)
            while await asyncio.get_running_loop().run_in_executor(None, pipe.recv):
                pipe.send({address: agent.asked for address, agent in running.agents.items()})
                for agent in running.agents.values():
                    agent.asked = 0

    asyncio.run(run())


def plain(survey: Survey) -> dict[str, list[tuple[object, ...]]]:
    """The rows of a survey without where and when they were read."""
    found = {}
    for name in ("devices", "ports", "vlans", "neighbors", "gateways", "routes", "trees", "tree_ports", "macs", "arp"):
        columns = [c for c in survey.table(name).record.__struct_fields__ if c not in ("source", "extra")]
        found[name] = sorted((tuple(getattr(row, c) for c in columns) for row in survey.table(name)), key=repr)
    return found


def killed(command: list[str], kills: int, chance: random.Random) -> int:
    """Run a command, and kill it at random moments; how often that was possible before it ended."""
    done = 0
    while True:
        process = subprocess.Popen(command)
        if done < kills:
            sleep(chance.uniform(0.15, 0.6))
            if process.poll() is None:
                os.kill(process.pid, signal.SIGKILL)
                process.wait()
                done += 1
                continue
        if process.wait() == 0:
            return done


def excess(whole: Mapping[str, int], pieces: Mapping[str, int]) -> tuple[int, int]:
    """By how many requests the most troubled agent, and all together, were asked more."""
    more = [pieces[address] - whole[address] for address in whole]
    return max(more), sum(more)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--kills", type=int, default=50)
    parser.add_argument("--devices", type=int, default=40)
    parser.add_argument("--seed", type=int, default=1)
    asked = parser.parse_args()
    here, there = multiprocessing.get_context("spawn").Pipe()
    arguments = (there, asked.devices, asked.seed)
    server = multiprocessing.get_context("spawn").Process(target=serve, args=arguments, daemon=True)
    server.start()
    places = here.recv()
    start, everywhere = next(iter(places)), ["10.0.0.0/8"]
    chance = random.Random(asked.seed)
    total = same = worst = more = 0
    with TemporaryDirectory() as folder:
        visit(
            [start],
            everywhere,
            [Access.by_community("public", everywhere)],
            f"{folder}/whole",
            places=places,
            at_once=4,
        )
        here.send("count")
        whole = here.recv()
        expected = plain(gather(sorted(Path(folder, "whole").glob("*.walk"))).survey)
        rounds = 0
        while total < asked.kills:
            rounds += 1
            into = f"{folder}/pieces{rounds}"
            words = Path(folder, "words.json")
            words.write_text(json.dumps([start, into, places]))
            total += (now := killed([sys.executable, "-c", VISITOR, str(words)], asked.kills - total, chance))
            here.send("count")
            most, all_more = excess(whole, here.recv())
            same += plain(gather(sorted(Path(into).glob("*.walk"))).survey) == expected
            worst, more = max(worst, most), more + all_more
            print(f"visit {rounds}: killed {now} times, {all_more} of {sum(whole.values()):,} requests were repeated")
    print(
        f"{total} kills in {rounds} visits: {same} of {rounds} surveys the same; repeated {more}, at one device {worst}"
    )
    here.send(None)


if __name__ == "__main__":
    main()
