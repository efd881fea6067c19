"""Spanning trees of surveys: computed beside observed, explained, what if, which way, what fails, advice, findings."""

import json
import tempfile
import unittest
from pathlib import Path

from msgspec.structs import replace

from crossthread import Change, Network, Survey, apply_changes, check, matrix, read_plan, read_survey, why, write_survey
from crossthread.demo import healthy
from crossthread.network.topology.names import End
from crossthread.questions.tree_advice import tree_advice
from crossthread.questions.tree_change import tree_change
from crossthread.questions.tree_ways import failure_of, tree_ways
from crossthread.views.tree import instance_of, tree, tree_overview
from tests.building import LAB, cabled, hosts, network_of, ports
from tests.test_check import edit, every
from tests.test_command import run

RING = cabled("a p1 b p1", "b p2 c p1", "c p2 a p2")


def bridges(*rows):
    """Tree rows `device instance protocol priority mac [region]`."""
    found = ["device|instance|protocol|priority|address|region"]
    for row in rows:
        device, instance, protocol, priority, mac, *region = row.split()
        found.append(f"{device}|{instance}|{protocol}|{priority}|02:00:00:00:00:{mac}|{' '.join(region)}")
    return "\n".join(found)


def tree_ports(*rows):
    """Rows `device port instance cost number`."""
    found = ["device|port|instance|cost|priority|number"]
    for row in rows:
        device, port, instance, cost, number = row.split()
        found.append(f"{device}|{port}|{instance}|{cost}|128|{number}")
    return "\n".join(found)


class Case(unittest.TestCase):
    def setUp(self):
        holder = tempfile.TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        self.folder = Path(holder.name)

    def network(self, **tables):
        return network_of(**tables)

    def ring(self, *rows, costs=None, vlans="7 8", **more):
        every_port = [f"{d} p{n} trunk none {vlans}" for d in "abc" for n in (1, 2)]
        given = costs or tree_ports(*(f"{d} p{n} {i} 4 {n}" for d in "abc" for n in (1, 2) for i in (0, 7, 8)))
        return self.network(neighbors=RING, ports=ports(*every_port), trees=bridges(*rows), tree_ports=given, **more)

    @staticmethod
    def roles(network, instance):
        return {f"{end.device} {end.port}": role.role for end, role in network.fabric.trees.compute(instance).items()}


class RealSwitches(unittest.TestCase):
    def test_roles_states_and_roots_are_the_observed_ones_on_every_port_that_was_up(self):
        count = 0
        for case in LAB:
            network = Network(read_survey(case / "survey"))
            for answer in tree_overview(network).instances:
                for port in answer.ports:
                    if port.observed_role is not None:
                        count += 1
                        self.assertEqual(
                            (port.role, port.state), (port.observed_role, port.observed_state), (case.name, port)
                        )
                for bridge in answer.bridges:
                    if bridge.observed_root is not None and answer.roots:
                        self.assertIn(bridge.observed_root, {root.identifier for root in answer.roots})
            self.assertNotIn("tree-disagrees", {f.rule for f in check(network).findings})
        self.assertGreater(count, 40)


