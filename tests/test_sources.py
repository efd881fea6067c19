"""Open formats: frames that real switches sent, listings of real devices, damage of every kind, merging."""

import gzip
import io
import json
import os
import random
import struct
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

from hypothesis import given, settings
from hypothesis import strategies as st

from crossthread import Network, map_network, matrix, read_survey, write_survey
from crossthread.sources.documents import UnreadableError, recognise
from crossthread.sources.frames import bpdu, capture, lldp
from crossthread.sources.gathering import gather
from crossthread.survey import Survey
from crossthread.survey.records import Device, Port
from tests.building import DATA

RAW = DATA / "raw" / "case-0009"
CAPTURES = sorted(RAW.rglob("*.pcap"))
TEXT = st.text(st.characters(min_codepoint=33, max_codepoint=126), min_size=1, max_size=40)
VIDS = st.integers(0, 4095)
NAMES = st.sampled_from(lldp.CAPABILITIES[:8])
WORDS = st.sets(NAMES, max_size=4).map(lambda found: tuple(sorted(found, key=lldp.CAPABILITIES.index)))
UNITS = st.builds(
    lldp.Lldpdu,
    chassis_subtype=st.sampled_from([1, 2, 6, 7]),
    chassis=TEXT.filter(lambda text: not text.startswith("0x")),
    port_subtype=st.sampled_from([1, 5, 7]),
    port=TEXT.filter(lambda text: not text.startswith("0x")),
    ttl=st.integers(0, 65535),
    port_description=st.none() | TEXT,
    name=st.none() | TEXT,
    description=st.none() | TEXT,
    capable=WORDS,
    enabled=WORDS,
    management=st.lists(st.ip_addresses().map(str), max_size=2).map(tuple),
    pvid=st.none() | VIDS,
    protocol_vlans=st.lists(st.tuples(st.integers(0, 7), VIDS), max_size=2).map(tuple),
    vlan_names=st.lists(st.tuples(VIDS, TEXT), max_size=2).map(tuple),
    aggregate=st.none() | st.integers(0, 2**32 - 1),
    negotiation=st.none() | st.tuples(st.integers(0, 3), st.integers(0, 65535), st.integers(0, 65535)),
    frame_size=st.none() | st.integers(0, 65535),
    policies=st.lists(
        st.builds(lldp.Policy, st.integers(1, 8), st.booleans(), VIDS, st.integers(0, 7), st.integers(0, 63)),
        max_size=2,
    ).map(tuple),
    inventory=st.lists(st.tuples(st.sampled_from(["hardware", "serial", "model"]), TEXT), max_size=2).map(tuple),
    unknown=st.lists(st.tuples(st.integers(9, 126), st.binary(max_size=9)), max_size=2).map(tuple),
)
HEAD = b"\x01\x80\xc2\x00\x00\x0e" + b"\x02\x00\x00\x00\x00\x01"


def pcap(*frames, link=1):
    head = struct.pack("<IHHiIII", 0xA1B2C3D4, 2, 4, 0, 0, 65535, link)
    parts = [struct.pack("<IIII", n, 0, len(frame), len(frame)) + frame for n, frame in enumerate(frames)]
    return head + b"".join(parts)


def announced(**cells):
    unit = lldp.Lldpdu(**{"chassis_subtype": 7, "chassis": "c", "port_subtype": 5, "port": "p1", "ttl": 120, **cells})
    return HEAD + b"\x88\xcc" + lldp.encode(unit)


