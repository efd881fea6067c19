"""Rehearsals: what changes would mend and break is what the matrix and the check say before and after."""

import json
import tempfile
import unittest
from pathlib import Path

from crossthread import Change, Network, SurveyError, apply_changes, check, matrix, read_survey, why, write_survey
from crossthread.demo import faulty, healthy
from crossthread.diagnosis.context import Context
from crossthread.diagnosis.repair.harm.management import managed
from crossthread.questions.rehearse import rehearse
from tests.test_command import run
from tests.yard import yard

SHUT = [
    Change("ports", {"device": "core-east", "port": "port7"}, {"admin": "down", "oper": "down"}),
    Change("hosts", {"host": "shop-till"}, {"gateway": "none"}),
]


class Questions(unittest.TestCase):
    def test_the_repair_of_a_pair_mends_it_and_breaks_nobody(self):
        network = Network(faulty())
        answer = rehearse(network, why(network, "foghorn-exhibit", "camera-recorder").repair)
        self.assertIn(("foghorn-exhibit", "camera-recorder"), answer.fixed)
        self.assertEqual((answer.broken, answer.findings_new), ((), ()))
        self.assertLessEqual(
            {"gateway-vlan-wrong", "route-missing", "vlan-split"}, {f.rule for f in answer.findings_gone}
        )

    def test_what_it_says_is_the_difference_of_two_matrices(self):
        network = Network(healthy())
        answer = rehearse(network, SHUT)
        before, after = (matrix(n).reaches for n in (network, network.changed(SHUT)))
        lost = {
            (a, b) for (a, b, was), (_, _, now) in zip(before, after, strict=True) if (was, now) == ("works", "fails")
        }
        self.assertEqual(set(answer.broken), lost)
        self.assertEqual({f.rule for f in answer.findings_new}, {"host-gateway-missing", "port-admin-down"})
        (tree,) = answer.trees
        self.assertIn("harbour-office port2", {f"{p.device} {p.port}" for p in tree.moved})

    def test_a_device_that_parts_from_where_it_is_managed(self):
        network, own = Network(healthy()), {"device": "core-west", "interface": "desk", "address": "10.61.10.202/24"}
        for vid, lost in ((10, [("galley", "core-east vlan10")]), (90, [])):
            narrow = [
                Change("ports", {"device": "galley", "port": "port1"}, {"allowed": f"1-{vid - 1} {vid + 1}-4094"})
            ]
            self.assertEqual(list(rehearse(network, narrow).unmanaged), lost)
            self.assertEqual(list(rehearse(network.changed(narrow), []).unmanaged), [])  # it was so before
        # What was read of the interface that has the address counts, and not where its subnet lives.
        elsewhere = Network(apply_changes(healthy(), [Change("gateways", own, {"vid": 90})]))
        for one, vid in ((network, 10), (elsewhere, 90)):
            self.assertEqual({at.device: at.place.vid for at in managed(Context(one))}["core-west"], vid)

    def test_back_again_is_the_other_way_round(self):
        network = Network(healthy())
        there = rehearse(network, SHUT[1:])
        back = rehearse(network.changed(SHUT[1:]), [Change("hosts", {"host": "shop-till"}, {"gateway": "10.61.10.1"})])
        self.assertEqual((there.broken, there.fixed), (back.fixed, back.broken))
        self.assertEqual([f.says for f in there.findings_new], [f.says for f in back.findings_gone])

    def test_a_change_that_the_format_does_not_know_is_refused(self):
        with self.assertRaises(SurveyError) as caught:
            rehearse(
                Network(healthy()),
                [Change("ports", {"device": "galley", "port": "port1"}, {"pvid": 5000, "colour": 1})],
            )
        self.assertEqual(len(caught.exception.problems), 2)

    def test_a_row_has_its_new_key_for_what_is_changed_next(self):
        renamed, others = (Change("devices", {"device": d}, {"device": "kitchen"}) for d in ("galley", "ropehall"))
        after = apply_changes(healthy(), [renamed, Change("devices", {"device": "kitchen"}, {"site": "south"})])
        self.assertEqual([row.site for row in after.devices if row.device == "kitchen"], ["south"])
        for second in (others, Change("devices", {"device": "galley"}, {"device": "ropehall"})):  # it is gone by then
            with self.assertRaisesRegex(SurveyError, "change 2: another row of devices has that key already"):
                apply_changes(healthy(), [renamed, second])


