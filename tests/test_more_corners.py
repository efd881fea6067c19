"""Corners of views, of what is counted and what is told: each with what it should be."""

import tempfile
import unittest
from itertools import pairwise
from pathlib import Path

from crossthread import (
    Change,
    Network,
    Survey,
    SurveyError,
    apply_changes,
    check,
    map_network,
    matrix,
    port,
    why,
    why_steps,
)
from crossthread.demo import healthy
from crossthread.diagnosis.caution import dares
from crossthread.diagnosis.context import Context
from crossthread.errors import UnknownNameError
from crossthread.plan import Plan
from crossthread.survey import Info
from crossthread.survey.reading import read_survey
from crossthread.survey.records import READ_IN_FULL
from crossthread.views.tree import instance_of
from tests.building import hosts, ports, survey_of
from tests.test_corners import KNOWN, access, cable, gateway, host, named, trunk


def line(count, known=KNOWN, **more):
    """Switches in a row with VLAN 7, and a host at each end."""
    names = [f"sw-{n}" for n in range(count)]
    ports = [access(names[0], "p1"), access(names[-1], "p1")]
    cables = []
    for one, two in pairwise(names):
        ports += [trunk(one, "up"), trunk(two, "down")]
        cables += cable(one, "up", two, "down")
    return Survey.of(
        known, devices=[{"device": n, "capabilities": "bridge"} for n in names], ports=ports, neighbors=cables,
        hosts=[host("a", "10.9.7.1/24", names[0], "p1"), host("b", "10.9.7.2/24", names[-1], "p1")], **more,
    )  # fmt: skip


class Maps(unittest.TestCase):
    def test_a_bundle_of_one_device_with_itself_pairs_its_members_the_right_way_round(self):
        ends = [("b1", "m1"), ("b1", "m2"), ("b2", "m3"), ("b2", "m4")]
        ports = [trunk("sw", "b1"), trunk("sw", "b2"), *(trunk("sw", port, lag=lag) for lag, port in ends)]
        survey = Survey.of(
            KNOWN,
            devices=[{"device": "sw", "capabilities": "bridge"}],
            ports=ports,
            neighbors=cable("sw", "m3", "sw", "m1") + cable("sw", "m2", "sw", "m4"),
        )
        (link,) = map_network(survey).links
        self.assertEqual({(one.a, one.b) for one in link.members}, {("m1", "m3"), ("m2", "m4")})
        self.assertEqual((link.a.port, link.b.port, link.seen_from), ("b1", "b2", ("a", "b")))

    def test_a_bundle_between_two_devices_is_told_from_the_first(self):
        ports = [trunk(d, p, lag=lag) for d in ("sw-a", "sw-b") for p, lag in (("m1", "b"), ("m2", "b"))]
        ports += [trunk("sw-a", "b"), trunk("sw-b", "b")]
        heard = cable("sw-b", "m2", "sw-a", "m1")[:1]
        survey = Survey.of(KNOWN, ports=ports, neighbors=heard, devices=[{"device": d} for d in ("sw-a", "sw-b")])
        (link,) = map_network(survey).links
        self.assertEqual([(one.a, one.b) for one in link.members], [("m1", "m2")])
        self.assertEqual(link.seen_from, ("b",))


class Caveats(unittest.TestCase):
    def test_what_is_taken_as_usual_on_the_way_is_told(self):
        self.assertEqual(why(line(2), "a", "b").caveats, ())
        vlans = "which VLANs exist was not read of {}: one that is missing or suspended there is dropped"
        trees = "the ports' states in the spanning tree were not read of {}: a guard may hold one closed"
        named = [name for name in READ_IN_FULL if name not in ("vlans", "tree_ports")]
        for count, whose in ((2, "sw-0, sw-1"), (5, "sw-0, sw-1, sw-2, sw-3 and 1 more")):
            unread = line(count, Info(complete=tuple(named)))
            self.assertEqual(why(unread, "a", "b").caveats, (vlans.format(whose), trees.format(whose)))
        listed = [{"device": f"sw-{n}", "vid": 7} for n in range(2)]
        off = [{"device": f"sw-{n}", "instance": 0, "protocol": "off"} for n in range(2)]
        told = line(2, Info(complete=tuple(named)), vlans=listed, trees=off)
        self.assertEqual(why(told, "a", "b").caveats, ())


