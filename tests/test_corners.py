"""Corners of the model and of the rules that one wrong character would turn: each with what it should be."""

import tempfile
import unittest
from datetime import date
from ipaddress import ip_address
from pathlib import Path

from crossthread import Change, Network, Survey, check, matrix, read_plan, why
from crossthread.network.switching.membership import membership
from crossthread.network.topology.names import End
from crossthread.survey.records import Port
from crossthread.values import VlanSet
from tests.building import KNOWN

UP = {"admin": "up", "oper": "up"}


def cable(a, p, b, q):
    return [
        {"device": a, "port": p, "neighbor": b, "neighbor_port": q},
        {"device": b, "port": q, "neighbor": a, "neighbor_port": p},
    ]


def trunk(device, port, native="none", allowed="7", **cells):
    row = {"device": device, "port": port, **UP, "mode": "trunk", "pvid": native, "allowed": allowed}
    return {**row, **cells}


def access(device, port, vid=7):
    return {"device": device, "port": port, **UP, "mode": "access", "pvid": vid}


def host(name, address, device, port, gateway="none", **cells):
    row = {"host": name, "address": address, "gateway": gateway, "device": device, "port": port, "link": "up"}
    return {**row, "mac": f"02:00:00:00:00:{ip_address(address.split('/')[0]).packed[-1]:02x}", **cells}


def gateway(device, interface, address, **cells):
    return {"device": device, "interface": interface, "address": address, **UP, "proxy_arp": "no", **cells}


def verdict(survey, a, b):
    return next(v for one, two, v in matrix(survey).reaches if (one, two) == (a, b))


def named(survey, *names, **asked):
    return [finding for finding in check(survey, **asked).findings if finding.rule in names]


class Model(unittest.TestCase):
    def test_a_change_leaves_what_it_was_made_of_alone(self):
        cells = {"allowed": VlanSet.of([7])}
        self.assertEqual(Change("ports", {"device": "a", "port": "b"}, cells).cells, {"allowed": "7"})
        self.assertEqual(cells, {"allowed": VlanSet.of([7])})

    def test_what_a_hybrid_port_sends_untagged_has_to_be_observed(self):
        row = Port("sw-a", "p1", mode="hybrid", pvid=7, allowed=VlanSet.of([7, 8]))
        found = membership(row)
        self.assertEqual((found.untagged.sure, found.untagged.possible), (0, 1 << 7 | 1 << 8))
        self.assertEqual((found.tagged.sure, found.joins.sure >> 7 & 1), (0, 1))
        ports = [{**access("sw-a", "p1"), "mode": "hybrid", "allowed": "7"}, access("sw-a", "p2")]
        hosts = [host("a", "10.0.0.1/24", "sw-a", "p1"), host("b", "10.0.0.2/24", "sw-a", "p2")]
        self.assertEqual(verdict(Survey.of(ports=ports, hosts=hosts), "a", "b"), "unknown")

    def test_the_lower_metric_wins(self):
        routes = [{"device": "rt", "prefix": "10.9.0.0/24", "next_hop": f"10.0.{n}.9", "metric": n} for n in (2, 1, 3)]
        gateways = [gateway("rt", f"e{n}", f"10.0.{n}.1/24", port=f"e{n}") for n in (1, 2, 3)]
        network = Network(Survey.of(gateways=gateways, routes=routes))
        chosen = network.routing.choices("rt", None, ip_address("10.9.0.5"))
        self.assertEqual([choice.interface.name for choice in chosen], ["e1"])

    def test_a_subnet_of_two_addresses_has_no_broadcast_address(self):
        ports = [access("sw-a", "p1"), access("sw-a", "p2")]
        for length, wanted in ((31, "works"), (30, "fails")):
            last = "10.0.0.1" if length == 31 else "10.0.0.3"
            first = "10.0.0.0" if length == 31 else "10.0.0.1"
            hosts = [host("a", f"{first}/{length}", "sw-a", "p1"), host("b", f"{last}/{length}", "sw-a", "p2")]
            self.assertEqual(verdict(Survey.of(ports=ports, hosts=hosts), "a", "b"), wanted)

    def test_an_aggregate_that_is_down_carries_nothing_though_its_members_are_up(self):
        for state, wanted in (("down", False), ("up", True)):
            ports = [trunk(d, p, lag="bundle1") for d in ("sw-a", "sw-b") for p in ("p1", "p2")]
            ports += [{**trunk("sw-a", "bundle1"), "oper": state}, trunk("sw-b", "bundle1")]
            neighbors = [*cable("sw-a", "p1", "sw-b", "p1"), *cable("sw-a", "p2", "sw-b", "p2")]
            (adjacency,) = Network(Survey.of(ports=ports, neighbors=neighbors)).adjacencies
            self.assertIs(adjacency.up, wanted)

    def parallel(self, **numbers):
        trees = [
            {"device": d, "instance": 0, "protocol": "rstp", "priority": 4096, "address": f"02:00:00:00:00:0{n}"}
            for n, d in enumerate(("sw-a", "sw-b"), 1)
        ]
        seats = [(d, p) for d in ("sw-a", "sw-b") for p in ("p1", "p2")]
        tree_ports = [{"device": d, "port": p, "instance": 0, "cost": 100, **numbers.get(p, {})} for d, p in seats]
        neighbors = [*cable("sw-a", "p1", "sw-b", "p1"), *cable("sw-a", "p2", "sw-b", "p2")]
        survey = Survey.of(ports=[trunk(*s) for s in seats], neighbors=neighbors, trees=trees, tree_ports=tree_ports)
        return Network(survey).fabric.trees

    def test_which_of_two_parallel_links_blocks_is_not_known_without_port_numbers(self):
        vague = self.parallel()
        self.assertEqual(vague.compute(0), {})
        self.assertIn("priority and number", str(vague.inputs(0).missing))
        known = self.parallel(p1={"priority": 128, "number": 1}, p2={"priority": 128, "number": 2})
        self.assertEqual(known.compute(0)[End("sw-b", "p2")].role, "alternate")

    def test_a_vlan_that_gets_across_one_way_only_lets_nobody_answer(self):
        ports = [access("sw-a", "p9"), access("sw-b", "p9"), trunk("sw-a", "p1"), trunk("sw-b", "p1", allowed="8")]
        hosts = [host("a", "10.0.0.1/24", "sw-a", "p9"), host("b", "10.0.0.2/24", "sw-b", "p9")]
        survey = Survey.of(KNOWN, ports=ports, hosts=hosts, neighbors=cable("sw-a", "p1", "sw-b", "p1"))
        answer = why(survey, "a", "b")
        self.assertEqual((answer.verdict, [f.rule for f in answer.findings]), ("fails", ["link-vlan-missing"]))
        self.assertEqual([change.key["device"] for change in answer.repair], ["sw-b"])


