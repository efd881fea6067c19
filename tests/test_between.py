"""What stands between two hosts that are set right: filters, isolation, guards, bundles, phones, tunnels."""

import json
import tempfile
import unittest
from pathlib import Path

from crossthread import Change, Network, Survey, apply_changes, check, class_matrix, matrix, why
from crossthread.demo import healthy
from crossthread.faces.scripts.commands import as_commands
from crossthread.sources.gathering import gather
from tests.building import cabled, hosts, network_of, ports, survey_of
from tests.yard import at, yard


def made(survey, *changes):
    return apply_changes(survey, changes)


def row(table, **cells):
    """A row that is added: of its cells, those of the key are the first that the table has."""
    keys = {"filters": ("device", "filter", "number"), "tree_ports": ("device", "port", "instance"),
            "routes": ("device", "prefix", "next_hop"), "trees": ("device", "instance")}[table]  # fmt: skip
    return Change(table, {k: cells.pop(k, None) for k in keys}, cells)


def rules(answer):
    return [finding.rule for finding in answer.findings if finding.rule != "neighbor-no-address"]


class Yards(unittest.TestCase):
    def setUp(self):
        self.yard, self.ports = yard(), yard(style="ports")


class Filters(Yards):
    def behind(self, *entries, way="filter_in", name="g1.20"):
        gate = Change("gateways", {"device": "crane", "interface": name, "address": "10.9.20.1/24"}, {way: "tillside"})
        return made(self.yard, gate, *(row("filters", device="crane", filter="tillside", **e) for e in entries))

    def test_the_entry_that_drops_the_reply_is_named_and_nothing_is_opened(self):
        survey = self.behind(
            {"number": 10, "action": "accept", "protocol": "tcp"},
            {"number": 20, "action": "drop", "protocol": "icmp", "source": "10.9.20.0/24"},
            {"otherwise": "accept"},
        )
        answer = why(survey, "desk-loft-1", "till-keel-1")
        self.assertEqual((answer.verdict, rules(answer), answer.repair), ("fails", ["filter-drops"], ()))
        self.assertIn("tillside at crane g1.20 (in) drops the reply: entry 20", answer.findings[0].says)
        self.assertEqual(why(survey, "desk-loft-1", "desk-keel-1").verdict, "works")
        self.assertEqual([f.severity for f in check(survey).findings if f.rule == "filter-drops"], ["note"])

    def test_what_remembers_connections_lets_the_reply_pass(self):
        entries = [{"number": 10, "action": "accept", "state": "established"}, {"otherwise": "drop"}]
        survey = self.behind(*entries)
        self.assertEqual(why(survey, "desk-loft-1", "till-keel-1").verdict, "works")
        self.assertEqual(why(survey, "till-keel-1", "desk-loft-1").verdict, "fails")
        said = {(a, b): verdict for a, b, verdict in matrix(survey).reaches}
        self.assertEqual(said["desk-loft-1", "till-keel-1"], "works")
        self.assertEqual(said["till-keel-1", "desk-loft-1"], "fails")
        self.assertEqual(class_matrix(survey).pairs["fails"], list(said.values()).count("fails"))

    def test_a_reply_past_a_filter_that_has_not_seen_its_echo_is_unknown(self):
        """`keel` routes too: what desks send goes by it, and comes back by `crane`, whose filter remembers."""
        own = [
            Change(
                "gateways",
                {"device": "keel", "interface": f"vlan{vid}", "address": f"10.9.{vid}.2/24"},
                {"vid": vid, "admin": "up", "oper": "up", "filter_in": "none", "filter_out": "none"},
            )
            for vid in (10, 20)
        ]
        routes = Change("devices", {"device": "keel"}, {"routing": "yes", "capabilities": "bridge router"})
        away = Change("hosts", {"host": "desk-loft-1"}, {"gateway": "10.9.10.2"})
        for entries, verdict in (
            ([{"number": 10, "action": "accept", "state": "established"}, {"otherwise": "drop"}], "unknown"),
            ([{"number": 10, "action": "accept", "state": "new"}, {"otherwise": "drop"}], "unknown"),
            ([{"number": 10, "action": "accept", "protocol": "icmp"}, {"otherwise": "drop"}], "works"),
        ):
            survey = made(self.behind(*entries), *own, routes, away)
            self.assertEqual(why(survey, "desk-loft-1", "till-keel-1").verdict, verdict)

    def test_families_prefixes_and_ports_decide_what_an_entry_is_about(self):
        drop = {"number": 10, "action": "drop"}
        for entry, verdict in (
            ({"family": "6"}, "works"),
            ({"family": "4"}, "fails"),
            ({"destination": "10.9.10.99"}, "works"),
            ({"destination": "10.9.10.0/24"}, "fails"),
            ({"protocol": "udp"}, "works"),
            ({"protocol": "icmp", "source_port": "68"}, "works"),
            ({"protocol": "a protocol of tomorrow"}, "unknown"),
        ):
            with self.subTest(entry):
                survey = self.behind({**drop, **entry}, {"otherwise": "accept"})
                self.assertEqual(why(survey, "till-keel-1", "desk-loft-1").verdict, verdict)

    def test_a_filter_on_the_way_out_and_one_whose_entries_nobody_read(self):
        survey = self.behind({"otherwise": "reject"}, way="filter_out")
        self.assertEqual(rules(why(survey, "desk-loft-1", "till-keel-1")), ["filter-drops"])
        answer = why(self.behind(), "desk-loft-1", "till-keel-1")
        self.assertEqual((answer.verdict, answer.look[0].says), ("unknown", "read the packet filter tillside of crane"))

    def test_whether_a_filter_is_for_the_device_itself_differs_from_maker_to_maker(self):
        answer = why(self.behind({"otherwise": "drop"}), "till-keel-1", "crane")
        self.assertIn("tillside of crane is for what a device sends or takes itself", answer.look[0].says)
        self.assertIn("to crane g1.20; there a packet filter may drop it", answer.surely)
        self.assertIn("fails if it is", answer.turns)

    def test_hosts_that_a_filter_tells_apart_are_no_class(self):
        survey = self.behind({"number": 1, "action": "drop", "source": "10.9.20.22"}, {"otherwise": "accept"})
        pairs = [verdict for _, _, verdict in matrix(survey).reaches]
        self.assertEqual(class_matrix(survey).pairs["fails"], pairs.count("fails"))
        self.assertGreater(pairs.count("fails"), 0)

    def test_where_no_filter_was_read_every_tick_says_so(self):
        answer = why(self.yard, "desk-loft-1", "till-keel-1")
        self.assertIn("packet filters were not read at crane g1.10 and crane g1.20", answer.caveats[0])
        self.assertEqual(why(self.yard, "desk-loft-1", "desk-keel-1").caveats, ())
        read = [
            Change("gateways", {"device": "crane", "interface": f"g1.{v}", "address": f"10.9.{v}.1/24"},
                   {"filter_in": "none", "filter_out": "none"}) for v in (10, 20)
        ]  # fmt: skip
        self.assertEqual(why(made(self.yard, *read), "desk-loft-1", "till-keel-1").caveats, ())


