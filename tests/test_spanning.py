"""Laws of the spanning tree, on random networks with random priorities and costs."""

import random
import unittest
from dataclasses import replace
from types import MappingProxyType

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec import structs
from scipy.sparse import csr_matrix
from scipy.sparse.csgraph import dijkstra

from crossthread import Network, why
from crossthread.demo.generator import generate
from crossthread.network.spanning.reported import reported_forwarding
from crossthread.network.spanning.role_arrays import ArrayRoles, array_roles
from crossthread.network.spanning.roles import BridgeId, TreeEnd, compute, default_cost, instance_roles
from crossthread.network.spanning.standing_tree import StandingTree
from crossthread.network.spanning.unread_costs import forwarding_at_any_cost
from crossthread.network.topology.adjacency import Adjacency
from crossthread.network.topology.names import End
from crossthread.survey.records import Tree, TreePort
from tests.building import cabled, hosts, ports, survey_of

COSTS = st.sampled_from([1, 2, 200, 2000, 20000])


@st.composite
def networks(draw):
    count = draw(st.integers(1, 8))
    names = [f"sw-{n}" for n in range(count)]
    priorities = draw(st.lists(st.sampled_from([0, 4096, 32768, 61440]), min_size=count, max_size=count))
    order = draw(st.permutations(range(count)))
    bridges = {
        name: BridgeId(p, f"02:00:00:00:00:{m:02x}") for name, p, m in zip(names, priorities, order, strict=True)
    }
    ports = dict.fromkeys(names, 0)
    links = []
    for a, b in draw(st.lists(st.tuples(st.sampled_from(names), st.sampled_from(names)), max_size=14)):
        ends = []
        for device in (a, b):
            ports[device] += 1
            end = End(device, f"p{ports[device]}")
            ends.append(TreeEnd(end, draw(COSTS), draw(st.sampled_from([0, 128])), ports[device]))
        links.append((ends[0], ends[1]))
    return bridges, links


def parts(names, pairs):
    """The connected parts of a graph, by merging."""
    part = {name: {name} for name in names}
    for a, b in pairs:
        if part[a] is not part[b]:
            part[a] |= part[b]
            for name in part[b]:
                part[name] = part[a]
    return {frozenset(group) for group in part.values()}


def distances(root, bridges, links):
    """Root path costs by relaxing every link as often as there are bridges: slow, and independent of the code."""
    cost = {root: 0}
    for _ in bridges:
        for one, two in links:
            for near, far in ((one, two), (two, one)):
                if near.end.device in cost:
                    offer = cost[near.end.device] + far.cost
                    cost[far.end.device] = min(cost.get(far.end.device, offer), offer)
    return cost


