"""YANG instance data: standard and openconfig models, and damage."""

import json
import random
import tempfile
import unittest
from pathlib import Path

from hypothesis import given, settings
from hypothesis import strategies as st

from crossthread import Network, VlanSet, map_network, matrix, read_survey, write_survey
from crossthread.sources.gathering import gather
from tests.test_sources import twisted

STANDARD = {
    "ietf-interfaces:interfaces": {"interface": [
        {"name": "p1", "type": "iana-if-type:ethernetCsmacd", "description": "to the loft", "enabled": True,
         "admin-status": "up", "oper-status": "lower-layer-down", "phys-address": "02:00:00:00:00:01",
         "speed": "1000000000", "ieee802-dot1q-bridge:bridge-port": {"pvid": 7}},
        {"name": "vlan30", "type": "iana-if-type:l3ipvlan", "oper-status": "up",
         "ietf-ip:ipv4": {"address": [{"ip": "10.0.30.1", "prefix-length": 24}]},
         "ietf-ip:ipv6": {"address": [{"ip": "2001:db8::1", "prefix-length": 64}]}},
        {"name": "p2.40", "ietf-ip:ipv4": {"address": [{"ip": "10.0.40.1", "netmask": "255.255.255.0"}]}},
        {"name": "lo", "type": "iana-if-type:softwareLoopback"},
    ]},
    "ieee802-dot1ab-lldp:lldp": {
        "local-system-data": {"system-name": "shed", "chassis-id": "02-00-00-00-00-AA",
                              "system-capabilities-enabled": "bridge router"},
        "port": [{"name": "p1", "remote-systems-data": [
            {"chassis-id": "02:00:00:00:00:bb", "port-id": "p9", "port-desc": "up", "system-name": "loft",
             "management-address": [{"address": "10.0.0.9"}]}]}],
    },
    "ieee802-dot1q-bridge:bridges": {"bridge": [{"component": [{"bridge-vlan": {"vlan": [
        {"vid": 7, "name": "hall", "egress-ports": ["p1"], "untagged-ports": ["p1"]},
        {"vid": 8, "egress-ports": ["p1"]}]}}]}]},
}  # fmt: skip
OPEN = {
    "openconfig-interfaces:interfaces": {"interface": [
        {"name": "e1", "state": {"admin-status": "UP", "oper-status": "UP", "mtu": 1500, "description": "desk"},
         "openconfig-if-ethernet:ethernet": {
             "state": {"port-speed": "openconfig-if-ethernet:SPEED_10GB", "negotiated-duplex-mode": "FULL"},
             "openconfig-vlan:switched-vlan": {"config": {"interface-mode": "ACCESS", "access-vlan": 30}}}},
        {"name": "e2", "config": {"enabled": False}, "openconfig-if-ethernet:ethernet": {
            "openconfig-vlan:switched-vlan": {"state": {"interface-mode": "TRUNK", "native-vlan": 1,
                                                        "trunk-vlans": [10, "20..22"]}}}},
        {"name": "vlan30", "openconfig-vlan:routed-vlan": {"config": {"vlan": 30}, "openconfig-if-ip:ipv4": {
            "addresses": {"address": [{"ip": "10.0.30.1", "config": {"prefix-length": 24}}]}}}},
        {"name": "e3", "subinterfaces": {"subinterface": [{
            "index": 40, "openconfig-vlan:vlan": {"config": {"vlan-id": 41}}, "openconfig-if-ip:ipv4": {
                "addresses": {"address": [{"ip": "10.0.40.1", "state": {"prefix-length": 24}}]}}}]}},
    ]},
    "openconfig-vlan:vlans": {"vlan": [{"vlan-id": 30, "config": {"name": "office", "status": "SUSPENDED"}}]},
    "openconfig-lldp:lldp": {
        "state": {"system-name": "tower", "chassis-id": "02:00:00:00:00:cc"},
        "interfaces": {"interface": [{"name": "e2", "neighbors": {"neighbor": [
            {"state": {"system-name": "shed", "port-id": "p1", "chassis-id": "02:00:00:00:00:aa", "ttl": 120},
             "capabilities": {"capability": [
                 {"name": "openconfig-lldp-types:MAC_BRIDGE", "state": {"enabled": True}}]}}]}}]},
    },
    "openconfig-spanning-tree:stp": {"rstp": {
        "state": {"bridge-priority": 8192, "bridge-address": "02:00:00:00:00:cc", "designated-root-priority": 4096,
                  "designated-root-address": "02:00:00:00:00:01", "root-cost": 2000, "root-port": 2},
        "interfaces": {"interface": [{"name": "e2", "state": {
            "cost": 2000, "port-priority": 128, "port-num": 2, "role": "openconfig-spanning-tree-types:ROOT",
            "port-state": "openconfig-spanning-tree-types:FORWARDING"}}]}}},
}  # fmt: skip


