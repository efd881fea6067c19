"""A survey is half-known, always: what nobody read changes no verdict, accuses nobody, and mends nothing."""

import dataclasses
import random
import tempfile
import unittest
from itertools import pairwise
from pathlib import Path

from msgspec.structs import replace

from crossthread import (
    Change,
    Network,
    Survey,
    SurveyError,
    apply_changes,
    check,
    inventory,
    matrix,
    read_survey,
    vlan,
    vlans,
    why,
    write_survey,
)
from crossthread.demo import faulty, healthy
from crossthread.demo.generator import generate
from crossthread.diagnosis.caution import dares
from crossthread.diagnosis.context import Context
from crossthread.diagnosis.repair.harm.side_effects import Stopped
from crossthread.network.topology.names import End
from crossthread.sources.gathering import gather
from crossthread.survey import Info
from crossthread.survey.records import READ_IN_FULL, TABLES, Coverage, Gateway, Port, Tree, TreePort, Vlan, columns_of
from crossthread.values import VlanSet
from tests.building import DATA, LAB, cabled, hosts, network_of, ports, truth_of
from tests.test_command import run
from tests.test_generated import plant
from tests.yard import at, interface, yard

IDENTITIES = {"mac", "chassis", "aliases", "neighbor", "neighbor_chassis", "neighbor_port", "capabilities"}
"""Without these somebody is taken for somebody else, or for two."""


def rebuilt(survey, rows):
    return Survey(info=survey.info, **{name: tuple(rows.get(name, survey.table(name))) for name in TABLES})


def without_device(survey, device):
    """A survey in which nobody went to a device; hosts stay, without a place."""
    rows = {n: [r for r in survey.table(n) if r.device != device] for n in TABLES if n != "hosts"}
    unplugged = [replace(r, device=None, port=None) if r.device == device else r for r in survey.hosts]
    return rebuilt(survey, rows | {"hosts": unplugged})


def without_table(survey, table, device=None):
    return rebuilt(survey, {table: [r for r in survey.table(table) if device and r.device != device]})


def without_cells(survey, chance):
    rows = {name: list(survey.table(name)) for name in TABLES}
    for _ in range(6):
        name = chance.choice([n for n in TABLES if rows[n] and n not in ("vlans", "coverage")])
        at = chance.randrange(len(rows[name]))
        row, kinds = rows[name][at], columns_of(TABLES[name])
        cells = [c for c, (_, must) in kinds.items() if not must and c not in (*TABLES[name].KEY, *IDENTITIES)]
        rows[name][at] = replace(row, **{chance.choice(cells): None})
    return rebuilt(survey, rows)


def less(survey, what, device, table, chance):
    if what == "cells":
        return without_cells(survey, chance)
    if what == "device":
        return without_device(survey, device)
    return without_table(survey, table, device if what == "table of a device" else None)


GIVEN = {"filters": {*columns_of(TABLES["filters"])}, "devices": {"routing6"}, "hosts": {"address", "gateway"}}
"""Cells that mean something where they are empty."""


def thinned(survey, chance, rate):
    """A survey without some cells and rows; of whom a row is gone, that table was not read in full."""
    rows, broken = {}, set()
    for name in TABLES:
        kinds, kept = columns_of(TABLES[name]), []
        fixed = {*TABLES[name].KEY, "device", "port", "complete", *GIVEN.get(name, ())}
        for row in survey.table(name):
            if name not in ("hosts", "filters", "coverage", "devices") and chance.random() < rate:
                broken.add((row.device, name))
                continue
            gone = [c for c, (_, must) in kinds.items() if not must and c not in fixed and chance.random() < rate]
            kept.append(replace(row, **dict.fromkeys(gone)) if gone else row)
        rows[name] = kept
    rows["coverage"] = [Coverage(*place, "no") for place in sorted(broken)]
    return rebuilt(survey, rows)


def verdicts(survey):
    return {(a, b): verdict for a, b, verdict in matrix(survey).reaches}


def parts(survey):
    """The survey without each device, and without each table; for VLANs, see the description of the format."""
    for row in survey.devices:
        yield row.device, without_device(survey, row.device)
    for table in TABLES:
        if len(survey.table(table)) and table not in ("hosts", "vlans"):
            yield table, without_table(survey, table)


def looked_at(part, whole, answer):
    """The survey, with what an answer says to look at as it is in the whole one."""
    rows = {name: part.table(name) for name in TABLES}
    for look in answer.look:
        for name in [look.table] if look.table else TABLES:
            there = [row for row in whole.table(name) if name == "hosts" or row.device in look.devices]
            kept = [row for row in rows[name] if name != "hosts" and row.device not in look.devices]
            rows[name] = (*kept, *there)
    return rebuilt(part, rows)


COLUMNS = (
    "ports.pvid", "ports.allowed", "ports.mode", "gateways.vid", "gateways.oper", "routes.next_hop", "tree_ports.state",
    "tree_ports.cost", "trees.priority", "hosts.port", "hosts.mac", "devices.capabilities", "neighbors.neighbor_port",
)  # fmt: skip


