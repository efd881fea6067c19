"""Mends that did harm, and verdicts that were wrong, in networks where something was left out or nothing would do."""

import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

from crossthread import Change, Network, apply_changes, check, matrix, read_survey, why, why_all, write_survey
from crossthread.demo import healthy
from crossthread.demo.generator import generate
from crossthread.diagnosis.context import Context
from crossthread.diagnosis.repair.harm.side_effects import Stopped
from crossthread.diagnosis.repair.harm.widening import only_widens
from crossthread.diagnosis.way.echo import lucky
from crossthread.survey.records import Host, Port
from crossthread.views.class_matrix import class_matrix, compare_classes
from tests.building import DATA, LAB, hosts, network_of, ports
from tests.test_check import every
from tests.test_command import run
from tests.test_half_known import without_device, without_table
from tests.yard import at, host, interface, lost, yard


def campus(name):
    return read_survey(DATA / "half" / name)


def told_facts(findings):
    for finding in findings:
        yield from finding.evidence
        yield from told_facts(finding.follows)


def holds(survey, fact):
    """Whether a fact that is told of a cell stands in a survey."""
    alike = (
        row
        for row in survey.table(fact.table)
        if all(getattr(row, column) == value for column, value in fact.key.items())
    )
    return any(str(getattr(row, fact.column) or "none") == str(fact.value) for row in alike)


