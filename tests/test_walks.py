"""SNMP walks of real switches, against counts made in another way; and damage of every kind."""

import gzip
import random
import re
import tempfile
import unittest
from pathlib import Path

from hypothesis import given, settings
from hypothesis import strategies as st

from crossthread import Network, UnreadableError, check, map_network
from crossthread.sources.documents import recognise
from crossthread.sources.gathering import gather
from crossthread.sources.snmp.cabling import BY_TREE
from crossthread.sources.snmp.device import read_walk
from crossthread.sources.snmp.mib import COLUMNS
from crossthread.sources.snmp.walk import Walk
from crossthread.survey.records import MacEntry, Neighbor, Port, Tree, TreePort, Vlan
from tests.building import DATA

WALKS = {path.name[:8]: gzip.decompress(path.read_bytes()).decode() for path in sorted((DATA / "walks").iterdir())}
MADE = {path.stem: path.read_text() for path in (DATA / "made").iterdir()}
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
            found = [row for row in self.rows(name, Neighbor) if row.protocol != BY_TREE]
            self.assertEqual(len(found), len(heard), name)
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


class Region(unittest.TestCase):
    """A bridge of a region with two trees, one port of which is half duplex and one forbidden for a VLAN."""

    def rows(self, kind, text=MADE["region"]):
        return [row for row in read_walk(text, "", "walk") if isinstance(row, kind)]

    def test_each_instance_has_its_vlans_its_root_and_the_parts_of_the_ports(self):
        common, second = self.rows(Tree)
        self.assertEqual(
            [(t.instance, t.protocol, t.region, t.root_priority, t.root_cost, t.root_port) for t in (common, second)],
            [(0, "mstp", "basin", 4096, 20000, "p7"), (2, "mstp", "basin", 8192, 200, "p7")],
        )
        self.assertEqual((str(common.vlans), str(second.vlans)), ("1-19 21-4094", "20"))
        self.assertEqual((second.priority, second.root_address), (24576, "02:00:00:00:00:09"))
        self.assertEqual(
            [(p.instance, p.port, p.role, p.state, p.cost, p.guard) for p in self.rows(TreePort)],
            [(0, "p7", "root", "forwarding", None, None), (0, "p8", "alternate", "discarding", None, "root"),
             (2, "p7", "root", "forwarding", 200, None), (2, "p8", "disabled", None, None, "root")],
        )  # fmt: skip

    def test_a_bridge_that_runs_one_tree_tells_no_instances(self):
        one = MADE["region"].replace(".17.2.16.0 = INTEGER: 3", ".17.2.16.0 = INTEGER: 2")
        self.assertEqual([(t.instance, t.protocol, t.region) for t in self.rows(Tree, one)], [(0, "rstp", None)])

    def test_instances_without_their_vlans_are_of_unknown_ones(self):
        unmapped = "\n".join(line for line in MADE["region"].split("\n") if ".802.1.1.6.1.6." not in line)
        self.assertEqual([t.vlans for t in self.rows(Tree, unmapped)], [None, None])

    def test_what_ports_forbid_filter_run_at_and_for_how_long_they_counted(self):
        first, second = self.rows(Port)
        self.assertEqual((first.duplex, first.capable_speed, second.duplex), ("half", 1000, None))
        self.assertEqual((first.ingress_filter, second.ingress_filter), ("no", "yes"))
        self.assertEqual((first.forbidden, str(second.forbidden)), (None, "20"))
        self.assertEqual((first.counted_for, second.counted_for), (544_320, None))