class Laws(unittest.TestCase):
    @settings(max_examples=300, deadline=None)
    @given(networks())
    def test_tree(self, network):
        bridges, links = network
        roles = compute(bridges, links)
        self.assertEqual(set(roles), {end.end for link in links for end in link})
        pairs = [(one.end.device, two.end.device) for one, two in links]
        for part in parts(bridges, pairs):
            root = min(part, key=lambda name: bridges[name])
            cost = distances(root, part, links)
            for name in part:
                own = [role for end, role in roles.items() if end.device == name]
                self.assertEqual([r.role for r in own].count("root"), 0 if name == root else 1)
                for role in own:
                    self.assertEqual((role.root, role.root_cost), (bridges[root], cost[name]))
        open_links = []
        for one, two in links:
            found = sorted((roles[one.end].role, roles[two.end].role))
            self.assertEqual(found.count("designated"), 1, found)
            if roles[one.end].forwards and roles[two.end].forwards:
                open_links.append((one.end.device, two.end.device))
        self.assertEqual(parts(bridges, open_links), parts(bridges, pairs))
        self.assertEqual(len(open_links), len(bridges) - len(parts(bridges, pairs)))

    @settings(max_examples=200, deadline=None)
    @given(networks())
    def test_what_bridges_report_of_their_way_to_the_root_tells_the_same_tree(self, network):
        bridges, links = network
        roles = compute(bridges, links)
        rows = {}
        for name, own in bridges.items():
            held = [role for end, role in roles.items() if end.device == name]
            port = next((end.port for end, role in roles.items() if end.device == name and role.role == "root"), "none")
            root, cost = (held[0].root, held[0].root_cost) if held else (own, 0)
            rows[name] = Tree(name, 0, None, "rstp", None, *own, *root, cost, port)
        cables = [Adjacency(one.end, two.end, (), True) for one, two in links]
        told = reported_forwarding(rows, cables, lambda device, port: port)
        self.assertEqual(told, {end: roles[end].forwards for end in told})
        apart = [link for link in links if link[0].end.device != link[1].end.device]
        self.assertEqual(set(told), {one.end for link in apart for one in link})
        half = reported_forwarding(
            {n: structs.replace(row, root_port=None) for n, row in rows.items()}, cables, lambda d, p: p
        )
        self.assertEqual(half, {})  # a port of which nobody knows whether it is the way to the root may be

    @settings(max_examples=100, deadline=None)
    @given(networks(), st.randoms(use_true_random=False))
    def test_order_does_not_matter(self, network, chance: random.Random):
        bridges, links = network
        turned = [(two, one) if chance.random() < 0.5 else (one, two) for one, two in links]
        chance.shuffle(turned)
        names = list(bridges)
        chance.shuffle(names)
        self.assertEqual(compute({name: bridges[name] for name in names}, turned), compute(bridges, links))

    @settings(max_examples=100, deadline=None)
    @given(networks())
    def test_a_lower_priority_of_the_root_changes_no_role(self, network):
        bridges, links = network
        root = min(bridges, key=lambda name: bridges[name])
        lower = bridges | {root: BridgeId(-1, bridges[root].address)}
        before, after = compute(bridges, links), compute(lower, links)
        reached = {end for end, role in before.items() if role.root == bridges[root]}
        self.assertEqual({e: before[e].role for e in reached}, {e: after[e].role for e in reached})

    def test_a_cable_from_a_bridge_to_itself(self):
        one, two = (TreeEnd(End("sw", f"p{n}"), 4, 128, n) for n in (1, 2))
        roles = compute({"sw": BridgeId(0, "02:00:00:00:00:01")}, [(two, one)])
        self.assertEqual({end.port: role.role for end, role in roles.items()}, {"p1": "designated", "p2": "backup"})

    @settings(max_examples=150, deadline=None)
    @given(networks())
    def test_root_path_costs_are_those_of_an_independent_shortest_path_search(self, network):
        bridges, links = network
        names = list(bridges)
        ways = np.full((len(names), len(names)), np.inf)
        for one, two in links:
            for near, far in ((one, two), (two, one)):
                a, b = names.index(near.end.device), names.index(far.end.device)
                ways[a, b] = min(ways[a, b], far.cost)
        roles = compute(bridges, links)
        for role in roles.values():
            root = next(name for name in names if bridges[name] == role.root)
            cost = dijkstra(csr_matrix(np.where(np.isinf(ways), 0, ways)), indices=names.index(root))
            device = next(name for name in names if bridges[name] == role.offer.bridge)
            self.assertEqual(role.root_cost, cost[names.index(device)] if device != root else 0)

    @settings(max_examples=200, deadline=None)
    @given(networks())
    def test_by_arrays_it_is_the_same_tree(self, network):
        bridges, links = network
        fast = array_roles(bridges, links)
        if any(one.end.device == two.end.device for one, two in links):
            self.assertIsNone(fast)
        else:
            self.assertEqual(dict(fast), compute(bridges, links))

    def test_trees_per_vlan_of_a_large_survey_are_those_of_its_inputs_one_by_one(self):
        campus, chance, by_arrays = generate(3, switches=300, hosts=300, vlans=20), random.Random(4), 0
        cables = [row for row in campus.tree_ports if row.role]
        for damage in (0, 0.0001, 0.003):
            rows = [
                Tree(row.device, vid, protocol="per-vlan", address=row.address,
                     priority=None if chance.random() < damage else chance.choice((4096, 32768)))
                for row in campus.trees for vid in range(1, 101) if chance.random() >= damage / 10
            ]  # fmt: skip
            ports = [
                TreePort(row.device, row.port, vid, cost=chance.choice((0, 2000, 20000)) if vid > 2 else 9,
                         priority=chance.choice((None, 128, 16)), number=chance.choice((None, 5, 7)))
                for row in cables for vid in (1, 2, 3)
            ]  # fmt: skip
            trees = Network(replace(campus, trees=tuple(rows), tree_ports=tuple(ports))).fabric.trees
            for vid in (1, 2, 3, *chance.sample(range(4, 101), 6)):
                given, roles = trees.inputs(vid), trees.compute(vid)
                self.assertEqual(dict(roles), compute(dict(given.bridges), given.lans))
                by_arrays += isinstance(roles, ArrayRoles)
        self.assertGreater(by_arrays, 8)

    @settings(max_examples=150, deadline=None)
    @given(networks(), st.randoms(use_true_random=False))
    def test_what_fails_is_worked_out_from_below_as_if_from_the_start(self, network, chance: random.Random):
        bridges, lans = network
        standing = StandingTree(bridges, lans)
        self.assertEqual(standing.roles, compute(bridges, lans))
        for _ in range(3):
            device = chance.choice([None, *bridges])
            dead = chance.sample(lans, min(len(lans), chance.randrange(3)))
            cut = {one.end for lan in dead for one in lan}
            left = [lan for lan in lans if lan not in dead and all(one.end.device != device for one in lan)]
            afresh = compute({name: own for name, own in bridges.items() if name != device}, left)
            found = standing.without(cut, device)
            stands = {end: role for end, role in standing.roles.items() if end not in found.gone}
            self.assertEqual({**stands, **found.roles}, afresh)
            self.assertEqual(found.gone, standing.roles.keys() - afresh.keys())
        self.assertEqual(standing.without(set()).roles, {})

    def test_a_hub_has_one_designated_port(self):
        bridges = {name: BridgeId(32768, f"02:00:00:00:00:0{n}") for n, name in enumerate("abc")}
        hub = tuple(TreeEnd(End(name, "p1"), 4, 128, 1) for name in "abc")
        cable = (TreeEnd(End("b", "p2"), 4, 128, 2), TreeEnd(End("c", "p2"), 4, 128, 2))
        roles = {str(end): role.role for end, role in compute(bridges, [hub, cable]).items()}
        self.assertEqual(
            roles, {"a p1": "designated", "b p1": "root", "c p1": "root", "b p2": "designated", "c p2": "alternate"}
        )

    def test_priorities_at_both_ends_of_the_range_and_ties_to_the_last(self):
        bridges = {"low": BridgeId(0, "02:00:00:00:00:09"), "high": BridgeId(61440, "02:00:00:00:00:01")}
        pairs = [
            (n, TreeEnd(End("low", f"p{n}"), 4, 128, n), TreeEnd(End("high", f"q{n}"), 4, 128, 9 - n)) for n in (1, 2)
        ]
        roles = compute(bridges, [(low, high) for _, low, high in pairs])
        self.assertEqual(roles[End("high", "q1")].role, "root")  # the sender's lower port identifier decides
        self.assertEqual(roles[End("high", "q2")].role, "alternate")
        hub = (
            TreeEnd(End("low", "p"), 4, 128, 1),
            TreeEnd(End("high", "q"), 4, 128, 2),
            TreeEnd(End("high", "r"), 4, 128, 1),
        )
        roles = compute(bridges, [hub])
        self.assertEqual((roles[End("high", "r")].role, roles[End("high", "q")].role), ("root", "alternate"))

    @settings(max_examples=300, deadline=None)
    @given(networks(), st.data())
    def test_what_holds_at_any_cost_holds_at_each(self, network, data):
        bridges, links = network
        ends = [one for link in links for one in link]
        unread = data.draw(st.lists(st.sampled_from(ends), unique=True, max_size=5) if ends else st.just([]))
        rows = {
            name: Tree(name, 0, "rstp", priority=own.priority, address=own.address) for name, own in bridges.items()
        }

        def roles_at(costs):
            priced = [tuple(one._replace(cost=costs.get(one.end, one.cost)) for one in link) for link in links]
            return compute(bridges, priced)

        cables = [Adjacency(one.end, two.end, (), True) for one, two in links]
        told = forwarding_at_any_cost(rows, cables, [one.end for one in unread], roles_at)
        self.assertEqual({end: compute(bridges, links)[end].forwards for end in told}, told)
        if unread and len(unread) < 5:
            between = {one.end: data.draw(st.integers(1, 200_000_000)) for one in unread}
            self.assertEqual({end: roles_at(between)[end].forwards for end in told}, told)
            roots = {role.root for role in compute(bridges, links).values()}
            own = {one.end for one in ends if bridges[one.end.device] in roots}
            self.assertLessEqual(
                own & {one.end for one in unread}, told.keys()
            )  # what a root's ports cost is no matter

    def test_recommended_costs(self):
        self.assertEqual(
            [default_cost(s) for s in (10, 100, 1000, 10_000, 100_000)], [2_000_000, 200_000, 20_000, 2000, 200]
        )
        self.assertEqual((default_cost(0), default_cost(10**9)), (200_000_000, 1))


