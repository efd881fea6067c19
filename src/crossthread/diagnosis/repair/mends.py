"""Every fault in the way of an echo and its reply: note what stops it, mend it on a copy, and walk again."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import islice

import msgspec

from crossthread.diagnosis.all_rules import standing
from crossthread.diagnosis.context import Context
from crossthread.diagnosis.findings import Finding
from crossthread.diagnosis.judgement import weights
from crossthread.diagnosis.nesting import nested
from crossthread.diagnosis.registry import parents, parents_in_vlan
from crossthread.diagnosis.repair.alternatives import Instead, Way, alternatives
from crossthread.diagnosis.repair.answered_twice import twice_once_mended
from crossthread.diagnosis.repair.harm.side_effects import Stopped
from crossthread.diagnosis.repair.hypotheses import judged
from crossthread.diagnosis.repair.rival_explanations import (
    Comparison,
    Explanation,
    explanation_of,
    speaks_for,
    suspects,
)
from crossthread.diagnosis.repair.together import changes_of, refused, try_out
from crossthread.diagnosis.repair.tree_costs import opened
from crossthread.diagnosis.repair.trials import Outcomes, collect
from crossthread.diagnosis.repair.undecided import weighed
from crossthread.diagnosis.repair.unmended import by_design, kept_to_itself, possible, stops
from crossthread.diagnosis.repair.withheld import bare, moves, told_only
from crossthread.diagnosis.rules.plan import plan_host
from crossthread.diagnosis.search.cheapest_way import Search
from crossthread.diagnosis.search.costs import Step
from crossthread.diagnosis.way.echo import walks
from crossthread.network.hosts.ends import end_named
from crossthread.network.three_valued import Truth, all_of
from crossthread.network.topology.names import End
from crossthread.survey.changes import Change, edited, merge_changes

_WAYS = 6
"""How many other ways round a link are looked at: what is dearer than mending the link is no alternative."""


def mend(context: Context, source: str, target: str) -> list[Finding]:
    """The faults in the way of two hosts, none of which can be left out, each with the repairs that would do.

    Parameters
    ----------
    context
        The network as it is, in which the pair fails.
    source, target
        The hosts' names.
    """
    told = _unplanned(context, (source, target))
    plain = explanation_of(context, source, target, told)
    found = [plain] if plain is not None else []
    for suspected in suspects(context, (source, target)):
        other = explanation_of(context, source, target, [*told, *suspected])
        if other is not None:
            _keep(found, other)
    if not found:
        return weighed(context, possible(context, collect(context.network, source, target, context.plan, told)[0]))
    found = _least(found)
    compare = Comparison(context, (source, target))
    best = found[0]
    for other in found[1:]:  # of equals the one with fewer faults, then that which renumbers fewer, else the first
        margin = compare.margin(other, best)
        if margin > 0 or (margin == 0 and _work(other) < _work(best)):
            best = other
    if plain is None and _otherwise(context, best) and not kept_to_itself(context, (source, target)):
        seen = collect(context.network, source, target, context.plan, told)[0]
        if any(not one.repair and one.rule != "survey-gap" for one in seen):
            return [_or_as(context, one, best) for one in possible(context, seen)]
    if min(best.shares) < weights.AGAINST:  # the only one, or the best of many that are worse
        known = standing(context, best.findings)
        told = [bare(finding) for finding in best.findings if finding.identity in known]
        may = [told_only(finding) for finding in best.findings] if best.stops else []
        return told or may or stops(context, source, target)
    if left := by_design(context, best.findings, (source, target)):
        return left
    rivals = [(_at_its_end(context, other, (source, target)), compare.margin(best, other)) for other in found]
    twice = twice_once_mended(context, best.findings, (source, target))
    whole = best._replace(findings=[*twice, *best.findings])
    ranked = [*twice, *(_ranked(context, whole, one, (source, target), rivals) for one in best.findings)]
    if not context.once(Outcomes).works(ranked, source, target):  # two of the best mends get into each other's way
        ranked = [msgspec.structs.replace(f, repair=own.repair) for f, own in zip(ranked, whole.findings, strict=True)]
    if context.network.unread.anywhere:  # what fits better may be at something that nobody read
        unfit = {finding.identity for finding, share in zip(best.findings, best.shares, strict=True) if share < 0}
        ranked = [told_only(one) if one.identity in unfit and moves(context, one) else one for one in ranked]
    return under_causes(context, ranked)


_PLACES = frozenset({"port-vlan-wrong", "host-outside-subnet"})
"""Two explanations of one disagreement: a host's port is in the wrong VLAN, or its address in the wrong subnet."""


