"""The forwarding model, point by point, on networks of two or three switches."""

import unittest
from typing import ClassVar

from crossthread import map_network, matrix, why
from crossthread.network import Forwarding
from crossthread.network.switching.nodes import Node
from tests.building import cabled, hosts, network_of, ports

TWO = {
    "neighbors": cabled("sw-a p1 sw-b p1"),
    "ports": ports("sw-a p1 trunk none 10 20", "sw-b p1 trunk none 10 20", "sw-a p2 access 10", "sw-b p2 access 10"),
    "hosts": hosts("a 10.0.0.1/24 none sw-a p2", "b 10.0.0.2/24 none sw-b p2"),
}


class Case(unittest.TestCase):
    def echo(self, network, one="a", two="b"):
        found = network.stations.hosts
        return Forwarding(network).echo(found[one], found[two])

    def verdict(self, **tables):
        return self.echo(network_of(**(TWO | tables)))


class Links(Case):
    def links(self, **tables):
        answer = map_network(network_of(**tables))
        found = [(f"{x.a.device} {x.a.port}", f"{x.b.device} {x.b.port}", x.seen_from, x.state) for x in answer.links]
        return found, [(entry.why, entry.device, entry.port) for entry in answer.loose]

    def test_told_from_both_ends_or_one(self):
        rows = "device|port|neighbor|neighbor_port\nsw-a|p1|sw-b|p2\nsw-b|p2|sw-a|p1\nsw-a|p3|sw-b|p4"
        listed = ports("sw-a p1 access 1", "sw-a p3 access 1", "sw-b p2 access 1", "sw-b p4 access 1")
        links, loose = self.links(neighbors=rows, ports=listed)
        self.assertEqual(links, [("sw-a p1", "sw-b p2", ("a", "b"), "up"), ("sw-a p3", "sw-b p4", ("a",), "up")])
        self.assertEqual(loose, [])

    def test_no_link_is_made_where_the_ends_disagree(self):
        rows = "device|port|neighbor|neighbor_port\nsw-a|p1|sw-b|p1\nsw-b|p1|sw-c|p1\nsw-c|p1|sw-b|p1"
        listed = ports("sw-a p1 access 1", "sw-b p1 access 1", "sw-c p1 access 1")
        links, loose = self.links(neighbors=rows, ports=listed)
        self.assertEqual(links, [("sw-b p1", "sw-c p1", ("a", "b"), "up")])
        self.assertEqual(loose, [("conflict", "sw-a", "p1")])

    def test_names_agree_by_evidence(self):
        devices = "device|chassis\nsw-a|02:00:00:00:00:aa\nsw-b|02:00:00:00:00:bb"
        listed = (
            "device|port|mac|aliases|admin|oper\nsw-a|port1|02:00:00:00:0a:01||up|up\nsw-b|port1|02:00:00:00:0b:01||up|up\n"
            "sw-b|port10|02:00:00:00:0b:10|to-cellar|up|up\nsw-a|port2|||up|up"
        )
        rows = (
            "device|port|neighbor|neighbor_chassis|neighbor_port|neighbor_port_description\n"
            "sw-a|port1|old-name|0200.0000.00bb|0200.0000.0b10|\n"  # renamed, known by chassis; port by MAC address
            "SW-B|por10|SW-A||po1|\n"  # another case, short forms
            "sw-a|port2|nobody|02:00:00:00:00:cc|x|\n"
        )
        links, loose = self.links(devices=devices, ports=listed, neighbors=rows)
        beyond = ("sw-a port2", "nobody x", ("a",), "up")  # it was not surveyed, and stands in the map all the same
        self.assertEqual(links, [("sw-a port1", "sw-b port10", ("a", "b"), "up"), beyond])
        self.assertEqual(loose, [])

    def test_loops_parallel_links_and_aggregates(self):
        rows = cabled("sw-a p1 sw-a p2", "sw-a p3 sw-b p3", "sw-a p4 sw-b p4")
        listed = (
            "device|port|admin|oper|lag|mode|pvid\nsw-a|p1|up|up|||\nsw-a|p2|up|up|||\nsw-a|p3|up|up|bond1||\n"
            "sw-a|p4|up|up|bond1||\nsw-a|bond1|up|up||access|5\nsw-b|p3|up|up|bond1||\nsw-b|p4|up|down|bond1||\n"
            "sw-b|bond1|up|up||access|5\nsw-a|p9|up|up||access|5\nsw-b|p9|up|up||access|5"
        )
        network = network_of(
            neighbors=rows, ports=listed, hosts=hosts("a 10.0.0.1/24 none sw-a p9", "b 10.0.0.2/24 none sw-b p9")
        )
        bundle, loop = map_network(network).links
        self.assertEqual((loop.a.port, loop.b.port, loop.state, loop.members), ("p1", "p2", "up", ()))
        self.assertEqual(
            (bundle.a.port, bundle.b.port, bundle.state, bundle.seen_from), ("bond1", "bond1", "up", ("a", "b"))
        )
        self.assertEqual([(m.a, m.b, m.state) for m in bundle.members], [("p3", "p3", "up"), ("p4", "p4", "down")])
        self.assertIs(self.echo(network), True)

    def test_a_silent_cable_is_known_by_both_descriptions(self):
        listed = (
            "device|port|description|admin|oper\nsw-a|p1|to sw-b p1|down|down\nsw-b|p1|to sw-a p1|up|down\n"
            "sw-a|p2|to sw-b p2|up|up\nsw-b|p2|spare|up|up"
        )
        links, _ = self.links(ports=listed)
        self.assertEqual(links, [("sw-a p1", "sw-b p1", (), "down")])


