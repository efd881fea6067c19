"""Bridges that know no VLANs: what frames do there, what stands in a pair's way, and how such bridges are read."""

import json
import tempfile
import unittest
from pathlib import Path

from crossthread import Change, Network, Survey, apply_changes, check, gather, matrix, port, vlan, why
from crossthread.demo import healthy
from crossthread.survey import Info
from tests.yard import at

NOTHING = (None, None, None)
PORTS = {
    "pier a1": ("access", 10, None), "pier a2": ("access", 20, None), "pier k": ("access", 10, None),
    "pier k2": ("access", 20, None), "pier r": ("trunk", "none", "10 20"), "crane e": ("routed", None, None),
    **dict.fromkeys(("skiff u", "skiff v", "skiff w", "skiff p1", "dinghy u", "dinghy w", "dinghy p1"), NOTHING),
}  # fmt: skip
CABLES = [("pier k", "skiff u"), ("pier r", "crane e"), ("skiff v", "dinghy u")]


def harbour(*more, cables=CABLES):
    """`pier` with VLANs 10 and 20, `crane` that routes; `skiff` and behind it `dinghy` know no VLANs."""
    ends = [(*a.split(), *b.split()) for pair in cables for a, b in (pair, pair[::-1])]
    hosts = [("desk", 10, "pier a1"), ("till", 20, "pier a2"), ("oar", 10, "skiff p1"), ("sail", 10, "dinghy p1")]
    survey = Survey.of(
        Info(title="harbour", complete=("routes", "vlans", "macs")),
        devices=[
            *({"device": d, "capabilities": "bridge", "vlan_aware": "no"} for d in ("skiff", "dinghy")),
            {"device": "pier", "capabilities": "bridge"}, {"device": "crane", "routing": "yes"},
        ],
        ports=[
            dict(zip(("device", "port", "mode", "pvid", "allowed"), (*end.split(), *cells), strict=True),
                 admin="up", oper="up") for end, cells in PORTS.items()
        ],
        neighbors=[dict(zip(("device", "port", "neighbor", "neighbor_port"), end, strict=True)) for end in ends],
        gateways=[
            {"device": "crane", "interface": f"e.{v}", "address": f"10.9.{v}.1/24", "vid": v, "port": "e",
             "untagged": "no", "admin": "up", "oper": "up", "proxy_arp": "no"} for v in (10, 20)
        ],
        trees=[{"device": d, "instance": 0, "protocol": "off", "bpdus": "pass"} for d in ("pier", "skiff", "dinghy")],
        hosts=[
            {"host": name, "address": f"10.9.{v}.{n}/24", "gateway": f"10.9.{v}.1", "link": "up",
             **dict(zip(("device", "port"), end.split(), strict=True))} for n, (name, v, end) in enumerate(hosts, 20)
        ],
    )  # fmt: skip
    return apply_changes(survey, more)


def failing(survey):
    return {f"{a} {b}" for a, b, verdict in matrix(survey).reaches if verdict != "works"}