RULES = """{"nftables": [{"metainfo": {"version": "1.0.6"}}, {"table": {"family": "inet", "name": "site"}},
 {"chain": {"family": "inet", "table": "site", "name": "way", "type": "filter", "hook": "forward", "policy": "accept"}},
 {"rule": {"family": "inet", "table": "site", "chain": "way", "expr": [
  {"match": {"op": "==", "left": {"meta": {"key": "iifname"}}, "right": "e10"}},
  {"match": {"op": "==", "left": {"payload": {"protocol": "ip", "field": "daddr"}},
   "right": {"set": ["10.9.20.9", {"prefix": {"addr": "10.9.30.0", "len": 24}}]}}},
  {"match": {"op": "==", "left": {"meta": {"key": "l4proto"}}, "right": "icmp"}},
  {"counter": {"packets": 0, "bytes": 0}}, {"reject": {"type": "icmp", "expr": "port-unreachable"}}]}},
 {"rule": {"family": "inet", "table": "site", "chain": "way", "expr": [
  {"match": {"op": "in", "left": {"ct": {"key": "state"}}, "right": ["established", "related"]}},
  {"accept": null}]}}, MORE
 {"rule": {"family": "inet", "table": "other", "chain": "way", "expr": [{"drop": null}]}}]}"""


class Gathered(unittest.TestCase):
    def filters(self, text):
        own = {vid: [{"local": f"10.9.{vid}.1", "prefixlen": 24, "scope": "global"}] for vid in (10, 20)}
        up = {"link_type": "ether", "flags": ["UP", "LOWER_UP"]}
        links = [{"ifname": f"e{vid}", "addr_info": held, **up} for vid, held in own.items()]
        with tempfile.TemporaryDirectory() as holder:
            folder = Path(holder) / "crane"
            folder.mkdir()
            (folder / "ip-addr.json").write_text(json.dumps(links))
            (folder / "rules.json").write_text(text)
            return gather([folder]).survey

    def test_simple_rules_are_read_in_full_and_each_interface_has_those_that_concern_it(self):
        survey = self.filters(RULES.replace("MORE", ""))
        self.assertEqual([row.filter_in for row in survey.gateways], ["site way in e10", "site way in e20"])
        rows = [
            (r.action or r.otherwise, r.protocol, r.destination, r.state)
            for r in survey.filters
            if r.filter == "site way in e10"
        ]
        self.assertEqual(rows, [("reject", "icmp", "10.9.20.9/32", None), ("reject", "icmp", "10.9.30.0/24", None),
                                ("accept", None, None, ("established",)), ("accept", None, None, None)])  # fmt: skip
        self.assertEqual(sum(r.filter == "site way in e20" for r in survey.filters), 2)
        self.assertEqual([row.complete for row in survey.coverage if row.table == "filters"], ["yes"])

    def test_what_is_not_understood_is_known_to_be_there(self):
        strange = '{"rule": {"family": "inet", "table": "site", "chain": "way", "expr": [{"vmap": {}}]}},'
        rows = self.filters(RULES.replace("MORE", strange)).filters
        self.assertEqual([r.protocol for r in rows if r.action is None and not r.otherwise], ["not read"] * 2)
        out = RULES.replace("iifname", "oifname").replace("MORE", "")
        survey = self.filters(out)
        self.assertEqual((len(survey.filters), {row.filter_in for row in survey.gateways}), (0, {"site way"}))

    def test_no_chain_for_what_passes_is_no_filter(self):
        survey = self.filters(RULES.replace("forward", "input").replace("MORE", ""))
        self.assertEqual({(row.filter_in, row.filter_out) for row in survey.gateways}, {("none", "none")})


