"""The VLAN view, the overview and the link view; and the faces of the check: CSV, SARIF, the page of findings."""

import csv
import io
import json
import tempfile
import unittest
from pathlib import Path

from crossthread import Change, Network, UnknownNameError, apply_changes, write_survey
from crossthread.demo import faulty, healthy
from crossthread.demo.generator import generate
from crossthread.questions.link import link_view
from crossthread.views.vlan import vlan_overview, vlan_view
from tests.test_command import run


class Vlans(unittest.TestCase):
    def test_pieces_ports_and_where_one_end_lacks_it(self):
        answer = vlan_view(Network(faulty()), 20)
        self.assertEqual((answer.names, answer.roots), (("exhibits",), ("core-east",)))
        self.assertEqual([len(s.hosts) for s in answer.segments], [2, 2])
        self.assertEqual(answer.segments[0].gateways, ("core-east vlan20",))
        lone = {f"{port.device} {port.port}" for port in answer.ports if port.one_end}
        self.assertEqual(lone, {"core-east port5", "ropehall port3"})
        found = {f"{port.device} {port.port}": port for port in answer.ports}
        self.assertEqual(
            (found["ropehall port5"].how, found["ropehall port5"].hosts), ("untagged", ("tide-table-exhibit",))
        )
        self.assertEqual((found["chartroom port2"].how, found["chartroom port2"].state), ("tagged", "blocked"))
        self.assertEqual(vlan_view(Network(faulty()), 30).suspended, ("lighthouse-2",))

    def test_the_healthy_campus_is_one_piece_for_each_vlan(self):
        for vid in (10, 20, 30, 40, 50, 90):
            answer = vlan_view(Network(healthy()), vid)
            self.assertEqual(len([s for s in answer.segments if s.hosts or s.gateways]), 1)

    def test_the_overview_counts_ports(self):
        rows = {entry.device: {p.vid: p for p in entry.vlans} for entry in vlan_overview(Network(faulty())).devices}
        self.assertEqual((rows["lighthouse-1"][10].access, rows["lighthouse-1"][10].trunks), (3, 2))
        self.assertTrue(rows["core-east"][10].root and rows["core-east"][10].gateway)
        self.assertEqual((rows["galley"][20].access, rows["galley"][20].trunks), (0, 0))

    def test_a_list_of_nearly_all_vlans_names_none(self):
        ends = [("core-east", "port1"), ("core-west", "port1")]
        wide = apply_changes(
            healthy(), [Change("ports", {"device": d, "port": p}, {"allowed": "1-44 46-4094"}) for d, p in ends]
        )
        count = {len(entry.vlans) for entry in vlan_overview(Network(wide)).devices}
        self.assertEqual(count, {len(entry.vlans) for entry in vlan_overview(Network(healthy())).devices})
        self.assertEqual(vlan_view(Network(wide), 44).names, ())  # whoever asks for one of them is told where it may go
        with self.assertRaises(UnknownNameError):
            vlan_view(Network(wide), 45)

    def test_forty_vlans_on_thirty_devices_fit(self):
        with tempfile.TemporaryDirectory() as folder:
            write_survey(generate(1, 30, 200, 40), Path(folder) / "s")
            shown = run("vlan", Path(folder) / "s").stdout.splitlines()
        self.assertLessEqual(max(map(len, shown)), 100)
        self.assertGreaterEqual(len([row for row in shown if row.startswith(("core", "dist", "acc"))]), 30)


class Links(unittest.TestCase):
    def test_both_ends_with_what_differs(self):
        answer = link_view(Network(faulty()), "ROPEHALL", "port1")
        self.assertEqual((answer.b.device, answer.b.port, answer.state), ("core-east", "port5", "up"))
        self.assertEqual([side.fact for side in answer.sides if side.differs], ["allowed"])
        self.assertEqual([finding.rule for finding in answer.findings], ["link-vlan-missing"])

    def test_a_member_of_an_aggregate_has_its_own_far_end(self):
        answer = link_view(Network(healthy()), "core-east", "port2")
        self.assertEqual((answer.b.device, answer.b.port), ("core-west", "port2"))
        self.assertEqual([side for side in answer.sides if side.differs], [])


