"""How fast a campus is visited, and that nothing gets lost where devices misbehave.

    python benchmarks/visiting.py [--devices 300] [--ports 48] [--delay 0.005] [--misbehaving] [--compare N]

Starts agents (in a process of their own), visits them from one address, and prints time, memory and objects. With
--misbehaving one device in ten gets something wrong, each in another way; then every healthy device that can be reached
has to be complete, every other one named with its reason, and nobody outside of the scope asked. With --compare the
common command-line client walks N of the agents, one after the other, by GETBULK and by GETNEXT (needs snmpbulkwalk).
"""

from __future__ import annotations

import argparse
import asyncio
import multiprocessing
import resource
import shutil
import subprocess
import sys
from collections import Counter
from multiprocessing.connection import Connection
from tempfile import TemporaryDirectory
from time import perf_counter

from crossthread import Access, Agent, Survey, Visit, agents_async, gather, visit
from crossthread.demo.generator import generate
from crossthread.live.device_objects import by_device, objects_of
from crossthread.live.misbehaving import MISBEHAVIOURS

EVERYWHERE = ["10.0.0.0/8"]
SUBTREES = ["1.3.6.1.2.1.1", "1.3.6.1.2.1.2", "1.3.6.1.2.1.31", "1.3.6.1.2.1.10.7", "1.3.6.1.2.1.17", "1.3.6.1.2.1.4",
            "1.3.6.1.2.1.47", "1.0.8802", "1.2.840.10006"]  # fmt: skip


def campus(devices: int, ports: int) -> Survey:
    return generate(18, switches=devices, hosts=10 * devices, vlans=12, ports=ports)


def misbehaving(survey: Survey) -> dict[str, type[Agent]]:
    """Every tenth device by what it gets wrong; never one that others can only be heard of through it."""
    leaves = Counter(row.device for row in survey.neighbors)
    chosen = [row for row in survey.devices if leaves[row.device] <= 2][: len(survey.devices) // 10]
    return {row.management or "": MISBEHAVIOURS[at % len(MISBEHAVIOURS)] for at, row in enumerate(chosen)}


def serve(pipe: Connection, devices: int, ports: int, delay: float, wrong: bool) -> None:
    """Run the agents, tell where they are, and in the end how often each was asked."""

    async def run() -> None:
        survey = campus(devices, ports)
        bad = misbehaving(survey) if wrong else {}
        own = {
            (part.devices[0].management or ""): bad.get(part.devices[0].management or "", Agent)(objects_of(part))
            for part in by_device(survey).values()
        }
        async with agents_async(own, delay=delay) as running:
            pipe.send(running.places)
            await asyncio.get_running_loop().run_in_executor(None, pipe.recv)
            pipe.send({address: agent.asked for address, agent in running.agents.items()})

    resource.setrlimit(resource.RLIMIT_NOFILE, (devices + 200, resource.getrlimit(resource.RLIMIT_NOFILE)[1]))
    asyncio.run(run())


def outside(survey: Survey) -> set[str]:
    """Some devices that nobody may ask: at the edge, and well-behaved."""
    leaves = Counter(row.device for row in survey.neighbors)
    chosen = [row.management or "" for row in survey.devices if leaves[row.device] <= 2][-len(survey.devices) // 20 :]
    return set(chosen) - misbehaving(survey).keys()


def judge(survey: Survey, answer: Visit) -> None:
    """Whether what a visit said of misbehaving devices and of all others is true."""
    bad, beyond = misbehaving(survey), outside(survey)
    by_address = {device.address: device for device in answer.devices}
    healthy = [row for row in survey.devices if row.management not in bad and row.management not in beyond]
    lost = [row.device for row in healthy if by_address[row.management or ""].status != "complete"]
    print(f"{len(healthy) - len(lost)} of {len(healthy)} healthy devices complete; not: {lost}")
    for kind in MISBEHAVIOURS:
        wanted = [address for address, found in bad.items() if found is kind]
        own = [by_address[address] for address in wanted if address in by_address]
        told = Counter((d.status, d.says or "; ".join(sorted({c.why for c in d.not_in_full}))) for d in own)
        said = "; ".join(f"{many} {status}" + f": {why}" * bool(why) for (status, why), many in told.items())
        behind = len(wanted) - len(own)  # only a device that says nothing of its neighbours could have named it
        print(f"   {kind.__name__}: {said}" + f"; {behind} of whom nobody told" * bool(behind))


def client(command: list[str], places: list[tuple[str, int]]) -> float:
    """The seconds that the common command-line client takes for some devices, one after the other."""
    began = perf_counter()
    for host, port in places:
        for subtree in SUBTREES:
            subprocess.run(
                [*command, "-v2c", "-cpublic", "-On", "-t5", f"{host}:{port}", subtree],
                stdout=subprocess.DEVNULL,
                check=True,
            )
    return perf_counter() - began


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--devices", type=int, default=300)
    parser.add_argument("--ports", type=int, default=48)
    parser.add_argument("--delay", type=float, default=0.005)
    parser.add_argument("--at-once", type=int, default=64)
    parser.add_argument("--misbehaving", action="store_true")
    parser.add_argument("--compare", type=int, default=0, metavar="N")
    asked = parser.parse_args()
    here, there = multiprocessing.get_context("spawn").Pipe()
    arguments = (there, asked.devices, asked.ports, asked.delay, asked.misbehaving)
    server = multiprocessing.get_context("spawn").Process(target=serve, args=arguments, daemon=True)
    server.start()
    places = here.recv()
    start = next(iter(places))
    beyond = outside(campus(asked.devices, asked.ports)) if asked.misbehaving else set()
    scope = [f"{address}/32" for address in places if address not in beyond] if beyond else EVERYWHERE
    with TemporaryDirectory() as folder:
        began = perf_counter()
        answer = visit(
            [start],
            scope,
            [Access.by_community("public", EVERYWHERE)],
            folder,
            places=places,
            at_once=asked.at_once,
            patience=1.0,
        )
        visited = perf_counter() - began
        survey = gather(answer.walks).survey
        whole = perf_counter() - began
    memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    done = len(answer.of("complete"))
    print(
        f"{done} of {asked.devices} complete, {answer.objects:,} objects, {answer.objects // max(done, 1):,} a device"
    )
    print(f"visited in {visited:.1f} s, gathered after {whole:.1f} s ({len(survey.ports):,} ports), {memory:.0f} MB")
    if asked.misbehaving:
        judge(campus(asked.devices, asked.ports), answer)
    if asked.compare and shutil.which("snmpbulkwalk"):
        sample = list(places.values())[: asked.compare]
        for name, command in (("GETBULK", ["snmpbulkwalk"]), ("GETNEXT", ["snmpwalk"])):
            each = client(command, sample) / len(sample)
            ratio = each * asked.devices / whole
            print(
                f"the client by {name}: {each:.2f} s a device, {each * asked.devices:.0f} s for all: {ratio:.1f} times"
            )
    here.send("end")
    counts = here.recv()
    if beyond:
        print(f"{len(beyond)} devices outside of the scope were asked {sum(counts[a] for a in beyond)} times")
    print(f"{sum(counts.values()):,} requests; asked least {min(counts.values())}, most {max(counts.values())}")
    server.join(5)


if __name__ == "__main__":
    sys.exit(main())
