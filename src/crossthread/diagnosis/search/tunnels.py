"""What it costs to get a VLAN through a tunnel of service tags, as if it were a cable between those at its ends."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterator
from functools import reduce
from itertools import permutations
from typing import NamedTuple

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.search.costs import Cost, Step
from crossthread.diagnosis.search.crossings import Crossings
from crossthread.network.switching.nodes import Node
from crossthread.network.topology.adjacency import Adjacency
from crossthread.network.topology.names import End


class _Entry(NamedTuple):
    """A tunnel port, and what is cabled to it."""

    end: End
    cable: Adjacency
    customer: End


class _Tunnel(NamedTuple):
    """A service VLAN from one tunnel port to another, and the two that it joins as a cable would."""

    service: int
    near: _Entry
    far: _Entry
    joined: Adjacency


class Tunnels:
    """The tunnels whose two ends are set to one service VLAN, whether or not that gets from one to the other.

    Parameters
    ----------
    context, crossings
        The network, and what its links cost.
    between
        What it costs to get a service VLAN from one place to another, past no tunnel.
    """

    def __init__(self, context: Context, crossings: Crossings, between: Callable[[Node, Node], Step | None]) -> None:
        self._context, self._crossings, self._between = context, crossings, between
        self._out: dict[str, list[_Tunnel]] = defaultdict(list)
        for vid, entries in self._entries().items():
            for near, far in permutations(entries, 2):
                if near.end != far.end and near.customer != far.customer:
                    joined = Adjacency(near.customer, far.customer, (), True)
                    self._out[near.customer.device].append(_Tunnel(vid, near, far, joined))

    def _entries(self) -> dict[int, list[_Entry]]:
        survey, found = self._context.network.survey, defaultdict[int, list[_Entry]](list)
        if "tunnel" not in survey.column("ports", "mode"):
            return found
        for end, cables in self._context.adjacencies_at.items():
            row = self._context.port(end)
            if row is not None and row.mode == "tunnel" and row.pvid:
                found[row.pvid] += (_Entry(end, cable, cable.far(end)) for cable in cables)
        return found

    def steps(self, at: Node) -> Iterator[tuple[Node, Step]]:
        """Where a VLAN on a device gets through tunnels, or would if they were mended, and what that costs."""
        for tunnel in self._out.get(at.device, ()):
            step = self._price(tunnel, at.vid)
            if step is not None:
                yield Node(tunnel.far.customer.device, at.vid), step

    def _price(self, tunnel: _Tunnel, vid: int) -> Step | None:
        near, far, service = tunnel.near, tunnel.far, tunnel.service
        through = self._between(Node(near.end.device, service), Node(far.end.device, service))
        settings = self._crossings.price(tunnel.joined, vid)
        if through is None or settings is None:
            return None
        near_end, far_end = (self._crossings.opened(one.cable, service) for one in (near, far))
        parts = (near_end, through, settings, far_end)
        found = {finding.identity: finding for part in parts for finding in part.findings}
        return Step(reduce(Cost.plus, (part.cost for part in parts)), tuple(found.values()))
