"""Visits of agents on this machine: the same answers as from tables, the scope, faults of agents, and going on."""

import asyncio
import json
import os
import signal
import subprocess
import sys
import tempfile
import time
import unittest
import unittest.mock
from pathlib import Path
from typing import ClassVar

from msgspec.structs import replace

from crossthread import (
    Access,
    Agent,
    Network,
    Survey,
    VisitError,
    agents,
    agents_async,
    check,
    gather,
    map_network,
    matrix,
    read_survey,
    visit,
    visit_async,
)
from crossthread.demo import faulty, healthy
from crossthread.live import misbehaving
from crossthread.live.agent import agents_for
from crossthread.live.device_objects import by_device, objects_of, untold
from crossthread.live.shell import told_in_folder
from crossthread.live.snmp import reading
from crossthread.live.snmp.community import CommunitySession
from crossthread.live.snmp.datagrams import Datagrams
from crossthread.live.snmp.messages import RESPONSE, encode_entry, encode_message, read_message
from crossthread.live.snmp.session import Request
from crossthread.live.snmp.user_security import UserSession
from crossthread.live.snmp.walk_text import line_of
from crossthread.live.visiting import planned
from crossthread.survey.records import Device, Gateway, Neighbor, Port, Route, Vlan
from crossthread.values import VlanSet

CAMPUS = ["10.61.0.0/16"]
ENTRY = Access.by_community("public", CAMPUS)
FIRST = "10.61.10.201"
COMMAND = str(Path(sys.executable).with_name("crossthread"))