def finer_parts(survey):
    """The survey without each of some columns, and without what was read of each device into each table."""
    for name in COLUMNS:
        table, _, column = name.partition(".")
        yield name, rebuilt(survey, {table: [replace(row, **{column: None}) for row in survey.table(table)]})
    for device in [row.device for row in survey.devices]:
        for table in ("neighbors", "gateways", "routes", "trees", "tree_ports"):
            unread = {"coverage": [Coverage(device, table, "no")]}
            yield f"{table} of {device}", rebuilt(without_table(survey, table, device), unread)


class Verdicts(unittest.TestCase):
    def contradicted(self, truth, said):
        return [pair for pair, verdict in said.items() if verdict != "unknown" and verdict != truth[pair]]

    def test_real_networks_of_which_rows_and_cells_are_missing_contradict_nothing(self):
        for name in ("kinds-21", "kinds-22"):
            full = read_survey(DATA / "recorded" / name / "survey.json.gz")
            before, known = verdicts(full), 0
            for seed in range(40):
                chance = random.Random(seed)
                after = verdicts(thinned(full, chance, chance.choice([0.02, 0.1, 0.3])))
                turned = {pair: v for pair, v in after.items() if {v, before[pair]} == {"works", "fails"}}
                self.assertEqual(turned, {}, (name, seed))
                known += sum(v != "unknown" for v in after.values())
            self.assertGreater(known, 1500, name)

    def test_real_switches_without_a_device_or_a_table_are_never_contradicted(self):
        known = total = 0
        for case in LAB:
            survey = read_survey(case / "survey")
            truth = {(a, b): "works" if ok else "fails" for a, b, ok in truth_of(case)["reaches"] if ok != "unstable"}
            for name, part in parts(survey):
                said = {pair: verdict for pair, verdict in verdicts(part).items() if pair in truth}
                self.assertEqual(self.contradicted(truth, said), [], (case.name, name))
                known += sum(verdict != "unknown" for verdict in said.values())
                total += len(said)
        self.assertGreater(known / total, 0.6)

    def test_nor_without_a_column_or_a_table_of_a_device(self):
        known = total = 0
        cases = [*(case / "survey" for case in LAB), DATA / "half" / "279703", DATA / "half" / "279714"]
        for case, survey in [(None, faulty()), *((case, read_survey(case)) for case in cases)]:
            truth = verdicts(survey)
            for name, part in finer_parts(survey):
                said = verdicts(part)
                with self.subTest(case=str(case), without=name):
                    self.assertEqual(self.contradicted(truth, said), [])
                known, total = known + sum(verdict != "unknown" for verdict in said.values()), total + len(said)
        self.assertGreater(known / total, 0.6)

    def test_nor_is_the_demo(self):
        for survey in (healthy(), faulty()):
            truth = verdicts(survey)
            for name, part in parts(survey):
                self.assertEqual(self.contradicted(truth, verdicts(part)), [], name)

    def test_nor_is_a_campus_in_which_a_host_was_learned_at_another_port_than_its_row_has_it(self):
        for host, device, port, known in (
            ("ticket-desk-1", "lighthouse-1", "port6", "unknown"),
            ("curator-pc", "slipway", "port5", "unknown"),
            ("shop-till", "lighthouse-1", "port4", "works"),  # it works at either
        ):
            survey = apply_changes(healthy(), [Change("hosts", {"host": host}, {"device": device, "port": port})])
            truth = verdicts(survey)
            self.assertEqual(truth[host, "ticket-desk-2"], known)
            unplugged = [replace(r, device=None, port=None) if r.host == host else r for r in survey.hosts]
            for name, part in [*parts(survey), ("its place", rebuilt(survey, {"hosts": unplugged}))]:
                turned = {pair for pair, v in verdicts(part).items() if {v, truth[pair]} == {"works", "fails"}}
                self.assertEqual(turned, set(), (host, name))

    def test_whatever_is_left_out_of_any_campus_no_verdict_turns_when_it_is_added_again(self):
        for seed in range(24):
            chance = random.Random(seed)
            survey = generate(seed, 3 + seed * 7 % 9, 8 + seed * 13 % 16, 1 + seed % 5)
            survey = apply_changes(survey, [plant(chance, survey)[0] for _ in range(seed % 4)])
            fuller, truth = survey, verdicts(survey)
            for _ in range(3):
                what = chance.choice(["device", "table", "table of a device", "cells"])
                table = chance.choice(
                    [n for n in ("ports", "neighbors", "trees", "tree_ports") if len(fuller.table(n))] or ["macs"]
                )
                device = chance.choice([row.device for row in fuller.devices])
                part = less(fuller, what, device, table, chance)
                said = verdicts(part)
                with self.subTest(seed, what=what, table=table, device=device):
                    self.assertEqual(self.contradicted(truth, said), [])
                fuller = part
                truth = {pair: truth[pair] if verdict == "unknown" else verdict for pair, verdict in said.items()}
                if not len(fuller.devices):
                    break


