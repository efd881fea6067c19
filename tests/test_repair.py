"""The repair as a work order: what comes first, what is lost, what to wait for; all pairs at once; machine forms."""

import dataclasses
import json
import random
import shlex
import tempfile
import unittest
from itertools import combinations, pairwise
from pathlib import Path

from msgspec.structs import replace

from crossthread import Change, Network, Survey, apply_changes, matrix, why, write_survey
from crossthread.demo import FAULTS, faulty, healthy
from crossthread.demo.generator import generate
from crossthread.diagnosis.findings import Finding
from crossthread.diagnosis.repair.harm.side_effects import with_touches
from crossthread.diagnosis.repair.work_order import work_order
from crossthread.faces.scripts.commands import as_commands
from crossthread.faces.scripts.instance_data import as_instance_data
from crossthread.network.routing.forwarding import Forwarding
from crossthread.plan import Plan
from crossthread.plan.plan import PlannedHost
from crossthread.questions.why_all import why_all
from crossthread.questions.why_via import why_via
from crossthread.sources.yang.ietf import read_yang
from crossthread.survey.records import Device, Host, Neighbor, Port, Tree, TreePort, Vlan
from crossthread.values import VlanSet
from tests.building import KNOWN
from tests.test_command import run
from tests.test_generated import shape


def port(device, name, mode, pvid=0, allowed=None, **cells):
    vids = VlanSet.parse(allowed) if allowed is not None else None
    return Port(device, name, admin="up", oper="up", mode=mode, pvid=pvid, allowed=vids, **cells)


def cable(a, b):
    return (Neighbor(*a, neighbor=b[0], neighbor_port=b[1]), Neighbor(*b, neighbor=a[0], neighbor_port=a[1]))


def chain(*names):
    """Switches in a row, joined by trunks."""
    ports, cables = [], []
    for left, right in pairwise(names):
        ports += [port(left, "right", "trunk", 0, "10 20"), port(right, "left", "trunk", 0, "10 20")]
        cables += cable((left, "right"), (right, "left"))
    hosts = []
    for number, name in enumerate(names, 1):
        ports.append(port(name, "desk", "access", 10))
        mac, own = f"02:00:00:00:00:{number:02x}", f"10.9.1.{number}/24"
        hosts.append(Host(f"pc-{name}", mac=mac, address=own, gateway="none", device=name, port="desk", link="up"))
    trees = tuple(
        Tree(name, 0, protocol="rstp", priority=32768, address=f"02:00:00:00:01:{n:02x}")
        for n, name in enumerate(names, 1)
    )
    return Survey(KNOWN, ports=tuple(ports), neighbors=tuple(cables), hosts=tuple(hosts), trees=trees)


def mends(*changes):
    """A finding for each change."""
    return [Finding(f"fault-{n}", "breaks", (), "", (), (change,)) for n, change in enumerate(changes)]


def on(device, name, **cells):
    return Change("ports", {"device": device, "port": name}, cells)


def says(network, findings, seat):
    return [step.says for step in work_order(network, findings, None, seat)]