class Commands(unittest.TestCase):
    def setUp(self):
        holder = tempfile.TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        self.folder = Path(holder.name)
        write_survey(faulty(), self.folder / "s")

    def test_a_repair_is_rehearsed_and_written(self):
        done = run("rehearse", self.folder / "s", "--repair-of", "foghorn-exhibit", "camera-recorder", "--json",
                   "--write", self.folder / "new")  # fmt: skip
        found = json.loads(done.stdout)
        self.assertEqual(done.returncode, 0)
        self.assertLessEqual({"fixed", "broken", "findings_gone", "findings_new"}, found.keys())
        self.assertIn(["foghorn-exhibit", "camera-recorder"], found["fixed"])
        after = Network(read_survey(self.folder / "new"))
        self.assertEqual(why(after, "foghorn-exhibit", "camera-recorder").verdict, "works")
        left = {f.rule for f in check(after).findings}
        self.assertEqual(left & {f["rule"] for f in found["findings_gone"]}, set())
        again = run("rehearse", self.folder / "s", '{"table": "hosts", "key": {"host": "shop-till"}, "set": {}}',
                    "--write", self.folder / "new")  # fmt: skip
        self.assertEqual(again.returncode, 2)
        self.assertIn("already; expected a new place", again.stderr)

    def test_changes_from_a_file_that_break_something(self):
        write_survey(healthy(), self.folder / "h")
        cells = [{"table": "hosts", "key": {"host": "shop-till"}, "set": {"gateway": "none"}}]
        (self.folder / "changes.json").write_text(json.dumps(cells))
        done = run("rehearse", self.folder / "h", self.folder / "changes.json")
        self.assertEqual(done.returncode, 1)
        self.assertRegex(
            done.stdout.splitlines()[0], r"^It mends 0 pairs, breaks \d+; 0 findings gone, 1 new; no tree moves\.$"
        )
        self.assertIn("shop-till has no gateway", done.stdout)

    def test_changes_that_do_no_more_than_cut_a_device_off(self):
        where = Change("devices", {"device": "loft"}, {"management": "10.9.20.200"})
        survey = yard(tills=(0, 1))
        write_survey(apply_changes(survey, [where]), self.folder / "managed")
        narrow = '{"table": "ports", "key": {"device": "loft", "port": "t1"}, "set": {"allowed": "1 10"}}'
        done = run("rehearse", self.folder / "managed", narrow)
        self.assertEqual(done.returncode, 1)
        self.assertIn("breaks 0, cuts 1 device off;", done.stdout.splitlines()[0])
        self.assertIn("loft → crane g1.20", done.stdout)

    def test_what_cannot_be_rehearsed_is_one_sentence(self):
        for status, says, words in (
            (2, "expected changes, or --repair-of A B", ()),
            (2, "there is no host", ("--repair-of", "nobody", "shop-till")),
            (2, "the verdict is works", ("--repair-of", "sextant-exhibit", "show-control")),
            (
                2,
                "ports has no such column",
                ('{"table": "ports", "key": {"device": "x", "port": "y"}, "set": {"a": 1}}',),
            ),
            (3, "not a change", ("[1]",)),
        ):
            done = run("rehearse", self.folder / "s", *words)
            self.assertEqual((done.returncode, done.stdout, done.stderr.count("\n")), (status, "", 1), done.stderr)
            self.assertIn(says, done.stderr)


if __name__ == "__main__":
    unittest.main()