class Harm(unittest.TestCase):
    def test_no_mend_of_a_half_known_campus_stops_a_pair_that_works(self):
        for survey in (healthy(), faulty()):
            before = {pair for pair, verdict in verdicts(survey).items() if verdict == "works"}
            tried = set()
            for name, part in parts(survey):
                network = Network(part)
                mends = [f.repair for f in check(network).findings]
                failing = [pair for pair, verdict in verdicts(network).items() if verdict != "works"]
                for pair in random.Random(name).sample(failing, min(2, len(failing))):
                    answer = why(network, *pair)
                    mends += [answer.repair, *(f.repair for f in answer.findings)]
                for told, mend in {str(mend): mend for mend in mends if mend}.items():
                    if told in tried:
                        continue
                    tried.add(told)
                    try:
                        after = verdicts(apply_changes(survey, mend))
                    except SurveyError:
                        continue  # the device that was left out has that key already: it cannot be done at all
                    self.assertEqual([pair for pair in before if after[pair] != "works"], [], (name, mend))

    def test_what_a_change_could_do_to_something_that_nobody_read(self):
        """A port that nobody knows to lead anywhere is not opened, and an open end keeps its mode, VLAN and list."""
        here = Context(Network(healthy()))
        part = Context(Network(without_device(healthy(), "core-west")))

        def daring(context, device, port, **cells):
            return dares(context, Change("ports", {"device": device, "port": port}, cells))

        self.assertTrue(daring(here, "galley", "port99", admin="up"))
        self.assertFalse(daring(here, "galley", "port99", admin="down"))
        self.assertFalse(daring(here, "core-east", "port3", admin="up"))
        for cells, dared in (
            ({"mode": "access", "pvid": 10}, True),
            ({"pvid": 20}, True),
            ({"allowed": "10 20"}, True),
            ({"allowed": "10 20 30 40 50 60 90"}, False),
            ({"admin": "up"}, True),
        ):
            self.assertEqual(daring(part, "core-east", "bundle1", **cells), dared, cells)
        priority = Change("trees", {"device": "core-east", "instance": 0}, {"priority": 0})
        self.assertEqual([dares(context, priority) for context in (here, part)], [False, True])

    def test_a_tag_that_nobody_read_is_not_none(self):
        survey = yard()
        untold = rebuilt(survey, {"gateways": [replace(row, vid=None) for row in survey.gateways]})
        self.assertEqual([f.rule for f in check(untold).findings if f.repair], [])
        answer = why(untold, "desk-loft-1", "till-keel-1")
        self.assertEqual(
            (answer.verdict, {hop.tag_out for hop in answer.path if hop.leaves == "t9"}), ("unknown", {None})
        )
        arriving = [hop.vid_read for hop in (*answer.path, *answer.path_back) if hop.enters == "t9"]
        with tempfile.TemporaryDirectory() as folder:
            write_survey(untold, Path(folder))
            shown = run("why", folder, "desk-loft-1", "till-keel-1").stdout
        self.assertEqual((arriving, "nobody read." in shown), ([False, False], True))
        self.assertRegex(shown, r"t9 +\d+\? +till1")
        wire = [Gateway("crane", f"g1.{v}", f"10.9.{v}.1/24", port="g1", untagged="no") for v in (10, 20)]
        two = Network(Survey(gateways=tuple(wire)))
        self.assertIsNone(two.hearing.hears(*two.stations.gateways))  # they may tag alike

    def test_an_unread_vlan_may_be_any_that_something_tells_apart(self):
        ports = [Port("sw", "a", allowed=VlanSet.parse("5-9")), Port("sw", "b", voice=30)]
        trees = [Tree("sw", 20, protocol="per-vlan"), Tree("sw", 0, protocol="rstp")]
        told = Network(Survey(ports=tuple(ports), trees=tuple(trees))).fabric.vids
        self.assertEqual(VlanSet(told), VlanSet.parse("1-2 5-6 20 30"))  # two of those in the list, two of all others

    def test_the_only_vlan_that_is_left_is_not_one_that_was_read(self):
        survey = yard(desks=(3, 1), tills=(0, 1))
        gone = [Change("vlans", {"device": "loft", "vid": vid}, {"state": "suspended"}) for vid in (1, 10)]
        untold = apply_changes(survey, [*gone, *(at("loft", f"desk{n}", pvid="") for n in (1, 2, 3))])
        host = Network(untold).stations.hosts["desk-loft-1"]
        self.assertEqual((host.taps[0].enters.possible, Network(untold).current_vlan(host)), (1 << 20, None))
        moved = [f.rule for f in check(untold).findings if any({"vid", "pvid"} & set(c.cells) for c in f.repair)]
        self.assertEqual(moved, [])  # as if all desks were in VLAN 20, and their gateway not

    def test_what_somebody_shut_is_not_opened_in_the_place_of_a_router_that_nobody_read(self):
        shut = apply_changes(healthy(), [
            Change("gateways", {"device": "core-east", "interface": "vlan50", "address": "10.61.50.1/24"},
                   {"vid": 50, "admin": "down", "oper": "down"})
        ])  # fmt: skip
        part = without_device(shut, "quay-router")
        found = check(part).findings
        self.assertEqual([f.repair for f in found if f.rule == "gateway-admin-down"], [()])
        self.assertEqual(why(part, "gate-camera", "ticket-desk-1").repair, ())

    def test_what_somebody_shut_is_opened_where_nothing_that_nobody_read_gets_to(self):
        shut = interface("crane", "g1.20", 20, admin="down", oper="down")
        routes = [[Change("routes", {"device": "crane", "prefix": to, "next_hop": "10.9.10.20"}, {})]
                  for to in ("0.0.0.0/0", "10.9.30.0/24")]  # fmt: skip
        known = zip(("10", "20", "10", "10"), ([], [], *routes), (True, False, False, True), strict=True)
        for vids, beside, opened in known:
            out = at("loft", "x", admin="up", oper="up", mode="trunk", pvid="none", allowed=vids)
            answer = why(apply_changes(yard(), [shut, out, *beside]), "desk-loft-1", "till-keel-1")
            self.assertEqual((answer.repair_proven, bool(answer.repair)), (opened, opened), (vids, beside))

    def test_a_port_that_hears_a_switch_is_made_no_access_port(self):
        rows = "device|port|neighbor|neighbor_port|capabilities\nsw-a|p1|loft|x|bridge"
        network = network_of(
            ports=ports("sw-a p1 trunk 10 10", "sw-a p2 access 20"),
            neighbors=rows,
            hosts=hosts("a 10.0.0.1/24 none sw-a p1", "b 10.0.0.2/24 none sw-a p2"),
        )
        mends = [f.repair for f in (*check(network).findings, *why(network, "a", "b").findings)]
        modes = [change.cells.get("mode") for repair in mends for change in repair if change.key.get("port") == "p1"]
        self.assertNotIn("access", modes)

    def test_no_gateway_is_missing_while_a_router_is_unread(self):
        for name in ("quay-router", "core-east"):
            rules = {f.rule for f in check(without_device(healthy(), name)).findings if f.severity != "note"}
            self.assertEqual(rules, set(), name)
        self.assertNotIn("gateway-missing", {f.rule for f in check(without_table(healthy(), "gateways")).findings})


