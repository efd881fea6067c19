"""Networks built from real switches: verdicts equal the pings, and the faults put in are the faults found."""

import random
import unittest

from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from crossthread import Network, check, matrix, read_survey, why
from crossthread.network.topology.names import End
from crossthread.survey import Survey
from crossthread.survey.changes import Change, apply_changes
from crossthread.survey.records import TABLES, columns_of
from tests.building import LAB, truth_of

TRUE_OF_THEM = ("discovery-exposed", "tree-root-by-default")
"""Those switches really speak discovery towards their hosts, and nobody chose a root among some of them."""
VERDICTS = {True: "works", False: "fails"}


DEFAULTS = {
    "neighbors": None,
    "gateways": {"port", "untagged"},
    "ports": {"untagged", "tagging", "lag"},
    "trees": {"vlans"},
}
"""Tables and columns in which an empty cell has a meaning by the format itself."""


def without_facts(survey, chance, share):
    """A copy of a survey in which a share of its facts, picked at random, was not observed."""
    tables = {}
    for name, record in TABLES.items():
        kept = DEFAULTS.get(name, set())
        columns = [c for c, (_, must) in columns_of(record).items() if not must and c not in record.KEY]
        rows = survey.table(name)
        if kept is not None:
            rows = tuple(
                replace(row, **{c: None for c in columns if c not in kept and chance.random() < share}) for row in rows
            )
        tables[name] = rows
    return Survey(**tables)


class RealSwitches(unittest.TestCase):
    CASES = tuple((truth_of(case), read_survey(case / "survey")) for case in LAB)

    @staticmethod
    def healthy(truth, survey):
        undo = [change for fault in reversed(truth["faults"]) for change in fault["undo"]]
        return apply_changes(
            survey, [Change(c["table"], c["key"], c.get("set", {}), c.get("delete", False)) for c in undo]
        )

    def test_there_are_cases(self):
        self.assertGreaterEqual(len(self.CASES), 5)

    def test_every_stable_pair_is_as_the_pings_were(self):
        for truth, survey in self.CASES:
            found = {(a, b): verdict for a, b, verdict in matrix(Network(survey)).reaches}
            stable = [(a, b, reached) for a, b, reached in truth["reaches"] if reached != "unstable"]
            self.assertEqual([(a, b, found[a, b]) for a, b, _ in stable], [(a, b, VERDICTS[r]) for a, b, r in stable])

    def test_the_healthy_network_too(self):
        for truth, survey in self.CASES:
            healthy = self.healthy(truth, survey)
            found = {(a, b): verdict for a, b, verdict in matrix(Network(healthy)).reaches}
            wrong = [
                (a, b, r) for a, b, r in truth["healthy_reaches"] if r != "unstable" and found[a, b] != VERDICTS[r]
            ]
            self.assertEqual(wrong, [])

    def test_the_computed_tree_is_the_observed_one(self):
        ends = 0
        for _, survey in self.CASES:
            trees = Network(survey).fabric.trees
            for (device, port, _), row in trees.ports.items():
                end = End(device, port)
                role = trees.compute(0).get(end)
                if role is not None:
                    ends += 1
                    self.assertEqual((end, role.role), (end, row.role))
        self.assertGreater(ends, 40)

    def test_verdicts_do_not_need_the_observed_states(self):
        for _, survey in self.CASES:
            keys = [({"device": row.device, "instance": 0}, {"priority": row.priority}) for row in survey.trees]
            blind = apply_changes(survey, [Change("trees", key, cells) for key, cells in keys])
            self.assertTrue(all(row.state is None for row in blind.tree_ports))
            self.assertEqual(matrix(Network(blind)).reaches, matrix(Network(survey)).reaches)

    def test_why_names_what_was_put_in_and_its_mend_works(self):
        asked = 0
        for truth, survey in self.CASES:
            network = Network(survey)
            healthy = {(a, b) for a, b, reached in truth["healthy_reaches"] if reached is True}
            expected = {rule for fault in truth["faults"] for rule in fault["expected_rules"]}
            expected |= {"host-gateway-missing"}  # of a host that proxy ARP helped along
            for a, b, reached in truth["reaches"]:
                if reached is not False or (a, b) not in healthy:
                    continue
                asked += 1
                answer = why(network, a, b)
                self.assertEqual(answer.verdict, "fails")
                self.assertTrue(answer.repair_proven, (a, b))
                self.assertLessEqual({finding.rule for finding in answer.findings}, expected, (a, b))
                self.assertTrue(all(finding.evidence for finding in answer.findings))
                mended = Network(apply_changes(survey, answer.repair))
                self.assertEqual(why(mended, a, b).verdict, "works")
        self.assertGreater(asked, 100)

    def test_check_finds_nothing_where_nothing_was_put_in(self):
        for truth, survey in self.CASES:
            found = check(Network(self.healthy(truth, survey))).findings
            worse = [f.says for f in found if f.severity != "note" and f.rule not in TRUE_OF_THEM]
            self.assertEqual(worse, [], truth["seed"])

    def test_check_names_each_fault_at_its_place(self):
        for truth, survey in self.CASES:
            todo = list(check(Network(survey)).findings)
            for finding in todo:
                todo += finding.follows
            for fault in truth["faults"]:
                where = set(map(str, fault["where"].values()))
                named = [f for f in todo if f.rule in fault["expected_rules"]]
                keys = [{str(v) for k in (*f.evidence, *f.repair) for v in k.key.values()} for f in named]
                subjects = [{str(getattr(s, c)) for s in f.subjects for c in s.__struct_fields__} for f in named]
                self.assertTrue(
                    any(where <= a | b for a, b in zip(keys, subjects, strict=True)), (truth["seed"], fault)
                )
            rules = {rule for fault in truth["faults"] for rule in fault["expected_rules"]}
            rules |= {"host-gateway-missing"} if "proxy-arp-hides" in rules else set()  # put in with the proxy
            self.assertLessEqual({f.rule for f in todo if f.severity == "breaks"}, rules, truth["seed"])

    @settings(max_examples=40, deadline=None)
    @given(st.integers(0, 2**32), st.sampled_from([0.02, 0.1, 0.4]))
    def test_hiding_facts_never_makes_a_verdict_wrong(self, seed, share):
        """A verdict becomes unknown or stays what it was; and what is unknown names something to look at."""
        chance = random.Random(seed)
        truth, survey = chance.choice(self.CASES)
        known = dict(zip(map(tuple, [r[:2] for r in truth["reaches"]]), truth["reaches"], strict=True))
        hidden = Network(without_facts(survey, chance, share))
        for a, b, verdict in matrix(hidden).reaches:
            self.assertIn(verdict, (VERDICTS.get(known[a, b][2], "unknown"), "unknown"), (a, b))
        a, b, _ = chance.choice(matrix(hidden).reaches)
        answer = why(hidden, a, b)
        self.assertTrue(answer.observe or answer.verdict != "unknown", (a, b))
        self.assertTrue(answer.findings or answer.verdict != "fails", (a, b))

    def test_order_of_rows_does_not_matter(self):
        for _, survey in self.CASES:
            turned = Survey(**{name: survey.table(name)[:: 1 if name == "hosts" else -1] for name in TABLES})
            self.assertEqual(matrix(Network(turned)).reaches, matrix(Network(survey)).reaches)


if __name__ == "__main__":
    unittest.main()
