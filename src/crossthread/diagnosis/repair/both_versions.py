"""One fault that is there by IPv4 and by IPv6, found of each version by itself, as one finding."""

from __future__ import annotations

from collections.abc import Iterable

import msgspec

from crossthread.diagnosis.findings import SEVERITIES, Alternative, Finding, Identity
from crossthread.survey.changes import merge_changes


def merge_versions(first: Iterable[Finding], second: Iterable[Finding]) -> list[Finding]:
    """What is found by IPv4, then what only by IPv6; of what is the same but for the version one finding that has both.

    Where a mend is proposed by one version only, the two stay apart: the other is told, not made.
    """
    found = list(first)
    places: dict[tuple[Identity, bool], int] = {}
    for n, finding in enumerate(found):
        places.setdefault((finding.identity, bool(finding.repair)), n)
    for finding in second:
        n = places.get((finding.identity, bool(finding.repair)), len(found))
        if n == len(found):
            found.append(finding)
        else:
            found[n] = _as_one(found[n], finding)
    return found


def _as_one(first: Finding, second: Finding) -> Finding:
    """A finding by IPv4 and the same by IPv6, with what both mend; nobody has weighed the two together."""
    worse, other = sorted((first, second), key=lambda one: SEVERITIES.index(one.severity))
    follows = {one.identity: one for one in (*second.follows, *first.follows)}
    if first.repair == second.repair and (first.repair or first.says == second.says):
        return msgspec.structs.replace(worse, follows=tuple(follows.values()))
    repair = merge_changes((*first.repair, *second.repair))
    told = [(option, option.changes == one.repair) for one in (first, second) for option in one.alternatives]
    against = tuple(dict.fromkeys(reason for option, own in told if own for reason in option.against))
    own = (Alternative(repair, (), against=against),) if against else ()
    return msgspec.structs.replace(
        worse,
        says=first.says if first.says == second.says else f"{first.says} By IPv6: {second.says}",
        evidence=(*first.evidence, *(fact for fact in second.evidence if fact not in first.evidence)),
        repair=repair,
        alternatives=(*own, *(option for option, is_own in told if not is_own)),
        follows=tuple(follows.values()),
        affects=tuple(dict.fromkeys((*worse.affects, *other.affects))),
        affected=max(first.affected, second.affected),
        confidence="likely" if "likely" in (first.confidence, second.confidence) else worse.confidence,
    )
