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
from tests.building import DATA
from tests.test_sources import twisted

STANDARD, OPEN = (json.loads((DATA / "yang" / f"{models}.json").read_text()) for models in ("standard", "openconfig"))


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