class Computed(Case):
    THREE = ("a 0 rstp 4096 0a", "b 0 rstp 32768 0b", "c 0 rstp 32768 0c")

    def test_every_port_says_because_of_what(self):
        answer = tree(self.ring(*self.THREE), 0)
        says = {f"{port.device} {port.port}": port.because for port in answer.ports}
        self.assertEqual((answer.root, answer.roots[0].how), ("a", "set"))
        self.assertEqual(says["a p1"], "the root's own port")
        self.assertEqual(says["b p1"], "the only way to the root: root path cost 4 (0 at a + 4)")
        self.assertIn("lower bridge identifier of b (32768/02:00:00:00:00:0b) than of c", says["c p1"])

    def test_a_root_by_default_says_so(self):
        answer = tree(self.ring(*(row.replace("4096", "32768") for row in self.THREE)), 0)
        self.assertEqual((answer.root, answer.roots[0].how), ("a", "default"))
        self.assertIn("02:00:00:00:00:0a is the lowest MAC address of all with priority 32768", answer.roots[0].because)

    def test_each_part_has_its_root_and_says_why_within_the_part(self):
        rows = [f"{device} 0 rstp {'4096' if device == 'e' else '32768'} 0{device}" for device in "abcde"]
        network = self.network(
            neighbors=cabled("a p1 b p1", "b p2 c p1", "d p1 e p1"),
            trees=bridges(*rows),
            ports=ports(*(f"{end} trunk none 7" for end in ("a p1", "b p1", "b p2", "c p1", "d p1", "e p1"))),
            tree_ports=tree_ports("a p1 0 4 1", "b p1 0 4 1", "b p2 0 4 2", "c p1 0 4 1", "d p1 0 4 1", "e p1 0 4 1"),
        )
        roots = tree(network, 0).roots
        self.assertEqual([(root.device, root.how) for root in roots], [("a", "default"), ("e", "set")])
        self.assertIn("0a is the lowest MAC address of all in its part with priority", roots[0].because)
        self.assertEqual(roots[1].because, "its priority 4096 is the lowest; the next is 32768")

    def test_a_tree_per_vlan_runs_over_the_links_that_carry_it(self):
        rows = [f"{d} {v} per-vlan {4096 if d + v in ('a7', 'c8') else 32768} 0{d}" for d in "abc" for v in ("7", "8")]
        network = self.ring(*rows)
        self.assertEqual((tree(network, 7).root, tree(network, 8).root, instance_of(network, 8)), ("a", "c", 8))
        cut = network.changed([Change("ports", {"device": "a", "port": "p1"}, {"allowed": "8"})])
        self.assertNotIn("a p1", self.roles(cut, 7))
        self.assertEqual(self.roles(cut, 7)["b p2"], "root")
        self.assertEqual(self.roles(cut, 8), self.roles(network, 8))

    def test_what_is_missing_is_named_and_nothing_guessed(self):
        answer = tree(self.network(
            neighbors=RING, ports=ports(*(f"{d} p{n} trunk none 7" for d in "abc" for n in (1, 2))),
            trees="device|instance|protocol|priority|address\na|0|rstp|4096|02:00:00:00:00:0a\nb|0|rstp||02:00:00:00:00:0b"
                  "\nc|0|rstp|32768|02:00:00:00:00:0c",
        ), 0)  # fmt: skip
        self.assertEqual(answer.ports, ())
        self.assertIn("priority (b)", answer.missing)

    def test_what_a_port_costs_is_not_taken_from_its_speed(self):
        listed = ports(*(f"{d} p{n} trunk none 7" for d in "abc" for n in (1, 2))).splitlines()
        fast = "\n".join([listed[0] + "|speed", *(row + "|1000" for row in listed[1:])])
        costs = [f"{d} p{n} 0 20000 {n}" for d in "abc" for n in (1, 2)]
        for known in (costs, costs[:-2]):  # c may tell none, or others than the recommended ones
            told = tree_ports(*known)
            network = self.network(neighbors=RING, ports=fast, trees=bridges(*self.THREE), tree_ports=told)
            ends = (End(row.device, row.port) for row in network.survey.ports)
            blocked = [end for end in ends if network.fabric.forwarding(end).has(7) is not True]
            self.assertEqual(tree(network, 0).missing, () if known is costs else ("cost of c p1 (c)",))
            self.assertEqual(len(blocked), 1 if known is costs else 3, blocked)

    def test_a_device_without_a_tree_is_part_of_the_medium_or_ends_it(self):
        def with_c(bpdus):
            trees = bridges(*self.THREE[:2]).splitlines()
            text = "\n".join([trees[0] + "|bpdus", *(row + "|" for row in trees[1:]), f"c|0|off||||{bpdus}"])
            listed = ports(*(f"{d} p{n} trunk none 7" for d in "abc" for n in (1, 2)))
            costs = tree_ports(*(f"{d} p{n} 0 4 {n}" for d in "ab" for n in (1, 2)))
            return self.network(neighbors=RING, ports=listed, trees=text, tree_ports=costs)

        passing = with_c("pass")
        self.assertEqual(self.roles(passing, 0)["b p2"], "alternate")  # it hears a through c
        self.assertNotIn("tree-off-in-loop", {f.rule for f in check(passing).findings})
        dropping = with_c("drop")
        self.assertEqual(self.roles(dropping, 0), {"a p1": "designated", "b p1": "root"})
        told = next(f for f in check(dropping).findings if f.rule == "tree-off-in-loop")
        self.assertIn("nothing there cuts a loop of the VLANs that it carries", told.says)
        self.assertEqual(self.roles(with_c(""), 0), {})

    def test_instances_of_one_region_use_different_links(self):
        rows = [
            f"{d} {i} mstp {4096 if d + i in ('a0', 'b1') else 32768} 0{d} museum/1/ab" for d in "abc" for i in "01"
        ]
        costs = tree_ports(*(f"{d} p{n} {i} 4 {n}" for d in "abc" for n in (1, 2) for i in (0, 1)))
        network = self.ring(*rows, costs=costs)
        self.assertEqual((tree(network, 0).root, tree(network, 1).root), ("a", "b"))
        self.assertEqual(tree(network, 0).bridges[1].region, "museum/1/ab")
        advised = {advice.instance: (advice.now, advice.hops_now) for advice in tree_advice(network).advice}
        self.assertEqual({number: now for number, (now, _) in advised.items()}, {0: "a", 1: "b"})
        differ = network.changed([edit("trees", {"region": "museum/2/ab"}, device="c", instance=0)])
        told = next(f for f in check(differ).findings if f.rule == "tree-region-differs")
        self.assertIn("they differ in the revision", told.says)


