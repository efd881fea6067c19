"""VLAN sets, MAC addresses and port names, by example and by law."""

import pickle
import unittest
from ipaddress import ip_address, ip_network

from hypothesis import given
from hypothesis import strategies as st

from crossthread import Change, Network, VlanSet, apply_changes
from crossthread.network.hosts.blocks import Block
from crossthread.network.topology.names import End
from crossthread.network.topology.port_names import match_port, short_form
from crossthread.values import parse_mac, parse_vid
from tests.yard import yard

VIDS = st.integers(1, 4094)
SETS = st.sets(VIDS, max_size=60)


class VlanSets(unittest.TestCase):
    def test_written_forms(self):
        for text, members in [
            ("1 10-12 30", [1, 10, 11, 12, 30]),
            ("1,10-12,30", [1, 10, 11, 12, 30]),
            (" 7 , 5-6 ", [5, 6, 7]),
            ("4094", [4094]),
            ("none", []),
            ("NONE", []),
        ]:
            with self.subTest(text):
                self.assertEqual(list(VlanSet.parse(text)), members)
        self.assertEqual(len(VlanSet.parse("all")), 4094)
        self.assertEqual(str(VlanSet.parse("1-4094")), "all")
        self.assertEqual(str(VlanSet.of([3, 1, 2, 9])), "1-3 9")

    def test_what_is_refused(self):
        for text in ["", " ", "0", "4095", "1-4095", "5-3", "a", "1-", "-3", "1--3", "1.5", "²", "9" * 5000]:
            with self.subTest(text[:10]), self.assertRaises(ValueError):
                VlanSet.parse(text)
        for vid in ["0", "4095", "-1", "1e3", "", " "]:
            with self.subTest(vid), self.assertRaises(ValueError):
                parse_vid(vid)

    @given(SETS, SETS)
    def test_agrees_with_sets(self, one, two):
        a, b = VlanSet.of(one), VlanSet.of(two)
        self.assertEqual(set(a | b), one | two)
        self.assertEqual(set(a & b), one & two)
        self.assertEqual(set(a - b), one - two)
        self.assertEqual((len(a), bool(a)), (len(one), bool(one)))
        self.assertEqual([vid in a for vid in range(4096)], [vid in one for vid in range(4096)])

    @given(SETS)
    def test_equal_sets_are_one_object(self, members):
        first = VlanSet.of(members)
        self.assertIs(VlanSet.parse(str(first)), first)
        self.assertIs(VlanSet(first.bits), first)
        self.assertIs(pickle.loads(pickle.dumps(first)), first)

    def test_cannot_be_changed(self):
        with self.assertRaises(AttributeError):
            VlanSet.all().bits = 0


class MacAddresses(unittest.TestCase):
    def test_common_notations(self):
        for text in [
            "02:1b:e2:00:4d:8e", "02-1B-E2-00-4D-8E", "021b.e200.4d8e", "021b:e200:4d8e", "021b-e200-4d8e",
            "021be2-004d8e", "021be2004d8e", "0x021BE2004D8E", "2:1b:e2:0:4d:8e", "02 1b e2 00 4d 8e",
        ]:  # fmt: skip
            with self.subTest(text):
                self.assertEqual(parse_mac(text), "02:1b:e2:00:4d:8e")

    def test_what_is_refused(self):
        for text in ["", "02:1b:e2:00:4d", "02:1b:e2:00:4d:8g", "02:1b-e2:00:4d:8e", "021b.e200-4d8e", "1" * 11]:
            with self.subTest(text), self.assertRaises(ValueError):
                parse_mac(text)

    @given(st.integers(0, 2**48 - 1))
    def test_one_form_comes_out(self, number):
        digits = f"{number:012x}"
        canonical = ":".join(digits[i : i + 2] for i in range(0, 12, 2))
        self.assertEqual(parse_mac(digits.upper()), canonical)
        self.assertEqual(parse_mac(canonical), canonical)


class PortNames(unittest.TestCase):
    def test_short_forms(self):
        for short, long, fits in [
            ("por1/2", "port1/2", True),
            ("P1/2", "port1/2", True),
            ("p 1/2", "port1/2", True),
            ("port01", "port1", True),
            ("port1/2", "port1/20", False),
            ("port1/2", "port2/1", False),
            ("pt1/2", "port1/2", False),
            ("1/2", "port1/2", False),
            ("", "port1", False),
        ]:
            with self.subTest(short=short, long=long):
                self.assertEqual(short_form(short, long), fits)

    def test_evidence_decides(self):
        known = [("port1", ["uplink", "02:00:00:00:00:01"]), ("port10", []), ("pool10", [])]
        for name, found in [
            ("port1", "port1"), ("PORT1", "port1"), ("Uplink", "port1"), ("02:00:00:00:00:01", "port1"),
            ("por10", "port10"), ("p1", "port1"), ("po10", None), ("port2", None), ("port", None),
        ]:  # fmt: skip
            with self.subTest(name):
                self.assertEqual(match_port(name, known), found)

    def test_a_port_that_was_not_read_is_no_short_form_of_another(self):
        """As there are others of its very words, or as coverage says that some were not read."""
        self.assertEqual(match_port("t1", [("till1", [])]), "till1")
        self.assertIsNone(match_port("t1", [("t2", []), ("till1", [])]))
        lost = Change("ports", {"device": "loft", "port": "t1"}, {}, True)
        unread = Change("coverage", {"device": "loft", "table": "ports"}, {"complete": "no"})
        for changes, port in (([lost, unread], "t1"), ([lost], "till1")):
            (link,) = [one for one in Network(apply_changes(yard(style="own"), changes)).links if "loft" in str(one)]
            self.assertIn(End("loft", port), (link.a, link.b))

    @given(st.text("abcxyz", min_size=1, max_size=8), st.integers(0, 99), st.integers(0, 99), st.data())
    def test_a_beginning_with_the_same_numbers_fits(self, word, one, two, data):
        cut = data.draw(st.integers(1, len(word)))
        self.assertTrue(short_form(f"{word[:cut]}{one}/{two}", f"{word}{one}/{two}"))
        self.assertFalse(short_form(f"{word[:cut]}{one}/{two}", f"{word}{one}/{two + 1}"))


class Blocks(unittest.TestCase):
    @given(st.lists(st.tuples(st.integers(0, 2**4 - 1), st.integers(26, 32)), min_size=2, max_size=2), st.booleans())
    def test_a_block_meets_and_holds_what_the_prefix_overlaps_and_contains(self, pair, six):
        ips = [ip_address(f"fd00::{n}" if six else f"10.0.0.{n * 16}") for n, _ in pair]
        one, two = (f"{ip}/{length + 96 * six}" for ip, (_, length) in zip(ips, pair, strict=True))
        prefix = ip_network(one, strict=False)
        self.assertEqual(Block.of(one).meets(Block.of(two)), prefix.overlaps(ip_network(two, strict=False)))
        self.assertEqual(Block.of(one).holds(int(ips[1]), ips[1].max_prefixlen), ips[1] in prefix)
        self.assertFalse(Block.of(one).meets(Block.of("10.0.0.0/1" if six else "::/1")))


if __name__ == "__main__":
    unittest.main()
