"""Hosts that the network cannot tell apart: phones, hosts behind others, servers at trunks, what is switched off."""

import random
import tempfile
import unittest
from pathlib import Path

from msgspec.structs import replace

from crossthread import Change, Network, SurveyError, apply_changes, check, matrix, why_all, write_survey
from crossthread.demo.generator import generate
from crossthread.diagnosis.all_rules import ask_about_all, sweep
from crossthread.diagnosis.context import Context
from crossthread.diagnosis.repair.harm.turns import Asked, near_turns, turns
from crossthread.diagnosis.wanted_pairs import Wanted
from crossthread.network.switching.nodes import BEYOND, Node
from crossthread.network.three_valued import vids_in
from crossthread.plan import Plan
from crossthread.plan.plan import PlannedHost
from crossthread.survey.records import Host
from crossthread.values import VlanSet, interface
from crossthread.views.class_matrix import Echoes, class_matrix
from tests.building import cabled, hosts, network_of
from tests.test_command import run
from tests.test_generated import shape
from tests.test_lab import without_facts
from tests.test_laws import edits

KINDS = ("plain", "phone", "beside", "server", "tagging", "port down", "link down", "no address", "unread address",
         "admitted", "isolated")  # fmt: skip


def furnished(survey, chance):
    """The same campus with whatever else hangs on its ports: each host is made one of some kind at random."""
    ports = {(row.device, row.port): row for row in survey.ports}
    own = {row.vid: interface(row.address) for row in survey.gateways if row.vid and row.address}
    found, more = [], []
    for known in survey.hosts:
        host = known
        kind, at = chance.choice(KINDS), (host.device, host.port)
        port, vid = ports[at], chance.choice(list(own))
        mac = f"02:aa:00:00:00:{len(more):02x}"
        if kind == "phone":
            ip = f"{own[vid].network[min(200, own[vid].network.num_addresses - 2)]}/{own[vid].network.prefixlen}"
            told = chance.choice((vid, vid, port.pvid, chance.choice(list(own))))
            ports[at] = replace(port, voice=told)
            more.append(Host(f"phone-{len(more)}", mac, ip, str(own[vid].ip), *at, vid, chance.choice(("up", "down"))))
        if kind == "beside":
            more.append(replace(host, host=f"beside-{len(more)}", mac=mac, address=chance.choice((None, "none"))))
        if kind in ("server", "tagging"):
            allowed, untagged = VlanSet(1 << port.pvid | 1 << vid), chance.choice((None, VlanSet(1 << port.pvid)))
            mode = chance.choice(("trunk", "hybrid"))
            ports[at] = replace(port, mode=mode, allowed=allowed, untagged=untagged)
            host = replace(host, vid=chance.choice((vid, port.pvid))) if kind == "tagging" else host
        if kind == "admitted":
            ports[at] = replace(port, allowed_macs=(chance.choice((host.mac, mac)),))
        if kind in ("port down", "isolated"):
            ports[at] = replace(port, **({"oper": "down"} if kind == "port down" else {"isolated": "yes"}))
        if kind == "link down":
            host = replace(host, link="down")
        if kind in ("no address", "unread address"):
            host = replace(host, address="none" if kind == "no address" else None)
        found.append(host)
    return replaced(survey, hosts=[*found, *more], ports=list(ports.values()))


def replaced(survey, **tables):
    return type(survey)(**{**{name: getattr(survey, name) for name in survey.__dataclass_fields__}, **tables})


def campuses(count):
    """Furnished campuses with a few faults, some of them half-known; of some it was read that no port is a member."""
    chance = random.Random(71)
    for number in range(count):
        survey = furnished(shape(number), chance)
        if number % 4 == 1:
            survey = replaced(survey, ports=[replace(row, lag=row.lag or "none") for row in survey.ports])
        survey = apply_changes(survey, edits(chance, survey)) if number % 2 else survey
        yield chance, without_facts(survey, chance, 0.03) if number % 3 == 2 else survey


