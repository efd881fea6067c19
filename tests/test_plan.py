"""The plan: read with every error at its line, drafted from a survey, compared with the campus, and its acceptances."""

import tempfile
import unittest
from datetime import date
from pathlib import Path

from hypothesis import given, settings
from hypothesis import strategies as st

from crossthread import Change, Network, Survey, SurveyError, apply_changes, check, matrix, read_plan
from crossthread.demo import faulty, healthy
from crossthread.questions.plan_draft import draft_plan
from tests.test_designs import carried
from tests.yard import at, host, interface, yard

BROKEN = """title = 7
colour = "red"
[settings]
mtu = "big"
[vlans]
5000 = {}
20 = { subnets = [
  "10.61.20.1/24",
], nmae = "x" }
[ports.core-east]
port3 = { mode = "trnk" }
port4 = 5
[[links]]
ends = ["a", "b", "c"]
[[links]]
ends = ["a", "b", "c", "d"]
carries = "20-10"
[[talk]]
vlans = "10"
[[accept]]
rule = "port-errors"
reason = ""
until = 2026-12-30
"""


def plan_of(text):
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "plan.toml"
        path.write_text(text, encoding="utf-8")
        return read_plan(path)


def rules(survey, text, today=date(2026, 6, 1)):
    found = check(Network(survey), plan_of(text), today)
    return {(f.rule, str(f.subjects[0]) if f.subjects else "") for f in found.findings}, found


class Reading(unittest.TestCase):
    def test_three_lines_are_a_plan(self):
        plan = plan_of('[vlans]\n10 = { name = "office" }\n20 = { subnets = "10.0.0.0/24" }\n')
        self.assertEqual(
            (plan.vlans[10].name, plan.vlans[20].subnets, plan.vlans[20].line), ("office", ("10.0.0.0/24",), 3)
        )

    def test_all_errors_at_once_each_with_its_line(self):
        with self.assertRaises(SurveyError) as caught:
            plan_of(BROKEN)
        told = {(problem.line, problem.column): problem.says for problem in caught.exception.problems}
        expected = {(1, "title"), (2, "colour"), (4, "mtu"), (6, "5000"), (7, "subnets"), (7, "nmae"), (11, "mode"),
                    (12, "port4"), (14, "ends"), (17, "carries"), (18, "talk"), (22, "reason")}  # fmt: skip
        self.assertEqual(set(told), expected)
        self.assertIn("is “name” meant?", told[7, "nmae"])
        self.assertIn("expected a prefix without host bits", told[7, "subnets"])

    def test_what_is_no_toml_or_no_file_is_one_sentence(self):
        for text, says in (
            ("[vlans\n", ":1: not valid TOML in column 7"),
            ("x = 1\nx = 2\n", "not valid TOML"),
            ('[[links]]\nends = ["a", "", "b", "c"]\n', "four names in quotes"),
            ('[[links]]\nends = ["a", "b", "c", 4]\n', "four names in quotes"),
        ):
            with self.assertRaises(SurveyError) as caught:
                plan_of(text)
            self.assertIn(says, str(caught.exception))
        with self.assertRaises(SurveyError) as caught:
            read_plan("/nowhere/plan.toml")
        self.assertIn("cannot be read", str(caught.exception))