class Help(unittest.TestCase):
    def test_it_says_how_far_it_gets_where_to_look_and_how_it_turns(self):
        answer = why(without_device(healthy(), "quay-router"), "ticket-desk-1", "plank-saw")
        self.assertEqual((answer.verdict, answer.repair, answer.confidence), ("unknown", (), "open"))
        self.assertIn("to harbour-office port5 in VLAN 90", answer.surely)
        self.assertEqual(answer.look[0].says, "survey quay-router, 10.61.90.2, heard at harbour-office port5")
        self.assertIn("if 10.61.90.2 is there", answer.turns)

    def test_tables_are_asked_for_device_by_device_and_not_cell_by_cell(self):
        answer = why(without_table(healthy(), "ports"), "ticket-desk-1", "curator-pc")
        self.assertEqual([look.table for look in answer.look], ["ports"])
        self.assertLess(len(answer.look[0].says), 80)
        answer = why(without_table(healthy(), "routes"), "ticket-desk-1", "plank-saw")
        self.assertEqual(answer.look[0].says, "read the routing table of core-east, quay-router")
        answer = why(without_device(healthy(), "lighthouse-1"), "ticket-desk-1", "curator-pc")
        self.assertIn("survey lighthouse-1: the MAC address of ticket-desk-1 was learned at", answer.look[0].says)

    def test_no_unknown_verdict_is_without_advice_that_settles_it(self):
        whole, truth = faulty(), verdicts(faulty())
        for name, part in parts(whole):
            unknown = [pair for pair, verdict in verdicts(part).items() if verdict == "unknown"]
            for pair in random.Random(name).sample(unknown, min(2, len(unknown))):
                answer, now = why(part, *pair), part
                while answer.verdict == "unknown" != truth[pair]:
                    self.assertTrue(answer.look and answer.surely and answer.turns, (name, pair))
                    self.assertFalse(answer.repair_proven)
                    before, now = now, looked_at(now, whole, answer)
                    self.assertNotEqual(now, before, (name, pair, answer.look))
                    answer = why(now, *pair)
                self.assertEqual(answer.verdict, truth[pair], (name, pair))

    def test_a_list_of_vlans_that_was_read_in_part_is_named(self):
        held = [row for row in healthy().vlans if (row.device, row.vid) != ("harbour-office", 90)]
        part = rebuilt(healthy(), {"vlans": held, "coverage": [Coverage("harbour-office", "vlans", "no")]})
        answer = why(part, "slip-winch", "director-laptop")
        self.assertEqual([look.says for look in answer.look], ["read the VLAN list of harbour-office"])
        self.assertIn("to quay-router port1.40.", answer.surely)

    def test_nor_where_hosts_are_plugged_into_a_device_that_was_not_surveyed(self):
        for name in ("core-west", "galley", "quay-router"):
            rows = {n: [r for r in faulty().table(n) if r.device != name] for n in TABLES if n != "hosts"}
            part = rebuilt(faulty(), rows)
            unknown = [pair for pair, verdict in verdicts(part).items() if verdict == "unknown"]
            for pair in random.Random(name).sample(unknown, 4):
                self.assertTrue(why(part, *pair).look, (name, pair))
        for table in ("ports", "trees", "tree_ports"):
            part = without_table(healthy(), table, "quay-router")
            for pair, verdict in verdicts(part).items():
                self.assertTrue(verdict != "unknown" or why(part, *pair).look, (table, pair))

    def test_who_asks_outside_its_subnet_may_have_the_wrong_gateway_or_the_wrong_address(self):
        """Two interfaces are in the VLAN of `a`: that of its address, and that of its gateway."""
        rows = [*(f"sw p{n} access {vid}" for n, vid in enumerate((50, 50, 50, 30, 30))), "sw up trunk 1 50"]
        gateways = "device|interface|address|port|untagged|admin|oper|proxy_arp\n"
        gateways += "".join(
            f"rt|e{n}|{own}|e{n}|yes|up|up|no\n"
            for n, own in ((1, "10.4.0.14/28"), (2, "10.2.0.1/26"), (3, "10.3.0.1/26"))
        )
        network = network_of(
            gateways=gateways, ports=ports(*rows, *(f"rt e{n} routed 1" for n in (1, 2, 3))),
            neighbors=cabled("sw p1 rt e1", "sw p2 rt e2", "sw p3 rt e3") + "\nsw|up|far|1",
            hosts=hosts("a 10.4.0.12/28 10.2.0.1 sw p0", "b 10.4.0.10/28 10.4.0.14 far 2",
                        "c 10.2.0.9/26 10.2.0.1 far 3", "d 10.3.0.9/26 10.3.0.1 sw p4"),
            devices="device|routing\nsw|no\nrt|yes",
        )  # fmt: skip
        answer = why(network, "a", "d")
        told = [str(change) for one in answer.findings[0].alternatives for change in one.changes]
        self.assertEqual((answer.confidence, answer.repair, len(told)), ("open", (), 2))
        self.assertEqual(told[0], "hosts a: gateway = 10.4.0.14")

    def test_where_makers_differ_it_says_whose_cache_to_read(self):
        """Both legs of a router are in one VLAN, and one of them answers by proxy: for the other's own address, too?"""
        gateways = "device|interface|address|port|untagged|admin|oper|proxy_arp\n"
        gateways += "rt|e1|10.1.0.1/24|e1|yes|up|up|no\nrt|e2|10.2.0.1/24|e2|yes|up|up|yes"
        network = network_of(
            gateways=gateways,
            neighbors=cabled("sw p2 rt e1", "sw p3 rt e2"),
            ports=ports(*(f"sw p{n} access 10" for n in (1, 2, 3, 4)), "rt e1 routed 1", "rt e2 routed 1"),
            hosts=hosts("a 10.1.0.9/24 10.1.0.1 sw p1", "b 10.2.0.9/24 10.2.0.1 sw p4"),
            devices="device|routing\nsw|no\nrt|yes",
        )
        answer = why(network, "a", "b")
        self.assertEqual(
            (answer.verdict, answer.look[0].says),
            ("unknown", "look in the ARP cache of a which MAC address 10.1.0.1 has"),
        )

    def test_no_mend_stops_who_may_work_for_all_that_was_read(self):
        there = [
            "a 10.1.0.1/26 none sw-b p2",
            "b 10.1.0.2/26 none sw-b p3",
            "c 10.2.0.1/28 none sw-b p4",
            "d 10.2.0.2/28 none sw-b p5",
            "e 10.2.0.3/28 none sw-a p6",
        ]
        rows = ["sw-b p1 trunk 1 12 34", *(f"sw-b p{n} access 34" for n in (2, 3, 4)), "sw-b p5 access 12"]
        heard = "device|port|neighbor|neighbor_port\nsw-b|p1|sw-a|p1"
        with tempfile.TemporaryDirectory() as folder:
            network = network_of(ports=ports(*rows), hosts=hosts(*there), neighbors=heard)
            answer = why(network, "a", "c")
            self.assertEqual((answer.verdict, answer.repair, answer.confidence), ("fails", (), "open"))
            self.assertIn(("c", "e"), answer.doubtful)
            self.assertEqual([look.says for look in answer.look], ["survey sw-a, heard at sw-b p1"])
            write_survey(network.survey, folder)
            told = " ".join(run("why", folder, "a", "c").stdout.split())
        self.assertIn("a mend was found that would stop c to d", told)
        self.assertIn("whether they work now was not observed: not proposed", told)

    def test_who_may_stop_is_told_where_what_was_not_read_decides(self):
        """Nobody read which way a tree takes once the third side of a triangle is opened."""
        trunks = ["a b", "b c"]
        rows = [f"{near} {far} trunk 1 10" for pair in trunks for near, far in (pair.split(), pair.split()[::-1])]
        rows += ["a c trunk 1 10 20", "c a trunk 1 10 20"]
        rows += [f"{at} p{vid} access {vid}" for at in "ac" for vid in (10, 20)]
        there = [
            f"h-{at}-{vid} 10.9.{vid}.{n}/24 none {at} p{vid}" for n, at in ((1, "a"), (2, "c")) for vid in (10, 20)
        ]
        told = ports(*rows).replace("a|c|up|up|", "a|c|down|down|").replace("c|a|up|up|", "c|a|up|down|")
        network = network_of(
            ports=told,
            hosts=hosts(*there),
            neighbors=cabled("a b b a", "b c c b", "a c c a"),
            devices="device|capabilities\na|bridge\nb|bridge\nc|bridge",
        )
        read = tuple(table for table in READ_IN_FULL if not table.startswith("tree"))
        survey = dataclasses.replace(network.survey, info=Info(complete=read))
        answer = why(survey, "h-a-20", "h-c-20")
        (finding,) = answer.findings
        self.assertEqual((finding.rule, finding.repair, answer.confidence), ("port-admin-down", (), "open"))
        opened = [Change("ports", {"device": d, "port": p}, {"admin": "up", "oper": "up"}) for d, p in ("ac", "ca")]
        costs = Stopped(Context(Network(survey))).by(opened)
        self.assertEqual((set(costs.unsure), costs.stops), ({("h-a-10", "h-c-10"), ("h-c-10", "h-a-10")}, ()))

    def test_no_interface_serves_a_vlan_by_one_host_while_others_of_its_subnet_were_not_read(self):
        rows = [*(f"sw-a p{n} access 37" for n in (1, 2, 3, 4)), "rt-a e1 routed 1", "rt-a e2 routed 1"]
        there = [
            "a 10.1.0.18/26 10.2.0.170 sw-a p1",
            "b 10.1.0.26/26 10.1.0.1 sw-a p2",
            "c 10.2.0.183/27 10.2.0.161 sw-a p3",
            "d 10.2.0.171/27 10.2.0.161 sw-b p1",
            "e 10.2.0.167/27 10.2.0.161 sw-b p2",
        ]
        gateways = "device|interface|address|port|untagged|admin|oper|proxy_arp\n"
        gateways += "rt-a|e1|10.1.0.1/26|e1|yes|up|up|no\nrt-a|e2|10.2.0.161/27|e2|yes|up|up|no"
        heard = cabled("sw-a p4 rt-a e1") + "\nrt-a|e2|sw-b|p3"
        network = network_of(
            ports=ports(*rows),
            hosts=hosts(*there),
            neighbors=heard,
            gateways=gateways,
            devices="device|routing\nsw-a|no\nrt-a|yes",
        )
        answer = why(network, "a", "e")
        self.assertEqual([str(change) for change in answer.repair], ["hosts a: gateway = 10.1.0.1"])

    def test_what_facts_say_is_wrong_already_is_likely_and_not_proven(self):
        answer = why(without_device(faulty(), "core-west"), "foghorn-exhibit", "director-laptop")
        self.assertEqual((answer.verdict, answer.confidence, answer.repair), ("unknown", "likely", ()))
        self.assertEqual([f.rule for f in answer.findings], ["port-vlan-wrong", "link-vlan-missing"])

    def test_what_is_surely_wrong_is_told_though_a_routing_table_behind_it_was_not_read(self):
        swapped = {40: "10.61.40.1/24", 50: "10.61.50.1/24"}
        key = {"device": "quay-router"}
        changes = [
            Change("gateways", {**key, "interface": f"port1.{vid}", "address": own}, {"vid": 90 - vid})
            for vid, own in swapped.items()
        ]
        survey = apply_changes(healthy(), changes)
        survey = rebuilt(survey, {"routes": [row for row in survey.routes if row.device != "core-east"]})
        answer = why(survey, "ticket-desk-1", "gate-camera")
        self.assertEqual(answer.verdict, "fails")
        self.assertEqual([finding.rule for finding in answer.findings], ["gateway-vlan-wrong"])
        self.assertIn("may still stop the echo", answer.unproven)
        self.assertFalse(answer.repair_proven or any(change.table == "routes" for change in answer.repair))
        self.assertIn("has no route to 10.61.50.11 that was read", answer.stopped)
        self.assertEqual([look.says for look in answer.look], ["read the routing table of core-east"])

    def test_with_ports_only_it_says_what_to_collect(self):
        survey = Survey(info=faulty().info, ports=faulty().ports)
        asked = {entry.table for entry in check(survey).unchecked}
        self.assertEqual(asked, {"neighbors", "gateways", "routes", "trees", "tree_ports", "hosts"})
        self.assertIn(("core-east", "port3"), {(port.device, port.port) for port in vlan(survey, 90).ports})
        with tempfile.TemporaryDirectory() as folder:
            write_survey(survey, folder)
            every, told = run("why", folder, "--all"), run("check", folder)
        self.assertTrue(every.stdout.startswith("? No pair to ask about"))
        self.assertIn("which port is cabled to which: read the neighbour table of", " ".join(told.stdout.split()))
        self.assertEqual(check(healthy()).unchecked, ())