class Frames(unittest.TestCase):
    @settings(max_examples=200, deadline=None)
    @given(UNITS)
    def test_what_is_encoded_decodes(self, unit):
        self.assertEqual(lldp.decode(lldp.encode(unit)), (unit, []))

    @settings(max_examples=150, deadline=None)
    @given(UNITS, st.integers(0, 2**32))
    def test_damage_is_named_and_never_more(self, unit, seed):
        chance = random.Random(seed)
        data = bytearray(lldp.encode(unit))
        for _ in range(chance.randint(1, 6)):
            data[chance.randrange(len(data))] = chance.randrange(256)
        try:
            lldp.decode(bytes(data[: chance.randint(0, len(data))]))
        except lldp.FrameError as error:
            self.assertIn("expected", str(error))

    def test_a_length_that_lies_and_what_is_still_used(self):
        good = lldp.encode(lldp.Lldpdu(4, "02:00:00:00:00:01", 5, "p1", 120, name="sw"))
        unit, problems = lldp.decode(good[:-2] + b"\x0d\xff" + b"ab")
        self.assertEqual(
            (unit.name, problems), ("sw", ["TLV of type 6 claims 511 octets, only 2 are left", "no end TLV"][:1])
        )
        unit, problems = lldp.decode(good[:-2] + b"\x0e\x01\x00\0\0")
        self.assertEqual((unit.name, problems), ("sw", ["TLV of type 7: expected four octets of capabilities"]))
        with self.assertRaises(lldp.FrameError):
            lldp.decode(b"\0\0")

    def test_captured_frames_are_what_the_daemon_says_of_them(self):
        checked = 0
        for path in CAPTURES:
            for heard in capture.read_capture(path.read_bytes()).heard:
                unit = heard.unit
                told = json.loads((RAW / str(unit.name) / "lldp-chassis.json").read_text())["local-chassis"][0][
                    "chassis"
                ][0]
                self.assertEqual(unit.chassis, told["id"][0]["value"])
                self.assertEqual(unit.name, told["name"][0]["value"])
                self.assertEqual(unit.description, told["descr"][0]["value"])
                words = {entry["type"].lower(): entry["enabled"] for entry in told["capability"]}
                self.assertEqual(set(unit.capable), set(words))
                self.assertEqual(set(unit.enabled), {word for word, on in words.items() if on})
                self.assertEqual(list(unit.management), [entry["value"] for entry in told.get("mgmt-ip", [])])
                for port in self.heard_of(unit):
                    self.assertEqual(unit.port, port["id"][0]["value"])
                    self.assertEqual(unit.port_description, port["descr"][0]["value"])
                    self.assertEqual(str(unit.ttl), port["ttl"][0]["value"])
                    checked += 1
        self.assertGreaterEqual(checked, 2)

    def heard_of(self, unit):
        """What other daemons say of the port that sent a frame."""
        for path in RAW.rglob("lldp-neighbors.json"):
            for entry in json.loads(path.read_text())["lldp"][0].get("interface", []):
                own = (entry["chassis"][0]["id"][0]["value"], entry["port"][0]["id"][0]["value"])
                if own == (unit.chassis, unit.port):
                    yield entry["port"][0]


class Bpdus(unittest.TestCase):
    RAPID = bytes.fromhex(
        "0000020 23c 1000 020000000001 00004e20 8000 020000000002 8003 0100 1400 0200 0f00 00".replace(" ", "")
    )

    def test_rapid(self):
        unit = bpdu.decode(self.RAPID)
        self.assertEqual(
            (unit.kind, unit.role, unit.root_priority, unit.root_address),
            ("rstp", "designated", 4096, "02:00:00:00:00:01"),
        )
        self.assertEqual(
            (unit.root_cost, unit.bridge_priority, unit.port, unit.max_age, unit.hello), (20000, 32768, 0x8003, 20, 2)
        )

    def test_multiple(self):
        region = b"harbour".ljust(32, b"\0") + (7).to_bytes(2, "big") + bytes(range(16))
        instance = bytes.fromhex("3c6005020000000009000007d0808013")
        body = region + (500).to_bytes(4, "big") + bytes.fromhex("800002000000000214") + instance
        data = bytearray(self.RAPID[:-1]) + b"\0" + (len(body) + 1).to_bytes(2, "big") + b"\0" + body
        data[2] = 3
        unit = bpdu.decode(bytes(data))
        self.assertEqual(
            (unit.kind, unit.region, unit.revision, unit.digest), ("mstp", "harbour", 7, bytes(range(16)).hex())
        )
        self.assertEqual(
            [(i.number, i.root_priority, i.internal_cost, i.hops) for i in unit.instances], [(5, 0x6000, 2000, 19)]
        )

    def test_others(self):
        self.assertTrue(bpdu.decode(b"\0\0\0\x80").change)
        for data in (b"", b"\0\1\0\0", b"\0\0\0\7", self.RAPID[:20]):
            with self.assertRaises(bpdu.BpduError):
                bpdu.decode(data)


