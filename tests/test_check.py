"""Each rule of the check: planted alone in the healthy demo campus it is found at its subject, and nothing else is."""

import tempfile
import unittest
from pathlib import Path

from crossthread import Change, Network, apply_changes, check
from crossthread.demo import healthy
from crossthread.questions.rules import gateway, gateway_address, host, link, neighbor, port, routing, wire
from tests.building import cabled, hosts, network_of, ports


def edit(table, cells, **key):
    return Change(table, key, cells)


def at(device, name, **cells):
    return edit("ports", cells, device=device, port=name)


ROUTER = {"device": "quay-router", "interface": "port1.40", "address": "10.61.40.1/24"}
PLANTED = {
    "host-link-down": (
        [edit("hosts", {"link": "down"}, host="shop-till"), at("lighthouse-1", "port5", oper="down")],
        "shop-till",
    ),
    "host-not-located": (
        [
            edit("hosts", {"device": "", "port": "", "link": ""}, host="tide-gauge"),
            at("quay-router", "port2", description=""),
        ],
        "tide-gauge",
    ),
    "host-address-missing": ([edit("hosts", {"address": "none"}, host="shop-till")], "shop-till"),
    "host-address-duplicate": ([edit("hosts", {"address": "10.61.10.22/24"}, host="shop-till")], "shop-till"),
    "host-outside-subnet": ([edit("hosts", {"address": "10.61.88.9/24"}, host="shop-till")], "shop-till"),
    "host-mask-differs": ([edit("hosts", {"address": "10.61.10.23/20"}, host="shop-till")], "shop-till"),
    "host-gateway-missing": ([edit("hosts", {"gateway": "none"}, host="shop-till")], "shop-till"),
    "host-gateway-outside-subnet": ([edit("hosts", {"gateway": "10.61.20.1"}, host="shop-till")], "shop-till"),
    "host-gateway-wrong": ([edit("hosts", {"gateway": "10.61.10.9"}, host="shop-till")], "shop-till"),
    "port-admin-down": ([at("galley", "port2", admin="down", oper="down")], "galley port2"),
    "port-down": ([at("galley", "port2", oper="down")], "galley port2"),
    "port-vlan-wrong": ([at("galley", "port2", pvid=30)], "galley port2"),
    "port-mode-wrong": ([at("galley", "port2", mode="trunk", pvid="none", allowed="all")], "galley port2"),
    "port-refuses-station": ([at("galley", "port2", allowed_macs="02:00:00:00:00:01")], "galley port2"),
    "port-errors": ([at("galley", "port2", crc_errors=7)], "galley port2"),
    "port-slow": ([at("galley", "port2", capable_speed=10000)], "galley port2"),
    "cable-fault": (
        [edit("cables", {"status": "open", "length": 17}, device="galley", port="port2", pair="3-6")],
        "galley port2",
    ),
    "vlan-suspended": ([edit("vlans", {"state": "suspended"}, device="galley", vid=10)], "galley VLAN 10"),
    "link-mode-differs": ([at("galley", "port1", mode="access", pvid=10)], "galley port1"),
    "link-tagging-differs": ([at("galley", "port1", tagging="802.1ad")], "galley port1"),
    "link-native-differs": ([at("galley", "port1", pvid=90)], "galley port1"),
    "link-vlan-missing": ([at("galley", "port1", allowed="10 20 40 50 90")], "galley port1"),
    "link-allowed-differs": ([at("galley", "port1", allowed="10-40 90")], "galley port1"),
    "link-speed-differs": ([at("galley", "port1", speed=100)], "galley port1"),
    "link-duplex-differs": ([at("galley", "port1", duplex="half")], "galley port1"),
    "link-mtu-differs": ([at("galley", "port1", mtu=9000)], "galley port1"),
    "link-lag-differs": (
        [
            at("galley", "port1", lag="bundle7"),
            at("galley", "bundle7", mode="trunk", pvid="none", allowed="10-90", oper="up"),
        ],
        "galley port1",
    ),
    "gateway-admin-down": ([edit("gateways", {"admin": "down", "oper": "down"}, **ROUTER)], "quay-router port1.40"),
    "gateway-down": ([edit("gateways", {"oper": "down"}, **ROUTER)], "quay-router port1.40"),
    "gateway-vlan-wrong": ([edit("gateways", {"vid": 30}, **ROUTER)], "quay-router port1.40"),
    "gateway-port-mode-wrong": ([at("harbour-office", "port5", allowed="50 90")], "harbour-office port5"),
    "gateway-address-wrong": ([edit("gateways", {"address": "10.61.40.9/24"}, **ROUTER)], "quay-router port1.40"),
    "gateway-mask-differs": ([edit("gateways", {"address": "10.61.40.1/26"}, **ROUTER)], "quay-router port1.40"),
    "gateway-missing": ([Change("gateways", ROUTER, delete=True)], "VLAN 40"),
    "gateway-address-duplicate": (
        [edit("gateways", {"vid": 90, "oper": "up"}, device="core-west", interface="vlan90", address="10.61.90.1/24")],
        "core-west vlan90",
    ),
    "gateway-tag-duplicate": ([edit("gateways", {"vid": 50}, **ROUTER)], "quay-router port1.40"),
    "port-vlan-missing": ([Change("vlans", {"device": "galley", "vid": 10}, delete=True)], "galley"),
    "routing-off": ([edit("devices", {"routing": "no"}, device="quay-router")], "quay-router"),
    "route-missing": ([Change("routes", {"device": "core-east", "prefix": "10.61.40.0/24"}, delete=True)], "core-east"),
}
FOLLOWS = {
    "host-address-duplicate": {"host-address-duplicate"},
    "gateway-tag-duplicate": {"gateway-vlan-wrong"},
    "gateway-missing": {"host-gateway-wrong"},
}
MORE_THAN_ONE = {"gateway-missing", "gateway-port-mode-wrong"}
"""Rules that speak once for each host of a subnet that has no gateway, or of each place where a tag is missing."""