class WhatIf(Case):
    def test_before_and_after(self):
        network = Network(healthy())
        shut = [edit("ports", {"admin": "down", "oper": "down"}, device="core-east", port="port7")]
        answer = tree_change(network, 0, shut)
        moved = {f"{p.device} {p.port}": (p.before, p.after) for p in answer.moved}
        self.assertEqual(moved["harbour-office port2"], ("alternate, discarding", "root, forwarding"))
        self.assertEqual(moved["core-east port7"][1], "none")
        self.assertEqual((answer.cut, answer.mended), ((), ()))
        both = [
            *shut,
            edit("ports", {"admin": "down", "oper": "down"}, device="core-west", port="port7"),
            edit("ports", {"admin": "down", "oper": "down"}, device="slipway", port="port1"),
        ]
        self.assertEqual(tree_change(network, 0, both).root_after, "core-east")
        root = tree_change(network, 0, [edit("trees", {"priority": 0}, device="galley", instance=0)])
        self.assertEqual((root.root_before, root.root_after), ("core-east", "galley"))

    def test_a_cost_moves_the_tree_and_the_verdicts_with_it(self):
        network = Network(healthy())
        dear = [edit("tree_ports", {"cost": 90000}, device="chartroom", port="port1", instance=0)]
        answer = tree_change(network, 0, dear)
        self.assertEqual({f"{p.device} {p.port}" for p in answer.moved}, {"chartroom port1", "chartroom port2"})
        self.assertEqual(matrix(network.changed(dear)).reaches, matrix(network).reaches)


