"""Reading and writing surveys: what is written reads back, what is wrong is named, a kill loses nothing."""

import gzip
import json
import os
import signal
import subprocess
import sys
import tempfile
import unittest
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path
from unittest.mock import patch

from hypothesis import given, settings
from hypothesis import strategies as st

from crossthread import Change, Survey, SurveyError, VlanSet, apply_changes, read_survey, write_survey
from crossthread.demo import faulty, healthy
from crossthread.demo.generator import generate
from crossthread.survey import Info
from crossthread.survey.building import Builder
from crossthread.survey.records import TABLES, Host, Neighbor, Port, Vlan
from tests.building import LAB

TEXT = st.text(st.characters(exclude_categories=["Cs"], exclude_characters="\0"), min_size=1, max_size=20)
NAMES = TEXT.filter(lambda text: text.strip())
MACS = st.integers(0, 2**48 - 1).map(lambda n: ":".join(f"{n:012x}"[i : i + 2] for i in range(0, 12, 2)))
MAYBE = st.none()
PORTS = st.builds(
    Port,
    device=NAMES,
    port=NAMES,
    description=MAYBE | TEXT,
    mac=MAYBE | MACS,
    admin=st.sampled_from([None, "up", "down"]),
    speed=MAYBE | st.integers(0, 400_000),
    mode=st.sampled_from([None, "access", "trunk", "hybrid", "routed"]),
    pvid=MAYBE | st.integers(0, 4094),
    allowed=MAYBE | st.sets(st.integers(1, 4094), max_size=9).map(VlanSet.of),
    allowed_macs=MAYBE | st.lists(MACS, max_size=3).map(tuple),
)
NEIGHBORS = st.builds(
    Neighbor,
    device=NAMES,
    port=NAMES,
    neighbor=MAYBE | TEXT,
    capabilities=MAYBE | st.lists(st.sampled_from(["bridge", "router", "phone"]), max_size=2).map(tuple),
    ttl=MAYBE | st.integers(0, 65535),
    interval=MAYBE | st.integers(0, 3_000_000).map(lambda n: n / 1000),
)


def unique(rows):
    return tuple({row.key: row for row in rows}.values())


SURVEYS = st.builds(
    Survey,
    info=st.builds(Info, title=MAYBE | TEXT, taken_at=MAYBE | st.just(datetime(2026, 5, 4, 6, tzinfo=UTC))),
    ports=st.lists(PORTS, max_size=5).map(unique),
    neighbors=st.lists(NEIGHBORS, max_size=5).map(tuple),
)