class Order(unittest.TestCase):
    def test_swapped_tags_are_cleared_before_they_are_used_again(self):
        answer = why(Network(faulty()), "camera-recorder", "plank-saw")
        told = [step.says for step in answer.order]
        self.assertEqual(told, ["quay-router port1.40: clear its tag", "quay-router port1.50: set its tag to 50",
                                "quay-router port1.40: set its tag to 40"])  # fmt: skip
        self.assertIn("10.61.50.1/24, fd61:c7:0:50::ff/64", answer.order[1].loses)
        now = Network(faulty())
        for step in answer.order:  # at no time do two interfaces hold one tag
            now = now.changed(step.changes)
            tags = {s.name: s.row.vid for s in now.stations.on_device["quay-router"] if s.row.vid and s.row.port}
            self.assertEqual(len(set(tags.values())), len(tags))
        reached = Forwarding(now).echo(*(now.stations.hosts[n] for n in ("camera-recorder", "plank-saw")))
        self.assertTrue(reached)

    def test_two_hosts_that_swap_addresses(self):
        network = Network(chain("a", "b"))
        swap = [
            Change("hosts", {"host": "pc-a"}, {"address": "10.9.1.2/24"}),
            Change("hosts", {"host": "pc-b"}, {"address": "10.9.1.1/24"}),
        ]
        self.assertEqual(
            says(network, mends(*swap), "a"),
            ["pc-a: clear its address", "pc-b: set its address to 10.9.1.1/24", "pc-a: set its address to 10.9.1.2/24"],
        )

    def test_the_far_end_comes_first_where_a_step_cuts_the_way_to_it(self):
        network = Network(chain("a", "b", "c"))
        both = mends(on("b", "right", pvid=7), on("c", "left", pvid=7))
        near, far = "b right: native VLAN 7", "c left: native VLAN 7"
        self.assertEqual(says(network, both, "a"), [far, near])
        self.assertEqual(says(network, both, "c"), [near, far])
        cut = network.changed([on("b", "right", admin="down", oper="down")])
        steps = work_order(cut, mends(on("c", "desk", pvid=20), on("b", "right", admin="up", oper="up")), None, "a")
        self.assertEqual([(s.device, s.reached) for s in steps], [("b", True), ("c", True)])
        alone = work_order(cut, mends(on("c", "desk", pvid=20)), None, "a")
        self.assertFalse(alone[0].reached)

    def test_a_vlan_before_its_ports_and_what_interrupts_nothing_before_what_does(self):
        network = Network(replace_vlans(chain("a", "b")))
        steps = mends(
            on("a", "desk", pvid=30),
            Change("vlans", {"device": "a", "vid": 30}, {"state": "active"}),
            on("b", "left", allowed="10 20 30"),
            Change("hosts", {"host": "pc-b"}, {"gateway": "10.9.1.254"}),
        )
        self.assertEqual(
            says(network, steps, "a"),
            ["a: create VLAN 30", "b left: carry VLAN 30 as well", "pc-b: set its gateway to 10.9.1.254",
             "a desk: put it into VLAN 30"],
        )  # fmt: skip

    def test_what_is_lost_and_what_to_wait_for(self):
        network = Network(chain("a", "b"))
        (step,) = work_order(network, mends(on("a", "right", mode="access", pvid=10, allowed="")))
        self.assertEqual(step.loses, "its trunk settings: allowed 10 20, native none")
        survey = replace_timers(faulty(), 4.0)
        ring = work_order(
            Network(survey), mends(Change("trees", {"device": "core-west", "instance": 0}, {"priority": 0}))
        )
        self.assertEqual(ring[0].wait, 8.0)
        self.assertIn("observed", ring[0].wait_for)
        gateway = next(h for h in survey.hosts if h.host == "curator-pc").gateway
        (host,) = work_order(
            Network(survey), mends(Change("hosts", {"host": "curator-pc"}, {"address": "10.61.10.99/24"}))
        )
        self.assertIn(f"put {gateway} back", host.loses)
        self.assertEqual(host.wait, 60)

    def test_each_step_says_who_gains_and_what_to_test(self):
        network = Network(faulty())
        answer = why(network, "ticket-desk-2", "foghorn-exhibit")
        steps = with_touches(network, answer.order)
        self.assertEqual(steps[-1].test, "ticket-desk-2 pings foghorn-exhibit: the answer comes")
        before = works(network)
        for step in steps:
            network = network.changed(step.changes)
            after = works(network)
            self.assertEqual((step.touches.gain, step.touches.lose), (len(after - before), len(before - after)))
            self.assertEqual(set(step.touches.gaining), {name for pair in after - before for name in pair})
            before = after


def replace_vlans(survey):
    rows = tuple(Vlan(device, vid, state="active") for device in ("a", "b") for vid in (10, 20))
    return Survey(**{**survey.__dict__, "vlans": rows})


def replace_timers(survey, delay):
    return Survey(**{**survey.__dict__, "trees": tuple(replace(row, forward_delay=delay) for row in survey.trees)})


def works(network):
    return {(a, b) for a, b, verdict in matrix(network).reaches if verdict == "works"}