class Frames(unittest.TestCase):
    def test_no_tag_is_taken_for_one_behind_such_a_bridge(self):
        unaware = Change("devices", {"device": "harbour-office"}, {"vlan_aware": "no"})
        found = check(apply_changes(healthy(), [unaware])).findings  # a router that tags is behind it
        self.assertEqual([f.rule for f in found if f.rule == "gateway-vlan-wrong"], [])

    def test_what_has_no_tag_is_in_the_vlan_of_the_port_in_front(self):
        self.assertEqual(failing(harbour()), set())
        hops = [(hop.name, hop.vid, hop.tag_in, hop.tag_out) for hop in why(harbour(), "sail", "till").path]
        self.assertEqual(hops[1:4], [("dinghy", 10, 0, 0), ("skiff", 10, 0, 0), ("pier", 10, 0, 10)])
        (piece,) = vlan(harbour(), 10).segments
        self.assertEqual(set(piece.hosts), {"desk", "oar", "sail"})
        self.assertEqual(check(harbour()).counts["breaks"], 0)
        facts = [
            {fact.fact: fact.value for fact in port(harbour(), *end).facts} for end in (("skiff", "u"), ("pier", "k"))
        ]
        self.assertEqual([told.get("vlan aware") for told in facts], ["no", None])

    def test_the_port_in_front_is_in_another_vlan(self):
        wrong = harbour(at("pier", "k", pvid=20))
        self.assertEqual(failing(wrong), {f"{a} {b}" for a in ("desk", "oar", "sail", "till")
                                          for b in ("desk", "oar", "sail", "till")
                                          if ({a, b} & {"oar", "sail"}) and ({a, b} & {"desk", "till"})})  # fmt: skip
        mend = Change("ports", {"device": "pier", "port": "k"}, {"pvid": 10})
        answer = why(wrong, "sail", "till")
        self.assertEqual([(f.rule, f.repair) for f in answer.findings], [("port-vlan-wrong", (mend,))])
        self.assertEqual((answer.repair_proven, answer.confidence), (True, "sure"))
        found = [f for f in check(wrong).findings if f.severity == "breaks"]
        self.assertEqual([(f.rule, f.repair) for f in found], [("port-vlan-wrong", (mend,))])
        self.assertEqual(failing(apply_changes(wrong, answer.repair)), set())

    def test_a_copy_in_which_a_bridge_gets_to_know_vlans_is_like_one_built_afresh(self):
        aware = Change("devices", {"device": "skiff"}, {"vlan_aware": "yes"})
        for change in (aware, at("pier", "k", pvid=20), at("pier", "k", admin="down")):
            copy = Network(harbour()).changed([change])
            afresh = matrix(apply_changes(harbour(), [change]))
            self.assertEqual(matrix(copy), afresh, change)
            self.assertNotEqual(afresh, matrix(harbour()), change)

    def test_cabled_to_two_vlans_it_joins_them(self):
        leaking = harbour(cables=[*CABLES, ("pier k2", "dinghy w")])
        self.assertEqual(failing(leaking), set())
        found = [f for finding in check(leaking).findings for f in (finding, *finding.follows)]
        says = "dinghy and skiff know no VLANs, and join VLAN 10 of pier k and VLAN 20 of pier k2."
        self.assertEqual([f.says for f in found if f.rule == "vlan-leak"], [says])
        both = [*CABLES, ("pier k2", "skiff w")]
        alone = harbour(Change("devices", {"device": "dinghy"}, {"vlan_aware": "yes"}), cables=both)
        found = [f.says for finding in check(alone).findings for f in (finding, *finding.follows)]
        self.assertIn("skiff knows no VLANs, and joins VLAN 10 of pier k and VLAN 20 of pier k2.", found)
        both = harbour(cables=both)
        moved = [Change("hosts", {"host": "oar"}, {"address": "10.9.20.77/24", "gateway": "10.9.20.1"})]
        self.assertEqual(failing(apply_changes(both, moved)), set())
        self.assertIn("oar till", failing(harbour(*moved)))
        hops = why(both, "oar", "desk").path
        self.assertEqual([hop.vid for hop in hops if hop.name == "skiff"], [None])  # which of the two is not said

    def test_tagged_frames_go_through_with_their_tag(self):
        trunk = at("pier", "k", mode="trunk", pvid=10, allowed="10 20")
        tags = Change("hosts", {"host": "sail"}, {"address": "10.9.20.88/24", "gateway": "10.9.20.1", "vid": 20})
        self.assertEqual(failing(harbour(trunk, tags)), set())
        hops = [(hop.name, hop.vid, hop.tag_in, hop.tag_out) for hop in why(harbour(trunk, tags), "sail", "till").path]
        self.assertEqual(hops[1:4], [("dinghy", 20, 20, 20), ("skiff", 20, 20, 20), ("pier", 20, 20, 0)])
        access = failing(harbour(tags))  # an access port drops what has a tag
        self.assertEqual({pair for pair in access if "sail" not in pair}, set())
        self.assertLess({"sail till", "sail desk", "sail oar"}, access)

    def test_a_port_in_front_of_which_nothing_was_read_decides_nothing(self):
        unread = harbour(at("pier", "k", mode="", pvid=""))
        verdicts = {(a, b): v for a, b, v in matrix(unread).reaches}
        self.assertEqual((verdicts["oar", "sail"], verdicts["oar", "desk"]), ("works", "unknown"))
        self.assertNotIn("fails", verdicts.values())


