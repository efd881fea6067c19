"""The installed command: what it prints, its JSON, its exit statuses, and what it says to bad input."""

import json
import os
import re
import subprocess
import sys
import tempfile
import unittest
from contextlib import suppress
from pathlib import Path

from crossthread import Change, apply_changes, read_survey, write_survey
from crossthread.demo import faulty, healthy
from crossthread.demo.generator import generate
from crossthread.survey import Survey
from crossthread.survey.records import Device, Host, Neighbor, Port
from tests.building import DATA

COMMAND = Path(sys.executable).with_name("crossthread")
EVIL = "\x1b]0;owned\x07[bold]sw\u202e\n=cmd()"


def run(*words, **environment):
    return subprocess.run(
        [COMMAND, *map(str, words)], capture_output=True, text=True, env={**os.environ, **environment}, check=False
    )


class Commands(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.holder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(cls.holder.cleanup)
        cls.folder = Path(cls.holder.name)
        write_survey(healthy(), cls.folder / "healthy")
        write_survey(faulty(), cls.folder / "faulty")
        cls.healthy, cls.faulty = cls.folder / "healthy", cls.folder / "faulty"

    def answer(self, status, *words):
        done = run(*words)
        self.assertEqual((done.returncode, done.stderr), (status, ""))
        return done.stdout

    def test_map(self):
        text = self.answer(0, "map", self.healthy)
        self.assertTrue(text.startswith("11 devices, 17 links, 0 loose."))
        self.assertRegex(text, r"galley +port1 +── +ropehall +port3 +up +both ends")
        self.assertRegex(text, r"core-east +bundle1 \(port1 port2\) +── +core-west +bundle1 \(port1 port2\) +up")
        found = json.loads(self.answer(0, "map", self.healthy, "--json"))
        self.assertEqual(found.keys(), {"devices", "links", "loose"})
        link = next(link for link in found["links"] if link["a"]["device"] == "galley")
        self.assertEqual(link["b"], {"device": "ropehall", "port": "port3"})
        self.assertEqual((link["seen_from"], link["state"]), (["a", "b"], "up"))

    def test_why(self):
        text = self.answer(1, "why", self.faulty, "foghorn-exhibit", "camera-recorder")
        first = " ".join(text.splitlines()[:2])
        self.assertIn("foghorn-exhibit does not reach camera-recorder", first)
        self.assertIn("4 faults stand in the way", first)
        self.assertIn("touches 18 pairs start to work", text)
        self.assertNotIn("touches", self.answer(1, "why", self.faulty, "foghorn-exhibit", "camera-recorder", "--brief"))
        self.assertRegex(text, r"seen +ports ropehall port4: pvid = 30 +\[ports.csv:\d+\]")
        self.assertRegex(text, r"2 +✗ +ropehall +port4 untagged +20 +port1 tag 20")
        found = json.loads(self.answer(1, "why", self.faulty, "foghorn-exhibit", "camera-recorder", "--json"))
        fixed = {"from", "to", "verdict", "findings", "repair", "repair_proven", "observe", "path", "path_back"}
        self.assertLessEqual(fixed, found.keys())
        self.assertEqual((found["verdict"], found["repair_proven"]), ("fails", True))
        finding = found["findings"][0]
        self.assertLessEqual({"rule", "severity", "subjects", "says", "evidence", "repair"}, finding.keys())
        self.assertEqual(finding["subjects"][0], {"device": "ropehall", "port": "port4", "vid": 20})
        self.assertLessEqual({"table", "key", "column", "value", "source"}, finding["evidence"][0].keys())
        changes = [Change(c["table"], c["key"], c.get("set", {}), c.get("delete", False)) for c in found["repair"]]
        write_survey(apply_changes(read_survey(self.faulty), changes), self.folder / "mended.json")
        text = self.answer(0, "why", self.folder / "mended.json", "foghorn-exhibit", "camera-recorder")
        self.assertTrue(text.startswith("✓ foghorn-exhibit reaches camera-recorder"))

    def test_matrix_by_classes(self):
        text = self.answer(0, "matrix", self.healthy, "--classes")
        self.assertRegex(text, r"^600 pairs of \d+ classes: [\d,]+ work, [\d,]+ fail, 0 unknown\.")
        found = json.loads(self.answer(0, "matrix", self.healthy, "--classes", "--json"))
        self.assertEqual(sum(map(len, found["classes"])), 25)
        self.assertEqual(sum(found["pairs"].values()), 600)

    def test_matrix(self):
        text = self.answer(0, "matrix", self.healthy)
        self.assertTrue(text.startswith("600 pairs: 508 work, 92 fail, 0 unknown."))
        found = json.loads(self.answer(0, "matrix", self.faulty, "--json"))
        self.assertEqual((len(found["hosts"]), len(found["reaches"])), (25, 600))
        self.assertIn(["ticket-desk-1", "plate-scanner", "works"], found["reaches"])

    def test_check(self):
        self.assertEqual(self.answer(0, "check", self.healthy), "Nothing found.\n")
        text = self.answer(1, "check", self.faulty)
        self.assertRegex(text.splitlines()[0], r"^\d+ findings: \d+ that break traffic, \d+ that risk it, 0 to note\.$")
        found = json.loads(self.answer(1, "check", self.faulty, "--json"))
        self.assertEqual(found["counts"].keys(), {"breaks", "risks", "note"})
        self.assertEqual(sum(found["counts"].values()), len(found["findings"]))
        ranks = [["breaks", "risks", "note"].index(finding["severity"]) for finding in found["findings"]]
        self.assertEqual(ranks, sorted(ranks))

    def test_find(self):
        text = self.answer(0, "find", self.healthy, "guide-tablet")
        self.assertTrue(text.startswith("host guide-tablet: lighthouse-2 port9, VLAN 30."))
        found = json.loads(self.answer(0, "find", self.healthy, "guide-tablet", "--json"))
        self.assertEqual(found["places"][0]["port"], "port9")
        done = run("find", self.healthy, "guide-tabelt")
        self.assertEqual((done.returncode, done.stdout), (2, ""))
        self.assertIn("did you mean guide-tablet", done.stderr)

    def test_gather(self):
        raw, into = DATA / "raw" / "case-0009", self.folder / "gathered"
        text = self.answer(0, "gather", raw, "--into", into, "--dry-run")
        self.assertTrue(text.startswith("81 files read, 0 not used, 0 differences: not written (dry run)."), text[:99])
        self.assertFalse(into.exists())
        self.assertIn(": written.", self.answer(0, "gather", raw, "--into", into))
        before = read_survey(into)
        self.assertIn(": nothing changed.", self.answer(0, "gather", raw, "--into", into))
        self.assertEqual(read_survey(into), before)
        self.assertEqual(len(before.devices), 7)
        found = json.loads(self.answer(0, "gather", raw, DATA / "walks", "--into", into, "--json"))
        self.assertEqual((found["rows"]["devices"], found["written"]), ([7, 12], True))
        nothing = self.answer(3, "gather", DATA.parent / "__init__.py", "--into", self.folder / "none")
        self.assertTrue(nothing.startswith("0 files read, 1 not used, 0 differences: nothing changed."))
        self.assertFalse((self.folder / "none").exists())
        done = run("gather", self.folder / "nowhere", "--into", into)
        self.assertEqual((done.returncode, done.stdout), (2, ""))
        self.assertIn("there is no such file or folder", done.stderr)

    def test_demo(self):
        folder = self.folder / "tour"
        text = self.answer(0, "demo", folder)
        for words in ("map", "check", "matrix", "why"):
            self.assertIn(f"$ crossthread {words} {folder}/", text)
        self.assertEqual(read_survey(folder / "faulty"), faulty())
        write_survey(healthy(), folder / "faulty")
        self.assertIn("kept as it is", self.answer(0, "demo", folder))
        self.assertEqual(read_survey(folder / "faulty"), healthy())

    def test_an_answer_that_cannot_be_written_is_one_sentence(self):
        with open("/dev/full", "w") as full:
            for words in (("check", self.faulty), ("map", self.healthy, "--json")):
                done = subprocess.run([COMMAND, *words], stdout=full, stderr=subprocess.PIPE, text=True, check=False)
                self.assertEqual(done.returncode, 3)
                self.assertEqual(done.stderr, "the answer could not be written: No space left on device\n")
        with subprocess.Popen([COMMAND, "check", self.faulty], stdout=subprocess.PIPE, stderr=subprocess.PIPE) as done:
            done.stdout.close()  # as `head` does that has seen enough
            self.assertEqual((done.stderr.read(), done.wait()), (b"", 1))

    def test_everything_fits_a_hundred_columns_without_colour_in_a_pipe(self):
        text = self.answer(0, "demo", self.folder / "wide")
        self.assertLessEqual(max(map(len, text.splitlines())), 100)
        self.assertNotIn("\x1b", text)
        self.assertNotIn("\x1b", run("check", self.faulty, FORCE_COLOR="1", NO_COLOR="1").stdout.replace("\x1b[1m", "")
                         .replace("\x1b[0m", "").replace("\x1b[2m", ""))  # fmt: skip

    def test_names_from_outside_stay_harmless(self):
        survey = Survey(
            devices=(Device("sw\x9b31m"),),
            ports=(Port("sw\x9b31m", "p1", mode="access", pvid=3, admin="up", oper="up"),),
            neighbors=(Neighbor("sw\x9b31m", "p1", neighbor=EVIL, neighbor_port="[red]p\x1b[2J"),),
            hosts=(Host(EVIL, address="10.0.0.1/24", gateway="none", device="sw\x9b31m", port="p1"), Host("b\x07")),
        )
        path = self.folder / "evil.json"
        write_survey(survey, path)
        for words in (["map"], ["check"], ["matrix"], ["why", EVIL, "b\x07"], ["why", EVIL, "nobody\x1b"]):
            for more in ([], ["--json"]):
                with self.subTest(words=words, more=more):
                    done = run(words[0], path, *words[1:], *more)
                    self.assertNotIn("Traceback", done.stderr)
                    text = done.stdout + done.stderr
                    self.assertIsNone(re.search(r"[\x00-\x09\x0b-\x1f\x7f-\x9f\u202e]", text), ascii(text))
                    self.assertGreater(len(text), 20)
        self.assertIn("[bold]sw", run("map", path).stdout)

    def test_bad_input_gets_one_sentence_and_its_status(self):
        empty = self.folder / "empty"
        empty.mkdir()
        higher = self.folder / "higher"
        higher.mkdir()
        (higher / "survey.toml").write_text("format = 2\n")
        broken = self.folder / "broken"
        broken.mkdir()
        (broken / "ports.csv").write_text("device,port,pvid\nsw,p1,4095\nsw,p1,7\n")
        for words, status, lines, says in [
            (["map", self.folder / "nowhere"], 3, 1, "there is no such folder or file"),
            (["map", empty], 3, 1, "no survey here"),
            (["map", self.healthy / "ports.csv"], 3, 1, "expected the folder that it is in"),
            (["map", higher], 3, 1, "reads surveys up to format 1"),
            (["check", broken], 3, 3, "ports.csv:2: pvid “4095”: expected a VLAN identifier from 1 to 4094"),
            (["why", self.healthy, "ticket-desk-9", "shop-till"], 2, 1, "did you mean ticket-desk-2 or ticket-desk-1"),
            (["tree", self.healthy, "--vlan", 999], 2, 1, "does not speak of VLAN 999"),
            (["why", self.healthy, "shop-till", "shop-till"], 2, 1, "the same host"),
            (["demo", "/proc/none"], 2, 1, "cannot be written"),
        ]:
            with self.subTest(words):
                done = run(*words)
                self.assertEqual((done.returncode, done.stdout), (status, ""))
                self.assertEqual(len(done.stderr.splitlines()), lines, done.stderr)
                self.assertIn(says, done.stderr)
        for words in (["why", self.healthy, "a"], ["fly"], ["map"], ["map", self.healthy, "--bogus"]):
            self.assertEqual(run(*words).returncode, 2, words)

    def test_a_reader_that_goes_away_is_no_error(self):
        done = subprocess.run(f"'{COMMAND}' matrix '{self.healthy}' --json | head -1", shell=True, capture_output=True,
                              text=True, check=True)  # fmt: skip
        self.assertEqual((done.stdout, done.stderr), ("{\n", ""))

    def test_long_work_shows_on_a_terminal_how_far_it_is_and_nothing_of_it_stays(self):
        write_survey(generate(2, 12, 205, 3, 40), self.folder / "long")
        words = ["matrix", self.folder / "long", "--json"]
        near, far = os.openpty()
        shown = b""
        with tempfile.TemporaryFile() as said, subprocess.Popen([COMMAND, *words], stdout=said, stderr=far) as process:
            os.close(far)
            with suppress(OSError):  # as a terminal says that nobody writes to it any more
                while more := os.read(near, 4096):
                    shown += more
            process.wait()
            said.seek(0)
            json.loads(said.read())
        os.close(near)
        self.assertIn(b"hosts", shown)
        self.assertTrue(shown.endswith((b"\x1b[2K", b"\x1b[?25h")), shown[-20:])  # the line is empty again
        self.assertEqual(run(*words).stderr, "")


class Examples(unittest.TestCase):
    def test_each_runs(self):
        scripts = sorted((Path(__file__).parents[1] / "examples").glob("*.py"))
        self.assertGreaterEqual(len(scripts), 3)
        for script in scripts:
            with self.subTest(script.name), tempfile.TemporaryDirectory() as folder:
                done = subprocess.run([sys.executable, script], capture_output=True, text=True, cwd=folder, check=False)
                self.assertEqual((done.returncode, done.stderr), (0, ""))
                self.assertGreater(len(done.stdout.splitlines()), 3)


if __name__ == "__main__":
    unittest.main()