def moves(survey):
    """Every edit of one thing that a repair may make, with every value that stands anywhere."""
    vids = sorted({row.vid for row in survey.gateways if row.vid} | {row.pvid for row in survey.ports if row.pvid})
    for row in survey.ports:
        if row.mode == "access":
            yield from ([on(row.device, row.port, pvid=vid)] for vid in vids if vid != row.pvid)
        elif row.allowed is not None:
            yield [on(row.device, row.port, allowed=str(row.allowed | VlanSet.of(vids)))]
        if row.admin == "down":
            yield [on(row.device, row.port, admin="up", oper="up")]
    for row in survey.gateways:
        key = {"device": row.device, "interface": row.interface, "address": row.address}
        yield from ([Change("gateways", key, {"vid": vid})] for vid in vids if vid != row.vid)
        if row.admin == "down":
            yield [Change("gateways", key, {"admin": "up"})]
    hops = {row.gateway for row in survey.hosts}
    for row in survey.hosts:
        yield from ([Change("hosts", {"host": row.host}, {"gateway": hop})] for hop in hops if hop != row.gateway)
    for row in survey.devices:
        if row.routing == "no":
            yield [Change("devices", {"device": row.device}, {"routing": "yes"})]


def plant(survey, chance):
    """A fault of a kind that a single edit mends."""
    kind = chance.randrange(8)
    host, gateway = chance.choice(survey.hosts), chance.choice(survey.gateways)
    vid = chance.choice([row.vid for row in survey.gateways if row.vid])
    key = {"device": gateway.device, "interface": gateway.interface, "address": gateway.address}
    if kind == 0:
        return on(host.device, host.port, pvid=vid)
    if kind == 1:
        return Change("gateways", key, {"admin": "down", "oper": "down"})
    if kind == 2:
        return Change("hosts", {"host": host.host}, {"gateway": "none"})
    if kind == 3:
        return on(host.device, host.port, admin="down", oper="down")
    if kind == 4:
        return Change("devices", {"device": gateway.device}, {"routing": "no"})
    trunks = [row for row in survey.ports if row.mode == "trunk" and row.allowed]
    if kind == 5 and trunks:
        row = chance.choice(trunks)
        return on(row.device, row.port, allowed=str(row.allowed - VlanSet.of([vid])) or "none")
    if kind == 6:
        return Change("hosts", {"host": host.host}, {"gateway": "10.255.255.1"})
    return Change("vlans", {"device": host.device, "vid": vid}, {"state": "suspended"})