class Listings(unittest.TestCase):
    def listed(self, *links, **files):
        with tempfile.TemporaryDirectory() as folder:
            place = Path(folder) / "skiff"
            place.mkdir()
            netconf = [{"family": "inet", "interface": "e1", "forwarding": False}]
            for name, entries in {"ip-addr": links, "ip-netconf": netconf, **files}.items():
                (place / f"{name.replace('_', '-')}.json").write_text(json.dumps(entries))
            return gather([place]).survey

    def link(self, name, kind=None, data=(), master=None, number=None, below=None, address=None):
        info = {"info_kind": kind, "info_data": dict(data)} if kind else {}
        info |= {"info_slave_kind": "bridge", "info_slave_data": {"no": hex(number)}} if number else {}
        told = {"ifname": name, "link_type": "ether", "flags": ["UP", "LOWER_UP"], "linkinfo": info, "addr_info": []}
        told |= {"master": master} if master else {}
        told |= {"link": below} if below else {}
        if address:
            told["addr_info"] = [{"local": address.partition("/")[0], "prefixlen": int(address.partition("/")[2])}]
        return told

    def bridge(self, name, **more):
        own = {"vlan_filtering": 0, "stp_state": 1, "bridge_id": "8000.2:7:ff:0:0:1", "root_id": "1000.2:7:ff:0:0:9",
               "root_port": 1, "root_path_cost": 6, **more}  # fmt: skip
        return self.link(name, "bridge", own)

    def test_one_bridge_that_filters_nothing_knows_no_vlans(self):
        survey = self.listed(
            {**self.bridge("br0"), **{"addr_info": [{"local": "10.9.10.7", "prefixlen": 24}]}},
            self.link("e1", master="br0", number=1),
            self.link("e2", master="br0", number=2),
            self.link("br0.20", "vlan", {"id": 20}, below="br0", address="10.9.20.7/24"),
        )
        self.assertEqual([(d.device, d.vlan_aware) for d in survey.devices], [("skiff", "no")])
        self.assertEqual([(p.port, p.mode, p.pvid) for p in survey.ports], [("e1", None, None), ("e2", None, None)])
        held = {g.interface: (g.vid, g.port, g.address) for g in survey.gateways}
        self.assertEqual(held, {"br0": (None, None, "10.9.10.7/24"), "br0.20": (20, None, "10.9.20.7/24")})
        (tree,) = survey.trees
        self.assertEqual(
            (tree.instance, tree.protocol, tree.priority, tree.address), (0, "stp", 32768, "02:07:ff:00:00:01")
        )
        self.assertEqual(
            (tree.root_priority, tree.root_address, tree.root_cost, tree.root_port),
            (4096, "02:07:ff:00:00:09", 6, "e1"),
        )

    def test_a_bridge_without_a_tree_passes_the_frames_of_others_on(self):
        links = [self.link("e1", master="br0", number=1), self.link("e2", master="br0", number=2)]
        (tree,) = self.listed(self.bridge("br0", stp_state=0), *links).trees
        self.assertEqual((tree.protocol, tree.bpdus), ("off", "pass"))
        self.assertEqual(self.listed(self.bridge("br0", stp_state=2), *links).trees, ())  # a program runs it
        filters = self.listed(self.bridge("br0", vlan_filtering=1), *links)
        self.assertEqual(([d.vlan_aware for d in filters.devices], filters.trees), ([None], ()))

    def test_a_bridge_for_each_vlan(self):
        links = [
            self.bridge("br10"), self.bridge("br20", root_id="8000.2:7:ff:0:0:1", root_port=0, root_path_cost=0),
            self.link("e1"), self.link("e1.10", "vlan", {"id": 10}, "br10", 1, "e1"),
            self.link("e1.20", "vlan", {"id": 20}, "br20", 1, "e1"), self.link("e2", master="br10", number=2),
            self.link("e3", master="br20", number=2), self.link("e3.10", "vlan", {"id": 10}, "br10", 3, "e3"),
        ]  # fmt: skip
        states = [
            {"ifname": n, "state": state, "priority": 32, "cost": cost, "master": "br"}
            for n, state, cost in (("e1.10", "forwarding", 4), ("e2", "forwarding", 2), ("e3", "blocking", 9))
        ]
        learned = [
            {"mac": "02:00:00:00:00:05", "ifname": "e1.20", "flags": [], "state": ""},
            {"mac": "02:00:00:00:00:06", "ifname": "e2", "flags": [], "state": ""},
        ]
        survey = self.listed(*links, bridge_link=states, bridge_fdb=learned)
        told = {p.port: (p.mode, p.pvid, str(p.allowed) if p.allowed is not None else None) for p in survey.ports}
        self.assertEqual(told, {"e1": ("trunk", 0, "10 20"), "e2": ("access", 10, None), "e3": ("trunk", 20, "10 20")})
        self.assertEqual([d.vlan_aware for d in survey.devices], [None])
        trees = {(t.instance, t.protocol, t.root_cost, t.root_port) for t in survey.trees}
        self.assertEqual(trees, {(10, "per-vlan", 6, "e1"), (20, "per-vlan", 0, None)})
        ports = {(t.port, t.instance, t.state, t.cost) for t in survey.tree_ports}
        self.assertEqual(ports, {("e1", 10, "forwarding", 4), ("e2", 10, "forwarding", 2), ("e3", 20, "discarding", 9)})
        self.assertEqual({(m.port, m.vid) for m in survey.macs}, {("e1", 20), ("e2", 10)})

    def test_bridges_side_by_side_say_nothing_of_vlans(self):
        survey = self.listed(self.bridge("br0"), self.bridge("br1"), self.link("e1", master="br0", number=1),
                             self.link("e2", master="br1", number=1))  # fmt: skip
        self.assertEqual([(p.mode, p.pvid) for p in survey.ports], [(None, None), (None, None)])
        self.assertEqual([d.vlan_aware for d in survey.devices], [None])


if __name__ == "__main__":
    unittest.main()
