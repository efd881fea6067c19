"""Campuses in which many hosts are not plainly on access ports that are up, or of which little is known of many.

    python benchmarks/unlike.py [SWITCHES HOSTS]

Of 200 switches and 4,000 hosts half the hosts, or all of them, are of a kind: a phone beside them, switched off at
night, not let in, at trunks, found only by what switches learned, and so on. In the last ones many have one and the
same mistake, as a script leaves it behind. Printed is how long `check`, `matrix` and
`why --all` take, in seconds, and their largest size. Goal: none takes more than a minute.
"""

import sys
import tempfile
from dataclasses import replace as tables
from pathlib import Path

from campus import run
from msgspec.structs import replace

from crossthread import write_survey
from crossthread.demo.generator import generate
from crossthread.survey.records import Host
from crossthread.values import VlanSet

VOICE = 3999


def phones(survey, some):
    """A phone beside each of some hosts, which tags its frames as the port tells it."""
    at = {(row.device, row.port) for row in some}
    ports = [replace(row, voice=VOICE) if (row.device, row.port) in at else row for row in survey.ports]
    ports = [
        replace(row, allowed=VlanSet(row.allowed.bits | 1 << VOICE)) if row.mode == "trunk" and row.allowed else row
        for row in ports
    ]
    more = [
        Host(f"phone-{n}", None, f"10.250.{n // 250}.{n % 250 + 2}/16", "10.250.0.1", row.device, row.port, VOICE, "up")
        for n, row in enumerate(some)
    ]
    vlans = [replace(row, vid=VOICE, name="voice") for row in {row.device: row for row in survey.vlans}.values()]
    router = replace(survey.gateways[0], interface="voice", address="10.250.0.1/16", vid=VOICE)
    return tables(survey, ports=ports, hosts=[*survey.hosts, *more], vlans=[*survey.vlans, *vlans],
                  gateways=[*survey.gateways, router])  # fmt: skip


def set_otherwise(host=None, port=None):
    """What makes some hosts, and the ports that they are at, different."""

    def made(survey, some):
        names, at = {row.host for row in some}, {(row.device, row.port) for row in some}
        hosts = [replace(row, **host) if host and row.host in names else row for row in survey.hosts]
        ports = [replace(row, **port(row)) if port and (row.device, row.port) in at else row for row in survey.ports]
        return tables(survey, hosts=hosts, ports=ports)

    return made


def uplinks(count, **cells):
    """What sets some trunks otherwise, whoever the hosts are; a trunk's list may become its first VLAN only."""

    def made(survey, some):
        trunks = [row for row in survey.ports if row.mode == "trunk" and row.allowed][:count]
        wrong = {
            row.key: replace(row, **cells)
            if cells
            else replace(row, allowed=VlanSet(row.allowed.bits & -row.allowed.bits))
            for row in trunks
        }
        return tables(survey, ports=[wrong.get(row.key, row) for row in survey.ports])

    return made


KINDS = {
    "phones": (0.5, phones),
    "switched off": (0.5, set_otherwise({"link": "down"}, lambda row: {"oper": "down"})),
    "not let in": (0.25, set_otherwise(port=lambda row: {"authorized": "no"})),
    "at trunks": (0.5, set_otherwise(port=lambda row: {"mode": "trunk", "allowed": VlanSet(1 << row.pvid)})),
    "without an address": (0.1, set_otherwise({"address": "none", "gateway": "none"})),
    "address not read": (0.5, set_otherwise({"address": None, "gateway": None})),
    "found by what switches learned": (1, set_otherwise({"device": None, "port": None})),
    "found by what ports are called": (1, set_otherwise({"device": None, "port": None, "mac": None})),
    "not read whether they are up": (1, set_otherwise({"link": None}, lambda row: {"admin": None, "oper": None})),
    "not read which VLAN they are in": (0.25, set_otherwise(port=lambda row: {"pvid": None})),
    "not read what their ports are": (0.25, set_otherwise(port=lambda row: {"mode": None})),
    "without a gateway": (0.1, set_otherwise({"gateway": "none"})),
    "with a gateway that nobody has": (0.1, set_otherwise({"gateway": "10.64.0.250"})),
    "in another VLAN": (0.1, set_otherwise(port=lambda row: {"pvid": 2})),
    "behind 10 uplinks that lack VLANs": (1, uplinks(10)),
    "behind 10 uplinks in access mode": (1, uplinks(10, mode="access", pvid=1)),
}


def main():
    switches, count = (int(word) for word in sys.argv[1:3]) if len(sys.argv) > 2 else (200, 4000)
    survey = generate(3, switches, count, 20, 40)
    for kind, (part, made) in KINDS.items():
        with tempfile.TemporaryDirectory() as folder:
            write_survey(made(survey, survey.hosts[: int(part * count)]), Path(folder) / "survey")
            told = []
            for words in (["check"], ["matrix"], ["why", "--all"]):
                seconds, peak = run([words[0], str(Path(folder) / "survey"), *words[1:]])
                told.append(f"{' '.join(words)} {seconds:.1f} s" if seconds else f"{' '.join(words)} did not end")
                told[-1] += f" {peak:.0f} MiB"
        print(f"{kind:<32} {part:>4.0%}  {'  '.join(told)}", flush=True)


if __name__ == "__main__":
    main()
