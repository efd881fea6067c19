"""Who else gains and loses by each step of a repair."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from functools import cached_property
from typing import NamedTuple

import msgspec

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.repair.harm.cut_off import cut_off
from crossthread.diagnosis.repair.harm.management import parted
from crossthread.diagnosis.repair.harm.misplaced import misplaced
from crossthread.diagnosis.repair.harm.turns import Asked, Turn, near_turns, turns
from crossthread.diagnosis.repair.harm.widening import only_widens
from crossthread.diagnosis.repair.work_order import WorkStep
from crossthread.diagnosis.way.echo import lucky, walks
from crossthread.errors import SurveyError
from crossthread.network.network import Network
from crossthread.network.three_valued import Verdict
from crossthread.survey.changes import Change
from crossthread.views.class_matrix import ClassMatrix, Echoes, compare_classes

Pairs = tuple[tuple[str, str], ...]
"""Ordered pairs of hosts by name."""

_HOSTS, _CLASSES = 1000, 100
"""Of how many hosts, and classes of them, all pairs are asked to see whom a repair costs: more would be slow."""
_MOST_CLASSES, _TOLD = 300, 20
"""How many classes where it is asked of a repair that is to be proposed, and not of each that is weighed; of more only
as many pairs as so many have are asked, the nearest first. And how many pairs are told then at most, where there are
many hosts, and one pair stands for all that are alike."""


def with_touches(
    network: Network, steps: Sequence[WorkStep], progress: Callable[[], None] = lambda: None
) -> tuple[WorkStep, ...]:
    """The same steps, each with who of all hosts gains and loses by it."""
    found, now = [], network
    before = Echoes(now)
    for step in steps:
        now = now.mended(step.changes)
        after = before.after(now)
        found.append(msgspec.structs.replace(step, touches=compare_classes(before.matrix, after.matrix)))
        before = after
        progress()
    return tuple(found)


def changed_pairs(before: ClassMatrix, after: ClassMatrix) -> tuple[Pairs, Pairs, Pairs]:
    """The ordered pairs of hosts that start to work, that stop, and of which it changes what is known."""
    found: dict[str, list[tuple[str, str]]] = {"gained": [], "lost": [], "unsure": []}
    for pair, was, now in _changes(before, after):
        found["unsure" if "unknown" in (was, now) else "gained" if now == "works" else "lost"].append(pair)
    gained, lost, unsure = map(tuple, found.values())
    return gained, lost, unsure


def _changes(before: ClassMatrix, after: ClassMatrix) -> list[tuple[tuple[str, str], Verdict, Verdict]]:
    """The ordered pairs of hosts whose verdict changes, with the one and the other, in the order of the hosts.

    Hosts are taken together that neither network can tell apart, so that only pairs that change are looked at singly.
    A host that is in one network only reaches nobody in the other.
    """
    found = [
        ((one, two), turn.was, turn.now)
        for turn in turns(before, after)
        for one in turn.near
        for two in turn.far
        if one != two
    ]
    named = {name for pair, _, _ in found for name in pair}
    listed = enumerate(name for m in (before, after) for names in m.classes for name in names) if named else ()
    order = {name: number for number, name in listed if name in named}
    return sorted(found, key=lambda change: (order[change[0][0]], order[change[0][1]]))


def echoes(context: Context) -> Echoes:
    """Whether classes of hosts reach each other as things are."""
    return Echoes(context.network)


class Costs(NamedTuple):
    """The pairs of hosts that stop with some changes."""

    stops: Pairs = ()
    """Those that work now, and as they should; and devices that part from the gateway of where they are managed.

    So does a pair that comes to ask for an address for which two answer then. Where none does, the hosts that would be
    taken out of the VLAN they belong to.
    """
    luck: Pairs = ()
    """Those that work now, by luck only."""
    doubtful: Pairs = ()
    """Those of which nobody knows whether they work now, and which would do so as they should."""
    unsure: Pairs = ()
    """Those that work now, and as they should, and of which nobody knows whether they do afterwards: they may stop."""


class Stopped:
    """Whom changes of a network would cost, each set of changes worked out once."""

    def __init__(self, context: Context) -> None:
        self._context = context
        self._known: dict[tuple[str, ...], Costs] = {}
        self._luck: dict[tuple[object, ...], bool] = {}
        self._widening: dict[tuple[str, ...], bool] = {}

    def by(self, changes: Sequence[Change], proposed: bool = False) -> Costs:
        """The pairs that stop with some changes.

        Of a network of many hosts, or many kinds of them, nothing is worked out but of what is to be `proposed`, and a
        few pairs stand for all; nor of changes that cannot be made.
        """
        if self.large and not proposed:
            return Costs()
        key = tuple(map(str, changes))
        if key not in self._known:
            self._known[key] = self._find(changes)
        return self._known[key]

    def widens(self, changes: Sequence[Change]) -> bool:
        """Whether some changes of a network of many hosts let more pass and stop nothing, worked out once."""
        key = tuple(map(str, changes))
        if self.large and key not in self._widening:
            self._widening[key] = only_widens(self._context.network, changes)
        return self._widening.get(key, False)

    @cached_property
    def large(self) -> bool:
        """Whether the network has too many hosts, or kinds of them, to ask of each mend whom it stops."""
        network = self._context.network
        return len(network.survey.hosts) > _HOSTS or len(network.classes.all) > _CLASSES

    @property
    def _echoes(self) -> Echoes:
        return self._context.once(echoes)

    @property
    def _before(self) -> ClassMatrix:
        return self._echoes.matrix

    @cached_property
    def _asked(self) -> Asked:
        return Asked(self._context.network)

    def _lucky(self, pair: tuple[str, str]) -> bool:
        """Whether a pair works by luck only, worked out once for all of one class that are at the same device."""
        hosts, classes = self._context.network.stations.hosts, self._context.network.classes
        ends = [hosts[name.casefold()].end for name in pair]
        places = [classes.place(hosts.number(name)) for name in pair]
        key = tuple((place, end.device if end else None) for place, end in zip(places, ends, strict=True))
        if key not in self._luck:
            self._luck[key] = lucky(self._context, *pair)
        return self._luck[key]

    def _find(self, changes: Sequence[Change]) -> Costs:
        try:
            after = self._context.network.mended(changes)
        except SurveyError:
            return Costs()
        costs = self._of_hosts(changes, after)
        stops = costs.stops + parted(self._context, after)
        stops = stops or misplaced(self._context, changes, after) or cut_off(self._context, after)
        return costs._replace(stops=stops)

    def _of_hosts(self, changes: Sequence[Change], after: Network) -> Costs:
        many = len(self._context.network.classes.all) > _MOST_CLASSES
        if many or (self.large and after.moved is not None):
            return self._examples(near_turns(self._asked, Asked(after), changes, _MOST_CLASSES**2), after)
        now = self._echoes.after(after).matrix
        if self.large:
            return self._examples(turns(self._before, now), after)
        changed = _changes(self._before, now)
        turned = {
            pair: (was, now) for pair, was, now in changed if now == "fails" or (was, now) == ("works", "unknown")
        }
        by_luck = {pair for pair in turned if self._lucky(pair)}

        def those(was: Verdict, now: Verdict, lucky: bool = False) -> Pairs:
            return tuple(pair for pair, turn in turned.items() if turn == (was, now) and (pair in by_luck) is lucky)

        unsure = those("works", "unknown")
        twice = {pair for pair in unsure if _answered_twice(after, pair)}
        return Costs(
            stops=those("works", "fails") + tuple(pair for pair in unsure if pair in twice),
            luck=those("works", "fails", lucky=True),
            doubtful=those("unknown", "fails"),
            unsure=tuple(pair for pair in unsure if pair not in twice),
        )

    def _examples(self, found_turns: Iterable[Turn], after: Network) -> Costs:
        """The same for a network of many hosts: one pair for all that are alike, and no more than a few."""
        found: dict[str, list[tuple[str, str]]] = {name: [] for name in Costs._fields}
        kinds = {("works", "fails"): "stops", ("unknown", "fails"): "doubtful", ("works", "unknown"): "unsure"}
        for turn in found_turns:
            kind, pair = kinds.get((turn.was, turn.now)), turn.example
            if kind is None or pair is None or len(found[kind]) >= _TOLD or len(found["luck"]) >= 5 * _TOLD:
                continue
            if not self._lucky(pair):
                found["stops" if kind == "unsure" and _answered_twice(after, pair) else kind].append(pair)
            elif kind == "stops":
                found["luck"].append(pair)
        return Costs(**{name: tuple(pairs) for name, pairs in found.items()})

    def sound(self, changes: Sequence[Change]) -> Pairs:
        """The pairs that stop, or may, of those that work as they should, or may do so for all that was read."""
        costs = self.by(changes)
        return costs.stops + costs.doubtful + costs.unsure


def _answered_twice(network: Network, pair: tuple[str, str]) -> bool:
    """Whether a pair asks for an address for which more than one answers."""
    return any(walk.contests for walk in walks(network, *pair))