class Routes(Yards):
    def test_a_route_that_discards_and_tables_kept_apart(self):
        away = row("routes", device="crane", prefix="10.9.20.24/32", next_hop="", kind="blackhole")
        answer = why(made(self.yard, away), "desk-loft-1", "till-keel-1")
        self.assertEqual((rules(answer), answer.repair_proven), (["route-discards"], True))
        self.assertTrue(answer.repair[0].delete)
        shut = [row("routes", device="core-east", prefix=f"10.61.{net}.0/24", next_hop="10.61.90.2", kind="blackhole")
                for net in (40, 50)]  # fmt: skip
        answer = why(made(healthy(), *shut), "ticket-desk-1", "plank-saw")
        self.assertEqual((rules(answer), answer.confidence, answer.repair_proven), (["route-discards"], "open", True))
        (found,) = check(made(healthy(), *shut)).findings
        self.assertEqual([dict(change.cells) for change in found.repair], [{"kind": "unicast"}] * 2)
        routes = made(healthy(), row("routes", device="core-east", prefix="10.61.40.0/24", next_hop="10.61.10.31"),
                      Change("routes", {**shut[0].key}, delete=True))  # fmt: skip
        answer = why(routes, "ticket-desk-1", "plank-saw")  # its next hop is a host
        self.assertEqual((rules(answer), answer.repair_proven), (["route-missing"], True))
        apart = Change(
            "gateways", {"device": "crane", "interface": "g1.20", "address": "10.9.20.1/24"}, {"table": "tills"}
        )
        survey = made(self.yard, apart)
        answer = why(survey, "desk-loft-1", "till-keel-1")
        self.assertEqual((rules(answer), answer.repair), (["routing-tables-apart"], ()))
        self.assertEqual(check(survey).counts["breaks"], 0)

    def test_a_router_that_joins_the_tables_of_a_device(self):
        """A lost route of one table, and an interface that was put into the other one; of neither is it sure."""

        def asked(*lost, blue="blue", untold=""):
            legs = [("core", "10", "10.1.10.1/24", "red"), ("core", "20", "10.1.20.1/24", "blue"),
                    ("core", "91", "10.9.1.1/30", "red"), ("core", "92", "10.9.2.1/30", blue),
                    ("wall", "91", "10.9.1.2/30", ""), ("wall", "92", "10.9.2.2/30", "")]  # fmt: skip
            routes = [("core", "0.0.0.0/0", "10.9.1.2", "91", "red"), ("core", "0.0.0.0/0", "10.9.2.2", "92", "blue"),
                      ("wall", "10.1.10.0/24", "10.9.1.1", "91", ""),
                      ("wall", "10.1.20.0/24", "10.9.2.1", "92", "")]  # fmt: skip
            return network_of(
                gateways="device|interface|address|vid|port|untagged|admin|oper|proxy_arp|table\n"
                + "\n".join(f"{d}|v{v}|{own}|{v}|{'e1' * (d == 'wall')}|no|up|up|no|{t * (untold != 'interfaces')}"
                            for d, v, own, t in legs),
                routes="device|prefix|next_hop|interface|origin|table\n"
                + "\n".join(f"{d}|{prefix}|{hop}|v{v}|static|{t * (untold != 'routes')}"
                            for d, prefix, hop, v, t in routes if t not in lost),
                ports=ports("core p1 access 10", "core p2 access 20", "core t1 trunk 1 91 92", "wall e1 routed none"),
                hosts=hosts("a 10.1.10.9/24 10.1.10.1 core p1", "b 10.1.20.9/24 10.1.20.1 core p2"),
                devices="device|routing|platform\ncore|yes|Linux\nwall|yes|", neighbors=cabled("core t1 wall e1"),
            )  # fmt: skip

        self.assertEqual(why(asked(), "a", "b").verdict, "works")
        for network, rule, repair, command in (
            (asked("blue"), "route-back-missing",
             "routes core 0.0.0.0/0 10.9.2.2 blue: interface = v92, origin = static",
             "ip route replace vrf blue 0.0.0.0/0 via 10.9.2.2 dev v92"),
            (asked("red"), "route-missing", "routes core 0.0.0.0/0 10.9.1.2 red: interface = v91, origin = static",
             "ip route replace vrf red 0.0.0.0/0 via 10.9.1.2 dev v91"),
            (asked(blue="red"), "gateway-table-differs", "gateways core v92 10.9.2.1/30: table = blue",
             "ip link set dev v92 master blue"),
        ):  # fmt: skip
            answer = why(network, "a", "b")
            self.assertEqual((rules(answer), str(*answer.repair)), ([rule], repair))
            self.assertEqual((answer.repair_proven, answer.confidence), (True, "likely"))
            (told,) = (one for one in check(network).findings if one.severity == "breaks")
            self.assertEqual((told.rule, told.repair, told.confidence), (rule, answer.repair, "likely"))
            self.assertIn(command, as_commands(network, answer.order))
        for untold, whose in (("routes", "routes"), ("interfaces", "routing interfaces")):
            answer = why(asked(untold=untold), "a", "b")
            told = f"read in which routing table each of the {whose} of core is"
            self.assertEqual((answer.verdict, answer.look[0].says), ("unknown", told))
        self.assertEqual(rules(why(asked("red", "blue", ""), "a", "b")), ["routing-tables-apart"])  # nobody joins them

    def test_two_cores_that_share_an_address_and_a_distribution_switch_with_a_link_to_each(self):
        """One fault, one finding: of a link with two ends, an interface cabled to another, and a VLAN between both."""

        def asked(link="up", own="10.9.0.1/31", allowed="50", states=("master", "backup"), shut="up"):
            legs = [("core1", "p1", "10.9.0.0/31", link), ("core2", "p1", "10.9.0.2/31", "up"),
                    ("dist", "u1", own, link), ("dist", "u2", "10.9.0.3/31", "up")]  # fmt: skip
            rows = ["device|interface|address|vid|port|untagged|admin|oper|proxy_arp|virtual|virtual_state",
                    "dist|v10|10.1.10.1/24|10|||up|up|no|none|"]  # fmt: skip
            rows += [f"{d}|{p}|{at}||{p}|yes|up|{oper}|no|none|" for d, p, at, oper in legs]
            rows += [f"core{n}|v50|10.1.50.{n + 1}/24|50|||{up}|{up}|no|10.1.50.1|{state}"
                     for n, state, up in zip((1, 2), states, (shut, "up"), strict=True)]  # fmt: skip
            routes = [("dist", "50", "10.9.0.0", "u1"), ("dist", "50", "10.9.0.2", "u2"),
                      ("core1", "10", "10.9.0.1", "p1"), ("core2", "10", "10.9.0.3", "p1")]  # fmt: skip
            cable = ports("dist p1 access 10", "core1 p9 access 50", "core2 p9 access 50", "core2 t1 trunk none 50",
                          f"core1 t1 trunk none {allowed}",
                          *(f"{d} {p} routed none" for d, p, _, _ in legs))  # fmt: skip
            for end in ("core1|p1", "dist|u1"):
                cable = cable.replace(f"{end}|up|up", f"{end}|up|{link}")
            return network_of(
                gateways="\n".join(rows), ports=cable, devices="device|routing\ncore1|yes\ncore2|yes\ndist|yes",
                routes="device|prefix|next_hop|interface|origin\n"
                + "\n".join(f"{d}|10.1.{net}.0/24|{hop}|{out}|ospf" for d, net, hop, out in routes),
                neighbors=cabled("core1 p1 dist u1", "core2 p1 dist u2", "core1 t1 core2 t1"),
                hosts=hosts("a 10.1.10.9/24 10.1.10.1 dist p1", "b 10.1.50.9/24 10.1.50.1 core1 p9",
                            "c 10.1.50.8/24 10.1.50.1 core2 p9"),
            )  # fmt: skip

        self.assertEqual(check(asked()).counts["breaks"], 0)
        for network, rule, follows in (
            (asked(link="down"), "port-down", {"port-down", "gateway-down"}),
            (asked(own="10.9.0.5/31"), "gateway-address-wrong", {"link-subnet-differs"}),
            (asked(allowed="none", states=("master", "master")), "link-vlan-missing",
             {"link-allowed-differs", "gateway-shared-state", "vlan-split"}),
            (asked(shut="down"), "gateway-admin-down", {"gateway-shared-state"}),
        ):  # fmt: skip
            (found,) = check(network).findings
            self.assertEqual((found.rule, found.severity), (rule, "breaks"))
            self.assertEqual({one.rule for one in found.follows}, follows)

    def test_the_device_forwards_each_version_by_itself(self):
        survey = made(self.yard, Change("devices", {"device": "crane"}, {"routing6": "no"}))
        self.assertEqual(why(survey, "desk-loft-1", "till-keel-1").verdict, "works")

    def test_by_proxy_a_device_may_or_may_not_answer_for_its_own_address(self):
        near = Change(
            "gateways", {"device": "crane", "interface": "g1.10", "address": "10.9.10.1/24"}, {"proxy_arp": "yes"}
        )
        wide = [Change("hosts", {"host": "desk-loft-1"}, {"address": "10.9.10.20/16", "gateway": "10.9.20.1"})]
        self.assertEqual(why(made(self.yard, near, *wide), "desk-loft-1", "till-keel-1").verdict, "works")
        other = Change(
            "gateways",
            {"device": "crane", "interface": "g1.30", "address": "10.9.12.1/24"},
            {"vid": 30, "port": "g1", "untagged": "no", "admin": "up", "oper": "up"},
        )
        wide = [Change("hosts", {"host": "desk-loft-1"}, {"address": "10.9.10.20/21", "gateway": "10.9.12.1"})]
        self.assertEqual(why(made(self.yard, near, other, *wide), "desk-loft-1", "till-keel-1").verdict, "unknown")


