"""A changed copy of a network gives the answers of one built afresh, whatever column of whatever table was changed."""

import random
import unittest

import msgspec

from crossthread import Change, Network, Survey, SurveyError, apply_changes, matrix, read_survey
from crossthread.demo import faulty, healthy
from crossthread.demo.generator import generate
from crossthread.diagnosis.all_rules import sweep
from crossthread.diagnosis.context import Context
from crossthread.survey.records import TABLES, columns_of
from crossthread.views.map import map_network
from crossthread.views.tree import tree_overview
from tests.building import DATA, LAB

OTHER = {
    "device": "nowhere", "port": "port99", "host": "stranger", "vid": 777, "instance": 9, "pair": "9",
    "interface": "new", "address": "10.99.0.1/24", "prefix": "10.99.0.0/24", "next_hop": "10.99.0.2",
    "mac": "02:00:00:00:99:99",
}  # fmt: skip
WORDS = ["none", "yes", "no", "up", "down", "trunk", "routed", "access", "hybrid", "off", "rstp", "per-vlan", "drop"]
WORDS += ["suspended", "10", "100", "1-4094", "802.1ad", "router", "02:00:00:00:00:01", "10.61.20.9", "10.61.20.9/24"]


def answers(network):
    """What is asked of both, as JSON."""
    asked = (matrix(network), list(sweep(Context(network))), tree_overview(network), map_network(network))
    return msgspec.json.encode([*asked, [host.end for host in network.stations.hosts.values()]])


def candidates(survey, table, column):
    """Values for a cell: what stands in the column elsewhere, nothing, and words that the column takes."""
    kind, must = columns_of(TABLES[table])[column]
    for text in (
        *{kind.show(v) for v in survey.column(table, column) if v is not None},
        *WORDS,
        OTHER.get(column, "x"),
    ):
        try:
            kind.read(str(text))
        except ValueError:
            continue
        yield str(text)
    if not must:
        yield ""


def key_of(survey, row):
    columns = type(row).KEY or ("device", "port", "neighbor", "neighbor_port")
    kinds = columns_of(type(row))
    return {c: kinds[c][0].show(value) for c in columns if (value := getattr(row, c)) is not None}


def changes(seed, survey, each):
    """For every column of every table some changes, whatever other columns there are; rows that go, and that come."""
    for table in TABLES:
        rows = survey.table(table)
        if not rows:
            continue
        for column in columns_of(TABLES[table]):
            chance = random.Random(f"{seed} {table} {column}")
            values = sorted(candidates(survey, table, column))
            for value in chance.sample(values, min(each, len(values))):
                yield [Change(table, key_of(survey, chance.choice(rows)), {column: value})]
        chance = random.Random(f"{seed} {table}")
        yield [Change(table, key_of(survey, chance.choice(rows)), delete=True)]
        fresh = {**key_of(survey, chance.choice(rows)), **{c: OTHER[c] for c in TABLES[table].KEY[-1:] if c in OTHER}}
        yield [Change(table, fresh, {})]


def unobserved(survey):
    """The same survey without what was observed of its trees' ports."""
    return Survey(**{name: survey.table(name) for name in TABLES if name != "tree_ports"})