class Harmless(unittest.TestCase):
    def test_nothing_is_mended_by_what_only_a_mend_that_was_given_up_would_have_made_so(self):
        answer = why(Network(without_device(campus("598024"), "sw-a")), "host-6", "host-1")
        (finding,) = answer.findings
        self.assertEqual(list(map(str, finding.alternatives[0].changes)), ["hosts host-1: gateway = 172.30.235.97"])
        self.assertEqual((finding.repair, answer.confidence), ((), "open"))  # another is as good, and sw-a was not read
        answer = why(Network(without_device(campus("598007"), "rt-a")), "host-1", "host-2")
        gap, prefix = answer.findings  # the router was not read, but its address is at the end of a wider subnet
        self.assertEqual((gap.rule, gap.repair), ("survey-gap", ()))
        self.assertEqual(list(map(str, prefix.repair)), ["hosts host-2: address = 10.158.104.219/27"])
        self.assertNotIn("10.158.104.222", answer.to_json())  # an address that nobody has

    def test_every_fact_that_is_told_stands_in_the_survey_or_is_made_so_by_the_mend(self):
        count = 0
        for case in LAB[:6]:
            whole = read_survey(case / "survey")
            for survey in (whole, *(without_device(whole, d) for d in {row.device for row in whole.gateways})):
                network = Network(survey)
                failing = [pair[:2] for pair in matrix(network).reaches if pair[2] == "fails"]
                for a, b in failing[:2]:
                    answer = why(network, a, b)
                    mended = network.changed(answer.repair).survey
                    for fact in told_facts(answer.findings):
                        if fact.value is not None:
                            count += 1
                            where = mended if fact.source == "once mended" else survey
                            self.assertTrue(holds(where, fact), f"{case.name} {a} {b}: {fact}")
        self.assertGreater(count, 5)

    def test_a_port_is_not_moved_where_one_is_whose_own_settings_are_in_doubt(self):
        for pair in (("host-3", "host-2"), ("host-2", "host-3")):
            self.assertEqual(why(Network(without_device(campus("578012"), "rt-a")), *pair).repair, ())

    def test_of_an_interface_and_hosts_none_is_renumbered_while_the_interface_may_not_be(self):
        answer = why(Network(without_device(campus("318221"), "sw-d")), "host-6", "host-3")
        told = [str(change) for finding in answer.findings for one in finding.alternatives for change in one.changes]
        self.assertEqual((answer.verdict, answer.repair, len(told)), ("fails", (), 1))  # it is told as one of more
        answer = why(Network(without_device(campus("618217"), "sw-a")), "host-4", "host-1")
        self.assertEqual(list(map(str, answer.repair)), ["hosts host-1: gateway = 10.147.134.161"])  # as its peers have

    def test_a_routers_port_is_not_moved_to_one_host_while_others_of_its_subnet_were_not_found(self):
        answer = why_all(without_device(campus("438332"), "sw-a"))
        self.assertEqual([change for change in answer.repair if "pvid" in change.cells], [])

    def test_two_in_one_vlan_work_by_luck_only_if_all_was_read_of_where_their_subnet_lives(self):
        whole = campus("618235")
        answer = why(Network(without_device(whole, "sw-c")), "host-5", "host-3")
        told = [str(change) for one in answer.findings[0].alternatives for change in one.changes]
        self.assertEqual((answer.repair, told), ((), ["ports sw-a e3: pvid = 17"]))
        self.assertTrue(lucky(Context(Network(whole)), "host-1", "host-4"))

    def test_what_everything_speaks_against_is_neither_mended_nor_told(self):
        for survey in (campus("578031"), without_device(campus("578031"), "sw-c")):
            answer = why(Network(survey), "host-3", "host-1")
            self.assertEqual((answer.verdict, answer.confidence), ("fails", "open"))
            self.assertEqual([one.repair for one in answer.findings if one.rule == "subnet-unrouted"], [()])
            self.assertNotIn("192.168.33.", str(answer.repair))  # what else is wrong may be mended

    def test_a_gateway_stays_where_somebody_whom_nobody_listed_may_be_served(self):
        moved = [at("keel", f"till{n}", pvid=10) for n in (1, 2)] + [host("till-loft-1", address="")]
        for style, rule in (
            ("ports", "port-vlan-wrong"),
            ("own", "gateway-vlan-wrong"),
            ("stick", "gateway-vlan-wrong"),
        ):
            survey = without_device(apply_changes(yard((2, 1), (1, 2), style, False), moved), "loft")
            self.assertEqual([f.repair for f in check(survey).findings if f.rule == rule], [()])

    def test_what_works_by_luck_is_not_ended_for_nothing(self):
        self.assertEqual(why(DATA / "half" / "980805", "host-1", "host-2").repair, ())

    def test_a_shut_link_stays_shut_where_the_unknown_may_join_its_ends(self):
        (finding,) = why(Network(without_device(campus("438032"), "sw-b")), "host-3", "host-1").findings
        self.assertEqual((finding.rule, finding.repair), ("port-admin-down", ()))
        alone = why(Network(campus("388017")), "host-4", "host-3")  # all trees were read
        self.assertIn("ports sw-b eth3: admin = up", " ".join(map(str, alone.repair)))

    def test_a_shut_link_stays_shut_where_whoever_works_may_stop_by_what_it_carries(self):
        survey = read_survey(DATA / "recorded" / "opened" / "survey.json.gz")  # two links have access ports by mistake
        found = {f.rule: f for f in check(survey).findings}
        shut = found["port-admin-down"]  # the VLANs go by the other link
        self.assertEqual([change.key["port"] for change in shut.repair], ["e1", "e2"])
        self.assertTrue(all(own.changes == shut.repair for own in shut.alternatives))
        mended = apply_changes(survey, [Change("ports", {"device": d, "port": p},
                                               {"mode": "trunk", "pvid": 2267, "allowed": "all"})
                                        for d, p in (("sw-a", "e1"), ("sw-b", "e2"))])  # fmt: skip
        found = {f.rule: f for f in check(mended).findings}
        self.assertNotEqual(found["port-admin-down"].repair, ())

    def test_a_mend_that_stops_a_pair_which_works_is_told_and_not_proposed(self):
        told = why(Network(campus("588040")), "host-1", "host-2")  # host-4 tells which address the gateway should have
        self.assertEqual([f.rule for f in told.findings], ["host-gateway-outside-subnet", "gateway-address-wrong"])
        self.assertTrue(told.repair_proven)
        silent = apply_changes(campus("588040"), [host("host-4", gateway="none")])
        answer = why(Network(silent), "host-1", "host-2")
        self.assertEqual((answer.repair, answer.confidence), ((), "open"))
        self.assertEqual(set(answer.costs), {("host-1", "host-3"), ("host-3", "host-1")})
        (finding,) = answer.findings
        self.assertTrue(finding.alternatives and all(one.stops for one in finding.alternatives))

    def test_a_longer_prefix_may_be_among_routes_that_nobody_read(self):
        pair = ("host-1", "host-2")
        self.assertEqual(why(Network(campus("388026")), *pair).verdict, "works")
        self.assertEqual(why(Network(without_table(campus("388026"), "routes")), *pair).verdict, "unknown")

    def test_who_answers_for_others_may_do_so_by_a_route_that_nobody_read(self):
        self.assertEqual(why(Network(campus("538320")), "host-1", "host-2").verdict, "works")
        self.assertEqual(why(Network(without_table(campus("538320"), "routes")), "host-1", "host-2").verdict, "unknown")

    def test_a_host_plugged_in_nobody_knows_where_may_meet_a_router_nobody_read(self):
        pair = ("host-1", "host-3")
        self.assertEqual(why(Network(campus("388017")), *pair).verdict, "works")
        self.assertEqual(why(Network(without_device(campus("388017"), "sw-a")), *pair).verdict, "unknown")


