"""The picture of the map: every device has a place of its own, and the file holds what it should."""

import tempfile
import unittest
import warnings
from pathlib import Path

from hypothesis import given, settings
from hypothesis import strategies as st

from crossthread import Network, Survey, map_network
from crossthread.demo import faulty
from crossthread.faces.pictures.layout import arrange, crossings, layers_of
from crossthread.faces.pictures.map_figure import draw_map
from crossthread.survey.records import Device, Neighbor
from tests.test_command import run

NAMES = [f"d{n}" for n in range(24)]


@st.composite
def campuses(draw):
    names = NAMES[: draw(st.integers(1, 24))]
    tiers = {name: draw(st.sampled_from([None, "core", "distribution", "access", "edge"])) for name in names}
    pairs = st.tuples(st.sampled_from(names), st.sampled_from(names))
    return tiers, draw(st.lists(pairs, max_size=40))


class Layout(unittest.TestCase):
    @settings(max_examples=150, deadline=None)
    @given(campuses(), st.integers(2, 9))
    def test_everyone_has_a_place_of_their_own(self, campus, width):
        tiers, cables = campus
        places = arrange(tiers, cables, width)
        self.assertEqual(places.keys(), tiers.keys())
        self.assertEqual(len(set(places.values())), len(places))
        self.assertTrue(all(0 <= x <= 1 for x, _ in places.values()))
        rows = {name: -y for name, (_, y) in places.items()}
        order = ["core", "distribution", "access", "edge"]
        for a, tier in tiers.items():
            for b, other in tiers.items():
                if tier in order and other in order and order.index(tier) < order.index(other):
                    self.assertLess(rows[a], rows[b])

    @settings(max_examples=100, deadline=None)
    @given(campuses())
    def test_never_more_crossings_than_at_first(self, campus):
        tiers, cables = campus
        places = arrange(tiers, cables)
        first = layers_of(tiers, cables, 8)
        by_row = [sorted(layer, key=lambda name: places[name][0]) for layer in first]
        self.assertLessEqual(crossings(by_row, cables), crossings(first, cables))


class Pictures(unittest.TestCase):
    def test_both_formats(self):
        with tempfile.TemporaryDirectory() as folder:
            for name, begins in (("map.png", b"\x89PNG"), ("map.svg", b"<?xml")):
                path = Path(folder) / "new" / name
                draw_map(map_network(Network(faulty())), path, "Skerrymoor")
                self.assertTrue(path.read_bytes().startswith(begins))
                self.assertGreater(path.stat().st_size, 20_000)
            with self.assertRaises(ValueError):
                draw_map(map_network(Network(faulty())), Path(folder) / "map.txt")

    def test_names_that_mean_something_to_the_drawing_program(self):
        name = "$x_{1}^$ <b>\x1b & 端口"
        survey = Survey(devices=(Device(name, site="$$"),), neighbors=(Neighbor(name, "$p$", neighbor="x"),))
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "map.svg"
            with warnings.catch_warnings():
                warnings.simplefilter("error")
                draw_map(map_network(Network(survey)), path, "$t")
            self.assertNotIn(b"\x1b", path.read_bytes())
            draw_map(map_network(Network(Survey())), path)

    def test_the_command(self):
        from crossthread import write_survey

        with tempfile.TemporaryDirectory() as folder:
            write_survey(faulty(), Path(folder) / "s")
            done = run("map", Path(folder) / "s", "--figure", Path(folder) / "m.png")
            self.assertEqual((done.returncode, done.stderr), (0, ""))
            self.assertTrue((Path(folder) / "m.png").exists())
            done = run("map", Path(folder) / "s", "--figure", Path(folder) / "m.pdf")
            self.assertEqual((done.returncode, done.stdout), (2, ""))
            self.assertIn("ends in .png or .svg", done.stderr)
            done = run("map", Path(folder) / "s", "--figure", "/proc/no/m.png")
            self.assertEqual((done.returncode, len(done.stderr.splitlines())), (2, 1))


if __name__ == "__main__":
    unittest.main()
