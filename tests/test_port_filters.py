"""What the ports of switches drop, refuse and let in though they do not carry it."""

import json
import tempfile
import unittest
from itertools import permutations
from pathlib import Path

from crossthread import Change, Network, check, class_matrix, matrix, why
from crossthread.network.three_valued import Bounds
from crossthread.sources.gathering import gather
from crossthread.survey.records import Filter, Gateway
from crossthread.values import VlanSet
from tests.refusing import Refusing
from tests.test_between import Yards, made, row, rules
from tests.yard import at


class AtPorts(Yards):
    def behind(self, device, port, *entries, way="filter_in"):
        told = [row("filters", device=device, filter="berth", **entry) for entry in entries]
        return made(self.yard, at(device, port, **{way: "berth"}), *told)

    def agree(self, survey):
        """The verdicts pair by pair and by classes."""
        said = {(a, b): verdict for a, b, verdict in matrix(survey).reaches}
        classes = Network(survey).classes
        told = class_matrix(survey)
        for verdict in ("works", "fails", "unknown"):
            self.assertEqual(told.pairs.get(verdict, 0), list(said.values()).count(verdict), verdict)
        for one, two in permutations({a for a, _ in said}, 2):
            for other in (b for b in said if b[0] == one and classes.of(b[1]) is classes.of(two) and b[1] != two):
                self.assertEqual(said[other], said[one, two])
        return said

    def test_what_a_filter_at_a_port_drops_is_named_with_the_port_and_the_entry(self):
        entry = {"number": 10, "action": "drop", "destination": "10.9.20.0/24"}
        survey = self.behind("loft", "desk1", entry, {"otherwise": "accept"})
        answer = why(survey, "desk-loft-1", "till-keel-1")
        self.assertEqual((answer.verdict, rules(answer), answer.repair), ("fails", ["filter-drops"], ()))
        self.assertIn("The filter berth at loft desk1 (in) drops the echo: entry 10.", answer.findings[0].says)
        self.assertEqual(why(survey, "till-keel-1", "desk-loft-1").findings[0].says.count("drops the reply"), 1)
        said = self.agree(survey)
        self.assertEqual(
            {pair for pair, verdict in said.items() if verdict == "fails"},
            {pair for pair in said if set(pair) & {"desk-loft-1"} and any("till" in name for name in pair)},
        )

    def test_of_a_list_that_was_read_in_part_no_entry_decides(self):
        for action, other in (("drop", "accept"), ("accept", "drop")):
            held = ({"number": 10, "action": action, "destination": "10.9.20.0/24"}, {"otherwise": other})
            survey = made(
                self.behind("loft", "desk1", *held),
                Change("coverage", {"device": "loft", "table": "filters"}, {"complete": "no"}),
            )
            said = self.agree(survey)
            self.assertEqual({v for pair, v in said.items() if "desk-loft-1" in pair}, {"unknown"})
            told = why(survey, "desk-loft-1", "till-keel-1")
            self.assertEqual([look.says for look in told.look], ["read the packet filter berth of loft"])

    def test_a_filter_on_a_trunk_parts_the_hosts_of_two_switches_within_a_vlan(self):
        entry = {"number": 10, "action": "drop", "source": "10.9.10.0/24", "destination": "10.9.10.0/24"}
        for device, way in (("loft", "filter_out"), ("keel", "filter_in")):
            survey = self.behind(device, "t1", entry, {"otherwise": "accept"}, way=way)
            said = self.agree(survey)
            failing = {pair for pair, verdict in said.items() if verdict == "fails"}
            desks = {n for pair in said for n in pair if n.startswith("desk")}
            self.assertEqual(failing, {(a, b) for a in desks for b in desks if a.split("-")[1] != b.split("-")[1]})

    def test_arp_passes_a_filter_and_what_is_not_understood_is_unknown(self):
        survey = self.behind(
            "keel", "till1", {"number": 10, "action": "drop", "protocol": "udp"}, {"otherwise": "accept"}
        )
        self.assertEqual(set(self.agree(survey).values()), {"works"})
        survey = self.behind("keel", "till1", {"number": 10, "protocol": "not read"}, {"otherwise": "accept"})
        said = self.agree(survey)
        self.assertEqual(
            {pair for pair, verdict in said.items() if verdict != "works"},
            {pair for pair in said if "till-keel-1" in pair},
        )
        self.assertEqual(set(said.values()), {"works", "unknown"})


