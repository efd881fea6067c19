"""The spanning tree of a large campus, by arrays: the same roles as `spanning.compute`, for plain cables only.

Root path costs are shortest-path costs, which SciPy's Dijkstra finds; a root port is then the least of the vectors that
a bridge receives, and a designated port the better end of its cable, both by sorting columns. A role's record is made
when it is asked for.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from functools import cached_property
from itertools import chain
from typing import TYPE_CHECKING

from crossthread.network.spanning.roles import BridgeId, Lan, Offer, Role
from crossthread.network.topology.names import End

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    Numbers = NDArray[np.int64]

_ROLES = ("alternate", "designated", "root")


class ArrayRoles(Mapping[End, Role]):
    """The roles of every port, each made into a record when it is looked at."""

    def __init__(
        self,
        bridge: Callable[[int], BridgeId],
        ends: Sequence[End],
        device: Numbers,
        price: Numbers,
        identifier: Numbers,
        cost: Numbers,
        roots: Numbers,
        code: Numbers,
    ) -> None:
        self._bridge, self._ends, self._device, self._price = bridge, ends, device, price
        self._identifier, self._cost, self._roots, self._code = identifier, cost, roots, code

    @cached_property
    def _places(self) -> dict[End, int]:
        return {end: at for at, end in enumerate(self._ends)}

    def __len__(self) -> int:
        return len(self._places)

    def __iter__(self) -> Iterator[End]:
        return iter(self._places)

    def __getitem__(self, end: End) -> Role:
        at = self._places[end]
        winner = at if self._wins(at) else at ^ 1
        best = self._offer(winner)
        offer = best if winner == at else self._offer(at)
        root = self._bridge(int(self._roots[self._device[at]]))
        cost = int(self._cost[self._device[at]])
        role = _ROLES[int(self._code[at])]
        return Role(role, root, cost, offer, best, self._ends[winner], int(self._price[at]), False)

    def _wins(self, at: int) -> bool:
        """Whether a port offers the better way of the two on its cable."""
        one, two = (int(self._device[n]) for n in (at, at ^ 1))
        return (self._cost[one], one) < (self._cost[two], two)

    def _offer(self, at: int) -> Offer:
        device, identifier = int(self._device[at]), int(self._identifier[at])
        own = self._bridge(device)
        return Offer(int(self._cost[device]), own, 0, own, (identifier >> 32, identifier & 0xFFFFFFFF))


def array_roles(bridges: Mapping[str, BridgeId], lans: Sequence[Lan]) -> ArrayRoles | None:
    """The roles of every port; None if a medium is no plain cable between two bridges, or a cost is 0.

    See `spanning.compute` for the parameters.
    """
    import numpy as np

    if set(map(len, lans)) - {2}:
        return None
    order = sorted((own, name) for name, own in bridges.items())
    rank = {name: number for number, (_, name) in enumerate(order)}
    ends = list(chain.from_iterable(lans))
    device = np.fromiter((rank[one[0][0]] for one in ends), np.int64, len(ends))
    price = np.fromiter((one[1] for one in ends), np.int64, len(ends))
    identifier = np.fromiter((one[2] << 32 | one[3] for one in ends), np.int64, len(ends))
    own = [own for own, _ in order]
    return column_roles(len(own), own.__getitem__, [one[0] for one in ends], device, price, identifier)


def column_roles(
    bridges: int,
    bridge: Callable[[int], BridgeId],
    ends: Sequence[End],
    device: Numbers,
    price: Numbers,
    identifier: Numbers,
) -> ArrayRoles | None:
    """The roles of every port; None if a cable ends twice on one bridge, or a cost is 0.

    Parameters
    ----------
    bridges, bridge
        How many bridges there are, and the identifier of one by its rank, the best being 0.
    ends
        Both ends of each cable, one after the other.
    device, price, identifier
        For each end the rank of its bridge, its cost, and its priority times 2**32 plus its number: NumPy arrays.
    """
    import numpy as np
    from scipy.sparse import coo_matrix
    from scipy.sparse.csgraph import connected_components, dijkstra

    other = np.arange(len(ends)) ^ 1
    facing = device[other]
    if (device == facing).any() or (price <= 0).any():
        return None
    # A frame to port n comes from the device at the other end, and costs what port n costs; the least of several.
    sort = np.lexsort((price, facing * bridges + device))
    pair = (facing * bridges + device)[sort]
    kept = sort[np.concatenate(([True], pair[1:] != pair[:-1]))] if len(ends) else sort
    size = (bridges, bridges)
    graph = coo_matrix((price[kept].astype(float), (facing[kept], device[kept])), shape=size).tocsr()
    _, label = connected_components(graph, directed=False)
    _, lowest = np.unique(label, return_index=True)
    roots = lowest[label]
    cost = dijkstra(graph, indices=lowest, min_only=True).astype(np.int64)
    heard = cost[facing] + price
    best = np.lexsort((identifier, identifier[other], facing, heard, device))
    root_ports = best[np.concatenate(([True], device[best][1:] != device[best][:-1]))] if len(ends) else best
    near, far = cost[device], cost[facing]
    code = ((near < far) | ((near == far) & (device < facing))).astype(np.int64)
    root_ports = root_ports[roots[device[root_ports]] != device[root_ports]]
    code[root_ports] = 2
    return ArrayRoles(bridge, ends, device, price, identifier, cost, roots, code)
