"""Mends that are found, and not proposed, as they would stop somebody: only told, or left out."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence

import msgspec

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.findings import Alternative, Finding
from crossthread.diagnosis.repair.harm.side_effects import Pairs, Stopped
from crossthread.diagnosis.repair.together import carrying_all, changes_of
from crossthread.diagnosis.repair.withheld import ONLY_TOLD, bare, told_only
from crossthread.network.topology.names import End
from crossthread.survey.changes import Change, merge_changes


def harmless(context: Context, findings: Sequence[Finding], told: bool = False, luck: bool = False) -> list[Finding]:
    """The same findings without the mends that stop a pair which works as it should, or may do so.

    If those are to be told all the same, as each would mend the pair, they stay among the alternatives. With `luck`
    without those as well that stop a pair which works by luck, as where those who are asked about gain nothing by them.
    """

    def stops(changes: Sequence[Change]) -> bool:
        costs = context.once(Stopped).by(changes, proposed=True)
        return bool(costs.stops or costs.doubtful or (luck and costs.luck))

    without = told_only if told else bare
    found = [without(one) if stops(one.repair) else one for one in findings]
    return [without(finding) for finding in found] if stops(changes_of(found)) else found


def each_harmless(context: Context, findings: Iterable[Finding]) -> list[Finding]:
    """The same findings, each without its mend if that by itself would stop a pair which works as it should.

    In a network of many hosts what is mended at single hosts is asked together first, and what lets links carry more,
    and each by itself only if that would stop somebody. Who has an address that is another's gives it back before
    anything else is done.
    """
    stopped, found = context.once(Stopped), list(findings)
    back = changes_of(finding for finding in found if finding.rule == "host-address-duplicate")
    if back and _stops(stopped, back):
        back = ()

    def harms(changes: Sequence[Change]) -> Pairs:
        return _stops(stopped, merge_changes([*back, *changes]))

    told = [finding for finding in found if _may_stop(finding)]
    alone = [finding for finding in told if stopped.large and _at_hosts(context, finding)]
    wider = [one for one in told if one not in alone and stopped.widens(one.repair)]
    sound = {
        id(finding)
        for group in (alone, wider)
        if group and not harms(changes_of(carrying_all(group)))
        for finding in group
    }
    harmful = {id(one): pairs for one in told if id(one) not in sound and (pairs := harms(one.repair))}
    return [_told_as_harmful(one, harmful[id(one)]) if id(one) in harmful else one for one in found]


def with_luck(context: Context, findings: Iterable[Finding]) -> list[Finding]:
    """The same findings; where a mend stops who works by luck only, such as by a leak, with whom.

    Somebody may have meant it so, such as with a filter between two VLANs that no setting tells of. In a network of
    many hosts it is asked of what breaks nothing.
    """
    stopped, found = context.once(Stopped), list(findings)

    def asked(finding: Finding) -> bool:
        worth = finding.severity == "risks" or (finding.severity == "breaks" and not stopped.large)
        return worth and bool(finding.repair) and not finding.alternatives and _may_stop(finding)

    wider = [one for one in found if asked(one) and stopped.widens(one.repair)]
    if wider and stopped.by(changes_of(carrying_all(wider)), proposed=True).luck:
        wider = []

    def told(finding: Finding) -> Finding:
        lucky = () if finding in wider or not asked(finding) else stopped.by(finding.repair, proposed=True).luck
        against = (f"{_first_of(lucky)} work by what it ends, and stop",) if lucky else ()
        return msgspec.structs.replace(finding, alternatives=_only(finding, against)) if lucky else finding

    return [*map(told, found)]


def _only(finding: Finding, against: tuple[str, ...]) -> tuple[Alternative, ...]:
    return (Alternative(finding.repair, (), against=against),)


def _first_of(pairs: Pairs) -> str:
    others = f" and {len(pairs) - 1} more" if pairs[1:] else ""
    return f"{' to '.join(pairs[0])}{others}"


def _told_as_harmful(finding: Finding, pairs: Pairs) -> Finding:
    """The same finding, whose mend is told with whom it would stop."""
    against = (f"{_first_of(pairs)} may stop to work by it",)
    found = told_only(finding)
    return msgspec.structs.replace(
        found,
        alternatives=tuple(
            msgspec.structs.replace(one, against=(*one.against, *against)) if one.changes == finding.repair else one
            for one in found.alternatives
        ),
    )


def _stops(stopped: Stopped, changes: Sequence[Change]) -> Pairs:
    """Whom some mends stop.

    If anybody gets another address by them, also who may work with the one that is there; and if a port is opened, who
    works now and may not when it carries what others carry.
    """
    costs = stopped.by(changes, proposed=True)
    readdressed = any(c.table in ("gateways", "hosts") and "address" in c.cells for c in changes)
    opened = any(c.table == "ports" and c.cells.get("admin") == "up" for c in changes)
    return costs.stops + (costs.doubtful if readdressed else ()) + (costs.unsure if opened else ())


def _at_hosts(context: Context, finding: Finding) -> bool:
    """Whether a mend changes nothing but hosts, ports at which there are hosts only, and which VLANs a device has."""
    ends = [End(str(c.key["device"]), str(c.key["port"])) for c in finding.repair if c.table == "ports"]
    return all(map(context.at_edge, ends)) and all(
        change.table in ("hosts", "ports", "vlans") for change in finding.repair
    )


def together_harmless(context: Context, findings: Sequence[Finding]) -> list[Finding]:
    """The same findings without the mends because of which all together would stop a pair that works as it should."""
    stopped, kept = context.once(Stopped), list(findings)
    costs = first = _stops(stopped, changes_of(kept))
    if costs and len(kept) > _FEW:
        kept, costs = _taken_one_by_one(kept, lambda mends: bool(_stops(stopped, changes_of(mends)))), ()
    while costs and kept:
        rests = [[other for other in kept if other is not one] for one in kept]
        kept, costs = min(
            ((rest, _stops(stopped, changes_of(rest))) for rest in rests), key=lambda tried: len(tried[1])
        )
    return [one if one in kept or not one.repair else _told_as_harmful(one, first) for one in findings]


_FEW = 20
"""Of how many mends it is tried which to leave out; of more, which to take."""


def _taken_one_by_one(findings: Sequence[Finding], harms: Callable[[Sequence[Finding]], bool]) -> list[Finding]:
    """Those of many mends that do no harm together with all that were taken before."""
    kept: list[Finding] = []
    for finding in findings:
        if not harms([*kept, finding]):
            kept.append(finding)
    return kept


def _may_stop(finding: Finding) -> bool:
    """Whether a mend changes anything by which packets find their way."""
    return any(change.delete or not set(change.cells) <= ONLY_TOLD for change in finding.repair)