class Forbidden(Yards):
    def test_a_vlan_that_somebody_forbade_is_lifted_first_and_never_called_sure(self):
        survey = made(self.yard, at("loft", "t1", allowed="1 10", forbidden="20 30"))
        answer = why(survey, "till-loft-1", "till-keel-1")
        self.assertEqual((answer.verdict, answer.confidence, rules(answer)), ("fails", "likely", ["link-vlan-missing"]))
        self.assertIn("Somebody forbade it at loft t1, perhaps on purpose.", answer.findings[0].says)
        (change,) = answer.repair
        self.assertEqual(change.cells, {"allowed": "1 10 20", "forbidden": "30"})
        self.assertIn("forbid VLAN 20 there no longer", answer.order[0].says)
        Refusing(survey).carry_out(answer.order)
        unaware = why(made(self.yard, at("loft", "t1", allowed="1 10")), "till-loft-1", "till-keel-1")
        with self.assertRaisesRegex(AssertionError, "loft t1 would carry 20, which is forbidden there"):
            Refusing(survey).carry_out(unaware.order)

    def test_what_a_port_does_not_forbid_is_left_as_it_is(self):
        survey = made(self.yard, at("loft", "t1", allowed="1 10", forbidden="30"))
        answer = why(survey, "till-loft-1", "till-keel-1")
        self.assertEqual(([c.cells for c in answer.repair], answer.confidence), ([{"allowed": "1 10 20"}], "sure"))


class Ingress(Yards):
    def test_frames_that_come_in_all_the_same_do_not_go_back(self):
        narrow = made(self.yard, at("keel", "t1", allowed="1 10", ingress_filter="no"))
        self.assertEqual(why(narrow, "till-loft-1", "till-keel-1").verdict, "fails")
        fabric = Network(narrow).fabric
        end = next(e for a in fabric.adjacencies for e in (a.a, a.b) if (e.device, e.port) == ("keel", "t1"))
        self.assertEqual((fabric.enters(end, 20), fabric.leaves(end, 20).possible), (Bounds(0, 1 << 20), 0))
        strict = Network(made(narrow, at("keel", "t1", ingress_filter="yes"))).fabric
        self.assertEqual(strict.enters(end, 20).possible, 0)

    def test_an_access_port_drops_what_is_tagged_whatever_it_filters(self):
        fabric = Network(made(self.yard, at("keel", "till1", ingress_filter="no"))).fabric
        end = next(iter({s.end for s in Network(self.yard).stations.hosts.values() if s.name == "till-keel-1"}))
        self.assertEqual(fabric.enters(end, 10).possible, 0)


class Damaged(Yards):
    def told(self, **cells):
        return [f.says for f in check(made(self.yard, at("loft", "t1", **cells))).findings if f.rule == "port-errors"]

    def test_damage_is_judged_by_the_time_in_which_it_was_counted(self):
        day = 86_400
        self.assertEqual(self.told(in_errors=150, counted_for=60 * day), [])
        self.assertEqual(self.told(in_errors=150), ["loft t1 has counted in errors 150."])
        self.assertEqual(
            self.told(in_errors=150, counted_for=3 * day), ["loft t1 has counted in errors 150 in 3.0 days."]
        )
        self.assertEqual(self.told(in_errors=99, counted_for=60), [])
        of = ["loft t1 has counted in errors 150, of 1000 packets in."]
        self.assertEqual(self.told(in_errors=150, in_packets=1000, counted_for=60 * day), of)