class Segments(Case):
    def test_access_and_trunk(self):
        self.assertIs(self.verdict(), True)
        for change, verdict in [
            ({"sw-b p1 trunk none 10 20": "sw-b p1 trunk none 20"}, False),
            ({"sw-b p1 trunk none 10 20": "sw-b p1 trunk none all"}, True),
            ({"sw-b p1 trunk none 10 20": "sw-b p1 access 10"}, False),  # tagged frames are dropped
            ({"sw-a p1 trunk none 10 20": "sw-a p1 trunk 10 10 20"}, False),  # untagged, and dropped at the far end
            (
                {"sw-a p1 trunk none 10 20": "sw-a p1 trunk 10 10 20", "sw-b p1 trunk none 10 20": "sw-b p1 access 10"},
                True,
            ),
            ({"sw-b p2 access 10": "sw-b p2 access none"}, False),
            ({"sw-b p2 access 10": "sw-b p2 trunk 10 10 20"}, True),  # the host hears the native VLAN
            ({"sw-b p2 access 10": "sw-b p2 trunk 10 20"}, False),  # a native VLAN that is not carried
            ({"sw-b p2 access 10": "sw-b p2 routed none"}, False),
        ]:
            rows = ["sw-a p1 trunk none 10 20", "sw-b p1 trunk none 10 20", "sw-a p2 access 10", "sw-b p2 access 10"]
            with self.subTest(change):
                self.assertIs(self.verdict(ports=ports(*[change.get(row, row) for row in rows])), verdict)

    def test_natives_that_differ_join_two_vlans(self):
        rows = ["sw-a p1 trunk 10 10 20", "sw-b p1 trunk 20 10 20", "sw-a p2 access 10", "sw-b p2 access 20"]
        network = network_of(**(TWO | {"ports": ports(*rows)}))
        self.assertIs(self.echo(network), True)
        self.assertEqual(set(network.fabric.flood(Node("sw-a", 10))), {("sw-a", 10), ("sw-b", 20)})
        self.assertIs(self.verdict(ports=ports(*rows[:3], "sw-b p2 access 10")), False)

    def test_one_way(self):
        """A hybrid end that sends VLAN 10 untagged, but puts what comes untagged into 20: one direction only."""
        rows = "device|port|admin|oper|mode|pvid|allowed|untagged\nsw-a|p1|up|up|hybrid|20|10 20|10 20\n"
        rows += "sw-b|p1|up|up|access|10||\nsw-a|p2|up|up|access|10||\nsw-b|p2|up|up|access|10||"
        network = network_of(**(TWO | {"ports": rows}))
        there = network.fabric.reaches(Node("sw-a", 10), Node("sw-b", 10))
        back = network.fabric.reaches(Node("sw-b", 10), Node("sw-a", 10))
        self.assertEqual((there, back, self.echo(network)), (True, False, False))

    def test_links_down(self):
        for column in ("admin", "oper"):
            with self.subTest(column):
                text = TWO["ports"].replace("sw-b|p1|up|up", f"sw-b|p1|{'down' if column == 'admin' else 'up'}|down")
                self.assertIs(self.verdict(ports=text), False)
        self.assertIs(self.verdict(hosts=TWO["hosts"].replace("sw-b|p2|up", "sw-b|p2|down")), False)

    def test_vlans_that_do_not_exist_or_are_suspended(self):
        for rows, verdict in [
            ("sw-b|10|active\nsw-b|20|active", True),
            ("sw-b|20|active", False),
            ("sw-b|10|suspended", False),
            ("sw-b|10|", None),
            ("sw-a|10|active", True),
        ]:
            with self.subTest(rows):
                self.assertIs(self.verdict(vlans="device|vid|state\n" + rows), verdict)

    def test_tag_types(self):
        head, *rows = TWO["ports"].splitlines()
        for one, two, verdict in [("802.1ad", "", False), ("802.1ad", "802.1AD", True), ("802.1Q", "", True)]:
            marks = {"sw-a|p1": one, "sw-b|p1": two}
            text = "\n".join([head + "|tagging", *(row + "|" + marks.get(row[:7], "") for row in rows)])
            with self.subTest(one=one, two=two):
                self.assertIs(self.verdict(ports=text), verdict)

    def test_stations_a_port_admits(self):
        head, *rows = TWO["ports"].splitlines()
        for listed, limit, verdict in [
            ("02:00:00:00:00:02", "", True),
            ("02:00:00:00:00:09", "", False),
            ("02:00:00:00:00:09", "1", False),
            ("02:00:00:00:00:09", "2", True),
            ("none", "", True),
        ]:
            text = "\n".join([head + "|allowed_macs|mac_limit", *(
                row + (f"|{listed}|{limit}" if row.startswith("sw-b|p2") else "||") for row in rows)])  # fmt: skip
            with self.subTest(listed=listed, limit=limit):
                self.assertIs(self.verdict(ports=text), verdict)

    def test_a_host_that_tags(self):
        text = TWO["ports"].replace("sw-b|p2|up|up|access|10|", "sw-b|p2|up|up|trunk|none|10 20")
        tagging = (
            "host|address|gateway|device|port|link|vid\na|10.0.0.1/24|none|sw-a|p2|up|\nb|10.0.0.2/24|none|sw-b|p2|up|"
        )
        self.assertIs(self.verdict(ports=text, hosts=tagging + "10"), True)
        self.assertIs(self.verdict(ports=text, hosts=tagging + "20"), False)
        self.assertIs(self.verdict(ports=text), False)