class Reported(unittest.TestCase):
    """A ring of three of which nobody read the tree's ports, and no costs; `a` is the root."""

    def asked(self, *heard):
        trees = ["device|instance|protocol|priority|address|root_priority|root_address|root_cost|root_port"]
        for name, priority, cost, port in (("a", 4096, 0, "none"), ("b", 32768, 2000, "t1"), ("c", 32768, 2000, "t1")):
            trees.append(f"{name}|0|rstp|{priority}|02:00:00:00:00:0{name}|4096|02:00:00:00:00:0a|{cost}|{port}")
        survey = survey_of(
            devices="device|capabilities\na|bridge\nb|bridge\nc|bridge",
            ports=ports(*(f"{d} t{n} trunk 1 1 10" for d in "abc" for n in (1, 2)), "b p access 10", "c p access 10"),
            neighbors="\n".join([cabled("a t1 b t1", "b t2 c t2", "a t2 c t1"), *heard]),
            hosts=hosts("x 10.9.10.20/24 none b p", "y 10.9.10.21/24 none c p"),
            trees="\n".join(trees),
        )
        return why(survey, "x", "y")

    def test_root_ports_tell_the_way_round_a_ring(self):
        answer = self.asked()
        self.assertEqual((answer.verdict, [hop.name for hop in answer.path]), ("works", ["x", "b", "a", "c", "y"]))

    def test_where_one_more_bridge_may_be_on_the_medium_they_tell_nothing(self):
        self.assertEqual(self.asked("a|t2|stranger|e1").verdict, "unknown")


