"""Spanning trees at scale, as ratios measured in one run.

    python benchmarks/spanning.py

A campus of 2,000 switches and some 2,500 links: the roles of every port in one instance, against one run of SciPy's
`dijkstra` from the root over the same graph (goal: at most 20 times for each distinct instance). Then the same out of a
survey: 60 trees per VLAN of a generated campus, with all that has to be collected from its tables.
"""

import dataclasses
import random
import statistics
import time

import numpy as np
from scipy.sparse import csr_matrix
from scipy.sparse.csgraph import dijkstra

from crossthread import Network
from crossthread.demo.generator import generate
from crossthread.network.spanning.role_arrays import array_roles
from crossthread.network.spanning.roles import BridgeId, TreeEnd, compute
from crossthread.network.topology.names import End
from crossthread.survey.records import Tree

SWITCHES, ROUNDS = 2000, 9


def campus(chance):
    bridges = {
        f"sw-{n}": BridgeId(4096 if n == 0 else 32768, f"02:00:00:00:{n >> 8:02x}:{n & 255:02x}")
        for n in range(SWITCHES)
    }
    ports = dict.fromkeys(bridges, 0)
    lans = []
    pairs = [(n, chance.randrange(max(0, n // 12 - 1), n // 12 + 1)) for n in range(1, SWITCHES)]
    pairs += [(n, chance.randrange(n // 12 + 1)) for n in range(1, SWITCHES, 4)]
    for a, b in pairs:
        if a == b:
            continue
        ends = []
        for n in (a, b):
            name = f"sw-{n}"
            ports[name] += 1
            ends.append(TreeEnd(End(name, f"p{ports[name]}"), chance.choice((2000, 20000)), 128, ports[name]))
        lans.append(tuple(ends))
    return bridges, lans


def graph(bridges, lans):
    place = {name: n for n, name in enumerate(bridges)}
    rows, columns, costs = [], [], []
    for one, two in lans:
        for near, far in ((one, two), (two, one)):
            rows.append(place[near.end.device])
            columns.append(place[far.end.device])
            costs.append(far.cost)
    return csr_matrix((np.array(costs, float), (rows, columns)), shape=(len(bridges), len(bridges)))


def median(call):
    times = []
    for _ in range(ROUNDS):
        begin = time.perf_counter()
        call()
        times.append(time.perf_counter() - begin)
    return statistics.median(times)


def out_of_a_survey(theirs):
    given = generate(3, switches=SWITCHES, hosts=20000, vlans=60, ports=16)
    vids = sorted({row.vid for row in given.gateways if row.vid})
    rows = [
        Tree(row.device, vid, protocol="per-vlan", priority=row.priority, address=row.address)
        for row in given.trees
        for vid in vids
    ]
    given = dataclasses.replace(given, trees=tuple(rows), tree_ports=(), macs=(), arp=())
    times = []
    for _ in range(ROUNDS):
        trees = Network(given).fabric.trees
        begin = time.perf_counter()
        found = [trees.compute(vid) for vid in vids]
        times.append(time.perf_counter() - begin)
    distinct, took = len({id(roles) for roles in found}), statistics.median(times)
    print(f"{len(vids)} trees per VLAN of {SWITCHES:,} surveyed switches, {distinct} of them distinct:")
    print(f"  {took:.2f} s, per distinct one ratio {took / distinct / theirs:.1f} (goal: 20)")


def main():
    bridges, lans = campus(random.Random(2))
    matrix = graph(bridges, lans)
    plain, arrays = median(lambda: compute(bridges, lans)), median(lambda: array_roles(bridges, lans))
    theirs = median(lambda: dijkstra(matrix, indices=0))
    print(f"{len(bridges):,} switches, {len(lans):,} links, one tree; dijkstra {theirs * 1000:.2f} ms:")
    print(f"  roles by arrays, as for many trees: {arrays * 1000:.1f} ms, ratio {arrays / theirs:.1f} (goal: 20)")
    print(f"  roles one by one, as for a few: {plain * 1000:.1f} ms, ratio {plain / theirs:.1f}")
    out_of_a_survey(theirs)


if __name__ == "__main__":
    main()