class SpanningTree(Case):
    RING = cabled("sw-a p1 sw-b p1", "sw-a p3 sw-b p3")
    PORTS = ports(
        *[f"sw-{x} p{n} trunk none 10" for x in "ab" for n in (1, 3)], "sw-a p2 access 10", "sw-b p2 access 10"
    )
    TREES = (
        "device|instance|protocol|priority|address\n"
        "sw-a|0|rstp|4096|02:00:00:00:00:0a\nsw-b|0|rstp|32768|02:00:00:00:00:0b"
    )
    STATES = "device|port|instance|role|state|cost|priority|number\n"

    def test_observed_states_are_used(self):
        for blocked, verdict in [("p3", True), ("p1 p3", False)]:
            states = self.STATES
            for device in "ab":
                for port in ("p1", "p2", "p3"):
                    state = "discarding" if device == "b" and port in blocked.split() else "forwarding"
                    states += f"sw-{device}|{port}|0|designated|{state}|20000|128|{port[1]}\n"
            with self.subTest(blocked):
                tables = {"neighbors": self.RING, "ports": self.PORTS, "trees": self.TREES, "tree_ports": states}
                self.assertIs(self.verdict(**tables), verdict)

    def test_what_was_not_observed_is_computed_or_unknown(self):
        """Of two parallel links the one with the lower port number stays open; without it a VLAN is cut off."""
        states = self.STATES + "".join(f"sw-{x}|p{n}|0|||20000|128|{n}\n" for x in "ab" for n in (1, 2, 3))
        only_3 = self.PORTS.replace("sw-a|p1|up|up|trunk|none|10", "sw-a|p1|up|up|trunk|none|20")
        tables = {"neighbors": self.RING, "ports": self.PORTS, "trees": self.TREES, "tree_ports": states}
        self.assertIs(self.verdict(**tables), True)
        self.assertIs(self.verdict(**tables | {"ports": only_3}), False)
        found = why(network_of(**TWO | tables | {"ports": only_3}), "a", "b")
        self.assertTrue(found.repair_proven)
        self.assertIs(self.verdict(neighbors=self.RING, ports=self.PORTS), None)
        self.assertIs(self.verdict(**tables | {"tree_ports": states.replace("|20000|", "||")}), None)
        self.assertIs(self.verdict(**tables | {"trees": "device|instance|protocol\nsw-a|0|off\nsw-b|0|off"}), True)

    def test_a_tree_for_each_vlan(self):
        trees = "device|instance|protocol\n" + "".join(f"sw-{x}|{v}|per-vlan\n" for x in "ab" for v in (10, 20))
        both = self.PORTS.replace("none|10", "none|10 20")
        states = self.STATES
        for vid, blocked in ((10, "p1"), (20, "p3")):
            for device in "ab":
                for port in ("p1", "p3"):
                    state = "discarding" if device == "b" and port == blocked else "forwarding"
                    states += f"sw-{device}|{port}|{vid}||{state}|||\n"
        network = network_of(**TWO | {"neighbors": self.RING, "ports": both, "trees": trees, "tree_ports": states})
        path = why(network, "a", "b").path
        self.assertEqual([hop.leaves for hop in path if hop.name == "sw-a"], ["p3"])


