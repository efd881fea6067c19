"""Finding hosts, addresses, devices and VLANs, on the demo campus."""

import tempfile
import unittest
from pathlib import Path

from crossthread import Change, Network, Survey, apply_changes, why, write_survey
from crossthread.demo import healthy
from crossthread.errors import UnknownNameError
from crossthread.survey.records import MacEntry
from crossthread.views.find import find
from tests.building import cabled, network_of, ports
from tests.test_command import run
from tests.yard import at, host, yard


class Finding(unittest.TestCase):
    NETWORK = Network(healthy())

    def places(self, wanted, network=None):
        return [(p.device, p.port, p.vid, p.how) for p in find(network or self.NETWORK, wanted).places]

    def test_by_whatever_one_knows(self):
        for wanted in ("Plank-Saw", "10.61.40.11", "02-5c-02-00-00-10", "025c.0200.0010"):
            with self.subTest(wanted):
                self.assertEqual(self.places(wanted), [("sail-loft", "port3", 40, "host")])
        self.assertEqual(self.places("fd61:c7:0:50::2"), [("sail-loft", "port5", 50, "host")])
        self.assertEqual(self.places("10.61.20.1"), [("core-east", None, 20, "interface")])
        self.assertEqual(self.places("02:5c:01:00:00:01"), [("core-east", None, None, "own")])

    def test_an_address_that_a_host_and_an_interface_have_is_told_of_both(self):
        taken = apply_changes(healthy(), [Change("hosts", {"host": "plank-saw"}, {"address": "10.61.20.1/24"})])
        self.assertEqual(find(self.NETWORK, "10.61.40.11").kind, "host")
        found = find(taken, "10.61.20.1")
        self.assertEqual({(p.device, p.how) for p in found.places}, {("sail-loft", "host"), ("core-east", "interface")})
        self.assertEqual(found.conflicts, ("10.61.20.1 is the address of 2 stations",))
        told = {str(fact).partition("  [")[0] for place in found.places for fact in place.evidence}
        self.assertIn("gateways core-east vlan20 10.61.20.1/24: address = 10.61.20.1/24", told)

    def test_filtering_databases_are_followed_to_the_edge(self):
        found = find(self.NETWORK, "guide-tablet")
        self.assertEqual(self.places("guide-tablet"), [("lighthouse-2", "port9", 30, "learned")])
        self.assertEqual({fact.key["device"] for fact in found.trail}, {"lighthouse-2", "core-east"})
        self.assertEqual(found.conflicts, ())

    def test_what_does_not_agree_is_said(self):
        survey = healthy()
        moved = MacEntry("slipway", 40, "02:5c:02:00:00:10", "port7", "learned")
        network = Network(Survey(**{**survey.__dict__, "macs": (*survey.macs, moved)}))
        found = find(network, "plank-saw")
        self.assertEqual(
            self.places("plank-saw", network), [("sail-loft", "port3", 40, "host"), ("slipway", "port7", 40, "learned")]
        )
        self.assertIn("sail-loft port3 and slipway port7", found.conflicts[0])
        with tempfile.TemporaryDirectory() as holder:
            write_survey(network.survey, Path(holder))
            first = run("find", holder, "plank-saw").stdout.splitlines()[0]
        self.assertEqual(first, "host plank-saw: sail-loft port3, VLAN 40 or slipway port7, VLAN 40.")

    def test_a_port_that_names_a_silent_host_is_where_it_may_be(self):
        """Whom that port hears nobody read: so a mend that rests on it is only told."""
        unplugged = {"device": "", "port": "", "address": "none", "gateway": "none"}
        unread = Change("coverage", {"device": "loft", "table": "neighbors"}, {"complete": "no"})
        described = at("loft", "desk1", description="to desk-loft-1")
        lost = apply_changes(yard(), [host("desk-loft-1", **unplugged), unread])
        for survey, places, mends in (
            (lost, [], []),
            (apply_changes(lost, [described]), [("loft", "desk1", None, "named")],
             ["hosts desk-loft-1: address = 10.9.10.2/24, gateway = 10.9.10.1"]),
        ):  # fmt: skip
            self.assertEqual(self.places("desk-loft-1", survey), places)
            (fault,) = why(survey, "desk-loft-2", "desk-loft-1").findings
            self.assertEqual([fault.rule, fault.repair], ["host-address-missing", ()])
            self.assertEqual([str(c) for other in fault.alternatives for c in other.changes], mends)
        with tempfile.TemporaryDirectory() as holder:
            write_survey(survey, Path(holder))
            self.assertEqual(run("find", holder, "desk-loft-1").stdout.splitlines()[0],
                             "host desk-loft-1: maybe at loft desk1.")  # fmt: skip

    def test_an_address_that_is_heard_at_several_mac_addresses(self):
        heard = [
            {"device": "core-east", "interface": "vlan10", "address": "10.61.10.99"},
            {"device": "quay-router", "interface": "port1.90", "address": "10.61.10.99"},
        ]
        macs = ("02:5c:02:00:00:10", "02:5c:02:00:00:11")
        for count in (1, 2):
            told = [Change("arp", key, {"mac": mac}) for key, mac in zip(heard, macs[:count], strict=False)]
            found = find(apply_changes(healthy(), told), "10.61.10.99")
            says = f"10.61.10.99 has several MAC addresses: {' '.join(macs)}"
            self.assertEqual(found.conflicts, (says,) if count > 1 else ())

    def test_a_trail_that_ends_on_the_way(self):
        network = network_of(
            neighbors=cabled("sw-a p1 sw-b p1"),
            ports="device|port\nsw-a|p1\nsw-b|p1",
            macs="device|vid|mac|port|kind\nsw-a|7|02:00:00:00:00:09|p1|learned",
            arp="device|interface|address|mac\nsw-a|v7|10.0.0.9|02:00:00:00:00:09",
        )
        self.assertEqual(self.places("02:00:00:00:00:09", network), [("sw-a", "p1", 7, "towards")])
        self.assertEqual(self.places("10.0.0.9", network), [("sw-a", "p1", 7, "towards")])

    def test_where_it_was_learned_at_an_edge_comes_first(self):
        network = network_of(
            ports=ports("sw-a p1 trunk 1 1 7", "sw-b q1 trunk 1 1 7", "sw-c p2 access 7"),
            neighbors=cabled("sw-a p1 sw-b q1"),
            macs="device|vid|mac|port|kind\nsw-a|7|02:00:00:00:00:09|p1|learned\nsw-c|7|02:00:00:00:00:09|p2|learned",
        )
        found = [place[0] for place in self.places("02:00:00:00:00:09", network)]
        self.assertEqual(found, ["sw-c", "sw-a"])

    def test_devices_and_vlans(self):
        self.assertEqual(self.places("GALLEY"), [("ropehall", "port3", None, "learned")])
        self.assertEqual({p[0] for p in self.places("visitors")}, {row.device for row in healthy().vlans})

    def test_what_is_not_there(self):
        for wanted, says in [
            ("planksaw", "did you mean plank-saw"),
            ("02:00:00:00:00:77", "no table of this survey knows the MAC address 02:00:00:00:00:77"),
            ("10.0.0.1", "no table of this survey knows the address 10.0.0.1"),
            ("02:00:00:00:00:01", "knows the MAC address"),
            ("\x1b", "“\\x1b”"),
        ]:
            with self.subTest(wanted), self.assertRaises(UnknownNameError) as caught:
                find(self.NETWORK, wanted)
            self.assertIn(says, str(caught.exception))
        with self.assertRaisesRegex(UnknownNameError, "25 hosts, such as ticket-desk-1, ticket-desk-2, shop-till$"):
            why(healthy(), "nobody-of-that-name", "galley")


if __name__ == "__main__":
    unittest.main()