class AtPorts(Yards):
    def test_two_isolated_ports_of_one_device_are_kept_apart_and_it_may_be_meant(self):
        survey = made(self.yard, at("loft", "desk1", isolated="yes"), at("loft", "desk2", isolated="yes"))
        answer = why(survey, "desk-loft-1", "desk-loft-2")
        self.assertEqual((rules(answer), answer.confidence, answer.repair_proven), (["port-isolated"], "open", True))
        for other in ("desk-keel-1", "till-loft-1"):
            self.assertEqual(why(survey, "desk-loft-1", other).verdict, "works")
        self.assertEqual(check(survey).counts["breaks"], 0)
        verdicts = [verdict for _, _, verdict in matrix(survey).reaches]
        self.assertEqual(class_matrix(survey).pairs["fails"], verdicts.count("fails"))

    def test_an_isolated_uplink_leads_only_to_ports_that_are_not(self):
        survey = made(self.yard, at("loft", "t1", isolated="yes"), at("loft", "desk1", isolated="yes"))
        for one, other, verdict in (
            ("desk-loft-1", "desk-keel-1", "fails"),
            ("desk-loft-2", "desk-keel-1", "works"),
            ("desk-loft-1", "desk-loft-2", "works"),
        ):
            with self.subTest(one=one, other=other):
                self.assertEqual({why(survey, *pair).verdict for pair in ((one, other), (other, one))}, {verdict})

    def test_a_port_that_authorized_nobody_carries_nothing(self):
        survey = made(self.yard, at("loft", "desk1", authorized="no"))
        answer = why(survey, "desk-loft-1", "till-keel-1")
        self.assertEqual((rules(answer), answer.repair_proven), (["port-unauthorized"], True))
        self.assertIn("access control", answer.order[0].says)
        self.assertEqual(rules(check(survey)), ["port-unauthorized"])

    def test_what_a_port_admits(self):
        for frames, one, verdict in (("tagged", "desk-loft-1", "fails"), ("untagged", "desk-loft-1", "works")):
            with self.subTest(frames):
                survey = made(self.yard, at("loft", "desk1", frames=frames))
                self.assertEqual(why(survey, one, "till-keel-1").verdict, verdict)
        survey = made(self.yard, at("keel", "t1", frames="untagged"))
        self.assertEqual(why(survey, "desk-loft-1", "desk-keel-1").verdict, "fails")

    def test_a_guard_is_never_answered_by_a_path_cost(self):
        told = Survey.of(
            trees=[
                {"device": d, "instance": 0, "protocol": "rstp", "priority": 4096, "address": f"02:00:00:00:0a:0{n}"}
                for n, d in enumerate(("loft", "keel"))
            ],
            tree_ports=[{"device": "keel", "port": "t1", "instance": 0, "role": "disabled", "guard": "root"}],
        )
        survey = Survey(**{**self.yard.__dict__, "trees": told.trees, "tree_ports": told.tree_ports})
        for answer in (why(survey, "desk-loft-1", "desk-keel-1"), check(survey)):
            self.assertIn("tree-guard-tripped", rules(answer))
            self.assertFalse([c for f in answer.findings for c in f.repair if c.table == "tree_ports"])
        self.assertIn("“root”", why(survey, "desk-loft-1", "desk-keel-1").findings[0].says)
        shut = [at("keel", "desk1", admin="down", oper="down"), at("keel", "desk1", admin="up", oper="up")]
        for changes, held in ((shut, "disabled"), ([at("keel", "t1", admin="up", oper="up")], None)):
            self.assertEqual(made(survey, *changes).tree_ports[0].role, held, changes)  # elsewhere, or there

    def test_phones_keep_their_vlan(self):
        survey = made(self.yard, at("loft", "desk1", voice=30))
        found = next(f for f in check(survey).findings if f.rule == "voice-vlan-missing")
        self.assertEqual([c.table for c in found.repair], ["vlans"])
        mended = made(survey, *found.repair)
        self.assertIn(
            "is carried by none of the links", next(f.says for f in check(mended).findings if f.rule == found.rule)
        )
        carried = made(mended, at("loft", "t1", allowed="1 10 20 30"), at("keel", "t1", allowed="1 10 20 30"),
                       Change("vlans", {"device": "keel", "vid": 30}, {"state": "active"}))  # fmt: skip
        self.assertNotIn("voice-vlan-missing", rules(check(carried)))
        phone = {"device": "loft", "port": "desk1", "neighbor": "handset", "capabilities": "bridge phone"}
        heard = Survey.of(neighbors=[phone]).neighbors[0]
        trunk = made(self.yard, at("loft", "desk1", mode="trunk", pvid=1, allowed="1 20 30"))
        trunk = Survey(**{**trunk.__dict__, "neighbors": [*trunk.neighbors, heard]})
        modes = [c.cells["mode"] for f in check(trunk).findings for c in f.repair if "mode" in c.cells]
        self.assertEqual(modes, [])

    def test_a_host_that_gave_itself_an_address(self):
        for address in ("169.254.7.9/16", "fe80::7/64"):
            with self.subTest(address):
                survey = made(
                    self.yard, Change("hosts", {"host": "desk-loft-1"}, {"address": address, "gateway": "none"})
                )
                found = [f for f in check(survey).findings if f.subjects[0].host == "desk-loft-1"]
                self.assertEqual([f.rule for f in found], ["host-address-automatic"])
                self.assertIn("served by crane g1.10, which it reaches", found[0].says)
        survey = made(
            self.yard, Change("hosts", {"host": "desk-loft-1"}, {"address": "169.254.7.9/16", "gateway": "none"})
        )
        self.assertEqual(rules(why(survey, "desk-loft-1", "till-keel-1")), ["host-address-automatic"])