class Covers(unittest.TestCase):
    def covered(self, survey, device, *tables):
        return [Network(survey).covered.fully(device, table) for table in tables]

    def told(self, path):
        network = Network(read_survey(path))
        names = [row.host for row in network.survey.hosts]
        found = [check(network).findings, *(why(network, names[0], name).findings for name in names[1:])]
        return [[(f.rule, f.says, f.repair, f.alternatives) for f in findings] for findings in found]

    def test_what_a_missing_row_means(self):
        survey = healthy()
        self.assertEqual(
            self.covered(survey, "galley", "ports", "gateways", "routes", "arp"), [True, True, True, False]
        )
        self.assertEqual(self.covered(without_table(survey, "gateways"), "galley", "gateways"), [False])
        lost = without_table(survey, "routes", "core-east")  # it routes, so that its routes were not read
        self.assertEqual(self.covered(lost, "core-east", "routes"), [False])
        said = rebuilt(lost, {"coverage": [Coverage("core-east", "routes", "yes"), Coverage("galley", "ports", "no")]})
        self.assertEqual(self.covered(said, "core-east", "routes"), [True])
        self.assertEqual(self.covered(said, "galley", "ports"), [False])
        self.assertEqual(self.covered(without_device(survey, "galley"), "galley", "ports"), [False])

    def test_a_table_of_which_only_the_head_was_written_ends_in_the_same_answers_as_none(self):
        for name in ("598007", "648433", "438332"):
            full = read_survey(DATA / "half" / name)
            with tempfile.TemporaryDirectory() as folder:
                path = Path(folder)
                write_survey(without_table(full, "gateways"), path)
                none = self.told(path)
                (path / "gateways.csv").write_text("device,interface,address,vid\n")
                self.assertEqual(none, self.told(path), name)

    def test_a_device_of_which_only_the_tree_or_the_vlans_were_read(self):
        lone = TreePort("loft", "port9", 0, role="disabled", state="discarding", cost=20000, priority=128, number=9)
        survey = healthy()
        part = rebuilt(survey, {"tree_ports": [*survey.tree_ports, lone]})
        self.assertEqual([f for f in check(part).findings if f.severity == "breaks"], [])
        part = rebuilt(survey, {"vlans": [*survey.vlans, Vlan("loft", 77)]})
        self.assertEqual([one.device for one in vlans(part).devices if 77 in {v.vid for v in one.vlans}], ["loft"])

    def test_a_row_that_a_change_takes_away_was_read_all_the_same(self):
        gone = [
            Change("routes", {"device": row.device, "prefix": row.prefix, "next_hop": row.next_hop}, delete=True)
            for row in healthy().routes
            if row.device == "core-east"
        ]
        self.assertEqual(self.covered(apply_changes(healthy(), gone), "core-east", "routes"), [True])

    def test_the_head_and_the_table_are_written_and_read(self):
        with tempfile.TemporaryDirectory() as folder:
            Path(folder, "survey.toml").write_text('complete = ["routes"]\n')
            Path(folder, "coverage.csv").write_text(
                "device,table,complete,taken_at\nsw-a,ports,no,2026-05-04T06:00:00Z\n"
            )
            survey = read_survey(folder)
            for place in ("again", "one.json"):
                write_survey(survey, Path(folder) / place)
                self.assertEqual(read_survey(Path(folder) / place), survey)
            self.assertEqual((survey.info.complete, survey.coverage[0].complete), (("routes",), "no"))
            Path(folder, "survey.toml").write_text('complete = ["hosts", 7]\n')
            Path(folder, "coverage.csv").write_text("device,table,complete,taken_at\nsw-a,hosts,maybe,noon\n")
            with self.assertRaises(SurveyError) as raised:
                read_survey(folder)
        self.assertEqual(len(raised.exception.problems), 5)

    def test_what_is_gathered_says_what_it_covers(self):
        survey = gather([DATA / "raw" / "case-0009"]).survey
        said = {(row.device, row.table): row.complete for row in survey.coverage}
        self.assertEqual({said[row.device, "ports"] for row in survey.devices}, {"yes"})
        self.assertEqual(said[survey.gateways[0].device, "gateways"], "yes")

    def test_a_walk_that_broke_off_is_not_complete(self):
        with tempfile.TemporaryDirectory() as folder:
            lines = [f".1.3.6.1.2.1.2.2.1.{column}.{n} = INTEGER: 1" for column in (3, 7, 8) for n in (1, 2, 3)]
            for name, kept in (("whole", lines), ("broken", lines[:-1])):
                Path(folder, f"{name}.walk").write_text("\n".join(kept) + "\n")
                (row,) = (r for r in gather([Path(folder, f"{name}.walk")]).survey.coverage if r.table == "ports")
                self.assertEqual(row.complete, {"whole": "yes", "broken": "no"}[name])

    def test_the_inventory_shows_it(self):
        known = {entry.device: entry for entry in inventory(without_table(healthy(), "routes")).devices}
        self.assertEqual((known["core-east"].unread, known["galley"].unread), (("routes",), ()))


