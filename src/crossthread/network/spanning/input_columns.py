"""What decides the trees per VLAN of a large campus, in columns that are collected once for all its instances.

Only for a campus in which nothing asks for closer looking: plain cables between bridges that all run a tree per VLAN,
every input observed. Anything else is left to `tree_inputs`.
"""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Callable, Mapping, Sequence
from functools import partial
from typing import TYPE_CHECKING

from crossthread.network.spanning.role_arrays import ArrayRoles, column_roles
from crossthread.network.spanning.roles import BridgeId
from crossthread.network.three_valued import Bounds
from crossthread.network.topology.adjacency import Adjacency
from crossthread.network.topology.names import End
from crossthread.survey.records import Tree, TreePort
from crossthread.values import VID_MAX

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray


class TreeColumns:
    """The inputs of all trees per VLAN.

    Parameters
    ----------
    adjacencies
        The links between bridges that are up.
    rows, ports
        The rows of trees.csv by device, and those of tree_ports.csv by device, port and instance.
    carries
        The VIDs an end carries.
    """

    def __init__(
        self,
        adjacencies: Sequence[Adjacency],
        rows: Mapping[str, Sequence[Tree]],
        ports: Mapping[tuple[str, str, int], TreePort],
        carries: Callable[[End], Bounds],
    ) -> None:
        import numpy as np

        self._ends = [end for adjacency in adjacencies for end in (adjacency.a, adjacency.b)]
        self._devices = sorted(rows.keys() | {end.device for end in self._ends})
        number = {device: at for at, device in enumerate(self._devices)}
        self._device = np.array([number[end.device] for end in self._ends], np.int64)
        carried = [(carries(adjacency.a).both(carries(adjacency.b))) for adjacency in adjacencies]
        self._sure, self._possible = (_by_vid([getattr(both, part) for both in carried]) for part in Bounds._fields)
        pairs = [frozenset((adjacency.a.device, adjacency.b.device)) for adjacency in adjacencies]
        count = Counter(pairs)
        self._parallel = np.repeat([count[pair] > 1 for pair in pairs], 2)
        place = {end: at for at, end in enumerate(self._ends)}
        self._told: dict[int, list[tuple[int, TreePort]]] = defaultdict(list)
        for (device, port, instance), row in ports.items():
            if (device, port) in place:  # an End is a tuple of just these
                self._told[instance].append((place[End(device, port)], row))
        self._rows: dict[int, list[Tree | None]] = defaultdict(lambda: [None] * len(self._devices))
        for at, device in enumerate(self._devices):
            for held in rows.get(device, ()):
                self._rows[held.instance][at] = held
        self._addressed: dict[tuple[str | None, ...], NDArray[np.int64]] = {}
        self._known: dict[tuple[bytes, ...], ArrayRoles | None] = {}

    def roles(self, instance: int) -> ArrayRoles | None:
        """The roles of every port; None if this instance asks for closer looking.

        Instances with equal inputs are computed once.
        """
        import numpy as np

        if instance > VID_MAX:
            return None
        rows = self._rows[instance]
        first = np.array([row.priority if row is not None else _ABSENT for row in rows], float)  # unknown is NaN
        takes_part = (first != _ABSENT)[self._device].reshape(-1, 2)
        runs = self._sure[:, instance].astype(bool)
        vague = runs != self._possible[:, instance].astype(bool)
        if (vague & takes_part.any(1)).any() or (runs & (takes_part[:, 0] != takes_part[:, 1])).any():
            return None
        kept = np.repeat(runs & takes_part.all(1), 2)
        price, identifier = np.zeros(len(kept), np.int64), np.full(len(kept), 128 << 32)
        known = np.zeros(len(kept), bool)
        for at, row in self._told[instance]:
            if row.cost is not None:
                price[at] = row.cost
            priority = 128 if row.priority is None else row.priority
            identifier[at] = priority << 32 | (row.number or 0)
            known[at] = row.priority is not None and row.number is not None
        if (price[kept] <= 0).any():
            return None
        second = self._by_address(tuple([row.address if row is not None else None for row in rows]))
        if np.isnan(first).any() or (second[first != _ABSENT] < 0).any():
            return None
        order = np.lexsort((second, first))
        rank = np.empty(len(order), np.int64)
        rank[order] = np.arange(len(order))
        device = rank[self._device[kept]]
        if (kept & self._parallel & ~known).any():
            return None  # port identifiers decide
        key = tuple(part.tobytes() for part in (first, second, kept, price[kept], identifier[kept]))
        if key not in self._known:
            ends = [self._ends[at] for at in np.flatnonzero(kept)]
            bridge = partial(_identifier, rows, order)
            self._known[key] = column_roles(len(order), bridge, ends, device, price[kept], identifier[kept])
        return self._known[key]

    def _by_address(self, addresses: tuple[str | None, ...]) -> NDArray[np.int64]:
        """The place of each address among all; negative for none. Mostly the same in every instance."""
        import numpy as np

        if addresses not in self._addressed:
            places = {address: at for at, address in enumerate(sorted({a for a in addresses if a}))}
            self._addressed[addresses] = np.array([places.get(address or "", -1) for address in addresses])
        return self._addressed[addresses]


_ABSENT = 1 << 32
"""In place of a priority: a device that takes no part comes after all that do."""


def _identifier(rows: Sequence[Tree | None], order: NDArray[np.int64], rank: int) -> BridgeId:
    """The identifier of the bridge with this rank."""
    row = rows[order[rank]]
    if row is None or row.priority is None or row.address is None:
        return BridgeId(_ABSENT, "")
    return BridgeId(row.priority, row.address)


def regular(
    adjacencies: Sequence[Adjacency],
    rows: Mapping[str, Sequence[Tree]],
    ports: Mapping[tuple[str, str, int], TreePort],
) -> bool:
    """Whether every device runs a tree per VLAN, on plain cables that are known to be up and not held closed."""
    if {row.protocol for held in rows.values() for row in held} != {"per-vlan"}:
        return False
    if any(row.bpdus == "drop" for row in ports.values()) or any(a.up is not True for a in adjacencies):
        return False
    count = Counter(end for adjacency in adjacencies for end in (adjacency.a, adjacency.b))
    held = (End(device, port) for (device, port, _), row in ports.items() if row.disabled)
    return all(number == 1 for number in count.values()) and not any(map(count.__contains__, held))


def _by_vid(masks: Sequence[int]) -> NDArray[np.uint8]:
    """A row of flags for each link, one for each VID, out of its set of VIDs."""
    import numpy as np

    width = (VID_MAX >> 3) + 1
    raw = np.frombuffer(b"".join(mask.to_bytes(width, "little") for mask in masks), np.uint8)
    return np.unpackbits(raw.reshape(len(masks), width), axis=1, bitorder="little")