class Six(unittest.TestCase):
    """What tables new and old say of IPv6 as it is used: with link-local addresses at both ends of a route."""

    def told(self, text):
        rows = read_walk(MADE["zoned"] + text, "crane", "walk")
        return {kind: [row for row in rows if type(row).__name__ == kind] for kind in ("Gateway", "Route", "ArpEntry")}

    def test_link_local_addresses_are_told_where_ipv6_is_routed_and_are_next_hops(self):
        for text, discards in ((MADE["newer"], []), (MADE["first"], [("fd09:a::1/128", "", "blackhole")])):
            told = self.told(text)
            self.assertEqual(
                [(g.interface, g.address) for g in told["Gateway"]], [("e7", "fd09:a::1/64"), ("e7", "fe80::1/64")]
            )
            self.assertEqual(
                [(r.prefix, r.next_hop or "", r.kind) for r in told["Route"]], [("::/0", "fe80::9", None), *discards]
            )
            self.assertEqual((told["Route"][0].interface, told["Route"][0].origin), ("e7", "static"))
            self.assertEqual(
                [(a.interface, a.address, a.mac) for a in told["ArpEntry"]], [("e7", "fe80::9", "02:00:00:00:00:09")]
            )

    def test_the_first_tables_are_read_only_where_there_are_no_newer_ones(self):
        told = self.told(MADE["newer"] + MADE["first"])
        self.assertEqual([len(told[kind]) for kind in ("Gateway", "Route", "ArpEntry")], [2, 1, 1])

    def test_the_chassis_and_the_members_of_a_bundle_say_who_they_are(self):
        rows = read_walk(MADE["zoned"], "crane", "walk")
        self.assertEqual((rows[0].serial, rows[0].discovery_interval), ("SN-0042", 30))
        ports = {row.port: row for row in rows if isinstance(row, Port)}
        self.assertEqual((ports["e7"].lag, ports["e7"].lag_partner), ("e8", "02:00:00:00:00:09"))
        self.assertIsNone(ports["e8"].lag_partner)


class Newer(unittest.TestCase):
    def test_addresses_routes_and_announcements_of_the_newer_tables(self):
        rows = read_walk(MADE["both"], "sw", "x")
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


def lines(**columns):
    """A walk of some columns by the names that the reader has for them: `{"index": value}` each."""
    found = []
    for name, entries in columns.items():
        for index, value in entries.items():
            kind = "INTEGER: " if isinstance(value, int) else ""
            found.append(f".{COLUMNS[name]}.{index} = {kind}{value}")
    return "\n".join(found) + "\n"


BASE = {"if_name": {7: 'STRING: "p7"', 8: 'STRING: "p8"'}, "if_type": {7: 6, 8: 6}, "base_port": {1: 7, 2: 8}}


