"""What speaks for a repair, what is wanted, and faults that real switches taught, in the smallest networks for it."""

import random
import tempfile
import unittest
from pathlib import Path

from crossthread import Change, Network, Survey, apply_changes, check, matrix, why, write_survey
from crossthread.demo import faulty, healthy
from crossthread.diagnosis.context import Context
from crossthread.diagnosis.repair.harm.side_effects import changed_pairs
from crossthread.diagnosis.wanted_pairs import Wanted, shares
from crossthread.faces.pictures.overlay import why_overlay
from crossthread.plan import read_plan
from crossthread.questions.matrix_change import matrix_after
from crossthread.questions.why_all import why_all
from crossthread.survey.records import Device, Gateway, Host, Neighbor, Port, Route
from crossthread.values import VlanSet
from crossthread.views.class_matrix import class_matrix
from crossthread.views.map import map_network
from tests.building import cabled, network_of, ports
from tests.building import hosts as listed
from tests.test_command import run
from tests.test_generated import shape
from tests.test_laws import edits
from tests.test_repair import chain, on, port


def host(name, number, address, gateway, place, **cells):
    mac = f"02:00:00:00:02:{number:02x}"
    return Host(name, mac=mac, address=address, gateway=gateway, device="sw", port=place, link="up", **cells)


def heard(*cables):
    """What both ends of each cable hear of each other."""
    ends = [cable.split() for cable in cables]
    return tuple(
        Neighbor(a, p, "lldp", neighbor=b, neighbor_port=q)
        for a, p, b, q in [*ends, *((b, q, a, p) for a, p, b, q in ends)]
    )


def on_trunk(name):
    return Port("sw", name, admin="up", oper="up", mode="trunk", allowed=VlanSet.parse("5-7"), pvid=0)


def one_switch(hosts, gateways=(), **ports):
    """A switch that routes, with hosts on access ports: `place=VLAN`."""
    rows = tuple(port("sw", name, "access", vid) for name, vid in ports.items())
    devices = (Device("sw", capabilities=("bridge", "router"), routing="yes"),)
    return Survey(devices=devices, ports=rows, hosts=tuple(hosts), gateways=tuple(gateways))


def interface(name, address, vid):
    return Gateway("sw", name, address, vid=vid, admin="up", oper="up")