class Addresses(unittest.TestCase):
    def told(self, *hosts, hop="none", **more):
        """What is said of the first two of some hosts at one switch: `name address VLAN`."""
        rows = [text.split() for text in hosts]
        survey = Survey.of(
            KNOWN,
            devices=[{"device": "sw", "capabilities": "bridge"}],
            ports=[access("sw", name, int(vid)) for name, _, vid in rows],
            hosts=[host(name, address, "sw", name, hop) for name, address, _ in rows],
            **more,
        )
        return why(survey, "a", "b")

    def test_two_hosts_never_get_one_address(self):
        others = [f"m{n} 10.9.7.{n}0/24 7" for n in (3, 4, 5)]
        answer = self.told("a 10.9.5.5/24 7", "b 10.9.6.6/24 7", *others, hop="10.9.7.1", gateways=[
            gateway("sw", "vlan7", "10.9.7.1/24", vid=7)])  # fmt: skip
        given = [change.cells["address"] for finding in answer.findings for change in finding.repair]
        self.assertEqual(given, ["10.9.7.2/24", "10.9.7.3/24"])

    def test_two_mates_in_two_vlans_among_others(self):
        """Either port may be the wrong one: neither host is renumbered into the subnet of those beside it."""
        others = [f"m{n} 10.9.7.{n}0/25 7" for n in (1, 2, 3, 4)]
        answer = self.told("a 10.9.5.55/28 7", "b 10.9.5.53/28 8", "c 10.9.7.99/25 8", *others)
        self.assertEqual(answer.confidence, "open")
        (finding,) = answer.findings
        moves = [[(c.table, c.key["port"], c.cells["pvid"]) for c in one.changes] for one in finding.alternatives[:2]]
        self.assertEqual(sorted(moves), [[("ports", "a", 8)], [("ports", "b", 7)]])


class Refused(unittest.TestCase):
    def test_a_bad_cell_among_many_rows_that_end_alike(self):
        rows = [f"sw,p{n},access,up,{'upp' if n == 33 else 'up'}" for n in range(60)]
        with tempfile.TemporaryDirectory() as folder:
            (Path(folder) / "survey.toml").write_text("format = 1\n")
            (Path(folder) / "ports.csv").write_text("\n".join(["device,port,mode,admin,oper", *rows]) + "\n")
            with self.assertRaises(SurveyError) as refused:
                read_survey(folder)
        self.assertEqual(
            list(map(str, refused.exception.problems)), ["ports.csv:35: oper “upp”: expected one of up, down"]
        )

    def test_a_row_that_is_no_object(self):
        with tempfile.TemporaryDirectory() as folder:
            place = Path(folder) / "yard.json"
            place.write_text('{"devices": [{"device": "sw"}, "x", {"device": "y"}]}')
            with self.assertRaises(SurveyError) as refused:
                read_survey(place)
        self.assertEqual(str(refused.exception), "yard.json:1: row 2 of devices: expected an object")

    def test_a_port_that_is_not_there_names_four_that_are(self):
        survey = Survey.of(KNOWN, ports=[access("sw", f"p{n}") for n in range(1, 7)])
        with self.assertRaisesRegex(UnknownNameError, "it has p1, p2, p3, p4 …$"):
            port(survey, "sw", "p9")

    def test_of_many_interfaces_that_nobody_uses_eight_are_named(self):
        down = [
            Change("gateways", {"device": "core-east", "interface": f"spare{n}", "address": f"172.31.{n}.1/24"},
                   {"admin": "down", "oper": "down", "vid": 900 + n}) for n in range(11)
        ]  # fmt: skip
        for some, end in ((down, "spare6, spare7 and 3 more."), (down[:8], "spare6, spare7.")):
            (told,) = [f for f in check(apply_changes(healthy(), some)).findings if f.rule == "gateway-down"]
            self.assertTrue(told.says.endswith(end), told.says)