class Ways(Case):
    def test_what_fails_and_what_is_idle(self):
        network = Network(healthy())
        answer = tree_ways(network)
        self.assertEqual(len(answer.idle), 7)
        lost = {failure.what: failure for failure in answer.failures}
        self.assertEqual(set(lost["galley port1 – ropehall port3"].hosts), {"galley-till", "galley-tablet"})
        self.assertEqual(len(lost["harbour-office port5 – quay-router port1"].hosts), 8)
        self.assertNotIn("chartroom port1 – core-east port6", lost)

    def test_each_failure_is_what_the_matrix_says_of_a_copy_without_it(self):
        network = Network(healthy())
        before = {(a, b) for a, b, verdict in matrix(network).reaches if verdict == "works"}
        for at in ("galley:port1", "chartroom:port1", "core-east:bundle1", "harbour-office:port5"):
            failure = failure_of(network, at)
            device, port = at.split(":")
            shut = edit("ports", {"admin": "down", "oper": "down"}, device=device, port=port)
            after = {(a, b) for a, b, verdict in matrix(network.changed([shut])).reaches if verdict == "works"}
            worse = {host for host in failure.hosts if any(a == host for a, _ in before - after)}
            self.assertEqual(worse, set(failure.hosts), at)
            self.assertEqual(bool(before - after), bool(failure.hosts), at)

    def test_advice_moves_a_root_that_is_far_from_the_gateways(self):
        away = healthy()
        edits = [edit("trees", {"priority": 0}, device="galley", instance=0)]
        network = Network(apply_changes(away, edits))
        advice = tree_advice(network).advice[0]
        self.assertEqual(advice.now, "galley")
        self.assertIn(advice.root, ("core-east", "harbour-office"))
        self.assertLess(advice.hops_then, advice.hops_now)
        after = network.changed(advice.changes)
        self.assertEqual(tree(after, 0).root, advice.root)
        self.assertEqual(tree_advice(after).advice[0].hops_now, advice.hops_then)
        self.assertIn("links stay idle", tree_advice(network).spreading[0])

    def test_of_several_trees_with_one_root_every_second_gets_another(self):
        survey, fresh = healthy(), dict.fromkeys(("root_priority", "root_address", "root_cost", "root_port"))
        vids = (10, 20, 30)
        trees = [replace(row, instance=v, protocol="per-vlan", **fresh) for row in survey.trees for v in vids]
        ports = [replace(row, instance=v, role=None, state=None) for row in survey.tree_ports for v in vids]
        advised = tree_advice(Survey(**{**survey.__dict__, "trees": trees, "tree_ports": ports}))
        self.assertEqual([advice.instance for advice in advised.advice], [*vids])
        self.assertIn("Giving instances 20 the root core-west uses", advised.spreading[0])