class Taught(unittest.TestCase):
    def test_a_host_without_an_address_gets_one_of_its_peers_subnet_where_no_gateway_is(self):
        survey = one_switch(
            [host("a", 1, "10.7.1.1/25", "none", "p1"), host("b", 2, "none", "none", "p2"),
             host("c", 3, "10.7.1.2/25", "none", "p3"), host("d", 4, "10.8.1.2/24", "none", "p4")],
            p1=5, p2=5, p3=5, p4=6,
        )  # fmt: skip
        answer = why(Network(survey), "a", "b")
        self.assertEqual([f.rule for f in answer.findings], ["host-address-missing"])
        self.assertEqual(answer.repair[0].cells, {"address": "10.7.1.3/25"})
        self.assertTrue(answer.repair_proven)

    def test_an_interface_whose_subnet_swallows_its_neighbours_is_not_believed(self):
        survey = one_switch(
            [host("a", 1, "10.7.16.9/24", "10.7.16.1", "p1"), host("lost", 2, "10.99.0.9/24", "10.7.16.1", "p2"),
             host("far", 3, "10.7.19.7/27", "10.7.19.1", "p3")],
            [interface("vlan5", "10.7.16.1/20", 5), interface("vlan6", "10.7.19.1/27", 6)], p1=5, p2=5, p3=6,
        )  # fmt: skip
        answer = why(Network(survey), "lost", "far")
        self.assertTrue(answer.repair_proven)
        self.assertEqual(answer.repair[0].cells["address"], "10.7.16.2/24")

    def test_a_prefix_that_makes_a_neighbour_the_broadcast_address(self):
        survey = one_switch(
            [host("a", 1, "10.7.1.7/28", "10.7.1.1", "p1"), host("b", 2, "10.7.1.2/29", "10.7.1.1", "p2"),
             host("c", 3, "10.7.1.9/28", "10.7.1.1", "p3")],
            [interface("vlan5", "10.7.1.1/28", 5)], p1=5, p2=5, p3=5,
        )  # fmt: skip
        for pair in (("a", "b"), ("b", "a")):
            answer = why(Network(survey), *pair)
            self.assertEqual([f.rule for f in answer.findings], ["host-mask-differs"])
            self.assertEqual(answer.repair[0].cells, {"address": "10.7.1.2/28"})
            self.assertTrue(answer.repair_proven)

    def test_a_host_prefix_that_swallows_the_routers_other_subnets_is_not_believed(self):
        survey = one_switch(
            [host("a", 1, "10.7.19.215/22", "10.7.19.254", "p1"), host("far", 3, "10.7.18.7/24", "10.7.18.254", "p3")],
            [interface("vlan5", "10.7.19.254/27", 5), interface("vlan6", "10.7.18.254/24", 6)],
            p1=5,
            p3=6,
        )
        answer = why(Network(survey), "far", "a")
        self.assertTrue(answer.repair_proven)
        self.assertEqual({change.table for change in answer.repair}, {"hosts"})
        self.assertEqual(answer.repair[0].cells["address"], "10.7.19.226/27")

    def test_of_a_subnet_whose_size_is_in_dispute_either_is_told(self):
        survey = one_switch(
            [host("new", 1, "none", "10.7.16.129", "p1"), host("b", 2, "10.7.16.141/25", "10.7.16.129", "p2"),
             host("far", 3, "10.7.18.7/24", "10.7.18.254", "p3")],
            [interface("vlan5", "10.7.16.129/28", 5), interface("vlan6", "10.7.18.254/24", 6)], p1=5, p2=5, p3=6,
        )  # fmt: skip
        (finding,) = why(Network(survey), "far", "new").findings
        self.assertEqual(
            [one.changes[0].cells["address"] for one in finding.alternatives], ["10.7.16.130/28", "10.7.16.130/25"]
        )

    def test_what_works_already_is_not_mended_along_the_way(self):
        """A host works in the VLAN that the gateway of its subnet came into: only the link of the other is out."""
        devices = (Device("sw", capabilities=("bridge",)), Device("crane", capabilities=("router",), routing="yes"))
        rows = (*(port("sw", name, "access", vid) for name, vid in
                  (("p1", 6), ("p2", 5), ("p3", 5), ("p4", 5), ("p9", 6), ("u5", 6), ("u6", 6))),
                port("crane", "g5", "routed", None), port("crane", "g6", "routed", None))  # fmt: skip
        gone = apply_changes(
            Survey(devices=devices, ports=rows, neighbors=heard("sw u5 crane g5", "sw u6 crane g6"),
                   hosts=(*(host(name, n, f"10.7.5.{n}0/24", "10.7.5.1", f"p{n}") for n, name in enumerate("abde", 1)),
                          host("far", 9, "10.7.6.9/24", "10.7.6.1", "p9")),
                   gateways=(Gateway("crane", "g5", "10.7.5.1/24", port="g5", untagged="yes", admin="up", oper="up"),
                             Gateway("crane", "g6", "10.7.6.1/24", port="g6", untagged="yes", admin="up", oper="up"))),
            [on("sw", "p9", oper="down"), Change("hosts", {"host": "far"}, {"link": "down"})],
        )  # fmt: skip
        answer = why(Network(gone), "a", "far")
        self.assertEqual([finding.rule for finding in answer.findings], ["host-link-down"])
        self.assertEqual([set(change.cells) for change in answer.repair], [{"oper"}, {"link"}])

    def test_a_routers_port_that_is_down_shows_its_vlan_by_the_far_end(self):
        devices = (Device("sw", capabilities=("bridge",)), Device("crane", capabilities=("router",), routing="yes"))
        rows = (
            *(port("sw", name, "access", vid) for name, vid in (("p1", 5), ("p2", 4), ("p9", 6), ("u5", 5))),
            port("crane", "g5", "routed", None),
            port("sw", "u6", "access", 6),
            port("crane", "g6", "routed", None),
        )
        survey = Survey(
            devices=devices, ports=rows, neighbors=heard("sw u5 crane g5", "sw u6 crane g6"),
            hosts=(host("a", 1, "10.7.5.10/24", "10.7.5.1", "p1"), host("b", 2, "10.7.5.20/24", "10.7.5.1", "p2"),
                   host("far", 9, "10.7.6.9/24", "10.7.6.1", "p9")),
            gateways=tuple(Gateway("crane", f"g{n}", f"10.7.{n}.1/24", port=f"g{n}", untagged="yes", admin="up",
                                   oper="up") for n in (5, 6)),
        )  # fmt: skip
        down = apply_changes(survey, [
            on("crane", "g5", admin="down", oper="down"), on("sw", "u5", oper="down"),
            Change("gateways", {"device": "crane", "interface": "g5", "address": "10.7.5.1/24"},
                   {"admin": "down", "oper": "down"}),
        ])  # fmt: skip
        answer = why(Network(down), "far", "b")
        told = {finding.rule: finding for finding in answer.findings}
        self.assertEqual(told["port-vlan-wrong"].repair[0].cells, {"pvid": 5})
        self.assertIn("crane g5 serves 10.7.5.0/24 in VLAN 5", told["port-vlan-wrong"].alternatives[0].because)

    def test_a_lost_interface_may_have_been_at_either_router(self):
        devices = (
            Device("sw", capabilities=("bridge",)),
            *(Device(name, capabilities=("router",), routing="yes") for name in ("crane", "hoist")),
        )
        rows = (*(port("sw", f"p{vid}", "access", vid) for vid in (5, 6, 7)), port("crane", "g1", "routed", None),
                *(on_trunk(f"u{n}") for n in (1, 2)), port("hoist", "g1", "routed", None))  # fmt: skip
        survey = Survey(
            devices=devices, ports=rows, neighbors=heard("sw u1 crane g1", "sw u2 hoist g1"),
            hosts=tuple(host(f"h{n}", n, f"10.7.{n}.9/24", "none" if n == 7 else f"10.7.{n}.254", f"p{n}")
                        for n in (5, 6, 7)),
            gateways=tuple(Gateway(name, f"g1.{n}", f"10.7.{n}.254/24", vid=n, port="g1", untagged="no", admin="up",
                                   oper="up", proxy_arp="no") for n, name in ((5, "crane"), (6, "hoist"))),
            routes=(Route("crane", "10.7.7.0/24", "10.7.5.253", interface="g1.5", origin="static"),),
        )  # fmt: skip
        survey = apply_changes(
            survey,
            [
                Change(
                    "gateways",
                    {"device": "hoist", "interface": "g1.5", "address": "10.7.5.253/24"},
                    {"vid": 5, "port": "g1", "untagged": "no", "admin": "up", "oper": "up", "proxy_arp": "no"},
                )
            ],
        )
        told = {finding.rule: finding for finding in why(Network(survey), "h7", "h5").findings}
        lost = told["gateway-missing"]
        self.assertEqual([one.changes[0].key["device"] for one in lost.alternatives], ["hoist", "crane"])
        self.assertEqual(lost.repair[0].key["address"], "10.7.7.254/24")  # at the end that the others are at

    def test_a_host_that_gets_an_address_keeps_a_gateway_that_is_where_gateways_are(self):
        survey = one_switch(
            [host("new", 1, "none", "10.7.5.1", "p5"), host("far", 9, "10.7.6.9/24", "10.7.6.1", "p6")],
            [interface("vlan5", "10.7.5.77/24", 5), *(interface(f"vlan{n}", f"10.7.{n}.1/24", n) for n in (6, 7))],
            p5=5,
            p6=6,
        )
        told = {tuple(change.cells.items()) for change in why(Network(survey), "new", "far").repair}
        self.assertEqual(told, {(("address", "10.7.5.2/24"),), (("address", "10.7.5.1/24"),)})

    def test_without_a_link_it_does_not_matter_what_gateway_a_host_has(self):
        survey = one_switch(
            [host("a", 1, "10.7.5.10/24", None, "p5"), host("b", 2, "10.7.6.9/24", "10.7.6.1", "p6")],
            [interface("vlan5", "10.7.5.1/24", 5), interface("vlan6", "10.7.6.1/24", 6)],
            p5=5,
            p6=6,
        )
        self.assertEqual(why(Network(survey), "a", "b").verdict, "unknown")
        for name in ("a", "b"):
            down = [
                Change("hosts", {"host": name}, {"link": "down"}),
                on("sw", f"p{5 + 'ab'.index(name)}", oper="down"),
            ]
            answer = why(Network(apply_changes(survey, down)), "a", "b")
            self.assertEqual((answer.verdict, answer.stopped), ("fails", f"the link of {name} is down"))
            self.assertEqual([finding.rule for finding in answer.findings], ["host-link-down"])

    def test_who_has_a_gateway_outside_its_subnet_gets_the_one_that_its_peers_use(self):
        survey = one_switch(
            [host("a", 1, "10.7.5.10/24", "10.7.99.1", "p5"), host("far", 9, "10.7.6.9/24", "10.7.6.1", "p6"),
             *(host(f"h{n}", n, f"10.7.5.{n}0/24", "10.7.5.1", f"p{n}") for n in (2, 3))],
            [interface("vlan5", "10.7.5.77/24", 5), interface("vlan6", "10.7.6.1/24", 6)], p5=5, p6=6, p2=5, p3=5,
        )  # fmt: skip
        answer = why(Network(survey), "a", "far")
        self.assertEqual(
            {tuple(change.cells.items()) for change in answer.repair},
            {(("gateway", "10.7.5.1"),), (("address", "10.7.5.1/24"),)},
        )

    def test_a_repair_that_is_not_proven_says_where_it_still_stops(self):
        survey = one_switch(
            [host("a", 1, "10.7.1.1/24", "none", "p1"), host("b", 2, "fd00::2/64", "none", "p2")], p1=5, p2=5
        )
        answer = why(Network(survey), "a", "b")
        self.assertEqual((answer.verdict, answer.repair_proven), ("fails", False))
        self.assertIn("no kind of IP address in common", answer.unproven)