class RoundTrip(unittest.TestCase):
    @settings(max_examples=60, deadline=None)
    @given(SURVEYS)
    def test_what_is_written_reads_back_equal(self, survey):
        with tempfile.TemporaryDirectory() as folder:
            for name in ("folder", "one.json", "one.json.gz"):
                write_survey(survey, Path(folder) / name)
                self.assertEqual(read_survey(Path(folder) / name), survey, name)

    def test_real_surveys(self):
        with tempfile.TemporaryDirectory() as folder:
            for survey in [*(read_survey(case / "survey") for case in LAB), healthy(), faulty()]:
                for name in ("same folder", "one.json", "one.json.gz"):
                    write_survey(survey, Path(folder) / name)
                    self.assertEqual(read_survey(Path(folder) / name), survey)

    def test_the_format_page_names_every_column(self):
        page = (Path(__file__).parents[1] / "docs" / "survey.md").read_text(encoding="utf-8")
        for name, record in TABLES.items():
            part = page.partition(f"{name}.csv")[2]
            for column in set(record.__struct_fields__) - {"source", "extra"}:
                self.assertRegex(part, rf"\b{column}\b", f"{name}: {column}")

    def test_other_files_of_the_folder_stay(self):
        with tempfile.TemporaryDirectory() as folder:
            (Path(folder) / "plan.toml").write_text("# mine")
            write_survey(faulty(), folder)
            write_survey(Survey(), folder)
            self.assertEqual(sorted(path.name for path in Path(folder).iterdir()), ["plan.toml", "survey.toml"])

    def test_empty_is_not_none(self):
        text = "device,port,pvid,allowed,lag\nsw,p1,,,\nsw,p2,none,none,none\n"
        with tempfile.TemporaryDirectory() as folder:
            (Path(folder) / "ports.csv").write_text("\ufeff" + text, encoding="utf-8")
            one, two = read_survey(folder).ports
        self.assertEqual((one.pvid, one.allowed, one.lag), (None, None, None))
        self.assertEqual((two.pvid, two.allowed, two.lag), (0, VlanSet(), "none"))

    def test_columns_without_a_name_are_kept_and_named_once(self):
        with tempfile.TemporaryDirectory() as folder:
            (Path(folder) / "survey.toml").write_text('format = 1\nweather = "fog"\n')
            (Path(folder) / "hosts.csv").write_text("host,desk\na,3\nb,4\n")
            (Path(folder) / "host.csv").write_text("x\n")
            survey = read_survey(folder)
            self.assertEqual([row.extra for row in survey.hosts], [(("desk", "3"),), (("desk", "4"),)])
            self.assertEqual(len([n for n in survey.notices if "desk" in n]), 1)
            self.assertTrue(any("did you mean hosts.csv" in n for n in survey.notices))
            write_survey(survey, folder)
            self.assertEqual(read_survey(folder), survey)

    def test_evidence_names_file_and_line(self):
        with tempfile.TemporaryDirectory() as folder:
            (Path(folder) / "ports.csv").write_text('device,port,description,pvid\nsw,p1,"two\nlines",7\n\nsw,p2,,9\n')
            survey = read_survey(folder)
            self.assertEqual([survey.source(row) for row in survey.ports], ["ports.csv:2", "ports.csv:5"])
            changed = apply_changes(survey, [Change("ports", {"device": "SW", "port": "p1"}, {"pvid": 8})])
            self.assertEqual([changed.source(row) for row in changed.ports], [None, "ports.csv:5"])


class Large(unittest.TestCase):
    """What is done otherwise with many rows must not be seen in what is read."""

    def setUp(self):
        holder = tempfile.TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        self.folder = Path(holder.name)
        self.survey = generate(4, 8, 150, 5, 24)
        write_survey(self.survey, self.folder)

    def said(self):
        try:
            return read_survey(self.folder), ()
        except SurveyError as error:
            return None, error.problems

    def test_ends_of_rows_that_repeat_are_read_once_to_the_same_result(self):
        for size in (800, 3000):
            with (
                patch("crossthread.survey.reading._CHUNK", size),
                patch.object(Builder, "add_tailed", autospec=True, side_effect=Builder.add_tailed) as used,
            ):
                found = read_survey(self.folder)
                self.assertEqual(found, self.survey)
                self.assertEqual(found.source(found.ports[-1]), f"ports.csv:{len(found.ports) + 1}")
            self.assertTrue(used.called)

    def test_what_is_wrong_in_them_is_named_all_the_same(self):
        file = self.folder / "ports.csv"
        rows = file.read_text().splitlines()
        rows[-2] = rows[-2].replace(",up,up,", ",up,sideways,").replace(",down,down,", ",up,sideways,")
        rows[-5] += ",more"
        rows[-7] = rows[-8]
        rows[-9] = rows[-9].partition(",")[0] + ",," + rows[-9].split(",", 2)[2]
        file.write_text("\n".join(rows) + "\n")
        _, wanted = self.said()
        self.assertEqual(sorted(p.line for p in wanted), [len(rows) - n for n in (8, 6, 4, 1)])
        with patch("crossthread.survey.reading._CHUNK", 1000):
            self.assertEqual(self.said(), (None, wanted))

    def test_rows_are_made_when_they_are_looked_at_and_know_where_they_stood(self):
        found = read_survey(self.folder)
        self.assertIs(found.macs[3], found.macs[3])
        self.assertEqual((found, found.macs[3]), (self.survey, self.survey.macs[3]))
        self.assertEqual((found.source(found.macs[3]), found.source(found.hosts[2])), ("macs.csv:5", "hosts.csv:4"))
        self.assertEqual(found.column("hosts", "address"), [row.address for row in self.survey.hosts])
        self.assertEqual(list(found.ports[5:3:-1]), [found.ports[5], found.ports[4]])
        self.assertEqual([row.port for row in found.ports], list(found.column("ports", "port")))

    def test_it_tells_how_much_of_the_tables_was_read(self):
        told = []
        read_survey(self.folder, told.append)
        octets = sum(file.stat().st_size for file in self.folder.glob("*.csv"))
        self.assertGreater(len(told), 5)
        self.assertLess(abs(sum(told) - octets), octets / 20)

    def test_columns_stay_true_to_their_rows_whatever_is_changed(self):
        port, host = self.survey.ports[4], self.survey.hosts[0]
        self.survey.column("ports", "pvid")
        changed = apply_changes(
            self.survey,
            [
                Change("ports", {"device": port.device, "port": port.port}, {"pvid": 99, "mtu": 9000}),
                Change("hosts", {"host": host.host}, delete=True),
                Change("vlans", {"device": port.device, "vid": 99}, {"name": "slipway"}),
            ],
        )
        for survey in (self.survey, changed, replace(changed, ports=changed.ports[:9])):
            for table in TABLES:
                rows = survey.table(table)
                for column in type(rows[0]).__struct_fields__ if rows else ():
                    self.assertEqual(list(survey.column(table, column)), [getattr(row, column) for row in rows])
        self.assertEqual((changed.ports[4].pvid, self.survey.ports[4].pvid), (99, port.pvid))
        with self.assertRaises(KeyError):
            changed.column("boats", "name")