class Captures(unittest.TestCase):
    def test_one_taken_at_a_desk(self):
        voice = lldp.Policy(1, True, 40, 5, 46)
        tree = b"\x01\x80\xc2\x00\x00\x00" + HEAD[6:] + b"\x00\x27" + bpdu.LLC + Bpdus.RAPID
        arp = (
            b"\xff" * 6
            + HEAD[6:]
            + b"\x81\x00\x00\x1e\x08\x06\x00\x01\x08\x00\x06\x04\x00\x01"
            + HEAD[6:]
            + bytes([10, 0, 30, 7])
            + bytes(10)
        )
        own = announced(name="sw-2", pvid=30, policies=(voice,), frame_size=1522)
        found = capture.read_capture(pcap(own, tree, arp, own, own, HEAD + b"\x88\xcc\0\0", b"short"))
        (heard,) = found.heard
        self.assertEqual((heard.count, heard.interval, heard.left, heard.unit.voice), (3, 2.0, False, 40))
        self.assertEqual((found.tagged, found.talkers), ({30: 1}, ((30, "02:00:00:00:00:01", "10.0.30.7"),)))
        self.assertEqual(found.roots[0][1].root_address, "02:00:00:00:00:01")
        self.assertEqual(sum(found.malformed.values()), 1)
        says = capture.told(found)
        self.assertIn("p1 of sw-2, VLAN 30, voice VLAN 40; root 4096/02:00:00:00:00:01 at cost 20000", says)
        self.assertIn("1 station talks in VLAN 30 (10.0.30.7)", says)
        rows = capture.read_rows(found, "desk.pcap")
        self.assertEqual([(type(r), r.device) for r in rows], [(Device, "sw-2"), (Port, "sw-2")])
        self.assertEqual((rows[1].port, rows[1].pvid, rows[1].voice, rows[1].mtu), ("p1", 30, 40, 1504))
        phone = announced(name="handset", capable=("bridge", "phone"), enabled=("bridge", "phone"), policies=(voice,))
        (told,) = (row for row in capture.read_rows(capture.read_capture(pcap(phone)), "x") if isinstance(row, Port))
        self.assertIsNone(told.voice)

    def test_several_neighbours_and_a_farewell(self):
        found = capture.read_capture(
            pcap(announced(chassis="a"), announced(chassis="b"), announced(chassis="a", ttl=0))
        )
        self.assertEqual([(h.unit.chassis, h.left) for h in found.heard], [("a", True), ("b", False)])
        self.assertEqual({row.device for row in capture.read_rows(found, "x")}, {"b"})

    def test_the_newer_format(self):
        import dpkt

        out = io.BytesIO()
        writer = dpkt.pcapng.Writer(out)
        for time in (1.0, 31.0):
            writer.writepkt(announced(name="sw"), ts=time)
        self.assertEqual(recognise(out.getvalue())[0], "capture")
        (heard,) = capture.read_capture(out.getvalue()).heard
        self.assertEqual((heard.unit.name, heard.count, round(heard.interval, 3)), ("sw", 2, 30.0))

    def test_what_is_no_capture(self):
        for data in (pcap(link=105), pcap(announced())[:20], b"\x0a\x0d\x0d\x0a" + b"\xff" * 40, b"\xa1\xb2\xc3\xd4"):
            with self.subTest(data[:8]), self.assertRaises(UnreadableError):
                capture.read_capture(data)
        whole = pcap(announced(), announced())
        self.assertEqual(len(capture.read_capture(whole[:-5]).heard), 1)

    @settings(max_examples=80, deadline=None)
    @given(st.integers(0, 2**32))
    def test_mutations_raise_nothing_else(self, seed):
        chance = random.Random(seed)
        data = bytearray(chance.choice(CAPTURES).read_bytes())
        for _ in range(chance.randint(1, 200)):
            data[chance.randrange(len(data))] = chance.randrange(256)
        try:
            capture.told(capture.read_capture(bytes(data[: chance.randint(4, len(data))])))
        except UnreadableError as error:
            self.assertIn("capture", str(error))


