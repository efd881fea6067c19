"""Why: every fault in a pair's way, each kind of fault at its place, and the demo campus."""

import unittest

from crossthread import Change, Network, UnknownNameError, apply_changes, check, map_network, matrix, why
from crossthread.demo import FAULTS, faulty, healthy

EXPECTED = {
    "the foghorn's port was put into the visitors' VLAN": ["port-vlan-wrong"],
    "the exhibits' VLAN was left out at one end of the Rope Hall's uplink": ["link-vlan-missing"],
    "the router's tags for boatyard and cameras were swapped": ["gateway-vlan-wrong"],
    "core-east lost its route to the cameras": ["route-missing"],
    "the archive's store has no gateway": ["host-gateway-missing"],
    "the curator's prefix is too long": ["host-mask-differs"],
    "the yard office uses a gateway that does not exist": ["host-gateway-wrong"],
    "the galley's uplink was set to access": ["link-mode-differs"],
    "the shop till's port was shut": ["port-admin-down"],
    "the visitors' VLAN is suspended in the offices": ["vlan-suspended"],
    "the second ticket desk got a new computer, and its port admits only the old one": ["port-refuses-station"],
    "one end of the Sail Loft's uplink has another native VLAN": ["link-native-differs"],
    "one end of the slipway's ring runs half duplex": ["link-duplex-differs"],
}


def port(device, name, **cells):
    return Change("ports", {"device": device, "port": name}, cells)


def host(name, **cells):
    return Change("hosts", {"host": name}, cells)


class Demo(unittest.TestCase):
    def test_the_healthy_campus(self):
        network = Network(healthy())
        self.assertEqual(check(network).findings, ())
        answer = matrix(network)
        six = {name for name, version in zip(answer.hosts, answer.ip_versions, strict=True) if version == 6}
        self.assertEqual(len(six), 2)
        wrong = [(a, b, v) for a, b, v in answer.reaches if (v == "works") != ((a in six) == (b in six))]
        self.assertEqual(wrong, [])
        listed = map_network(network)
        self.assertEqual((len(listed.devices), len(listed.links), listed.loose), (11, 17, ()))

    def test_each_fault_alone_is_found_and_nothing_else(self):
        self.assertEqual(EXPECTED.keys(), FAULTS.keys())
        for name, changes in FAULTS.items():
            with self.subTest(name):
                broken = apply_changes(healthy(), changes)
                found = check(Network(broken))
                self.assertEqual(sorted(finding.rule for finding in found.findings), sorted(EXPECTED[name]))
                self.assertTrue(all(finding.evidence for finding in found.findings))
                mended = apply_changes(broken, [change for f in found.findings for change in f.repair])
                left = [f.rule for f in check(Network(mended)).findings if f.repair]
                self.assertEqual(left, [])

    def test_several_faults_on_one_way_are_all_named(self):
        network = Network(faulty())
        answer = why(network, "foghorn-exhibit", "camera-recorder")
        rules = ["port-vlan-wrong", "link-vlan-missing", "route-missing", "gateway-vlan-wrong"]
        self.assertEqual((answer.verdict, [f.rule for f in answer.findings]), ("fails", rules))
        self.assertTrue(answer.repair_proven)
        self.assertEqual(answer.stopped, "foghorn-exhibit asks for 10.61.20.1 and gets no answer")
        self.assertEqual([hop.name for hop in answer.path if hop.faults], ["ropehall", "core-east", "quay-router"])
        self.assertEqual(
            [(h.name, h.enters, h.leaves, h.vid, h.tag_in, h.tag_out) for h in answer.path][1],
            ("ropehall", "port4", "port1", 20, 0, 20),
        )
        back = why(network, "camera-recorder", "foghorn-exhibit")
        self.assertEqual({f.rule for f in back.findings}, {*rules[:2], "route-back-missing", rules[3]})
        places = {(fact.table, *fact.key.values(), fact.column): fact for f in answer.findings for fact in f.evidence}
        fact = places["ports", "ropehall", "port4", "pvid"]
        self.assertEqual((fact.value, fact.source), ("30", None))  # made in memory: no file it was read from

    def test_a_fault_elsewhere_is_not_in_the_answer(self):
        answer = why(Network(faulty()), "ticket-desk-1", "plate-scanner")
        self.assertEqual((answer.verdict, answer.findings, answer.repair), ("works", (), ()))

    def test_hosts_are_found_by_name_address_or_mac(self):
        network = Network(healthy())
        for wanted in ["TICKET-DESK-1", "10.61.10.21", "025c.0200.0001"]:
            self.assertEqual(why(network, wanted, "fd61:c7:0:20:0:0:0:1").source, "ticket-desk-1")
        for one, two, says in [
            ("tiket-desk-1", "shop-till", "did you mean ticket-desk-1"),
            ("10.9.9.9", "shop-till", "no host with the address “10.9.9.9”"),
            ("shop-till", "10.61.10.23", "the same host"),
            ("\x1b[31m", "shop-till", "“\\x1b[31m”"),
        ]:
            with self.subTest(one), self.assertRaises(UnknownNameError) as caught:
                why(network, one, two)
            self.assertIn(says, str(caught.exception))