class Draft(unittest.TestCase):
    def test_the_draft_of_a_healthy_campus_finds_nothing_there(self):
        self.assertEqual(rules(healthy(), draft_plan(Network(healthy())))[0], set())

    def test_the_service_vlan_of_a_tunnel_is_planned_as_an_access_port_s_vlan_is(self):
        plan, moved = draft_plan(Network(carried())), at("far", "c", pvid=701)
        self.assertEqual(rules(carried(), plan)[0], set())
        wrong = [f for f in check(Network(apply_changes(carried(), [moved])), plan_of(plan)).findings if f.repair]
        self.assertEqual([list(map(str, f.repair)) for f in wrong], [["ports far c: pvid = 700"]])

    def test_the_draft_of_a_faulty_campus_is_nearly_the_healthy_one_and_marks_its_guesses(self):
        text = draft_plan(Network(faulty()))
        plan, right = plan_of(text), plan_of(draft_plan(Network(healthy())))
        for part in ("vlans", "hosts", "ports"):
            ours, theirs = getattr(plan, part), getattr(right, part)
            wrong = {
                k for k in theirs if str(ours.get(k)).rpartition(" line=")[0] != str(theirs[k]).rpartition(" line=")[0]
            }
            self.assertLessEqual(wrong, {("sail-loft", "port1"), ("lighthouse-1", "port5")}, part)
        marked = [line for line in text.splitlines() if "# guess" in line]
        for word in (
            "foghorn-exhibit", "quay-router port1.40", "10.61.10.31/25", "10.61.40.254", "trunks between devices",
        ):  # fmt: skip
            self.assertTrue(any(word in line for line in marked), word)


