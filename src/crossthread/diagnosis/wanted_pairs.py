"""Which pairs of hosts should reach each other, and how many of them do, now and after each of some changes."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Iterable, Mapping, Sequence
from functools import cached_property
from typing import NamedTuple

import msgspec

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.expected.islands import Islands
from crossthread.diagnosis.rules.host.address import beside
from crossthread.network.three_valued import Verdict
from crossthread.values import NONE, Prefix
from crossthread.views.class_matrix import ClassMatrix


class Share(msgspec.Struct, frozen=True):
    """How many of the wanted ordered pairs work."""

    works: int
    unknown: int
    wanted: int

    @property
    def part(self) -> float:
        """From 0 to 1."""
        return self.works / self.wanted if self.wanted else 1.0


_Cell = tuple[int, int]
"""A kind of hosts by what decides whom they should reach, and a class of a matrix."""


class _Place(NamedTuple):
    """What decides whom a host should reach."""

    version: int
    subnet: Prefix
    vid: int | None
    routed: bool


class Wanted:
    """The pairs that should work: by the plan, and hosts of one subnet, and of joined subnets that have gateways.

    Parameters
    ----------
    context
        The network as it is, with its plan if there is one; what is wanted stays the same when changes are made.
    """

    def __init__(self, context: Context) -> None:
        self._plan, self._islands = context.plan, context.once(Islands)
        self._kind: dict[str, int] = {}
        """Of each host the number of what decides whom it should reach."""
        expected = context.expected
        routed: Counter[Prefix] = Counter()
        found: list[tuple[tuple[str, ...], Prefix, int | None]] = []
        for one in context.network.classes.all:
            first = one.hosts[0]
            subnet, vid = expected.subnet(first), expected.vlan(first)
            if subnet is None and first.row.address == NONE:
                subnet = next((s for one in beside(context, first) if (s := expected.subnet(one)) is not None), None)
            if subnet is None:
                continue
            gateway = bool(expected.gateways(first)) or one.gateway not in (None, NONE)
            routed[subnet.network] += len(one.hosts) if gateway else -len(one.hosts)
            found.append((one.hosts.names, subnet.network, vid))
        self._kinds: list[_Place] = []
        numbers: dict[_Place, int] = {}
        for names, network, vid in found:
            place = _Place(network.version, network, vid, routed[network] > 0)
            if place not in numbers:
                numbers[place] = len(self._kinds)
                self._kinds.append(place)
            self._kind.update(dict.fromkeys(names, numbers[place]))

    def _wants(self, one: _Place, two: _Place) -> bool:
        if one.version != two.version:
            return False
        routed = one.routed and two.routed and self._islands.same(one.subnet, two.subnet)
        return (routed or one.subnet == two.subnet or one.subnet.overlaps(two.subnet)) and self._plan.may_talk(
            one.vid, two.vid
        )

    def share(self, matrix: ClassMatrix) -> Share:
        """How many of the wanted pairs work, by the matrix of a network with the same hosts."""
        return self.tally(matrix).share()

    def tally(self, matrix: ClassMatrix) -> Tally:
        """The same for those who want to know it without some of the hosts, too."""
        cells: Counter[tuple[int, int]] = Counter()
        for number, names in enumerate(matrix.classes):
            kinds = Counter(map(self._kind.get, names))
            cells.update({(kind, number): many for kind, many in kinds.items() if kind is not None})
        verdicts = {(a, b): verdict for a, b, verdict in matrix.reaches}
        held = {kind for kind, _ in cells}
        wants = {(a, b): self._wants(self._kinds[a], self._kinds[b]) for a in held for b in held}
        wanted = [
            (near, far, verdicts.get((near[1], far[1]), "works"))
            for near in cells
            for far in cells
            if wants[near[0], far[0]]
        ]
        return Tally(self._kind, matrix.classes, cells, wanted)


class Tally:
    """How many hosts of each kind are in each class of a matrix, and the verdicts between those that want each other.

    Parameters
    ----------
    kind
        The kind of each host.
    classes
        The hosts of each class.
    cells
        How many hosts there are of each kind and class.
    wanted
        From which cell to which there are wanted pairs, and their verdict.
    """

    def __init__(
        self,
        kind: Mapping[str, int],
        classes: Sequence[Sequence[str]],
        cells: Mapping[_Cell, int],
        wanted: Sequence[tuple[_Cell, _Cell, Verdict]],
    ) -> None:
        self._kind, self._classes, self._cells, self._wanted = kind, classes, cells, wanted

    def share(self, asleep: Collection[str] = ()) -> Share:
        """How many of the wanted pairs work, if none does of some hosts, which are switched off."""
        awake = Counter(self._cells)
        awake.subtract(self._cell[name] for name in asleep if name in self._kind)
        counts: Counter[str] = Counter()
        wanted = 0
        for near, far, verdict in self._wanted:
            counts[verdict] += awake[near] * (awake[far] - (near == far))
            wanted += self._cells[near] * (self._cells[far] - (near == far))
        return Share(counts["works"], counts["unknown"], wanted)

    @cached_property
    def _cell(self) -> dict[str, _Cell]:
        """The kind and class of each host that should reach anybody."""
        kind = self._kind
        return {name: (kind[name], n) for n, names in enumerate(self._classes) for name in names if name in kind}


def shares(context: Context, matrices: Iterable[ClassMatrix]) -> tuple[Share, ...]:
    """How many of the wanted pairs work, by each of some matrices."""
    return tuple(map(Wanted(context).share, matrices))