class Ranked(unittest.TestCase):
    def told(self, survey, rule, *pair):
        (finding,) = (f for f in why(Network(survey), *pair).findings if f.rule == rule)
        return finding.alternatives

    def test_either_end_of_a_cable_may_be_mended_and_each_has_the_other_as_its_witness(self):
        base = chain("a", "b", "c")
        wrong = apply_changes(base, [on("b", "left", pvid=10)])
        mine, other = self.told(wrong, "link-native-differs", "pc-a", "pc-b")
        self.assertEqual({c.key["device"] for one in (mine, other) for c in one.changes}, {"a", "b"})
        self.assertIn("at the other end has", mine.because[0])
        tags = apply_changes(base, [on("b", "left", tagging="802.1ad")])
        first, second = self.told(tags, "link-tagging-differs", "pc-a", "pc-b")
        self.assertEqual({one.changes[0].cells["tagging"] for one in (first, second)}, {"802.1Q", "802.1ad"})
        mode = apply_changes(base, [on("b", "left", mode="access", pvid=20, allowed="")])
        (trunk, *_) = self.told(mode, "link-mode-differs", "pc-a", "pc-c")
        self.assertEqual(trunk.changes[0].cells["mode"], "trunk")
        self.assertIn("is a trunk port too", trunk.because[0])

    def test_prefix_lengths_of_a_host_and_its_gateway(self):
        survey = one_switch(
            [host("a", 1, "10.7.1.200/25", "10.7.1.1", "p1"), host("b", 2, "10.7.1.9/24", "10.7.1.1", "p2"),
             host("c", 3, "10.7.1.77/24", "10.7.1.1", "p3")],
            [interface("vlan5", "10.7.1.1/24", 5)], p1=5, p2=5, p3=5,
        )  # fmt: skip
        found = self.told(survey, "host-mask-differs", "a", "b")
        self.assertEqual(found[0].changes[0].cells, {"address": "10.7.1.200/24"})
        self.assertEqual(
            found[0].because[:2], ("sw vlan5 has 10.7.1.1/24", "2 of 2 other hosts of its subnet have /24")
        )