class Problems(unittest.TestCase):
    def read(self, **files):
        with tempfile.TemporaryDirectory() as folder:
            for name, content in files.items():
                path = Path(folder) / name.replace("_", ".")
                path.write_bytes(content if isinstance(content, bytes) else content.encode())
            try:
                read_survey(folder)
            except SurveyError as error:
                return [str(problem) for problem in error.problems]
        raise AssertionError("nothing was refused")

    def test_all_in_one_go_each_with_its_place(self):
        found = self.read(
            ports_csv="device,port,pvid,allowed,mac\nsw,p1,4095,1-5000,zz\nsw,p2,7,,\nSW,p2,8,,\n,p4,,,\n",
            hosts_csv="host,address,link\na,10.0.0.300/24,sideways\nb,10.0.0.1,up\nb,10.0.0.2/24,up\n",
            routes_csv="device,prefix\nsw,10.0.0.1/24\n",
            survey_toml="format = 1\n",
        )
        for wanted in [
            "hosts.csv:2: address “10.0.0.300/24”: expected an IP address with its prefix length",
            "hosts.csv:2: link “sideways”: expected one of up, down",
            "hosts.csv:3: address “10.0.0.1”: expected an IP address with its prefix length",
            "hosts.csv:4: host “b”: stands twice, first in line 3",
            "ports.csv:2: pvid “4095”: expected a VLAN identifier from 1 to 4094",
            "ports.csv:2: allowed “1-5000”: expected a VLAN identifier from 1 to 4094",
            "ports.csv:2: mac “zz”: expected a MAC address",
            "ports.csv:4: port “SW p2”: stands twice, first in line 3",
            "ports.csv:5: device: empty, expected a name",
            "routes.csv:2: prefix “10.0.0.1/24”: expected a prefix without host bits, here 10.0.0.0/24",
        ]:
            with self.subTest(wanted):
                self.assertEqual(len([line for line in found if line.startswith(wanted)]), 1, found)
        self.assertEqual(len(found), 10, found)

    def test_files_that_are_no_tables(self):
        for name, content, wanted in [
            ("ports_csv", b"device,port\n\xff\xfe\x00", "ports.csv:2: not text in UTF-8"),
            ("ports_csv", "device,port\nsw,p\0\n", "ports.csv:2: a NUL byte"),
            ("ports_csv", ",".join(["x"] * 2_000_000), "ports.csv:1: 2000000 columns, expected at most 1000"),
            ("ports_csv", "device,prt\nsw,p\n", "ports.csv:1: port: the header lacks this column (is “prt” meant?)"),
            ("ports_csv", "device,port,port\nsw,p,p\n", "ports.csv:1: port: stands twice in the header"),
            ("ports_csv", "device,port\nsw,p,p,p\n", "ports.csv:2: 4 cells, expected 2"),
            ("ports_csv", 'device,port\nsw,"p\n', "ports.csv:2: not valid CSV"),
            ("ports_csv", "device\rport,x\n", "ports.csv:1: not valid CSV: a lone carriage return"),
            ("ports_csv", "", "ports.csv:1: device: the header lacks this column"),
            ("survey_toml", "format = 2\n", "survey.toml: format “2”: this program reads surveys up to format 1"),
            ("survey_toml", "format = \n", "survey.toml:1: not valid TOML in column"),
            ("survey_toml", "taken_at = 7\n", "survey.toml: taken_at: expected a date and time"),
            ("readme_md", "hello", "no survey here: expected survey.toml and tables"),
        ]:
            with self.subTest(wanted):
                self.assertIn(wanted, self.read(**{name: content})[0])

    def test_the_single_file(self):
        for text, wanted in [
            ("[]", "expected one JSON object"),
            ("{", "one.json:1: not valid JSON"),
            ("{}", "no survey here"),
            ('{"ports": {}}', "ports: expected a list"),
            ('{"survey": {"format": 9}}', "up to format 1"),
            (
                '{"ports": [\n{"device": "a",\n"port": "p"},\n{"device": "a", "port": "q", "pvid": 4095}]}',
                "one.json:4: pvid",
            ),
            ('{"ports": [{"device": "a", "port": {}}]}', "port: expected text, a number"),
            ('{"ports": [{"device": "a", "port": "\\ud800"}]}', "expected text in UTF-8"),
            ("[" * 100_000, "nested too deeply"),
        ]:
            with self.subTest(wanted), tempfile.TemporaryDirectory() as folder:
                path = Path(folder) / "one.json"
                path.write_text(text)
                with self.assertRaises(SurveyError) as caught:
                    read_survey(path)
                self.assertIn(wanted, str(caught.exception))

    def test_numbers_and_lists_in_json_are_taken_as_meant(self):
        document = {"ports": [{"device": "a", "port": 7, "pvid": 30, "allowed": [1, 30], "speed": 1000}]}
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "one.json.gz"
            path.write_bytes(gzip.compress(json.dumps(document).encode()))
            (row,) = read_survey(path).ports
        self.assertEqual((row.port, row.pvid, row.allowed, row.speed), ("7", 30, VlanSet.of([1, 30]), 1000))


