"""SNMP walks of real switches, against counts made in another way; and damage of every kind."""

import gzip
import random
import re
import unittest

from hypothesis import given, settings
from hypothesis import strategies as st

from crossthread.sources.documents import recognise
from crossthread.sources.gathering import gather
from crossthread.sources.snmp.device import read_walk
from crossthread.sources.snmp.walk import Walk
from crossthread.survey.records import MacEntry, Neighbor, Port, Tree, TreePort, Vlan
from tests.building import DATA

WALKS = {path.name[:8]: gzip.decompress(path.read_bytes()).decode() for path in sorted((DATA / "walks").iterdir())}
BRIDGE = r"\.1\.3\.6\.1\.2\.1\.17"


def counted(text, pattern):
    """An independent count: the lines that a regular expression finds, by their last number and value."""
    return {int(m[1]): m[2] for m in re.finditer(rf"(?m)^{pattern}\.(\d+) = (.*)$", text)}


def bits(value, ports):
    """How many of the first `ports` bits of a printed port list are set."""
    digits = re.sub(r"[^0-9A-F]", "", value.partition(":")[2]) if value.startswith("Hex") else ""
    if value.startswith("STRING"):
        digits = value[9:-1].encode().hex()
    number = int(digits or "0", 16) >> max(0, 4 * len(digits) - ports)
    return number.bit_count()


class RealWalks(unittest.TestCase):
    def rows(self, name, kind):
        return [row for row in read_walk(WALKS[name], "x", name) if isinstance(row, kind)]

    def test_there_are_five(self):
        self.assertEqual(len(WALKS), 5)

    def test_ports(self):
        for name, text in WALKS.items():
            base = counted(text, rf"{BRIDGE}\.1\.4\.1\.2")
            kinds = counted(text, r"\.1\.3\.6\.1\.2\.1\.2\.2\.1\.3")
            ethernet = {index for index, kind in kinds.items() if kind.split()[-1] in ("6", "62", "69", "117", "161")}
            wanted = ethernet | {int(value.split()[-1]) for value in base.values()}
            found = self.rows(name, Port)
            self.assertEqual(len(found), len(wanted & kinds.keys()), name)
            self.assertEqual(len({row.key for row in found}), len(found))
            up = [
                i
                for i, v in counted(text, r"\.1\.3\.6\.1\.2\.1\.2\.2\.1\.8").items()
                if i in wanted and v == "INTEGER: 1"
            ]
            self.assertEqual(sum(row.oper == "up" for row in found), len(up))

    def test_vlans_and_members(self):
        for name, text in WALKS.items():
            current = counted(text, rf"{BRIDGE}\.7\.1\.4\.2\.1\.4\.\d+")
            static = counted(text, rf"{BRIDGE}\.7\.1\.4\.3\.1\.2")
            self.assertEqual({row.vid for row in self.rows(name, Vlan)}, current.keys() | static.keys(), name)
            if name in ("switch-b", "switch-e"):  # lists no bridge ports; tells no members
                self.assertEqual({row.mode for row in self.rows(name, Port)}, {None})
                continue
            ports = len(counted(text, rf"{BRIDGE}\.1\.4\.1\.2"))
            for vid, value in (current or static).items():
                members = [row for row in self.rows(name, Port) if self.carries(row, vid)]
                self.assertEqual(len(members), bits(value, ports), (name, vid))

    def carries(self, row, vid):
        return row.pvid == vid if row.mode == "access" else row.allowed is not None and vid in row.allowed

    def test_spanning_tree(self):
        for name, text in WALKS.items():
            states = counted(text, rf"{BRIDGE}\.2\.15\.1\.3")
            found = self.rows(name, TreePort)
            self.assertEqual((len(found), len(self.rows(name, Tree))), (len(states), bool(states)), name)
            for number, words in ((5, ["forwarding"]), (2, ["discarding"]), (1, [None])):
                listed = [v for v in states.values() if v == f"INTEGER: {number}"]
                self.assertEqual(len([r for r in found if r.state in words]), len(listed), (name, number))

    def test_neighbours_and_stations(self):
        for name, text in WALKS.items():
            heard = re.findall(r"(?m)^\.1\.0\.8802\.1\.1\.2\.1\.4\.1\.1\.5\.", text)
            self.assertEqual(len(self.rows(name, Neighbor)), len(heard), name)
            table = r"7\.1\.2\.2\.1" if ".1.3.6.1.2.1.17.7.1.2.2.1.3" in text else r"4\.3\.1"
            known = set(re.findall(rf"(?m)^{BRIDGE}\.{table}\.3\.(.*) = INTEGER: [345]$", text))
            placed = set(re.findall(rf"(?m)^{BRIDGE}\.{table}\.2\.(.*) = INTEGER", text))
            self.assertEqual(len(self.rows(name, MacEntry)), len(known & placed), name)

    def test_what_one_switch_says(self):
        (device,) = [row for row in read_walk(WALKS["switch-c"], "x", "c") if type(row).__name__ == "Device"]
        self.assertEqual((device.device, device.routing, device.chassis), ("switch-c", "yes", "02:fb:25:e2:f9:3e"))
        gateways = [row for row in read_walk(WALKS["switch-c"], "x", "c") if type(row).__name__ == "Gateway"]
        self.assertIn(
            ("Vlan109", "10.25.174.1/27", 109, "up"), [(g.interface, g.address, g.vid, g.oper) for g in gateways]
        )
        (route,) = [row for row in read_walk(WALKS["switch-c"], "x", "c") if type(row).__name__ == "Route"]
        self.assertEqual((route.prefix, route.next_hop, route.origin), ("0.0.0.0/0", "10.59.122.1", "static"))
        third = next(row for row in self.rows("switch-a", Neighbor) if row.neighbor)
        self.assertEqual((third.port, third.neighbor_port, third.management), ("17", "Eth1/19", "10.62.0.19"))


