"""SNMP messages as octets, and values as lines of a walk: laws that hold for anything that may arrive."""

import unittest
from contextlib import suppress

from hypothesis import example, given
from hypothesis import strategies as st

from crossthread.live.snmp import messages
from crossthread.live.snmp.messages import Entry, MessageError, encode_entry, encode_message, read_message
from crossthread.live.snmp.walk_text import dotted, line_of, oid
from crossthread.sources.snmp.walk import Walk

OIDS = st.builds(
    lambda first, rest: (*first, *rest),
    st.sampled_from([(1, 3), (1, 0), (0, 39), (2, 999)]),
    st.lists(st.integers(0, 2**32 - 1), min_size=1, max_size=20).map(tuple),
)
ENTRIES = st.lists(
    st.builds(Entry, OIDS, st.sampled_from([2, 4, 5, 6, 0x40, 0x41, 0x46, 0x82]), st.binary()), max_size=9
)
KINDS = st.sampled_from([messages.GET, messages.GET_NEXT, messages.GET_BULK, messages.RESPONSE])


class Messages(unittest.TestCase):
    @given(st.binary(), KINDS, st.integers(-(2**31), 2**31 - 1), st.integers(0, 9), st.integers(0, 999), ENTRIES)
    def test_what_is_written_is_read(self, community, kind, number, status, position, entries):
        data = encode_message(community, kind, number, status, position, b"".join(encode_entry(*e) for e in entries))
        self.assertEqual(read_message(data), (community, kind, number, status, position, entries))

    @given(st.binary(max_size=60), ENTRIES, st.data())
    @example(b"0\x84\xff\xff\xff\xff", [], None)
    def test_other_octets_are_no_message_and_nothing_worse(self, octets, entries, data):
        with suppress(MessageError):
            read_message(octets)
        whole = encode_message(b"public", messages.RESPONSE, 7, 0, 0, b"".join(encode_entry(*e) for e in entries))
        at = 3 if data is None else data.draw(st.integers(0, len(whole) - 1))
        with suppress(MessageError):
            read_message(whole[:at] + octets + whole[at + 1 :])
        with self.assertRaises(MessageError):
            read_message(whole[:at])

    def test_a_long_number_is_none(self):
        with self.assertRaises(MessageError):
            messages.read_identifier(b"\x2b" + b"\xff" * 9 + b"\x01")
        with self.assertRaises(MessageError):
            messages.read_identifier(b"\x2b\x81")


class Lines(unittest.TestCase):
    @given(OIDS, st.integers(0, 255), st.binary())
    def test_one_value_is_one_line_that_steers_nothing(self, identifier, tag, octets):
        line = line_of(Entry(identifier, tag, octets))
        self.assertTrue(line.isprintable() and line.isascii(), line)
        self.assertEqual(oid(line.partition(" = ")[0]), identifier)

    @given(st.lists(st.binary(), min_size=1, max_size=5))
    def test_octets_come_back_through_the_reader_of_walks(self, values):
        column = "1.3.6.1.2.1.31.1.1.1.18"
        entries = [Entry((*oid(column), at), messages.OCTETS, value) for at, value in enumerate(values, 1)]
        walk = Walk("\n".join(map(line_of, entries)), [column])
        self.assertEqual(walk.octets(column), {(at,): value for at, value in enumerate(values, 1)})

    @given(st.integers(-(2**63), 2**63 - 1))
    def test_numbers_come_back_through_the_reader_of_walks(self, value):
        column = "1.3.6.1.2.1.2.2.1.4"
        line = line_of(Entry((*oid(column), 1), messages.INTEGER, messages.integer_octets(value)))
        self.assertEqual(Walk(line, [column]).numbers(column), {(1,): value})

    def test_the_other_kinds(self):
        for tag, octets, said in (
            (messages.COUNTER64, b"\0" + b"\xff" * 8, "Counter64: 18446744073709551615"),
            (messages.IP_ADDRESS, bytes((10, 61, 10, 1)), "IpAddress: 10.61.10.1"),
            (messages.IDENTIFIER, messages.identifier_octets(oid("1.3.6.1")), "OID: .1.3.6.1"),
            (messages.IDENTIFIER, b"\xff", "Hex-STRING: FF"),
            (messages.COUNTER, b"\1" * 5000, "Hex-STRING: " + " ".join(["01"] * 5000)),
            (messages.OCTETS, b'say "aye"', "Hex-STRING: 73 61 79 20 22 61 79 65 22"),
        ):
            self.assertEqual(line_of(Entry((1, 3, 6), tag, octets)), f".1.3.6 = {said}")
        self.assertEqual(dotted((1, 3, 6)), "1.3.6")


if __name__ == "__main__":
    unittest.main()