class Visiting(unittest.TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.walks = self.folder / "campus.visited"

    def visit(self, running, start=(FIRST,), within=CAMPUS, access=(ENTRY,), **how):
        how = {"patience": 0.3, "tries": 2} | how
        return visit(start, within, access, self.walks, places=running.places, **how)


class SameAnswers(Visiting):
    def test_as_from_the_tables_of_the_demo(self):
        for make in (healthy, faulty):
            with self.subTest(make.__name__), agents(make()) as running:
                answer = self.visit(running, again=True)
                self.assertEqual(len(answer.of("complete")), 11)
                survey = gather(answer.walks, untold(make())).survey
                visited, typed = Network(survey), Network(make())
                self.assertEqual(links(visited), links(typed))
                self.assertEqual(faults(visited), faults(typed))
                self.assertEqual(matrix(visited).reaches, matrix(typed).reaches)

    def test_what_is_read_in_full_is_covered_and_known_by_object_identifier(self):
        with agents(healthy()) as running:
            survey = gather(self.visit(running).walks).survey
        said = {(row.device, row.table): row.complete for row in survey.coverage}
        self.assertEqual(said["ropehall", "neighbors"], "yes")
        self.assertEqual(said["ropehall", "gateways"], "no")  # it tells no address at all: nobody has read them
        source = next(row.source for row in survey.ports if (row.device, row.port) == ("ropehall", "port4"))
        self.assertTrue(source.endswith("10.61.10.205.walk:1.3.6.1.2.1.31.1.1.1.1.4"), source)

    def test_what_more_a_device_tells(self):
        port = Port("quay", "port1", oper="up", mode="access", pvid=10, voice=40, discovery="send")
        bundle = Port("quay", "bundle1", oper="up", mode="hybrid", pvid=10, allowed=VlanSet.of([10, 40]))
        bundle = replace(bundle, untagged=VlanSet.of([10, 40]))
        member = Port("quay", "port2", oper="down", lag="bundle1", lag_state="detached", authorized="no")
        vlans = [Vlan("quay", 10, "desks", "active"), Vlan("quay", 40, "phones", "suspended")]
        device = Device(
            "quay", "02:00:00:00:00:01", ("bridge", "router"), "quay model", "7.1", "10.61.0.1", routing="yes"
        )
        gateway = Gateway("quay", "vlan10", "10.61.0.1/24", 10, admin="up", oper="up")
        routes = [
            Route("quay", "10.62.0.0/16", kind="blackhole"),
            Route("quay", "::/0", "fd61::9", "vlan10", "static"),
            Route("quay", "10.63.0.0/16", "10.61.0.9", "vlan10", "ospf"),
        ]
        told = Survey.of(devices=[device], ports=[port, member, bundle], vlans=vlans, gateways=[gateway], routes=routes)
        with agents(told) as running:
            found = gather(self.visit(running, ["10.61.0.1"]).walks).survey
        for name in ("ports", "vlans", "gateways", "routes"):
            by_key = [sorted(survey.table(name), key=lambda row: row.key) for survey in (found, told)]
            self.assertEqual(*([plain(row) for row in rows] for rows in by_key))

    def test_async_and_over_ipv6(self):
        async def run():
            async with agents_async(healthy(), host="::1") as running:
                return await visit_async([FIRST], CAMPUS, [ENTRY], self.walks, places=running.places)

        self.assertEqual(len(asyncio.run(run()).of("complete")), 11)


def plain(row):
    """A row by what it says: aliases and where it was read left out, and an observed “none” like nothing."""
    cells = {name: getattr(row, name) for name in row.__struct_fields__}
    return {n: v for n, v in cells.items() if v not in (None, (), "none") and n not in ("source", "aliases", "extra")}


def links(network):
    return {(str(link.a), str(link.b), link.state) for link in map_network(network).links}


def faults(network):
    return sorted((finding.rule, *map(str, finding.subjects)) for finding in check(network).findings)


class Scope(Visiting):
    def test_nobody_outside_is_asked(self):
        with agents(healthy()) as running:
            answer = self.visit(running, within=["10.61.10.0/24"])
            self.assertEqual(running.agents["10.61.90.2"].asked, 0)
        self.assertEqual(len(answer.of("complete")), 10)
        (told,) = answer.not_asked
        self.assertEqual(
            (told.device, told.addresses, told.why), ("quay-router", ("10.61.90.2",), "outside of the scope")
        )
        self.assertEqual(told.named_by, ("harbour-office port5",))

    def test_hops(self):
        with agents(healthy()) as running:
            answer = self.visit(running, hops=1)
        self.assertEqual({device.hops for device in answer.devices}, {0, 1})
        self.assertIn("galley", {entry.device for entry in answer.not_asked})
        self.assertEqual({entry.why for entry in answer.not_asked}, {"beyond the hops that were asked for"})

    def test_a_device_that_is_nearer_than_it_was_first_found_to_be(self):
        class Slow(Agent):
            def late(self):
                return 0.2

        hears = {"a": "pt", "p": "q", "q": "d", "t": "d", "d": "e", "e": ""}  # d is three hops away, and two by slow t
        own = {
            name: Survey.of(
                devices=[Device(name, f"02:00:00:00:00:0{at}", ("bridge",), management=f"10.61.0.{at}")],
                ports=[Port(name, f"port{n}", discovery="both") for n in range(len(others))],
                neighbors=[
                    Neighbor(name, f"port{n}", "lldp", other, management=f"10.61.0.{[*hears].index(other) + 1}")
                    for n, other in enumerate(others)
                ],
            )
            for at, (name, others) in enumerate(hears.items(), 1)
        }
        made = {
            survey.devices[0].management: (Slow if name == "t" else Agent)(objects_of(survey))
            for name, survey in own.items()
        }
        with agents(made) as running:
            answer = self.visit(running, ["10.61.0.1"], hops=3, patience=1)
        self.assertEqual({d.device: d.hops for d in answer.devices}, {"a": 0, "p": 1, "t": 1, "q": 2, "d": 2, "e": 3})
        self.assertEqual(answer.not_asked, ())

    def test_every_address_of_a_prefix(self):
        survey = replace_tables(healthy(), neighbors=())
        with agents(survey) as running:
            answer = self.visit(running, also=["10.61.10.200/29"], access=[ENTRY])
        self.assertEqual(len(answer.of("complete")), 6)  # .201 to .206 have devices; whoever is silent there is no news
        self.assertEqual(len(answer.devices), 6)

    def test_what_cannot_be_asked_for(self):
        for start, within, also, says in (
            (["10.62.0.1"], CAMPUS, [], "lies outside"),
            (["core-east"], CAMPUS, [], "expected an address"),
            ([FIRST], ["10.61.0.0/40"], [], "expected a prefix"),
            ([FIRST], CAMPUS, ["10.62.0.0/24"], "lies outside"),
            ([FIRST], ["10.0.0.0/8"], ["10.0.0.0/8"], "too many addresses"),
        ):
            with self.subTest(says), self.assertRaisesRegex(VisitError, says):
                visit(start, within, [ENTRY], self.walks, also=also)
        self.assertFalse(self.walks.exists())

    def test_no_entry_for_an_address_and_a_community_that_is_not_theirs(self):
        with agents(healthy()) as running:
            far = Access.by_community("public", ["10.61.90.0/24"])
            (device,) = self.visit(running, access=[far]).devices
            self.assertEqual(device.status, "no access")
            others = [Access.by_community("private", CAMPUS), ENTRY]
            answer = self.visit(running, access=others)
        self.assertEqual(len(answer.of("complete")), 11)

    def test_nobody_listens(self):
        with agents(healthy()) as running:
            places = {**running.places, "10.61.10.205": ("127.0.0.1", 1)}
            answer = visit([FIRST], CAMPUS, [ENTRY], self.walks, places=places, patience=1)
        (refused,) = answer.of("refused")
        self.assertEqual((refused.address, refused.says), ("10.61.10.205", "connection refused"))
        self.assertIn("core-east port5", refused.named_by)


def replace_tables(survey, **tables):
    names = ("devices", "ports", "vlans", "neighbors", "gateways", "routes", "trees", "tree_ports", "macs", "arp")
    return Survey.of(survey.info, **{**{name: survey.table(name) for name in names}, **tables})


class Identity(Visiting):
    def two(self, *chassis):
        """A switch that hears two neighbours of one name."""
        first = Device("quay", "02:00:00:00:00:01", ("bridge",), management="10.61.0.1")
        others = [Device("sw", c, ("bridge",), management=f"10.61.0.{n}") for n, c in enumerate(chassis, 2)]
        heard = [
            Neighbor("quay", f"port{n}", "lldp", "sw", c, "port1", management=f"10.61.0.{n}")
            for n, c in enumerate(chassis, 2)
        ]
        ports = [Port("quay", f"port{n}", oper="up", discovery="both") for n in (2, 3)]
        alone = [Survey.of(devices=[first], ports=ports, neighbors=heard)]
        alone += [Survey.of(devices=[d], ports=[Port("sw", "port1", discovery="both")]) for d in others]
        return {own.devices[0].management: Agent(objects_of(own)) for own in alone}

    def test_two_addresses_of_one_device_are_one(self):
        with agents(self.two("02:00:00:00:00:02", "02:00:00:00:00:02")) as running:
            answer = self.visit(running, ["10.61.0.1"])
            less, most = sorted(running.agents[f"10.61.0.{n}"].asked for n in (2, 3))
        self.assertEqual(len(answer.of("complete")), 2)
        (same,) = answer.of("same device")
        self.assertIn("it was read at 10.61.0.", same.says)
        self.assertLess(less, most)
        self.assertEqual(len(gather(answer.walks).survey.devices), 2)

    def test_listings_that_are_none(self):
        for text in (b"{broken", b"[]", b"\xff", b'{"local-chassis": 3}', b'{"lldp": [{"interface": 7}]}'):
            (self.folder / "lldp-chassis.json").write_bytes(text)
            (self.folder / "lldp-neighbors.json").write_bytes(text)
            told = told_in_folder(self.folder)
            self.assertEqual((told.chassis, told.neighbors), (None, ()), text)

    def test_two_devices_of_one_name_stay_two(self):
        with agents(self.two("02:00:00:00:00:02", "02:00:00:00:00:03")) as running:
            answer = self.visit(running, ["10.61.0.1"])
        network = Network(gather(answer.walks).survey)
        names = {row.device for row in network.survey.devices}
        self.assertEqual(names, {"quay", "sw (10.61.0.2)", "sw (10.61.0.3)"})
        ends = {f"{link.b.device} {link.b.port}" for link in map_network(network).links}
        self.assertEqual(ends, {"sw (10.61.0.2) port1", "sw (10.61.0.3) port1"})


def alone(own, address):
    """The same device with a chassis of its own."""
    chassis = f"02:00:00:00:00:{int(address.rpartition('.')[2]):02x}"
    return replace_tables(own, devices=[replace(own.devices[0], chassis=chassis)])


class Misbehaviour(Visiting):
    expected: ClassVar = {
        "StandsStill": ("in part", "its identifiers do not increase"),
        "Endless": ("in part", "it has no end: stopped after 300 objects"),
        "FailsInOneColumn": ("in part", "it answers with genErr"),
        "WrongNumber": ("unusable", "it answers to requests that nobody made"),
        "Elsewhere": ("unusable", "its answers come from 127.0.0.1 port"),
        "RandomOctets": ("unusable", "it answers with octets that are no SNMP message"),
        "Dies": ("in part", "no answer any more"),
        "Silent": ("silent", "no answer"),
    }

    def test_each_is_read_as_far_as_it_goes_and_named_with_its_reason(self):
        self.enterContext(unittest.mock.patch.object(reading, "LARGEST_COLUMN", 300))
        kinds = {f"10.61.200.{n}": kind for n, kind in enumerate(misbehaving.MISBEHAVIOURS, 1)}
        own = by_device(healthy())["core-east"]
        told = {address: objects_of(alone(own, address)) for address in kinds}
        with agents({address: kind(told[address]) for address, kind in kinds.items()}) as running:
            devices = {device.address: device for device in self.visit(running, list(kinds), hops=0, tries=3).devices}
        for address, kind in kinds.items():
            with self.subTest(kind.__name__):
                status, why = self.expected.get(kind.__name__, ("complete", ""))
                reasons = {devices[address].says, *(column.why for column in devices[address].not_in_full)}
                self.assertEqual(devices[address].status, status)
                self.assertTrue(any(text.startswith(why) for text in reasons), reasons)
                if status == "complete":
                    text = (self.walks / f"{address}.walk").read_text().splitlines()
                    self.assertEqual(sorted(text[1:]), sorted(map(line_of, told[address])))
                if status == "in part" and kind is not misbehaving.Endless:  # a counter says nothing of rows
                    self.assertIn("no", self.covered(address).values())

    def covered(self, address):
        survey = gather([self.walks / f"{address}.walk"]).survey
        return {row.table: row.complete for row in survey.coverage}

    def test_an_incomplete_list_of_ports_is_not_taken_for_all(self):
        class BreaksOffInVlans(Agent):
            def respond(self, message):
                wanted = [entry.identifier for entry in message.entries]
                if any(name[:12] == (1, 3, 6, 1, 2, 1, 17, 7, 1, 4, 2, 1) and len(name) > 13 for name in wanted):
                    at = next(
                        n for n, name in enumerate(wanted, 1) if name[:12] == (1, 3, 6, 1, 2, 1, 17, 7, 1, 4, 2, 1)
                    )
                    return misbehaving.encode_message(
                        message.community, misbehaving.RESPONSE, message.number, misbehaving.GENERAL_ERROR, at, b""
                    )
                return super().respond(message)

        own = objects_of(by_device(healthy())["ropehall"])
        with agents({FIRST: BreaksOffInVlans(own)}) as running:
            answer = self.visit(running, hops=0)
        self.assertIn("vlan egress", {column.column for column in answer.devices[0].not_in_full})
        rows = {row.port: row for row in gather(answer.walks).survey.ports}
        self.assertEqual(str(rows["port1"].allowed), "10 20 30 40 50 90")  # by the list as configured
        self.assertEqual(rows["port4"].pvid, 20)
        self.assertEqual(self.covered(FIRST)["vlans"], "no")

    def test_neighbours_of_who_breaks_off_are_found(self):
        bad = {**agents_for(healthy()), FIRST: misbehaving.Dies(objects_of(by_device(healthy())["core-east"]))}
        with agents(bad) as running:
            answer = self.visit(running)
        self.assertEqual(len(answer.of("complete")), 10)
        self.assertEqual([device.device for device in answer.of("in part")], ["core-east"])


class LateAnswers(unittest.TestCase):
    """An answer that comes when another question is asked already is taken for none, by either version."""

    first, second = Request(((1, 3, 6, 1),), 0), Request(((1, 3, 6, 2),), 0)

    async def asked(self, session, answer):
        """Ask twice in vain and a third time with an answer; then something else, to which all answers come at once."""
        loop = asyncio.get_running_loop()
        for _ in range(2):
            self.assertIsNone(await session.ask(self.first, 0.02))
        loop.call_soon(answer, 2)
        self.assertEqual((await session.ask(self.first, 1)).request, self.first)
        for late in (0, 1, 2):
            loop.call_soon(answer, late)
        self.assertIsNone(await session.ask(self.second, 0.05))
        loop.call_soon(answer, 3)
        self.assertIsNotNone(await session.ask(self.second, 1))
        for late in (0, 3):
            loop.call_soon(answer, late)
        self.assertIsNone(await session.ask(self.first, 0.05))
        self.assertEqual(session.oddities, {})

    def test_of_version_2c(self):
        sent = []

        class Wire(Datagrams):
            def send(self, data, place):
                sent.append(read_message(data).number)

        async def run():
            session = CommunitySession(Wire(), ("127.0.0.1", 9), "public")

            def answer(at):
                session.heard(
                    encode_message(b"public", RESPONSE, sent[at], 0, 0, encode_entry((1, 3, 6, 1, 5), 2, b"1"))
                )

            await self.asked(session, answer)

        asyncio.run(run())

    def test_of_version_3(self):
        from pysnmp.proto.api import v2c

        calls = []

        class Engine:
            datagrams = Datagrams()

            def send(self, name, request, answered):
                calls.append(answered)

        pdu = v2c.ResponsePDU()
        v2c.apiPDU.set_defaults(pdu)
        v2c.apiPDU.set_varbinds(pdu, [(v2c.ObjectIdentifier((1, 3, 6, 1, 5)), v2c.Integer(1))])

        async def run():
            await self.asked(UserSession(Engine(), "x", ("127.0.0.1", 9)), lambda at: calls[at](None, pdu))

        asyncio.run(run())


VISITOR = """
import json, sys
from crossthread import Access, visit
start, folder, places = json.load(open(sys.argv[1]))
within = ["10.61.0.0/16"]
access = [Access.by_community("public", within)]
visit([start], within, access, folder, places={a: tuple(p) for a, p in places.items()}, at_once=2)
"""


class GoingOn(Visiting):
    def test_killed_again_and_again_it_asks_nobody_twice_and_finds_the_same(self):
        with agents(healthy(), delay=0.02) as running:
            whole = visit([FIRST], CAMPUS, [ENTRY], self.folder / "whole", places=running.places, at_once=2)
            once = {address: agent.asked for address, agent in running.agents.items()}
            words = self.folder / "words.json"
            words.write_text(json.dumps([FIRST, str(self.walks), running.places]))
            kills = 0
            while True:
                process = subprocess.Popen([sys.executable, "-c", VISITOR, str(words)])
                time.sleep(0.35 + 0.05 * kills)
                if kills < 6 and process.poll() is None:
                    os.kill(process.pid, signal.SIGKILL)
                    process.wait()
                    kills += 1
                elif process.wait() == 0:
                    break
            self.assertGreater(kills, 2)
            more = [agent.asked - 2 * once[address] for address, agent in running.agents.items()]
        self.assertLessEqual(sum(more), 2 * kills)  # a question whose answer was on its way
        self.assertEqual(rows(gather(sorted(self.walks.glob("*.walk"))).survey), rows(gather(whole.walks).survey))
        self.assertFalse(self.walks.with_name("campus.visiting").exists())

    def test_a_second_visit_asks_only_who_was_not_complete(self):
        dead = {**agents_for(healthy()), "10.61.10.206": misbehaving.Silent([])}
        with agents(dead) as running:
            self.assertEqual([d.address for d in self.visit(running).of("silent")], ["10.61.10.206"])
        self.assertEqual(planned([FIRST], CAMPUS, [ENTRY], self.walks).kept, 10)
        with agents(healthy()) as running:
            answer = self.visit(running)
            asked = {address for address, agent in running.agents.items() if agent.asked}
            self.assertEqual(asked, {"10.61.10.206"})
            self.assertEqual(len(answer.of("complete")), 11)
            self.assertEqual(sum(device.earlier for device in answer.devices), 10)
            self.visit(running, again=True)
            self.assertTrue(all(agent.asked for agent in running.agents.values()))

    def test_what_was_read_in_full_is_not_replaced_by_less(self):
        with agents(healthy()) as running:
            self.visit(running)
        dying = {**agents_for(healthy()), FIRST: misbehaving.Dies(objects_of(by_device(healthy())["core-east"]))}
        before = (self.walks / f"{FIRST}.walk").read_bytes()
        with agents(dying) as running:
            self.assertEqual(self.visit(running, again=True).of("in part")[0].address, FIRST)
        self.assertEqual((self.walks / f"{FIRST}.walk").read_bytes(), before)

    def test_two_at_once_and_a_folder_that_cannot_be_written(self):
        async def twice():
            async with agents_async(healthy(), delay=0.01) as running:
                one = asyncio.create_task(visit_async([FIRST], CAMPUS, [ENTRY], self.walks, places=running.places))
                await asyncio.sleep(0.05)
                with self.assertRaisesRegex(VisitError, "another visit"):
                    await visit_async([FIRST], CAMPUS, [ENTRY], self.walks, places=running.places)
                return await one

        self.assertEqual(len(asyncio.run(twice()).of("complete")), 11)
        (self.folder / "file").write_text("")
        with self.assertRaisesRegex(VisitError, "cannot be kept"):
            visit([FIRST], CAMPUS, [ENTRY], self.folder / "file" / "walks")

    def test_what_would_be_done(self):
        plan = planned([FIRST], CAMPUS, [ENTRY], self.walks, also=["10.61.10.200/30"])
        self.assertEqual(plan.start, ((FIRST, ("SNMP 2c, port 161",)),))
        self.assertEqual((plan.swept, plan.kept, plan.interrupted), (2, 0, False))


def rows(survey):
    names = ("devices", "ports", "vlans", "neighbors", "gateways", "routes", "trees", "tree_ports", "macs", "arp")
    return {name: sorted(repr(replace(row, source=None)) for row in survey.table(name)) for name in names}


class Commands(Visiting):
    def run_command(self, *words, **env):
        return subprocess.run(
            [COMMAND, *words], capture_output=True, text=True, timeout=120, cwd=self.folder, check=False,
            env={**os.environ, "CAMPUS_READ": "public", **env},
        )  # fmt: skip

    def test_a_visit_by_the_command(self):
        alone = replace_tables(
            Survey.of(devices=[Device("quay", "02:00:00:00:00:01", ("bridge",), management="127.0.0.1")]),
            ports=[Port("quay", "port1", oper="up", discovery="both")],
            neighbors=[Neighbor("quay", "port1", "lldp", "far \x1b[31m[bold]", None, "port9")],
        )
        with agents(alone) as running:
            port = running.places["127.0.0.1"][1]
            access = self.folder / "access.toml"
            access.write_text(f'[[access]]\nwithin=["127.0.0.0/8"]\nport={port}\ncommunity={{ env="CAMPUS_READ" }}\n')
            access.chmod(0o600)
            words = ("visit", "127.0.0.1", "--within", "127.0.0.0/8", "--access", "access.toml", "--into", "campus")
            dry = self.run_command(*words, "--dry-run")
            self.assertEqual(dry.returncode, 0, dry.stderr)
            self.assertIn(f"127.0.0.1: SNMP 2c, port {port}", dry.stdout)
            self.assertEqual(running.agents["127.0.0.1"].asked, 0)
            done = self.run_command(*words)
            self.assertEqual((done.returncode, done.stderr), (0, ""))
            self.assertIn("1 read in full", done.stdout)
            self.assertIn("announces no address", done.stdout)
            self.assertNotIn("\x1b", done.stdout)
            self.assertEqual(read_survey(self.folder / "campus").devices[0].device, "quay")
            told = json.loads(self.run_command(*words, "--again", "--json").stdout)
            self.assertEqual(told["devices"][0]["status"], "complete")
            self.assertNotIn("public", done.stdout + json.dumps(told))
            silent = self.run_command(*words, "--again", "--patience", "0.2", "--tries", "1", CAMPUS_READ="private")
            self.assertEqual(silent.returncode, 1)
            self.assertIn("silent  127.0.0.1  quay  no answer; named by given", silent.stdout)
        wrong = self.run_command(*words, CAMPUS_READ="")
        self.assertEqual(wrong.returncode, 3)
        self.assertIn("access.toml:4: community: expected the secret in the environment", wrong.stderr)
        (self.folder / "notes.md").write_text("no survey")
        other = self.run_command(*words[:-1], "notes.md")
        self.assertEqual((other.returncode, other.stdout), (3, ""))
        self.assertIn("notes.md", other.stderr)
        outside = self.run_command("visit", "10.0.0.1", *words[2:])
        self.assertEqual(outside.returncode, 2)
        self.assertIn("10.0.0.1 lies outside of 127.0.0.0/8", outside.stderr)

    def test_the_demo_live(self):
        done = self.run_command("demo", "--live", "here")
        self.assertEqual((done.returncode, done.stderr), (0, ""))
        self.assertIn("11 read in full", done.stdout)
        self.assertIn("11 devices, 17 links", done.stdout)
        self.assertIn("foghorn-exhibit does not reach camera-recorder", done.stdout.replace("\n", " "))
        self.assertEqual(self.run_command("demo", "--live", "here").returncode, 2)


if __name__ == "__main__":
    unittest.main()
