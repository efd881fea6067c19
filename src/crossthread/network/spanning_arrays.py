"""The spanning tree of a large campus, by arrays: the same roles as `spanning.compute`, for plain cables only.

Root path costs are shortest-path costs, which SciPy's Dijkstra finds; a root port is then the least of the vectors that
a bridge receives, and a designated port the better end of its cable, both by sorting columns. A role's record is made
when it is asked for.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from functools import cached_property
from itertools import chain
from typing import Any

from crossthread.network.names import End
from crossthread.network.spanning import BridgeId, Lan, Offer, Role

_ROLES = ("alternate", "designated", "root")


class ArrayRoles(Mapping[End, Role]):
    """The roles of every port, each made into a record when it is looked at."""

    def __init__(
        self, bridges: Mapping[str, BridgeId], order: Sequence[str], lans: Sequence[Lan], device: Any, cost: Any,
        roots: Any, code: Any,
    ) -> None:  # fmt: skip
        self._bridges, self._order, self._lans = bridges, order, lans
        self._device, self._cost, self._roots, self._code = device, cost, roots, code

    @cached_property
    def _places(self) -> dict[End, int]:
        return {one.end: at for at, one in enumerate(chain.from_iterable(self._lans))}

    def __len__(self) -> int:
        return len(self._places)

    def __iter__(self) -> Iterator[End]:
        return iter(self._places)

    def __getitem__(self, end: End) -> Role:
        at = self._places[end]
        winner = at if self._wins(at) else at ^ 1
        own = self._lans[at >> 1][at & 1]
        best = self._offer(winner)
        offer = best if winner == at else self._offer(at)
        root = self._bridges[self._order[int(self._roots[self._device[at]])]]
        cost = int(self._cost[self._device[at]])
        designated = self._lans[winner >> 1][winner & 1].end
        return Role(_ROLES[int(self._code[at])], root, cost, offer, best, designated, own.cost, False)

    def _wins(self, at: int) -> bool:
        """Whether a port offers the better way of the two on its cable."""
        one, two = (int(self._device[n]) for n in (at, at ^ 1))
        return (self._cost[one], one) < (self._cost[two], two)

    def _offer(self, at: int) -> Offer:
        device = int(self._device[at])
        own = self._bridges[self._order[device]]
        one = self._lans[at >> 1][at & 1]
        return Offer(int(self._cost[device]), own, 0, own, (one.priority, one.number))


def array_roles(bridges: Mapping[str, BridgeId], lans: Sequence[Lan]) -> ArrayRoles | None:
    """The roles of every port; None if a medium is no plain cable between two bridges, or a cost is 0.

    See `spanning.compute` for the parameters.
    """
    import numpy as np
    from scipy.sparse import coo_matrix
    from scipy.sparse.csgraph import connected_components, dijkstra

    if set(map(len, lans)) - {2}:
        return None
    order = [name for _, name in sorted(zip(bridges.values(), bridges, strict=True))]
    rank = {name: number for number, name in enumerate(order)}
    ends = list(chain.from_iterable(lans))
    device = np.fromiter((rank[one[0][0]] for one in ends), np.int64, len(ends))
    price = np.fromiter((one[1] for one in ends), np.int64, len(ends))
    identifier = np.fromiter((one[2] << 32 | one[3] for one in ends), np.int64, len(ends))
    other = np.arange(len(ends)) ^ 1
    if (device == device[other]).any() or (price <= 0).any():
        return None
    # A frame to port n comes from the device at the other end, and costs what port n costs; the least of several.
    sort = np.lexsort((price, device, device[other]))
    first = np.ones(len(ends), bool)
    first[1:] = (device[sort][1:] != device[sort][:-1]) | (device[other][sort][1:] != device[other][sort][:-1])
    kept = sort[first]
    size = (len(order), len(order))
    graph = coo_matrix((price[kept].astype(float), (device[other][kept], device[kept])), shape=size).tocsr()
    _, label = connected_components(graph, directed=False)
    _, lowest = np.unique(label, return_index=True)
    roots = lowest[label]
    cost = dijkstra(graph, indices=lowest, min_only=True).astype(np.int64)
    heard = cost[device[other]] + price
    best = np.lexsort((identifier, identifier[other], device[other], heard, device))
    root_ports = best[np.concatenate(([True], device[best][1:] != device[best][:-1]))] if ends else best
    near, far = cost[device], cost[device[other]]
    code = ((near < far) | ((near == far) & (device < device[other]))).astype(np.int64)
    root_ports = root_ports[roots[device[root_ports]] != device[root_ports]]
    code[root_ports] = 2
    return ArrayRoles(bridges, order, lans, device, cost, roots, code)