class OpenEnds(unittest.TestCase):
    def ends(self, **tables):
        return {str(end): one.why for end, one in network_of(**tables).open_ends.items()}

    def test_where_the_unknown_begins(self):
        rows = ports("sw-a p1 trunk 1", "sw-a p2 access 1", "sw-a p3 access 1", "sw-a p4 access 1", "sw-b p1 trunk 1")
        self.assertEqual(self.ends(ports=rows, neighbors=cabled("sw-a p1 sw-b p1")), {})
        self.assertEqual(self.ends(ports=rows), {"sw-a p1": "far end", "sw-b p1": "far end"})
        heard = cabled("sw-a p1 sw-b p1") + "\nsw-a|p2|attic|x"
        self.assertEqual(self.ends(ports=rows, neighbors=heard), {"sw-a p2": "heard"})
        deaf = "device|port|neighbor|neighbor_port|capabilities\nsw-a|p2|set|1|bridge phone\nsw-a|p3|pc|1|station"
        self.assertNotIn("sw-a p2", self.ends(ports=rows, neighbors=deaf))
        learned = "device|vid|mac|port|kind\n" + "\n".join(f"sw-a|1|02:00:00:00:00:0{n}|p3|learned" for n in range(3))
        self.assertEqual(
            self.ends(ports=rows, neighbors=cabled("sw-a p1 sw-b p1"), macs=learned), {"sw-a p3": "stations"}
        )
        roles = "device|port|instance|role|edge\nsw-a|p4|0|root|\nsw-a|p2|0|designated|yes"
        self.assertEqual(
            self.ends(ports=rows, neighbors=cabled("sw-a p1 sw-b p1"), tree_ports=roles), {"sw-a p4": "far end"}
        )
        down = rows.replace("sw-a|p1|up|up", "sw-a|p1|up|down")
        self.assertEqual(self.ends(ports=down), {"sw-b p1": "far end"})

    def test_one_cable_is_one_link_though_only_neighbours_were_read(self):
        for case in LAB:
            survey = read_survey(case / "survey")
            whole = {frozenset((link.a, link.b)) for link in Network(survey).links if link.seen_a or link.seen_b}
            part = Network(without_table(survey, "ports"))
            self.assertEqual(len(part.links), len(whole), case.name)

    def test_a_name_with_and_without_its_domain_is_one_device(self):
        rows = "device|port|neighbor|neighbor_port\nsw-a|p1|SW-B.campus.example|po1\nsw-b|port1|sw-a|p1"
        network = network_of(neighbors=rows, ports=ports("sw-a p1 trunk 1", "sw-b port1 trunk 1"))
        (link,) = network.links
        self.assertEqual({link.a, link.b}, {End("sw-a", "p1"), End("sw-b", "port1")})
        self.assertEqual(network.loose, [])

    def test_a_name_of_another_domain_is_another_device(self):
        for heard, own, links in (
            ("sw-b.yard.example", "sw-b", 1),
            ("sw-b", "sw-b.yard.example", 1),
            ("sw-b.yard.example", "sw-b.dock.example", 0),
        ):
            rows = f"device|port|neighbor|neighbor_port\nsw-a|p1|{heard}|p1"
            network = network_of(neighbors=rows, ports=ports("sw-a p1 trunk 1", f"{own} p1 trunk 1"))
            self.assertEqual((len(network.links), len(network.loose)), (links, 1 - links), heard)

    def test_a_host_is_not_located_at_a_port_that_leads_on(self):
        for (_, wider), (name, part) in pairwise(
            [("", healthy()), ("ropehall", without_device(healthy(), "ropehall"))]
        ):
            lost = [h for h in wider.hosts if h.device == name]
            places = Network(part).stations.hosts
            self.assertEqual([places[h.host.casefold()].end for h in lost], [None] * len(lost))


class TreesNotRead(unittest.TestCase):
    def test_what_all_ports_say_of_one_tree_is_enough(self):
        for survey in (healthy(), faulty()):
            without = Survey(**{**survey.__dict__, "trees": ()})
            self.assertEqual(matrix(without).reaches, matrix(survey).reaches)
        said = rebuilt(without, {"coverage": [Coverage("sail-loft", "tree_ports", "no")]})
        self.assertTrue(any(row[2] == "unknown" for row in matrix(said).reaches))  # its others may be in another tree


if __name__ == "__main__":
    unittest.main()