class Regions(unittest.TestCase):
    """Multiple spanning tree, worked by hand.

    Region X: x1 (4096), x2 (32768), x3 (32768); region Y: y1 (8192), y2 (32768). All links cost 10.

        x1 --- x2        x1-x2, x2-x3, x1-x3 inside X; y1-y2 inside Y;
         \\   /          x2-y1 and x3-y2 join the two regions.
          x3
    """

    BRIDGES = MappingProxyType({
        "x1": BridgeId(4096, "02:00:00:00:00:01"), "x2": BridgeId(32768, "02:00:00:00:00:02"),
        "x3": BridgeId(32768, "02:00:00:00:00:03"), "y1": BridgeId(8192, "02:00:00:00:00:04"),
        "y2": BridgeId(32768, "02:00:00:00:00:05"),
    })  # fmt: skip
    REGIONS = MappingProxyType({"x1": "X", "x2": "X", "x3": "X", "y1": "Y", "y2": "Y"})
    CABLES = ("x1 x2", "x2 x3", "x1 x3", "y1 y2", "x2 y1", "x3 y2")

    def lans(self, costs=None):
        found, count = [], dict.fromkeys(self.BRIDGES, 0)
        for cable in self.CABLES:
            ends = []
            for device, other in (cable.split(), cable.split()[::-1]):
                count[device] += 1
                cost = (costs or {}).get(f"{device}-{other}", 10)
                ends.append(TreeEnd(End(device, f"to-{other}"), cost, 128, count[device]))
            found.append(tuple(ends))
        return found

    def roles(self, found):
        return {f"{end.device}-{end.port[3:]}": role.role for end, role in found.items()}

    def test_a_region_is_one_bridge_seen_from_outside(self):
        # The common root is x1. Inside X external cost stays 0, internal cost is 10 at x2 and at x3; so of the link
        # x2-x3 the end with the lower bridge identifier, x2, is designated and x3's end alternate.
        # Y hears external cost 0 at both its boundary ports, and adds 10 at each: y1 by x2, y2 by x3. The external
        # costs tie; the lower regional root identifier wins, y1 (8192), so y1-x2 is Y's root port. y2 then reaches
        # the root inside its region by y1 (cost 10 external, 10 internal, regional root y1), which is better than by
        # x3 (cost 10, regional root y2): so y2-x3 is alternate, although it is as near to the root.
        roles = self.roles(compute(self.BRIDGES, self.lans(), self.REGIONS))
        self.assertEqual(roles, {
            "x1-x2": "designated", "x1-x3": "designated", "x2-x1": "root", "x3-x1": "root",
            "x2-x3": "designated", "x3-x2": "alternate", "x2-y1": "designated", "x3-y2": "designated",
            "y1-x2": "root", "y1-y2": "designated", "y2-y1": "root", "y2-x3": "alternate",
        })  # fmt: skip
        # Were there no regions, y2 would take its own way to the root at cost 20 by x3 and not 30 by y1.
        flat = self.roles(compute(self.BRIDGES, self.lans()))
        self.assertEqual((flat["y2-x3"], flat["y2-y1"]), ("root", "alternate"))

    def test_an_external_cost_moves_the_regional_root(self):
        # With cost 50 at y1's boundary port, Y's nearest way is y2 by x3 (external 10 against 50): y2 is regional root,
        # y1 goes by y2 inside the region, and its own boundary port is alternate.
        roles = self.roles(compute(self.BRIDGES, self.lans({"y1-x2": 50}), self.REGIONS))
        self.assertEqual((roles["y2-x3"], roles["y1-y2"], roles["y1-x2"]), ("root", "root", "alternate"))

    def test_an_instance_has_its_own_root_in_each_region_and_a_master_port_at_the_boundary(self):
        # Instance 1: x3 has priority 0 and is root in X; y2 has priority 0 and is root in Y. Inside X both others go
        # straight to x3, and on x1-x2 the lower identifier, x1, is designated. At the boundary the common tree
        # decides: Y's root port y1-x2 is master in the instance, y2-x3 stays alternate, X's ports are designated.
        own = dict(self.BRIDGES) | {"x3": BridgeId(0, "02:00:00:00:00:03"), "y2": BridgeId(0, "02:00:00:00:00:05")}
        common = compute(self.BRIDGES, self.lans(), self.REGIONS)
        roles = self.roles(instance_roles(own, self.lans(), self.REGIONS, common))
        self.assertEqual(roles, {
            "x1-x3": "root", "x2-x3": "root", "x3-x1": "designated", "x3-x2": "designated",
            "x1-x2": "designated", "x2-x1": "alternate", "y1-y2": "root", "y2-y1": "designated",
            "y1-x2": "master", "y2-x3": "alternate", "x2-y1": "designated", "x3-y2": "designated",
        })  # fmt: skip


if __name__ == "__main__":
    unittest.main()