class Checked(unittest.TestCase):
    """`check` and `why --all` propose nothing either that stops a pair which works."""

    def harmed(self, survey, repair):
        network = Network(survey)
        context, before = Context(network), matrix(network).reaches
        after = matrix(network.changed(repair)).reaches if repair else before
        pairs = zip(before, after, strict=True)
        return [
            was[:2] for was, now in pairs if was[2] == "works" and now[2] == "fails" and not lucky(context, *was[:2])
        ]

    def test_a_port_at_which_somebody_tags_is_not_made_an_access_port(self):
        """The one host has no other VLAN than that of its tag; behind the other is somebody who tags beside it."""
        rows = ports(
            "quay p1 trunk none 10 20", "quay p2 trunk none 10 20", "quay p3 trunk 10 10 30", "quay p4 access 10"
        )
        plugged = hosts(
            *(f"{name} 10.{number // 3}.0.{number}/24 none quay p{number}" for number, name in enumerate("abcd", 1))
        )
        learned = "device|vid|mac|port\nquay|10|02:00:00:00:00:03|p3"
        tagged = f"{learned}\nquay|20|02:00:00:00:00:01|p1\nquay|30|02:00:00:00:00:77|p3"
        for macs, mended in ((learned, ["p1", "p2", "p3"]), (tagged, ["p2"])):
            network = network_of(
                ports=rows, hosts=plugged, macs=macs, devices="device|capabilities|routing\nquay|bridge|no"
            )
            found = [f for f in check(network).findings if f.rule == "port-mode-wrong"]
            self.assertEqual(sorted(str(c.key["port"]) for f in found for c in f.repair), mended)
            self.assertEqual(len([f for f in found if "that tags" in f.says]), 3 - len(mended))

    def test_nobody_gets_an_address_that_an_arp_cache_has_at_anothers_mac_address(self):
        wrong = interface("crane", "g1.10", 10, address="10.9.10.2/24")
        gone = Change("gateways", interface("crane", "g1.10", 10).key, delete=True)
        astray = host("desk-loft-1", address="10.9.20.77/24")
        survey = yard(desks=(3, 1))
        owners = {row.host: row.mac for row in survey.hosts}
        ports = [at("crane", "g1", mac="02:00:00:00:c1:01")]
        for edit, ip, own in (
            (wrong, "10.9.10.1", "02:00:00:00:c1:01"),
            (gone, "10.9.10.1", "02:00:00:00:c1:01"),
            (astray, "10.9.10.2", owners["desk-loft-1"]),
        ):
            for mac in (own, "02:00:00:00:ee:ee"):
                heard = Change("arp", {"device": "keel", "interface": "t9", "address": ip}, {"mac": mac})
                network = Network(apply_changes(survey, [*ports, edit, heard]))
                answers = [why(network, "desk-loft-1", name) for name in ("till-keel-1", "desk-keel-1")]
                failing = [answer for answer in answers if answer.verdict == "fails"]
                given = [c for answer in failing for c in answer.repair if ip in str(c)]
                stranger = mac != own and edit is not astray  # who answers for the gateway's address, and may pass on
                fails = not stranger or edit is gone  # without an interface, crane has no way back
                self.assertEqual((bool(failing), bool(given)), (fails, mac == own), (edit, mac))
                survey_it = f"survey what answers for {ip}: MAC address {mac}"
                self.assertEqual(any(one.says.startswith(survey_it) for one in answers[0].look), stranger, (edit, mac))
                says = " ".join(finding.says for finding in check(network).findings)
                self.assertEqual(survey_it in says, stranger and not fails, (edit, mac))

    def test_a_station_that_nobody_listed_may_have_the_address_that_is_asked_for(self):
        wrong = interface("crane", "g1.10", 10, address="10.9.10.2/24")
        entry = {"device": "loft", "vid": 10, "mac": "02:00:00:00:ee:ee"}
        for vid, sure, told in ((20, "sure", 0), (10, "likely", 1)):
            learned = Change("macs", entry | {"vid": vid}, {"port": "spare", "kind": "learned"})
            answer = why(apply_changes(yard(desks=(3, 1)), [wrong, learned]), "desk-loft-1", "till-keel-1")
            (own,) = (one for one in answer.findings[0].alternatives if one.changes == answer.repair)
            told_so = [says for says in own.against if says.startswith("loft spare has learned 02:00:00:00:ee:ee")]
            self.assertEqual((answer.confidence, len(told_so)), (sure, told))

    def test_who_was_read_to_have_another_address_has_given_that_one_up(self):
        gone = Change("gateways", interface("crane", "g1.10", 10).key, delete=True)
        entry = Change(
            "arp", {"device": "keel", "interface": "t9", "address": "10.9.10.1"}, {"mac": "02:00:00:00:00:05"}
        )
        survey = apply_changes(yard(desks=(3, 1)), [gone, entry])
        (owner,) = [row.host for row in survey.hosts if row.mac == "02:00:00:00:00:05"]
        unread = apply_changes(survey, [host(owner, address=None)])
        for told, given in ((survey, True), (unread, False)):
            answer = why(Network(told), "desk-loft-1", "till-keel-1")
            self.assertEqual(any("10.9.10.1" in str(change) for change in answer.repair), given, owner)

    def test_an_interface_that_others_use_as_it_is_gets_no_other_address(self):
        whole = campus("648433")
        found = check(whole).findings
        for finding in found:
            self.assertEqual(self.harmed(whole, finding.repair), [], finding.says)
        for survey in (whole, without_table(whole, "devices")):  # who routes was not read: they may well work
            found = every(check(survey).findings)
            told = [f for f in found if f.rule == "gateway-address-wrong" and f.subjects[0].interface == "ge3"]
            self.assertFalse(any(finding.repair for finding in told))
        self.assertEqual(self.harmed(whole, why_all(whole).repair), [])

    def test_a_host_on_a_trunk_keeps_its_vlan_where_its_gateway_was_not_read(self):
        for name, device in (("680004", "sw-c"), ("677123", "sw-b")):
            whole = campus(name)
            found = check(without_device(whole, "rt-a")).findings
            told = next(f for f in found if f.rule == "port-mode-wrong" and f.subjects[0].device == device)
            self.assertEqual(self.harmed(whole, [c for f in found for c in f.repair]), [])
            self.assertTrue(self.harmed(whole, told.alternatives[0].changes))

    def test_of_two_hosts_in_two_vlans_none_is_moved_where_others_were_not_read(self):
        whole = campus("158416")
        half = without_device(whole, "sw-c")
        moves = [f for f in check(half).findings if f.rule == "port-vlan-wrong"]
        self.assertEqual([f.subjects[1].host for f in moves if f.repair], ["host-4"])  # no list names its VLAN
        for finding in (*check(half).findings, *check(whole).findings):
            self.assertEqual(self.harmed(whole, finding.repair), [], finding.says)
        astray = [at("loft", "desk1", pvid=20), at("keel", "t9", allowed="1 10")]
        with tempfile.TemporaryDirectory() as folder:
            lone = apply_changes(yard(desks=(1, 1), tills=(0, 0)), astray)
            for name, survey in (("half", without_device(lone, "crane")), ("other", half)):
                write_survey(survey, Path(folder) / name)
            shown = run("why", Path(folder) / "half", "--all").stdout
            other = " ".join(run("why", Path(folder) / "other", "--all").stdout.split())
            self.assertRegex(other, r"whether \d+ pairs work then is not known")
        self.assertIn("no repair is proposed", shown)
        self.assertIn("maybe ports keel desk1: pvid → 20", shown)

    def test_of_many_hosts_harm_is_worked_out_of_what_is_to_be_proposed(self):
        survey = generate(3, 20, 1200, 4, 64)
        host = survey.hosts[0]
        moved = [Change("ports", {"device": host.device, "port": host.port}, {"pvid": 2})]
        stopped = Stopped(Context(Network(survey)))
        self.assertEqual(stopped.by(moved).stops, ())  # of each that is weighed it would take too long
        told = stopped.by(moved, proposed=True).stops
        self.assertTrue(all(host.host in pair for pair in told))
        self.assertTrue(0 < len(told) <= 20)  # one pair stands for all that are alike

    def test_nor_is_it_proposed_beside_a_thousand_other_hosts_or_hundreds_of_kinds_of_them(self):
        whole = campus("648433")
        was = {f.identity: f.repair for f in check(whole).findings}
        alike = [(f"10.250.{n // 200}.{n % 200 + 1}/21", 4000) for n in range(1001)]
        unlike = [(f"10.250.{n // 60}.{n % 60 * 4 + 1}/30", 3700 + n) for n in range(305)]
        for places in (alike, unlike):
            rows = [(f"bollard{n}", *place) for n, place in enumerate(places)]
            ports = [Port("annex", p, admin="up", oper="up", mode="access", pvid=vid) for p, _, vid in rows]
            hosts = [Host(f"bollard-{p}", None, ip, "none", "annex", p, link="up") for p, ip, _ in rows]
            large = replace(whole, ports=[*whole.ports, *ports], hosts=[*whole.hosts, *hosts])
            now = {f.identity: f.repair for f in check(large).findings}
            self.assertEqual({one: now[one] for one in was}, was)
        self.assertEqual(self.harmed(whole, why_all(large).repair), [])


