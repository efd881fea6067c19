"""The spanning tree that the standard gives: root, roles and states of one instance.

Works on one tree at a time, for point-to-point links between bridges (IEEE 802.1D-2004 clause 17).
"""

from __future__ import annotations

import heapq
from collections import defaultdict
from collections.abc import Iterable, Mapping

import msgspec

from crossthread.network.names import End


class BridgeId(msgspec.Struct, frozen=True, order=True):
    """A bridge identifier: priority, then MAC address (IEEE 802.1D-2004 clause 9.2.5)."""

    priority: int
    address: str


class TreeEnd(msgspec.Struct, frozen=True):
    """A bridge port in one instance: its path cost, and its port identifier (clause 9.2.7)."""

    end: End
    cost: int
    priority: int
    number: int


class Role(msgspec.Struct, frozen=True):
    """What a port does in a tree."""

    role: str
    root: BridgeId
    root_cost: int
    """Of the port's bridge."""

    @property
    def forwards(self) -> bool:
        """Whether the port forwards once the tree has settled."""
        return self.role in ("root", "designated")


def default_cost(speed: int) -> int:
    """The recommended path cost of a link speed in Mb/s (IEEE 802.1D-2004 table 17-3)."""
    return max(1, min(200_000_000, 20_000_000 // speed)) if speed else 200_000_000


def compute(bridges: Mapping[str, BridgeId], links: Iterable[tuple[TreeEnd, TreeEnd]]) -> dict[End, Role]:
    """The role of every link end.

    Parameters
    ----------
    bridges
        Each device's bridge identifier in this instance. All differ.
    links
        The links that are up, each between two of these devices or from one to itself.

    Returns
    -------
    dict
        A role for each end: `root`, `designated`, `alternate` or `backup`. Each connected part has its own root.

    References
    ----------
    IEEE 802.1D-2004, 17.5 (priority vectors) and 17.6 (their comparison): the better vector has the lower root
    identifier, then root path cost, designated bridge, designated port, and receiving port.
    """
    links = list(links)
    at: dict[str, list[tuple[TreeEnd, TreeEnd]]] = defaultdict(list)
    for one, two in links:
        at[one.end.device].append((one, two))
        at[two.end.device].append((two, one))
    roots: dict[str, BridgeId] = {}
    costs: dict[str, int] = {}
    arrives: dict[str, End] = {}
    for start in sorted(bridges, key=lambda device: bridges[device]):
        if start not in roots:
            _spread(start, bridges, at, roots, costs, arrives)
    roles: dict[End, Role] = {}
    for one, two in links:
        # The end that offers the better vector is designated: same root, so cost, bridge, port decide.
        offers = sorted(((costs[e.end.device], bridges[e.end.device], e.priority, e.number), e.end) for e in (one, two))
        for rank, (_, end) in enumerate(offers):
            if arrives.get(end.device) == end:
                role = "root"
            elif rank == 0:
                role = "designated"
            else:
                role = "backup" if one.end.device == two.end.device else "alternate"
            roles[end] = Role(role, roots[end.device], costs[end.device])
    return roles


def _spread(
    start: str,
    bridges: Mapping[str, BridgeId],
    at: Mapping[str, list[tuple[TreeEnd, TreeEnd]]],
    roots: dict[str, BridgeId],
    costs: dict[str, int],
    arrives: dict[str, End],
) -> None:
    """Give every bridge that a root reaches its root, root path cost and root port: a shortest-path search.

    The queue's order is the priority vector's, so the first vector that reaches a bridge is its best one.
    """
    queue: list[tuple[tuple[object, ...], str, End | None]] = [((0,), start, None)]
    while queue:
        vector, device, root_port = heapq.heappop(queue)
        if device in roots:
            continue
        cost = vector[0]
        assert isinstance(cost, int)
        roots[device], costs[device] = bridges[start], cost
        if root_port is not None:
            arrives[device] = root_port
        for near, far in at.get(device, []):
            if far.end.device not in roots:
                offer = (
                    cost + far.cost,
                    (bridges[device].priority, bridges[device].address),
                    (near.priority, near.number),
                    (far.priority, far.number),
                )
                heapq.heappush(queue, (offer, far.end.device, far.end))