class Mending(unittest.TestCase):
    def test_one_to_six_planted_faults_are_mended_for_every_pair_that_they_break(self):
        chance, broken = random.Random(31), 0
        for number in range(24):
            survey = shape(number)
            good = works(Network(survey))
            bad = apply_changes(survey, [plant(survey, chance) for _ in range(1 + number % 6)])
            network = Network(bad)
            lost = sorted(good - works(network))
            for pair in chance.sample(lost, min(5, len(lost))):
                with self.subTest(number=number, pair=pair):
                    answer = why(network, *pair)
                    self.assertTrue(answer.repair_proven, [f.says for f in answer.findings])
                    mended = Network(apply_changes(bad, answer.repair))
                    ends = [mended.stations.hosts[name] for name in pair]
                    self.assertTrue(Forwarding(mended).echo(*ends))
                    broken += 1
        self.assertGreater(broken, 80)

    def test_no_smaller_repair_exists_on_small_campuses(self):
        chance, tried = random.Random(8), 0
        for number in range(24):
            survey = generate(number, 3, 5, 2)
            good = works(Network(survey))
            bad = apply_changes(survey, [plant(survey, chance) for _ in range(3)])
            network = Network(bad)
            for pair in sorted(good - works(network))[:2]:
                size = sum("clear" not in step.says for step in why(network, *pair).order)
                every = [move for move in moves(bad) if near(move, bad, pair)]
                for fewer in range(1, min(size, 3)):
                    for chosen in combinations(every, fewer):
                        trial = network.changed([change for move in chosen for change in move])
                        ends = [trial.stations.hosts[name] for name in pair]
                        self.assertFalse(Forwarding(trial).echo(*ends), (number, pair, size, chosen))
                        tried += 1
        self.assertGreater(tried, 200)

    def test_all_pairs_at_once_with_nothing_that_could_be_left_out(self):
        network = Network(faulty())
        answer = why_all(network)
        self.assertEqual(answer.then.works, answer.then.wanted)
        self.assertEqual(answer.then.wanted, why_all(Network(healthy())).now.works)
        self.assertEqual([m.pairs for m in answer.mends], sorted((m.pairs for m in answer.mends), reverse=True))
        shares = [answer.now.works, *(m.after.works for m in answer.mends)]
        self.assertEqual(shares, sorted(shares))
        self.assertLess(len(answer.mends), len(FAULTS))  # three of them cut nobody off
        whole = len(works(Network(apply_changes(network.survey, answer.repair))))
        for left_out in answer.mends:
            rest = [c for m in answer.mends if m is not left_out for c in m.finding.repair]
            self.assertLess(len(works(network.changed(rest))), whole)

    def test_alternatives_are_as_small_and_work_and_the_plan_decides(self):
        network = Network(faulty())
        answer = why(network, "curator-pc", "foghorn-exhibit")
        by_rule = {finding.rule: finding for finding in answer.findings}
        first, second = by_rule["port-vlan-wrong"].alternatives
        self.assertEqual((answer.confidence, first.stops, second.stops), ("likely", 0, 0))
        self.assertIn("3 of 3 other hosts of its subnet are in VLAN 20", first.because)
        self.assertEqual(second.changes[0].key, {"host": "foghorn-exhibit"})
        rest = [c for f in answer.findings if f.rule != "port-vlan-wrong" for c in f.repair]
        moved = network.changed([*rest, *second.changes])
        self.assertTrue(Forwarding(moved).echo(*(moved.stations.hosts[n] for n in ("curator-pc", "foghorn-exhibit"))))
        (cells,) = (change.cells for change in second.changes)
        entry = PlannedHost("foghorn-exhibit", vlan=30, address=cells["address"], gateway=cells["gateway"])
        planned = why(network, "curator-pc", "foghorn-exhibit", plan=Plan(hosts={"foghorn-exhibit": entry}))
        self.assertIn(second.changes[0], planned.repair)


def near(move, survey, pair):
    """Whether a move is about one of the two hosts, or no host at all."""
    change = move[0]
    if change.table == "hosts":
        return change.key["host"] in pair
    rows = [row for row in survey.hosts if (row.device, row.port) == (change.key.get("device"), change.key.get("port"))]
    return not rows or any(row.host in pair for row in rows)