def _at_its_end(context: Context, other: Explanation, pair: tuple[str, str]) -> Explanation:
    """Another explanation, with native VLANs that differ mended at that end for which more speaks."""

    def told(finding: Finding) -> Finding:
        if finding.rule != "link-native-differs":
            return finding
        beside = [one for one in other.findings if one is not finding]

        def works(changes: Sequence[Change]) -> bool:
            made = msgspec.structs.replace(finding, repair=tuple(changes))
            return context.once(Outcomes).works([*beside, made], *pair)

        found = alternatives(context, finding, changes_of(beside), works, lambda _: 0)
        return msgspec.structs.replace(finding, repair=found[0].changes) if found else finding

    return other._replace(findings=[told(finding) for finding in other.findings])


def _otherwise(context: Context, explanation: Explanation) -> bool:
    """Whether the facts of a host speak for the other explanation of why its port and its address disagree.

    Asked of what is left where something else in the way cannot be mended: that it would do is no reason to move it.
    """
    for finding, share in zip(explanation.findings, explanation.shares, strict=True):
        names = [s.host for s in finding.subjects if s.host] if finding.rule in _PLACES and finding.repair else []
        for host in (context.network.stations.hosts[name.casefold()] for name in names):
            own = judged(context, host)
            apart = own is not None and own.rule in _PLACES and own.rule != finding.rule
            if own is not None and apart and speaks_for(context, own) - share >= weights.OPEN:
                return True
    return False


def _or_as(context: Context, finding: Finding, other: Explanation) -> Finding:
    """A finding of where a host belongs, with what another explanation would change of that host instead."""
    hosts = {s.host for s in finding.subjects if s.host} if finding.rule in _PLACES and finding.repair else set()
    costs = context.once(Stopped).sound
    for rival, share in zip(other.findings, other.shares, strict=True):
        if rival.rule in _PLACES and rival.rule != finding.rule and hosts & {s.host for s in rival.subjects}:
            instead = (rival.repair, speaks_for(context, finding) - share, other.stops)
            found = alternatives(context, finding, (), lambda _: False, lambda made: len(costs(made)), (), [instead])
            return msgspec.structs.replace(finding, alternatives=found)
    return finding


def _least(found: Sequence[Explanation]) -> list[Explanation]:
    """Those explanations that do not contain another one that suffices, and that stops nobody."""
    held = [_held(one) for one in found]
    enough = [own for own, one in zip(held, found, strict=True) if not one.less]
    return [one for one, own in zip(found, held, strict=True) if not any(less < own for less in enough)]


def _work(explanation: Explanation) -> tuple[int, int]:
    """How many faults an explanation mends, and how many hosts get another address: a new one may be in use."""
    changes = changes_of(explanation.findings)
    return len(explanation.findings), sum(c.table == "hosts" and "address" in c.cells for c in changes)


def _keep(found: list[Explanation], other: Explanation) -> None:
    """Add an explanation; of two that come to the same the first stays, unless clearly more speaks for the other."""
    same = next((n for n, one in enumerate(found) if _held(one) == _held(other)), None)
    if same is None:
        found.append(other)
    elif _weighs(other) - _weighs(found[same]) >= weights.OPEN:
        found[same] = other


def _held(explanation: Explanation) -> set[object]:
    """What an explanation comes to: what it sets in the end, whichever end of a swap it is told of.

    Which VLANs a port is to carry that becomes a trunk is worked out of the rest.
    """
    found = set[object](finding.identity for finding in explanation.findings if not finding.repair)
    for change in merge_changes(changes_of(explanation.findings)):
        listed = {"allowed"} if "mode" in change.cells else set[str]()
        place = change.table, str(change.key), change.delete
        found |= {place, *((*place, column, str(change.cells[column])) for column in change.cells.keys() - listed)}
    return found


def _weighs(explanation: Explanation) -> float:
    """What speaks for an explanation."""
    return sum(explanation.shares) + explanation.less


def under_causes(context: Context, findings: Sequence[Finding]) -> list[Finding]:
    """The same, with what nobody has to edit under the finding whose mend brings it back by itself."""
    found = list(findings)
    for finding in findings:
        if edited(finding.repair) or not finding.repair:
            continue
        above = {*parents().get(finding.rule, ()), *parents_in_vlan().get(finding.rule, ())}
        causes = [(at, one) for at, one in enumerate(found) if one.rule in above and edited(one.repair)]
        for at, cause in causes:  # few of many: a campus may have a thousand hosts that are switched off
            if nested(context, [cause, finding], {})[0].follows == (finding,):
                found[at] = _with(cause, finding)
                found = [one for one in found if one is not finding]
                break
    return found