class Links(unittest.TestCase):
    def bundled(self, far="keel keel"):
        first, second = far.split()
        rows = ["loft b1 trunk 1 1 10", "keel b1 trunk 1 1 10", "loft d1 access 10", "keel d1 access 10",
                *(f"{d} {p} trunk 1 1 10" for d, p in (("loft", "m1"), ("loft", "m2"), (first, "m1"), (second, "m2"))),
                *(["bow b1 trunk 1 1 10", "bow d1 access 10"] if "bow" in far else [])]  # fmt: skip
        survey = survey_of(
            devices="device|capabilities\nloft|bridge\nkeel|bridge\nbow|bridge",
            ports=ports(*rows),
            neighbors=cabled(f"loft m1 {first} m1", f"loft m2 {second} m2"),
            hosts=hosts("a 10.9.1.1/24 none loft d1", "b 10.9.1.2/24 none keel d1"),
        )
        return made(
            survey, *(at(d, p, lag="b1") for d, p in (("loft", "m1"), ("loft", "m2"), (first, "m1"), (second, "m2")))
        )

    def test_members_that_do_not_bundle(self):
        survey = self.bundled()
        self.assertEqual(why(survey, "a", "b").verdict, "works")
        one = made(survey, at("loft", "m1", lag_state="detached"), at("loft", "m2", lag_state="attached"))
        self.assertEqual(why(one, "a", "b").verdict, "works")
        self.assertEqual(
            [(f.rule, f.severity) for f in check(one).findings if "lag" in f.rule], [("link-lag-detached", "risks")]
        )
        partners = [at("loft", f"m{n}", lag_partner=f"02:00:00:00:00:0{n}") for n in (1, 2)]
        (found,) = (f for f in check(made(one, *partners)).findings if f.rule == "link-lag-detached")
        self.assertIn("At the other end is 02:00:00:00:00:01, not 02:00:00:00:00:02.", found.says)
        both = made(survey, *(at("loft", m, lag_state="detached") for m in ("m1", "m2")))
        answer = why(both, "a", "b")
        self.assertEqual((answer.verdict, rules(answer)), ("fails", ["link-lag-detached"]))
        self.assertIn("m1 and m2 of loft b1 (towards keel) have a link", answer.findings[0].says)

    def test_a_bundle_that_is_shut_with_its_members_and_one_without(self):
        ends = [(d, p) for d in ("loft", "keel") for p in ("b1", "m1", "m2")]
        dark = made(self.bundled(), *(at(*end, oper="down") for end in ends), at("loft", "b1", admin="down"))
        shut = made(dark, *(at("loft", m, admin="down") for m in ("m1", "m2")))
        for survey, opened in ((shut, ["b1", "m1", "m2"]), (dark, ["b1"])):
            answer = why(survey, "a", "b")
            self.assertEqual((rules(answer), answer.repair_proven), (["port-admin-down"], True))
            self.assertEqual([c.key["port"] for c in answer.repair if "admin" in c.cells], opened)
            self.assertEqual([f.rule for f in check(survey).findings if f.severity == "breaks"], ["port-admin-down"])

    def test_a_member_that_leads_elsewhere_leaves_the_choice_to_the_bundle(self):
        self.assertEqual(why(self.bundled("keel bow"), "a", "b").verdict, "unknown")
        told = made(self.bundled("keel bow"), at("loft", "m2", lag_state="detached"))
        self.assertEqual(why(told, "a", "b").verdict, "works")

    def test_a_bundle_of_which_nobody_read_whether_it_is_up(self):
        dark = made(self.bundled(), *(at(d, p, oper=None) for d in ("loft", "keel") for p in ("m1", "m2", "b1")))
        answer = why(dark, "a", "b")
        self.assertEqual(answer.verdict, "unknown")
        asked = {(fact.key["device"], fact.key["port"], fact.column) for fact in answer.observe}
        self.assertLessEqual(asked, {(d, m, "oper") for d in ("loft", "keel") for m in ("m1", "m2")})
        self.assertTrue(asked and answer.look)
        self.assertEqual(why(made(dark, at("keel", "m2", lag_state="attached")), "a", "b").verdict, "works")

    def test_frames_in_one_direction_only(self):
        survey = self.bundled()
        survey = made(survey, at("loft", "m1", out_packets=90_000), at("keel", "m1", in_packets=0))
        self.assertIn("link-one-way", rules(check(survey)))
        self.assertIn("one direction only", why(survey, "a", "b").caveats[0])

    def test_links_for_small_packets(self):
        survey = made(self.bundled(), at("loft", "m1", mtu=9000), at("keel", "m1", mtu=1500))
        self.assertIn("frames of over 1500 octets do not", why(survey, "a", "b").caveats[0])

    def test_a_link_in_the_middle_for_small_packets(self):
        wide = [at("loft", "d1", mtu=9000), at("keel", "d1", mtu=9000)]
        survey = made(self.bundled(), *wide, at("loft", "b1", mtu=1500), at("keel", "b1", mtu=1500))
        (says,) = why(survey, "a", "b").caveats
        self.assertEqual(says, "small packets pass; frames of over 1500 octets do not: keel b1 takes no larger ones")
        self.assertEqual(why(made(survey, at("keel", "d1", mtu=1500)), "a", "b").caveats, ())
        self.assertEqual(why(made(survey, at("keel", "d1", mtu=None)), "a", "b").caveats, ())

    def test_tagged_frames_travel_through_a_tunnel(self):
        rows = ["west u1 trunk 1 1 10 20", "east u1 trunk 1 1 10 20", "west d1 access 10", "east d1 access 10",
                "west d2 access 20", "mid1 c1 tunnel 300", "mid2 c1 tunnel 300", "mid1 t1 trunk none 300",
                "mid2 t1 trunk none 300"]  # fmt: skip
        devices = [f"{device}|bridge" for device in ("west", "east", "mid1", "mid2")]
        survey = survey_of(
            devices="\n".join(["device|capabilities", *devices]),
            ports=ports(*rows),
            neighbors=cabled("west u1 mid1 c1", "mid1 t1 mid2 t1", "mid2 c1 east u1"),
            hosts=hosts("a 10.9.1.1/24 none west d1", "b 10.9.1.2/24 none east d1", "c 10.9.1.3/24 none west d2"),
        )
        self.assertEqual([why(survey, "a", other).verdict for other in "bc"], ["works", "fails"])
        self.assertEqual(rules(check(survey)), ["port-vlan-wrong"])
        cut = made(survey, at("mid2", "t1", allowed="301"))
        self.assertEqual(why(cut, "a", "b").verdict, "fails")