class TwoExplanations(unittest.TestCase):
    def test_a_link_of_which_nobody_read_what_it_carries_is_not_made_a_trunk(self):
        for vid, mended in ((10, 2), (None, 0)):
            ends = [at(*end, mode="access", pvid=vid) for end in (("core-east", "port3"), ("lighthouse-1", "port1"))]
            found = [one for one in check(apply_changes(healthy(), ends)).findings if one.rule == "port-mode-wrong"]
            self.assertEqual([len(one.repair) for one in found], [mended])

    def test_only_what_takes_nothing_away_counts_as_letting_more_pass(self):
        survey = yard()
        closed = [at("loft", "t1", mode="access", pvid=1), at("keel", "t1", pvid="none")]
        narrow = [at("loft", "t1", allowed="1 10")]
        for before, changes, widens in (
            (narrow, [at("loft", "t1", allowed="1 10 20")], True),
            (narrow, [at("loft", "t1", allowed="1 20")], False),
            ([*closed], [at("loft", "t1", mode="trunk", pvid="none", allowed="1 10 20")], True),
            ([at("loft", "t1", mode="access", pvid=1)], [at("loft", "t1", mode="trunk", pvid="none")], False),
            ([lost("loft", 20)], [Change("vlans", {"device": "loft", "vid": 20}, {"state": "active"})], True),
            ([], [at("loft", "desk1", pvid=20)], False),
            ([], [at("loft", "t1", admin="up")], False),
            (narrow, [at("loft", "t1", allowed="1 10 20"), host("desk-loft-1", gateway="none")], False),
        ):  # fmt: skip
            with self.subTest(changes=[*map(str, changes)]):
                self.assertIs(only_widens(Network(apply_changes(survey, before)), changes), widens)

    def test_mends_of_links_that_are_harmless_together_are_so_each_by_itself(self):
        survey = generate(4, 30, 1200, 6, 40)
        trunks = [row for row in survey.ports if row.mode == "trunk" and row.allowed][::9]
        survey = apply_changes(
            survey, [at(row.device, row.port, allowed=str(row.allowed).split(" ")[0]) for row in trunks]
        )
        found = [one for one in every(check(survey).findings) if one.repair and one.rule == "link-vlan-missing"]
        self.assertGreater(len(found), 5)
        before = class_matrix(survey)
        for finding in found:
            touch = compare_classes(before, class_matrix(apply_changes(survey, finding.repair)))
            self.assertEqual((touch.lose, touch.gain > 0), (0, True))

    def test_a_host_at_a_trunk_port_is_a_poor_witness_of_where_its_subnet_lives(self):
        answer = why(Network(campus("518230")), "host-2", "host-3")
        self.assertEqual([f.rule for f in answer.findings], ["port-mode-wrong", "gateway-vlan-wrong", "routing-off"])
        self.assertEqual([change.cells.get("vid") for change in answer.findings[1].repair], [256])

    def test_a_route_tells_another_length_of_a_prefix_than_the_one_host_there(self):
        answer = why(Network(campus("598007")), "host-1", "host-3")
        (finding,) = answer.findings
        told = [(one.changes[0].cells["address"], one.because[0]) for one in finding.alternatives]
        self.assertEqual(answer.confidence, "open")
        self.assertEqual(
            told,
            [
                ("10.158.104.1/28", "1 of 1 hosts of its subnet have /28"),
                ("10.158.104.1/26", "a route leads to 10.158.104.0/26"),
            ],
        )

    def test_where_others_live_in_the_vlan_of_a_port_its_move_is_not_sure(self):
        answer = why(Network(campus("488035")), "host-3", "host-4")
        (only,) = answer.findings[0].alternatives
        self.assertEqual(answer.confidence, "likely")
        self.assertEqual(only.against, ("others live in VLAN 1030, where sw-b e5 is now",))

    def test_one_link_is_no_habit_of_native_vlans(self):
        answer = why(Network(campus("498044")), "host-9", "host-6")
        natives = answer.findings[0]
        self.assertEqual((natives.rule, answer.confidence), ("link-native-differs", "open"))
        self.assertNotIn("other links", " ".join(natives.alternatives[0].because))


if __name__ == "__main__":
    unittest.main()
