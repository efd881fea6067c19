"""Situations of practice: the mend is the one that an experienced engineer would choose, or the answer is open."""

import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

from crossthread import Change, Network, apply_changes, check, why, write_survey
from crossthread.diagnosis.context import Context
from crossthread.diagnosis.findings import Finding
from crossthread.diagnosis.repair.harm.harmless import harmless
from crossthread.diagnosis.repair.harm.side_effects import Stopped
from crossthread.diagnosis.repair.work_order import WorkStep
from crossthread.plan import Plan
from crossthread.plan.plan import PlannedHost, PlannedPort, PlannedVlan, Settings
from crossthread.survey import Info
from crossthread.values import VlanSet
from tests.building import cabled, hosts, network_of, ports, survey_of
from tests.refusing import Refusing
from tests.test_command import run
from tests.yard import at, host, interface, lost, tested, yard


class Situations(unittest.TestCase):
    def told(self, changes, source="desk-loft-1", target="till-keel-1", plan=None, **shape):
        """What is wrong by `why`, each finding as its rule and what its mend edits; `check` has each fault once too."""
        survey = apply_changes(yard(**shape), changes)
        network = Network(survey)
        self.answer = why(network, source, target, plan=plan)
        if self.answer.repair:
            self.assertTrue(self.answer.repair_proven)
            Refusing(survey).carry_out(self.answer.order)
        breaks = [(f.rule, f.subjects[0]) for f in check(network, plan).findings if f.severity == "breaks"]
        self.assertEqual(len(breaks), len(set(breaks)))
        accused = {rule for rule, _ in breaks}
        for finding in self.answer.findings if self.answer.verdict == "fails" else ():
            self.assertIn(finding.rule, accused)
        return [
            (f.rule, sorted({str(c) for c in f.repair if set(c.cells) - {"oper", "link"}}))
            for f in self.answer.findings
        ]

    def test_1_the_far_port_is_in_the_default_vlan_and_its_switch_lacks_the_vlan(self):
        wrong = [lost("keel", 10), at("keel", "desk1", pvid=1), at("keel", "t1", allowed="1 20")]
        mends = {
            "ports keel desk1: pvid = 10",
            "vlans keel 10: state = active, name = desks",
            "ports keel t1: allowed = 1 10 20",
        }
        for desks in ((1, 1), (2, 1)):
            for told in (True, False):
                found = self.told(wrong, target="desk-keel-1", desks=desks, told=told)
                self.assertEqual({mend for _, some in found for mend in some}, mends)
                self.assertIn(self.answer.confidence, ("sure", "likely"))

    def test_1_even_without_any_gateway_nobody_is_moved_into_the_default_vlan(self):
        nobody = [
            Change("gateways", {"device": "crane", "interface": f"g1.{v}", "address": f"10.9.{v}.1/24"}, {}, True)
            for v in (10, 20)
        ]
        for desks in ((1, 1), (3, 1)):
            found = self.told([*nobody, at("keel", "desk1", pvid=1)], target="desk-keel-1", desks=desks)
            self.assertEqual(found, [("port-vlan-wrong", ["ports keel desk1: pvid = 10"])])

    def test_2_the_port_to_a_router_is_in_the_default_vlan(self):
        for desks in ((1, 0), (0, 1), (3, 0), (2, 2)):
            source = "desk-loft-1" if desks[0] else "desk-keel-1"
            found = self.told([at("keel", "t8", pvid=1)], source, desks=desks, style="ports")
            self.assertEqual(found, [("port-vlan-wrong", ["ports keel t8: pvid = 10"])])

    def test_3_the_port_to_a_tagging_router_is_an_access_port(self):
        for vid in (1, 10, 20):
            for told in (True, False):
                ((rule, mends),) = self.told([at("keel", "t9", mode="access", pvid=vid, allowed="")], told=told)
                self.assertEqual(rule, "gateway-port-mode-wrong")
                self.assertEqual(mends, ["ports keel t9: mode = trunk, pvid = 1, allowed = 1 10 20"])

    def test_4_the_routers_address_is_wrong_and_not_that_of_every_desk(self):
        for bad in ("10.9.11.1/24", "10.8.10.1/24", "10.9.10.2/24"):
            for desks, sure in (((1, 0), ("likely", "open")), ((2, 0), ("sure", "likely")), ((3, 2), ("sure",))):
                found = self.told([interface("crane", "g1.10", 10, address=bad)], desks=desks)
                self.assertEqual(
                    found, [("gateway-address-wrong", [f"gateways crane g1.10 {bad}: address = 10.9.10.1/24"])]
                )
                self.assertIn(self.answer.confidence, sure)

    def test_5_a_desks_own_settings_alone_and_together(self):
        moved = host("desk-loft-1", address="10.9.20.77/24")
        for target in ("till-keel-1", "desk-keel-1"):
            self.assertEqual([rule for rule, _ in self.told([moved], target=target)], ["host-outside-subnet"])
            self.assertEqual(self.answer.repair[0].cells, {"address": "10.9.10.2/24"})
        mended = ["hosts desk-loft-1: address = 10.9.10.20/24"]
        for length in (16, 28):
            found = self.told([host("desk-loft-1", address=f"10.9.10.20/{length}")])
            self.assertEqual(found, [("host-mask-differs", mended)])
        stray = host("desk-loft-1", gateway="10.9.20.1")
        gateway = ("host-gateway-outside-subnet", ["hosts desk-loft-1: gateway = 10.9.10.1"])
        self.assertEqual(self.told([stray]), [gateway])
        far = host("till-keel-1", address="10.9.20.24/28")
        self.assertEqual(
            self.told([stray, far]), [gateway, ("host-mask-differs", ["hosts till-keel-1: address = 10.9.20.24/24"])]
        )

    def test_5_what_an_arp_cache_remembers_speaks_against_the_port(self):
        moved = host("desk-loft-1", address="10.9.20.77/24", gateway="10.9.20.1")
        port = [("port-vlan-wrong", ["ports loft desk1: pvid = 20"])]
        for ip, confidence in (("10.9.10.20", "open"), ("10.9.20.77", "likely")):
            entry = Change("arp", {"device": "keel", "interface": "t9", "address": ip}, {"mac": "02:00:00:00:00:01"})
            self.assertEqual(self.told([moved, entry], target="desk-keel-1"), port)
            self.assertEqual(self.answer.confidence, confidence)
            told = [str(c) for one in self.answer.findings[0].alternatives for c in one.changes]
            renumbered = "hosts desk-loft-1: address = 10.9.10.20/24, gateway = 10.9.10.1"
            self.assertEqual(renumbered in told, confidence == "open")  # what it had, and not just any
            self.told([moved, entry, host("till-keel-1", mac="02:00:00:00:00:01")], target="desk-keel-1")
            self.assertEqual(self.answer.confidence, "likely")  # whose of the two it was, nobody knows

    def test_6_swapped_tags_and_three_more_faults_each_once(self):
        for told, names in ((True, ("g1.10", "g1.20")), (False, ("inner", "outer"))):
            swapped = [interface("crane", names[0], 10, vid=20), interface("crane", names[1], 20, vid=10)]
            found = self.told(swapped, told=told)
            self.assertEqual([rule for rule, _ in found], ["gateway-vlan-wrong"])
            self.assertEqual(self.answer.confidence, "sure")
            shut = interface("crane", names[1], 20, vid=10, admin="down", oper="down")
            more = [swapped[0], shut, host("till-keel-1", gateway="10.9.20.9")]
            found = self.told([*more, at("keel", "t9", mode="access", pvid=10, allowed="")], told=told)
            self.assertEqual(
                [rule for rule, _ in found],
                ["gateway-port-mode-wrong", "gateway-vlan-wrong", "gateway-admin-down", "host-gateway-wrong"],
            )

    def test_7_the_parent_of_two_interfaces_is_shut(self):
        down = [interface("crane", f"g1.{vid}", vid, oper="down") for vid in (10, 20)]
        found = self.told([at("crane", "g1", admin="down", oper="down"), at("keel", "t9", oper="down"), *down])
        self.assertEqual(found, [("port-admin-down", ["ports crane g1: admin = up, oper = up"])])

    def test_8_a_port_that_closed_itself_with_two_faults_behind(self):
        closed = at("loft", "desk1", allowed_macs="02:00:00:00:00:77", mac_limit=1, violation="shutdown", violations=3,
                    oper="down")  # fmt: skip
        behind = [host("desk-loft-1", link="down", gateway="none"), at("keel", "till1", pvid=10)]
        found = dict(self.told([closed, *behind]))
        self.assertEqual(set(found), {"port-refuses-station", "host-gateway-missing", "port-vlan-wrong"})
        self.assertEqual(found["port-refuses-station"], ["ports loft desk1: allowed_macs = 02:00:00:00:00:01"])
        (refused,) = (f for f in self.answer.findings if f.rule == "port-refuses-station")
        self.assertIn("closed itself", refused.says)

    def test_9_an_interface_is_down_because_no_port_carries_its_vlan(self):
        dark = [at("keel", "t1", allowed="1 20"), interface("keel", "vlan10", 10, oper="down")]
        found = self.told(dark, desks=(2, 0), tills=(0, 1), style="own")
        self.assertEqual(found, [("link-vlan-missing", ["ports keel t1: allowed = 1 10 20"])])
        self.assertEqual([under.rule for under in self.answer.findings[0].follows], ["gateway-down"])

    def test_10_hosts_without_a_gateway(self):
        for name, vid, proxy in (("desk-loft-1", 10, p) for p in ("yes", "no", "")):
            answers = interface("crane", f"g1.{vid}", vid, proxy_arp=proxy)
            found = self.told([host(name, gateway="none"), answers])
            self.assertEqual(found, [("host-gateway-missing", [f"hosts {name}: gateway = 10.9.{vid}.1"])])
            self.told([host(name, gateway="none", address="10.9.10.20/16"), answers])
            self.assertEqual(self.answer.verdict, {"yes": "works", "no": "fails", "": "unknown"}[proxy])
            if proxy == "yes":
                self.assertEqual([f.rule for f in self.answer.findings], ["proxy-arp-hides"])
        found = self.told([host("till-keel-1", gateway="none")])
        self.assertEqual(found, [("host-gateway-missing", ["hosts till-keel-1: gateway = 10.9.20.1"])])

    def test_11_tag_types_differ(self):
        found = self.told([at("keel", "t1", tagging="802.1ad")], target="desk-keel-1")
        self.assertEqual(found, [("link-tagging-differs", ["ports keel t1: tagging = 802.1Q"])])
        self.assertIn("close and open the port", self.answer.order[-1].wait_for)

    def test_12_native_vlans_differ(self):
        for pair in (("desk-loft-1", "desk-keel-1"), ("desk-keel-1", "desk-loft-1")):
            found = self.told([at("keel", "t1", pvid=10)], *pair)
            self.assertEqual(found, [("link-native-differs", ["ports keel t1: pvid = 1"])])
        self.told([at("keel", "t1", pvid=10), at("loft", "t1", pvid=20)])
        self.assertEqual(self.answer.confidence, "open")
        (both,) = self.answer.findings
        self.assertEqual({c.key["device"] for one in both.alternatives for c in one.changes}, {"loft", "keel"})
        self.assertTrue(self.answer.decide)

    def test_13_a_cut_cable(self):
        dark = [at(device, "t1", oper="down") for device in ("loft", "keel")]
        pairs = [tested("keel", "t1", pair, "open", 17) for pair in (1, 2)]
        self.assertEqual([rule for rule, _ in self.told([*dark, *pairs], target="desk-keel-1")], ["cable-fault"])
        self.assertIn("pair 1 open at 17 m, pair 2 open at 17 m", self.answer.findings[0].says)
        for speeds, says in (
            ({}, "perhaps at a lower speed"),
            ({"speed": 100, "capable_speed": 1000}, "100 Mb/s instead"),
        ):
            lit = apply_changes(yard(), [*pairs, at("keel", "t1", **speeds)])
            (found,) = [one for one in check(lit).findings if one.rule == "cable-fault"]
            self.assertIn(says, found.says)

    def test_one_more_witness_never_makes_the_answer_worse(self):
        levels = {"open": 0, "likely": 1, "sure": 2}
        for fault, mend in (
            (at("loft", "desk1", pvid=20), "ports loft desk1: pvid = 10"),
            (interface("crane", "inner", 10, vid=20), "gateways crane inner 10.9.10.1/24: vid = 10"),
            (
                interface("crane", "inner", 10, address="10.9.10.7/24"),
                "gateways crane inner 10.9.10.7/24: address = 10.9.10.1/24",
            ),
        ):
            before = (False, 0)
            for desks in ((1, 0), (1, 1), (2, 1), (2, 2), (3, 2)):
                found = self.told([fault], desks=desks, told=False)
                now = (found[0][1] == [mend], levels[self.answer.confidence])
                self.assertGreaterEqual(now, before, (mend, desks))
                before = now
            self.assertTrue(before[0], mend)

    def test_14_five_faults_at_once(self):
        wrong = [
            at("loft", "desk1", pvid=20),
            host("desk-loft-1", gateway="10.9.10.9"),
            at("keel", "t1", allowed="1 20"),
            interface("crane", "g1.10", 10, admin="down", oper="down"),
            at("keel", "till1", admin="down", oper="down"),
            host("till-keel-1", link="down"),
        ]
        rules = ["host-gateway-wrong", "port-vlan-wrong", "link-vlan-missing", "gateway-admin-down", "port-admin-down"]
        self.assertEqual([rule for rule, _ in self.told(wrong)], rules)

    def test_14_every_fault_twice(self):
        wrong = [at("loft", "desk1", pvid=20), at("keel", "till1", pvid=10), host("desk-loft-1", gateway="10.9.10.9"),
                 host("till-keel-1", gateway="10.9.20.9")]  # fmt: skip
        mends = {mend for _, some in self.told(wrong) for mend in some}
        self.assertEqual(
            mends,
            {"ports loft desk1: pvid = 10", "hosts desk-loft-1: gateway = 10.9.10.1", "ports keel till1: pvid = 20",
             "hosts till-keel-1: gateway = 10.9.20.1"},
        )  # fmt: skip

    def test_whom_a_mend_costs_is_told_and_who_worked_by_luck_apart(self):
        leak = [
            at("keel", "t1", mode="access", pvid=20, allowed=""),
            at("loft", "t1", pvid=10),
            at("keel", "desk1", pvid=20),
        ]
        found = self.told(leak, "till-loft-1")
        self.assertEqual([rule for rule, _ in found], ["link-mode-differs"])
        lucky = {frozenset(pair) for pair in self.answer.luck}
        self.assertEqual(
            (self.answer.costs, lucky), ((), {frozenset((f"desk-loft-{n}", "desk-keel-1")) for n in (1, 2)})
        )
        self.told([at("loft", "desk1", pvid=20)])
        self.assertEqual((self.answer.costs, self.answer.luck), ((), ()))

    def test_pairs_that_work_as_they_should_and_stop_are_no_luck(self):
        context = Context(Network(yard()))
        shut = [at("loft", "till1", admin="down", oper="down"), host("till-loft-1", link="down")]
        costs, by_luck, *doubtful = context.once(Stopped).by(shut)
        others = {name for name in context.network.survey.column("hosts", "host") if name != "till-loft-1"}
        self.assertEqual({pair[1] for pair in costs if pair[0] == "till-loft-1"}, others)
        self.assertEqual((by_luck, doubtful), ((), [(), ()]))

    def test_the_terminal_says_how_sure_it_is_and_of_which_fault(self):
        for wrong, word, says in (
            ([at("keel", "t9", mode="access", pvid=10, allowed="")], "sure", "hardly anything against it"),
            ([at("loft", "desk1", pvid=20)], "likely", "of 1 (port-vlan-wrong) another explanation is possible"),
            (
                [at("keel", "t1", pvid=10), at("loft", "t1", pvid=20)],
                "open",
                "two explanations of 1 (link-native-differs)",
            ),
        ):
            with tempfile.TemporaryDirectory() as folder:
                write_survey(apply_changes(yard(), wrong), Path(folder) / "s")
                shown = run("why", Path(folder) / "s", "desk-loft-1", "till-keel-1", "--brief").stdout
            head = " ".join(shown.partition("In the way")[0].split())
            self.assertIn(f"{word} ", head)
            self.assertIn(says, head)

    def test_a_host_that_tags_and_its_port_agree_again_at_one_of_the_two(self):
        trunk = at("loft", "desk1", mode="trunk", pvid=1, allowed="1 10 20")
        wrong = at("loft", "desk1", mode="access", pvid=20, voice=30)
        told = at("loft", "desk1", voice=20)  # else it may be told to tag what nobody read
        for now, vid, mends, sure in (
            ([], 10, ["hosts desk-loft-1: vid = none"], "open"),
            ([told], 77, ["hosts desk-loft-1: vid = none"], "sure"),
            ([trunk], 20, ["hosts desk-loft-1: vid = 10"], "sure"),
            ([at("loft", "desk1", mode="trunk", pvid=1, allowed="1 20")], 10,
             ["ports loft desk1: allowed = 1 10 20"], "sure"),
            ([at("loft", "desk1", mode="trunk", pvid=10, allowed="1 10 20")], 20,
             ["hosts desk-loft-1: vid = none"], "sure"),
            ([wrong], 10, ["ports loft desk1: mode = trunk, pvid = none, allowed = 10"], None),
        ):  # fmt: skip
            found = self.told([*now, host("desk-loft-1", vid=vid)])
            self.assertEqual(found, [("host-tag-wrong", mends)])
            self.assertIn(self.answer.confidence, (sure,) if sure else ("likely", "open"))
            self.told([*now, host("desk-loft-1", vid=vid)], "till-keel-1", "desk-loft-1")
            self.assertEqual([f.rule for f in self.answer.findings], ["host-tag-wrong"])
        self.told([trunk, host("desk-loft-1", vid=10)])
        self.assertEqual(self.answer.verdict, "works")
        self.told([host("desk-loft-1", vid=10)])
        self.assertIn("let it send without a tag", self.answer.order[0].says)

    def test_a_host_on_a_port_that_routes(self):
        found = self.told([at("loft", "desk1", mode="routed")])
        self.assertEqual(found, [("port-mode-wrong", ["ports loft desk1: mode = access, pvid = 10"])])

    def test_what_is_planned_is_sure_whatever_speaks_against_it(self):
        allowed = VlanSet.parse("1 10 20 40")
        ends = [PlannedPort(d, "t1", "trunk", allowed=allowed, native=1) for d in ("keel", "loft")]
        trunks = Plan(ports={(end.device, "t1"): end for end in ends})
        both = [at(end.device, "t1", mode="trunk", allowed="1 10 20 40", pvid=1) for end in ends]
        access = [at(end.device, "t1", mode="access", pvid=10 * n, allowed="") for n, end in enumerate(ends, 1)]
        own, till = interface("crane", "g1.20", 20, address="10.9.20.7/24"), host("till-loft-1", gateway="10.9.20.7")
        again = Change("gateways", {**own.key, "address": "10.9.20.7/24"}, {"address": "10.9.20.1/24"})
        for changes, plan, word, mends in (
            ([at("loft", "desk1", pvid=20)], Plan(ports={("loft", "desk1"): PlannedPort("loft", "desk1", vlan=10)}),
             "likely", [at("loft", "desk1", pvid=10)]),
            ([at("keel", "t1", pvid=10), at("loft", "t1", pvid=20)], Plan(settings=Settings(native=1)),
             "open", [at("keel", "t1", pvid=1), at("loft", "t1", pvid=1)]),
            (access, trunks, "likely", both),
            (access[:1], trunks, "sure", both[:1]),
            ([own, till], Plan(vlans={20: PlannedVlan(20, gateways=("10.9.20.1",))}),
             "sure", [again, host("till-loft-1", gateway="10.9.20.1")]),
        ):  # fmt: skip
            self.told(changes)
            self.assertEqual(self.answer.confidence, word)
            self.told(changes, plan=plan)
            self.assertEqual(self.answer.confidence, "sure")
            self.assertCountEqual(self.answer.repair, mends)

    def test_a_route_tells_which_router_had_a_lost_gateway(self):
        beside = {"device": "loft", "interface": "vlan20", "address": "10.9.20.2/24"}
        led = {"device": "keel", "prefix": "10.9.10.0/24", "next_hop": "10.9.20.2"}
        found = self.told(
            [
                Change("gateways", interface("keel", "vlan10", 10).key, delete=True),
                Change("gateways", beside, {"vid": 20, "admin": "up", "oper": "up"}),
                Change("routes", led, {"interface": "vlan20"}),
            ],
            style="own",
        )
        self.assertEqual([rule for rule, _ in found], ["gateway-missing", "routing-off"])
        self.assertTrue(found[0][1][0].startswith("gateways loft vlan10 10.9.10.1/24"))

    def test_a_transit_address_is_mended_once_though_the_port_beside_is_wrong_too(self):
        """`crane` hands on to `keel` in VLAN 20; its own address there is wrong, and its port is no trunk."""
        odd = interface("crane", "g1.20", 20, address="10.99.0.9/24", untagged="yes")
        keel = {"device": "keel", "interface": "vlan20", "address": "10.9.20.2/24"}
        hops = (("keel", "10.9.10.0/24", "10.9.20.1", "vlan20"), ("crane", "10.9.77.0/24", "10.9.20.2", "g1.20"))
        routes = [Change("routes", {"device": d, "prefix": p, "next_hop": n}, {"interface": i}) for d, p, n, i in hops]
        survey = apply_changes(yard(tills=(0, 0)), [
            odd, at("keel", "t9", mode="access", pvid=10, allowed=""),
            Change("devices", {"device": "keel"}, {"routing": "yes"}),
            Change("gateways", keel, {"vid": 20, "admin": "up", "oper": "up"}), *routes,
        ])  # fmt: skip
        mends = [c for f in check(Network(survey)).findings for c in f.repair if c.table == "gateways"]
        self.assertEqual([c.cells.get("address") for c in mends], ["10.9.20.1/24"])

    def test_a_fault_that_is_one_anyway_speaks_for_no_explanation(self):
        """Its port and gateway agree, its address does not; two interfaces that are wrong, too, decide nothing."""
        astray = host("desk-loft-1", address="10.9.20.99/24")
        others = [interface("keel", "vlan10", 10, address="10.9.10.4/24"), interface("keel", "vlan20", 20, vid=10)]
        found = self.told([astray, *others], target="desk-keel-1", style="own", desks=(2, 2), tills=(2, 2))
        self.assertEqual(found, [("host-outside-subnet", ["hosts desk-loft-1: address = 10.9.10.2/24"])])

    def test_an_interface_named_after_its_vlan_is_not_moved_after_two_tills(self):
        there = [
            Change("vlans", {"device": d, "vid": 30}, {"name": "store", "state": "active"}) for d in ("loft", "keel")
        ]
        astray = [at("loft", f"till{n}", pvid=30) for n in (1, 2)]
        found = self.told([*there, *astray], target="till-loft-1", tills=(2, 0), style="own")
        self.assertEqual(found, [("port-vlan-wrong", ["ports loft till1: pvid = 20"])])

    def test_a_lost_address_is_given_back_in_the_subnet_of_the_hosts_own_gateway(self):
        bare = host("desk-loft-1", address="none")
        found = self.told([bare, interface("crane", "g1.10", 10, address="10.7.7.1/24")])
        self.assertEqual(
            found,
            [
                ("host-address-missing", ["hosts desk-loft-1: address = 10.9.10.2/24"]),
                ("gateway-address-wrong", ["gateways crane g1.10 10.7.7.1/24: address = 10.9.10.1/24"]),
            ],
        )

    def test_a_lost_gateway_comes_back_where_it_was_and_takes_nobodys_place(self):
        gone = Change("gateways", {"device": "crane", "interface": "g1", "address": "10.9.10.1/24"}, {}, True)
        self.told([gone, at("keel", "desk1", pvid=20)], desks=(1, 1), style="ports")
        (finding,) = self.answer.findings
        self.assertEqual((finding.rule, finding.repair[0].key["interface"]), ("gateway-missing", "g1"))
        self.assertEqual(self.answer.costs, ())
        gone = Change("gateways", {"device": "crane", "interface": "g1.20", "address": "10.9.20.1/24"}, {}, True)
        bare = [at("keel", "t9", pvid=10), interface("crane", "g1.10", 10, untagged="yes")]
        self.told([gone, *bare])
        (finding,) = self.answer.findings
        (added,) = finding.repair
        self.assertEqual((added.key["interface"], added.cells["vid"], added.cells["untagged"]), ("g1.20", 20, "no"))

    def test_an_address_that_nobody_is_known_to_use_is_not_taken_from_its_interface(self):
        """Hosts are never all listed: where nobody names another, whoever uses it may be one of the rest."""
        lone = [interface("crane", "g1.10", 10, address="10.7.7.1/24"), host("desk-loft-1", gateway="none")]
        survey = apply_changes(yard(desks=(1, 0)), lone)
        answer = why(Network(survey), "desk-loft-1", "till-keel-1")
        kept = apply_changes(survey, answer.repair).gateways
        self.assertIn("10.7.7.1/24", [row.address for row in kept if row.interface == "g1.10"])

    def test_what_would_do_harm_is_taken_out_where_nothing_is_mended(self):
        context = Context(Network(yard()))
        moved = Finding("port-vlan-wrong", "breaks", (), "moved", (), (at("loft", "desk1", pvid=20),))
        named = Finding("vlan-name-differs", "note", (), "named", (), (Change("vlans", {"device": "keel", "vid": 10},
                        {"name": "quay"}),))  # fmt: skip
        self.assertEqual([len(f.repair) for f in harmless(context, [moved, named])], [0, 1])

    def test_what_rests_on_a_setting_that_another_mend_changes_stands_under_it_if_it_goes_with_it(self):
        (wrong,) = check(apply_changes(yard(style="own"), [interface("keel", "vlan20", 20, vid=777)])).findings
        self.assertEqual((wrong.rule, [f.rule for f in wrong.follows]), ("gateway-vlan-wrong", ["gateway-unreachable"]))
        loft = {"device": "loft", "interface": "vlan20", "address": "10.9.20.1/24"}
        twice = [
            Change("gateways", loft, {"vid": 20, "admin": "up", "oper": "up"}),
            Change("devices", {"device": "loft"}, {"routing": "yes"}),
        ]
        short = interface("crane", "g1.20", 20, address="10.9.20.1/26")
        found = check(apply_changes(yard(tills=(2, 2)), [short, *twice])).findings
        self.assertEqual([f.rule for f in found], ["gateway-address-duplicate", "gateway-mask-differs"])