class Routers(unittest.TestCase):
    def beside(self, **cells):
        """Two routers cabled to each other by tagged interfaces, and a switch with a host behind each."""
        ports = [access("sw-a", "p1"), access("sw-b", "p1", 8), trunk("sw-a", "up"), trunk("sw-b", "up", allowed="8")]
        ports += [{"device": r, "port": e, "admin": "up", "oper": "up"} for r in ("rt-a", "rt-b") for e in ("e1", "e2")]
        held = [("rt-a", "e1", 7, "10.9.7.254/24"), ("rt-b", "e1", 8, "10.9.8.254/24"),
                ("rt-a", "e2", 100, "10.9.100.1/30"), ("rt-b", "e2", 100, "10.9.100.2/30")]  # fmt: skip
        gateways = [
            {"device": d, "interface": f"{e}.{v}", "vid": v, "port": e, "untagged": "no", "address": a, "admin": "up",
             "oper": "up", "proxy_arp": "no", **(cells if (d, v) == ("rt-b", 100) else {})} for d, e, v, a in held
        ]  # fmt: skip
        static = {"origin": "static"}
        routes = [
            {"device": "rt-a", "prefix": "10.9.8.0/24", "next_hop": "10.9.100.2", **static},
            {"device": "rt-b", "prefix": "10.9.7.0/24", "next_hop": "10.9.100.1", **static},
        ]
        return Survey.of(
            KNOWN, ports=ports, gateways=gateways, routes=routes,
            devices=[*({"device": d, "capabilities": "bridge", "routing": "no"} for d in ("sw-a", "sw-b")),
                     *({"device": d, "capabilities": "router", "routing": "yes"} for d in ("rt-a", "rt-b"))],
            neighbors=[row for pair in (("sw-a", "up", "rt-a", "e1"), ("sw-b", "up", "rt-b", "e1"),
                                        ("rt-a", "e2", "rt-b", "e2")) for row in cable(*pair)],
            hosts=[{**host("a", "10.9.7.1/24", "sw-a", "p1"), "gateway": "10.9.7.254"},
                   {**host("b", "10.9.8.1/24", "sw-b", "p1"), "gateway": "10.9.8.254"}],
        )  # fmt: skip

    def test_they_hear_each_other_without_a_bridge_if_they_tag_alike(self):
        self.assertEqual([v for *_, v in matrix(self.beside()).reaches], ["works", "works"])
        other = self.beside(vid=101, interface="e2.101")
        self.assertNotIn("works", [v for *_, v in matrix(other).reaches])

    def test_an_interface_on_a_port_that_nobody_read_may_lead_anywhere(self):
        gone = [Change("ports", {"device": "rt-a", "port": "e2"}, delete=True)]
        gone += [
            Change("neighbors", {"device": a, "port": "e2", "neighbor": b, "neighbor_port": "e2"}, delete=True)
            for a, b in (("rt-a", "rt-b"), ("rt-b", "rt-a"))
        ]
        unread = [
            Change("coverage", {"device": "rt-a", "table": name}, {"complete": "no"}) for name in ("ports", "neighbors")
        ]
        self.assertEqual([v for *_, v in matrix(apply_changes(self.beside(), gone)).reaches], ["fails", "fails"])
        half = apply_changes(self.beside(), [*gone, *unread])
        self.assertEqual([v for *_, v in matrix(half).reaches], ["unknown", "unknown"])


class Counted(unittest.TestCase):
    def test_what_is_heard_in_many_places_names_three_and_counts_the_rest(self):
        for count, places in (
            (3, "sw p1, sw p2, sw p3, gives"),
            (4, "sw p1, sw p2, sw p3 and 1 more, gives"),
            (6, "sw p1, sw p2, sw p3 and 3 more, gives"),
        ):
            heard = [
                {"device": "sw", "port": f"p{n}", "neighbor": "silent", "management": "none"}
                for n in range(1, count + 1)
            ]
            survey = Survey.of(KNOWN, devices=[{"device": "sw"}, {"device": "silent"}], neighbors=heard,
                               ports=[trunk("sw", f"p{n}") for n in range(1, count + 1)])  # fmt: skip
            (found,) = named(survey, "neighbor-no-address")
            self.assertIn(places, found.says)

    def test_a_detour_names_the_worst_three_and_counts_the_rest(self):
        """A ring of twelve whose root is opposite the gateway: all on the wrong side go the long way round."""
        names = [f"sw-{n}" for n in range(12)]
        ports, cables, trees, parts = [], [], [], []
        for at, name in enumerate(names):
            ports += [trunk(name, "left"), trunk(name, "right")]
            cables += cable(name, "right", names[(at + 1) % 12], "left")
            trees.append({"device": name, "instance": 0, "protocol": "rstp", "priority": 4096 if at == 5 else 32768,
                          "address": f"02:00:00:00:00:0{at:x}"})  # fmt: skip
            parts += [
                {"device": name, "port": port, "instance": 0, "cost": 2000, "priority": 128, "number": number}
                for number, port in enumerate(("left", "right"), 1)
            ]
        survey = Survey.of(
            KNOWN, devices=[{"device": n, "capabilities": "bridge router", "routing": "yes"} for n in names],
            ports=[*ports, *(access(n, "p1") for n in names)], neighbors=cables, trees=trees, tree_ports=parts,
            gateways=[gateway("sw-0", "vlan7", "10.9.7.254/24", vid=7)],
            hosts=[host(f"h{n}", f"10.9.7.{n + 1}/24", name, "p1", "10.9.7.254") for n, name in enumerate(names)],
        )  # fmt: skip
        (found,) = named(survey, "tree-detour")
        ways = {s.device for s in found.subjects if s.device}
        self.assertGreater(len(ways), 3)
        self.assertIn(f"and {len(ways) - 3} more.", found.says)
        self.assertEqual(sum(f"{name} (" in found.says for name in ways), 3)