class Ways(unittest.TestCase):
    def test_by_way_of_a_device_that_the_tree_passes_by(self):
        network = Network(healthy())
        here = why_via(network, "plank-saw", "gate-camera", "harbour-office")
        self.assertEqual((here.verdict, here.via), ("works", "harbour-office"))
        there = why_via(network, "plank-saw", "gate-camera", "slipway")
        self.assertEqual([f.rule for f in there.findings], ["tree-blocks-vlan"])
        self.assertTrue(there.repair_proven)
        passed = why(network.changed(there.repair), "plank-saw", "gate-camera")
        for path in (passed.path, passed.path_back):
            self.assertIn("slipway", [hop.name for hop in path])
        self.assertEqual(there.confidence, "likely")
        with tempfile.TemporaryDirectory() as folder:
            write_survey(healthy(), Path(folder))
            told = run("why", folder, "plank-saw", "gate-camera", "--via", "slipway")
        self.assertEqual((told.returncode, told.stderr), (1, ""))
        self.assertIn("likely", told.stdout)

    def test_nor_does_a_certain_way_cost_anybody_who_works(self):
        network = Network(faulty())
        told = why_via(network, "tide-table-exhibit", "camera-recorder", "sail-loft")
        self.assertEqual((told.confidence, told.repair_proven), ("open", False))
        self.assertIn(("plank-saw", "slip-winch"), told.costs)
        kept = [
            {row for row in matrix(one).reaches if row[2] == "works"} for one in (network, network.mended(told.repair))
        ]
        self.assertEqual(kept[0] - kept[1], set())

    def test_a_whole_other_way_that_is_as_cheap_is_an_alternative(self):
        network = Network(faulty())
        answer = why(network, "ticket-desk-1", "tide-table-exhibit")
        (missing,) = (finding for finding in answer.findings if finding.rule == "link-vlan-missing")
        here, there = missing.alternatives
        self.assertEqual(here.changes, missing.repair)
        self.assertEqual(there.because, ("VLAN 20 can go by core-west instead",))
        rest = [c for f in answer.findings if f is not missing for c in f.repair]
        passed = why(network.changed([*rest, *there.changes]), "ticket-desk-1", "tide-table-exhibit")
        self.assertEqual(passed.verdict, "works")
        self.assertIn("core-west", [hop.name for hop in passed.path])

    def test_the_other_way_may_lack_the_vlan_too(self):
        survey = chain("a", "b", "c")
        ring = (port("c", "right", "trunk", 0, "10 20"), port("a", "left", "trunk", 0, "10 20"))
        trees = tuple(
            replace(row, instance=10, protocol="per-vlan", priority=4096 * n, vlans=VlanSet.parse("10"))
            for n, row in enumerate(survey.trees, 1)
        )
        ports = (*survey.ports, *ring)
        costs = tuple(TreePort(p.device, p.port, 10, cost=4) for p in ports if p.mode == "trunk")
        whole = dataclasses.replace(survey, ports=ports, trees=trees, tree_ports=costs,
                                    neighbors=(*survey.neighbors, *cable(("c", "right"), ("a", "left"))))  # fmt: skip
        rows = [("ports", "a", "right"), ("ports", "a", "left")]
        cut = apply_changes(whole, [Change(t, {"device": d, "port": p}, {"allowed": "20"}) for t, d, p in rows])
        answer = why(Network(cut), "pc-a", "pc-b")
        self.assertEqual((answer.verdict, answer.repair_proven), ("fails", True))
        (fault,) = answer.findings
        ends = [(c.key["port"], c.cells) for option in fault.alternatives for c in option.changes]
        self.assertEqual(ends, [("right", {"allowed": "10 20"}), ("left", {"allowed": "10 20"})])
        self.assertEqual(fault.alternatives[1].because[0], "VLAN 10 can go by c instead")

    def test_all_other_ways_of_the_same_price_are_listed(self):
        survey = chain("a", "b")
        names = ("second", "third")
        ports = [port(device, name, "trunk", 0, "10 20") for name in names for device in "ab"]
        links = [row for name in names for row in cable(("a", name), ("b", name))]
        trees = tuple(replace(row, instance=10, protocol="per-vlan", vlans=VlanSet.parse("10")) for row in survey.trees)
        rows = tuple(replace(row, speed=1000) for row in (*survey.ports, *ports))
        whole = dataclasses.replace(survey, ports=rows, trees=trees, neighbors=(*survey.neighbors, *links))
        cut = apply_changes(whole, [on("a", name, allowed="20") for name in ("right", *names)])
        (fault,) = why(Network(cut), "pc-a", "pc-b").findings
        mended = [change.key["port"] for way in fault.alternatives for change in way.changes]
        self.assertEqual(mended, ["right", *names])
        self.assertEqual(fault.alternatives[1].because[0], "VLAN 10 can go over a second instead")

    def test_a_leak_that_two_hosts_live_by_is_told(self):
        survey = chain("a", "b")
        leaking = apply_changes(survey, [on("b", "desk", pvid=20), on("a", "right", pvid=10), on("b", "left", pvid=20)])
        answer = why(Network(leaking), "pc-a", "pc-b")
        self.assertEqual((answer.verdict, [f.rule for f in answer.findings]), ("works", ["vlan-leak"]))
        self.assertEqual(why(Network(survey), "pc-a", "pc-b").findings, ())

    def test_links_that_work_in_one_direction_each_are_told(self):
        def half(device, name):
            return port(device, name, "hybrid", 99, "10 99", untagged=VlanSet.parse("10"))

        survey = chain("a", "b")
        ports = (port("a", "desk", "access", 10), port("b", "desk", "access", 10), half("a", "out"),
                 port("b", "in", "access", 10), port("a", "in", "access", 10), half("b", "out"))  # fmt: skip
        cables = (*cable(("a", "out"), ("b", "in")), *cable(("b", "out"), ("a", "in")))
        trees = tuple(Tree(name, 0, protocol="off", bpdus="drop") for name in "ab")
        answer = why(Network(Survey(ports=ports, neighbors=cables, hosts=survey.hosts, trees=trees)), "pc-a", "pc-b")
        self.assertEqual((answer.verdict, [f.rule for f in answer.findings]), ("works", ["way-one-sided"]))