class Gathering(unittest.TestCase):
    def test_the_raw_listings_give_the_same_map_and_the_same_verdicts(self):
        own = read_survey(DATA / "raw" / "survey-0009")
        found = gather([RAW])
        links = [{(x.a, x.b, x.state, x.seen_from) for x in map_network(Network(s)).links} for s in (own, found.survey)]
        self.assertEqual(links[0], links[1])
        before = {(a, b): v for a, b, v in matrix(Network(own)).reaches}
        after = {(a, b): v for a, b, v in matrix(Network(found.survey)).reaches}
        self.assertEqual(before.keys(), after.keys())
        changed = {(before[pair], after[pair]) for pair in before if before[pair] != after[pair]}
        self.assertLessEqual(changed, {("works", "unknown")})  # whether a gateway does proxy ARP is in no listing
        self.assertEqual((found.differences, found.gone), ((), 0))
        self.assertTrue(all(entry.kind for entry in found.files))

    def listings(self, **files):
        """What is gathered from the listings of one device, each given as Python has it."""
        with tempfile.TemporaryDirectory() as folder:
            place = Path(folder) / "chandlery"
            place.mkdir()
            for name, entries in files.items():
                (place / f"{name.replace('_', '-')}.json").write_text(json.dumps(entries))
            return gather([place]).survey

    @staticmethod
    def link(name, number, info=None, master=None, slave=None, up=True, addresses=(), **more):
        told = {"ifname": name, "link_type": "ether", "address": f"02:00:00:00:01:{number:02x}", **more,
                "flags": ["UP", "LOWER_UP"] if up else ["NO-CARRIER", "UP"], "mtu": 1500}  # fmt: skip
        kinds = {"info_kind": info[0], "info_data": info[1]} if info else {}
        kinds |= {"info_slave_kind": slave[0], "info_slave_data": slave[1]} if slave else {}
        told |= ({"linkinfo": kinds} if kinds else {}) | ({"master": master} if master else {})
        return told | {
            "addr_info": [
                {"local": ip, "prefixlen": int(bits)} for ip, _, bits in (own.partition("/") for own in addresses)
            ]
        }

    def test_a_bond_is_a_bundle_with_its_members_as_they_are(self):
        bits = ["active", "aggregating", "in_sync", "collecting", "distributing"]
        member = {"state": "ACTIVE", "mii_status": "UP", "ad_actor_oper_port_state_str": bits}
        lone = {**member, "ad_actor_oper_port_state_str": bits[:2]}
        links = [
            self.link("e1", 1, master="bond0", slave=("bond", member)),
            self.link("e2", 2, master="bond0", slave=("bond", lone)),
            self.link("e3", 3, master="bond0", slave=("bond", {**member, "mii_status": "DOWN"}), up=False),
            self.link("bond0", 4, info=("bond", {"mode": "802.3ad"})),
            self.link("bond0.30", 5, info=("vlan", {"id": 30}), link="bond0", addresses=["10.61.30.1/24"]),
            self.link("bond1", 6, info=("bond", {"mode": "active-backup"})),
            self.link("e4", 7, master="bond1", slave=("bond", {"state": "BACKUP", "mii_status": "UP"})),
            self.link("e5", 8, master="bond1", slave=("bond", {"state": "ACTIVE", "mii_status": "UP"})),
        ]
        survey = self.listings(
            ip_addr=links, ip_netconf=[{"family": "inet", "interface": "bond0.30", "forwarding": True}]
        )
        told = {row.port: (row.lag, row.lag_state) for row in survey.ports}
        self.assertEqual(told["e1"], ("bond0", "attached"))
        self.assertEqual((told["e2"], told["e3"]), (("bond0", "detached"), ("bond0", "detached")))
        self.assertEqual((told["e4"], told["e5"]), (("bond1", "standby"), ("bond1", "attached")))
        self.assertEqual({row.port: row.mode for row in survey.ports}["bond0"], "routed")
        (gateway,) = survey.gateways
        self.assertEqual((gateway.port, gateway.vid, gateway.untagged), ("bond0", 30, "no"))

    def test_a_server_with_a_bond_is_one_host(self):
        member = {"state": "ACTIVE", "mii_status": "UP"}
        links = [self.link(f"e{n}", n, master="bond0", slave=("bond", member)) for n in (1, 2)]
        links.append(self.link("bond0", 4, info=("bond", {"mode": "802.3ad"}), addresses=["10.61.30.9/24"]))
        survey = self.listings(ip_addr=links, ip_route=[{"dst": "default", "gateway": "10.61.30.1", "flags": []}])
        (own,) = survey.hosts
        self.assertEqual((own.address, own.gateway, own.mac), ("10.61.30.9/24", "10.61.30.1", "02:00:00:00:01:04"))

    def test_tables_that_are_kept_apart_and_those_that_only_rules_lead_to(self):
        links = [
            self.link("guests", 9, info=("vrf", {"table": 70})),
            self.link("e1", 1, master="guests", slave=("vrf", {"table": 70}), addresses=["10.61.70.1/24"]),
            self.link("e2", 2, addresses=["10.61.20.1/24"]),
        ]
        main = {"dst": "10.61.90.0/24", "gateway": "10.61.20.2", "dev": "e2", "flags": []}
        apart = {"dst": "default", "gateway": "10.61.70.9", "dev": "e1", "flags": [], "table": "70"}
        stray = {"dst": "10.8.0.0/16", "gateway": "10.61.20.3", "dev": "e2", "flags": [], "table": "200"}
        usual = [{"priority": 1000, "src": "all", "l3mdev": None}, {"priority": 32766, "src": "all", "table": "main"}]
        chosen = [*usual, {"priority": 90, "src": "10.61.20.0", "srclen": 24, "table": "200"}]
        for routes, rules, complete in (
            ([main, apart, stray], usual, "yes"),
            ([main], usual, "no"),
            ([main, apart, stray], chosen, "no"),
        ):
            survey = self.listings(ip_addr=links, ip_route=routes, ip_rule=rules, ip_netconf=[
                {"family": "inet", "interface": "e2", "forwarding": True}])  # fmt: skip
            self.assertEqual({row.interface: row.table for row in survey.gateways}, {"e1": "guests", "e2": None})
            found = {row.prefix: (row.next_hop, row.table) for row in survey.routes}
            wanted = {"10.61.90.0/24": ("10.61.20.2", None), "0.0.0.0/0": ("10.61.70.9", "guests")}
            self.assertEqual(found, wanted if apart in routes else {"10.61.90.0/24": ("10.61.20.2", None)})
            self.assertEqual({row.table: row.complete for row in survey.coverage}["routes"], complete)

    def test_what_is_damaged_in_a_listing_is_told_and_its_table_was_not_read_in_full(self):
        main = {"dst": "10.61.90.0/24", "gateway": "10.61.20.2", "dev": "e2", "flags": []}
        links = [self.link("e2", 2, addresses=["10.61.20.1/24"]), self.link("e3", 3, addresses=["10.61.30.1/24"])]
        shared = {"data": {"vrid": 1, "vips": "10.61.20.9", "state": 2, "ifp_ifname": "e2"}}
        files = {
            "ip-addr": links,
            "ip-route": [main, {**main, "dst": "10.61.999.0/24"}, "cut"],
            "shared": [shared],
            "ip-netconf": [{"family": "inet", "interface": "e2", "forwarding": True}],
            "ip-neigh": [{"dst": "10.61.20.7", "dev": "e2", "lladdr": "02:00:00:00:00:0q", "state": ["STALE"]}],
        }
        with tempfile.TemporaryDirectory() as folder:
            place = Path(folder) / "chandlery"
            place.mkdir()
            for name, entries in files.items():
                (place / f"{name}.json").write_text(json.dumps(entries))
            found = gather([place])
            done = subprocess.run(
                [Path(sys.executable).with_name("crossthread"), "gather", str(place), "--into", f"{folder}/s"],
                capture_output=True,
                text=True,
                check=False,
            )
        problems = {Path(entry.path).stem: entry.problems for entry in found.files if entry.problems}
        self.assertEqual(problems.keys(), {"ip-route", "ip-neigh", "shared"})
        self.assertEqual(
            problems["ip-route"][0], "entry 2: Expected an IP prefix instead of “10.61.999.0/24” - at `$.dst`"
        )
        self.assertEqual([told.partition(":")[0] for told in problems["ip-route"]], ["entry 2", "entry 3"])
        self.assertIn("a MAC address instead of “02:00:00:00:00:0q”", problems["ip-neigh"][0])
        self.assertEqual([row.prefix for row in found.survey.routes], ["10.61.90.0/24"])
        complete = {row.table: row.complete for row in found.survey.coverage}
        self.assertEqual([complete[name] for name in ("routes", "arp", "gateways", "ports")], ["no", "no", "no", "yes"])
        self.assertEqual(done.returncode, 3)
        self.assertIn("read but for 2 damaged entries", done.stdout)
        with self.subTest("a host may have what stood in a damaged entry"):
            host = self.listings(
                ip_addr=[self.link("e0", 1, addresses=["10.61.20.300/24"])],
                ip_route=[{**main, "dst": "default", "gateway": "10.61.20.q"}],
            )
            self.assertEqual([(row.address, row.gateway) for row in host.hosts], [(None, None)])

    def test_twice_changes_nothing_and_one_more_source_adds(self):
        last = RAW / "sw-c"  # in no capture
        parts = sorted(path for path in RAW.iterdir() if path != last)
        some = gather(parts).survey
        again = gather(parts, some)
        self.assertEqual((again.survey, again.differences), (some, ()))
        more = gather([last], some)
        self.assertEqual(len(more.survey.devices), len(some.devices) + 1)
        self.assertEqual({row.key for row in more.survey.ports}, {row.key for row in gather([RAW]).survey.ports})

    def test_the_device_counts_more_than_its_neighbour_and_the_newer_more_than_the_older(self):
        from crossthread.sources.merging import Told, merge

        def port(pvid, source):
            return Port("sw", "p1", pvid=pvid, source=source)

        survey, found, _ = merge(Survey(), [Told(port(1, "x"), 9, itself=False), Told(port(2, "y"), 1)], {"x", "y"})
        self.assertEqual(
            (survey.ports[0].pvid, [d.because for d in found]), (2, ["a device knows better than its neighbour"])
        )
        survey, found, _ = merge(Survey(), [Told(port(1, "x"), 1), Told(port(2, "y"), 9)], {"x", "y"})
        self.assertEqual((survey.ports[0].pvid, found[0].because, found[0].left_from), (2, "it is newer", "x"))
        self.assertEqual(survey.ports[0].source, "y; x")
        renewed, found, _ = merge(survey, [Told(port(3, "x"), 1), Told(port(3, "y"), 9)], {"x", "y"})
        told = [(d.taken, d.left, d.left_from) for d in found]
        self.assertEqual((renewed.ports[0].pvid, told), (3, [("3", "2", "the survey")]))
        by_hand = Survey(ports=(Port("sw", "p1", pvid=3, speed=10, source="y; x", extra=(("room", "12"),)),))
        again, found, _ = merge(by_hand, [Told(port(3, "x"), 1), Told(port(3, "y"), 9)], {"x", "y"})
        self.assertEqual(
            (again.ports[0].extra, [(d.column, d.taken, d.left) for d in found]),
            ((("room", "12"),), [("speed", "nothing", "10")]),
        )
        left, _, gone = merge(survey, [], {"x", "y"})
        self.assertEqual((left.ports, gone), ((), 1))
        kept, found, gone = merge(Survey(ports=(Port("sw", "p1", speed=10),)), [Told(port(3, "x"))], {"x"})
        self.assertEqual((kept.ports[0].speed, kept.ports[0].pvid, gone), (10, 3, 0))

    def test_nothing_is_lost_when_another_site_or_a_damaged_file_comes(self):
        with tempfile.TemporaryDirectory() as holder:
            one, two = Path(holder) / "east" / "raw" / "sw", Path(holder) / "west" / "raw" / "sw"
            for folder, name in ((one, "a"), (two, "b")):
                folder.mkdir(parents=True)
                (folder / "x.pcap").write_bytes(pcap(announced(name=name, chassis=name)))
            first = gather([one.parent], relative_to=Path(holder)).survey
            both = gather([two.parent], first, relative_to=Path(holder))
            self.assertEqual(({row.device for row in both.survey.devices}, both.gone), ({"a", "b"}, 0))
            (one / "x.pcap").write_bytes(b"\xd4\xc3\xb2\xa1 broken")
            again = gather([one], both.survey, relative_to=Path(holder))
            self.assertEqual((again.survey, again.files[0].kind), (both.survey, None))
            self.assertIn("ends in its header", again.files[0].says)

    def test_of_two_listings_of_one_format_the_older_is_named(self):
        with tempfile.TemporaryDirectory() as holder:
            folder = Path(holder) / "sw"
            folder.mkdir()
            for number, device in enumerate(("sw-a", "sw-b")):
                path = folder / f"{number}.json"
                path.write_bytes((RAW / device / "ip-addr.json").read_bytes())
                os.utime(path, (number, number))
            found = gather([folder])
        self.assertEqual([entry.kind for entry in found.files], [None, "ip-addr"])
        self.assertIn("keep each device in a folder of its own", found.files[0].says)

    def test_what_nothing_recognises_is_named(self):
        with tempfile.TemporaryDirectory() as holder:
            folder = Path(holder) / "sw-9"
            folder.mkdir()
            (folder / "notes.txt").write_text("hello")
            (folder / "broken.json").write_text("[{")
            (folder / "packed.gz").write_bytes(gzip.compress(CAPTURES[0].read_bytes())[:-9])
            (folder / "whole.gz").write_bytes(gzip.compress(CAPTURES[0].read_bytes()))
            found = gather([folder])
        kinds = {Path(entry.path).name: (entry.kind, entry.says) for entry in found.files}
        self.assertEqual(kinds["notes.txt"], (None, "of no format that is known"))
        self.assertIn("begins like JSON", kinds["broken.json"][1])
        self.assertIn("begins like a gzip file", kinds["packed.gz"][1])
        self.assertEqual(kinds["whole.gz"][0], "capture")

    def test_a_linux_bridge_that_filters_vlans(self):
        links = [
            {"ifname": "lan1", "flags": ["UP", "LOWER_UP"], "link_type": "ether", "address": "02:00:00:00:00:01",
             "master": "br", "addr_info": []},
            {"ifname": "lan2", "flags": ["UP", "NO-CARRIER"], "link_type": "ether", "address": "02:00:00:00:00:02",
             "master": "br", "addr_info": []},
            {"ifname": "lan1.30", "flags": ["UP", "LOWER_UP"], "link_type": "ether", "link": "lan1",
             "linkinfo": {"info_kind": "vlan", "info_data": {"id": 30}},
             "addr_info": [{"family": "inet", "local": "10.0.30.1", "prefixlen": 24, "scope": "global"}]},
        ]  # fmt: skip
        vlans = [
            {
                "ifname": "lan1",
                "vlans": [{"vlan": 1, "flags": ["PVID", "Egress Untagged"]}, {"vlan": 10, "vlanEnd": 12}],
            }
        ]
        with tempfile.TemporaryDirectory() as holder:
            folder = Path(holder) / "shed"
            folder.mkdir()
            ports = [{"ifname": "lan1", "flags": [], "master": "br", "state": "blocking", "cost": 4, "priority": 32}]
            for name, content in (("a", links), ("v", vlans), ("l", ports)):
                (folder / f"{name}.json").write_text(json.dumps(content))
            survey = gather([folder]).survey
        rows = {row.port: row for row in survey.ports}
        self.assertEqual(
            (rows["lan1"].mode, rows["lan1"].pvid, str(rows["lan1"].allowed), str(rows["lan1"].untagged)),
            ("hybrid", 1, "1 10-12", "1"),
        )
        self.assertEqual((rows["lan1"].oper, rows["lan2"].oper), ("up", "down"))
        self.assertEqual(
            [(p.port, p.state, p.cost, p.priority) for p in survey.tree_ports], [("lan1", "discarding", 4, 128)]
        )
        self.assertEqual(
            [(g.address, g.vid, g.port, g.untagged) for g in survey.gateways], [("10.0.30.1/24", 30, "lan1", "no")]
        )

    @settings(max_examples=60, deadline=None)
    @given(st.integers(0, 2**32))
    def test_mutated_listings_raise_nothing(self, seed):
        chance = random.Random(seed)
        paths = sorted(RAW.rglob("*.json"))
        with tempfile.TemporaryDirectory() as holder:
            folder = Path(holder) / "sw-a"
            folder.mkdir()
            for number, path in enumerate(p for p in paths if p.parent.name == "sw-a"):
                document = json.loads(path.read_text())
                (folder / f"{number}.json").write_text(json.dumps(twisted(document, chance)))
            found = gather([folder])
            write_survey(found.survey, Path(holder) / "kept")
            matrix(Network(read_survey(Path(holder) / "kept")))

    def test_names_in_octets_that_are_no_text_cost_nothing_else(self):
        with tempfile.TemporaryDirectory() as holder:
            folder = Path(holder) / "sw-9"
            folder.mkdir()
            address = '{"ifname": "%s", "addr_info": [{"local": "10.0.30.%d", "prefixlen": 24, "scope": "global"}]}'
            told = f"[{address % ('a', 1)}, {address % ('b' + chr(92) + 'ud800', 2)}, {address % ('c@', 3)}]"
            (folder / "ip-addr.json").write_bytes(told.encode().replace(b"@", b"\xff"))
            (folder / "sw.walk").write_bytes(
                b'.1.3.6.1.2.1.2.2.1.2.1 = STRING: "a"\n.1.3.6.1.2.1.2.2.1.2.2 = STRING: "\xff"\n\xff'
            )
            found = gather([folder])
            write_survey(found.survey, Path(holder) / "kept")
            kept = read_survey(Path(holder) / "kept")
        self.assertEqual({row.address for row in kept.gateways}, {f"10.0.30.{n}/24" for n in (1, 2, 3)})
        self.assertEqual([entry.problems for entry in found.files], [(), ()])


def twisted(value, chance):
    """A JSON document with some of its parts replaced by others."""
    if chance.random() < 0.02:
        return chance.choice([None, 7, -1, "x", [], {}, [[]], True, "0" * 50, "\ud800"])
    if isinstance(value, list):
        return [twisted(part, chance) for part in value]
    if isinstance(value, dict):
        return {name: twisted(part, chance) for name, part in value.items()}
    return value


if __name__ == "__main__":
    unittest.main()