class Traps(unittest.TestCase):
    """One fault of each kind on the healthy demo campus, asked from a pair that it stops."""

    def ask(self, changes, pair, rules, proven=True):
        answer = why(Network(apply_changes(healthy(), changes)), *pair)
        self.assertEqual((answer.verdict, [f.rule for f in answer.findings]), ("fails", rules), answer.stopped)
        self.assertEqual(answer.repair_proven, proven)
        return answer

    def test_hosts(self):
        pair = ("ticket-desk-1", "show-control")
        for changes, rules in [
            ([host("ticket-desk-1", link="down"), port("lighthouse-1", "port3", oper="down")], ["host-link-down"]),
            ([host("ticket-desk-1", address="none")], ["host-address-missing"]),
            ([host("ticket-desk-1", gateway="none")], ["host-gateway-missing"]),
            ([host("show-control", gateway="none")], ["host-gateway-missing"]),
            ([host("ticket-desk-1", gateway="10.61.20.1")], ["host-gateway-outside-subnet"]),
            ([host("ticket-desk-1", gateway="10.61.10.99")], ["host-gateway-wrong"]),
            ([host("ticket-desk-1", gateway="10.61.10.42")], ["host-gateway-wrong"]),
            ([host("ticket-desk-1", address="10.61.10.21/16")], ["host-mask-differs"]),
            ([host("ticket-desk-1", address="10.61.10.21/30")], ["host-mask-differs"]),
            ([host("ticket-desk-1", address="10.61.77.3/24")], ["host-outside-subnet"]),
        ]:
            with self.subTest(rules=rules, changes=changes):
                self.ask(changes, pair, rules)

    def test_ports_and_vlans(self):
        pair = ("ticket-desk-1", "archive-store")
        for changes, rules in [
            ([port("lighthouse-1", "port3", oper="down")], ["port-down"]),
            (  # what was learned there before is forgotten by then
                [
                    port("chartroom", "port3", mode="trunk", pvid=20, allowed="10 20"),
                    Change("macs", {"device": "chartroom", "vid": 10, "mac": "02:5c:02:00:00:06"}, delete=True),
                ],
                ["port-mode-wrong"],
            ),
            ([port("chartroom", "port3", pvid="none")], ["port-vlan-wrong"]),
            ([Change("vlans", {"device": "chartroom", "vid": 10}, delete=True)], ["port-vlan-missing"]),
            ([Change("vlans", {"device": "core-east", "vid": 10}, {"state": "suspended"})], ["vlan-suspended"]),
        ]:
            with self.subTest(rules=rules, changes=changes):
                self.ask(changes, pair, rules)

    def test_links(self):
        pair = ("galley-till", "sextant-exhibit")
        both = [("galley", "port1"), ("ropehall", "port3")]
        for changes, rules in [
            ([port("galley", "port1", allowed="20-90")], ["link-vlan-missing"]),
            ([port(*end, allowed="20-90") for end in both], ["link-vlan-missing"]),
            ([port("galley", "port1", tagging="802.1ad")], ["link-tagging-differs"]),
            ([port("galley", "port1", pvid=10)], ["link-native-differs"]),
            ([port("galley", "port1", mode="access", pvid=20)], ["link-mode-differs"]),
            ([port(*end, mode="access", pvid=20) for end in both], ["port-mode-wrong"]),
            (
                [port("galley", "port1", admin="down", oper="down"), port("ropehall", "port3", oper="down")],
                ["port-admin-down"],
            ),
        ]:
            with self.subTest(rules=rules, changes=changes):
                self.ask(changes, pair, rules)

    def test_the_tree_blocks_the_only_link_with_the_vlan(self):
        changes = [port(*end, allowed="20-90") for end in (("chartroom", "port1"), ("core-east", "port6"))]
        answer = self.ask(changes, ("archive-store", "show-control"), ["link-vlan-missing"])
        self.assertEqual([change.key["device"] for change in answer.repair], ["chartroom", "core-east"])

    def test_gateways_and_routes(self):
        pair = ("show-control", "plank-saw")
        tag = {"device": "quay-router", "interface": "port1.40", "address": "10.61.40.1/24"}
        inner = {"device": "core-east", "interface": "vlan20", "address": "10.61.20.1/24"}
        hop = {"device": "core-east", "prefix": "10.61.40.0/24", "next_hop": "10.61.90.2"}
        for changes, rules in [
            ([Change("gateways", tag, {"admin": "down", "oper": "down"})], ["gateway-admin-down"]),
            ([Change("gateways", tag, {"oper": "down"})], ["gateway-down"]),
            ([Change("gateways", tag, {"vid": 30})], ["gateway-vlan-wrong"]),
            ([Change("gateways", tag, {"address": "10.61.40.77/24"})], ["gateway-address-wrong"]),
            ([Change("gateways", tag, {"address": "10.61.40.1/30"})], ["gateway-mask-differs"]),
            ([Change("gateways", inner, {"address": "10.61.20.1/18"})], ["gateway-mask-differs"]),
            ([Change("gateways", tag, delete=True)], ["gateway-missing"]),
            ([port("harbour-office", "port5", mode="access", pvid=40)], ["gateway-port-mode-wrong"]),
            ([port("harbour-office", "port5", allowed="50 90")], ["gateway-port-mode-wrong"]),
            ([Change("devices", {"device": "quay-router"}, {"routing": "no"})], ["routing-off"]),
            ([Change("routes", hop, delete=True)], ["route-missing"]),
            ([Change("routes", hop, {"next_hop": "10.61.90.200"})], ["route-missing"]),
            ([Change("routes", {"device": "quay-router", "prefix": "0.0.0.0/0"}, delete=True)], ["route-back-missing"]),
        ]:
            with self.subTest(rules=rules, changes=changes):
                expected = rules
                if changes[0].cells == {"address": "10.61.20.1/18"}:
                    expected = []  # a longer prefix of a route still wins: nothing stands in the way
                    answer = why(Network(apply_changes(healthy(), changes)), *pair)
                    self.assertEqual((answer.verdict, list(answer.findings)), ("works", expected))
                else:
                    self.ask(changes, pair, expected)

    def test_far_host_without_gateway_and_four_more_at_once(self):
        changes = [
            host("plank-saw", gateway="none"),
            port("sail-loft", "port3", pvid=50),
            Change("gateways", {"device": "quay-router", "interface": "port1.40"}, {"admin": "down", "oper": "down"}),
            host("show-control", address="10.61.20.5/25", gateway="10.61.20.200"),
            port("chartroom", "port5", admin="down", oper="down"),
        ]
        answer = why(Network(apply_changes(healthy(), changes)), "show-control", "plank-saw")
        self.assertTrue(answer.repair_proven)
        self.assertEqual(
            {f.rule for f in answer.findings},
            {"port-admin-down", "host-gateway-wrong", "gateway-admin-down", "port-vlan-wrong", "host-gateway-missing"},
        )


if __name__ == "__main__":
    unittest.main()
