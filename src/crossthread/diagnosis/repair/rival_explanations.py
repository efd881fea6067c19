"""What may be wrong as a whole: faults that together explain why two do not talk, weighed against each other."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import chain, islice, product
from typing import NamedTuple

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.findings import Finding
from crossthread.diagnosis.judgement import weights
from crossthread.diagnosis.judgement.confidence import lacking, left_out
from crossthread.diagnosis.judgement.hearing import Hearing
from crossthread.diagnosis.judgement.weighing import accused, weight
from crossthread.diagnosis.repair.facts import on_facts
from crossthread.diagnosis.repair.harm.side_effects import Stopped
from crossthread.diagnosis.repair.hypotheses import hypotheses, serving_elsewhere
from crossthread.diagnosis.repair.left_out import suffered
from crossthread.diagnosis.repair.together import changes_of, given_back, refused, try_out
from crossthread.diagnosis.repair.trials import Outcomes, collect, only_needed
from crossthread.network.hosts.ends import end_named
from crossthread.network.hosts.station import HostStation
from crossthread.survey.changes import Change, edited
from crossthread.values import NONE


class Explanation(NamedTuple):
    """Faults that explain why a pair fails, none of which can be left out, and what the mend of each weighs."""

    findings: list[Finding]
    shares: list[float]
    less: float
    """What speaks against all of it together."""
    stops: int
    """How many pairs that work as they should, or may, would stop."""


_EVIDENT = {
    "link-mode-differs", "link-native-differs", "link-tagging-differs", "routing-off", "gateway-admin-down",
    "host-link-down", "host-gateway-outside-subnet",
}  # fmt: skip
"""Findings of what is wrong whatever else is: two ends of a link, two settings, or a thing and its use disagree."""


def _is_evident(finding: Finding) -> bool:
    """Whether something is wrong whatever else is.

    Also an access port that leads to an interface with tags, and a router that sends packets where it has no interface.
    """
    if finding.rule == "gateway-port-mode-wrong":
        return any("mode" in change.cells for change in finding.repair)
    sends = finding.rule == "gateway-missing" and any(fact.table == "routes" for fact in finding.evidence)
    return sends or finding.rule in _EVIDENT


class Comparison:
    """How much more one explanation weighs than another, by what is in dispute between them."""

    def __init__(self, context: Context, pair: tuple[str, str]) -> None:
        self._context, self._pair = context, pair
        self._known: dict[tuple[int, int], float] = {}

    def margin(self, one: Explanation, other: Explanation) -> float:
        """By how much one weighs more than the other."""
        key = id(one.findings), id(other.findings)
        if key not in self._known:
            self._known[key] = self._beyond(one, other) - self._beyond(other, one) + one.less - other.less
        return self._known[key]

    def _beyond(self, one: Explanation, other: Explanation) -> float:
        """What the findings weigh that only the one has.

        A fault that is evident, or that others suffer from, and that may be mended in the other as well, is one anyway:
        it speaks for neither, nor against.
        """
        same = [(finding.identity, finding.repair) for finding in other.findings]
        rules = {finding.identity for finding in other.findings}
        blamed = accused(self._context, changes_of(other.findings))
        heavy = 0.0
        for finding, share in zip(one.findings, one.shares, strict=True):
            if (finding.identity, finding.repair) in same:
                continue
            evident = share > 0 or _is_evident(finding) or suffered(self._context, lacking([finding]))
            anyway = evident and finding.identity not in rules
            anyway = anyway and not accused(self._context, finding.repair) & blamed
            if not (anyway and self._context.once(Outcomes).works([*other.findings, finding], *self._pair)):
                heavy += share
        return heavy


def suspects(context: Context, pair: tuple[str, str]) -> Iterator[list[Finding]]:
    """What may be wrong with either host, or with both, where its own settings do not agree."""
    one, two = ([[], *_of_one(context, name)] for name in pair)
    for first, second in product(one, two):
        suspected = [*first, *second]
        if first and second and _given(first) & _given(second):
            suspected = _apart(context, first, second, pair[1])
        if suspected:
            yield suspected


def _of_one(context: Context, name: str) -> list[list[Finding]]:
    """What may be wrong with one host; with one that has no address, also what would be if it had it."""
    found = list[list[Finding]]()
    for finding in _hypotheses(context, name):
        found.append([finding])
        made = try_out(context.network, finding.repair) if finding.rule == "host-address-missing" else None
        if made is not None:
            later = _hypotheses(Context(made, context.plan), name)
            found += [[finding, then] for then in later if not _given([then])]  # another address is one of the first
    return found


def _hypotheses(context: Context, name: str) -> Iterator[Finding]:
    """The same as single findings that can be mended, each once."""
    host, told = end_named(context.network, name), list[tuple[object, object]]()
    told_of = (
        chain(hypotheses(context, host), serving_elsewhere(context, host)) if isinstance(host, HostStation) else ()
    )
    for finding in told_of:
        if finding.repair and (finding.identity, finding.repair) not in told:
            told.append((finding.identity, finding.repair))
            yield finding


def _given(findings: Sequence[Finding]) -> set[object]:
    """The addresses that the mends of some findings give to hosts."""
    return {c.cells["address"] for c in changes_of(findings) if c.table == "hosts" and c.cells.get("address")} - {NONE}


def _apart(context: Context, first: list[Finding], second: list[Finding], name: str) -> list[Finding]:
    """The same where both hosts would get one address: the second another, as it is found once the first is mended."""
    near = Context(context.network.mended(changes_of(first)), context.plan)
    told = (one for one in _hypotheses(near, name) if one.identity == second[0].identity)
    return [*first, *islice((one for one in told if not _given(first) & _given([one])), 1)]


def explanation_of(context: Context, source: str, target: str, known: Sequence[Finding]) -> Explanation | None:
    """The faults in the way if some are known; None if mending them all gets the packet nowhere."""
    findings, mended = collect(context.network, source, target, context.plan, known)
    if mended is None:
        return None
    changes = changes_of(findings)
    made = try_out(context.network, changes)
    if made is None or refused(context.network, made, changes) or given_back(findings):
        return None
    needed = on_facts(only_needed(context, source, target, findings), findings)
    if needed is None or not context.once(Outcomes).works(needed, source, target):
        return None
    hearing = Hearing(context, accused(context, changes_of(needed)))
    shares = [_share(hearing, finding) for finding in needed]
    shares = [s + again for s, again in zip(shares, _edited_before(needed), strict=True)]
    shares = [min(s, 0.0) if _given_with(f, needed) else s for s, f in zip(shares, needed, strict=True)]
    stops = len(context.once(Stopped).sound(changes_of(needed)))
    less = (weights.LEFT_OUT if left_out(needed) and not suffered(context, lacking(needed)) else 0.0) + (
        weights.HARM if stops else 0.0
    )
    less += weights.ALL_WRONG if _nothing_right(context, needed) else 0.0
    return Explanation(needed, shares, less, stops)


def _edited_before(findings: Sequence[Finding]) -> Iterator[float]:
    """What each costs less as others before it edit the same ports: that work is done once."""
    done = set[tuple[str, ...]]()
    for finding in findings:
        rows = {row for row in edited(finding.repair) if row[0] == "ports"}
        yield weights.ROW * len(rows & done)
        done |= rows


def _given_with(finding: Finding, others: Sequence[Finding]) -> bool:
    """Whether it is only the gateway of a host that is moved as well: that it fits there says nothing for the move."""
    hosts = {s.host for s in finding.subjects if s.host}
    cells = {(change.table, column) for change in finding.repair for column in change.cells}
    moved = {
        s.host
        for other in others
        if other is not finding
        for s in other.subjects
        if s.host and any("pvid" in change.cells for change in other.repair)
    }
    return cells == {("hosts", "gateway")} and bool(hosts & moved)


def _nothing_right(context: Context, findings: Sequence[Finding]) -> bool:
    """Whether a host would be given another VLAN, address and gateway all at once, so that nothing it has is right."""
    changes = changes_of(findings)
    moved = {(str(c.key["device"]), str(c.key["port"])) for c in changes if c.table == "ports" and "pvid" in c.cells}
    renamed = (c for c in changes if c.table == "hosts" and {"address", "gateway"} <= set(c.cells))
    hosts = (context.network.stations.hosts.get(str(c.key["host"]).casefold()) for c in renamed)
    return any(host is not None and host.end in moved for host in hosts)


def _share(hearing: Hearing, finding: Finding) -> float:
    """What a finding adds to an explanation: one more faulty link speaks not for it, and hardly against it."""
    heavy = weight(hearing, finding.repair)
    stations = any(s.host or s.interface for s in finding.subjects)
    return heavy if stations else max(-weights.ROW, min(heavy, 0.0))


def speaks_for(context: Context, finding: Finding, beside: Sequence[Change] = ()) -> float:
    """What speaks for the mend of a station's settings, less what speaks against it; of any other the plain 1.

    No witness is who is accused by the mend, or by those `beside` it.
    """
    stations = any(s.host or s.interface for s in finding.subjects)
    hearing = Hearing(context, accused(context, [*finding.repair, *beside]))
    return weight(hearing, finding.repair) if stations else 1.0