class Commands(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.holder = tempfile.TemporaryDirectory()
        cls.folder = Path(cls.holder.name)
        write_survey(faulty(), cls.folder / "faulty")
        write_survey(healthy(), cls.folder / "healthy")

    @classmethod
    def tearDownClass(cls):
        cls.holder.cleanup()

    def test_check_as_csv_and_what_follows_names_its_cause(self):
        done = run("check", self.folder / "faulty", "--csv")
        rows = list(csv.DictReader(io.StringIO(done.stdout)))
        self.assertEqual(done.returncode, 1)
        self.assertEqual({row["follows_from"] for row in rows if row["rule"] == "port-errors"}, {"link-duplex-differs"})
        worst = next(row for row in rows if row["severity"] == "breaks")
        self.assertTrue(worst["from"] and worst["to"] and int(worst["hosts"]) > 1)

    def test_check_as_sarif_points_at_lines_of_the_survey(self):
        done = run("check", self.folder / "faulty", "--sarif")
        document = json.loads(done.stdout)
        self.assertEqual(document["version"], "2.1.0")
        log = document["runs"][0]
        names = [rule["id"] for rule in log["tool"]["driver"]["rules"]]
        for result in log["results"]:
            self.assertEqual(names[result["ruleIndex"]], result["ruleId"])
            self.assertIn(result["level"], ("error", "warning", "note"))
        shut = next(r for r in log["results"] if r["ruleId"] == "port-admin-down")
        place = shut["locations"][0]["physicalLocation"]
        row = (self.folder / "faulty" / "ports.csv").read_text().splitlines()[place["region"]["startLine"] - 1]
        self.assertTrue(place["artifactLocation"]["uri"].endswith("/ports.csv"))
        self.assertTrue(row.startswith("lighthouse-1,port5,"), row)

    def test_check_in_part(self):
        done = run("check", self.folder / "faulty", "--at", "slipway:port2", "--json")
        self.assertEqual([f["rule"] for f in json.loads(done.stdout)["findings"]], ["link-duplex-differs"])
        self.assertEqual(done.returncode, 0)
        for words, says in (
            (("--only", "no-such"), "there is no finding “no-such”"),
            (("--at", "nowhere"), "there is no device “nowhere”"),
            (("--at", "galley:nope"), "galley has no port or interface “nope”"),
            (("--vlan", "9999"), "the survey does not speak of VLAN 9999"),
            (("--vlan", "-3"), "the survey does not speak of VLAN -3"),
            (("--severity", "bad"), "expected --severity breaks or risks or note"),
            (("--csv", "--sarif"), "expected one of --csv, --sarif and --json"),
        ):
            done = run("check", self.folder / "faulty", *words)
            self.assertEqual((done.returncode, done.stderr.count("\n")), (2, 1), done.stderr)
            self.assertIn(says, done.stderr)

    def test_a_part_without_findings_does_not_look_like_a_clean_campus(self):
        done = run("check", self.folder / "faulty", "--at", "chartroom")
        self.assertRegex(
            done.stdout, r"^Nothing found of what was asked for\. \d+ findings besides, not asked for\.\n$"
        )
        self.assertEqual(run("check", self.folder / "faulty", "--at", "quay-router:port1.40").returncode, 1)
        self.assertEqual(run("check", self.folder / "healthy", "--at", "chartroom").stdout, "Nothing found.\n")

    def test_a_plan_is_drafted_read_and_complained_of(self):
        plan = self.folder / "plan.toml"
        self.assertEqual(run("plan", "draft", self.folder / "healthy", "--into", plan).returncode, 0)
        done = run("check", self.folder / "healthy", "--plan", plan)
        self.assertEqual((done.returncode, done.stdout), (0, "Nothing found.\n"))
        plan.write_text('[vlans]\n10 = { nam = "x" }\n')
        done = run("check", self.folder / "healthy", "--plan", plan)
        self.assertEqual(done.returncode, 3)
        self.assertIn(f"{plan}:2: nam: not a word of a plan here", done.stderr)

    def test_findings_explained(self):
        one = run("findings", "vlan-leak").stdout
        self.assertTrue(one.startswith("vlan-leak  (VLAN)"))
        self.assertIn("The usual mend: Make the untagged VLAN of both ends the same.", one)
        self.assertIn("is vlan-leak meant?", run("findings", "vlan-leek").stderr)

    def test_a_vlan_is_drawn_and_shown(self):
        picture = self.folder / "v.svg"
        done = run("vlan", self.folder / "faulty", "20", "--figure", picture)
        self.assertIn("VLAN 20 “exhibits”: 2 pieces", done.stdout.splitlines()[0])
        drawn = picture.read_text()
        self.assertGreater(drawn.count("<path"), 60)
        done = run("vlan", self.folder / "faulty", "21")
        self.assertEqual(done.returncode, 2)
        self.assertIn("the survey does not speak of VLAN 21", done.stderr)
        self.assertEqual(run("vlan", self.folder / "faulty", "--figure", picture).returncode, 2)

    def test_a_link_side_by_side(self):
        done = run("link", self.folder / "faulty", "slipway", "port2")
        self.assertIn("the two ends differ in duplex.", done.stdout.splitlines()[0])
        self.assertIn("≠  duplex", done.stdout)
        for words, says in (
            (("no", "p"), "no device “no”"),
            (("galley", "p"), "galley has no port “p”"),
            (("galley", "port5"), "no link was found at galley port5"),
        ):
            done = run("link", self.folder / "healthy", *words)
            self.assertEqual(done.returncode, 2)
            self.assertIn(says, done.stderr)

    def test_hostile_names_stay_harmless(self):
        name = "=cmd\x1b[31m<b>"
        change = Change("hosts", {"host": name}, {"address": "none", "device": "galley", "port": "port4", "link": "up"})
        write_survey(apply_changes(healthy(), [change]), self.folder / "odd")
        for words in ((), ("--csv",), ("--sarif",)):
            done = run("check", self.folder / "odd", *words)
            self.assertNotIn("\x1b", done.stdout)
            self.assertIn("cmd", done.stdout)
        for row in csv.reader(io.StringIO(run("check", self.folder / "odd", "--csv").stdout)):
            self.assertFalse(any(cell.startswith("=") for cell in row))


if __name__ == "__main__":
    unittest.main()