class WantedPairs(unittest.TestCase):
    def test_the_plan_decides_who_should_talk(self):
        network = Network(healthy())
        whole = Wanted(Context(network)).share(class_matrix(network))
        with tempfile.TemporaryDirectory() as folder:
            file = Path(folder) / "plan.toml"
            file.write_text('[[talk]]\nvlans = "30"\nothers = "1-29 31-4094"\nmay = "no"\n')
            plan = read_plan(file)
        kept = Wanted(Context(network, plan)).share(class_matrix(network))
        visitors = {"visitor-kiosk", "galley-tablet", "guide-tablet"}
        routed = {"tide-gauge"}  # in no VLAN
        works = [{a, b} for a, b, verdict in matrix(network).reaches if verdict == "works"]
        apart = sum(len(pair & visitors) == 1 and not pair & routed for pair in works)
        self.assertEqual((kept.wanted, kept.works), (whole.wanted - apart, whole.works - apart))
        self.assertGreater(apart, 100)
        self.assertEqual(why_all(Network(faulty()), plan).then.wanted, kept.wanted)

    def test_shares_are_those_of_the_full_matrix(self):
        network = Network(faulty())
        steps = [step.changes for step in why(network, "foghorn-exhibit", "camera-recorder").order]
        wanted = {(a, b) for a, b, verdict in matrix(Network(healthy())).reaches if verdict == "works"}
        networks = [network, *network.after_each(steps)]
        for now, share in zip(networks, shares(Context(network), map(class_matrix, networks)), strict=True):
            works = {(a, b) for a, b, verdict in matrix(now).reaches if verdict == "works"}
            self.assertEqual((share.works, share.wanted), (len(works & wanted), len(wanted)))

    def test_pairs_that_change_are_those_of_two_full_matrices(self):
        chance = random.Random(23)
        for number in range(30):
            survey = shape(number % 20)
            before, after = Network(survey), Network(apply_changes(survey, edits(chance, survey)))
            was, now = ({(a, b): v for a, b, v in matrix(n).reaches} for n in (before, after))
            both = {pair: (was.get(pair, "fails"), now.get(pair, "fails")) for pair in {**was, **now}}
            gained, lost, unsure = map(set, changed_pairs(class_matrix(before), class_matrix(after)))
            self.assertEqual(gained, {p for p, verdicts in both.items() if verdicts == ("fails", "works")})
            self.assertEqual(lost, {p for p, verdicts in both.items() if verdicts == ("works", "fails")})
            self.assertEqual(unsure, {p for p, (a, b) in both.items() if a != b and "unknown" in (a, b)})

    def test_steps_of_a_matrix(self):
        network = Network(healthy())
        shut = Change("ports", {"device": "galley", "port": "port1"}, {"admin": "down", "oper": "down"})
        mend = Change("ports", {"device": "galley", "port": "port1"}, {"admin": "up", "oper": "up"})
        answer = matrix_after(network, [[shut], [mend]])
        first, low, last = (step.works for step in answer.steps)
        self.assertEqual((first, answer.gained, answer.lost), (last, (), ()))
        self.assertLess(low, first)


