"""The Python API: every question is public, takes whatever a network can be made of, and has examples that run."""

import doctest
import inspect
import json
import tempfile
import unittest
from pathlib import Path

import msgspec
import pandas as pd

import crossthread
from crossthread import (
    Change,
    Network,
    Survey,
    SurveyError,
    VlanSet,
    check,
    find,
    matrix,
    read_survey,
    vlan,
    write_survey,
)
from crossthread.demo import faulty, healthy
from crossthread.survey.records import Host, Port, Vlan

PUBLIC = {name: getattr(crossthread, name) for name in crossthread.__all__}
QUESTIONS = {
    name: thing
    for name, thing in PUBLIC.items()
    if inspect.isfunction(thing) and next(iter(inspect.signature(thing).parameters), "") == "network"
}


def below(kind):
    """All kinds of a record."""
    for one in kind.__subclasses__():
        yield one
        yield from below(one)


class Documented(unittest.TestCase):
    def test_every_command_has_its_question(self):
        wanted = "map_network inventory compare_drawing addresses find check vlan vlans link trees tree tree_ways why "
        wanted += "tree_advice tree_change draft_plan why_all why_via rehearse matrix class_matrix gather meanings"
        self.assertLessEqual(set(wanted.split()), set(crossthread.__all__))
        self.assertLessEqual(set(crossthread.__all__), set(dir(crossthread)))
        with self.assertRaises(AttributeError):
            crossthread.nothing  # noqa: B018

    def test_each_question_says_what_it_takes_returns_and_raises_with_an_example_that_runs(self):
        self.assertGreater(len(QUESTIONS), 20)
        runner = doctest.DocTestRunner(verbose=False)
        for name, question in QUESTIONS.items():
            with self.subTest(name):
                text = inspect.getdoc(question)
                for section in ("Parameters\n---", "Returns\n---", "Raises\n---", "Examples\n---"):
                    self.assertIn(section, text)
                for test in doctest.DocTestFinder().find(inspect.unwrap(question), question.__name__):
                    self.assertTrue(test.examples)
                    self.assertEqual(runner.run(test).failed, 0)

    def test_other_examples_run(self):
        for thing in (crossthread, crossthread.values, crossthread.survey.table, crossthread.survey.survey):
            self.assertEqual(doctest.testmod(thing).failed, 0)

    def test_one_tree_of_errors(self):
        for name in ("SurveyError", "UnknownNameError", "UnreadableError"):
            self.assertTrue(issubclass(PUBLIC[name], crossthread.CrossThreadError))


class Asked(unittest.TestCase):
    def test_of_a_place_a_survey_or_a_network(self):
        with tempfile.TemporaryDirectory() as folder:
            place = Path(folder) / "campus"
            write_survey(faulty(), place)
            answers = [find(given, "plank-saw") for given in (str(place), place, faulty(), Network(faulty()))]
            self.assertEqual({answer.places[0].device for answer in answers}, {"sail-loft"})
            with self.assertRaises(SurveyError):
                check(Path(folder) / "nowhere")

    def test_answers_are_short_in_a_session_and_a_table_in_a_notebook(self):
        network = Network(faulty())
        for answer in (check(network), matrix(network), vlan(network, 20), network, network.survey):
            self.assertLess(len(repr(answer)), 400)
            self.assertTrue(answer._repr_html_().startswith("<p>&lt;"))
        self.assertIn("<th>rule</th>", check(network)._repr_html_())
        self.assertIn("more</p>", matrix(network)._repr_html_())
        self.assertIn("13 findings", repr(check(network)))

    def test_no_record_and_no_answer_can_be_changed(self):
        kinds = [kind for kind in below(msgspec.Struct) if kind.__module__.startswith("crossthread.")]
        kinds = [kind for kind in kinds if kind.__module__.split(".")[1] not in ("live", "sources")]
        self.assertGreater(len(kinds), 60)
        self.assertEqual([kind for kind in kinds if not kind.__struct_config__.frozen], [])

    def test_hostile_names_are_no_markup_in_a_notebook(self):
        hosts = [{"host": "<script>x", "address": "10.0.0.1/24"}, {"host": "b", "address": "10.0.0.2/24"}]
        page = matrix(Survey.of(hosts=hosts))._repr_html_()
        self.assertIn("&lt;script&gt;x", page)
        self.assertNotIn("<script>", page)

    def test_lists_become_data_frames_with_plain_cells(self):
        frame = check(faulty()).to_frame()
        self.assertEqual(list(frame["severity"].unique()), ["breaks", "risks"])
        self.assertEqual(list(matrix(healthy()).to_frame().columns), ["from", "to", "verdict"])
        links = crossthread.map_network(healthy()).to_frame()
        self.assertIn("ropehall port3", set(links["b"]) | set(links["a"]))

    def test_an_answer_with_a_vlan_set_serialises(self):
        change = Change("ports", {"device": "galley", "port": "port1"}, {"allowed": VlanSet.parse("10-12")})
        self.assertEqual(msgspec.json.decode(msgspec.json.encode(change))["set"], {"allowed": "10-12"})
        told = json.loads(crossthread.rehearse(healthy(), [change]).to_json())
        self.assertEqual(set(told) >= {"fixed", "broken", "trees"}, True)