FLOWS = """NXST_FLOW reply (xid=0x4):
 cookie=0x0, duration=4.1s, table=0, n_packets=9, n_bytes=8, idle_age=3, priority=200,icmp,in_port=2,nw_dst=10.9.20.0/28 actions=drop
 cookie=0x0, duration=4.1s, table=0, n_packets=0, n_bytes=0, priority=100,udp,tp_dst=68 actions=drop
 MORE
 cookie=0x0, duration=9.2s, table=0, n_packets=7, n_bytes=6, priority=0 actions=NORMAL
"""  # noqa: E501
MORE = " cookie=0x0, duration=1s, table=0, n_packets=0, n_bytes=0, "


class Listed(unittest.TestCase):
    """Listings of a software switch, its daemons and a router, as they come."""

    def gathered(self, device="loft", **files):
        with tempfile.TemporaryDirectory() as holder:
            folder = Path(holder) / device
            folder.mkdir()
            for name, text in files.items():
                (folder / name).write_text(text if isinstance(text, str) else json.dumps(text))
            return gather([folder]).survey

    def links(self, *names, addresses=()):
        up = {"link_type": "ether", "flags": ["UP", "LOWER_UP"]}
        own = [dict(zip(("local", "prefixlen"), text.split("/"), strict=True)) for text in addresses]
        return [{"ifname": name, "addr_info": own, **up} for name in names]

    def flows(self, more="", flows=FLOWS):
        ports = {"headings": ["name", "vlan_mode", "tag"], "data": [["p1", "access", 10], ["p2", "access", 20]]}
        interfaces = {"headings": ["name", "ofport"], "data": [["p1", 1], ["p2", 2]]}
        return self.gathered(addr=self.links("p1", "p2"), port=ports, interface=interfaces,
                             flows=flows.replace(" MORE", MORE + more if more else ""))  # fmt: skip

    def entries(self, survey, port):
        kept = ("number", "action", "family", "protocol", "destination", "destination_port", "otherwise")
        return [tuple(getattr(e, c) for c in kept) for e in survey.filters if e.filter == f"flows in {port}"]

    def test_flows_that_drop_are_entries_of_the_ports_that_they_concern(self):
        survey = self.flows()
        self.assertEqual([r.filter_in for r in survey.ports], ["flows in p1", "flows in p2"])
        rest = [(20, "drop", "4", "udp", None, "68", None), (30, "accept", *4 * [None], None)]
        first = (10, "drop", "4", "icmp", "10.9.20.0/28", None, None)
        self.assertEqual(self.entries(survey, "p2"), [first, *rest])
        self.assertEqual(self.entries(survey, "p1"), [(n - 10, *more) for n, *more in rest])

    def test_a_switch_that_only_bridges_filters_nothing(self):
        plain = self.flows(flows=" cookie=0x0, duration=9s, table=0, n_packets=7, n_bytes=6, priority=0 actions=NORMAL")
        self.assertEqual(([r.filter_in for r in plain.ports], plain.filters), (["none", "none"], ()))

    def test_what_is_not_understood_and_dropped_arp_leave_everything_open(self):
        for more in ("priority=50,arp actions=drop", "priority=50,dl_src=02:00:00:00:00:01 actions=drop",
                     "priority=50 actions=output:3", "priority=50,arp,arp_spa=10.9.10.2 actions=output:1",
                     "priority=50,icmp6 actions=drop"):  # fmt: skip
            with self.subTest(more):
                self.assertEqual(self.entries(self.flows(more), "p1")[0][1:4:2], (None, "not read"))
        for more in (
            "priority=50,arp actions=NORMAL",
            "priority=50,icmp6 actions=NORMAL",
            "priority=50,tcp actions=drop",
        ):
            with self.subTest(more):
                self.assertEqual(self.entries(self.flows(more), "p1")[0][:4], (10, "drop", "4", "udp"))

    def test_a_prefix_that_is_none_and_a_later_table_are_about_anything(self):
        for more in ("priority=150,ip,nw_src=nonsense actions=drop", "table=1,priority=150,ip actions=drop"):
            with self.subTest(more):
                self.assertEqual(self.entries(self.flows(more), "p1")[0][1:4], (None, "4", "not read"))

    def test_a_listing_that_was_cut_short_says_nothing_of_the_rest(self):
        """Without its last line a listing looks as if the switch dropped everything."""
        whole = FLOWS.replace(" MORE\n", "")
        for text in (whole[: whole.rindex(" cookie")], whole[:-20], MORE + "priority=9,ip actions=NORMAL\n"):
            with self.subTest(text[-60:]):
                told = self.entries(self.flows(flows=text), "p1")
                self.assertEqual((told[0][1], told[0][3]), (None, "not read"))
                self.assertEqual({one[-1] for one in told}, {None})

    def test_flows_are_of_no_use_where_several_bridges_are_listed(self):
        two = {"headings": ["name", "datapath_id"], "data": [["br0", "1"], ["br1", "2"]]}
        ports = {"headings": ["name", "vlan_mode", "tag"], "data": [["p1", "access", 10]]}
        interfaces = {"headings": ["name", "ofport"], "data": [["p1", 1]]}
        survey = self.gathered(addr=self.links("p1"), bridge=two, port=ports, interface=interfaces, flows=FLOWS)
        self.assertEqual(([row.filter_in for row in survey.ports], survey.filters), ([None], ()))

    def test_an_address_that_routers_share_is_no_address_of_theirs(self):
        def instance(state):
            return [{"data": {"iname": "one", "ifp_ifname": "e0", "vrid": 20, "state": state,
                              "vips": ["10.9.20.254/24 dev e0 scope global set"]}, "stats": {}}]  # fmt: skip

        for state, word in ((2, "master"), (1, "backup"), (3, "down"), (0, "down")):
            held = ["10.9.20.1/24", *(["10.9.20.254/24"] if state == 2 else [])]
            links = self.links("e0", addresses=held) + self.links("e1", addresses=["10.9.30.1/24"])
            survey = self.gathered("crane", addr=links, shared=instance(state))
            self.assertEqual(
                [(g.interface, g.address, g.virtual, g.virtual_state) for g in survey.gateways],
                [("e0", "10.9.20.1/24", "10.9.20.254", word), ("e1", "10.9.30.1/24", None, None)],
            )

    def test_counters_that_are_listed_are_kept_and_a_bridge_alone_is_a_device(self):
        counted = {"rx": {"packets": 7, "errors": 2}, "tx": {"packets": 9, "errors": "none"}}
        links = [{**link, "stats64": counted} for link in self.links("p1")] + self.links("p2")
        survey = self.gathered(addr=links, bridge=[{"ifname": "p1", "master": "br0", "cost": 2, "state": "forwarding"}])
        first, second = survey.ports
        self.assertEqual((first.in_packets, first.in_errors, first.out_packets, first.out_errors), (7, 2, 9, None))
        self.assertEqual((second.in_packets, second.out_packets), (None, None))
        self.assertEqual([(d.device, d.capabilities) for d in survey.devices], [("loft", ("bridge",))])

    def test_what_a_daemon_says_of_its_own_ports_is_no_neighbour(self):
        policy = {"apptype": "Voice", "defined": True, "vlan": [{"vid": "55"}], "dscp": [{"value": "46"}]}
        own = [
            {"name": name, "status": [{"value": status}], "chassis": [{"name": [{"value": "loft"}]}], "port": [{}],
             "lldp-med": [{"policy": [policy]}]} for name, status in (("p1", "RX and TX"), ("p2", "disabled"))
        ]  # fmt: skip
        survey = self.gathered(
            addr=self.links("p1", "p2"),
            ports={"lldp": [{"interface": own}]},
            vlan=[{"ifname": "p2", "vlans": [{"vlan": 10, "flags": ["PVID"]}]}],
        )
        self.assertEqual(survey.neighbors, ())
        self.assertEqual(
            [(r.port, r.discovery, r.mode) for r in survey.ports], [("p1", "both", "routed"), ("p2", "off", "hybrid")]
        )
        self.assertEqual({r.voice for r in survey.ports}, {None})
        self.assertEqual({type(r) for t in (survey.filters, survey.gateways) for r in t} & {Filter, Gateway}, set())
        self.assertEqual(VlanSet.of([10]), survey.ports[1].allowed)


if __name__ == "__main__":
    unittest.main()