class SharedGateways(Yards):
    def shared(self, *states):
        rows = []
        for n, state in enumerate(states):
            key = {"device": "keel" if n else "loft", "interface": f"x{n}", "address": f"10.9.10.{3 + n}/24"}
            cells = {"vid": 10, "admin": "up", "oper": "up", "virtual": "10.9.10.9", "virtual_state": state}
            rows.append(Change("gateways", key, cells))
        use = [Change("hosts", {"host": "desk-loft-1"}, {"gateway": "10.9.10.9"})]
        routing = [Change("devices", {"device": d}, {"routing": "yes"}) for d in ("loft", "keel")]
        to = [
            Change("routes", {"device": d, "prefix": "10.9.20.0/24", "next_hop": "10.9.10.1"}, {})
            for d in ("loft", "keel")
        ]
        return made(self.yard, *rows, *use, *routing, *to)

    def test_one_holds_it_two_or_none(self):
        good = self.shared("master", "backup")
        self.assertEqual(why(good, "desk-loft-1", "till-keel-1").verdict, "works")
        self.assertNotIn("gateway-shared-state", rules(check(good)))
        none = why(self.shared("backup", "backup"), "desk-loft-1", "till-keel-1")
        self.assertEqual((none.verdict, rules(none)), ("fails", ["gateway-shared-state"]))
        two = [f for f in check(self.shared("master", "master")).findings if f.rule == "gateway-shared-state"]
        self.assertEqual([f.severity for f in two], ["risks"])
        self.assertNotIn("gateway-address-duplicate", rules(check(self.shared("master", "master"))))