class Law(unittest.TestCase):
    def hold(self, survey, seed, each):
        chance = random.Random(seed)
        network = Network(survey)
        answers(network)
        asked = 0
        for edits in changes(seed, survey, each):
            try:
                fresh = Network(apply_changes(survey, edits))
            except SurveyError:
                continue  # what the format does not take is tested elsewhere
            copy = network.changed(edits)
            with self.subTest(str(edits)):
                self.assertEqual(answers(copy), answers(fresh))
            asked += 1
            if asked % 10 == 0:
                again = [Change("ports", key_of(survey, chance.choice(copy.survey.ports)), {"admin": "down"})]
                with self.subTest(f"{edits} and {again}"):
                    twice = Network(apply_changes(copy.survey, again))
                    self.assertEqual(answers(copy.changed(again)), answers(twice))
        return asked

    def test_every_column_of_a_network_of_real_switches(self):
        self.assertGreater(self.hold(read_survey(LAB[1] / "survey"), 1, 1), 70)

    def test_every_column_where_no_tree_was_observed(self):
        self.assertGreater(self.hold(unobserved(read_survey(LAB[1] / "survey")), 2, 1), 60)

    def test_every_column_of_a_campus_with_aggregates_and_routers(self):
        self.assertGreater(self.hold(unobserved(generate(13, 8, 8, 3)), 3, 1), 80)

    def test_one_address_of_a_host_that_has_several(self):
        survey = read_survey(DATA / "recorded" / "kinds-22" / "survey.json.gz")
        network, host = Network(survey), next(row for row in survey.hosts if " " in (row.address or ""))
        self.assertEqual((host.address, host.gateway), ("10.7.10.4/24 fd07:10::4/64", "10.7.10.1 fe80::1"))
        for cells, works in (
            ({"gateway": "fe80::9"}, 144), ({"gateway": "10.7.10.9"}, 144), ({"gateway": "10.7.10.1 fe80::9"}, 150),
            ({"address": "fd07:10::77/64"}, 140), ({"address": "10.7.10.77/24"}, 162), ({"gateway": "none"}, 144),
        ):  # fmt: skip
            edits = [Change("hosts", {"host": host.host}, cells)]
            fresh, copy = Network(apply_changes(survey, edits)), network.changed(edits)
            with self.subTest(cells):
                self.assertEqual(answers(copy), answers(fresh))
                self.assertEqual(sum(verdict == "works" for *_, verdict in matrix(copy).reaches), works)

    def test_a_mend_of_one_address_leaves_the_others_of_the_host(self):
        survey = read_survey(DATA / "recorded" / "kinds-22" / "survey.json.gz")
        host = next(row for row in survey.hosts if " " in (row.address or ""))
        for cells, address, gateway in (
            ({"gateway": "10.7.10.9"}, host.address, "10.7.10.9 fe80::1"),
            ({"address": "10.7.20.8/24", "gateway": "none"}, "10.7.20.8/24 fd07:10::4/64", "fe80::1"),
        ):
            after = Network(survey).mended([Change("hosts", {"host": host.host}, cells)])
            row = next(row for row in after.told.hosts if row.host == host.host)
            self.assertEqual((row.address, row.gateway), (address, gateway))
            own = next(row for row in after.survey.hosts if row.host == host.host)
            wanted = (cells.get("address", "10.7.10.4/24"), cells["gateway"])
            self.assertEqual((own.address, own.gateway), wanted)

    def test_a_port_that_leaves_the_bridge_breaks_what_it_carried_and_nothing_else(self):
        survey = unobserved(healthy())
        edit = [Change("ports", {"device": "core-east", "port": "port3"}, {"mode": "routed"})]
        network = Network(survey)
        before, after = matrix(network).reaches, matrix(network.changed(edit)).reaches
        self.assertEqual(matrix(Network(apply_changes(survey, edit))).reaches, after)
        failed = [{pair[:2] for pair in reaches if pair[2] == "fails"} for reaches in (before, after)]
        self.assertEqual(failed[0], failed[1])  # which way the tree goes then, nobody reported

    def test_nothing_that_did_not_change_is_derived_again(self):
        network = Network(faulty())
        network.components  # noqa: B018  (now it is there)
        host, port = network.survey.hosts[3], network.survey.ports[5]
        moved = network.changed([Change("hosts", {"host": host.host}, {"gateway": "none"})])
        self.assertIs(moved.fabric, network.fabric)
        named = network.changed([Change("ports", {"device": port.device, "port": port.port}, {"mtu": 9000})])
        self.assertIs(named.adjacencies, network.adjacencies)
        self.assertIsNot(named.fabric, network.fabric)


if __name__ == "__main__":
    unittest.main()