class Drawn(unittest.TestCase):
    def test_marks_stand_at_the_right_ends(self):
        network = Network(faulty())
        answer = why(network, "foghorn-exhibit", "camera-recorder")
        overlay = why_overlay(answer, map_network(network))
        marked = {(*key[:2], "a") for key, paint in overlay.links.items() if paint.a_mark == "cross"}
        marked |= {(*key[2:], "b") for key, paint in overlay.links.items() if paint.b_mark == "cross"}
        self.assertEqual({(device, name) for device, name, _ in marked}, {("ropehall", "port1")})
        self.assertIn("✗ 3 route-missing", overlay.devices["core-east"])
        self.assertIn("from foghorn-exhibit", overlay.devices["ropehall"])
        strong = {frozenset((key[0], key[2])) for key, paint in overlay.links.items() if paint.style == "strong"}
        way = (("core-east", "ropehall"), ("core-east", "harbour-office"), ("harbour-office", "quay-router"))
        self.assertEqual(strong, set(map(frozenset, way)))

    def test_the_command_draws_it(self):
        with tempfile.TemporaryDirectory() as folder:
            write_survey(faulty(), Path(folder) / "s")
            done = run("why", Path(folder) / "s", "galley-till", "shop-till", "--figure", Path(folder) / "way.svg")
            self.assertEqual(done.returncode, 1)
            drawn = (Path(folder) / "way.svg").read_text()
            self.assertIn("<svg", drawn)
            wrong = run("why", Path(folder) / "s", "galley-till", "shop-till", "--figure", Path(folder) / "way.txt")
            self.assertEqual(wrong.returncode, 2)
            self.assertIn("ends in .png or .svg", wrong.stderr)


