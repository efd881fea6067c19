"""Other repairs that are about as small: what else would mend a fault, and which evidence speaks for each."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence

import msgspec

from crossthread.diagnosis.caution import dares
from crossthread.diagnosis.context import Context
from crossthread.diagnosis.findings import Alternative, Finding
from crossthread.diagnosis.judgement import weights
from crossthread.diagnosis.judgement.against import against
from crossthread.diagnosis.judgement.hearing import Hearing
from crossthread.diagnosis.judgement.weighing import accused, weight, witnesses
from crossthread.diagnosis.repair.candidates import others
from crossthread.survey.changes import Change, edited

_MOST = 4
"""How many repairs of one finding are told: whoever reads them has to choose."""

Instead = tuple[tuple[Change, ...], float, int]
"""What another explanation changes, by how much less it weighs, and how many pairs that work would stop with it."""

Way = tuple[tuple[Change, ...], str]
"""Changes elsewhere that would do as well, and what happens then."""


def alternatives(
    context: Context,
    finding: Finding,
    rest: Sequence[Change],
    works: Callable[[Sequence[Change]], bool],
    harm: Callable[[Sequence[Change]], int],
    ways: Iterable[Way] = (),
    instead: Iterable[Instead] = (),
) -> tuple[Alternative, ...]:
    """The repair of a finding and others that are about as small, the one that weighs most first.

    Parameters
    ----------
    context
        The network as it is.
    finding
        What is to be mended.
    rest
        What the other findings change: whom they accuse is no witness.
    works
        Whether the pair that was asked about works with these changes in place of the finding's own.
    harm
        How many pairs that work, other than by luck, would stop with them.
    ways
        Other ways that packets may be let go.
    instead
        What other explanations change.
    """
    chosen = tuple(finding.repair)
    if not chosen:
        return ()
    found = {_key(chosen): chosen}
    elsewhere = list(ways)
    then = {_key(changes): says for changes, says in elsewhere}
    for other in (*others(context, finding), *(changes for changes, _ in elsewhere)):
        if _work(other) <= _work(chosen) + 1:
            found.setdefault(_key(other), other)
    rated = []
    for key, changes in found.items():
        hearing = Hearing(context, accused(context, [*rest, *changes]))
        heavy = weight(hearing, changes) + (weights.DETOUR if key in then else 0.0)
        rated.append((heavy + weights.PROPOSED * (changes == chosen), key, changes, hearing))
    options, free = list[Alternative](), 0
    for heavy, key, changes, hearing in [rated[0], *sorted(rated[1:], key=lambda one: -one[0])]:
        # There may be hundreds that weigh less than those that are told: none of these is tried.
        if free < _MOST and (changes == chosen or (_dares_nothing(context, changes) and works(changes))):
            options.append(_option(hearing, changes, heavy, harm(changes), then.get(key)))
            free += not options[-1].stops
    own = options[0].weight
    told = {_key(option.changes) for option in options}
    for changes, less, stops in instead:
        if changes and _key(changes) not in told:
            told.add(_key(changes))
            hearing = Hearing(context, accused(context, [*rest, *changes]))
            option = _option(hearing, changes, own - less, 0)  # whom it stops is in its weight already
            options.append(msgspec.structs.replace(option, stops=stops))
    harmless = [option for option in options if not option.stops]
    if all(option.weight < weights.AGAINST and option.changes != chosen for option in harmless):
        harmless = []  # what costs nobody and is wrong is no better
    return tuple(sorted(harmless or options, key=lambda option: -option.weight)[:_MOST])


def _dares_nothing(context: Context, changes: Iterable[Change]) -> bool:
    return not any(dares(context, change) for change in changes)


def _work(changes: Sequence[Change]) -> int:
    """How many rows some changes edit, where those of one routing table are done in one go."""
    tables = {change.key.get("device") for change in changes if change.table == "routes"}
    return len(edited(change for change in changes if change.table != "routes")) + len(tables)


def _option(
    hearing: Hearing, changes: tuple[Change, ...], heavy: float, stops: int, then: str | None = None
) -> Alternative:
    says = [then, *(one.says for one in witnesses(hearing, changes))]
    if stops:
        heavy += weights.HARM
    because = tuple(filter(None, dict.fromkeys(says)))
    return Alternative(changes, because, round(heavy, 2), stops, tuple(dict.fromkeys(against(hearing, changes))))


def _key(changes: Sequence[Change]) -> frozenset[str]:
    return frozenset(str(change) for change in changes)
