"""The spanning tree that the standard gives: root, roles and states of one instance, each with what decided it.

A priority vector says how good a way to the root is. It is compared part by part: root, external root path cost,
regional root, internal root path cost, designated bridge, designated port, receiving port (IEEE 802.1D-2004 clause
17.5 and 17.6; with regions IEEE 802.1Q-2018 clause 13.10). Outside regions the regional root is the bridge itself and
the internal cost is 0, so that one algorithm serves single trees, trees per VLAN, and the common and internal tree.
"""

from __future__ import annotations

import heapq
from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence
from typing import NamedTuple

from crossthread.network.topology.names import End


class BridgeId(NamedTuple):
    """A bridge identifier: priority, then MAC address (IEEE 802.1D-2004 clause 9.2.5)."""

    priority: int
    address: str

    def __str__(self) -> str:
        return f"{self.priority}/{self.address}"


class TreeEnd(NamedTuple):
    """A bridge port in one instance: its path cost, and its port identifier (clause 9.2.7)."""

    end: End
    cost: int
    priority: int
    number: int


Lan = tuple[TreeEnd, ...]
"""The bridge ports that share a medium: two on a cable, more on a hub."""


class Offer(NamedTuple):
    """The priority vector that a port sends, without the root: how good a way to it the port offers."""

    cost: int
    """External root path cost of its bridge."""
    regional: BridgeId
    internal: int
    bridge: BridgeId
    port: tuple[int, int]


class Role(NamedTuple):
    """What a port does in a tree, and what it rests on."""

    role: str
    """`root`, `designated`, `alternate`, `backup` or `master`."""
    root: BridgeId
    root_cost: int
    """External root path cost of the port's bridge."""
    offer: Offer
    """What this port would send."""
    best: Offer
    """The best that any port on the same medium sends."""
    designated: End
    """The port that sends it."""
    cost: int
    """The port's own path cost."""
    inside: bool
    """Whether all bridges on the medium are of one region."""

    @property
    def forwards(self) -> bool:
        """Whether the port forwards once the tree has settled."""
        return self.role in ("root", "designated", "master")

    @property
    def received(self) -> Offer:
        """The way to the root by this port: what it hears, with its own cost added."""
        if self.inside:
            return self.best._replace(internal=self.best.internal + self.cost)
        return self.best._replace(cost=self.best.cost + self.cost)