def _with(cause: Finding, finding: Finding) -> Finding:
    """A finding with another under it, and with the other's mend in its own."""
    return msgspec.structs.replace(
        cause,
        repair=merge_changes([*cause.repair, *finding.repair]),
        alternatives=tuple(
            msgspec.structs.replace(one, changes=merge_changes([*one.changes, *finding.repair]))
            for one in cause.alternatives
        ),
        follows=(*cause.follows, msgspec.structs.replace(finding, repair=(), alternatives=())),
    )


def _unplanned(context: Context, pair: tuple[str, str]) -> list[Finding]:
    """What the plan has otherwise of the two hosts."""
    entries = [context.plan.hosts.get(name.casefold()) for name in pair]
    found = [plan_host(context, entry) for entry in entries if entry is not None]
    return [msgspec.structs.replace(finding, severity="breaks") for finding in found if finding is not None]


def _other_ways(context: Context, finding: Finding, rest: Sequence[Change], pair: tuple[str, str]) -> Iterator[Way]:
    """How a VLAN could go round the link at which a fault stands, once all other faults are mended."""
    ends = [End(s.device, s.port) for s in finding.subjects if s.device and s.port]
    link = next(((end, a) for end in ends for a in context.adjacencies_at.get(end, ())), None)
    if link is None:
        return
    hosts = [end_named(context.network, name) for name in pair]
    told: set[int | None] = {s.vid for s in finding.subjects if s.vid}
    vids = told or {context.expected.vlan(host) for host in hosts}
    made = try_out(context.network, rest)
    if made is None:
        return
    near = Context(made, context.plan)
    far = link[1].far(link[0])
    same = next((a for a in near.adjacencies_at.get(link[0], ()) if a.far(link[0]) == far), None)
    for vid in sorted(vid for vid in vids if vid):
        for step, passed in islice(near.once(Search).around(same, vid, finding) if same is not None else (), _WAYS):
            by = f"by {' and '.join(passed)}" if passed else f"over {_name(step)}"
            changes = merge_changes(c for fault in step.findings for c in opened(near, fault).repair)
            yield tuple(changes), f"VLAN {vid} can go {by} instead"


def _name(step: Step) -> str:
    """The link that a way mends, by the port that is named first."""
    ports = (f"{s.device} {s.port}" for finding in step.findings for s in finding.subjects if s.port)
    return next(ports, "another link")


def _ranked(
    context: Context,
    best: Explanation,
    finding: Finding,
    pair: tuple[str, str],
    rivals: Sequence[tuple[Explanation, float]],
) -> Finding:
    """A finding with other mends that would do as well, and the one of them that has the best evidence."""
    rest = [change for other in best.findings if other is not finding for change in other.repair]
    costs = context.once(Stopped).sound
    others_cost = set(costs(rest)) if rest else set[tuple[str, str]]()

    def every(changes: Sequence[Change]) -> tuple[Change, ...]:
        return merge_changes(c for one in best.findings for c in (changes if one is finding else one.repair))

    def arrives(changes: Sequence[Change]) -> Truth:
        after = try_out(context.network, every(changes))
        if after is None or refused(context.network, after, every(changes)):
            return False
        return all_of(walk.arrives for walk in walks(after, *pair))

    proven = arrives(finding.repair)

    def works(changes: Sequence[Change]) -> bool:
        # Where nobody knows whether the mend is enough, another one may be as good of which nobody knows it either.
        found = arrives(changes)
        return found is True or (found is None and proven is None)

    def harm(changes: Sequence[Change]) -> int:
        return len(set(costs(every(changes))) - others_cost)

    ways = _other_ways(context, finding, rest, pair)
    found = alternatives(context, finding, rest, works, harm, ways, _instead(best, finding, rivals))
    repair = found[0].changes if found else finding.repair
    return msgspec.structs.replace(finding, repair=repair, alternatives=found)


def _instead(best: Explanation, finding: Finding, rivals: Sequence[tuple[Explanation, float]]) -> Iterator[Instead]:
    """What other explanations change that do without a finding, by how much less they weigh, and whom they stop."""
    known = [(one.identity, one.repair) for one in best.findings]
    for other, less in rivals:
        kept = [(one.identity, one.repair) for one in other.findings if one.repair]
        lost = [one for one in best.findings if (one.identity, one.repair) not in kept]
        changes = changes_of(one for one in other.findings if (one.identity, one.repair) not in known)
        if any(one is finding for one in lost):
            yield changes, less, other.stops