class Routed(Case):
    """Gateways of all three kinds, on one switch with one router."""

    TABLES: ClassVar = {
        "devices": "device|routing\nsw|yes\nr|yes",
        "neighbors": cabled("sw p9 r e1", "sw p8 r e2"),
        "ports": ports(
            "sw p1 access 10", "sw p2 access 20", "sw p3 access 30", "sw p4 access 40", "sw p9 trunk none 20 40",
            "sw p8 access 30", "r e1 routed none", "r e2 routed none",
        ),
        "gateways": "device|interface|address|vid|port|admin|oper|proxy_arp\n"
        "sw|vlan10|10.0.10.1/24|10||up|up|no\nsw|vlan40|10.0.40.1/24|40||up|up|no\n"
        "r|e1.20|10.0.20.1/24|20|e1|up|up|no\nr|e1.40|10.0.40.2/24|40|e1|up|up|no\nr|e2|10.0.30.1/24||e2|up|up|no",
        "routes": "device|prefix|next_hop\nsw|10.0.20.0/24|10.0.40.2\nsw|10.0.30.0/24|10.0.40.2\nr|0.0.0.0/0|10.0.40.1",
        "hosts": hosts(
            "a 10.0.10.5/24 10.0.10.1 sw p1", "b 10.0.20.5/24 10.0.20.1 sw p2", "c 10.0.30.5/24 10.0.30.1 sw p3"
        ),
    }  # fmt: skip

    def both(self, **tables):
        network = network_of(**(self.TABLES | tables))
        return [self.echo(network, *pair) for pair in (("a", "b"), ("a", "c"), ("b", "c"))]

    def edited(self, table, old, new):
        self.assertIn(old, self.TABLES[table])
        return self.both(**{table: self.TABLES[table].replace(old, new)})

    def test_every_kind_of_gateway(self):
        self.assertEqual(self.both(), [True, True, True])

    def test_what_stops_a_packet(self):
        for table, old, new, expected in [
            ("devices", "r|yes", "r|no", [False, False, False]),
            ("devices", "sw|yes", "sw|no", [False, False, True]),
            ("devices", "r|yes", "r|", [None, None, None]),
            ("gateways", "e1.20|10.0.20.1/24|20|e1|up|up", "e1.20|10.0.20.1/24|20|e1|down|down", [False, True, False]),
            ("gateways", "e1.20|10.0.20.1/24|20|e1|up|up", "e1.20|10.0.20.1/24|20|e1||", [None, True, None]),
            ("gateways", "e1.20|10.0.20.1/24|20", "e1.20|10.0.20.1/24|21", [False, True, False]),
            ("ports", "sw|p9|up|up|trunk|none|20 40", "sw|p9|up|up|access|20|", [False, False, False]),
            ("ports", "sw|p8|up|up", "sw|p8|down|down", [True, False, False]),
            ("ports", "sw|p8|up|up|access|30", "sw|p8|up|up|access|10", [True, False, False]),
            ("routes", "sw|10.0.30.0/24|10.0.40.2", "sw|10.0.99.0/24|10.0.40.2", [True, False, True]),
            ("routes", "sw|10.0.30.0/24|10.0.40.2", "sw|10.0.30.0/24|10.0.40.9", [True, False, True]),
            ("routes", "r|0.0.0.0/0", "r|10.0.10.0/25", [True, True, True]),
            ("routes", "r|0.0.0.0/0", "r|10.0.10.128/25", [False, False, True]),
            ("hosts", "b|02:00:00:00:00:02|10.0.20.5/24|10.0.20.1", "b|02:00:00:00:00:02|10.0.20.5/24|none",
             [False, True, False]),
            ("hosts", "10.0.20.5/24|10.0.20.1", "10.0.20.5/24|10.0.21.1", [False, True, False]),
            ("hosts", "10.0.20.5/24|10.0.20.1", "10.0.20.5/24|10.0.20.9", [False, True, False]),
            ("hosts", "10.0.20.5/24|10.0.20.1", "10.0.20.5/24|", [None, True, None]),
            ("hosts", "10.0.20.5/24", "none", [False, True, False]),
            ("hosts", "10.0.20.5/24", "", [None, True, None]),
            ("hosts", "10.0.20.5/24", "10.0.20.5/16", [False, True, False]),  # asks for 10.0.10.5 on its own wire
            ("hosts", "10.0.20.5/24", "10.0.20.5/30", [False, True, False]),  # does not see its gateway
            ("hosts", "10.0.20.5/24", "10.0.20.5/29", [True, True, True]),
        ]:  # fmt: skip
            with self.subTest(table=table, new=new):
                self.assertEqual(self.edited(table, old, new), expected)

    def test_proxy_arp(self):
        wide = self.TABLES["hosts"].replace("10.0.10.5/24", "10.0.10.5/16")
        proxied = self.TABLES["gateways"].replace(
            "vlan10|10.0.10.1/24|10||up|up|no", "vlan10|10.0.10.1/24|10||up|up|yes"
        )
        self.assertEqual(self.both(hosts=wide), [False, False, True])
        self.assertEqual(self.both(hosts=wide, gateways=proxied), [True, True, True])
        self.assertEqual(self.both(hosts=wide, gateways=proxied.replace("yes", "")), [None, None, True])
        answer = why(network_of(**self.TABLES | {"hosts": wide, "gateways": proxied}), "a", "b")
        self.assertEqual((answer.verdict, [f.rule for f in answer.findings]), ("works", ["proxy-arp-hides"]))

    def test_nobody_sends_to_a_broadcast_address(self):
        last = self.TABLES["hosts"].replace("10.0.20.5/24", "10.0.20.127/24")
        self.assertEqual(self.both(hosts=last), [True, True, True])
        narrow = self.TABLES["gateways"].replace("10.0.20.1/24", "10.0.20.1/25")
        self.assertEqual(self.both(hosts=last, gateways=narrow), [False, True, False])

    def test_routing_tables_are_apart(self):
        text = self.TABLES["gateways"].replace("proxy_arp\n", "proxy_arp|table\n")
        rows = text.splitlines()
        tabled = [rows[0], *(row + ("|red" if row.startswith("r|e2") else "|") for row in rows[1:])]
        self.assertEqual(self.both(gateways="\n".join(tabled)), [True, False, False])

    def test_packets_that_go_round(self):
        routes = "device|prefix|next_hop\nsw|0.0.0.0/0|10.0.40.2\nr|0.0.0.0/0|10.0.40.1"
        lost = self.TABLES["gateways"].replace("r|e2|10.0.30.1/24", "r|e2|10.0.31.1/24")
        answer = why(network_of(**self.TABLES | {"routes": routes, "gateways": lost}), "a", "c")
        self.assertEqual(answer.verdict, "fails")
        self.assertIn("goes round", answer.stopped)

    def test_ipv6(self):
        six = {
            "gateways": "device|interface|address|vid|admin|oper\nsw|vlan10|2001:db8:10::1/64|10|up|up\n"
            "sw|vlan10|fe80::1/64|10|up|up\nsw|vlan20|2001:db8:20::1/64|20|up|up",
            "routes": "device|prefix\n",
            "hosts": hosts(
                "a 2001:db8:10::5/64 2001:db8:10::1 sw p1",
                "b 2001:DB8:20:0::5/64 2001:db8:20::1 sw p2",
                "c 2001:db8:10::6/64 fe80::1 sw p1",
                "d 10.0.10.6/24 none sw p1",
            ),
        }
        network = network_of(**self.TABLES | six)
        self.assertEqual(
            [self.echo(network, *pair) for pair in (("a", "b"), ("b", "c"), ("a", "c"), ("a", "d"))],
            [True, True, True, False],
        )