def default_cost(speed: int) -> int:
    """The recommended path cost of a link speed in Mb/s (IEEE 802.1D-2004 table 17-3)."""
    return max(1, min(200_000_000, 20_000_000 // speed)) if speed else 200_000_000


_SHORT = {4: 250, 10: 100, 16: 62, 100: 19, 1000: 4, 10000: 2}


def short_cost(speed: int) -> int:
    """The path cost of a link speed in Mb/s in the older table of 16 bits (IEEE 802.1D-1998 table 8-5)."""
    if speed in _SHORT:
        return _SHORT[speed]
    below = [known for known in _SHORT if known <= speed]
    return _SHORT[max(below)] if below else 65535


def compute(
    bridges: Mapping[str, BridgeId], lans: Iterable[Lan], regions: Mapping[str, object] | None = None
) -> dict[End, Role]:
    """The role of every port on a medium.

    Parameters
    ----------
    bridges
        Each device's bridge identifier in this instance. All differ.
    lans
        What is up: the ports on each medium, all on these devices. A device may be on one medium twice.
    regions
        The multiple-tree region of the devices that are in one.

    Returns
    -------
    dict
        A role for each port. Each connected part has its own root.

    Notes
    -----
    A shortest-path search from the root in which the queue's order is the priority vector's: no way gets better by
    being longer, so the first vector that reaches a bridge is its best one. Bridges are compared by their rank.
    """
    lans = list(lans)
    within = regions or {}
    order = sorted(bridges, key=bridges.__getitem__)
    rank = {device: number for number, device in enumerate(order)}
    at: dict[str, list[tuple[TreeEnd, Lan]]] = defaultdict(list)
    for lan in lans:
        for one in lan:
            at[one.end.device].append((one, lan))
    settled: dict[str, tuple[int, int, int]] = {}
    roots: dict[str, str] = {}
    arrives: dict[str, End] = {}
    for start in order:
        if start not in settled:
            _spread(start, rank, at, within, settled, roots, arrives)
    roles: dict[End, Role] = {}
    for lan in lans:
        region = within.get(lan[0].end.device)
        inside = region is not None and all(within.get(e.end.device) == region for e in lan)
        offers = []
        for one in lan:
            device = one.end.device
            cost, regional, internal = settled[device] if inside else (settled[device][0], rank[device], 0)
            offers.append(((cost, regional, internal, rank[device], one.priority, one.number), one))
        offers.sort(key=lambda entry: entry[0])
        first, winner = offers[0]
        best = _offer(first, order, bridges)
        for vector, one in offers:
            device = one.end.device
            if arrives.get(device) == one.end:
                role = "root"
            elif one is winner:
                role = "designated"
            else:
                role = "backup" if device == winner.end.device else "alternate"
            root = bridges[roots[device]]
            own = best if one is winner else _offer(vector, order, bridges)
            roles[one.end] = Role(role, root, settled[device][0], own, best, winner.end, one.cost, inside)
    return roles


def _offer(vector: tuple[int, ...], order: Sequence[str], bridges: Mapping[str, BridgeId]) -> Offer:
    cost, regional, internal, bridge, priority, number = vector
    return Offer(cost, bridges[order[regional]], internal, bridges[order[bridge]], (priority, number))


def _spread(
    start: str,
    rank: Mapping[str, int],
    at: Mapping[str, list[tuple[TreeEnd, Lan]]],
    within: Mapping[str, object],
    settled: dict[str, tuple[int, int, int]],
    roots: dict[str, str],
    arrives: dict[str, End],
) -> None:
    """Give every bridge that a root reaches its best vector and its root port."""
    queue: list[tuple[tuple[int, ...], str, End | None]] = [((0, rank[start], 0), start, None)]
    while queue:
        vector, device, root_port = heapq.heappop(queue)
        if device in settled:
            continue
        cost, regional, internal = vector[:3]
        settled[device], roots[device] = (cost, regional, internal), start
        if root_port is not None:
            arrives[device] = root_port
        region = within.get(device)
        for near, lan in at.get(device, ()):
            for far in lan:
                other = far.end.device
                if other in settled:
                    continue
                sender = (rank[device], near.priority, near.number, far.priority, far.number)
                if region is not None and within.get(other) == region:
                    way: tuple[int, ...] = (cost, regional, internal + far.cost, *sender)
                else:
                    way = (cost + far.cost, rank[other], 0, *sender)
                heapq.heappush(queue, (way, other, far.end))


def instance_roles(
    bridges: Mapping[str, BridgeId],
    lans: Iterable[Lan],
    regions: Mapping[str, object],
    common: Mapping[End, Role],
) -> dict[End, Role]:
    """The roles of one multiple-tree instance in all regions (IEEE 802.1Q-2018 clause 13.10 and 13.26).

    Parameters
    ----------
    bridges
        Each device's bridge identifier in this instance.
    lans
        All that is up, with this instance's costs.
    regions
        The region of the devices that are in one.
    common
        The roles of the common and internal tree, which decide at the boundary of a region: its root port is the
        region's `master` port in every instance, any other port does there what it does in the common tree.
    """
    inner = []
    for lan in lans:
        region = regions.get(lan[0].end.device)
        if region is not None and all(regions.get(e.end.device) == region and e.end.device in bridges for e in lan):
            inner.append(lan)
    members = {device: own for device, own in bridges.items() if regions.get(device) is not None}
    roles = compute(members, inner, regions)
    for end, known in common.items():
        if end not in roles and end.device in members:
            roles[end] = known._replace(role="master" if known.role == "root" else known.role)
    return roles