def gathered(*documents):
    with tempfile.TemporaryDirectory() as holder:
        folder = Path(holder) / "unnamed"
        folder.mkdir()
        for number, document in enumerate(documents):
            (folder / f"{number}.json").write_text(json.dumps(document))
        found = gather([folder])
        write_survey(found.survey, Path(holder) / "s")
        assert read_survey(Path(holder) / "s") == found.survey
        return found


class Yang(unittest.TestCase):
    def test_standard_models(self):
        found = gathered(STANDARD)
        survey = found.survey
        self.assertEqual([entry.kind for entry in found.files], ["yang"])
        (device,) = survey.devices
        self.assertEqual(
            (device.device, device.chassis, device.capabilities), ("shed", "02:00:00:00:00:aa", ("bridge", "router"))
        )
        (port,) = survey.ports
        self.assertEqual(
            (port.port, port.admin, port.oper, port.speed, port.description), ("p1", "up", "down", 1000, "to the loft")
        )
        self.assertEqual(
            (port.mode, port.pvid, port.allowed, port.untagged), ("hybrid", 7, VlanSet.of([7, 8]), VlanSet.of([7]))
        )
        places = {(g.interface, g.address): (g.vid, g.port, g.untagged) for g in survey.gateways}
        self.assertEqual(places["vlan30", "10.0.30.1/24"], (30, None, None))
        self.assertEqual(places["p2.40", "10.0.40.1/24"], (40, "p2", "no"))
        self.assertIn(("vlan30", "2001:db8::1/64"), places)
        self.assertEqual([(v.vid, v.name) for v in survey.vlans], [(7, "hall"), (8, None)])
        (heard,) = survey.neighbors
        self.assertEqual(
            (heard.port, heard.neighbor, heard.neighbor_port, heard.management), ("p1", "loft", "p9", "10.0.0.9")
        )

    def test_openconfig_models(self):
        survey = gathered(OPEN).survey
        rows = {row.port: row for row in survey.ports}
        self.assertEqual(
            (rows["e1"].mode, rows["e1"].pvid, rows["e1"].speed, rows["e1"].duplex), ("access", 30, 10000, "full")
        )
        self.assertEqual(
            (rows["e2"].mode, rows["e2"].pvid, str(rows["e2"].allowed), rows["e2"].admin),
            ("trunk", 1, "1 10 20-22", "down"),
        )
        places = {g.interface: (g.address, g.vid, g.port) for g in survey.gateways}
        self.assertEqual(places, {"vlan30": ("10.0.30.1/24", 30, None), "e3.40": ("10.0.40.1/24", 41, "e3")})
        self.assertEqual([(v.vid, v.name, v.state) for v in survey.vlans], [(30, "office", "suspended")])
        self.assertEqual(
            [(n.device, n.neighbor, n.capabilities, n.ttl) for n in survey.neighbors],
            [("tower", "shed", ("bridge",), 120)],
        )
        (tree,) = survey.trees
        self.assertEqual((tree.priority, tree.root_priority, tree.root_cost, tree.root_port), (8192, 4096, 2000, "e2"))
        self.assertEqual(
            [(p.port, p.role, p.state, p.number) for p in survey.tree_ports], [("e2", "root", "forwarding", 2)]
        )

    def test_together_they_make_a_link(self):
        links = map_network(Network(gathered(STANDARD, OPEN).survey)).links
        self.assertEqual(
            [(x.a.device, x.a.port, x.b.device, x.b.port) for x in links],
            [("shed", "p1", "loft", "p9"), ("shed", "p1", "tower", "e2")],  # the loft was only heard of
        )

    @settings(max_examples=120, deadline=None)
    @given(st.integers(0, 2**32))
    def test_twisted_documents_raise_nothing(self, seed):
        chance = random.Random(seed)
        matrix(Network(gathered(*(twisted(document, chance) or {} for document in (STANDARD, OPEN))).survey))


if __name__ == "__main__":
    unittest.main()
