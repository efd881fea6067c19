"""The inventory and its remarks, and the map against a drawing."""

import tempfile
import unittest
from pathlib import Path

from crossthread import Network, SurveyError, read_drawing, write_survey
from crossthread.demo import healthy
from crossthread.plan.drawing import DrawnCable
from crossthread.questions.inventory import inventory
from crossthread.views.drawing import compare_drawing
from tests.building import cabled, network_of, ports
from tests.test_command import run


class Remarks(unittest.TestCase):
    def remarks(self, **tables):
        answer = inventory(network_of(**tables))
        return {(r.rule, r.says) for r in answer.remarks if r.rule != "neighbor-no-address"}, answer

    def test_why_a_neighbour_is_heard_from_one_end_only(self):
        rows = "device|port|neighbor|neighbor_port\nsw-a|p1|sw-b|p2"
        listed = "device|port|discovery\nsw-a|p1|\nsw-b|p2|"
        other = "\nsw-b|p9|sw-x|p9"
        for tables, reason in [
            ({"devices": "device|discovery\nsw-b|off"}, "neighbour discovery is off on sw-b"),
            ({"ports": listed.replace("sw-b|p2|", "sw-b|p2|send")}, "sw-b p2 does not listen (discovery send)"),
            ({"ports": listed.replace("sw-a|p1|", "sw-a|p1|receive")}, "sw-a p1 does not speak (discovery receive)"),
            ({"ports": listed, "coverage": "device|table|complete\nsw-b|neighbors|no"}, None),
            ({"ports": listed, "neighbors": rows + other}, "its neighbour table lacks it"),
        ]:
            with self.subTest(reason):
                found, _ = self.remarks(**{"neighbors": rows, **tables})
                says = [text for rule, text in found if rule == "neighbor-one-way"]
                self.assertEqual(len(says), int(reason is not None))  # nothing is said of what nobody read
                self.assertTrue(all(f"sw-b p2 hears nothing of sw-a p1: {reason}" in text for text in says))

    def test_stale_renamed_and_several(self):
        head = "device|port|neighbor|neighbor_chassis|neighbor_port|ttl|remaining|interval\n"
        found, _ = self.remarks(neighbors=head + "sw-a|p1|x|02:00:00:00:00:01|q|120|60|")
        self.assertEqual(found, {("neighbor-stale", "sw-a p1 has not heard x for 60 s, though it speaks every 30 s; "
                                  "60 s of 120 s are left.")})  # fmt: skip
        found, _ = self.remarks(neighbors=head + "sw-a|p1|x|02:00:00:00:00:01|q|120|90|")
        self.assertEqual(found, set())
        both = "sw-a|p1|old|02:00:00:00:00:01|q|120|80|\nsw-a|p1|new|02:00:00:00:00:01|q|120|119|"
        found, _ = self.remarks(neighbors=head + both.replace("|80|", "|95|"))
        self.assertEqual([(r, s.rpartition("; ")[2]) for r, s in found], [("neighbor-stale", "old is ageing out.")])
        found, answer = self.remarks(neighbors=head + "sw-a|p1|x|||||\nsw-a|p1|y|||||")
        self.assertEqual(found, {("neighbor-several", "sw-a p1 hears 2 neighbours: x and y.")})
        self.assertEqual({d.device: d.how for d in answer.devices}["x"], "heard at sw-a p1")

    def test_mixed_software_and_no_address(self):
        found, answer = self.remarks(
            devices="device|platform|software\na|m|1\nb|m|1\nc|m|2\nd|n|3", neighbors=cabled("a p1 b p1")
        )
        self.assertEqual(found, {("software-mixed", "Devices of m run different software: a (1), b (1), c (2).")})
        self.assertEqual(sum(r.rule == "neighbor-no-address" for r in answer.remarks), 0)

    def test_the_healthy_campus_gives_no_cause(self):
        answer = inventory(Network(healthy()))
        self.assertEqual((len(answer.devices), answer.remarks), (11, ()))


class Drawings(unittest.TestCase):
    NETWORK_PORTS = ports("a port1 trunk 1", "a port2 trunk 1", "b port1 trunk 1", "b port2 trunk 1", "c port1 trunk 1")

    def test_missing_extra_and_moved(self):
        network = network_of(neighbors=cabled("a port1 b port1", "a port2 c port1"), ports=self.NETWORK_PORTS)
        drawn = [DrawnCable("B", "po2", "A", "port1"), DrawnCable("b", "port7", "c", "port9")]
        answer = compare_drawing(network, drawn)
        self.assertEqual(answer.right, ())
        self.assertEqual(answer.missing, (DrawnCable("b", "port7", "c", "port9"),))
        self.assertEqual(answer.extra, (DrawnCable("a", "port2", "c", "port1"),))
        (moved,) = answer.moved
        self.assertEqual(
            (moved.drawn, moved.found), (DrawnCable("b", "port2", "a", "port1"), DrawnCable("a", "port1", "b", "port1"))
        )

    def test_the_corrected_list_is_right(self):
        with tempfile.TemporaryDirectory() as holder:
            folder = Path(holder)
            write_survey(healthy(), folder / "s")
            (folder / "d.csv").write_text("device,port,far_device,far_port\ngalley,port9,ropehall,port3\n")
            done = run("drawing", folder / "s", folder / "d.csv", "--corrected", folder / "new.csv")
            self.assertEqual(done.returncode, 1)
            self.assertTrue(
                done.stdout.startswith("The drawing is wrong in 18 places: 0 as drawn, 0 missing, 17 extra, 1")
            )
            done = run("drawing", folder / "s", folder / "new.csv")
            self.assertEqual((done.returncode, done.stdout), (0, "The drawing is right: 18 cables as drawn.\n"))
            for text, says, count in [
                ("port,b\n1,2\n", "expected a column device", 3),
                ("device,port,far_device,far_port\nx,,y,z\n", ":2: port", 1),
            ]:
                (folder / "bad.csv").write_text(text)
                done = run("drawing", folder / "s", folder / "bad.csv")
                self.assertEqual((done.returncode, done.stdout), (3, ""))
                self.assertIn(says, done.stderr)
                with self.assertRaisesRegex(SurveyError, says) as caught:
                    read_drawing(folder / "bad.csv")
                self.assertEqual(len(caught.exception.problems), count)
            self.assertTrue(run("inventory", folder / "s").stdout.startswith("11 devices, 11 surveyed, 0 remarks."))


if __name__ == "__main__":
    unittest.main()