class BothVersions(Yards):
    def both(self, gateway="10.9.10.1 fe80::1", **crane):
        rows = [Change("gateways", {"device": "crane", "interface": f"g1.{v}", "address": a}, {"vid": v, "port": "g1",
                "untagged": "no", "admin": "up", "oper": "up"}) for v in (10, 20)
                for a in (f"fd00:{v}::1/64", "fe80::1/64")]  # fmt: skip
        first = {"address": "10.9.10.20/24 fd00:10::20/64", "gateway": gateway}
        dual = [Change("hosts", {"host": "desk-loft-1"}, first),
                Change("hosts", {"host": "desk-loft-2"}, {"address": "10.9.10.21/24 fd00:10::21/64",
                                                          "gateway": "10.9.10.1 fe80::1"}),
                Change("hosts", {"host": "till-keel-1"}, {"address": "10.9.20.24/24 fd00:20::24/64 fe80::24/64",
                                                          "gateway": "10.9.20.1 fe80::1"})]  # fmt: skip
        return made(self.yard, *rows, *dual, *([Change("devices", {"device": "crane"}, crane)] if crane else []))

    def test_a_healthy_campus_is_silent_and_each_version_is_told(self):
        survey = self.both()
        self.assertEqual(check(survey).counts["breaks"] + check(survey).counts["risks"], 0, check(survey).findings)
        answer = why(survey, "desk-loft-1", "till-keel-1")
        self.assertEqual([(f.version, f.verdict) for f in answer.families], [(4, "works"), (6, "works")])
        self.assertEqual(why(survey, "fd00:10::20", "10.9.20.24").source, "desk-loft-1")
        key = {"device": "crane", "interface": "g1.10", "address": "10.9.10.1/24"}
        hidden = made(
            survey,
            Change("hosts", {"host": "desk-keel-1"}, {"address": "10.9.10.22/16"}),
            Change("gateways", key, {"proxy_arp": "yes"}),
        )
        self.assertEqual(why(hidden, "desk-keel-1", "till-keel-1").verdict, "works")

    def test_the_worse_of_the_two_is_the_pairs_and_all_faults_are_mended_in_whole_cells(self):
        cases = (
            ("10.9.10.1 fe80::9", {}, ("works", "fails"), ["host-gateway-wrong"], "10.9.10.1 fe80::1"),
            ("10.9.10.1", {}, ("works", "fails"), ["host-gateway-missing"], "10.9.10.1 fe80::1"),
            ("10.9.10.7 fe80::9", {}, ("fails", "fails"), ["host-gateway-wrong"] * 2, "10.9.10.1 fe80::1"),
            ("10.9.10.1 fe80::1", {"routing6": "no"}, ("works", "fails"), ["routing-off"], None),
        )
        for gateway, crane, verdicts, found, mended in cases:
            with self.subTest(gateway, crane=crane):
                survey = self.both(gateway, **crane)
                answer = why(survey, "desk-loft-1", "till-keel-1")
                self.assertEqual(tuple(f.verdict for f in answer.families), verdicts)
                self.assertEqual((answer.verdict, rules(answer)), ("fails", found))
                self.assertTrue(answer.repair_proven)
                after = made(survey, *answer.repair)
                self.assertEqual(why(after, "desk-loft-1", "till-keel-1").verdict, "works")
                row = next(one for one in after.hosts if one.host == "desk-loft-1")
                self.assertEqual(row.gateway, mended or gateway)
                self.assertEqual(row.address, "10.9.10.20/24 fd00:10::20/64")
                pairs = {(a, b): v for a, b, v in matrix(survey).reaches}
                self.assertEqual(pairs["desk-loft-1", "till-keel-1"], "fails")
                self.assertEqual(class_matrix(survey).pairs["fails"], list(pairs.values()).count("fails"))
                self.assertLessEqual(set(found), set(rules(check(survey))))

    def test_a_changed_copy_of_both_versions_is_as_one_made_anew(self):
        survey = self.both()
        for cells in (
            {"gateway": "10.9.10.1 fe80::9"},
            {"address": "10.9.10.20/24 fd00:99::20/64"},
            {"gateway": "none"},
        ):
            with self.subTest(cells):
                change = Change("hosts", {"host": "desk-loft-1"}, cells)
                fresh = matrix(made(survey, change))
                self.assertEqual(matrix(Network(survey).changed([change])).reaches, fresh.reaches)
                self.assertIn("fails", {verdict for _, _, verdict in fresh.reaches})


if __name__ == "__main__":
    unittest.main()
