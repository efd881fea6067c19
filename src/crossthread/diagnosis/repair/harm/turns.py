"""How verdicts between kinds of hosts turn with some changes: between all, or between those that are nearest."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from itertools import filterfalse
from typing import NamedTuple

from crossthread.network.hosts.classes import HostClass
from crossthread.network.network import Network
from crossthread.network.routing.forwarding import Forwarding
from crossthread.network.three_valued import VERDICTS, Verdict
from crossthread.survey.changes import Change
from crossthread.views.class_matrix import ClassMatrix
from crossthread.views.matrix import both

_Part = tuple[int | None, int | None]
"""The numbers of the classes that some hosts are in before and after; None where they are in no network."""


class Turn(NamedTuple):
    """Hosts that are alike before and after some changes, others that are, and how the verdict between them changes."""

    near: Sequence[str]
    far: Sequence[str]
    was: Verdict
    now: Verdict

    @property
    def example(self) -> tuple[str, str] | None:
        """One pair that stands for all of them; None if there is but one host."""
        one = self.near[0]
        two = next((name for name in self.far if name != one), None)
        return (one, two) if two is not None else None


_Classes = Sequence[Sequence[str]]


def _parts(before: _Classes, after: _Classes) -> dict[_Part, Sequence[str]]:
    """The hosts that are of one class before and after some changes, by the numbers of these; most are unchanged.

    A class that has the same hosts begins with the same; where it has, all of them are compared.
    """
    numbers = {names[0]: n for n, names in enumerate(after)}
    pairs = ((n, numbers.get(names[0])) for n, names in enumerate(before))
    same = [(old, new) for old, new in pairs if new is not None and before[old] == after[new]]
    parts: dict[_Part, Sequence[str]] = {(old, new): before[old] for old, new in same}
    stayed = {old for old, _ in same}, {new for _, new in same}
    now: dict[str, int | None] = {}
    for new, names in enumerate(after):
        if new not in stayed[1]:
            now.update(dict.fromkeys(names, new))
    known: set[str] = set()
    for old, names in enumerate(before):
        if old not in stayed[0]:
            known.update(names)
            parts |= {(old, new): held for new, held in _divided(names, map(now.get, names)).items()}
    fresh = list(filterfalse(known.__contains__, now))
    return parts | {(None, new): held for new, held in _divided(fresh, map(now.get, fresh)).items()}


def _divided(names: Sequence[str], places: Iterable[int | None]) -> dict[int | None, Sequence[str]]:
    """Some hosts by the classes that they are in; most of one class are in one."""
    held = list(places)
    if len(set(held)) == 1:
        return {held[0]: names}
    found: dict[int | None, list[str]] = defaultdict(list)
    for name, place in zip(names, held, strict=True):
        found[place].append(name)
    return dict(found)


def turns(before: ClassMatrix, after: ClassMatrix) -> Iterator[Turn]:
    """What turns between all classes; a host that is in one network only reaches nobody in the other."""
    verdicts: list[dict[_Part, Verdict]]
    verdicts = [{(a, b): verdict for a, b, verdict in m.reaches} for m in (before, after)]
    parts = _parts(before.classes, after.classes)
    for (old, new), members in parts.items():
        for (far_old, far_new), others in parts.items():
            was, now = verdicts[0].get((old, far_old), "fails"), verdicts[1].get((new, far_new), "fails")
            if was != now:
                yield Turn(members, others, was, now)


class Asked:
    """Whether classes of hosts reach each other, worked out for each two of them when somebody asks.

    Parameters
    ----------
    network
        A network with more classes than all pairs are asked of.
    """

    def __init__(self, network: Network) -> None:
        self.network = network
        self.names = [one.hosts.names for one in network.classes.all]
        self._forwarding = Forwarding(network)
        self._known: dict[_Part, Verdict] = {}

    def verdict(self, one: int | None, two: int | None) -> Verdict:
        """The verdict from a class to a class, by their numbers; from a class to itself, between two of its hosts."""
        if one is None or two is None or (one == two and len(self.names[one]) < 2):
            return "fails"
        if (one, two) not in self._known:
            classes = self.network.classes.all
            near, far = classes[one].hosts[0], classes[two].hosts[int(one == two)]
            there, back = both(self.network, self._forwarding, near, far)
            self._known[one, two], self._known[two, one] = VERDICTS[there], VERDICTS[back]
        return self._known[one, two]


def near_turns(before: Asked, after: Asked, changes: Sequence[Change], most: int) -> Iterator[Turn]:
    """What turns for the worse between the classes that some changes are nearest to and all others.

    Where nothing but hosts moves, those are all that can turn. Else so many pairs are asked at most: first come the
    classes whose VLAN the changes name or whose VLAN holds together otherwise with them, or whose gateway is on a
    changed device; then those that are at one; then some of the rest.
    """
    parts = _parts(before.names, after.names)
    moved = after.network.moved
    if moved is not None and moved[0] is before.network:
        number = before.network.stations.hosts.number
        rows = [part for part, (first, *_) in parts.items() if number(first) in moved[1]]
    else:
        rows = _nearest(before.network, after.network, parts, changes)[: max(1, most // max(1, len(parts)))]
    for part in rows:
        for other in parts:
            for near, far in dict.fromkeys(((part, other), (other, part))):
                now = after.verdict(near[1], far[1])
                if now == "works":  # whatever it was
                    continue
                was = before.verdict(near[0], far[0])
                if was != now:
                    yield Turn(parts[near], parts[far], was, now)


def _nearest(
    before: Network, after: Network, parts: Mapping[_Part, Sequence[str]], changes: Sequence[Change]
) -> list[_Part]:
    """The parts that changes may concern, the nearest first."""
    named = _vids(changes)
    devices = {str(change.key["device"]) for change in changes if "device" in change.key}
    gateways = {str(station.ip) for station in before.stations.gateways if station.row.device in devices}
    same: dict[int, bool] = {}

    def rank(part: _Part) -> int:
        one = _class_of(before, after, part)
        if one.vid is not None and one.vid not in same:
            roots = [network.components.roots(one.vid) for network in (before, after)]
            same[one.vid] = one.vid not in named and roots[0] == roots[1]
        if (one.vid is not None and not same[one.vid]) or one.gateway in gateways:
            return 0
        return 1 if any(device in one.devices for device in devices) or not one.devices else 2

    ranked = {part: rank(part) for part in parts}
    near = sorted((part for part in parts if ranked[part] < 2), key=ranked.__getitem__)
    rest = [part for part in parts if ranked[part] == 2]
    return near + [part for first in range(_APART) for part in rest[first::_APART]]


_APART = 7
"""In what steps the rest are taken, as those that stand one after the other are often alike."""


def _class_of(before: Network, after: Network, part: _Part) -> HostClass:
    old, new = part
    if old is not None:
        return before.classes.all[old]
    assert new is not None  # hosts are in one network at least
    return after.classes.all[new]


def _vids(changes: Sequence[Change]) -> Collection[int]:
    """The VLANs that changes name, in a key or as what is set."""
    cells = [value for change in changes for value in (*change.key.values(), *change.cells.values())]
    return {value for value in cells if isinstance(value, int)}
