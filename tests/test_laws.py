"""Laws that hold for any campus: quick ways say what slow ones say, and what is hidden is never guessed wrong."""

import csv
import dataclasses
import random
import tempfile
import unittest
from pathlib import Path

from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from crossthread import (
    Change,
    Network,
    Survey,
    SurveyError,
    apply_changes,
    check,
    find,
    matrix,
    read_survey,
    why,
    write_survey,
)
from crossthread.demo import faulty, healthy
from crossthread.demo.generator import generate
from crossthread.diagnosis.context import Context
from crossthread.diagnosis.relevant_rows import focus
from crossthread.diagnosis.rules.plan_ports import plan_port
from crossthread.questions.plan_draft import draft_plan
from crossthread.questions.tree_ways import failure_of
from crossthread.survey.cell_kinds import ADDRESS, INTERFACE, MAC
from crossthread.survey.records import TABLES
from crossthread.views.class_matrix import class_matrix
from crossthread.views.tree import tree_overview
from tests.building import DATA, LAB
from tests.test_generated import shape
from tests.test_lab import without_facts
from tests.test_plan import plan_of


def edits(chance, survey):
    """A few edits at random, of any kind that a repair has."""
    found = []
    for _ in range(chance.randint(1, 4)):
        port, host, gateway = (chance.choice(rows) for rows in (survey.ports, survey.hosts, survey.gateways))
        vid = chance.choice([row.vid for row in survey.gateways])
        at = {"device": port.device, "port": port.port}
        key = {"device": gateway.device, "interface": gateway.interface, "address": gateway.address}
        found.append(chance.choice([
            Change("ports", at, {"pvid": vid}), Change("ports", at, {"allowed": f"{vid}"}),
            Change("ports", at, {"admin": "down", "oper": "down"}),
            Change("ports", at, {"mode": "access", "pvid": vid}),
            Change("hosts", {"host": host.host}, {"gateway": "none"}),
            Change("hosts", {"host": host.host}, delete=True),
            Change("gateways", key, {"vid": vid}), Change("gateways", key, {"admin": "down", "oper": "down"}),
            Change("gateways", key, delete=True), Change("devices", {"device": gateway.device}, {"routing": "no"}),
            Change("vlans", {"device": port.device, "vid": vid}, {"state": "suspended"}),
            Change("vlans", {"device": port.device, "vid": vid}, delete=True),
            Change("routes", {"device": gateway.device}, delete=True),
            Change("trees", {"device": port.device, "instance": 0}, {"priority": 0}),
        ]))  # fmt: skip
    return found


class Copies(unittest.TestCase):
    def test_in_which_order_the_rows_stand_decides_nothing(self):
        for survey in (faulty(), *(read_survey(case / "survey") for case in LAB)):
            turned = dataclasses.replace(survey, **{name: list(survey.table(name))[::-1] for name in TABLES})
            one, two = ({tuple(pair) for pair in matrix(each).reaches} for each in (survey, turned))
            self.assertEqual(one, two)
            mends = ({frozenset(map(str, f.repair)) for f in check(each).findings} for each in (survey, turned))
            self.assertEqual(*mends)

    def test_a_copy_that_shares_what_was_not_touched_is_as_one_made_anew(self):
        chance = random.Random(3)
        for number in range(40):
            survey = shape(number % 25)
            network = Network(survey)
            network.components, network.stations, network.classes  # noqa: B018
            changes = edits(chance, survey)
            with self.subTest(number=number, changes=list(map(str, changes))):
                shared, anew = network.changed(changes), Network(apply_changes(survey, changes))
                self.assertEqual(shared.survey, anew.survey)
                self.assertEqual(matrix(shared).reaches, matrix(anew).reaches)
                if number % 4 == 0:
                    self.assertEqual(check(shared).findings, check(anew).findings)

    def test_changes_one_by_one_are_changes_together(self):
        chance = random.Random(8)
        for number in range(40):
            survey = shape(number % 20)
            changes = edits(chance, survey)
            one_by_one = survey
            for change in changes:
                one_by_one = apply_changes(one_by_one, [change])
            self.assertEqual(apply_changes(survey, changes), one_by_one)

    def test_what_a_failure_costs_is_what_the_matrix_of_a_copy_says(self):
        for seed in (2, 9, 16, 30):
            network = Network(shape(seed))
            before = {(a, b) for a, b, verdict in matrix(network).reaches if verdict == "works"}
            for adjacency in network.adjacencies[::3]:
                lost = set(failure_of(network, f"{adjacency.a.device}:{adjacency.a.port}").hosts)
                shut = Change(
                    "ports", {"device": adjacency.a.device, "port": adjacency.a.port}, {"admin": "down", "oper": "down"}
                )
                after = {(a, b) for a, b, verdict in matrix(network.changed([shut])).reaches if verdict == "works"}
                self.assertEqual(bool(lost), bool(before - after), (seed, str(adjacency.a)))
                self.assertTrue(all(a in lost or b in lost for a, b in before - after))

    def test_a_port_that_goes_while_another_comes(self):
        survey = healthy()
        gone = next(row for row in survey.ports if row.device == "galley" and row.port == "port1")
        changes = [
            Change("ports", {"device": "galley", "port": "port1"}, delete=True),
            Change("ports", {"device": "slipway", "port": "port99"}, {"mode": "access", "pvid": 10}),
        ]
        network = Network(survey)
        network.components, network.stations  # noqa: B018
        copy = network.changed(changes)
        self.assertEqual(len(copy.survey.ports), len(survey.ports))
        self.assertNotIn(gone.port, copy.names.ports["galley"])
        self.assertEqual(matrix(copy), matrix(Network(apply_changes(survey, changes))))