class Newer(unittest.TestCase):
    def test_addresses_routes_and_announcements_of_the_newer_tables(self):
        six = "32.1.13.184" + ".0" * 11 + ".1"
        text = f"""
.1.3.6.1.2.1.31.1.1.1.1.7 = STRING: "p7"
.1.3.6.1.2.1.17.1.4.1.2.3 = INTEGER: 7
.1.3.6.1.2.1.4.34.1.3.1.4.10.0.0.1 = INTEGER: 7
.1.3.6.1.2.1.4.34.1.5.1.4.10.0.0.1 = OID: .1.3.6.1.2.1.4.32.1.5.7.1.4.10.0.0.0.24
.1.3.6.1.2.1.4.34.1.3.2.16.{six} = INTEGER: 7
.1.3.6.1.2.1.4.34.1.5.2.16.{six} = OID: .1.3.6.1.2.1.4.32.1.5.7.2.16.{six}.64
.1.3.6.1.2.1.4.35.1.4.7.1.4.10.0.0.9 = Hex-STRING: 02 00 00 00 00 09
.1.3.6.1.2.1.4.24.7.1.7.1.4.10.9.0.0.16.2.0.0.1.4.10.0.0.2 = INTEGER: 7
.1.3.6.1.2.1.4.24.7.1.9.1.4.10.9.0.0.16.2.0.0.1.4.10.0.0.2 = INTEGER: 3
.1.0.8802.1.1.2.1.3.7.1.3.5 = STRING: "p7"
.1.0.8802.1.1.2.1.4.1.1.4.0.5.1 = INTEGER: 7
.1.0.8802.1.1.2.1.4.1.1.5.0.5.1 = STRING: "far"
.1.0.8802.1.1.2.1.5.32962.1.3.1.1.1.0.5.1 = INTEGER: 30
.1.0.8802.1.1.2.1.5.4623.1.3.4.1.1.0.5.1 = INTEGER: 1522
.1.0.8802.1.1.2.1.5.4623.1.3.3.1.1.0.5.1 = Hex-STRING: C0
.1.0.8802.1.1.2.1.5.4623.1.3.3.1.2.0.5.1 = INTEGER: 12
"""
        rows = read_walk(text, "sw", "x")
        by_kind = {type(row).__name__: [r for r in rows if type(r) is type(row)] for row in rows}
        self.assertEqual([g.address for g in by_kind["Gateway"]], ["10.0.0.1/24", "2001:db8::1/64"])
        self.assertEqual(
            [(a.interface, a.address, a.mac) for a in by_kind["ArpEntry"]], [("p7", "10.0.0.9", "02:00:00:00:00:09")]
        )
        self.assertEqual(
            [(r.prefix, r.next_hop, r.origin) for r in by_kind["Route"]], [("10.9.0.0/16", "10.0.0.2", "static")]
        )
        (heard,) = by_kind["Neighbor"]
        self.assertEqual((heard.port, heard.pvid, heard.mtu, heard.lag), ("p7", 30, 1504, "12"))


class Text(unittest.TestCase):
    def test_wrapped_hex_lines_and_text_over_lines(self):
        text = '.1.3.1.0 = STRING: "two\nlines"\n1.3.2.0 = Hex-STRING: 01 02\n03 04 \n.1.3.3.0 = ""\n'
        text += ".1.3.4.0 = INTEGER: up(1)\n"
        walk = Walk(text, ["1.3.1", "1.3.2", "1.3.3", "1.3.4"])
        self.assertEqual(walk.texts("1.3.1"), {(0,): "two\nlines"})
        self.assertEqual(walk.octets("1.3.2"), {(0,): b"\x01\x02\x03\x04"})
        self.assertEqual((walk.texts("1.3.3"), walk.numbers("1.3.4")), ({(0,): ""}, {(0,): 1}))

    def test_recognised_with_and_without_the_leading_dot(self):
        for text in (WALKS["switch-a"][:2000], WALKS["switch-a"][1:2000]):
            self.assertEqual(recognise(text.encode())[0], "walk")

    def test_a_column_without_an_index_is_no_entry(self):
        rows = read_walk(".1.3.6.1.2.1.2.2.1.3 = INTEGER: 6\n", "x", "x")
        self.assertEqual({type(row).TABLE for row in rows}, {"devices", "coverage"})
        self.assertEqual({row.complete for row in rows if type(row).TABLE == "coverage"}, {"no"})

    @settings(max_examples=30, deadline=None)
    @given(st.integers(0, 2**32))
    def test_mutations_raise_nothing(self, seed):
        chance = random.Random(seed)
        lines = WALKS[chance.choice(sorted(WALKS))].split("\n")
        chance.shuffle(lines)
        data = bytearray("\n".join(lines[:1500]).encode())
        for _ in range(chance.randint(1, 3000)):
            data[chance.randrange(len(data))] = chance.choice(b'0123456789. =:-ABC"\n')
        read_walk(data.decode("utf-8", "surrogateescape"), "x", "x")


class Gathered(unittest.TestCase):
    def test_five_walks_make_one_survey(self):
        found = gather([DATA / "walks"])
        self.assertEqual([row.device for row in found.survey.devices], [f"switch-{letter}" for letter in "abcde"])
        self.assertEqual((found.differences, {entry.kind for entry in found.files}), ((), {"walk"}))


if __name__ == "__main__":
    unittest.main()