class Judged(unittest.TestCase):
    def test_a_tree_is_moved_only_where_all_of_it_is_known(self):
        cost = Change("tree_ports", {"device": "sw-0", "port": "up", "instance": 0}, {"cost": 20})
        edge = Change("tree_ports", {"device": "sw-0", "port": "up", "instance": 0}, {"edge": "no"})
        known, half = line(2), line(3)
        half = apply_changes(half, [Change("neighbors", {"device": "sw-1", "port": "up"}, delete=True)])
        half = Survey.of(
            Info(complete=READ_IN_FULL),
            devices=[{"device": "sw-0"}],
            ports=[trunk("sw-0", "up")],
            neighbors=[{"device": "sw-0", "port": "up", "neighbor": "elsewhere", "capabilities": "bridge"}],
        )
        for survey, change, dared in ((known, cost, False), (half, cost, True), (half, edge, False)):
            self.assertIs(dares(Context(Network(survey), Plan()), change), dared)

    def test_an_interface_that_nobody_uses_may_be_shut(self):
        idle = gateway("sw-0", "vlan7", "10.9.7.254/24", vid=7) | {"admin": "down", "oper": "down"}
        used = line(2, gateways=[idle])
        self.assertEqual(len(named(used, "gateway-admin-down")), 1)
        unused = line(2, gateways=[idle | {"address": "10.9.8.254/24"}])
        self.assertEqual(named(unused, "gateway-admin-down"), [])

    def test_a_vlan_that_no_tree_serves_has_none(self):
        bridges = [{"device": f"sw-{n}", "instance": 0, "protocol": "rstp", "priority": 4096 * (n + 1),
                    "address": f"02:00:00:00:00:0{n}"} for n in range(2)]  # fmt: skip
        self.assertEqual(instance_of(Network(line(2, trees=bridges)), 7), 0)
        with self.assertRaises(UnknownNameError):
            instance_of(Network(line(2, trees=[{**row, "instance": 1, "vlans": "20"} for row in bridges])), 7)