class Compact(unittest.TestCase):
    def test_the_matrix_by_classes_is_the_whole_matrix(self):
        chance = random.Random(13)
        surveys = [faulty(), *(apply_changes(shape(n), edits(chance, shape(n))) for n in range(0, 40, 4))]
        for survey in surveys:
            network = Network(survey)
            compact, full = class_matrix(network), matrix(network).reaches
            verdicts = {(a, b): verdict for a, b, verdict in compact.reaches}
            number = {name: n for n, names in enumerate(compact.classes) for name in names}
            self.assertEqual([verdict for _, _, verdict in full], [verdicts[number[a], number[b]] for a, b, _ in full])
            self.assertEqual(compact.pairs["works"], sum(verdict == "works" for _, _, verdict in full))


class Focused(unittest.TestCase):
    def test_what_matters_to_two_hosts_gives_the_same_answer_as_the_whole_campus(self):
        chance, left_out, failing = random.Random(17), 0, 0
        surveys = [faulty(), *(apply_changes(shape(n), edits(chance, shape(n))) for n in range(0, 48, 3))]
        for survey in surveys:
            for pair in (chance.sample(survey.hosts, 2) for _ in range(12)):
                part = focus(survey, pair, large=0)
                left_out += len(survey.hosts) - len(part.hosts)
                whole = why(Network(survey), pair[0].host, pair[1].host)
                failing += whole.verdict == "fails"
                self.assertEqual(why(Network(part), pair[0].host, pair[1].host), whole)
        self.assertGreater(left_out, 500)
        self.assertGreater(failing, 20)

    def test_where_others_of_a_subnet_live_stays_though_no_gateway_serves_it(self):
        survey = read_survey(DATA / "half" / "388509")
        part = focus(survey, [row for row in survey.hosts if row.host in ("host-3", "host-4")], large=0)
        answer = why(part, "host-4", "host-3")
        self.assertEqual((answer.confidence, len(answer.repair)), ("likely", 1))
        self.assertEqual(answer, why(survey, "host-4", "host-3"))


class Hidden(unittest.TestCase):
    def test_check_never_says_breaks_where_the_full_survey_works(self):
        chance = random.Random(21)
        for number in range(25):
            survey = chance.choice((healthy(), shape(number)))
            blind = without_facts(survey, chance, chance.choice((0.02, 0.1, 0.3)))
            broken = [f for f in check(Network(blind)).findings if f.severity == "breaks"]
            self.assertEqual([(f.rule, f.says) for f in broken], [])

    def test_a_role_that_is_computed_of_less_is_the_same(self):
        chance = random.Random(5)
        kept = 0
        for number in range(200):
            survey = shape(number % 40)
            full = Network(survey).fabric.trees.compute(0)
            rows = tuple(replace(row, role=None, state=None) for row in survey.tree_ports)
            rows = tuple(replace(row, cost=None) if chance.random() < 0.05 else row for row in rows)
            rows = tuple(replace(row, number=None) if chance.random() < 0.05 else row for row in rows)
            told = {row.device for row in rows if row.cost is not None}
            if told != {row.device for row in survey.tree_ports}:
                continue  # a device that tells no cost at all is taken to have the recommended ones
            found = Network(type(survey)(**{**survey.__dict__, "tree_ports": rows})).fabric.trees.compute(0)
            kept += len(found)
            self.assertEqual({end: full[end].role for end in found}, {end: role.role for end, role in found.items()})
        self.assertGreater(kept, 100)


CELLS = st.text(
    st.characters(codec="utf-8", exclude_characters='",\r\n\0', exclude_categories=("Cs", "Cc")), max_size=6
)
ODD = ("1.2.3", "256.1.1.1", "01.2.3.4", "::", "a::b::c", "1:0:0:2::", "fe80::1%eth0", "1.2.3.4 ", "", "::ffff:1.2.3.4")