class ByHand(unittest.TestCase):
    def problems(self, make):
        with self.assertRaises(SurveyError) as caught:
            make()
        return [str(problem) for problem in caught.exception.problems]

    def test_records_are_checked_as_cells_of_a_file_are(self):
        rows = (Port("sw-a", "p1", mode="trunk", allowed="1 10-19"), Port("sw-a", "p2", pvid=5000), Port("sw-a", "p2"))
        said = self.problems(lambda: Survey(ports=rows))
        self.assertEqual(len(said), 2)
        self.assertEqual(said[0], "ports row 2: pvid “5000”: expected a VLAN identifier from 1 to 4094, or none")
        self.assertTrue(said[1].startswith("ports row 1: allowed “1 10-19”: expected a VLAN set"))
        twice = self.problems(lambda: Survey(ports=[Port("sw-a", "p1")] * 2))
        self.assertIn("row 2: port “sw-a p1”: stands twice", twice[0])
        self.assertIn("expected a record of the type Host", self.problems(lambda: Survey(hosts=({"host": "a"},)))[0])
        self.assertIn("mac", self.problems(lambda: Survey(hosts=(Host("a", mac="02:00:00:00:00:0A"),)))[0])
        self.assertIn("vid", self.problems(lambda: Survey(vlans=(Vlan("sw-a", [7]),)))[0])

    def test_dictionaries_and_data_frames_are_read(self):
        ports = [
            {"device": "sw-a", "port": "p1", "mode": "access", "pvid": 7},
            {"device": "sw-a", "port": "p2", "mode": "trunk", "allowed": VlanSet.of([7, 8])},
        ]
        survey = Survey.of(ports=ports)
        framed = Survey.of(
            ports=pd.DataFrame(
                [
                    {"device": "sw-a", "port": "p1", "mode": "access", "pvid": 7.0},
                    {"device": "sw-a", "port": "p2", "mode": "trunk", "allowed": "7 8"},
                ]
            )
        )
        self.assertEqual(survey.ports, framed.ports)
        self.assertEqual(survey.ports[1].allowed, VlanSet.of([7, 8]))
        self.assertEqual(Survey.of(ports=list(survey.ports)), survey)
        self.assertEqual(Survey(**survey.__dict__), survey)

    def test_what_cannot_be_read_names_row_and_column_all_at_once(self):
        said = self.problems(
            lambda: Survey.of(ports=[{"device": "a", "port": "p"}, {"device": "a", "pvid": "x"}], roofs=[])
        )
        self.assertEqual(len(said), 3)
        self.assertIn("ports row 2: pvid “x”: expected a VLAN identifier", said[1])
        self.assertTrue(said[2].startswith("roofs: expected a table of a survey"))

    def test_it_is_the_survey_that_its_files_give(self):
        with tempfile.TemporaryDirectory() as folder:
            hosts = [{"host": "a", "address": "10.0.0.1/24", "gateway": "none"}]
            write_survey(Survey.of(hosts=hosts), folder)
            self.assertEqual(read_survey(folder).hosts, Survey.of(hosts=hosts).hosts)


if __name__ == "__main__":
    unittest.main()