class Compared(unittest.TestCase):
    def test_ports_hosts_vlans_links_and_settings(self):
        text = """
            [settings]
            mtu = 9000
            tree = "mstp"
            [vlans]
            10 = { name = "bureau", gateways = ["10.61.10.2"] }
            77 = {}
            [ports.galley]
            port2 = { mode = "access", vlan = 20 }
            port1 = { mode = "trunk", allowed = "10 20" }
            port99 = { vlan = 3 }
            [hosts]
            galley-till = { gateway = "10.61.10.3" }
            ghost = {}
            [[links]]
            ends = ["galley", "port1", "ropehall", "port6"]
            [[links]]
            ends = ["chartroom", "port1", "core-east", "port6"]
            carries = "10 77"
        """
        found, answer = rules(healthy(), text)
        expected = {
            ("plan-differs", "galley port1"), ("port-vlan-wrong", "galley port2 VLAN 20"),
            ("plan-differs", "galley port99"), ("plan-differs", "galley-till"), ("plan-differs", "ghost"),
            ("plan-differs", "VLAN 77"), ("plan-differs", "VLAN 20"), ("gateway-missing", "VLAN 10"),
            ("vlan-name-differs", "core-east VLAN 10"), ("plan-link-missing", "galley port1"),
            ("plan-link-extra", "galley port1"), ("link-vlan-missing", "chartroom port1 VLAN 77"),
            ("plan-differs", "core-east"), ("plan-differs", "core-east port1"),
        }  # fmt: skip
        self.assertLessEqual(expected, found)
        sources = {fact.source for f in answer.findings for fact in f.evidence if fact.table == "plan"}
        self.assertTrue(all(source.rpartition(":")[2].isdecimal() for source in sources), sources)

    def changed(self, changes):
        return Network(apply_changes(yard(), changes))

    def mends(self, changes, plan):
        """What `check` mends, and what it tells as what may be meant, of ports and hosts in the yard."""
        found = check(self.changed(changes), plan_of(plan)).findings
        told = [c for f in found if not f.repair for one in f.alternatives[:1] for c in one.changes]
        proposed = [c for f in found for c in f.repair]
        return [{str(c) for c in some if c.table in ("hosts", "ports")} for some in (proposed, told)]

    def test_a_link_is_mended_at_both_ends_or_only_told(self):
        plan = '[ports.loft]\nt1 = { mode = "trunk", native = 20, allowed = "10 20" }\n'
        both = f"{plan}[ports.keel]\nt1 = {{ native = 20 }}\n"
        loft, keel = "ports loft t1: pvid = 20, allowed = 10 20", "ports keel t1: pvid = 20"
        self.assertEqual(self.mends([], both), [{loft, keel}, set()])
        self.assertEqual(self.mends([], plan), [set(), {loft}])
        gone = Change("ports", {"device": "keel", "port": "t1"}, delete=True)
        mended, told = self.mends([gone], both)
        self.assertEqual((mended, loft in told), (set(), True))
        for for_all, own, expected in (
            ("native = 20", "", [{"ports loft t1: pvid = 20", "ports keel t1: pvid = 20"}, set()]),
            ("native = 20", "native = 1", [set(), {"ports keel t1: pvid = 20"}]),
        ):
            text = f"[settings]\n{for_all}\n[ports.loft]\nt1 = {{ {own} }}\n[ports.keel]\nt9 = {{ native = 1 }}\n"
            self.assertEqual(self.mends([], text), expected)

    def test_what_is_planned_for_all_is_set_where_nobody_unread_may_stop(self):
        wrong = [at(device, "t1", tagging="802.1ad") for device in ("loft", "keel")]
        unread = Change("coverage", {"device": "crane", "table": "gateways"}, {"complete": "no"})
        for more, mended in (([], True), ([unread], False)):
            found = self.mends([*wrong, *more], '[settings]\ntagging = "802.1Q"\n')
            self.assertEqual(list(map(bool, found)), [mended, not mended])

    def test_no_device_is_parted_from_where_it_is_managed(self):
        survey = yard(tills=(0, 1))
        narrow = "ports loft t1: allowed = 1 10"
        for address, mended in (("none", True), ("10.9.10.200", True), ("10.9.20.200", False)):
            where = Change("devices", {"device": "loft"}, {"management": address})
            found = check(Network(apply_changes(survey, [where])), plan_of('[ports.loft]\nt1 = { allowed = "1 10" }\n'))
            self.assertEqual(narrow in {str(c) for f in found.findings for c in f.repair}, mended, address)

    def test_of_hosts_that_are_alike_one_is_planned_elsewhere(self):
        survey = yard(desks=(4, 1))
        for text in ("[hosts]\ndesk-loft-3 = { vlan = 20 }\n", "[ports.loft]\ndesk3 = { vlan = 20 }\n"):
            _, answer = rules(survey, f'[vlans]\n20 = {{ subnets = "10.9.20.0/24" }}\n{text}')
            told = [c for f in answer.findings for one in f.alternatives for c in one.changes]
            self.assertEqual(set(map(str, told)), {"ports loft desk3: pvid = 20"})
            # All that was read says that it is where it belongs: the plan may be older than the network.
            self.assertEqual([f.repair for f in answer.findings if f.repair], [])
            part = check(Network(Survey(**{**survey.__dict__, "gateways": ()})), plan_of(text)).findings
            self.assertEqual([f.repair for f in part if "pvid" in str(f.repair)], [])

    def test_a_host_gets_what_is_planned_for_it(self):
        wrong = [host("desk-loft-1", gateway="10.9.20.1")]
        meant = "10.9.10.1", "10.9.10.7"
        for plan, mend in (("", meant[0]), (f'[hosts]\ndesk-loft-1 = {{ gateway = "{meant[1]}" }}\n', meant[1])):
            self.assertEqual(self.mends(wrong, plan)[0], {f"hosts desk-loft-1: gateway = {mend}"})
        # With its port not read, its address may as well be wrong as its gateway, which is one of another subnet.
        unread = Change("ports", {"device": "loft", "port": "desk1"}, {"mode": "", "pvid": ""})
        self.assertEqual(self.mends([*wrong, unread], ""), [set(), {f"hosts desk-loft-1: gateway = {meant[0]}"}])
        nobody = [host("desk-loft-1", gateway="10.9.77.1"), unread]
        self.assertEqual(self.mends(nobody, ""), [{f"hosts desk-loft-1: gateway = {meant[0]}"}, set()])
        kept = '[hosts]\ndesk-loft-1 = { gateway = "10.9.20.1" }\n'
        self.assertEqual(self.mends(wrong, kept)[0], set())

    def test_a_planned_gateway_that_nobody_uses_gets_its_address(self):
        odd = interface("crane", "g1.20", 20, address="10.9.20.7/24")
        survey = apply_changes(yard(tills=(0, 0)), [odd])
        for subnets, mends in (("10.9.20.0/24", ["10.9.20.1/24"]), ("10.9.77.0/24", [])):
            _, answer = rules(survey, f'[vlans]\n20 = {{ subnets = "{subnets}", gateways = "10.9.20.1" }}\n')
            changed = [c.cells["address"] for f in answer.findings for c in f.repair if c.table == "gateways"]
            self.assertEqual(changed, mends)

    def test_a_planned_address_that_somebody_else_has_is_given_to_nobody(self):
        wrong, told = host("desk-loft-1", address="10.77.0.9/24"), '[hosts]\ndesk-loft-1 = {{ address = "{}/24" }}\n'
        heard = Change(
            "arp", {"device": "crane", "interface": "g1.10", "address": "10.9.10.99"}, {"mac": "02:00:00:00:99:02"}
        )
        free = {"hosts desk-loft-1: address = 10.9.10.98/24"}
        for taken, mends in (("10.9.10.98", free), ("10.9.10.99", set()), ("10.9.10.21", set())):
            self.assertEqual(self.mends([wrong, heard], told.format(taken))[0], mends)
        own = interface("crane", "g1.20", 20, address="10.9.20.7/24")
        held = host("till-loft-1", address="10.9.20.1/24", gateway="10.9.20.7")
        survey = apply_changes(yard(tills=(1, 0)), [own, held])
        plan = plan_of('[vlans]\n20 = { subnets = "10.9.20.0/24", gateways = "10.9.20.1" }\n')
        (missing,) = [f for f in check(Network(survey), plan).findings if f.rule == "gateway-missing"]
        self.assertEqual((missing.repair, "till-loft-1 has 10.9.20.1 now." in missing.says), ((), True))

    def test_a_port_is_planned_by_any_of_its_names(self):
        wrong = [at("loft", "desk1", pvid=20, aliases="socket7")]
        (found,) = [
            f
            for f in check(self.changed(wrong), plan_of("[ports.Loft]\nsocket7 = { vlan = 10 }\n")).findings
            if f.repair
        ]
        self.assertEqual((found.confidence, list(map(str, found.repair))), ("sure", ["ports loft desk1: pvid = 10"]))

    @settings(max_examples=60, deadline=None)
    @given(st.data())
    def test_an_old_plan_stops_nobody_where_anything_is_unread(self, data):
        survey = yard(desks=(2, 1), tills=(1, 1), style=data.draw(st.sampled_from(("stick", "own"))))
        vid = st.sampled_from((10, 20))
        entries = data.draw(st.lists(st.sampled_from((
            '[ports.loft.desk1]\nvlan = {vid}', '[ports.keel.till1]\nvlan = {vid}', '[ports.loft.t1]\nnative = {vid}',
            '[ports.keel.t1]\nallowed = "{vid}"', '[ports.keel.t9]\nnative = {vid}',
            '[ports.loft.t2]\nmode = "access"', '[hosts.desk-loft-1]\ngateway = "10.9.{vid}.1"',
            '[hosts.till-keel-1]\naddress = "10.9.{vid}.77/24"', '[hosts.desk-keel-1]\nvlan = {vid}',
            '[vlans.10]\nsubnets = "10.9.{vid}.0/24"', '[vlans.20]\ngateways = "10.9.{vid}.7"',
        )), min_size=1, max_size=4, unique=True))  # fmt: skip
        plan = plan_of("\n".join(entry.format(vid=data.draw(vid)) for entry in entries) + "\n")
        gone = data.draw(st.sampled_from(("gateways", "neighbors", "devices", "hosts")))
        lost = data.draw(st.sampled_from(("crane", "keel", *survey.column("hosts", "host"))))
        rows = {name: survey.table(name) for name in ("devices", "ports", "neighbors", "gateways", "hosts", "vlans")}
        rows[gone] = [r for r in rows[gone] if lost not in (getattr(r, "device", None), getattr(r, "host", None))]
        half, whole = Network(Survey(**{name: tuple(some) for name, some in rows.items()})), Network(survey)
        works = {pair[:2] for pair in matrix(whole).reaches if pair[2] == "works"}
        for finding in check(half, plan).findings:
            after = matrix(whole.changed(finding.repair)).reaches
            stopped = {(a, b) for a, b, verdict in after if verdict == "fails"} & works
            self.assertEqual(stopped, set(), f"{finding.says} {[*map(str, finding.repair)]}")

    def test_no_mend_overturns_what_is_planned(self):
        wrong, mend = (
            [at("loft", "t1", mode="access", pvid=20, allowed="")],
            "ports loft t1: mode = trunk, allowed = 1 10 20, pvid = 1",
        )
        self.assertEqual(self.mends(wrong, "")[0], {mend})
        self.assertNotIn(mend, self.mends(wrong, '[ports.loft]\nt1 = { mode = "access", vlan = 20 }\n')[0])

    def test_vlans_that_may_not_talk(self):
        text = (
            '[[talk]]\nvlans = "30"\nothers = "all"\nmay = false\n[[talk]]\nvlans = "30"\nothers = "10"\nmay = true\n'
        )
        found, _ = rules(healthy(), text)
        pairs = {says for rule, says in found}
        self.assertEqual(pairs, {"VLAN 20", "VLAN 30"})  # 20 with 30, and 30 with 40, 50
        apart = [Change("devices", {"device": "core-east"}, {"routing": "no"})]
        plan = plan_of('[[talk]]\nvlans = "all"\nothers = "all"\nmay = false\n')
        broken = [f for f in check(Network(apply_changes(healthy(), apart)), plan).findings if f.severity == "breaks"]
        self.assertEqual({f.example[1] for f in broken}, {"tide-gauge"})  # in no VLAN, so the plan keeps it from nobody

    def test_the_plan_decides_where_the_votes_are_even(self):
        wrong = [
            Change("ports", {"device": "galley", "port": "port3"}, {"pvid": 10}),
            Change("ports", {"device": "lighthouse-1", "port": "port7"}, {"pvid": 10}),
            Change("ports", {"device": "lighthouse-2", "port": "port9"}, {"pvid": 10}),
            Change(
                "gateways",
                {"device": "core-east", "interface": "vlan30", "address": "10.61.30.1/24"},
                {"interface": "guests"},
            ),
        ]
        survey = apply_changes(healthy(), wrong)
        by_vote, _ = rules(survey, "")
        self.assertIn("gateway-vlan-wrong", {rule for rule, _ in by_vote})
        by_plan, _ = rules(survey, '[vlans]\n30 = { subnets = "10.61.30.0/24" }\n')
        self.assertEqual({rule for rule, _ in by_plan if rule != "plan-differs"}, {"port-vlan-wrong"})


class Acceptance(unittest.TestCase):
    ENTRY = (
        '[[accept]]\nrule = "port-errors"\nsubject = "galley port2"\nreason = "to be replaced"\nuntil = 2026-12-31\n'
    )
    ERRORS = (Change("ports", {"device": "galley", "port": "port2"}, {"crc_errors": 700}),)

    def test_it_silences_the_finding_until_its_day(self):
        survey = apply_changes(healthy(), self.ERRORS)
        found, answer = rules(survey, self.ENTRY)
        self.assertEqual((found, [f.rule for f in answer.accepted]), (set(), ["port-errors"]))
        found, answer = rules(survey, self.ENTRY, date(2027, 1, 1))
        self.assertEqual({rule for rule, _ in found}, {"port-errors", "plan-differs"})
        self.assertIn("until 2026-12-31", next(f.says for f in answer.findings if f.rule == "plan-differs"))

    def test_one_that_matches_nothing_is_a_note(self):
        _, answer = rules(healthy(), self.ENTRY)
        self.assertEqual([(f.rule, f.severity) for f in answer.findings], [("plan-differs", "note")])
        self.assertIn("which is not found", answer.findings[0].says)


if __name__ == "__main__":
    unittest.main()