class Unknown(unittest.TestCase):
    def test_the_fewest_observations_settle_it_the_nearest_first(self):
        survey = chain("a", "b", "c")
        blind = tuple(
            replace(row, pvid=None, allowed=None) if (row.device, row.port) in {("c", "left"), ("b", "right")} else row
            for row in survey.ports
        )
        network = Network(Survey(**{**survey.__dict__, "ports": blind}))
        answer = why(network, "pc-a", "pc-c", seat="a")
        self.assertEqual(answer.verdict, "unknown")
        looked = [(fact.key["device"], fact.column) for fact in answer.observe]
        self.assertEqual(looked, [("b", "pvid"), ("b", "allowed"), ("c", "pvid"), ("c", "allowed")])
        back = why(network, "pc-a", "pc-c", seat="c")
        self.assertEqual([fact.key["device"] for fact in back.observe], ["c", "c", "b", "b"])
        settled = network.changed(
            [on("b", "right", pvid="none", allowed="10 20"), on("c", "left", pvid="none", allowed="10 20")]
        )
        self.assertEqual(why(settled, "pc-a", "pc-c").verdict, "works")


class Forms(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.folder = Path(cls.enterClassContext(tempfile.TemporaryDirectory()))
        write_survey(healthy(), cls.folder / "healthy")
        write_survey(faulty(), cls.folder / "faulty")

    def run_app(self, *words):
        done = run(*words)
        return done.returncode, done.stdout, done.stderr

    def test_changes_are_what_a_rehearsal_takes(self):
        status, out, _ = self.run_app("why", self.folder / "faulty", "galley-till", "shop-till", "--as", "changes")
        self.assertEqual(status, 1)
        status, told, _ = self.run_app("rehearse", self.folder / "faulty", out, "--json")
        answer = json.loads(told)
        self.assertIn(["galley-till", "shop-till"], answer["fixed"])
        self.assertEqual([step["works"] for step in answer["steps"]], sorted(s["works"] for s in answer["steps"]))

    def test_instance_data_reads_back_as_what_was_to_be_set(self):
        network = Network(faulty())
        repair = [
            Change("ports", {"device": "lighthouse-1", "port": "port5"}, {"admin": "up"}),
            Change("vlans", {"device": "galley", "vid": 60}, {"name": "stores", "state": "active"}),
            Change("gateways", {"device": "quay-router", "interface": "port1.40"}, {"address": "10.61.40.9/24"}),
            Change("hosts", {"host": "shop-till"}, {"gateway": "10.61.10.1"}),
            Change("gateways", {"device": "quay-router", "interface": "port1.50", "address": "10.61.50.9/24"},
                   {"admin": "up", "proxy_arp": "no"}),
        ]  # fmt: skip
        found = json.loads(json.dumps(as_instance_data(network, repair)["devices"]))
        rows = [row for device, document in found.items() for row in read_yang(device, document, "")]
        self.assertIn(("galley", 60, "stores"), [(r.device, r.vid, r.name) for r in rows if r.TABLE == "vlans"])
        addresses = [(r.interface, r.address, r.vid) for r in rows if r.TABLE == "gateways"]
        self.assertEqual(addresses, [("port1.40", "10.61.40.9/24", 40), ("port1.50", "10.61.50.9/24", 50)])
        self.assertEqual([c.table for c in as_instance_data(network, repair)["elsewhere"]], ["hosts", "gateways"])

    def test_commands_quote_every_name_and_leave_other_systems_alone(self):
        hostile = 'p"; rm -rf / #$(x)'
        survey = chain("a", "b")
        ports = tuple(replace(row, port=hostile) if row.port == "desk" else row for row in survey.ports)
        hosts = tuple(replace(row, port=hostile) for row in survey.hosts)
        devices = (Device("a", software="Open vSwitch 3.1"), Device("b", platform="Linux 6.1"))
        bad = Survey(**{**survey.__dict__, "ports": ports, "hosts": hosts, "devices": devices})
        steps = work_order(
            Network(bad),
            mends(on("a", hostile, pvid=20), on("b", hostile, pvid=20), on("b", "left", allowed="10 20 30"),
                  Change("gateways", {"device": "b", "interface": "left.30", "address": "10.9.30.1/24"},
                         {"vid": 30, "port": "left", "table": "$x", "admin": "up", "proxy_arp": "no"})),
        )  # fmt: skip
        lines = [line for line in as_commands(Network(bad), steps).splitlines() if not line.startswith("#")]
        self.assertEqual(
            [shlex.split(line) for line in lines],
            [["bridge", "vlan", "add", "dev", "left", "vid", "30"],
             ["ovs-vsctl", "set", "port", hostile, "vlan_mode=access", "tag=20", "--", "clear", "port", hostile,
              "trunks"],
             ["bridge", "vlan", "del", "dev", hostile, "vid", "10"],
             ["bridge", "vlan", "add", "dev", hostile, "vid", "20", "pvid", "untagged"],
             ["ip", "link", "add", "link", "left", "name", "left.30", "type", "vlan", "id", "30"],
             ["ip", "link", "set", "dev", "left.30", "master", "$x"],
             ["ip", "address", "add", "10.9.30.1/24", "dev", "left.30"], ["ip", "link", "set", "dev", "left.30", "up"]],
        )  # fmt: skip
        by_hand = as_commands(Network(faulty()), why(Network(faulty()), "galley-till", "shop-till").order)
        self.assertIn("by hand: no such system is known there", by_hand)

    def test_commands_put_an_interface_that_gets_another_tag_back_into_its_routing_table(self):
        own = {"device": "quay-router", "interface": "port1.40", "address": "10.61.40.1/24"}
        known = Change("devices", {"device": "quay-router"}, {"platform": "Linux"})
        network = Network(apply_changes(healthy(), [known, Change("gateways", own, {"table": "yard"})]))
        lines = as_commands(network, work_order(network, mends(Change("gateways", own, {"vid": 41})))).splitlines()
        made = ["ip link add link port1 name port1.40 type vlan id 41", "ip link set dev port1.40 master yard"]
        self.assertEqual([*made, "ip address add 10.61.40.1/24 dev port1.40"], lines[3:6])

    def test_the_command(self):
        status, out, _ = self.run_app("why", self.folder / "faulty", "--all")
        self.assertEqual(status, 1)
        self.assertTrue(out.startswith("✗ 426 of 508 wanted pairs do not work: 10 repairs mend them all."))
        status, out, _ = self.run_app("why", self.folder / "healthy", "--all", "--json")
        self.assertEqual((status, json.loads(out)["mends"]), (0, []))
        status, out, _ = self.run_app("matrix", self.folder / "healthy", "--before", self.folder / "faulty", "--json")
        answer = json.loads(out)
        self.assertEqual((len(answer["gained"]), answer["lost"]), (426, []))
        far = ("why", self.folder / "healthy", "plank-saw", "gate-camera", "--via", "chartroom", "--as", "commands")
        status, _, err = self.run_app(*far)
        self.assertEqual((status, err.startswith("not proven: ")), (1, True))
        status, _, err = self.run_app("why", self.folder / "faulty", "a", "--all")
        self.assertEqual((status, "expected two hosts" in err), (2, True))
        status, _, err = self.run_app("why", self.folder / "faulty", "galley-till", "shop-till", "--seat", "nowhere")
        self.assertEqual((status, "there is no device" in err), (2, True))
        shut = json.dumps({"table": "ports", "key": {"device": "galley", "port": "port1"}, "set": {"admin": "down"}})
        status, out, _ = self.run_app("matrix", self.folder / "healthy", "--after", shut)
        self.assertIn("no longer reach each other", out.casefold())
