"""Laws of the spanning tree, on random networks with random priorities and costs."""

import random
import unittest

from hypothesis import given, settings
from hypothesis import strategies as st

from crossthread.network.names import End
from crossthread.network.spanning import BridgeId, TreeEnd, compute, default_cost

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

    def test_recommended_costs(self):
        self.assertEqual(
            [default_cost(s) for s in (10, 100, 1000, 10_000, 100_000)], [2_000_000, 200_000, 20_000, 2000, 200]
        )
        self.assertEqual((default_cost(0), default_cost(10**9)), (200_000_000, 1))


if __name__ == "__main__":
    unittest.main()
