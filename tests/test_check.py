"""Each rule of the check: planted alone in the healthy demo campus it is found at its subject, and nothing else is."""

import json
import re
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import msgspec

from crossthread import Change, Network, apply_changes, check, matrix, read_survey, why, write_survey
from crossthread.demo import FAULTS, faulty, healthy
from crossthread.demo.generator import generate
from crossthread.diagnosis import rules
from crossthread.diagnosis.findings import SEVERITIES
from crossthread.diagnosis.meanings import meanings
from crossthread.faces.terminal.meanings import meanings_page
from crossthread.questions.check import select
from crossthread.survey.changes import merge_changes
from tests.building import DATA, cabled, hosts, network_of, ports
from tests.recording import SURVEYS
from tests.test_command import run


def edit(table, cells, **key):
    return Change(table, key, cells)


def at(device, name, **cells):
    return edit("ports", cells, device=device, port=name)


PLANTED = json.loads((DATA / "planted.json").read_text())
"""For each rule the changes of the healthy campus by which it finds something, of what, and what else is said then.

One edit may make two things wrong, or the fault look like another.
"""


def every(findings):
    for finding in findings:
        yield finding
        yield from every(finding.follows)


class Planted(unittest.TestCase):
    def test_of_a_device_whose_ports_were_not_listed_no_vlan_is_called_unused(self):
        survey = healthy()
        routes = next(row.device for row in survey.gateways if row.vid and not row.port)
        unseen = replace(survey, ports=tuple(row for row in survey.ports if row.device != routes))
        told = [s.device for f in check(Network(unseen)).findings if f.rule == "vlan-unused" for s in f.subjects]
        self.assertNotIn(routes, told)

    def test_the_healthy_campus_is_clean(self):
        self.assertEqual(check(Network(healthy())).findings, ())

    def test_each_alone(self):
        for rule, planted in PLANTED.items():
            with self.subTest(rule):
                changes = msgspec.convert(planted["changes"], list[Change])
                found = check(Network(apply_changes(healthy(), changes))).findings
                told = list(every(found))
                self.assertIn(rule, {finding.rule for finding in told})
                self.assertLessEqual({finding.rule for finding in found}, {rule, *planted.get("also", ())})
                first = next(finding for finding in told if finding.rule == rule)
                self.assertTrue(any(planted["subject"] in str(s) for s in first.subjects), first.subjects)
                self.assertTrue(first.evidence)
                self.assertEqual(len([f for f in found if f.rule == rule]) or 1, 1, [f.says for f in found])

    def test_what_breaks_names_two_that_do_not_reach_each_other(self):
        network = Network(faulty())
        findings = check(network).findings
        self.assertGreater(len(findings), 12)
        reaches = {(a, b): verdict for a, b, verdict in matrix(network).reaches}
        for finding in findings:
            if finding.severity == "breaks":
                self.assertGreaterEqual(finding.affected, 1)
                self.assertEqual(reaches.get(finding.example, "fails"), "fails", finding.example)

    def test_the_worst_first_and_every_planted_fault_named(self):
        findings = check(Network(faulty())).findings
        order = [(SEVERITIES.index(f.severity), -f.affected) for f in findings]
        self.assertEqual(order, sorted(order))
        expected = {"port-vlan-wrong", "link-vlan-missing", "gateway-vlan-wrong", "route-missing", "host-mask-differs",
                    "host-gateway-missing", "host-gateway-wrong", "link-mode-differs", "port-admin-down",
                    "vlan-suspended", "port-refuses-station", "link-native-differs", "link-duplex-differs"}  # fmt: skip
        self.assertEqual({finding.rule for finding in findings}, expected)

    def test_a_shut_uplink_is_one_finding_with_the_hosts_behind_it(self):
        shut = [at("galley", "port1", admin="down", oper="down"), at("ropehall", "port3", oper="down")]
        found = check(Network(apply_changes(healthy(), shut))).findings
        self.assertEqual([(f.rule, f.severity, f.affected) for f in found], [("port-admin-down", "breaks", 2)])
        self.assertEqual(set(found[0].affects), {"galley-till", "galley-tablet"})
        self.assertEqual({f.rule for f in found[0].follows}, {"vlan-split"})

    def test_a_redundant_uplink_that_is_shut_only_risks(self):
        shut = [at("chartroom", "port2", admin="down", oper="down"), at("core-west", "port6", oper="down")]
        found = check(Network(apply_changes(healthy(), shut))).findings
        self.assertEqual([(f.rule, f.severity) for f in found], [("port-admin-down", "risks")])

    def test_swapped_tags_are_one_finding_whose_repair_clears_first(self):
        swapped = [c for says, changes in FAULTS.items() if "swapped" in says for c in changes]
        network = Network(apply_changes(healthy(), swapped))
        found = check(network).findings
        self.assertEqual([f.rule for f in found], ["gateway-vlan-wrong"])
        self.assertEqual([f.rule for f in found[0].follows], ["gateway-vlan-wrong"])
        self.assertEqual(found[0].repair[0].cells, {"vid": ""})
        mended = Network(apply_changes(network.survey, found[0].repair))
        self.assertEqual(check(mended).findings, ())

    def test_a_native_mismatch_says_what_leaks_into_what_and_whom(self):
        both = [at("galley", "port1", pvid=10, allowed="10-90"), at("ropehall", "port3", pvid=30, allowed="10-90")]
        found = check(Network(apply_changes(healthy(), both))).findings
        told = next(f for f in every(found) if f.rule == "link-native-differs")
        self.assertIn(
            "frames of VLAN 10 at galley port1 of galley-till come out in VLAN 30 at ropehall port3", told.says
        )
        self.assertEqual({f.rule for f in told.follows} & {"vlan-leak"}, {"vlan-leak"})

    def test_what_follows_from_something_is_gone_once_that_is_mended(self):
        nested, stay = 0, 0
        for place in (*SURVEYS[::3], *(DATA / "half").iterdir()):
            found = check(read_survey(place)).findings
            told = [one for f in found if f.repair for one in every(f.follows)]
            below = {one.identity for one in told if one.repair}
            mends = merge_changes(change for finding in found for change in finding.repair)
            after = apply_changes(read_survey(place), mends)
            left = {one.identity for one in every(check(after).findings)}
            self.assertEqual(below & left, set(), place)
            nested, stay = nested + len(told), stay + sum(one.identity in left for one in told)
            # What is mended at an interface is there, or another mend makes it so.
            added = sum(c.table == "gateways" and "proxy_arp" in c.cells for c in mends)
            self.assertLessEqual(len(after.gateways), len(read_survey(place).gateways) + added, place)
        self.assertGreater(nested, 4 * stay)  # a link may lack more, a gateway answer for others, a bundle be apart

    def test_of_a_host_without_a_gateway_among_others_without_one_its_port_or_its_address_may_be_wrong(self):
        (port,) = [f for f in check(DATA / "half" / "179815").findings if f.rule == "port-vlan-wrong"]
        told = [[str(change) for change in other.changes] for other in port.alternatives]
        self.assertEqual((port.repair, told), ((), [
            ["ports sw-a e4: pvid = 566"], ["hosts host-1: address = 192.168.243.2/25"],
        ]))  # fmt: skip
        shown = run("why", "--all", DATA / "half" / "179815").stdout
        self.assertRegex(shown, r"^✗ 4 of 6 wanted pairs do not work: no repair is proposed\.\n")
        self.assertRegex(
            shown, r"maybe ports sw-a e4(?s:.*)or    hosts host-1(?s:.*)decide  ask which VLAN is meant for"
        )

    def test_a_mend_for_which_not_all_speaks_is_likely(self):
        told = {str(f.repair[0]): f.confidence for f in check(faulty()).findings if f.repair}
        self.assertEqual(told["ports ropehall port4: pvid = 20"], "likely")  # others live in VLAN 30, too
        self.assertEqual(told["ports ropehall port1: allowed = 10 20 30 40 50 90"], "sure")
        self.assertIsNone(told["vlans lighthouse-2 30: state = active"])  # nothing to judge
        links = [f for f in check(DATA / "half" / "479903").findings if f.rule == "link-vlan-missing" and f.repair]
        sure = {str(f.subjects[0]): f.confidence for f in links}  # of VLAN 3717 there is a host that may be elsewhere
        self.assertEqual(sure, {"sw-a ge1 VLAN 3802": "sure"})
        with tempfile.TemporaryDirectory() as folder:
            write_survey(faulty(), Path(folder) / "faulty")
            shown = run("check", Path(folder) / "faulty").stdout
        self.assertIn("mend  ports ropehall port4: pvid → 20  (likely; because core-east vlan20 serves", shown)
        self.assertIn("but others live in VLAN 30, where ropehall port4 is now)", " ".join(shown.split()))
        self.assertEqual(shown.count("(likely"), list(told.values()).count("likely"))

    def test_a_link_need_not_carry_a_vlan_for_a_host_whose_address_is_from_elsewhere(self):
        found = check(DATA / "half" / "279763").findings
        self.assertNotIn("link-vlan-missing", [f.rule for f in found])
        (host,) = [f for f in found if f.rule == "host-outside-subnet"]
        self.assertEqual([f.rule for f in host.follows], ["link-vlan-missing"])

    def test_what_was_moved_together_goes_back_together(self):
        """Beside hosts of another version of IP, of whom the VLAN is as well; the two ports reach each other now."""
        moved = [edit("ports", {"pvid": 10}, device="harbour-office", port=f"port{n}") for n in (7, 8)]
        found = [f for f in check(apply_changes(healthy(), moved)).findings if f.severity == "breaks"]
        self.assertEqual(
            {str(f.repair[0]) for f in found}, {f"ports harbour-office port{n}: pvid = 50" for n in (7, 8)}
        )

    def test_a_vlan_that_is_nowhere_is_mended_wherever_its_hosts_need_it(self):
        """They are of one kind only as long as none of them gets anywhere."""
        for cells, gone in (({"state": "suspended"}, False), ({}, True)):
            rows = [
                Change("vlans", {"device": r.device, "vid": 40}, cells, gone) for r in healthy().vlans if r.vid == 40
            ]
            broken = apply_changes(healthy(), rows)
            mends = merge_changes(change for finding in check(broken).findings for change in finding.repair)
            self.assertEqual(matrix(apply_changes(broken, mends)).reaches, matrix(healthy()).reaches)

    def test_a_cable_without_a_link_is_one_finding_whichever_end_it_is_asked_of(self):
        ends = [
            edit("ports", {"oper": "down"}, device=d, port=p) for d, p in (("galley", "port1"), ("ropehall", "port3"))
        ]
        found = check(apply_changes(healthy(), ends)).findings
        self.assertEqual([f.rule for f in found if f.severity == "breaks"], ["port-down"])

    def test_a_routers_port_that_lost_its_address_gets_the_one_that_the_host_plugged_in_asks_for(self):
        key = {"device": "quay-router", "interface": "port2", "address": "10.61.70.1/30"}
        (found,) = check(apply_changes(healthy(), [Change("gateways", key, {}, True)])).findings
        self.assertEqual((found.rule, found.repair[0].key), ("gateway-missing", key))

    def test_no_two_mends_put_two_hosts_past_each_other(self):
        for name, mended, only_told in (
            (
                "379711",
                "ports sw-d ge2: mode = access, pvid = 17, allowed = , untagged = ",
                "sw-c ge7 VLAN 235",  # it rests on where the other is
            ),
            ("479813", "ports sw-a eth5: pvid = 303", "sw-d eth4 VLAN 22"),  # the one that stops somebody
        ):
            found = check(DATA / "half" / name).findings
            self.assertIn(mended, [str(change) for finding in found for change in finding.repair])
            self.assertNotIn(only_told, [str(finding.subjects[0]) for finding in found])
            self.assertIn(only_told, [str(other.subjects[0]) for finding in found for other in finding.follows])

    def test_nor_a_host_and_its_gateway(self):
        found = [str(change) for one in check(DATA / "half" / "681040").findings for change in one.repair]
        self.assertIn("ports sw-d eth4: pvid = 68", found)
        self.assertNotIn("gateways rt-a eth1.68 10.212.242.254/26: vid = 48", found)
        moved = [str(change) for one in check(DATA / "half" / "980803").findings for change in one.repair]
        self.assertIn("ports sw-a eth5: pvid = 2918", moved)
        self.assertIn("ports sw-a eth3: pvid = 2133", moved)  # a link on the way leaves 2918 out at both ends
        self.assertNotIn("ports sw-d eth4: pvid = 2918", moved)

    def test_no_link_need_carry_a_vlan_that_only_a_misplaced_host_is_in(self):
        found = check(DATA / "half" / "980825").findings
        self.assertNotIn("link-vlan-missing", [one.rule for one in found])
        self.assertIn("link-vlan-missing", [one.rule for one in every(found)])

    def test_nor_one_that_only_an_interface_with_a_wrong_tag_serves(self):
        (tag,) = [one for one in check(DATA / "half" / "681044").findings if one.rule == "gateway-vlan-wrong"]
        self.assertEqual([(one.rule, one.repair) for one in tag.follows], [("link-vlan-missing", ())])

    def test_a_list_holds_no_vlan_that_only_a_mend_that_was_dropped_adds(self):
        mends = [str(change) for one in check(DATA / "half" / "681146").findings for change in one.repair]
        self.assertIn("ports sw-c ge1: allowed = 254 301", mends)

    def test_a_gateway_that_one_host_asks_for_where_others_have_theirs_is_only_told(self):
        (found,) = [one for one in check(DATA / "half" / "698131").findings if one.severity == "breaks"]
        either = [change.table for other in found.alternatives for change in other.changes]
        self.assertEqual((found.rule, found.repair, either), ("gateway-missing", (), ["gateways", "hosts"]))

    def test_hosts_that_were_moved_together_are_no_witnesses_that_they_belong_there(self):
        gone = {"device": "core-east", "interface": "vlan10", "address": "10.61.10.1/24"}
        moved = [at("lighthouse-2", f"port{n}", pvid=20) for n in (3, 4)]
        found = check(apply_changes(healthy(), [Change("gateways", gone, {}, True), *moved])).findings
        back = [str(change) for one in found if one.rule == "port-vlan-wrong" for change in one.repair]
        self.assertEqual(sorted(back), [f"ports lighthouse-2 port{n}: pvid = 10" for n in (3, 4)])

    def test_a_vlan_is_made_where_others_need_it_besides_who_is_in_it_by_mistake(self):
        gone = [
            Change("vlans", {"device": row.device, "vid": 10}, {}, True) for row in healthy().vlans if row.vid == 10
        ]
        moved = [at("ropehall", f"port{n}", pvid=10) for n in (4, 5, 6)]
        broken = apply_changes(healthy(), [*gone, *moved])
        mends = merge_changes(change for one in check(broken).findings for change in one.repair)
        self.assertEqual(matrix(apply_changes(broken, mends)).reaches, matrix(healthy()).reaches)

    def test_what_a_pair_needs_only_until_the_rest_is_mended_is_no_fault(self):
        """Two interfaces have each other's address, and a switch was set back: no port would need the other VLAN."""
        swapped = [Change("gateways", {"device": "core-east", "interface": one, "address": f"10.61.{own}.1/24"},
                          {"address": f"10.61.{other}.1/24"})
                   for one, own, other in (("vlan10", 10, 20), ("vlan20", 20, 10))]  # fmt: skip
        gone = [Change("vlans", {"device": "lighthouse-2", "vid": v}, {}, True) for v in (10, 20, 30)]
        ups = [at("lighthouse-2", f"port{n}", mode="access", pvid=1, allowed=None) for n in (1, 2)]
        hosts = [at("lighthouse-2", f"port{n}", pvid=1) for n in (3, 4)]
        says = [one.says for one in check(apply_changes(healthy(), [*swapped, *gone, *ups, *hosts])).findings]
        self.assertEqual([text for text in says if "would need" in text], [])

    def test_a_host_that_was_learned_at_another_port_than_its_row_says_is_put_nowhere(self):
        moved = edit("hosts", {"port": "port6"}, host="ticket-desk-1")
        mac = next(row.mac for row in healthy().hosts if row.host == "ticket-desk-1")
        here = edit("macs", {"port": "port6", "kind": "learned"}, device="lighthouse-1", vid=20, mac=mac)
        unread = Change("coverage", {"device": "lighthouse-1", "table": "macs"}, {"complete": "no"})
        for changes, told in (([moved], True), ([moved, here], False), ([moved, unread], True)):
            network = Network(apply_changes(healthy(), changes))
            answer, found = why(network, "ticket-desk-1", "shop-till"), check(network).findings
            rules = [one.rule for one in answer.findings], [one.rule for one in found]
            self.assertEqual(["host-learned-elsewhere" in each for each in rules], [told, told])
            self.assertEqual((answer.verdict, bool(answer.repair)), ("unknown" if told else "fails", not told))
            self.assertEqual(
                (answer.turns or "").replace("ticket-desk-1 is at lighthouse-1 ", ""),
                "It works if port3; it fails if port6." if told else "",
            )
            self.assertFalse(told and any(change.table in ("hosts", "ports") for f in found for change in f.repair))

    def test_a_lost_trunk_towards_a_router_gets_the_native_vlan_that_all_its_beside_have_or_none(self):
        for natives, native in (((30, 30), 30), ((30, 31), None)):
            trunks = [f"s t{n} trunk {vid} 10 20 {vid}" for n, vid in enumerate(natives)]
            rows = ["device|interface|address|vid|port", *(f"r|e.{v}|10.9.{v}.1/24|{v}|e" for v in (10, 20))]
            found = check(network_of(ports=ports(*trunks, "s up access 1", "r e routed none"),
                                     neighbors=cabled("s up r e"), gateways="\n".join(rows))).findings  # fmt: skip
            (mend,) = [change for one in found if one.rule == "gateway-port-mode-wrong" for change in one.repair]
            self.assertEqual(mend.cells["pvid"], native or "none")

    def test_no_port_is_surely_put_where_more_of_another_subnet_live(self):
        answer = why(DATA / "half" / "980868", "host-3", "host-6")
        self.assertEqual((answer.confidence, answer.repair[0].cells["pvid"]), ("likely", 130))

    def test_no_gateway_is_missing_where_only_a_host_is_that_is_there_by_mistake(self):
        found = check(DATA / "half" / "579820").findings
        (gateway,) = [f for f in found if f.rule == "gateway-missing"]
        self.assertEqual([s.vid for s in gateway.subjects], [3152])
        (port,) = [f for f in found if f.rule == "port-vlan-wrong"]
        self.assertEqual([(f.rule, [s.vid for s in f.subjects]) for f in port.follows], [("gateway-missing", [2207])])

    def test_a_vlan_that_a_device_lacks_is_none_to_make_for_a_port_that_is_in_it_by_mistake(self):
        survey = generate(3, 20, 200, 4, 32)
        one, two = [h for h in survey.hosts if h.device == survey.hosts[0].device][:2]
        moved = [Change("ports", {"device": h.device, "port": h.port}, {"pvid": 2, "oper": "up"}) for h in (one, two)]
        there = {"device": one.device, "interface": "vlan2", "address": "10.200.0.1/24"}
        served = Change("gateways", there, {"vid": 2, "admin": "up", "oper": "up"})
        spare = next(p for p in survey.ports if p.device == one.device and p.mode == "access" and p.oper == "down")
        left = Change("ports", {"device": spare.device, "port": spare.port}, {"pvid": 2})
        cases = (moved[:1], 1), (moved, 1), ([*moved, left], 0), ([moved[0], served], 0)  # others need it there
        for changes, under in cases:
            found = check(apply_changes(survey, changes)).findings
            wrong = [f for f in found if f.rule == "port-vlan-wrong"]
            self.assertTrue(wrong)
            below = [f for finding in wrong for f in finding.follows]
            self.assertEqual([(f.rule, f.repair) for f in below], [("port-vlan-missing", ())] * under)
            self.assertEqual(any(f.repair for f in found if f.rule == "port-vlan-missing"), not under)

    def test_what_follows_from_another_finding_stands_under_it(self):
        """One address is given once, by what is there; nothing is mended for who is, or may be, there by mistake."""
        for number, rule, below in (
            (28, "port-vlan-wrong", [("gateway-missing", 0), ("port-vlan-wrong", 0)]),
            (29, "port-vlan-wrong", [("port-mode-wrong", 0)]),
            (30, "port-admin-down", [("gateway-down", 0)] * 3),
            (31, "host-outside-subnet", [("port-mode-wrong", 0)]),
        ):
            found = check(DATA / "recorded" / f"network-{number}" / "survey.json.gz").findings
            told = [[(f.rule, len(f.repair)) for f in one.follows] for one in found if one.rule == rule]
            self.assertEqual(told[:1], [below], number)
        self.assertEqual(len([f for f in found if f.severity == "breaks"]), 1)
        found = check(
            DATA / "recorded" / "network-32" / "survey.json.gz"
        ).findings  # what would stop others is not tried
        worst = [(f.rule, bool(f.repair)) for f in found if f.severity == "breaks"]
        self.assertEqual(worst, [("gateway-admin-down", True), ("gateway-missing", True)])
        up = {
            "mode": "trunk",
            "allowed": "all",
            "pvid": 1,
            "admin": "up",
            "oper": "up",
        }  # so it is down for another reason
        beside = Change("ports", {"device": "sw-c", "port": "e9"}, up)
        survey = read_survey(DATA / "recorded" / "network-30" / "survey.json.gz")
        self.assertIn("gateway-down", [f.rule for f in check(apply_changes(survey, [beside])).findings])
        answer = why(survey, "host-3", "host-2")
        self.assertEqual([f.rule for f in answer.findings], ["port-admin-down", "routing-off"])
        self.assertEqual([step.says for step in answer.order], ["sw-c e1: bring it up", "sw-c: turn routing on"])

    def test_many_hosts_in_the_wrong_vlan_are_each_named(self):
        wrong = [at("lighthouse-1", f"port{n}", pvid=30) for n in (3, 4, 5)]
        found = check(Network(apply_changes(healthy(), wrong))).findings
        self.assertEqual([f.rule for f in found], ["port-vlan-wrong"] * 3)
        self.assertEqual({f.affects for f in found}, {("ticket-desk-1",), ("ticket-desk-2",), ("shop-till",)})

    def test_announcements_stand_for_an_end_that_was_not_surveyed(self):
        told = [
            Change("ports", {"device": "galley", "port": "port1"}, delete=True),
            edit("neighbors", {"mtu": 9000, "duplex": "half"}, device="ropehall", port="port3"),
        ]
        rules = {f.rule for f in every(check(Network(apply_changes(healthy(), told))).findings)}
        self.assertLessEqual({"link-mtu-differs", "link-duplex-differs"}, rules)

    def test_parts_of_the_answer(self):
        answer = check(Network(faulty()))
        self.assertEqual({f.rule for f in select(answer, only="port-errors").findings}, {"link-duplex-differs"})
        self.assertEqual({f.rule for f in select(answer, at=("slipway", "port2")).findings}, {"link-duplex-differs"})
        self.assertEqual(select(answer, severity="breaks").counts["risks"], 0)
        self.assertIn("vlan-suspended", {f.rule for f in select(answer, vid=30).findings})
        self.assertNotIn("link-duplex-differs", {f.rule for f in select(answer, vid=30).findings})

    def test_ends_that_disagree(self):
        rows = "device|port|neighbor|neighbor_port\nsw-a|p1|sw-b|p1\nsw-b|p1|sw-c|p1\nsw-c|p1|sw-b|p1"
        found = check(network_of(neighbors=rows, ports=ports(*(f"sw-{x} p1 trunk 1 1" for x in "abc"))))
        self.assertEqual(found.findings[0].rule, "neighbor-conflict")
        self.assertEqual(found.findings[0].says, "sw-a p1 hears sw-b p1, but sw-b p1 hears sw-c p1.")

    def test_a_vlan_missing_in_the_middle_is_named_at_the_very_link(self):
        found = check(network_of(
            neighbors=cabled("sw-a p1 sw-b p1", "sw-b p2 sw-c p1"),
            ports=ports("sw-a p1 trunk none 7", "sw-b p1 trunk none 7", "sw-b p2 trunk none 8",
                        "sw-c p1 trunk none 7", "sw-a p9 access 7", "sw-c p9 access 7"),
            hosts=hosts("a 10.0.0.1/24 none sw-a p9", "c 10.0.0.2/24 none sw-c p9"),
        )).findings  # fmt: skip
        worst = [(f.rule, str(f.subjects[0])) for f in found if f.severity != "note"]
        self.assertEqual(worst, [("link-vlan-missing", "sw-b p2 VLAN 7")])

    def test_each_of_several_hosts_with_the_same_wrong_setting_breaks(self):
        for gateway, names in (
            ("10.61.40.77", ("plank-saw", "paint-booth")),  # as many of their subnet have the right one
            ("10.61.10.31", ("ticket-desk-1", "ticket-desk-2", "shop-till")),  # that is another host's address
        ):
            changes = [Change("hosts", {"host": name}, {"gateway": gateway}) for name in names]
            found = check(apply_changes(healthy(), changes)).findings
            told = {(finding.rule, finding.severity, finding.subjects[0].host) for finding in found}
            self.assertEqual(told, {("host-gateway-wrong", "breaks", name) for name in names})


class Docstrings(unittest.TestCase):
    def test_each_rule_says_what_it_means_why_it_matters_how_to_confirm_and_to_mend_it(self):
        for one in meanings():
            with self.subTest(one.rule):
                texts = (one.means, one.matters, one.notice, one.confirm, one.mend)
                self.assertTrue(all(text.endswith(".") and len(text) > 7 for text in texts), texts)

    def test_every_finding_that_the_rules_make_is_in_the_catalogue(self):
        known = {one.rule for one in meanings()}
        made = set()
        for path in Path(rules.__file__).parent.glob("*.py"):
            made |= set(re.findall(r'Finding\(\s*"([a-z-]+)"', path.read_text(encoding="utf-8")))
        self.assertGreater(len(made), 40)
        self.assertEqual(made - known, set())

    def test_the_page_is_in_step(self):
        page = Path(__file__).parent.parent / "docs" / "findings.md"
        self.assertEqual(page.read_text(encoding="utf-8"), meanings_page(meanings()))


if __name__ == "__main__":
    unittest.main()