class Interrupted(unittest.TestCase):
    OLD = Survey(hosts=(Host("old"),), vlans=(Vlan("sw", 1),))
    NEW = Survey(hosts=(Host("new"),), ports=(Port("sw", "p1"),))

    def test_stopped_at_every_step(self):
        """Let every call that changes the disk fail once, and look what a reader and the next writer find."""
        outcomes = set()
        for step in range(40):
            with tempfile.TemporaryDirectory() as folder:
                write_survey(self.OLD, folder)
                if self.write_until(step, Path(folder)):
                    break
                found = read_survey(folder)
                self.assertIn(found, (self.OLD, self.NEW), step)
                outcomes.add(found.hosts[0].host)
                write_survey(self.NEW, folder)
                self.assertEqual(read_survey(folder), self.NEW)
                self.assertEqual(
                    sorted(path.name for path in Path(folder).iterdir()), ["hosts.csv", "ports.csv", "survey.toml"]
                )
        else:
            self.fail("never got through")
        self.assertEqual(outcomes, {"old", "new"})

    def write_until(self, step, folder):
        calls = iter(range(1000))

        def failing(real):
            def call(*args, **kwargs):
                if next(calls) == step:
                    raise KeyboardInterrupt
                return real(*args, **kwargs)

            return call

        names = {"crossthread.survey.writing.os.replace": os.replace, "crossthread.survey.writing.os.fsync": os.fsync}
        with patch("pathlib.Path.unlink", failing(Path.unlink)):
            patches = [patch(name, failing(real)) for name, real in names.items()]
            for each in patches:
                each.start()
            try:
                write_survey(self.NEW, folder)
            except KeyboardInterrupt:
                return False
            finally:
                for each in patches:
                    each.stop()
        return True

    def test_killed_for_real(self):
        """Kill a process that writes two surveys in turn, again and again; what it leaves is one of the two."""
        program = (
            "import sys; from crossthread import write_survey; from crossthread.demo import faulty, healthy\n"
            "both = healthy(), faulty(); print('ready', flush=True)\n"
            "while True:\n    for survey in both: write_survey(survey, sys.argv[1])\n"
        )
        allowed = (healthy(), faulty())
        for attempt in range(4):
            with tempfile.TemporaryDirectory() as folder:
                write_survey(allowed[0], folder)
                child = subprocess.Popen([sys.executable, "-c", program, folder], stdout=subprocess.PIPE)
                child.stdout.readline()
                with self.assertRaises(subprocess.TimeoutExpired):
                    child.wait(0.05 + 0.013 * attempt)
                child.send_signal(signal.SIGKILL)
                child.wait()
                child.stdout.close()
                self.assertIn(read_survey(folder), allowed)


