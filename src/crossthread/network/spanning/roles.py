"""The spanning tree that the standard gives: root, roles and states of one instance, each with what decided it.

A priority vector says how good a way to the root is. It is compared part by part: root, external root path cost,
regional root, internal root path cost, designated bridge, designated port, receiving port (IEEE 802.1D-2004 clause
17.5 and 17.6; with regions IEEE 802.1Q-2018 clause 13.10). Outside regions the regional root is the bridge itself and
the internal cost is 0, so that one algorithm serves single trees, trees per VLAN, and the common and internal tree.
"""

from __future__ import annotations

import heapq
from collections import defaultdict
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
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
    found = Spread(bridges, lans, regions)
    found.all()
    return found.roles()


class Spread:
    """How the best way to the root spreads over bridges, which are compared by their rank.

    Attributes
    ----------
    at
        Each device's ports with the media they are on.
    arrives
        The root port of each bridge that is no root.
    """

    def __init__(
        self, bridges: Mapping[str, BridgeId], lans: Iterable[Lan], regions: Mapping[str, object] | None = None
    ) -> None:
        self._bridges, self._lans, self._within = bridges, list(lans), regions or {}
        self._order = sorted(bridges, key=bridges.__getitem__)
        self._rank = {device: number for number, device in enumerate(self._order)}
        self.at: dict[str, list[tuple[TreeEnd, Lan]]] = defaultdict(list)
        for lan in self._lans:
            for one in lan:
                self.at[one.end.device].append((one, lan))
        self._settled: dict[str, tuple[int, int, int]] = {}
        self._roots: dict[str, str] = {}
        self.arrives: dict[str, End] = {}

    def all(self) -> None:
        """Find the way of every bridge, part by part."""
        for start in self._order:
            if start not in self._settled:
                self._from([((0, self._rank[start], 0), start, None)], {start: start})

    def again(self, below: Collection[str], dead: Collection[int], device: str | None) -> dict[End, Role]:
        """The roles on all media of some bridges, once these have found another way without some media and a device.

        Everything else stays as it is; what was found before is found again afterwards.
        """
        aside = [*below, device] if device in self._settled else [*below]
        kept = [(other, self._settled.pop(other), self._roots[other], self.arrives.pop(other, None)) for other in aside]
        queue: list[_Way] = []
        for other in below:
            for near, lan in self.at[other]:
                for far in lan if id(lan) not in dead else ():
                    if far.end.device in self._settled:
                        queue.append((self._way(far, near), other, near.end))
        heapq.heapify(queue)
        self._from(queue, {}, dead)
        for start in sorted(below, key=self._rank.__getitem__):
            if start not in self._settled:
                self._from([((0, self._rank[start], 0), start, None)], {start: start}, dead)
        touched = {id(lan): lan for other in below for _, lan in self.at[other] if id(lan) not in dead}
        found: dict[End, Role] = {}
        for lan in touched.values():
            found.update(self._on(lan))
        for other, vector, root, arrived in kept:
            self._settled[other], self._roots[other] = vector, root
            self.arrives.pop(other, None)
            if arrived is not None:
                self.arrives[other] = arrived
        return found

    def roles(self) -> dict[End, Role]:
        """What every port does."""
        found: dict[End, Role] = {}
        for lan in self._lans:
            found.update(self._on(lan))
        return found

    def _on(self, lan: Lan) -> Iterator[tuple[End, Role]]:
        """What the ports on a medium do."""
        region = self._within.get(lan[0].end.device)
        inside = region is not None and all(self._within.get(e.end.device) == region for e in lan)
        offers = []
        for one in lan:
            device = one.end.device
            cost, regional, internal = (
                self._settled[device] if inside else (self._settled[device][0], self._rank[device], 0)
            )
            offers.append(((cost, regional, internal, self._rank[device], one.priority, one.number), one))
        offers.sort(key=lambda entry: entry[0])
        first, winner = offers[0]
        best = _offer(first, self._order, self._bridges)
        for vector, one in offers:
            device = one.end.device
            if self.arrives.get(device) == one.end:
                role = "root"
            elif one is winner:
                role = "designated"
            else:
                role = "backup" if device == winner.end.device else "alternate"
            root = self._bridges[self._roots[device]]
            own = best if one is winner else _offer(vector, self._order, self._bridges)
            yield one.end, Role(role, root, self._settled[device][0], own, best, winner.end, one.cost, inside)

    def _way(self, near: TreeEnd, far: TreeEnd) -> tuple[int, ...]:
        """The priority vector that a bridge gets from another, from the port of the one to that of the other."""
        device, other = near.end.device, far.end.device
        cost, regional, internal = self._settled[device]
        sender = (self._rank[device], near.priority, near.number, far.priority, far.number)
        region = self._within.get(device)
        if region is not None and self._within.get(other) == region:
            return (cost, regional, internal + far.cost, *sender)
        return (cost + far.cost, self._rank[other], 0, *sender)

    def _from(self, queue: list[_Way], roots: Mapping[str, str], dead: Collection[int] = ()) -> None:
        """Give every bridge that is reached its best vector and its root port."""
        while queue:
            vector, device, root_port = heapq.heappop(queue)
            if device in self._settled:
                continue
            self._settled[device] = vector[:3]  # type: ignore[assignment]
            self._roots[device] = roots[device] if root_port is None else self._roots[self._sender(vector)]
            if root_port is not None:
                self.arrives[device] = root_port
            for near, lan in self.at.get(device, ()):
                for far in lan if id(lan) not in dead else ():
                    if far.end.device not in self._settled:
                        heapq.heappush(queue, (self._way(near, far), far.end.device, far.end))

    def _sender(self, vector: tuple[int, ...]) -> str:
        return self._order[vector[3]]


_Way = tuple[tuple[int, ...], str, End | None]


def _offer(vector: tuple[int, ...], order: Sequence[str], bridges: Mapping[str, BridgeId]) -> Offer:
    cost, regional, internal, bridge, priority, number = vector
    return Offer(cost, bridges[order[regional]], internal, bridges[order[bridge]], (priority, number))


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