class Planted(unittest.TestCase):
    def test_each_alone(self):
        for rule, (changes, subject) in PLANTED.items():
            with self.subTest(rule):
                found = check(Network(apply_changes(healthy(), changes))).findings
                self.assertIn(rule, {finding.rule for finding in found})
                self.assertLessEqual({finding.rule for finding in found}, {rule} | FOLLOWS.get(rule, set()))
                first = next(finding for finding in found if finding.rule == rule)
                self.assertTrue(any(subject in str(s) for s in first.subjects), first.subjects)
                self.assertTrue(first.evidence)
                if rule not in MORE_THAN_ONE:
                    self.assertEqual(len([f for f in found if f.rule == rule]), 1, [f.says for f in found])

    def test_ends_that_disagree(self):
        with tempfile.TemporaryDirectory() as folder:
            rows = "device|port|neighbor|neighbor_port\nsw-a|p1|sw-b|p1\nsw-b|p1|sw-c|p1\nsw-c|p1|sw-b|p1"
            found = check(
                network_of(Path(folder), neighbors=rows, ports=ports(*(f"sw-{x} p1 trunk 1 1" for x in "abc")))
            )
        self.assertEqual([f.rule for f in found.findings], ["neighbor-conflict"])
        self.assertEqual(found.findings[0].says, "sw-a p1 hears sw-b p1, but sw-b p1 hears sw-c p1.")

    def test_a_vlan_missing_in_the_middle_is_named_at_the_very_link(self):
        with tempfile.TemporaryDirectory() as folder:
            found = check(network_of(
                Path(folder),
                neighbors=cabled("sw-a p1 sw-b p1", "sw-b p2 sw-c p1"),
                ports=ports("sw-a p1 trunk none 7", "sw-b p1 trunk none 7", "sw-b p2 trunk none 8",
                            "sw-c p1 trunk none 7", "sw-a p9 access 7", "sw-c p9 access 7"),
                hosts=hosts("a 10.0.0.1/24 none sw-a p9", "c 10.0.0.2/24 none sw-c p9"),
            )).findings  # fmt: skip
        self.assertEqual([(f.rule, str(f.subjects[0])) for f in found], [("link-vlan-missing", "sw-b p2 VLAN 7")])


class Docstrings(unittest.TestCase):
    def test_each_rule_says_what_it_means_why_it_matters_and_how_to_confirm_it(self):
        for module in (gateway, gateway_address, host, link, neighbor, port, routing, wire):
            for name, rule in vars(module).items():
                written_here = getattr(rule, "__module__", None) == module.__name__
                if (
                    not name.startswith("_")
                    and callable(rule)
                    and written_here
                    and rule.__annotations__.get("return") == "Finding | None"
                ):
                    with self.subTest(name):
                        self.assertRegex(rule.__doc__, r"(?s)\.\n\n +Matters: .+ Confirm:\s.+\.")


if __name__ == "__main__":
    unittest.main()
