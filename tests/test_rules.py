"""The registry: a rule is one function in one file, and what is skipped at scale loses nothing."""

import random
import sys
import tempfile
import unittest
from datetime import date
from pathlib import Path

import crossthread.diagnosis.rules as rooms
from crossthread import Change, Network, apply_changes, check, read_plan, read_survey
from crossthread.demo import faulty, healthy
from crossthread.diagnosis import registry
from crossthread.diagnosis.all_rules import ask_about_all, sweep
from crossthread.diagnosis.context import Context
from crossthread.diagnosis.meanings import meaning, parts_of
from crossthread.questions.plan_draft import draft_plan
from crossthread.survey.records import TABLES, columns_of
from tests.building import LAB
from tests.test_generated import plant, shape

HOST_RULE = '''
from crossthread.diagnosis.findings import Finding, at_station
from crossthread.diagnosis.registry import About, rule

@rule("host-mac-unlucky", "Host", About.HOST)
def host_mac_unlucky(context, host):
    """The last part of a host's MAC address is 07.

    Matters: nobody knows.
    Notice: nothing.
    Confirm: read the address.
    Mend: none.
    """
    if host.row.mac and host.row.mac.endswith(":07"):
        return Finding("host-mac-unlucky", "note", (at_station(host),), "unlucky", context.evidence(host.row, "mac"))
'''
LINK_RULE = '''
from crossthread.diagnosis.findings import Finding, at_port
from crossthread.diagnosis.registry import About, rule

@rule("link-mac-limit", "Link", About.LINK, follows="port-slow")
def link_mac_limit(context, adjacency):
    """One end of a link admits only so many stations.

    Matters: whoever comes last behind it is refused.
    Notice: hosts that work by turns.
    Confirm: read the limit.
    Mend: take it away.
    """
    for end in (adjacency.a, adjacency.b):
        if context.port(end) is not None and context.port(end).mac_limit:
            yield Finding("link-mac-limit", "risks", (at_port(end),), "limited", ())
'''


def told(findings):
    return {(f.rule, f.says, f.severity, str(f.repair), str(f.subjects)) for f in findings}


class OneFunctionInOneFile(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        rooms.__path__.append(folder.name)
        self.addCleanup(rooms.__path__.remove, folder.name)
        self.addCleanup(self.forget)

    def forget(self):
        for name in [name for name in sys.modules if name.startswith(rooms.__name__ + ".planted")]:
            del sys.modules[name]
        for known in (registry.rules, registry.parents, registry.parents_in_vlan, registry.cutting):
            known.cache_clear()

    def add(self, name, text):
        (self.folder / f"planted_{name}.py").write_text(text)
        self.forget()

    def test_a_rule_about_hosts_macs_finds_every_one(self):
        self.add("host", HOST_RULE)
        for seed in (3, 20):
            survey = shape(seed)
            wanted = {row.host for row in survey.hosts if row.mac.endswith(":07")}
            found = [f for f in check(Network(survey)).findings if f.rule == "host-mac-unlucky"]
            self.assertEqual({f.subjects[0].host for f in found}, wanted)
            self.assertEqual((len(wanted), meaning("host-mac-unlucky").family), (1, "Host"))

    def test_a_rule_about_links_finds_every_one(self):
        self.add("link", LINK_RULE)
        survey = shape(3)
        chance = random.Random(4)
        ends = sorted(Network(survey).adjacencies_at)
        marked = chance.sample(ends, 5)
        edits = [Change("ports", {"device": e.device, "port": e.port}, {"mac_limit": 3}) for e in marked]
        found = [f for f in check(Network(apply_changes(survey, edits))).findings if f.rule == "link-mac-limit"]
        self.assertEqual({(f.subjects[0].device, f.subjects[0].port) for f in found}, set(marked))
        self.assertEqual(registry.parents()["link-mac-limit"], ("port-slow",))


class Law(unittest.TestCase):
    """The fast sweep equals asking every rule about everything."""

    def hold(self, survey, plan=None):
        context = Context(Network(survey), plan)
        slow = told(ask_about_all(context))
        self.assertEqual(told(sweep(context)), slow)
        return slow

    def test_on_fifty_shapes_with_faults(self):
        rules = set()
        for seed in range(50):
            chance, survey = random.Random(seed), shape(seed)
            edits = [plant(chance, survey)[0] for _ in range(seed % 5)]
            for _ in range(seed % 4):
                row = chance.choice(survey.hosts)
                wrong = chance.choice(
                    [{"gateway": row.address.partition("/")[0]}, {"link": "down"}, {"address": "none"}]
                )
                edits.append(Change("hosts", {"host": row.host}, wrong))
            port = chance.choice([row for row in survey.ports if row.mode == "trunk"])
            odd = chance.choice(
                [{"pvid": 7}, {"mode": "access"}, {"allowed": "7"}, {"speed": 10, "crc_errors": 300}, {}]
            )
            edits.append(Change("ports", {"device": port.device, "port": port.port}, odd))
            gateway = chance.choice(survey.gateways)
            key = {"device": gateway.device, "interface": gateway.interface, "address": gateway.address}
            wrong = chance.choice([{"vid": 9}, {"admin": "down"}, {"proxy_arp": "yes"}, {"oper": "down"}, {}])
            edits.append(Change("gateways", key, wrong))
            one, two = chance.sample(list(survey.hosts), 2)
            same = chance.choice([{"address": two.address}, {"address": one.address.partition("/")[0] + "/27"}, {}])
            edits.append(Change("hosts", {"host": one.host}, same))
            with self.subTest(seed):
                rules |= {rule for rule, *_ in self.hold(apply_changes(survey, edits))}
        self.assertGreater(len(rules), 20)

    def test_on_the_demo_with_its_plan_and_on_real_switches(self):
        with tempfile.TemporaryDirectory() as folder:
            file = Path(folder) / "plan.toml"
            file.write_text(draft_plan(Network(healthy())))
            plan = read_plan(file)
        for intended in (None, plan):
            self.hold(faulty(), intended)
            self.hold(healthy(), intended)
        for case in LAB[:6]:
            self.hold(read_survey(case / "survey"))


class Declarations(unittest.TestCase):
    def test_each_rule_says_what_its_finding_means(self):
        self.assertGreater(len(registry.rules()), 85)
        for rule in registry.rules():
            means, parts = parts_of(rule.function)
            self.assertTrue(means.endswith("."), rule.name)
            self.assertEqual(set(parts) - {"Decide"}, {"Matters", "Notice", "Confirm", "Mend"}, rule.name)

    def test_what_a_rule_needs_are_columns_that_there_are(self):
        for rule in registry.rules():
            for need in rule.needs:
                table, _, column = need.partition("=")[0].partition(".")
                self.assertIn(column, columns_of(TABLES[table]), rule.name)

    def test_findings_go_under_findings_that_there_are(self):
        names = {rule.name for rule in registry.rules()}
        for above in (*registry.parents().values(), *registry.parents_in_vlan().values()):
            self.assertLessEqual(set(above), names)

    def test_every_finding_of_a_check_is_in_the_catalogue(self):
        names = {rule.name for rule in registry.rules()}
        for survey in (faulty(), *(read_survey(case / "survey") for case in LAB)):
            found = list(check(Network(survey), today=date(2026, 1, 1)).findings)
            self.assertLessEqual({f.rule for f in found}, names)

    def test_an_unknown_family_is_refused(self):
        with self.assertRaisesRegex(ValueError, "expected a family of Host, Port"):
            registry.rule("odd", "Weather")


if __name__ == "__main__":
    unittest.main()