class Unread(unittest.TestCase):
    """Two routers, of one of which no route was read."""

    def test_what_it_would_take_is_told_and_nothing_is_proposed(self):
        survey = survey_of(
            devices="device|capabilities|routing\nkeel|bridge|no\nnear|router|yes\nfar|router|yes",
            ports=ports("keel p1 access 10", "keel p2 access 20", "keel t1 trunk none 10 30",
                        "keel t2 trunk none 20 30", "near e1 routed none", "far e1 routed none"),
            neighbors=cabled("keel t1 near e1", "keel t2 far e1"),
            gateways="device|interface|address|vid|port|untagged|admin|oper\n"
                     "near|e1.10|10.9.10.1/24|10|e1|no|up|up\nnear|e1.30|10.9.30.1/30|30|e1|no|up|up\n"
                     "far|e1.20|10.9.20.1/24|20|e1|no|up|up\nfar|e1.30|10.9.30.2/30|30|e1|no|up|up",
            routes="device|prefix|next_hop|interface|origin\nfar|10.9.10.0/24|10.9.30.1|e1.30|static",
            hosts=hosts("a 10.9.10.20/24 10.9.10.1 keel p1", "b 10.9.20.20/24 10.9.20.1 keel p2"),
        )  # fmt: skip
        survey = replace(survey, info=Info())
        answer = why(Network(survey), "a", "b")
        self.assertEqual((answer.verdict, answer.repair, answer.confidence), ("unknown", (), "open"))
        (gap,) = answer.findings
        self.assertEqual((gap.rule, gap.severity, gap.repair), ("survey-gap", "note", ()))
        told = {change.key["prefix"]: change.key["next_hop"] for one in gap.alternatives for change in one.changes}
        self.assertEqual(told, {"10.9.20.0/24": "10.9.30.2", "0.0.0.0/0": "10.9.30.2"})
        self.assertIn("only if near, once read, has no route there", gap.alternatives[0].because)