class Findings(Case):
    def rules(self, network):
        return {f.rule: f for f in every(check(network).findings)}

    def planted(self, *changes):
        return self.rules(Network(apply_changes(healthy(), changes)))

    def test_each_is_found_at_its_place(self):
        seen = {"root_address": "02:00:00:00:00:01", "root_priority": 0}
        believing = [edit("trees", seen, device=row.device, instance=0) for row in healthy().trees]
        cases = {
            "tree-edge-to-bridge": (
                [edit("tree_ports", {"edge": "yes"}, device="galley", port="port1", instance=0)],
                "galley port1",
            ),
            "tree-roots-several": (believing[5:6], "galley port1"),
            "tree-disagrees": (believing, "tree 0"),
        }
        observed = healthy()
        for rule, (changes, place) in cases.items():
            with self.subTest(rule):
                changed = apply_changes(observed, changes)
                kept = type(observed)(**{**changed.__dict__, "tree_ports": changed.tree_ports if rule ==
                                         "tree-edge-to-bridge" else observed.tree_ports})  # fmt: skip
                found = self.rules(Network(kept))
                self.assertIn(rule, found)
                self.assertTrue(any(place in f"{s.device} {s.port} tree {s.instance}" for s in found[rule].subjects))
        self.assertIn(
            "which nobody surveyed", self.rules(Network(apply_changes(observed, believing)))["tree-disagrees"].says
        )

    def test_a_root_by_default_or_unplanned(self):
        for priority in (0, 4096, 32768):  # there is room below two of them
            plain = [edit("trees", {"priority": priority}, device=row.device, instance=0) for row in healthy().trees]
            found = self.planted(*plain)["tree-root-by-default"]
            self.assertIn("core-east is root of tree 0 by default", found.says)
            (root,) = tree(apply_changes(healthy(), [*plain, *found.repair]), 0).roots
            self.assertEqual((root.device, root.how), ("core-east", "set"))
        (self.folder / "plan.toml").write_text('[vlans]\n10 = { root = "core-west", backup_root = "core-east" }\n')
        plan = read_plan(self.folder / "plan.toml")
        found = [f for f in check(Network(healthy()), plan).findings if f.rule != "plan-differs"]
        self.assertEqual([f.rule for f in found], ["tree-root-unplanned"] * 2)
        mended = Network(apply_changes(healthy(), [change for f in found for change in f.repair]))
        self.assertNotIn("tree-root-unplanned", {f.rule for f in check(mended, plan).findings})

    def test_a_single_tree_blocks_the_only_link_that_carries_a_vlan(self):
        every_port = ["a p1 trunk none 8", "b p1 trunk none 8", "b p2 trunk none 7 8", "c p1 trunk none 7 8",
                      "a p2 trunk none 8", "c p2 trunk none 8", "b p9 access 7", "c p9 access 7"]  # fmt: skip
        network = self.network(
            neighbors=RING,
            ports=ports(*every_port),
            trees=bridges(*Computed.THREE),
            tree_ports=tree_ports(*(f"{d} p{n} 0 4 {n}" for d in "abc" for n in (1, 2))),
            hosts=hosts("one 10.0.0.1/24 none b p9", "two 10.0.0.2/24 none c p9"),
        )
        told = self.rules(network)["tree-blocks-vlan"]
        self.assertEqual(str(told.subjects[0]), "c p1 VLAN 7")
        answer = why(network, "one", "two")  # the way that the tree takes is mended, over both links
        self.assertEqual({f.rule for f in answer.findings if len(f.repair) == 2}, {"link-vlan-missing"})
        self.assertTrue(answer.repair_proven)


class Commands(Case):
    def test_the_command(self):
        write_survey(healthy(), self.folder / "h")
        self.assertIn("1 spanning tree.", run("tree", self.folder / "h").stdout)
        found = json.loads(run("tree", self.folder / "h", "--vlan", "20", "--json").stdout)
        self.assertLessEqual({"instance", "root", "bridges", "ports"}, found.keys())
        self.assertLessEqual({"device", "port", "role", "state", "because", "observed_role"}, found["ports"][0].keys())
        self.assertEqual(found["root"], "core-east")
        picture = self.folder / "t.svg"
        self.assertEqual(run("tree", self.folder / "h", "--figure", picture, "--vlan", 20).returncode, 0)
        self.assertGreater(picture.read_text().count("<path"), 50)
        change = '{"table": "trees", "key": {"device": "galley", "instance": 0}, "set": {"priority": 0}}'
        done = run("tree", self.folder / "h", "--change", change)
        self.assertIn("the root moves from core-east to galley", done.stdout)
        self.assertIn("12 single points of failure", run("tree", self.folder / "h", "--ways").stdout)
        self.assertIn("8 hosts cut off", run("tree", self.folder / "h", "--without", "quay-router").stdout)
        self.assertIn("well placed", run("tree", self.folder / "h", "--advice").stdout)

    def test_what_cannot_be_asked_is_one_sentence(self):
        write_survey(healthy(), self.folder / "h")
        for status, says, words in (
            (2, "there is no tree 3", ("--instance", "3")),
            (2, "no device and no link “x:y”", ("--without", "x:y")),
            (2, "expected one of", ("--ways", "--advice")),
            (3, "not a change", ("--change", '{"table": 3}')),
            (3, "cannot be read", ("--change", "/nowhere")),
            (2, "expected a table of a survey", ("--change", '{"table": "no", "key": {}, "set": {}}')),
        ):
            done = run("tree", self.folder / "h", *words)
            self.assertEqual((done.returncode, done.stdout, done.stderr.count("\n")), (status, "", 1), done.stderr)
            self.assertIn(says, done.stderr)


if __name__ == "__main__":
    unittest.main()