class Gateways(unittest.TestCase):
    """A router with a trunk to one switch, and hosts in some VLANs."""

    PORTS = ports("quay p1 trunk none 10 20 30 40", "rt e1 routed none", "quay p2 access 10", "quay p3 access 20",
                  "quay p4 access 30", "quay p5 access 40")  # fmt: skip

    def asked(self, held, hosted, pair, **tables):
        rows = ["device|interface|address|vid|port|untagged|admin|oper|proxy_arp"]
        for device, vid, own in (row.split() for row in held):
            rows.append(f"{device}|e1.{vid}|{own}|{vid}|e1|no|up|up|no")
        given = {
            "ports": self.PORTS,
            "gateways": "\n".join(rows),
            "hosts": listed(*hosted),
            "neighbors": cabled("quay p1 rt e1"),
            "devices": "device|capabilities|routing\nquay|bridge|no\nrt|router|yes",
        }
        answer = why(network_of(**given | tables), *pair)
        self.assertTrue(answer.repair_proven)
        return [(f.rule, [{**c.key, **c.cells} for c in f.repair]) for f in answer.findings]

    def test_one_that_stands_where_no_other_gateway_of_the_site_does_is_wrong_and_not_the_host(self):
        usual = ["rt 10 10.1.0.1/24", "rt 20 10.2.0.1/24"]
        for own, hop, rule in (
            ("10.3.0.41", "10.3.0.1", "gateway-address-wrong"),
            ("10.3.0.1", "10.3.0.41", "host-gateway-wrong"),
        ):
            hosted = ["a 10.1.0.9/24 10.1.0.1 quay p2", f"b 10.3.0.9/24 {hop} quay p4"]
            found = self.asked([*usual, f"rt 30 {own}/24"], hosted, ("a", "b"))
            self.assertEqual([name for name, _ in found], [rule])

    def test_hosts_of_its_subnet_count_together_whatever_vlan_they_were_put_into(self):
        hosted = [
            "a 10.1.0.20/24 10.1.0.5 quay p2",
            "b 10.1.0.21/24 10.1.0.5 quay p4",
            "c 10.2.0.20/24 10.2.0.9 quay p3",
        ]
        found = self.asked(["rt 10 10.1.0.7/24", "rt 20 10.2.0.9/24"], hosted, ("c", "a"))
        self.assertEqual([name for name, _ in found], ["gateway-address-wrong"])
        self.assertEqual(found[0][1][0]["address"], "10.1.0.5/24")

    def test_a_prefix_that_leaves_out_a_host_which_uses_the_gateway_is_the_gateways_fault(self):
        hosted = ["a 10.1.0.225/24 10.1.0.1 quay p2", "b 10.2.0.9/24 10.2.0.1 quay p3"]
        found = self.asked(["rt 10 10.1.0.1/28", "rt 20 10.2.0.1/24"], hosted, ("b", "a"))
        self.assertEqual([name for name, _ in found], ["gateway-mask-differs"])
        self.assertEqual(found[0][1][0]["address"], "10.1.0.1/24")

    def test_a_missing_gateway_gets_the_prefix_length_by_which_it_is_at_an_end_of_its_subnet(self):
        for asked in (("a", "c"), ("b", "c")):
            hosted = [
                "a 10.1.0.43/27 10.1.0.62 quay p2",
                "b 10.1.0.56/24 10.1.0.62 quay p4",
                "c 10.2.0.9/26 10.2.0.1 quay p3",
            ]
            found = self.asked(["rt 20 10.2.0.1/26"], hosted, asked)
            added = next(changes for name, changes in found if name == "gateway-missing")
            self.assertEqual(added[0]["address"], "10.1.0.62/27")

    def beyond(self, told):
        """What is in the way from `a` behind the one router to `b` behind another, with these interfaces."""
        more = ports("quay p6 trunk none 20 40", "far e1 routed none").splitlines()[1:]
        return self.asked(
            [], ["a 10.1.0.9/24 10.1.0.1 quay p2", "b 10.2.0.9/24 10.2.0.1 quay p3"], ("a", "b"),
            gateways=told, ports="\n".join([self.PORTS, *more]), neighbors=cabled("quay p1 rt e1", "quay p6 far e1"),
            devices="device|capabilities|routing\nquay|bridge|no\nrt|router|yes\nfar|router|yes",
            routes="device|prefix|next_hop|interface|origin\nrt|10.2.0.0/24|10.9.0.2|e1.40|static\n"
                   "far|10.1.0.0/24|10.9.0.1|e1.40|static",
        )  # fmt: skip

    def test_a_transit_address_that_nobody_uses_beside_a_router_whose_routes_lead_to_one_that_nobody_has(self):
        told = "device|interface|address|vid|port|untagged|admin|oper|proxy_arp\n"
        told += "rt|e1.10|10.1.0.1/24|10|e1|no|up|up|no\nrt|e1.40|10.9.0.1/30|40|e1|no|up|up|no\n"
        told += "far|e1.40|10.66.0.2/30|40|e1|no|up|up|no\nfar|e1.20|10.2.0.1/24|20|e1|no|up|up|no"
        found = self.beyond(told)
        self.assertEqual([name for name, _ in found], ["gateway-address-wrong"])
        (changed,) = found[0][1]
        self.assertEqual(
            [changed[name] for name in ("device", "interface", "address")], ["far", "e1.40", "10.9.0.2/30"]
        )

    def led(self, lost, prefixes=("10.2.0.0/24",), back="10.9.0.11"):
        """Why `a` does not reach `b`, where the one router's routes lead to an address that nobody has."""
        told = "device|interface|address|vid|port|untagged|admin|oper|proxy_arp\n"
        told += "rt|e1.10|10.1.0.1/24|10|e1|no|up|up|no\nrt|e1.40|10.9.0.11/28|40|e1|no|up|up|no\n"
        told += "far|e1.40|10.9.0.5/28|40|e1|no|up|up|no\nfar|e1.20|10.2.0.1/24|20|e1|no|up|up|no\n"
        told += "far|e1.30|10.3.0.1/24|30|e1|no|up|up|no"
        more = ports("quay p6 trunk none 20 30 40", "far e1 routed none").splitlines()[1:]
        routes = ["device|prefix|next_hop|interface|origin", f"far|10.1.0.0/24|{back}|e1.40|static"]
        network = network_of(
            gateways=told,
            ports="\n".join([self.PORTS, *more]),
            neighbors=cabled("quay p1 rt e1", "quay p6 far e1"),
            hosts=listed("a 10.1.0.9/24 10.1.0.1 quay p2", "b 10.2.0.9/24 10.2.0.1 quay p3"),
            devices="device|capabilities|routing\nquay|bridge|no\nrt|router|yes\nfar|router|yes",
            routes="\n".join([*routes, *(f"rt|{prefix}|{lost}|e1.40|static" for prefix in prefixes)]),
        )
        return why(network, "a", "b")

    def test_a_next_hop_that_nobody_has_is_the_routes_fault_or_the_other_routers(self):
        for lost, prefixes, expected, sure in (
            ("10.9.0.6", ["10.2.0.0/24"], "routes", "open"),
            ("10.9.0.1", ["10.2.0.0/24"], "gateways", "likely"),
            ("10.9.0.6", ["10.2.0.0/24", "10.3.0.0/24", "10.4.0.0/24"], "gateways", "likely"),
        ):
            answer = self.led(lost, prefixes)
            (finding,) = answer.findings
            tables = [{change.table for change in one.changes} for one in finding.alternatives]
            self.assertEqual((tables[0], answer.confidence), ({expected}, sure), (lost, prefixes))
            self.assertEqual(sorted(map(tuple, tables)), [("gateways",), ("routes",)])

    def test_no_device_gets_an_address_to_which_its_own_routes_lead(self):
        answer = self.led("10.9.0.1", back="10.9.0.1")
        self.assertEqual({change.table for change in answer.repair}, {"routes"})

    def test_a_host_on_a_trunk_whose_mates_are_in_two_vlans_is_put_into_neither(self):
        rows = [*self.PORTS.replace("quay|p4|up|up|access|30|", "quay|p4|up|up|trunk|none|10 20").splitlines()]
        for third, vids in ((), [10, 20]), (("quay|p6|up|up|access|20|",), [20]):
            hosted = ["a 10.1.0.9/24 none quay p2", "b 10.1.0.8/24 none quay p3", "c 10.1.0.7/24 none quay p4"]
            hosted += ["d 10.1.0.6/24 none quay p6"] if third else []
            network = network_of(
                ports="\n".join([*rows, *third]),
                hosts=listed(*hosted),
                devices="device|capabilities|routing\nquay|bridge|no",
            )
            found = next(f for f in check(network).findings if f.rule == "port-mode-wrong" and f.severity == "breaks")
            told = [change.cells["pvid"] for one in found.alternatives for change in one.changes]
            self.assertEqual(sorted(told) or [change.cells["pvid"] for change in found.repair], vids)
            self.assertEqual(bool(found.repair), len(vids) == 1)

    def test_between_a_lone_host_and_a_lone_interface_the_end_of_the_subnet_comes_first_and_it_stays_open(self):
        gateways = ["rt 10 10.1.0.28/26", "rt 20 10.2.0.254/24"]
        hosted = ["a 10.1.0.24/26 10.1.0.1 quay p2", "b 10.2.0.9/24 10.2.0.254 quay p3"]
        found = self.asked(gateways, hosted, ("a", "b"))
        self.assertEqual([name for name, _ in found], ["gateway-address-wrong"])
        self.assertEqual(found[0][1][0]["address"], "10.1.0.1/26")
        hosted[0] = "a 10.1.0.24/26 10.1.0.28 quay p2"
        found = self.asked(["rt 10 10.1.0.1/26", gateways[1]], hosted, ("a", "b"))
        self.assertEqual([name for name, _ in found], ["host-gateway-wrong"])

    def test_a_host_is_not_put_into_a_vlan_that_both_ends_of_the_link_to_its_switch_leave_out(self):
        told = "device|interface|address|vid|admin|oper|proxy_arp\nquay|vlan10|10.1.0.1/24|10|up|up|no\n"
        told += "quay|vlan20|10.2.0.1/24|20|up|up|no"
        hosted = ["a 10.1.0.9/24 10.1.0.1 quay p2", "b 10.2.0.9/24 10.2.0.1 quay p3", "c 10.2.0.8/24 10.2.0.1 far p2"]
        link = ["far p1 trunk none 10", "far p2 access 10", "quay p6 trunk none 10"]
        for both, rule in ((True, "host-outside-subnet"), (False, "port-vlan-wrong")):
            rows = [link[0], link[1], link[2] if both else "quay p6 trunk none 10 20"]
            more = ports(*rows).splitlines()[1:]
            found = self.asked(
                [], hosted, ("c", "b"), gateways=told, ports="\n".join([self.PORTS, *more]),
                neighbors=cabled("quay p1 rt e1", "quay p6 far p1"),
                devices="device|capabilities|routing\nquay|bridge router|yes\nrt|router|yes\nfar|bridge|no",
            )  # fmt: skip
            self.assertIn(rule, [name for name, _ in found])

    def test_of_swapped_tags_with_a_desk_astray_no_interface_gets_a_tag_that_the_other_keeps(self):
        told = "device|interface|address|vid|admin|oper|proxy_arp\nquay|vlan10|10.1.0.1/24|20|up|up|no\n"
        told += "quay|vlan20|10.2.0.1/24|10|up|up|no"
        hosted = ["a 10.1.0.9/24 10.1.0.1 quay p2", "c 10.1.0.8/24 10.1.0.77 quay p6", "b 10.2.0.9/24 10.2.0.1 quay p3"]
        hosted += ["d 10.2.0.8/24 10.2.0.1 quay p7"]
        more = ports("quay p6 access 10", "quay p7 access 10").splitlines()[1:]
        found = self.asked(
            [], hosted, ("c", "b"), gateways=told, ports="\n".join([self.PORTS, *more]),
            devices="device|capabilities|routing\nquay|bridge router|yes\nrt|router|yes",
        )  # fmt: skip
        self.assertEqual([name for name, _ in found], ["host-gateway-wrong", "gateway-vlan-wrong"])
        self.assertEqual(
            [(change["interface"], change["vid"]) for change in found[1][1]][1:], [("vlan20", 20), ("vlan10", 10)]
        )

    def test_a_port_in_access_mode_towards_a_router_gets_the_untagged_interface_s_vlan_as_native_one(self):
        told = "device|interface|address|vid|port|untagged|admin|oper|proxy_arp\n"
        told += "rt|e1|10.1.0.1/24|10|e1|yes|up|up|no\nrt|e1.20|10.2.0.1/24|20|e1|no|up|up|no"
        shut = self.PORTS.replace("quay|p1|up|up|trunk|none|10 20 30 40", "quay|p1|up|up|access|30|")
        self.assertNotEqual(shut, self.PORTS)
        shut = "\n".join([shut, *ports("quay p6 access 10").splitlines()[1:]])
        hosted = ["a 10.1.0.9/24 10.1.0.1 quay p2", "b 10.2.0.9/24 10.2.0.1 quay p3", "c 10.1.0.8/24 10.1.0.1 quay p6"]
        found = self.asked([], hosted, ("a", "b"), gateways=told, ports=shut)
        self.assertEqual([name for name, _ in found], ["gateway-port-mode-wrong"])
        self.assertEqual(
            found[0][1], [{"device": "quay", "port": "p1", "mode": "trunk", "pvid": 10, "allowed": "10 20"}]
        )
        network = network_of(
            ports=shut,
            gateways=told,
            hosts=listed(*hosted),
            neighbors=cabled("quay p1 rt e1"),
            devices="device|capabilities|routing\nquay|bridge|no\nrt|router|yes",
        )
        breaks = [finding.rule for finding in check(network).findings if finding.severity == "breaks"]
        self.assertEqual(breaks, ["gateway-port-mode-wrong"])

    def test_an_interface_that_routes_name_and_that_has_no_address(self):
        told = "device|interface|address|vid|port|untagged|admin|oper|proxy_arp\n"
        told += "rt|e1.10|10.1.0.1/24|10|e1|no|up|up|no\n"
        told += "far|e1.40|10.9.0.2/30|40|e1|no|up|up|no\nfar|e1.20|10.2.0.1/24|20|e1|no|up|up|no"
        found = self.beyond(told)
        self.assertEqual([name for name, _ in found], ["gateway-missing"])
        (added,) = found[0][1]
        self.assertEqual((added["device"], added["interface"], added["address"]), ("rt", "e1.40", "10.9.0.1/30"))
        self.assertEqual((added["port"], added["vid"], added["untagged"]), ("e1", 40, "no"))


if __name__ == "__main__":
    unittest.main()