class Refused(unittest.TestCase):
    """The simulator refuses what devices refuse, or the tests above would prove nothing."""

    def test_what_devices_refuse(self):
        survey = apply_changes(yard(), [at("loft", "desk1", allowed_macs="02:00:00:00:00:01", mac_limit=1)])
        for change in (
            interface("crane", "g1.10", 10, vid=20),
            interface("crane", "g1.10", 10, address="10.9.20.1/24"),
            host("desk-loft-1", address="10.9.10.1/24"),
            at("keel", "t1", mode="access", pvid=10, allowed=""),
            at("loft", "desk1", allowed_macs="02:00:00:00:00:01 02:00:00:00:00:02"),
        ):
            with self.assertRaises(AssertionError, msg=str(change)):
                Refusing(survey).carry_out([WorkStep("crane", "do it", (change,), ())])
        Refusing(survey).carry_out([WorkStep("loft", "do it", (at("loft", "desk2", pvid=20),), ())])


class Lone(unittest.TestCase):
    """A lone host and a lone gateway that disagree."""

    def asked(self, plan=None):
        network = network_of(
            devices="device|capabilities|routing\nkeel|bridge router|yes",
            ports=ports("keel p1 access 30", "keel p2 access 20"),
            gateways="device|interface|address|vid|admin|oper\nkeel|inner|10.9.1.1/24|31|up|up\n"
            "keel|outer|10.9.2.1/24|20|up|up",
            hosts=hosts("lone 10.9.1.20/24 10.9.1.1 keel p1", "other 10.9.2.20/24 10.9.2.1 keel p2"),
        )
        return why(network, "lone", "other", plan=plan)

    def test_15_is_open_and_both_explanations_are_told(self):
        answer = self.asked()
        self.assertEqual((answer.verdict, answer.confidence), ("fails", "open"))
        (finding,) = answer.findings
        told = {str(change) for one in finding.alternatives for change in one.changes}
        self.assertLessEqual({"ports keel p1: pvid = 31", "gateways keel inner 10.9.1.1/24: vid = 30"}, told)
        self.assertTrue(answer.decide)

    def test_15_a_plan_decides(self):
        answer = self.asked(Plan(hosts={"lone": PlannedHost("lone", vlan=31)}))
        self.assertEqual([str(change) for change in answer.repair], ["ports keel p1: pvid = 31"])


if __name__ == "__main__":
    unittest.main()