class Rules(unittest.TestCase):
    def test_an_acceptance_is_good_on_its_last_day(self):
        ports = [{**access("sw-a", "p1"), "crc_errors": 500}]
        with tempfile.TemporaryDirectory() as folder:
            file = Path(folder) / "plan.toml"
            file.write_text('format = 1\n[[accept]]\nrule = "port-errors"\nreason = "old cable"\nuntil = 2026-05-04\n')
            plan = read_plan(file)
        for day, count in ((date(2026, 5, 4), 0), (date(2026, 5, 5), 1)):
            self.assertEqual(len(named(Survey.of(ports=ports), "port-errors", plan=plan, today=day)), count)

    def test_of_two_native_vlans_the_rarer_one_is_changed(self):
        ports = [trunk("sw-a", "p1", 9, "7 9"), trunk("sw-b", "p1", 1, "1 7")]
        ports += [trunk("sw-b", p, 1, "1 7") for p in ("p2", "p3")]
        neighbors = cable("sw-a", "p1", "sw-b", "p1")
        (found,) = named(Survey.of(ports=ports, neighbors=neighbors), "link-native-differs")
        self.assertEqual([(c.key["device"], c.cells["pvid"]) for c in found.repair], [("sw-a", 1)])

    def campus(self, *hops):
        seats = [f"p{n}" for n in range(1, len(hops) + 1)]
        hosts = [
            host(f"h{n}", f"10.0.0.{10 + n}/24", "sw-a", port, hop)
            for n, (port, hop) in enumerate(zip(seats, hops, strict=True))
        ]
        gateways = [gateway("sw-a", f"vlan{n}", f"10.0.{n}.1/24", vid=v) for n, v in ((0, 7), (8, 8))]
        hosts.append(host("far", "10.0.8.99/24", "sw-a", "p99", "10.0.8.1"))
        ports = [*(access("sw-a", port) for port in seats), access("sw-a", "p99", 8)]
        return Survey.of(devices=[{"device": "sw-a", "routing": "yes"}], ports=ports, hosts=hosts, gateways=gateways)

    def test_one_host_with_another_gateway_is_no_reason_to_move_the_gateway(self):
        one = named(self.campus("10.0.0.254"), "gateway-address-wrong", "host-gateway-wrong")
        self.assertEqual([finding.rule for finding in one], ["host-gateway-wrong"])
        two = named(self.campus("10.0.0.254", "10.0.0.254"), "gateway-address-wrong", "host-gateway-wrong")
        self.assertEqual([finding.rule for finding in two], ["gateway-address-wrong"])

    def test_an_address_that_an_interface_has_twice_is_taken_away_once(self):
        survey = self.campus("10.0.0.1", "10.0.0.1", "10.0.0.1")
        twin = [gateway("sw-a", "vlan0", "10.0.0.1/27", vid=7), *survey.gateways]
        doubled = Survey.of(**{name: survey.table(name) for name in ("devices", "ports", "hosts")}, gateways=twin)
        (found,) = named(doubled, "gateway-mask-differs")
        self.assertEqual([(c.key["address"], c.delete) for c in found.repair], [("10.0.0.1/27", True)])
        self.assertEqual(why(doubled, "h0", "far").verdict, "works")

    def test_regions_do_not_excuse_two_roots_of_the_common_tree(self):
        for instance, count in ((0, 1), (3, 0)):
            trees = [
                {"device": d, "instance": instance, "protocol": "mstp", "region": d, "priority": 4096,
                 "address": f"02:00:00:00:00:0{n}", "root_priority": 4096, "root_address": f"02:00:00:00:00:0{n}"}
                for n, d in enumerate(("sw-a", "sw-b"), 1)
            ]  # fmt: skip
            ports = [trunk("sw-a", "p1"), trunk("sw-b", "p1")]
            survey = Survey.of(ports=ports, neighbors=cable("sw-a", "p1", "sw-b", "p1"), trees=trees)
            self.assertEqual(len(named(survey, "tree-roots-several")), count)
            self.assertEqual(len(named(survey, "tree-region-differs")), count)


if __name__ == "__main__":
    unittest.main()