class Spelled(unittest.TestCase):
    def test_in_which_case_a_table_spells_the_devices_changes_no_answer(self):
        survey = faulty()
        told = [finding.says for finding in check(survey).findings]
        self.assertGreater(len(told), 5)
        for name in (name for name in TABLES if name != "devices" and survey.table(name)):
            rows = [replace(row, device=row.device and row.device.upper()) for row in survey.table(name)]
            other = Survey(**{**survey.__dict__, name: rows})
            self.assertEqual(matrix(other).reaches, matrix(survey).reaches, name)
            self.assertEqual([finding.says for finding in check(other).findings], told, name)
            self.assertEqual(tree_overview(other), tree_overview(survey), name)
            for wanted in ("02:5c:11:00:00:03", "10.61.20.1", "plank-saw", "02:5c:02:00:00:10"):
                seen = (
                    [(p.device, p.port, p.vid, p.how, p.says) for p in find(s, wanted).places] for s in (other, survey)
                )
                self.assertEqual(*seen, name)

    def test_nor_where_one_table_spells_a_device_in_several_ways(self):
        survey = read_survey(DATA / "recorded" / "kinds-21" / "survey.json.gz")  # interfaces have several rows there
        for name in ("ports", "gateways", "routes", "tree_ports", "arp"):
            rows = [replace(r, device=r.device.upper()) if n % 2 else r for n, r in enumerate(survey.table(name))]
            other = Survey(**{**survey.__dict__, name: rows})
            self.assertEqual(matrix(other).reaches, matrix(survey).reaches, name)


class Reading(unittest.TestCase):
    @settings(max_examples=60, deadline=None)
    @given(st.lists(st.tuples(*[CELLS] * 4), min_size=1, max_size=40), st.sampled_from(["\n", "\r\n"]))
    def test_plain_and_quoted_tables_say_the_same_and_have_the_same_errors(self, rows, end):
        header = ["device", "port", "description", "pvid"]
        told = []
        for quoting in (csv.QUOTE_MINIMAL, csv.QUOTE_ALL):
            with tempfile.TemporaryDirectory() as folder:
                with open(Path(folder) / "ports.csv", "w", newline="", encoding="utf-8") as out:
                    csv.writer(out, quoting=quoting, lineterminator=end).writerows([header, *rows])
                try:
                    told.append(read_survey(folder).ports)
                except SurveyError as error:
                    told.append(error.problems)
        self.assertEqual(told[0], told[1])

    @settings(max_examples=300, deadline=None)
    @given(st.lists(st.one_of(st.ip_addresses().map(str), st.sampled_from(ODD)), min_size=1, max_size=5))
    def test_a_column_of_addresses_is_read_as_its_cells_are(self, cells):
        for kind, texts in ((ADDRESS, cells), (INTERFACE, [f"{cell}/24" for cell in cells])):
            values, bad = kind.column(texts, {})
            for text, value in zip(texts, values, strict=True):
                try:
                    expected = kind.read(text) if text.strip() else None
                    self.assertNotIn(text, bad)
                    self.assertEqual(value, expected)
                except ValueError:
                    self.assertIn(text, bad)

    @settings(max_examples=200, deadline=None)
    @given(st.lists(st.text("0123456789abcdef:", min_size=17, max_size=17), min_size=1, max_size=3))
    def test_a_column_of_mac_addresses_too(self, cells):
        values, bad = MAC.column(["02:00:00:00:00:01", *cells], {})
        for text, value in zip(cells, values[1:], strict=True):
            try:
                self.assertEqual(value, MAC.read(text))
            except ValueError:
                self.assertIn(text, bad)

    def test_a_large_table_is_the_same_after_writing_and_reading(self):
        survey = generate(12, 60, 1500, 9)
        with tempfile.TemporaryDirectory() as folder:
            write_survey(survey, Path(folder) / "s")
            again = read_survey(Path(folder) / "s")
            self.assertEqual(again, survey)
            row = again.hosts[1400]
            line = int(again.source(row).rpartition(":")[2])
            self.assertTrue((Path(folder) / "s" / "hosts.csv").read_text().splitlines()[line - 1].startswith(row.host))


class Drafts(unittest.TestCase):
    def test_the_draft_of_any_healthy_campus_is_a_plan_that_it_keeps(self):
        for seed in range(0, 24, 3):
            network = Network(shape(seed))
            plan = plan_of(draft_plan(network))
            self.assertEqual((len(plan.hosts), len(plan.links)), (len(network.survey.hosts), len(network.links)))
            worse = [f.says for f in check(network, plan).findings if f.severity != "note" or f.rule.startswith("plan")]
            self.assertEqual(worse, [])

    def test_a_planned_port_is_mended_into_what_is_planned(self):
        network = Network(faulty())
        plan = plan_of(draft_plan(Network(healthy())))
        context = Context(network, plan)
        found = [f for entry in plan.ports.values() if (f := plan_port(context, entry)) is not None]
        self.assertGreaterEqual(len(found), 4)
        after = Context(network.changed([change for f in found for change in f.repair]), plan)
        self.assertEqual([f for entry in plan.ports.values() if (f := plan_port(after, entry))], [])


class Overviews(unittest.TestCase):
    def test_every_campus_has_one_root_and_every_other_bridge_one_root_port(self):
        for seed in range(0, 40, 5):
            (answer,) = tree_overview(Network(shape(seed))).instances
            self.assertEqual([root.device for root in answer.roots], [answer.root])
            without = [bridge.device for bridge in answer.bridges if bridge.root_port is None]
            self.assertEqual(without, [answer.root])
            self.assertTrue(all(port.because and port.role == port.observed_role for port in answer.ports))


if __name__ == "__main__":
    unittest.main()