class Filled(unittest.TestCase):
    """What real devices fill in, one thing each."""

    def rows(self, kind, **columns):
        merged = {name: {**BASE.get(name, {}), **columns.get(name, {})} for name in {**BASE, **columns}}
        return [row for row in read_walk(lines(**merged), "sw", "x") if type(row).__name__ == kind]

    def test_the_device_itself(self):
        (device,) = self.rows(
            "Device", location={0: 'STRING: "cellar"'}, lldp_management={"1.4.10.0.0.9": 5},
            entity_class={1: 3, 2: 9}, entity_model={1: 'STRING: "B-8"', 2: 'STRING: "module"'},
            entity_software={2: 'STRING: "2.1"'},
        )  # fmt: skip
        self.assertEqual(
            (device.site, device.management, device.platform, device.software), ("cellar", "10.0.0.9", "B-8", "2.1")
        )

    def test_a_spanning_tree_tells_cables_where_nobody_announces_itself(self):
        """The far end is told by the bridge and its port's number, which is not the number of its interface."""
        near, far = bytes.fromhex("020000000a01"), bytes.fromhex("020000000b01")

        def text(value):
            return f"Hex-STRING: {value.hex(' ')}"

        def walk(name, own, root_port, designated, states, **more):
            columns = {
                **BASE, "name": {0: f'STRING: "{name}"'}, "bridge_address": {0: text(own)},
                "stp_root": {0: text(b"\x80\0" + far)}, "stp_root_port": {0: root_port},
                "port_state": dict(zip((1, 2), states, strict=True)),
                "port_designated": {1: text(b"\x80\0" + designated), 2: text(b"\x80\0" + designated)},
                "port_designated_port": {1: text(b"\x80\x02"), 2: text(b"\x80\x01")}, **more,
            }  # fmt: skip
            return lines(**columns)

        root = walk("attic", far, 0, far, (5, 5))
        for states, root_port, told in (
            ((5, 2), 1, {("p7", "p8"), ("p8", "p7")}),  # the root port and one that is closed
            ((5, 1), 1, {("p7", "p8")}),  # a port without a link tells of nobody
            ((5, 5), 0, set()),  # nor does one that takes itself for the designated one
        ):
            with tempfile.TemporaryDirectory() as folder:
                leaf = walk("cellar", near, root_port, far if root_port else near, states)
                for name, found in (("attic", root), ("cellar", leaf)):
                    (Path(folder) / f"{name}.walk").write_text(found)
                survey = gather([folder]).survey
            self.assertEqual({(row.port, row.neighbor_port) for row in survey.neighbors}, told)
            self.assertLessEqual(
                {(row.device, row.neighbor, row.protocol) for row in survey.neighbors}, {("cellar", "attic", "stp")}
            )
            network = Network(survey)
            self.assertEqual(
                {(link.a.port, link.b.port) for link in map_network(network).links}, {(b, a) for a, b in told}
            )
            self.assertNotIn("neighbor-one-way", [finding.rule for finding in check(network).findings])
            self.assertEqual({row.complete for row in survey.coverage if row.table == "neighbors"}, {"no"})

    def test_ports(self):
        one, two = self.rows(
            "Port", authorized={7: 2, 8: 1}, lldp_admin={7: 1, 8: 4},
            lldp_port_id={7: 'STRING: "p7"', 8: 'STRING: "p8"'},
            pvid={1: 10}, port_frames={1: 2}, vlan_egress={"0.10": "Hex-STRING: C0", "0.20": "Hex-STRING: 40"},
            vlan_untagged={"0.10": "Hex-STRING: 80"}, lag_attached={7: 8}, lag_state={7: "Hex-STRING: BC"},
        )  # fmt: skip
        self.assertEqual((one.authorized, two.authorized), ("no", "yes"))
        self.assertEqual((one.discovery, two.discovery), ("send", "off"))
        self.assertEqual((one.mode, one.pvid, one.frames), ("access", 10, "tagged"))
        self.assertEqual((two.mode, two.pvid, str(two.allowed)), ("hybrid", None, "10 20"))
        self.assertEqual((one.lag, one.lag_state), ("p8", "attached"))
        apart = self.rows("Port", lag_attached={7: 8}, lag_state={7: "Hex-STRING: 44"})
        self.assertEqual(apart[0].lag_state, "detached")
        odd = self.rows("Port", lag_attached={7: 8}, lag_state={7: 'STRING: "11"'})
        self.assertIsNone(odd[0].lag_state)

    def test_port_lists_as_bits_and_as_numbers(self):
        wide = {"base_port": {n: n + 6 for n in range(1, 9)}}
        wide["if_name"] = {n + 6: f'STRING: "p{n + 6}"' for n in range(1, 9)}
        numbers = {"p7": "10", "p8": "10 20", "p9": "20", "p10": "20", "p11": "20", "p14": "20"}
        for lists, told in (
            ({"0.10": 'STRING: "1,2"', "0.20": 'STRING: "2-5, 8"'}, numbers),
            ({"0.10": 'STRING: "1,2"', "0.20": 'STRING: "2-5,99"'}, {}),  # 99 is no port of this bridge
            ({"0.10": 'STRING: "0"'}, {"p9": "10", "p10": "10"}),  # too little to be no bits
        ):
            with self.subTest(lists):
                found = self.rows("Port", vlan_egress=lists, **wide)
                self.assertEqual({row.port: str(row.allowed) for row in found if row.allowed is not None}, told)

    def test_roles_by_the_designated_bridge(self):
        own, far = "80 00 02 00 00 00 00 0A", "80 00 02 00 00 00 00 01"
        ports = self.rows(
            "TreePort", bridge_address={0: "Hex-STRING: " + own[6:]}, stp_root={0: "Hex-STRING: " + far},
            stp_root_port={0: 1}, port_state={1: 5, 2: 2, 3: 5, 4: 2, 5: 1}, base_port={3: 9, 4: 10, 5: 11},
            if_name={9: 'STRING: "p9"', 10: 'STRING: "p10"', 11: 'STRING: "p11"'}, port_enabled={3: 2},
            port_designated={2: f"Hex-STRING: {far}", 3: f"Hex-STRING: {own}", 4: f"Hex-STRING: {own}"},
        )  # fmt: skip
        self.assertEqual([row.role for row in ports], ["root", "alternate", "designated", "backup", "disabled"])
        self.assertEqual([row.bpdus for row in ports], [None, None, "drop", None, None])

    def test_addresses(self):
        gateways = self.rows(
            "Gateway", address_if={"1.4.10.0.0.1": 7, "1.4.10.0.0.255": 7, "1.4.10.0.1.1": 7},
            address_kind={"1.4.10.0.0.1": 1, "1.4.10.0.0.255": 3},
            address_prefix={"1.4.10.0.0.1": "OID: .1.3.6.1.2.1.4.32.1.5.7.1.4.10.0.0.0.24", "1.4.10.0.1.1": "OID: .0.0",
                            "1.4.10.0.0.255": "OID: .1.3.6.1.2.1.4.32.1.5.7.1.4.10.0.0.0.24"},
            vrrp_address={"7.5.10.0.0.254": 1}, vrrp_state={"7.5": 2},
        )  # fmt: skip
        self.assertEqual(
            [(g.address, g.virtual, g.virtual_state) for g in gateways], [("10.0.0.1/24", "10.0.0.254", "backup")]
        )
        newer = self.rows(
            "Gateway",
            address_if={"1.4.10.0.0.1": 7},
            address_prefix={"1.4.10.0.0.1": "OID: .1.3.6.1.2.1.4.32.1.5.7.1.4.10.0.0.0.24"},
            vrrp3_address={"7.5.1.4.10.0.0.253": 1},
            vrrp3_state={"7.5.1": 3},
        )
        self.assertEqual([(g.virtual, g.virtual_state) for g in newer], [("10.0.0.253", "master")])

    def test_a_tagged_interface_stands_on_its_port(self):
        text = lines(
            if_name={1: 'STRING: "e1"', 30: 'STRING: "e1.30"'},
            if_type={1: 6, 30: 135},
            if_stack={"30.1": 1, "0.30": 1},
            ip_index={"10.0.30.1": 30},
            ip_mask={"10.0.30.1": "IpAddress: 255.255.255.0"},
        )
        (gateway,) = [row for row in read_walk(text, "rt", "x") if type(row).__name__ == "Gateway"]
        self.assertEqual((gateway.interface, gateway.vid, gateway.port, gateway.untagged), ("e1.30", 30, "e1", "no"))

    def test_routes_of_all_three_tables(self):
        old = self.rows(
            "Route", old_route_if={"10.9.0.0": 7, "10.8.0.0": 7}, old_route_hop={"10.9.0.0": "IpAddress: 10.0.0.2"},
            old_route_type={"10.9.0.0": 4, "10.8.0.0": 3}, old_route_protocol={"10.9.0.0": 3},
            old_route_mask={"10.9.0.0": "IpAddress: 255.255.0.0", "10.8.0.0": "IpAddress: 255.255.0.0"},
        )  # fmt: skip
        self.assertEqual([(r.prefix, r.next_hop, r.origin) for r in old], [("10.9.0.0/16", "10.0.0.2", "static")])
        local = "1.4.10.9.0.0.16.2.0.0.1.4.10.0.0.2"
        black = "1.4.10.7.0.0.16.2.0.0.1.4.0.0.0.0"
        newer = self.rows(
            "Route",
            inet_route_if={local: 7, black: 7},
            inet_route_protocol={local: 2, black: 3},
            inet_route_type={local: 4, black: 5},
        )
        self.assertEqual(
            {(r.prefix, r.next_hop, r.kind) for r in newer},
            {("10.9.0.0/16", "10.0.0.2", None), ("10.7.0.0/16", None, "blackhole")},
        )

    def test_a_neighbour_that_is_managed_by_ipv6(self):
        (heard,) = self.rows(
            "Neighbor",
            rem_chassis={"0.1.1": 'STRING: "far"'},
            rem_chassis_kind={"0.1.1": 7},
            rem_management={"0.1.1.2.16.253.0" + ".0" * 13 + ".9": 1},
        )
        self.assertEqual(heard.management, "fd00::9")


class Text(unittest.TestCase):
    def test_identifiers_that_begin_with_iso_and_those_that_are_names(self):
        text = 'iso.3.6.1.2.1.1.5.0 = STRING: "quay"\niso.3.6.1.2.1.31.1.1.1.1.7 = STRING: "p7"\n'
        self.assertEqual(recognise(text.encode())[0], "walk")
        self.assertEqual(read_walk(text, "x", "x")[0].device, "quay")
        with self.assertRaisesRegex(UnreadableError, "numeric identifiers"):
            recognise(b"SNMPv2-MIB::sysName.0 = STRING: quay\n")

    def test_walks_of_one_devices_subtrees_join(self):
        with tempfile.TemporaryDirectory() as holder:
            folder = Path(holder) / "quay"
            folder.mkdir()
            (folder / "system.walk").write_text('.1.3.6.1.2.1.1.5.0 = STRING: "quay"\n')
            (folder / "if.walk").write_text(lines(if_name={7: 'STRING: "p7"'}, if_type={7: 6}))
            found = gather([folder])
        self.assertEqual([(row.device, row.port) for row in found.survey.ports], [("quay", "p7")])
        self.assertEqual({entry.kind for entry in found.files}, {"walk"})

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
