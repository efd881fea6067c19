"""Every fault in the way of an echo and its reply: note what stops it, mend it on a copy, and walk again."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator, Sequence
from itertools import islice, product
from typing import NamedTuple

import msgspec

from crossthread.diagnosis.cheapest_way import Search, Step
from crossthread.diagnosis.consequences import nested
from crossthread.diagnosis.context import Context
from crossthread.diagnosis.findings import Finding
from crossthread.diagnosis.judgement import weights
from crossthread.diagnosis.judgement.hearing import Hearing
from crossthread.diagnosis.judgement.weighing import accused, weight
from crossthread.diagnosis.repair.alternatives import Instead, Way, alternatives
from crossthread.diagnosis.repair.hypotheses import hypotheses
from crossthread.diagnosis.repair.side_effects import Stopped
from crossthread.diagnosis.repair.tree_costs import opened
from crossthread.diagnosis.rules.plan import plan_host
from crossthread.diagnosis.rules.survey import unexplained
from crossthread.diagnosis.way.echo import walks
from crossthread.diagnosis.way.explanations import explain
from crossthread.errors import SurveyError
from crossthread.network.hosts.ends import end_named
from crossthread.network.hosts.station import HostStation
from crossthread.network.network import Network
from crossthread.network.topology.names import End
from crossthread.plan import Plan
from crossthread.survey.changes import Change, edited, merge_changes

_ROUNDS = 30
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
    plain = _explained(context, source, target, told)
    found = [plain] if plain is not None else []
    known = [(finding.identity, finding.repair) for finding in plain.findings] if plain is not None else []
    for suspected in _suspected(context, (source, target)):
        if all((finding.identity, finding.repair) in known for finding in suspected):
            continue  # that is the explanation there is already
        other = _explained(context, source, target, [*told, *suspected])
        if other is not None:
            found.append(other)
    if not found:
        return _possible(context.network, _collect(context.network, source, target, context.plan, told)[0])
    compare = _Comparison(context, (source, target))
    best = found[0]
    for other in found[1:]:  # of equals the first
        best = other if compare.margin(other, best) > 0 else best
    rivals = [(other, compare.margin(best, other)) for other in found]
    ranked = [_ranked(context, best, finding, (source, target), rivals) for finding in best.findings]
    if not _works(context.network, ranked, source, target):  # two of the best mends get into each other's way
        ranked = [msgspec.structs.replace(f, repair=own.repair) for f, own in zip(ranked, best.findings, strict=True)]
    return _under_causes(context, ranked)


def _under_causes(context: Context, findings: Sequence[Finding]) -> list[Finding]:
    """The same, with what nobody has to edit under the finding whose mend brings it back by itself."""
    found = list(findings)
    for finding in findings:
        if edited(finding.repair) or not finding.repair:
            continue
        for at, cause in enumerate(found):
            if edited(cause.repair) and nested(context, [cause, finding], {})[0].follows == (finding,):
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


class _Explanation(NamedTuple):
    """Faults that explain why a pair fails, none of which can be left out, and what the mend of each weighs."""

    findings: list[Finding]
    shares: list[float]
    less: float
    """What speaks against all of it together."""
    stops: int
    """How many pairs that work, other than by luck, would stop."""


class _Comparison:
    """How much more one explanation weighs than another, by what is in dispute between them."""

    def __init__(self, context: Context, pair: tuple[str, str]) -> None:
        self._context, self._pair = context, pair
        self._known: dict[tuple[int, int], float] = {}

    def margin(self, one: _Explanation, other: _Explanation) -> float:
        """By how much one weighs more than the other."""
        key = id(one.findings), id(other.findings)
        if key not in self._known:
            self._known[key] = self._beyond(one, other) - self._beyond(other, one) + one.less - other.less
        return self._known[key]

    def _beyond(self, one: _Explanation, other: _Explanation) -> float:
        """What the findings weigh that only the one has.

        A fault that is evident, and that may be mended in the other as well, is one anyway: it speaks for neither.
        """
        same = [(finding.identity, finding.repair) for finding in other.findings]
        rules = {finding.identity for finding in other.findings}
        blamed = accused(self._context, _changes(other.findings))
        heavy = 0.0
        for finding, share in zip(one.findings, one.shares, strict=True):
            if (finding.identity, finding.repair) in same:
                continue
            anyway = share > 0 and finding.identity not in rules
            anyway = anyway and not accused(self._context, finding.repair) & blamed
            if not (anyway and _works(self._context.network, [*other.findings, finding], *self._pair)):
                heavy += share
        return heavy


def _suspected(context: Context, pair: tuple[str, str]) -> Iterator[list[Finding]]:
    """What may be wrong with either host, or with both, where its own settings do not agree."""
    ends = [end_named(context.network, name) for name in pair]
    one, two = ([None, *(hypotheses(context, end) if isinstance(end, HostStation) else ())] for end in ends)
    for both in product(one, two):
        suspected = [finding for finding in both if finding is not None and finding.repair]
        if suspected:
            yield suspected


def _explained(context: Context, source: str, target: str, known: Sequence[Finding]) -> _Explanation | None:
    """The faults in the way if some are known; None if mending them all gets the packet nowhere."""
    findings, mended = _collect(context.network, source, target, context.plan, known)
    if mended is None:
        return None
    made = _made(context.network, _changes(findings))
    if made is None or _one_tag_twice(context.network, made, _changes(findings)) or _given_back(findings):
        return None
    needed = _needed(context.network, source, target, findings)
    hearing = Hearing(context, accused(context, _changes(needed)))
    shares = [_share(hearing, finding) for finding in needed]
    stops = len(context.once(Stopped).by(_changes(needed))[0])
    less = (weights.LEFT_OUT if _left_out(needed) else 0.0) + (weights.HARM if stops else 0.0)
    return _Explanation(needed, shares, less, stops)


def _share(hearing: Hearing, finding: Finding) -> float:
    """What a finding adds to an explanation: one more faulty link speaks not for it, and hardly against it."""
    heavy = weight(hearing, finding.repair)
    stations = any(s.host or s.interface for s in finding.subjects)
    return heavy if stations else max(-weights.ROW, min(heavy, 0.0))


def _left_out(findings: Sequence[Finding]) -> bool:
    """Whether a port gets a VLAN that both ends of some link leave out: the two agree that it does not belong there."""
    moved = {c.cells.get("pvid") for f in findings if f.rule == "port-vlan-wrong" for c in f.repair}
    agreed = [f for f in findings if f.rule == "link-vlan-missing" and len({str(c.key) for c in f.repair}) > 1]
    return any(subject.vid in moved for finding in agreed for subject in finding.subjects if subject.vid)


def _made(network: Network, changes: Sequence[Change]) -> Network | None:
    """A copy with some changes made; None if that cannot be done, such as an address that the interface has already."""
    try:
        return network.changed(changes)
    except SurveyError:
        return None


def _one_tag_twice(before: Network, after: Network, changes: Sequence[Change]) -> bool:
    """Whether two interfaces of one parent would have one tag, which devices refuse, and have it not now."""
    devices = {str(change.key["device"]) for change in changes if change.table == "gateways" and "vid" in change.cells}

    def doubled(network: Network) -> set[tuple[str, str | None, int]]:
        names: dict[tuple[str, str | None, int], set[str]] = defaultdict(set)
        for row in network.survey.gateways if devices else ():
            if row.device in devices and row.vid:
                names[row.device, row.port or None, row.vid].add(row.interface)
        return {place for place, held in names.items() if len(held) > 1}

    return bool(doubled(after) - doubled(before))


def _given_back(findings: Iterable[Finding]) -> bool:
    """Whether one mend takes an address from an interface, and another gives it back: they do not mean one network."""
    changes = [change for finding in findings for change in finding.repair if change.table == "gateways"]
    taken = {str(change.key) for change in changes if "address" in change.cells or change.delete}
    added = (c for c in changes if "proxy_arp" in c.cells and "address" not in c.cells)
    return any(str(change.key) in taken for change in added)


def _possible(network: Network, findings: Sequence[Finding]) -> list[Finding]:
    """The same findings, without the mends that cannot be made after those before them."""
    found, made = [], list[Change]()
    for finding in findings:
        fits = _made(network, merge_changes([*made, *finding.repair])) is not None
        made += finding.repair if fits else ()
        found.append(finding if fits else _bare(finding))
    return found


def harmless(context: Context, findings: Sequence[Finding]) -> list[Finding]:
    """The same findings without the mends that stop a pair which works, for when they do not mend anything."""
    costs = context.once(Stopped).by
    found = [_bare(finding) if costs(finding.repair)[0] else finding for finding in findings]
    return [_bare(finding) for finding in found] if costs(_changes(found))[0] else found


def _bare(finding: Finding) -> Finding:
    return msgspec.structs.replace(finding, repair=(), alternatives=())


def _changes(findings: Iterable[Finding]) -> tuple[Change, ...]:
    return merge_changes(change for finding in findings for change in finding.repair)


def _unplanned(context: Context, pair: tuple[str, str]) -> list[Finding]:
    """What the plan has otherwise of the two hosts."""
    entries = [context.plan.hosts.get(name.casefold()) for name in pair]
    found = [plan_host(context, entry) for entry in entries if entry is not None]
    return [msgspec.structs.replace(finding, severity="breaks") for finding in found if finding is not None]


def _collect(
    network: Network, source: str, target: str, plan: Plan, known: Sequence[Finding]
) -> tuple[list[Finding], Network | None]:
    """Walk, note what stops the packet, mend it on a copy, and walk again; the copy is None if that gets nowhere."""
    findings = list(known)
    now = network.changed([change for finding in known for change in finding.repair])
    for _ in range(_ROUNDS):
        there, back = walks(now, source, target)
        if there.arrives is not False and back.arrives is not False:
            return findings, now
        after, told = None, False
        for failed, goal in ((there, target), (back, source)):
            if failed.arrives is not False or failed.stop is None:
                continue
            near = Context(now, plan)
            found = explain(near, failed.stop, end_named(now, goal), failed is back)
            if not found and not findings:
                found = [unexplained(near, failed.stop)]
            found = [opened(near, finding) for finding in found]
            fresh = [f for f in found if (f.rule, f.subjects) not in {(g.rule, g.subjects) for g in findings}]
            changes = [change for finding in fresh for change in finding.repair]
            after = _made(now, changes) if changes else None
            if after is not None or not told:
                findings += fresh
            if after is not None:
                break  # where the way there cannot be mended any further, the way back may be what is broken
            told = told or bool(fresh)
        if after is None:
            break
        now = after
    return findings, None


def _works(network: Network, findings: Sequence[Finding], source: str, target: str) -> bool:
    trial = _made(network, _changes(findings))
    return trial is not None and all(walk.arrives is not False for walk in walks(trial, source, target))


def _needed(network: Network, source: str, target: str, findings: list[Finding]) -> list[Finding]:
    """Leave out each finding without whose mend the pair works just as well.

    Not if another mend then speaks of an address that only this one gives: it would add an interface nobody meant.
    """
    kept, most = list(findings), _interfaces(network, findings)
    for finding in reversed(findings if len(findings) > 1 else ()):
        rest = [other for other in kept if other is not finding]
        if _works(network, rest, source, target) and _interfaces(network, rest) <= most:
            kept = rest
    return kept


def _interfaces(network: Network, findings: Sequence[Finding]) -> int:
    """How many rows of interfaces there are once some findings are mended."""
    made = _made(network, _changes(findings))
    return len(made.survey.gateways) if made is not None else 0


def _other_ways(context: Context, finding: Finding, rest: Sequence[Change], pair: tuple[str, str]) -> Iterator[Way]:
    """How a VLAN could go round the link at which a fault stands, once all other faults are mended."""
    ends = [End(s.device, s.port) for s in finding.subjects if s.device and s.port]
    link = next(((end, a) for end in ends for a in context.adjacencies_at.get(end, ())), None)
    if link is None:
        return
    hosts = [end_named(context.network, name) for name in pair]
    told: set[int | None] = {s.vid for s in finding.subjects if s.vid}
    vids = told or {context.expected.vlan(host) for host in hosts}
    made = _made(context.network, rest)
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
    best: _Explanation,
    finding: Finding,
    pair: tuple[str, str],
    rivals: Sequence[tuple[_Explanation, float]],
) -> Finding:
    """A finding with other mends that would do as well, and the one of them that has the best evidence."""
    rest = [change for other in best.findings if other is not finding for change in other.repair]
    costs = context.once(Stopped).by
    others_cost = set(costs(rest)[0]) if rest else set[tuple[str, str]]()

    def every(changes: Sequence[Change]) -> tuple[Change, ...]:
        return merge_changes(c for one in best.findings for c in (changes if one is finding else one.repair))

    def works(changes: Sequence[Change]) -> bool:
        after = _made(context.network, every(changes))
        return after is not None and all(walk.arrives for walk in walks(after, *pair))

    def harm(changes: Sequence[Change]) -> int:
        return len(set(costs(every(changes))[0]) - others_cost)

    ways = _other_ways(context, finding, rest, pair)
    found = alternatives(context, finding, rest, works, harm, ways, _instead(best, finding, rivals))
    repair = found[0].changes if found else finding.repair
    return msgspec.structs.replace(finding, repair=repair, alternatives=found)


def _instead(best: _Explanation, finding: Finding, rivals: Sequence[tuple[_Explanation, float]]) -> Iterator[Instead]:
    """What other explanations change that do without a finding, by how much less they weigh, and whom they stop.

    If they do without several it is told of the one that is about what they change, else of the first.
    """
    known = {one.identity for one in best.findings}
    for other, less in rivals:
        kept = {one.identity for one in other.findings if one.repair}
        lost = [one for one in best.findings if one.identity not in kept]
        changes = _changes(one for one in other.findings if one.identity not in known)
        if lost and max(lost, key=lambda one: _about(one, changes)) is finding:
            yield changes, less, other.stops


def _about(finding: Finding, changes: Iterable[Change]) -> bool:
    """Whether some changes are at a host that a finding tells of."""
    hosts = {e.key.get("host") for e in finding.evidence if e.table == "hosts"} | {s.host for s in finding.subjects}
    return any(change.table == "hosts" and change.key["host"] in hosts for change in changes)
