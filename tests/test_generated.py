"""Generated campuses: healthy ones are clean, whatever their shape, and what is planted in them is found and mended."""

import random
import unittest

from crossthread import Change, Network, apply_changes, check, matrix
from crossthread.demo.generator import generate
from crossthread.diagnosis.context import Context
from crossthread.diagnosis.detours import find_detours
from crossthread.network.switching.nodes import Node
from crossthread.network.three_valued import vids_in


def shape(seed):
    return generate(seed, 3 + seed * 7 % 28, 8 + seed * 13 % 60, 1 + seed % 9)


def families(network):
    return {host.name: host.address.version for host in network.stations.hosts.values()}


class Healthy(unittest.TestCase):
    def test_fifty_shapes_break_and_risk_nothing(self):
        for seed in range(50):
            with self.subTest(seed):
                counts = check(Network(shape(seed))).counts
                self.assertEqual((counts["breaks"], counts["risks"]), (0, 0))

    def test_every_host_reaches_every_other_of_its_kind(self):
        for seed in range(0, 50, 7):
            network = Network(shape(seed))
            kinds = families(network)
            wrong = [r for r in matrix(network).reaches if r[2] != "works" and kinds[r[0]] == kinds[r[1]]]
            self.assertEqual(wrong, [], seed)

    def test_one_note_for_all_vlans_whose_detours_have_one_cause(self):
        network = Network(generate(3, 60, 600, 20, 24))
        detours = list(find_detours(Context(network), dearer=True, told=False))
        told = [finding for finding in check(network).findings if finding.rule == "tree-detour"]
        self.assertEqual(len(told), len({detour.gateway for detour in detours}))  # one tree serves all VLANs here
        self.assertGreater(len({detour.vid for detour in detours}), len(told))
        vids = {subject.vid for finding in told for subject in finding.subjects}
        self.assertEqual(vids, {detour.vid for detour in detours})

    def test_one_seed_is_one_campus(self):
        self.assertEqual(shape(4), shape(4))
        self.assertNotEqual(shape(4), shape(5))


def plant(chance, survey):
    """One fault at random that cuts a host off, and the rules that may name it."""
    host = chance.choice(list(survey.hosts))
    others = [row.vid for row in survey.gateways if row.vid]
    port = next(row for row in survey.ports if (row.device, row.port) == (host.device, host.port))
    at = {"device": host.device, "port": host.port}
    vid = chance.choice([v for v in others if v != port.pvid] or [2])
    return chance.choice(
        [
            (Change("ports", at, {"admin": "down", "oper": "down"}), {"port-admin-down"}),
            (Change("ports", at, {"pvid": vid}), {"port-vlan-wrong", "port-vlan-missing", "gateway-vlan-wrong"}),
            (Change("ports", at, {"allowed_macs": "02:00:00:00:00:01"}), {"port-refuses-station"}),
            (Change("hosts", {"host": host.host}, {"gateway": "none"}), {"host-gateway-missing"}),
            (Change("vlans", {"device": host.device, "vid": port.pvid}, {"state": "suspended"}), {"vlan-suspended"}),
        ]
    )


class Planted(unittest.TestCase):
    def test_what_is_planted_is_found_and_its_mends_leave_nothing_that_breaks(self):
        chance = random.Random(11)
        for seed in range(25):
            survey = shape(seed)
            change, rules = plant(chance, survey)
            network = Network(apply_changes(survey, [change]))
            kinds = families(network)
            broken = [r for r in matrix(network).reaches if r[2] == "fails" and kinds[r[0]] == kinds[r[1]]]
            found = [f for f in check(network).findings if f.severity == "breaks"]
            with self.subTest(seed=seed, change=str(change)):
                self.assertEqual(bool(found), bool(broken))
                self.assertLessEqual({f.rule for f in found}, rules)
                mends = [c for f in found for c in f.repair]
                after = check(Network(apply_changes(network.survey, mends)))
                self.assertEqual(after.counts["breaks"], 0)


class Parts(unittest.TestCase):
    """The quick ways of the check say the same as the slow ones of `why`."""

    def test_a_part_is_what_surely_reaches_each_other(self):
        for seed in (1, 8, 23):
            network = Network(shape(seed))
            nodes = [Node(d, v) for d in network.names.devices.values() for v in vids_in(network.fabric.known)][:120]
            for one in nodes[::5]:
                part = network.components.of(one)
                for two in nodes:
                    if part is not None and part == network.components.of(two):
                        self.assertIs(network.fabric.reaches(one, two), True)

    def test_hosts_of_a_class_reach_the_same_hosts(self):
        chance = random.Random(5)
        for seed in range(0, 30, 3):
            survey = shape(seed)
            network = Network(apply_changes(survey, [plant(chance, survey)[0] for _ in range(3)]))
            reaches = {(a, b): verdict for a, b, verdict in matrix(network).reaches}
            names = [host.name for host in network.stations.hosts.values()]
            for one in network.classes.all:
                first = one.hosts[0].name
                for other in one.hosts[1:]:
                    for third in names:
                        if third not in (first, other.name):
                            self.assertEqual(
                                reaches[first, third], reaches[other.name, third], (seed, first, other.name)
                            )


if __name__ == "__main__":
    unittest.main()