class Changes(unittest.TestCase):
    SURVEY = Survey(ports=(Port("sw", "p1", pvid=3),), hosts=(Host("a"), Host("b")))

    def test_set_add_and_delete(self):
        changed = apply_changes(
            self.SURVEY,
            [
                Change("ports", {"device": "sw", "port": "p1"}, {"pvid": "none", "allowed": [1, 2]}),
                Change("ports", {"device": "sw", "port": "p2"}, {"pvid": 9}),
                Change("hosts", {"host": "A"}, delete=True),
            ],
        )
        self.assertEqual(
            changed.ports, (Port("sw", "p1", pvid=0, allowed=VlanSet.of([1, 2])), Port("sw", "p2", pvid=9))
        )
        self.assertEqual(changed.hosts, (Host("b"),))
        self.assertEqual(self.SURVEY.ports[0].pvid, 3)

    def test_a_row_that_an_earlier_change_added_can_be_changed_again_and_deleted(self):
        added = Change("ports", {"device": "sw", "port": "p2"}, {"pvid": 9})
        here = {"device": "SW", "port": "p2"}
        moved = [Change("ports", here, {"port": "p3"}), Change("ports", {**here, "port": "p3"}, {"pvid": 4})]
        changed = apply_changes(self.SURVEY, [added, *moved])
        self.assertEqual([(row.port, row.pvid) for row in changed.ports], [("p1", 3), ("p3", 4)])
        self.assertEqual(apply_changes(self.SURVEY, [added, Change("ports", here, delete=True)]), self.SURVEY)

    def test_a_key_cell_can_be_changed(self):
        survey = apply_changes(
            Survey(), [Change("gateways", {"device": "r", "interface": "i", "address": "10.0.0.1/24"}, {"vid": 3})]
        )
        changed = apply_changes(
            survey,
            [
                Change(
                    "gateways", {"device": "r", "interface": "i", "address": "10.0.0.1/24"}, {"address": "10.0.0.2/24"}
                )
            ],
        )
        self.assertEqual([(row.address, row.vid) for row in changed.gateways], [("10.0.0.2/24", 3)])

    def test_all_that_is_wrong_is_named(self):
        with self.assertRaises(SurveyError) as caught:
            apply_changes(
                self.SURVEY,
                [
                    Change("prts", {}, {}),
                    Change("ports", {"device": "sw", "port": "p1"}, {"pvid": 4095, "colour": 1}),
                    Change("macs", {"device": "sw"}, {}),
                ],
            )
        for wanted in [
            "change 1: “prts”",
            "change 2: pvid “4095”",
            "no such column",
            "a new row of macs also needs mac",
        ]:
            self.assertIn(wanted, str(caught.exception))


if __name__ == "__main__":
    unittest.main()
