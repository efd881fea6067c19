"""Tables of any kind with a mapping."""

import io
import os
import tempfile
import unittest
from datetime import datetime
from pathlib import Path

from crossthread import SurveyError, VlanSet, read_survey
from crossthread.sources.gathering import gather
from crossthread.sources.table_mapping import TableMapping, read_mapped, read_mapping, rows_of
from tests.test_command import run

MAPPING = """
[[table]]
files = "interfaces*"
into = "ports"
columns.port = "Interface"
columns.oper = "State"
columns.pvid = "VLAN"
columns.allowed = "Trunk VLANs"
always.device = "sw-1"
words.oper.connected = "up"
words.oper."not connected" = "down"
words.pvid.trunk = "none"
"""
ADDRESSES = """
[[table]]
files = "desks*"
into = "hosts"
columns.host = "Name"
columns.address = ["IP", "Mask"]
"""
TABLE = 'Interface;State;VLAN;Trunk VLANs\n"p1";Connected;30;\np2;not connected;trunk;1,5-7\n'


class Mapped(unittest.TestCase):
    def test_separators_words_and_json(self):
        (mapping,) = read_mapping(MAPPING, "m.toml")
        json_rows = (
            '[{"Interface": "p1", "State": "connected", "VLAN": 30}, {"Interface": "p2", "State": "not connected",'
        )
        json_rows += ' "VLAN": "trunk", "Trunk VLANs": [1, "5-7"]}]'
        for text in (TABLE, TABLE.replace(";", "\t"), TABLE.replace("1,5-7", "1 5-7").replace(";", ","), json_rows):
            with self.subTest(text[:30]):
                one, two = read_mapped(text.encode(), "x.csv", mapping)
                self.assertEqual(
                    (one.device, one.port, one.oper, one.pvid, one.allowed), ("sw-1", "p1", "up", 30, None)
                )
                self.assertEqual((two.oper, two.pvid, two.allowed), ("down", 0, VlanSet.parse("1 5-7")))
        self.assertEqual(one.source, "x.csv:1")

    def test_a_mapping_says_whether_its_table_lists_everything(self):
        for complete, said in (("", []), ("complete = true", ["yes"]), ("complete = false", ["no"])):
            with self.subTest(complete), tempfile.TemporaryDirectory() as folder:
                place = Path(folder, "ports.csv")
                place.write_text(TABLE, encoding="utf-8")
                os.utime(place, (1_700_000_000, 1_700_000_000))
                (mapping,) = read_mapping(MAPPING.replace("interfaces*", "ports*") + complete, "m.toml")
                survey = gather([place], mappings=[mapping]).survey
                self.assertEqual([row.complete for row in survey.coverage], said)
                self.assertEqual([row.taken_at for row in survey.coverage], ["2023-11-14T22:13:20+00:00"] * len(said))

    def test_titles_above_code_pages_and_masks_of_their_own(self):
        (mapping,) = read_mapping(ADDRESSES, "m.toml")
        table = "Quay office, desks;;;\nas of 3 June;;;\n;;;\nName;IP;Mask;Rôle\ncafé;10.0.0.9;255.255.255.0;till\n"
        table += "loft;10.0.0.10;/25;\nkeel;fd00::7;64;\nbuoy;;;\n"
        for coding in ("utf-8", "utf-8-sig", "cp1252", "utf-16"):
            with self.subTest(coding):
                rows = read_mapped(table.encode(coding), "desks.csv", mapping)
                said = [(row.host, row.address) for row in rows]
                expected = [("café", "10.0.0.9/24"), ("loft", "10.0.0.10/25"), ("keel", "fd00::7/64"), ("buoy", None)]
                self.assertEqual(said, expected)
                self.assertEqual(rows[0].source, "desks.csv:5")
        for mask in ("255.0.255.0", "0.0.0.255", "wide"):
            with self.subTest(mask), self.assertRaises(SurveyError) as caught:
                read_mapped(table.replace("255.255.255.0", mask).encode(), "desks.csv", mapping)
            says = f"desks.csv:5: IP and Mask: expected a mask or a prefix length instead of “{mask}”"
            self.assertEqual(str(caught.exception), says)
        with self.assertRaisesRegex(SurveyError, "only an address may come from two"):
            read_mapping(ADDRESSES.replace('host = "Name"', 'host = ["Name", "IP"]'), "m.toml")
        with self.assertRaisesRegex(SurveyError, r"x:2: no text in UTF-8 or code page 1252"):
            read_mapped(b"Name;IP\n\x81;\xff", "x", mapping)

    def test_two_columns_of_one_name_are_asked_about(self):
        (mapping,) = read_mapping(MAPPING, "m.toml")
        table = "Interface;State;VLAN;Trunk VLANs;VLAN\np1;connected;30;;40\n"
        with self.assertRaises(SurveyError) as caught:
            read_mapped(table.encode(), "x.csv", mapping)
        says = "2 columns have this name; say which is meant: “VLAN (1)” (column 3) or “VLAN (2)” (column 5)"
        self.assertIn(f"x.csv:1: VLAN: {says}", str(caught.exception))
        for number, pvid in ((1, 30), (2, 40)):
            (mapping,) = read_mapping(MAPPING.replace('"VLAN"', f'"VLAN ({number})"'), "m.toml")
            self.assertEqual([row.pvid for row in read_mapped(table.encode(), "x.csv", mapping)], [pvid])

    def test_text_in_columns(self):
        (mapping,) = read_mapping(MAPPING, "m.toml")
        table = """
        Ports of the loft

        Interface  Description         State          VLAN   Trunk VLANs
        ---------  ------------------  -------------  -----  -----------
        p1         till, next to door  connected         30
        p2         up, to the  keel    not connected  trunk  1,5-7
        """
        one, two = read_mapped(table.encode(), "x.txt", mapping)
        self.assertEqual((one.port, one.oper, one.pvid, one.source), ("p1", "up", 30, "x.txt:6"))
        self.assertEqual((two.oper, two.pvid, two.allowed), ("down", 0, VlanSet.parse("1 5-7")))
        with self.assertRaises(SurveyError) as caught:
            read_mapped(table.replace("not connected  trunk", "not connectedd 4trunk").encode(), "x.txt", mapping)
        self.assertIn("x.txt:7", str(caught.exception))

    def test_workbooks(self):
        import openpyxl

        (mapping,) = read_mapping(ADDRESSES, "m.toml")

        def written(**sheets):
            book = openpyxl.Workbook()
            book.remove(book.active)
            for title, rows in sheets.items():
                own = book.create_sheet(title)
                for row in rows:
                    own.append(row)
            out = io.BytesIO()
            book.save(out)
            return out.getvalue()

        desks = [["Desks"], [], ["Name", "IP", "Mask"], ["loft", "10.0.0.9", 24], [], ["keel", "10.0.0.8", "255.0.0.0"]]
        rows = read_mapped(written(notes=[["hello"]], desks=desks), "x.xlsx", mapping)
        self.assertEqual([(r.host, r.address) for r in rows], [("loft", "10.0.0.9/24"), ("keel", "10.0.0.8/8")])
        self.assertEqual(rows[1].source, "x.xlsx:6")
        twice = written(one=desks, two=desks)
        with self.assertRaisesRegex(SurveyError, "several sheets have these columns: one, two; say which with “sheet”"):
            read_mapped(twice, "x.xlsx", mapping)
        (which,) = read_mapping(ADDRESSES + 'sheet = "two"', "m.toml")
        self.assertEqual(len(read_mapped(twice, "x.xlsx", which)), 2)
        for data, says in (
            (written(desks=[*desks, [datetime(2026, 1, 2), "10.0.0.7", 24]]), "x.xlsx:7: Name: expected text; the"),
            (written(desks=desks[:2]), "Name: there is no such column; there are "),
            (twice[:200], "no workbook that can be read"),
            (b"PK\3\4" + bytes(400), "no workbook that can be read"),
        ):
            with self.subTest(says), self.assertRaises(SurveyError) as caught:
                read_mapped(data, "x.xlsx", mapping)
            self.assertIn(says, str(caught.exception))

    def test_data_frames(self):
        import pandas as pd

        frame = pd.DataFrame({"name": ["a", "b"], "ip": ["10.0.0.1/24", None], "tag": [7.0, float("nan")]})
        mapping = TableMapping("hosts", columns={"host": "name", "address": "ip"})
        rows = rows_of(frame.to_dict("records"), [1, 2], "frame", mapping)
        self.assertEqual([(row.host, row.address) for row in rows], [("a", "10.0.0.1/24"), ("b", None)])

    def test_what_is_wrong_is_said(self):
        (mapping,) = read_mapping(MAPPING, "m.toml")
        with self.assertRaises(SurveyError) as caught:
            read_mapped(TABLE.replace("30", "4095").replace("Connected", "dozing").encode(), "x.csv", mapping)
        self.assertEqual([problem.line for problem in caught.exception.problems], [2, 2])
        with self.assertRaises(SurveyError) as caught:
            read_mapped(b"a,b\n1,2\n", "x.csv", mapping)
        self.assertIn("x.csv:1: Interface: there is no such column; there are a, b", str(caught.exception))
        for text, says in [
            ("x = ", "not valid TOML"),
            ("x = 1", "at least one [[table]]"),
            ('[[table]]\ninto = "prts"', "one of devices"),
            ('[[table]]\ninto = "ports"\ncolumns.port = "a"', "nothing says where device comes from"),
            ('[[table]]\ninto = "ports"\ncolumns.colour = "a"\nalways = {device = "a", port = "b"}', "has the col"),
            ('[[table]]\ninto = "ports"\ncolumns = 7', "Expected `object`"),
        ]:
            with self.subTest(text), self.assertRaises(SurveyError) as caught:
                read_mapping(text, "m.toml")
            self.assertIn(says, str(caught.exception))

    def test_gathered(self):
        with tempfile.TemporaryDirectory() as holder:
            folder = Path(holder)
            (folder / "interfaces-1.csv").write_text(TABLE)
            (folder / "m.toml").write_text(MAPPING)
            source = folder / "interfaces-1.csv"
            done = run("gather", source, "--into", folder / "s", "--mapping", folder / "m.toml")
            self.assertEqual((done.returncode, done.stderr), (0, ""))
            self.assertTrue(done.stdout.startswith("1 file read, 0 not used, 0 differences: written."))
            again = run("gather", source, "--into", folder / "s", "--mapping", folder / "m.toml")
            self.assertIn("nothing changed", again.stdout)
            survey = read_survey(folder / "s")
            source.write_text("\n".join(TABLE.splitlines()[:2]) + "\n")
            shorter = gather([source], survey, mappings=read_mapping(MAPPING, "m.toml"), relative_to=folder)
            self.assertEqual(([row.port for row in shorter.survey.ports], shorter.gone), (["p1"], 1))
            source.write_text(TABLE.replace("30", "4095"))
            found = gather([source], mappings=read_mapping(MAPPING, "m.toml"))
            self.assertIn("expected a VLAN identifier", found.files[0].says)
            head = "Interface;State;VLAN;Trunk VLANs\n"
            source.write_text(head + "".join(f"p{n};dozing;4095;\n" for n in range(8)))
            done = run("gather", source, "--into", folder / "s", "--mapping", folder / "m.toml")
            self.assertEqual((done.returncode, done.stderr), (3, ""))
            self.assertEqual(done.stdout.count("interfaces-1.csv:"), 17, done.stdout)
            self.assertIn("interfaces-1.csv:9: State “dozing”: expected one of up, down", done.stdout)
            (folder / "m.toml").write_text("[")
            done = run("gather", source, "--into", folder / "s", "--mapping", folder / "m.toml")
            self.assertEqual((done.returncode, done.stdout), (3, ""))


if __name__ == "__main__":
    unittest.main()
