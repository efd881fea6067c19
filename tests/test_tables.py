"""Tables and exports for other programs: safe in a spreadsheet, in Markdown, in XML."""

import csv
import io
import tempfile
import unittest
from pathlib import Path
from xml.etree import ElementTree

from crossthread import Change, Network, Survey, apply_changes, map_network, write_survey
from crossthread.demo import faulty, healthy
from crossthread.faces.documents.exports import as_csv, as_dot, as_graphml, as_markdown
from crossthread.faces.terminal.addresses import addresses_csv, addresses_markdown
from crossthread.survey.records import Device, Host
from crossthread.views.addresses import addresses
from tests.test_command import run

EVIL = '=cmd|"x"!A1 <b>&\x1b[31m | `x`'


class Tables(unittest.TestCase):
    def test_the_addressing_table(self):
        answer = addresses(Network(healthy()))
        rows = list(csv.reader(io.StringIO(addresses_csv(answer))))
        self.assertEqual(len(rows), 1 + 12 + 10 + 25)
        self.assertEqual([row[1:4] for row in rows if row[0] == "galley"], [["management", "10", "10.61.10.206"]])
        self.assertEqual({row[8] for row in rows[1:]}, {""})
        self.assertEqual(rows[1][:5], ["core-east", "vlan10", "10", "10.61.10.1", "10.61.10.0/24"])
        (saw,) = [row for row in rows if row[0] == "plank-saw"]
        self.assertEqual(saw[2:6] + saw[7:8], ["40", "10.61.40.11", "10.61.40.0/24", "10.61.40.1", "sail-loft port3"])
        self.assertEqual(addresses_markdown(answer).count("\n"), 2 + 12 + 10 + 25)

    def test_what_clashes_or_is_outside_its_subnet_is_marked(self):
        taken = apply_changes(healthy(), [Change("hosts", {"host": "curator-pc"}, {"address": "10.61.10.205/24"})])
        marks = {(row.name, row.address): row.marks for row in addresses(taken).rows if row.marks}
        self.assertEqual(marks, {("ropehall", "10.61.10.205"): ("also curator-pc",),
                                 ("curator-pc", "10.61.10.205"): ("also ropehall management",)})  # fmt: skip
        marks = {row.name: row.marks for row in addresses(faulty()).rows if row.marks}
        self.assertEqual(marks["foghorn-exhibit"], ("in none of the subnets of VLAN 30",))

    def test_nothing_from_outside_is_a_formula_or_markup(self):
        survey = Survey(hosts=(Host(EVIL), Host("-1+1"), Host("@x")), devices=(Device(EVIL, site=EVIL),))
        answer = addresses(Network(survey))
        for row in list(csv.reader(io.StringIO(addresses_csv(answer))))[1:]:
            self.assertTrue(row[0].startswith("'"), row)
        text = addresses_markdown(answer) + as_markdown(("a",), [(EVIL,)]) + as_csv(("a",), [(EVIL,)])
        self.assertNotIn("\x1b", text)
        self.assertIn("\\<b\\>", text)
        graph = as_graphml(map_network(Network(survey)))
        self.assertIn("<b>&", ElementTree.fromstring(graph).find(".//{*}node").get("id"))
        self.assertNotIn("\x1b", graph + as_dot(map_network(Network(survey))))

    def test_commands(self):
        with tempfile.TemporaryDirectory() as holder:
            folder = Path(holder)
            write_survey(healthy(), folder / "s")
            self.assertTrue(
                run("addresses", folder / "s").stdout.startswith("12 gateway addresses, 10 of management, 25 hosts.")
            )
            self.assertEqual(
                run("addresses", folder / "s", "--csv").stdout, addresses_csv(addresses(Network(healthy())))
            )
            self.assertEqual(run("addresses", folder / "s", "--csv", "--json").returncode, 2)
            for ending, wanted in ((".graphml", "<edge "), (".dot", "--"), (".json", '"links"')):
                done = run("map", folder / "s", "--export", folder / f"m{ending}")
                self.assertEqual((done.returncode, done.stderr), (0, ""))
                self.assertGreaterEqual((folder / f"m{ending}").read_text().count(wanted), 1)
            done = run("map", folder / "s", "--export", folder / "m.doc")
            self.assertEqual((done.returncode, len(done.stderr.splitlines())), (2, 1))


if __name__ == "__main__":
    unittest.main()