class Walked(unittest.TestCase):
    def routed(self):
        """Three subnets in a row: a - r1 - r2 - b."""
        rows = [
            gateway("r1", "e1", "10.9.1.1/24", port="e1", filter_in="none", filter_out="none"),
            gateway("r1", "e2", "10.9.2.1/24", port="e2", filter_in="none", filter_out="none"),
            gateway("r2", "e2", "10.9.2.2/24", port="e2", filter_in="none", filter_out="none"),
            gateway("r2", "e3", "10.9.3.1/24", port="e3", filter_in="none", filter_out="none"),
        ]
        routes = [
            {"device": "r1", "prefix": "10.9.3.0/24", "next_hop": "10.9.2.2"},
            {"device": "r2", "prefix": "10.9.1.0/24", "next_hop": "10.9.2.1"},
        ]
        ports = [
            {"device": d, "port": p, "admin": "up", "oper": "up", "mode": "routed"}
            for d, p in (("r1", "e1"), ("r1", "e2"), ("r2", "e2"), ("r2", "e3"))
        ]
        ports += [access(d, p) for d in ("s1", "s3") for p in ("p1", "p2", "p9")]
        wires = cable("s1", "p9", "r1", "e1") + cable("r1", "e2", "r2", "e2") + cable("s3", "p9", "r2", "e3")
        return Survey.of(
            KNOWN, devices=[{"device": d, "capabilities": "router", "routing": "yes"} for d in ("r1", "r2")]
            + [{"device": d, "capabilities": "bridge"} for d in ("s1", "s3")],
            ports=ports, neighbors=wires, gateways=rows, routes=routes,
            hosts=[host("a", "10.9.1.10/24", "s1", "p1", "10.9.1.1"),
                   host("b", "10.9.3.10/24", "s3", "p1", "10.9.3.1")],
        )  # fmt: skip

    def test_the_ladder_names_the_nearest_and_the_farthest_gateway(self):
        steps = why_steps(self.routed(), "a", "b")
        self.assertEqual({rung.verdict for rung in (*steps.there, *steps.back)}, {"works"})
        told = [(rung.what, rung.name, rung.address) for rung in steps.there]
        self.assertEqual(told, [
            ("own gateway", "r1 e1", "10.9.1.1"), ("gateway's other leg", "r1 e2", "10.9.2.1"),
            ("far gateway", "r2 e2", "10.9.2.2"), ("far gateway", "r2 e3", "10.9.3.1"), ("far end", "b", "10.9.3.10"),
        ])  # fmt: skip

    def test_what_a_stateful_filter_lets_back_counts_for_what_is_told_of_everybody(self):
        survey = apply_changes(self.routed(), [
            Change("gateways", {"device": "r1", "interface": "e2", "address": "10.9.2.1/24"}, {"filter_in": "back"}),
            Change("filters", {"device": "r1", "filter": "back", "number": 10},
                   {"action": "accept", "state": "established"}),
            Change("filters", {"device": "r1", "filter": "back", "number": None}, {"otherwise": "drop"}),
        ])  # fmt: skip
        said = {(a, b): verdict for a, b, verdict in matrix(survey).reaches}
        self.assertEqual(said, {("a", "b"): "works", ("b", "a"): "fails"})
        self.assertEqual([f.rule for f in why(survey, "b", "a").findings], ["filter-drops"])
        self.assertEqual([f.says for f in check(survey).findings if f.rule == "filter-drops"], [])


class Families(unittest.TestCase):
    def test_of_two_families_the_worse_verdict_leads(self):
        survey = healthy()
        one, two = survey.hosts[0], survey.hosts[1]
        apart = apply_changes(
            survey,
            [
                Change("hosts", {"host": row.host}, {"address": f"{row.address} fd09:{n}::1/64"})
                for n, row in enumerate((one, two), 1)
            ],
        )
        answer = why(apart, one.host, two.host)
        self.assertEqual([(f.version, f.verdict) for f in answer.families], [(4, "works"), (6, "fails")])
        self.assertEqual(answer.verdict, "fails")
        self.assertIn("has no gateway for fd09:2::1", answer.stopped)
        asked = [hop.asks_for for hop in (*answer.path, *answer.path_back) if hop.asks_for]
        self.assertEqual([ip for ip in asked if "." in ip], [], "the way that is shown is that of the worse one")


class Tables(unittest.TestCase):
    def test_one_short_row_among_quoted_ones_is_named_and_no_other(self):
        with tempfile.TemporaryDirectory() as folder:
            place = Path(folder)
            (place / "survey.toml").write_text("format = 1\n")
            (place / "devices.csv").write_text('device,platform\nkeel,"a, b"\nloft\nbow,"c"\n')
            with self.assertRaisesRegex(Exception, r"devices\.csv:3: 1 cells") as caught:
                read_survey(place)
            self.assertNotIn("devices.csv:4", str(caught.exception))


class LinkLocal(unittest.TestCase):
    def test_who_lacks_a_gateway_gets_the_link_local_one_of_its_own_vlan_as_its_peers_have(self):
        survey = survey_of(
            devices="device|capabilities|routing|routing6\nkeel|bridge router|yes|yes",
            ports=ports("keel p1 access 10", "keel p2 access 10", "keel p3 access 20", "keel p4 access 10"),
            gateways="device|interface|address|vid|admin|oper|proxy_arp\n" + "\n".join(
                f"keel|vlan{vid}|{ip}{vid}/64|{vid}|up|up|no" for vid in (20, 10)
                for ip in (f"fd00:{vid}::", "fe80::")
            ),
            hosts=hosts("a fd00:10::a/64 fe80::10 keel p1", "b fd00:10::b/64 fe80::10 keel p2",
                        "c fd00:20::c/64 fe80::20 keel p3", "lost fd00:10::d/64 none keel p4"),
        )  # fmt: skip
        answer = why(survey, "lost", "c")
        self.assertEqual(
            ([str(c) for c in answer.repair], answer.repair_proven), (["hosts lost: gateway = fe80::10"], True)
        )


if __name__ == "__main__":
    unittest.main()