class Alike(unittest.TestCase):
    def test_what_holds_for_one_of_a_class_holds_for_all(self):
        taken_together = 0
        for _, survey in campuses(36):
            network = Network(survey)
            compact = class_matrix(network)
            number = {name: n for n, names in enumerate(compact.classes) for name in names}
            verdicts = {(a, b): verdict for a, b, verdict in compact.reaches}
            wrong = [(a, b, v) for a, b, v in matrix(network).reaches if verdicts[number[a], number[b]] != v]
            self.assertEqual(wrong, [])
            plain = {name for one in network.classes.all if one.plain for name in one.hosts.names}
            taken_together += sum(len(set(names) - plain) > 1 for names in compact.classes)
        self.assertGreater(taken_together, 50)

    def test_no_rule_misses_one_of_a_class(self):
        for number, (chance, survey) in enumerate(campuses(24)):
            some = chance.sample(survey.hosts, len(survey.hosts) * (number % 3) // 2)  # of none, some or all hosts
            planned = {row.host.casefold(): PlannedHost(row.host, vlan=chance.choice((10, 20))) for row in some}
            context = Context(Network(survey), Plan(hosts=planned))
            quick = {finding.identity for finding in sweep(context)}
            self.assertEqual(quick, {finding.identity for finding in ask_about_all(context)})

    def test_a_changed_copy_has_the_classes_of_a_network_built_afresh(self):
        taken_over = 0
        for chance, survey in campuses(9):
            network, host = Network(survey), chance.choice([row for row in survey.hosts if row.device and row.port])
            before = Echoes(network)
            self.assertGreater(len(before.matrix.classes), 1)
            other, vlan = chance.choice(survey.hosts), chance.choice(survey.gateways).vid
            at = {"device": host.device, "port": host.port}
            for number, change in enumerate((
                Change("ports", at, {"admin": "up", "oper": "up"}), Change("ports", at, {"mode": "trunk"}),
                Change("ports", at, {"description": "to core-1", "oper": "down"}), Change("ports", at, {"voice": 20}),
                Change("hosts", {"host": host.host}, {"link": "up", "vid": 20}),
                Change("hosts", {"host": host.host}, {"port": "", "link": "down"}),
                Change("hosts", {"host": host.host}, {"address": other.address or "none"}),
                Change("hosts", {"host": host.host}, {"gateway": other.gateway or "none"}),
                Change("ports", at, {"mode": "access", "pvid": vlan or 20}),
                Change("hosts", {"host": host.host}, {}, delete=True),
            )):  # fmt: skip
                try:
                    fresh = Network(apply_changes(survey, [change]))
                except SurveyError:
                    continue
                copy = network.changed([change])
                self.assertEqual(copy.open_ends, fresh.open_ends, change)
                self.assertEqual(class_matrix(copy), class_matrix(fresh), change)
                self.assertEqual(before.after(copy).matrix, class_matrix(fresh), change)
                taken_over += copy.moved is not None
                if number % 3:
                    continue
                turned = pairs_of(t for t in turns(before.matrix, class_matrix(fresh)) if t.now != "works")
                asked = Asked(network), Asked(copy), [change]
                self.assertEqual(pairs_of(near_turns(*asked, most=10**6)), turned, change)
                self.assertLessEqual(pairs_of(near_turns(*asked, most=1)), turned, change)
        self.assertGreater(taken_over, 20)


def pairs_of(found):
    return {(a, b, turn.was, turn.now) for turn in found for a in turn.near for b in turn.far if a != b}


class Beside(unittest.TestCase):
    """Hosts that share a port hear each other otherwise than those at other ports do."""

    def verdicts(self, ports, hosts, neighbors=""):
        network = network_of(ports=ports, hosts=hosts, neighbors=neighbors or cabled())
        compact = class_matrix(network)
        number = {name: n for n, names in enumerate(compact.classes) for name in names}
        reaches = {(a, b): verdict for a, b, verdict in compact.reaches}
        whole = matrix(network).reaches
        self.assertEqual([verdict for *_, verdict in whole], [reaches[number[a], number[b]] for a, b, _ in whole])
        return {(a, b): verdict for a, b, verdict in whole}

    def test_two_at_one_isolated_port_hear_each_other_and_nobody_at_another(self):
        found = self.verdicts(
            """device|port|admin|oper|mode|pvid|isolated
            quay|p1|up|up|access|10|yes
            quay|p2|up|up|access|10|yes""",
            hosts(*(f"{name} 10.9.10.{n}/24 none quay p{1 + n // 3}" for n, name in enumerate("abcd", 1))),
        )
        self.assertEqual([found["a", other] for other in "bcd"], ["works", "fails", "fails"])

    def test_a_phone_and_the_desk_behind_it_do_not_meet_at_their_port_where_two_vlans_leak(self):
        found = self.verdicts(
            """device|port|admin|oper|mode|pvid|allowed|voice
            quay|p1|up|up|access|10||20
            quay|p2|up|up|access|10||20
            quay|p8|up|up|trunk|none|20|
            quay|p9|up|up|access|10||
            loft|p8|up|up|trunk|none|20|
            loft|p9|up|up|access|20||""",
            """host|address|gateway|device|port|vid|link
            desk-1|10.9.10.1/24|none|quay|p1||up
            phone-1|10.9.10.2/24|none|quay|p1|20|up
            desk-2|10.9.10.3/24|none|quay|p2||up
            phone-2|10.9.10.4/24|none|quay|p2|20|up""",
            cabled("quay p8 loft p8", "quay p9 loft p9"),
        )
        others = [found["desk-1", other] for other in ("desk-2", "phone-1", "phone-2")]
        self.assertEqual(others, ["works", "fails", "unknown"])  # nobody read which of the two cables blocks


class Leads(unittest.TestCase):
    def test_whether_a_frame_gets_somewhere_is_what_the_way_says_by_which_it_would(self):
        told = []
        for chance, survey in campuses(24):
            fabric = Network(survey).fabric
            devices = [row.device for row in survey.devices]
            vids = list(vids_in(fabric.vids))
            nodes = [BEYOND, *(Node(chance.choice(devices), chance.choice(vids)) for _ in range(30))]
            for _ in range(150):
                one, two = chance.choice(nodes), chance.choice(nodes)
                way = fabric.reached(one, two)
                told.append(fabric.reaches(one, two))
                self.assertEqual(told[-1], False if way is None else way.unknown == 0 or None, (one, two))
        self.assertEqual(set(told), {True, False, None})


class AtNight(unittest.TestCase):
    """Many hosts are switched off, and something else is wrong, too."""

    @classmethod
    def setUpClass(cls):
        survey = generate(3, 20, 120, 4)
        off = {row.host for row in survey.hosts[:60:2]}
        at = {(row.device, row.port) for row in survey.hosts if row.host in off}
        cls.survey = apply_changes(
            replaced(
                survey,
                hosts=[replace(row, link="down") if row.host in off else row for row in survey.hosts],
                ports=[replace(row, oper="down") if (row.device, row.port) in at else row for row in survey.ports],
            ),
            [Change("hosts", {"host": survey.hosts[70].host}, {"gateway": "none"})],
        )
        cls.off = off

    def test_they_are_a_few_classes(self):
        classes = Network(self.survey).classes.all
        self.assertLess(len(classes), 15)
        self.assertEqual({name for one in classes if not one.plain for name in one.hosts.names}, self.off)

    def test_each_has_its_own_finding(self):
        told = [f for f in check(self.survey).findings if f.rule == "host-link-down" and f.severity == "breaks"]
        self.assertEqual({finding.subjects[0].host for finding in told}, self.off)
        self.assertEqual({finding.affected for finding in told}, {1})

    def test_the_figures_of_each_mend_are_those_of_a_network_with_and_without_it(self):
        answer, network = why_all(self.survey), Network(self.survey)
        share, mends = Wanted(Context(network)).share, answer.mends
        self.assertEqual(len(mends), len(self.off) + 1)

        def works(some):
            changes = [change for mend in some for change in mend.finding.repair]
            return share(class_matrix(Network(apply_changes(self.survey, changes)))).works

        best = works(mends)
        for n in range(0, len(mends), 3):
            self.assertEqual(mends[n].after.works, works(mends[: n + 1]), n)
            self.assertEqual(mends[n].pairs, best - works([*mends[:n], *mends[n + 1 :]]), n)

    def test_of_many_without_an_address_no_two_are_given_the_same(self):
        whole = generate(3, 20, 120, 4)
        none = {"address": "none", "gateway": "none"}
        hosts = [replace(row, **none) if n % 4 == 0 else row for n, row in enumerate(whole.hosts)]
        answer = why_all(replaced(whole, hosts=hosts))
        given = [str(change.cells["address"]).partition("/")[0] for change in answer.repair]
        self.assertEqual((len(set(given)), answer.then.part), (30, 1.0))
        self.assertTrue({row.address.partition("/")[0] for row in hosts}.isdisjoint(given))

    def test_the_terminal_tells_them_in_a_few_lines(self):
        with tempfile.TemporaryDirectory() as folder:
            write_survey(self.survey, Path(folder) / "night")
            shown = run("check", Path(folder) / "night").stdout
            self.assertIn("breaks  host-link-down  30 hosts", shown)
            self.assertEqual(shown.count("has no link at"), 3)
            every = run("why", Path(folder) / "night", "--all").stdout
            self.assertIn("host-link-down  27 more  hold up", every)


if __name__ == "__main__":
    unittest.main()