class Unknown(Case):
    def test_each_missing_fact_is_named(self):
        head, *rows = TWO["ports"].splitlines()
        for row, column, position in [
            ("sw-b|p2", "pvid", 5),
            ("sw-b|p1", "allowed", 6),
            ("sw-b|p1", "mode", 4),
            ("sw-a|p1", "pvid", 5),
        ]:
            cells = [line.split("|") for line in rows]
            for line in cells:
                if "|".join(line[:2]) == row:
                    line[position] = ""
            text = "\n".join([head, *("|".join(line) for line in cells)])
            answer = why(network_of(**TWO | {"ports": text}), "a", "b")
            with self.subTest(row=row, column=column):
                self.assertEqual(answer.verdict, "unknown")
                device, port = row.split("|")
                self.assertIn((device, port, column), [(*fact.key.values(), fact.column) for fact in answer.observe])

    def test_a_cable_of_which_one_end_was_seen_up_is_up(self):
        one = TWO["ports"].replace("sw-b|p1|up|up", "sw-b|p1||")
        self.assertIs(self.verdict(ports=one), True)
        self.assertIs(self.verdict(ports=one.replace("sw-a|p1|up|up", "sw-a|p1|up|")), None)

    def test_a_host_is_found_by_its_mac_address(self):
        rows = TWO["hosts"].replace("sw-b|p2|up", "||")
        learned = "device|vid|mac|port|kind\nsw-a|10|02:00:00:00:00:02|p1|learned\nsw-b|10|02:00:00:00:00:02|p2|learned"
        self.assertIs(self.verdict(hosts=rows), None)
        self.assertIs(self.verdict(hosts=rows, macs=learned), True)
        twice = learned + "\nsw-a|20|02:00:00:00:00:02|p2|learned"
        self.assertIs(self.verdict(hosts=rows, macs=twice), None)

    def test_a_switch_that_nobody_surveyed_may_let_frames_through(self):
        rows = "device|port|neighbor|neighbor_port|capabilities\nsw-a|p1|cellar|x1|\nsw-b|p1|Cellar|x2|"
        network = network_of(**TWO | {"neighbors": rows})
        answer = why(network, "a", "b")
        self.assertEqual(answer.verdict, "unknown")
        self.assertIn(("devices", {"device": "cellar"}), [(fact.table, fact.key) for fact in answer.observe])
        self.assertIs(self.verdict(neighbors=rows.replace("x2|", "x2|phone").replace("x1|", "x1|phone")), False)
        self.assertIs(self.verdict(neighbors=rows.replace("Cellar", "attic")), None)  # the two may be cabled

    def test_two_answers_that_lead_apart(self):
        network = network_of(
            **TWO
            | {"hosts": hosts("a 10.0.0.1/24 none sw-a p2", "b 10.0.0.2/24 none sw-b p2", "c 10.0.0.2/24 none sw-a p2")}
        )
        answer = why(network, "a", "b")
        self.assertEqual((answer.verdict, [f.rule for f in answer.findings]), ("unknown", ["host-address-duplicate"]))
        self.assertEqual([(fact.table, fact.column) for fact in answer.observe], [("arp", "mac")])

    def test_no_hosts_at_all(self):
        self.assertEqual(matrix(network_of(ports=TWO["ports"])).reaches, ())


if __name__ == "__main__":
    unittest.main()
