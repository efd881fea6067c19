"""Who else gains and loses by each step of a repair."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Sequence
from functools import cached_property

import msgspec

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.repair.work_order import WorkStep
from crossthread.diagnosis.way.echo import lucky
from crossthread.errors import SurveyError
from crossthread.network.network import Network
from crossthread.survey.changes import Change
from crossthread.views.matrix import ClassMatrix, class_matrix, compare_classes

Pairs = tuple[tuple[str, str], ...]
"""Ordered pairs of hosts by name."""

_HOSTS, _CLASSES = 1000, 100
"""Of how many hosts, and classes of them, all pairs are asked to see whom a repair costs: more would be slow."""


def with_touches(
    network: Network, steps: Sequence[WorkStep], progress: Callable[[], None] = lambda: None
) -> tuple[WorkStep, ...]:
    """The same steps, each with who of all hosts gains and loses by it."""
    found, now = [], network
    before = class_matrix(now)
    for step in steps:
        now = now.mended(step.changes)
        after = class_matrix(now)
        found.append(msgspec.structs.replace(step, touches=compare_classes(before, after)))
        before = after
        progress()
    return tuple(found)


def changed_pairs(before: ClassMatrix, after: ClassMatrix) -> tuple[Pairs, Pairs, Pairs]:
    """The ordered pairs of hosts that start to work, that stop, and of which it changes what is known.

    Hosts are taken together that neither network can tell apart, so that only pairs that change are looked at singly.
    A host that is in one network only reaches nobody in the other.
    """
    matrices = before, after
    places = [{name: n for n, names in enumerate(m.classes) for name in names} for m in matrices]
    verdicts = [{(a, b): verdict for a, b, verdict in m.reaches} for m in matrices]
    parts: dict[tuple[int | None, int | None], list[str]] = defaultdict(list)
    for name in dict.fromkeys((*places[0], *places[1])):
        parts[places[0].get(name), places[1].get(name)].append(name)
    found: dict[str, list[tuple[str, str]]] = {"gained": [], "lost": [], "unsure": []}
    for (old, new), members in parts.items():
        for (far_old, far_new), others in parts.items():
            was = verdicts[0].get((old, far_old), "fails")  # type: ignore[arg-type]
            now = verdicts[1].get((new, far_new), "fails")  # type: ignore[arg-type]
            if was != now:
                kind = "unsure" if "unknown" in (was, now) else "gained" if now == "works" else "lost"
                found[kind] += [(one, two) for one in members for two in others if one != two]
    order = {name: number for number, name in enumerate((*places[0], *places[1]))}
    gained, lost, unsure = (
        tuple(sorted(pairs, key=lambda pair: (order[pair[0]], order[pair[1]]))) for pairs in found.values()
    )
    return gained, lost, unsure


class Stopped:
    """Whom changes of a network would cost, each set of changes worked out once."""

    def __init__(self, context: Context) -> None:
        self._context = context
        self._known: dict[tuple[str, ...], tuple[Pairs, Pairs]] = {}

    def by(self, changes: Sequence[Change]) -> tuple[Pairs, Pairs]:
        """The pairs that work and stop with some changes: those that work as they should, and those by luck only.

        Of a network of many hosts, or many kinds of them, nothing is worked out; nor of changes that cannot be made.
        """
        network = self._context.network
        if len(network.survey.hosts) > _HOSTS or len(network.classes.all) > _CLASSES:
            return (), ()
        key = tuple(map(str, changes))
        if key not in self._known:
            self._known[key] = self._find(changes)
        return self._known[key]

    @cached_property
    def _before(self) -> ClassMatrix:
        return class_matrix(self._context.network)

    def _find(self, changes: Sequence[Change]) -> tuple[Pairs, Pairs]:
        try:
            after = self._context.network.mended(changes)
        except SurveyError:
            return (), ()
        lost = changed_pairs(self._before, class_matrix(after))[1]
        by_luck = {pair for pair in lost if lucky(self._context, *pair)}
        return tuple(p for p in lost if p not in by_luck), tuple(p for p in lost if p in by_luck)
