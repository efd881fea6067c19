"""Everyday questions: ping anything, look at one thing, compare two days; through the command and the API."""

import json
import tempfile
import unittest
from pathlib import Path

import crossthread
from crossthread import (
    Change,
    Survey,
    UnknownNameError,
    apply_changes,
    compare,
    desk,
    device,
    find,
    inventory,
    map_network,
    matrix_among,
    port,
    why,
    why_steps,
    write_survey,
)
from crossthread.demo import faulty, healthy
from tests.building import DATA, KNOWN, cabled, hosts, ports, survey_of
from tests.test_command import run
from tests.test_half_known import rebuilt
from tests.yard import at, yard


class Demo(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.folder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(cls.folder.cleanup)
        cls.before, cls.after = (str(Path(cls.folder.name) / name) for name in ("before", "after"))
        write_survey(faulty(), cls.before)
        write_survey(healthy(), cls.after)


class Anything(Demo):
    """`why` between any two things that have an address."""

    def test_devices_interfaces_and_management_addresses(self):
        for one, two, names in (
            ("core-east", "camera-recorder", ("core-east vlan90", "camera-recorder")),
            ("ticket-desk-1", "10.61.10.1", ("ticket-desk-1", "core-east vlan10")),
            ("galley", "ropehall", ("galley management", "ropehall management")),
            ("10.61.10.1", "10.61.40.1", ("core-east vlan10", "quay-router port1.40")),
            ("core-east vlan10", "10.61.10.205", ("core-east vlan10", "ropehall management")),
            ("fd61:c7:0:20::ff", "fd61:c7:0:50::ff", ("core-east vlan20", "quay-router port1.50")),
        ):
            with self.subTest(one=one, two=two):
                answer = why(healthy(), one, two)
                self.assertEqual((answer.verdict, answer.source, answer.target), ("works", *names))

    def test_their_faults_are_found_and_mended(self):
        for one, two, rules in (
            ("core-east", "camera-recorder", ["route-missing", "gateway-vlan-wrong"]),
            ("galley", "ropehall", ["link-mode-differs"]),
            ("foghorn-exhibit", "core-east vlan20", ["port-vlan-wrong", "link-vlan-missing"]),
        ):
            with self.subTest(one=one, two=two):
                answer = why(faulty(), one, two)
                self.assertEqual([finding.rule for finding in answer.findings], rules)
                self.assertTrue(answer.repair_proven)
                mended = apply_changes(faulty(), answer.repair)
                self.assertEqual(why(mended, one, two).verdict, "works")

    def test_an_address_that_nobody_has_and_what_cannot_be_asked(self):
        done = run("why", self.before, "ticket-desk-1", "10.61.20.77")
        self.assertEqual(done.returncode, 1)
        self.assertIn("asks for 10.61.20.77, which nobody has", " ".join(done.stdout.split()))
        for pair, says in (
            (("10.61.20.77", "ticket-desk-1"), "nobody has the address 10.61.20.77"),
            (("core-east", "core-east"), "both are core-east"),
            (("ticket-desk-1", "10.99.1.1"), "10.99.1.1"),
            (("ticket-desk-1", "nowhere"), "nowhere"),
        ):
            with self.subTest(pair):
                done = run("why", self.before, *pair)
                self.assertEqual((done.returncode, done.stdout), (2, ""))
                self.assertIn(says, done.stderr)

    def test_a_host_with_a_switchs_management_address_is_a_duplicate(self):
        survey = apply_changes(healthy(), [Change("hosts", {"host": "curator-pc"}, {"address": "10.61.10.205/24"})])
        found = [f for f in crossthread.check(survey).findings if f.rule == "host-address-duplicate"]
        self.assertIn("ropehall management", found[0].says)

    def test_of_two_with_one_address_the_one_gets_another_that_had_it_or_that_is_no_gateway(self):
        desk, others = {"host": "ticket-desk-1"}, {"host": "ticket-desk-2"}
        gateway = Change("hosts", desk, {"address": "10.61.10.1/24"})
        for odd, heard, mends in (
            (gateway, True, ["10.61.10.21/24"]),
            (gateway, False, ["10.61.10.2/24"]),
            (Change("hosts", others, {"address": "10.61.10.21/24"}), True, ["10.61.10.22/24"]),
            (Change("hosts", others, {"address": "10.61.10.21/24"}), False, []),
            (Change("hosts", {"host": "tide-gauge"}, {"address": "10.61.10.21/24"}), True, []),  # in no VLAN of its
        ):
            survey = apply_changes(healthy() if heard else rebuilt(healthy(), {"arp": ()}), [odd])
            (found,) = [f for f in crossthread.check(survey).findings if f.rule == "host-address-duplicate"]
            self.assertEqual([change.cells["address"] for change in found.repair], mends)
            told = {str(change) for one in found.alternatives for change in one.changes}
            either = {f"hosts ticket-desk-{n}: address = 10.61.10.2/24" for n in (1, 2)}
            self.assertEqual(told, either if not heard and not mends else set())
            told = [
                str(c)
                for f in why(survey, "shop-till", "gate-camera").findings
                for a in f.alternatives
                for c in a.changes
            ]
            self.assertEqual(told, [str(found.repair[0])] if odd is gateway else [])

    def test_an_interface_that_is_down_answers_nobody(self):
        survey = yard()
        key = {"device": "crane", "interface": "g1.20", "address": "10.9.20.1/24"}
        shut = apply_changes(survey, [Change("gateways", key, {"admin": "down", "oper": "down"})])
        answer = why(shut, "desk-loft-1", "10.9.20.1")
        self.assertEqual((answer.verdict, [f.rule for f in answer.findings]), ("fails", ["gateway-admin-down"]))
        self.assertEqual(why(survey, "desk-loft-1", "10.9.20.1").verdict, "works")

    def test_a_bridge_answers_other_subnets_only_by_a_default_route_that_was_read(self):
        survey = yard()
        survey = apply_changes(survey, [Change("devices", {"device": "loft"}, {"management": "10.9.10.99"})])
        self.assertEqual(why(survey, "desk-keel-1", "loft").verdict, "works")
        self.assertEqual(why(survey, "till-keel-1", "loft").verdict, "unknown")
        route = Change("routes", {"device": "loft", "prefix": "0.0.0.0/0", "next_hop": "10.9.10.1"}, {})
        self.assertEqual(why(apply_changes(survey, [route]), "till-keel-1", "loft").verdict, "works")

    def test_the_ladder_says_which_ping_breaks_first(self):
        answer = why_steps(faulty(), "ticket-desk-1", "camera-recorder")
        self.assertEqual([rung.verdict for rung in answer.there], ["works"] * 3 + ["fails"] * 2)
        self.assertEqual((answer.breaks.what, answer.breaks.address), ("far gateway", "10.61.50.1"))
        self.assertEqual(answer.breaks_back.what, "own gateway")
        done = run("why", self.before, "ticket-desk-1", "camera-recorder", "--steps")
        self.assertEqual(done.returncode, 1)
        self.assertIn("the first ping without an answer is that to quay-router port1.50, the far", done.stdout)
        self.assertEqual(run("why", self.after, "ticket-desk-1", "camera-recorder", "--steps").returncode, 0)
        self.assertEqual(run("why", self.after, "a", "b", "--steps", "--brief").returncode, 2)


class Found(Demo):
    def test_management_addresses_numbers_subnets_and_descriptions(self):
        for word, kind, device_name in (
            ("10.61.10.205", "IP address", "ropehall"),
            ("20", "VLAN", "core-east"),
            ("10.61.40.0/24", "subnet", "quay-router"),
            ("spare", "description", "core-east"),
        ):
            with self.subTest(word):
                found = find(healthy(), word)
                self.assertEqual((found.kind, found.places[0].device), (kind, device_name))
        fact = find(healthy(), "10.61.10.205").places[0].evidence[0]
        self.assertEqual((fact.table, fact.column), ("devices", "management"))
        for word in ("4000", "10.99.0.0/24", "no such words"):
            with self.subTest(word), self.assertRaises(UnknownNameError):
                find(healthy(), word)

    def test_an_old_name_and_the_addresses_of_neighbours(self):
        row = {"device": "a", "port": "p1", "neighbor_port": "q", "platform": "8-port", "management": "10.0.0.2"}
        survey = Survey.of(
            devices=[{"device": "a"}, {"device": "fresh"}], ports=[{"device": "a", "port": "p1"}],
            neighbors=[{**row, "neighbor": "fresh", "remaining": 110}, {**row, "neighbor": "stale", "remaining": 12},
                       {"device": "a", "port": "p2", "neighbor": "c", "neighbor_chassis": "02:00:00:00:00:0c"}],
        )  # fmt: skip
        old = find(survey, "stale")
        self.assertEqual((old.kind, old.conflicts), ("old name of a device", ("it is called fresh now",)))
        self.assertIn("12 s left", old.places[0].says)
        self.assertEqual(find(survey, "02:00:00:00:00:0c").places[0].port, "p2")

    def test_devices_of_one_name_are_as_many_as_their_chassis(self):
        chassis = [f"02:00:00:00:00:0{n}" for n in range(1, 4)]
        rows = [{"device": "a", "port": f"p{own[-1]}", "neighbor": "c", "neighbor_chassis": own} for own in chassis]
        ports = [{"device": "a", "port": row["port"]} for row in rows]
        seen = map_network(Survey.of(devices=[{"device": "a"}], ports=ports, neighbors=rows))
        self.assertEqual(sorted(d.device for d in seen.devices), ["a", "c", "c", "c"])

    def test_one_device_by_two_names_without_a_chassis_is_one(self):
        row = {"device": "a", "port": "p1", "neighbor_port": "q", "platform": "8-port", "management": "10.0.0.2"}
        fresh, old = {**row, "neighbor": "fresh", "remaining": 110}, {**row, "neighbor": "stale", "remaining": 12}
        for devices in (["a"], ["a", "fresh"]):  # only heard of, and surveyed
            for other, names in ((old, ["fresh"]), ({**old, "management": "10.0.0.3"}, ["fresh", "stale"])):
                with self.subTest(devices=devices, names=names):
                    survey = Survey.of(
                        devices=[{"device": name} for name in devices],
                        ports=[{"device": "a", "port": "p1"}],
                        neighbors=[other, fresh],
                    )
                    seen = map_network(survey)
                    self.assertEqual(sorted(d.device for d in seen.devices), sorted(["a", *names]))
                    rules = sorted(r.rule for r in inventory(survey).remarks if r.subjects[0].port == "p1")
                    self.assertEqual("neighbor-several" in rules, len(names) > 1)
                    if len(names) == 1:
                        self.assertEqual([(str(k.a.device), k.b.device) for k in seen.links], [("a", "fresh")])
                        said = [r.says for r in inventory(survey).remarks if r.rule == "neighbor-stale"]
                        self.assertEqual(
                            said, ["a p1 hears 10.0.0.2 as fresh and stale: renamed; stale is ageing out."]
                        )
                        self.assertEqual(find(survey, "stale").kind, "old name of a device")


class Pages(Demo):
    def test_a_port(self):
        page = port(faulty(), "harbour-office", "port3")
        self.assertEqual(page.far, "slipway port2")
        self.assertEqual([(c.counter, c.count) for c in page.counters], [("crc errors", 2210)])
        self.assertIn("link-duplex-differs", [finding.rule for finding in page.findings])
        self.assertEqual([side.fact for side in page.sides if side.differs], ["duplex"])
        shown = run("port", self.before, "galley", "port1").stdout
        for text in ("galley port1: up, to ropehall port3.", "105 of 120 s, every 30 s", "root path cost"):
            self.assertIn(text, shown)
        till = json.loads(run("port", self.before, "lighthouse-1", "port4", "--json").stdout)
        self.assertEqual((till["hosts"], till["far"]), (["ticket-desk-2"], None))
        self.assertIn({"fact": "violations", "value": "4127"}, till["facts"])

    def test_a_cable_test_rates_and_stations(self):
        survey = survey_of(
            ports=ports("sw p1 access 10"),
            hosts=hosts("a 10.0.0.1/24 none sw p1"),
            cables="device|port|pair|status|length\nsw|p1|A|open|12.5\nsw|p1|B|ok|",
            macs="device|vid|mac|port|kind\nsw|10|02:00:00:00:00:01|p1|learned\nsw|10|02:00:00:00:00:99|p1|learned",
        )
        page = port(apply_changes(survey, [at("sw", "p1", in_packets=999_000, in_errors=1000)]), "sw", "p1")
        self.assertEqual([fact.value for fact in page.pairs], ["open at 12.5 m", "ok"])
        self.assertEqual([one.one_in for one in page.counters], [1000])
        self.assertEqual([one.host for one in page.learned], ["a", None])

    def test_a_device(self):
        page = device(faulty(), "core-east")
        self.assertEqual((page.routes[0].by, page.trees[0].is_root), ("connected", True))
        self.assertEqual({line.port: line.state for line in page.ports}["port8"], "shut")
        self.assertIn("route-missing", [finding.rule for finding in page.findings])
        key = {"device": "core-east", "interface": "vlan10", "address": "10.61.10.1/24"}
        shared = Change("gateways", key, {"virtual": "10.61.10.3", "virtual_state": "master"})
        told = [
            ", shares 10.61.10.3 (master)" in f.value
            for f in device(apply_changes(faulty(), [shared]), "core-east").interfaces
        ]
        self.assertEqual((told.count(True), any("shares" in fact.value for fact in page.interfaces)), (1, False))
        shown = run("device", self.before, "core-east").stdout
        for text in (
            "core-east: 12-port switch",
            "Routing table:",
            "10.61.40.0/24",
            "member of bundle1",
            "10 office, 20 exhibits",
        ):
            self.assertIn(text, shown)
        self.assertEqual(run("device", self.before, "nowhere").returncode, 2)

    def test_the_default_route_stands_first_and_the_system_id_extension_is_added(self):
        route = {"device": "quay", "prefix": "0.0.0.0/0", "next_hop": "10.0.0.9"}
        rows = Survey.of(
            KNOWN,
            gateways=[{"device": "quay", "interface": "v20", "address": "10.0.0.1/24", "vid": 20, "oper": "up"}],
            routes=[{"device": "quay", "prefix": "10.1.0.0/16", "next_hop": "10.0.0.8"}, route],
            trees=[{"device": "quay", "instance": 20, "protocol": "per-vlan", "priority": 8192}],
        )
        page = device(rows, "quay")
        self.assertEqual([route.prefix for route in page.routes], ["0.0.0.0/0", "10.0.0.0/24", "10.1.0.0/16"])
        self.assertEqual((page.trees[0].priority, page.trees[0].shown), (8192, 8212))

    def test_one_that_was_only_heard_of_and_one_that_says_otherwise_than_was_heard(self):
        heard = [
            {
                "device": "a",
                "port": "p1",
                "neighbor": "b",
                "neighbor_port": "q",
                "software": "2.0",
                "management": "10.0.0.2",
            }
        ]
        page = device(Survey.of(neighbors=heard), "10.0.0.2")
        self.assertEqual((page.device, page.how), ("b", "only heard of; nobody surveyed it"))
        self.assertEqual([one.at for one in page.neighbors], ["a p1"])
        both = Survey.of(
            neighbors=heard, devices=[{"device": "b", "software": "1.0"}], ports=[{"device": "b", "port": "q"}]
        )
        self.assertEqual(device(both, "b").differs, ("a p1 heard the software 2.0; it says 1.0",))


class Compared(Demo):
    def test_where_the_same_pairs_work_what_is_at_risk_decides(self):
        half = Change("ports", {"device": "galley", "port": "port1"}, {"duplex": "half"})
        risky = apply_changes(healthy(), [half])
        self.assertEqual((compare(healthy(), risky).outcome, compare(risky, healthy()).outcome), ("worse", "better"))

    def test_every_fault_of_the_demo_is_a_difference_and_nothing_else(self):
        answer = compare(healthy(), faulty())
        self.assertEqual(answer.outcome, "worse")
        changed = {
            one.what for part in ("ports", "vlans", "gateways", "hosts") for one in getattr(answer, part).changed
        }
        self.assertEqual(
            changed,
            {"ropehall port4", "ropehall port1", "galley port1", "lighthouse-1 port5", "lighthouse-1 port4",
             "sail-loft port1", "slipway port2", "lighthouse-2 30", "quay-router port1.40 10.61.40.1/24",
             "quay-router port1.50 10.61.50.1/24", "quay-router port1.50 fd61:c7:0:50::ff/64", "archive-store",
             "curator-pc", "yard-office-pc", "shop-till"},
        )  # fmt: skip
        self.assertEqual(answer.routes.gone, ("core-east 10.61.50.0/24 10.61.90.2",))
        self.assertFalse(answer.devices or answer.links.new or answer.links.gone or answer.trees)

    def test_the_command_in_all_its_forms(self):
        done = run("compare", self.before, self.after)
        self.assertEqual(done.returncode, 1)
        self.assertTrue(
            done.stdout.startswith("It is better: 426 pairs of hosts work that did not; 21 findings are gone.")
        )
        told = json.loads(run("compare", self.before, self.after, "--json").stdout)
        self.assertEqual(set(told["findings"]), {"gone", "new", "left"})
        self.assertEqual(len(told["pairs"]["fixed"]), 426)
        self.assertIn("new", told["hosts"])
        self.assertIn(
            "vlans,lighthouse-2 30,state,suspended,active", run("compare", self.before, self.after, "--csv").stdout
        )
        self.assertTrue(run("compare", self.before, self.after, "--markdown").stdout.startswith("# Better"))
        same = run("compare", self.after, self.after)
        self.assertEqual(
            (same.returncode, same.stdout.splitlines()[0]), (0, "It is the same: nothing that was read differs.")
        )
        self.assertEqual(run("compare", self.after, self.after, "--csv", "--json").returncode, 2)

    def test_a_repair_that_was_carried_out_in_part_and_otherwise(self):
        changes = [
            at("galley", "port1", mode="trunk", allowed="10 20 30 40 50 90"),
            Change("hosts", {"host": "archive-store"}, {"gateway": "10.61.10.1"}),
            at("ropehall", "port4", pvid=20),
            Change("hosts", {"host": "curator-pc"}, {"address": "10.61.10.31/24"}),
            Change("routes", {"device": "core-east", "prefix": "10.61.40.0/24", "next_hop": "10.61.90.2"}, delete=True),
        ]
        made = [at("galley", "port1", mode="trunk"), changes[1], at("ropehall", "port4", pvid=40)]
        after = apply_changes(faulty(), made)
        answer = compare(faulty(), after, repair=changes)
        self.assertEqual(
            [step.done for step in answer.repair], ["in part", "done", "otherwise", "not done", "not done"]
        )

    def test_moved_cables_renamed_and_moved_hosts_and_counters(self):
        base = {
            "ports": ports("a p1 access 10", "a u trunk 1 10", "b p1 access 10", "b u trunk 1 10", "b v trunk 1 10")
        }
        old = survey_of(
            neighbors=cabled("a u b u"), hosts=hosts("x 10.0.0.1/24 none a p1", "y 10.0.0.2/24 none b p1"), **base
        )
        new = survey_of(
            neighbors=cabled("a u b v"),
            hosts=hosts("z 10.0.0.1/24 none b p1", "y 10.0.0.2/24 none b p1", "w none none a p1"),
            **base,
        )
        old = apply_changes(old, [at("a", "p1", crc_errors=5, in_errors=7, out_errors=2)])
        new = apply_changes(new, [at("a", "p1", crc_errors=65, in_errors=8, out_errors=2)])
        answer = compare(old, new)
        self.assertEqual([(m.what, m.before, m.after) for m in answer.links.changed], [("a u", "b u", "b v")])
        looped = Survey.of(
            ports=old.ports, neighbors=[{"device": "a", "port": "u", "neighbor": "a", "neighbor_port": "u"}]
        )
        moved = [(m.what, m.before, m.after) for m in compare(old, looped).links.changed]
        self.assertEqual(moved, [("a u", "b u", "a u")])  # plugged into itself
        self.assertEqual(
            [(m.column, m.before, m.after) for m in answer.hosts.changed], [("host", "x", "z"), ("device", "a", "b")]
        )
        self.assertEqual((answer.hosts.new, answer.hosts.gone), (("w",), ()))  # neither the one with another name
        self.assertEqual({(rose.port, rose.by) for rose in answer.counters}, {("a p1", 60), ("a p1", 1)})

    def test_what_is_no_survey_is_told(self):
        self.assertEqual(run("compare", self.before, "/nowhere/at/all").returncode, 3)
        with self.assertRaises(UnknownNameError):
            port(healthy(), "galley", "port99")


class Desks(Demo):
    def test_a_capture_says_where_the_cable_leads(self):
        answer = desk(DATA / "raw" / "case-0009" / "pcap" / "host-1-e0.pcap")
        self.assertEqual([(s.device, s.port, s.description) for s in answer.sockets], [("sw-f", "eth2", "to host-1")])
        self.assertEqual(answer.roots[0].root, "0/02:47:90:e5:1a:0a")
        shown = run("desk", str(DATA / "raw" / "case-0009" / "pcap" / "host-1-e0.pcap")).stdout
        self.assertTrue(shown.startswith("sw-f eth2, VLAN not told."))
        self.assertIn("10.181.222.254", shown)

    def test_a_capture_that_breaks_off(self):
        whole = (DATA / "raw" / "case-0009" / "pcap" / "host-1-e0.pcap").read_bytes()
        for size, status, says in (
            (300, 0, "sw-f eth2, VLAN not told.\n1 time: a capture that breaks off within a frame; what could be read"),
            (30, 3, "cannot be read: a capture that breaks off before a frame"),
            (10, 3, "cannot be read: a capture that ends in its header"),
        ):
            with self.subTest(size), tempfile.TemporaryDirectory() as folder:
                Path(folder, "cut.pcap").write_bytes(whole[:size])
                done = run("desk", f"{folder}/cut.pcap")
                self.assertEqual(done.returncode, status)
                self.assertIn(says, done.stdout + done.stderr)

    def test_a_daemons_neighbours_with_vlans_for_computer_and_phone(self):
        told = {"lldp": [{"interface": [{
            "name": "e0", "chassis": [{"name": [{"value": "ropehall"}], "mgmt-ip": [{"value": "10.61.10.205"}]}],
            "port": [{"id": [{"type": "ifname", "value": "port4"}], "ttl": [{"value": "120"}]}],
            "vlan": [{"vlan-id": "20", "pvid": True, "value": "exhibits"}],
            "lldp-med": [{"policy": [{"type": "Voice", "vlan": [{"vid": "70", "value": "70"}]}]}],
        }]}]}  # fmt: skip
        with tempfile.TemporaryDirectory() as holder:
            place = Path(holder) / "heard.json"
            place.write_text(json.dumps(told))
            shown = run("desk", str(place)).stdout
            self.assertTrue(shown.startswith("ropehall port4, VLAN 20, voice VLAN 70."), shown)
            self.assertIn("10.61.10.205", shown)
            place.write_text("[]")
            self.assertEqual(run("desk", str(place)).returncode, 3)
        self.assertEqual(run("desk", "/nowhere").returncode, 3)


class Among(Demo):
    def test_the_matrix_among_some_things(self):
        answer = matrix_among(healthy(), ["core-east", "galley", "shop-till"])
        self.assertEqual({verdict for _, _, verdict in answer.reaches}, {"works"})
        done = run("matrix", self.before, "core-east", "10.61.40.1", "shop-till")
        self.assertIn("6 pairs: 2 work", done.stdout)
        self.assertEqual(run("matrix", self.before, "core-east").returncode, 2)
        self.assertEqual(run("matrix", self.before, "core-east", "nowhere").returncode, 2)

    def test_a_vlan_that_is_not_there_is_not_carried_and_a_routed_port_differs_not_from_an_access_port(self):
        sticks, legs = yard(), yard(style="ports")
        lost = apply_changes(sticks, [Change("vlans", {"device": "keel", "vid": 20}, {}, True)])
        sides = {side.fact: side for side in crossthread.link(lost, "loft", "t1").sides}
        self.assertEqual((sides["carried"].a, sides["carried"].b, sides["carried"].differs), ("1 10 20", "1 10", True))
        self.assertNotIn("carried", {side.fact for side in crossthread.link(sticks, "loft", "t1").sides})
        self.assertFalse([side.fact for side in crossthread.link(legs, "keel", "t8").sides if side.differs])


class Neighbours(Demo):
    def rules(self, survey, wanted):
        return [finding for finding in crossthread.check(survey).findings if finding.rule == wanted]

    def test_a_device_that_hears_nobody_and_is_heard_by_nobody(self):
        survey = healthy()
        left = [row for row in survey.neighbors if "sail-loft" not in (row.device, row.neighbor)]
        read = Survey.of(coverage=[{"device": "sail-loft", "table": "neighbors", "complete": "yes"}]).coverage
        quiet = Survey(**{**survey.__dict__, "neighbors": left, "coverage": read})
        (found,) = self.rules(quiet, "discovery-off")
        self.assertIn("sail-loft hears nobody and nobody hears it", found.says)
        self.assertIn("port1", found.says)
        self.assertEqual(self.rules(survey, "discovery-off"), [])

    def test_discovery_towards_the_outside(self):
        survey = yard()
        out = [
            Change("ports", {"device": "crane", "port": "wan"}, {"mode": "routed", "oper": "up", "discovery": "both"}),
            Change(
                "gateways",
                {"device": "crane", "interface": "wan", "address": "203.0.113.5/30"},
                {"port": "wan", "oper": "up"},
            ),
        ]
        (found,) = self.rules(apply_changes(survey, out), "discovery-exposed")
        self.assertIn("public address 203.0.113.5, speaks neighbour discovery to the outside", found.says)
        inside = [out[0], Change("gateways", {**out[1].key, "address": "10.8.4.4/30"}, out[1].cells)]
        self.assertEqual(self.rules(apply_changes(survey, inside), "discovery-exposed"), [])

    def test_an_empty_cell_is_not_no_address_and_two_are_not_most(self):
        heard = [{"device": "a", "port": "p1", "neighbor": "b", "neighbor_port": "q"}]
        self.assertEqual(self.rules(Survey.of(neighbors=heard), "neighbor-no-address"), [])
        none = Survey.of(neighbors=[{**heard[0], "management": "none"}], devices=[{"device": "b"}])
        self.assertTrue(self.rules(none, "neighbor-no-address"))
        rows = [{"device": f"s{n}", "platform": "m", "software": "1" if n < 3 else "2"} for n in range(4)]
        self.assertIn(
            "Most devices of m run 1, but not s3", self.rules(Survey.of(devices=rows), "software-mixed")[0].says
        )
        self.assertNotIn("Most", self.rules(Survey.of(devices=rows[1:]), "software-mixed")[0].says)


class PeopleRespected(Demo):
    """What somebody wrote is neither lost nor overwritten in silence."""

    def test_a_survey_that_loses_rows_is_kept_and_edits_by_hand_are_reported(self):
        with tempfile.TemporaryDirectory() as holder:
            raw, into = Path(holder) / "raw" / "sw", Path(holder) / "survey"
            raw.mkdir(parents=True)
            link = {"ifname": "p1", "link_type": "ether", "flags": ["UP", "LOWER_UP"], "addr_info": [], "mtu": 1500}
            three = [{**link, "ifname": f"p{n}"} for n in (1, 2, 3)]
            (raw / "ip-addr.json").write_text(json.dumps(three))
            self.assertEqual(run("gather", str(raw), "--into", str(into)).returncode, 0)
            table = into / "ports.csv"
            head, *rows = table.read_text().splitlines()
            edited = [row.split(",") for row in rows]
            edited[0][head.split(",").index("mtu")] = "9000"
            table.write_text("\n".join([head + ",room", *(",".join(row) + ",12" for row in edited)]) + "\n")
            told = json.loads(run("gather", str(raw), "--into", str(into), "--json").stdout)
            self.assertEqual(
                [(d["column"], d["taken"], d["left"]) for d in told["differences"]], [("mtu", "1500", "9000")]
            )
            self.assertIsNone(told["kept"])
            self.assertTrue(all(line.endswith(",12") for line in table.read_text().splitlines()[1:]))
            (raw / "ip-addr.json").write_text(json.dumps(three[:2]))
            lost = json.loads(run("gather", str(raw), "--into", str(into), "--json").stdout)
            self.assertEqual((lost["gone"], len(crossthread.read_survey(into).ports)), (1, 2))
            self.assertEqual(len(crossthread.read_survey(lost["kept"]).ports), 3)
            (raw / "ip-addr.json").write_text(json.dumps([three[0], three[2]]))
            last = json.loads(run("gather", str(raw), "--into", str(into), "--no-keep", "--json").stdout)
            self.assertEqual((last["gone"], last["kept"]), (1, None))

    def test_a_plan_is_not_overwritten_unasked(self):
        with tempfile.TemporaryDirectory() as holder:
            place = Path(holder) / "plan.toml"
            place.write_text("mine")
            done = run("plan", "draft", self.after, "--into", str(place))
            self.assertEqual((done.returncode, place.read_text()), (2, "mine"))
            self.assertEqual(run("plan", "draft", self.after, "--into", str(place), "--replace").returncode, 0)
            self.assertNotEqual(place.read_text(), "mine")

    def test_a_corrected_drawing_keeps_foreign_columns_and_the_order_of_rows(self):
        with tempfile.TemporaryDirectory() as holder:
            drawn, new = Path(holder) / "d.csv", Path(holder) / "new.csv"
            drawn.write_text(
                "device,port,far_device,far_port,length\nslipway,port1,harbour-office,port2,40\n"
                "galley,port1,ropehall,port4,7\nnowhere,p1,galley,port9,3\n"
            )
            run("drawing", self.after, str(drawn), "--corrected", str(new))
            lines = new.read_text().splitlines()
        self.assertEqual(lines[0], "device,port,far_device,far_port,length")
        self.assertTrue(lines[1].startswith("slipway,") and lines[1].endswith(",40"), lines[1])
        self.assertIn("ropehall,port3", lines[2])
        self.assertTrue(lines[2].endswith(",7"))
        self.assertNotIn("nowhere", "".join(lines))
        self.assertGreater(len(lines), 10)


class Lucky(unittest.TestCase):
    def test_what_works_only_by_luck_once_it_is_mended_is_said(self):
        shown = run("why", DATA / "recorded" / "network-11" / "survey.json.gz", "host-7", "host-1").stdout
        self.assertRegex(
            shown, r"It works with that done, but by luck:\n\n1\. risks  proxy-arp-hides\n   host-7 asks for"
        )


if __name__ == "__main__":
    unittest.main()
