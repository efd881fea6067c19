"""The whole campus against itself and against the plan: every fault in one list, worst first."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterable, Iterator
from datetime import date

import msgspec

from crossthread.answer import Answer
from crossthread.collector import held_still
from crossthread.diagnosis.all_rules import sweep
from crossthread.diagnosis.consequences import nested
from crossthread.diagnosis.context import Context
from crossthread.diagnosis.effects import find_effects
from crossthread.diagnosis.findings import SEVERITIES, Finding, Severity, Subject
from crossthread.diagnosis.repair.facts import told_apart
from crossthread.diagnosis.repair.hypotheses import judged
from crossthread.diagnosis.repair.withheld import each_harmless, grounded
from crossthread.diagnosis.rules import plan as plan_rules
from crossthread.diagnosis.rules import vlan as vlan_rules
from crossthread.diagnosis.rules.survey import survey_gap
from crossthread.diagnosis.search.cheapest_way import Search
from crossthread.diagnosis.vlan_pieces import split_vlans
from crossthread.network.given import of_network
from crossthread.network.network import Network
from crossthread.plan import Plan
from crossthread.plan.plan import Accepted
from crossthread.survey.survey import Evidence
from crossthread.views.coverage import NotRead, not_read


class Check(Answer, frozen=True):
    """The answer to "what is wrong here".

    Attributes
    ----------
    findings
        Worst first: by severity, then by how many hosts lose. What follows from a finding stands under it.
    counts
        How many findings of each severity, without those that follow from another.
    accepted
        Those that the plan accepts; they are not among the findings.
    left_out
        How many findings there are besides, where only a part was asked for.
    unchecked
        What could not be looked at, as nobody read it.
    """

    ROWS = "findings"
    findings: tuple[Finding, ...]
    counts: dict[Severity, int]
    accepted: tuple[Finding, ...] = ()
    left_out: int = 0
    unchecked: tuple[NotRead, ...] = ()


@of_network
def check(
    network: Network, plan: Plan | None = None, today: date | None = None, progress: Callable[[], None] = lambda: None
) -> Check:
    """Look at every host, port, link, VLAN and gateway, and at the ways between them.

    Parameters
    ----------
    network
        A network, a survey, or the place of one: a folder, or a `.json` or `.json.gz` file.
    plan
        What was intended; None to compare the network with itself.
    today
        The day on which acceptances of the plan have to be good still; None for the current one.
    progress
        Called again and again while it works, for a progress bar.

    Returns
    -------
    Check
        The findings, worst first; what follows from one stands under it.

    Raises
    ------
    SurveyError
        If a place was given and no survey can be read there.

    Notes
    -----
    A finding `breaks` if the model shows two that should reach each other and cannot because of it; they are its
    `example`. What passes now but is fragile or unsafe is a `risks`, anything else a `note`.

    Examples
    --------
    >>> from crossthread.demo import faulty, healthy
    >>> check(healthy()).counts
    {'breaks': 0, 'risks': 0, 'note': 0}
    """
    return checked(Context(network, plan), today, progress)


def checked(context: Context, today: date | None = None, progress: Callable[[], None] = lambda: None) -> Check:
    """The same of a context, for those who go on with it: what it worked out is there still."""
    network, day = context.network, today or date.today()
    with held_still():
        found = _check(context, day, progress)
        if network.twin is None or network.version == 6:
            return found
        return _together(found, _check(Context(network.twin, context.plan), day, progress))


def _together(first: Check, second: Check) -> Check:
    """What is found by IPv4, and what only by IPv6: of one finding that both have, the worse."""
    worst: dict[object, Finding] = {}
    for finding in (*first.findings, *second.findings):
        key = finding.identity, str(finding.repair)
        worst[key] = min(worst.get(key, finding), finding, key=lambda one: SEVERITIES.index(one.severity))
    told = {finding.identity for one in first.findings for finding in _all(one)}
    follows = {finding.identity for one in first.findings for finding in _all(one) if finding is not one}
    new = [f for f in worst.values() if f.identity not in follows or f.severity == "breaks"]
    ordered = sorted(new, key=_order)
    accepted = {f.identity: f for f in (*second.accepted, *first.accepted) if f.identity not in told}
    return Check(tuple(ordered), _counts(ordered), tuple(accepted.values()), 0, first.unchecked)


def _check(context: Context, today: date, progress: Callable[[], None]) -> Check:
    effects = find_effects(context, progress)
    found: dict[object, Finding] = {e.finding.identity: _if_meant(e.told()) for e in effects.effects}
    for finding in sweep(context):
        if finding.identity not in found:
            found[finding.identity] = _softened(finding)
    by_column: dict[tuple[str, str], list[tuple[Evidence, tuple[str, str]]]] = defaultdict(list)
    for gap in effects.gaps:
        by_column[gap[0].table, gap[0].column].append(gap)
    for gaps in by_column.values():
        told = survey_gap(context, [fact for fact, _ in gaps], gaps[0][1])
        found.setdefault(told.identity, told)
    for one, two, vids in effects.forbidden:
        told = plan_rules.plan_talk(context, one, two, vids)
        found.setdefault(told.identity, told)
    found = _without_accused(_one_a_host(context, found))
    causes: dict[object, set[object]] = {}
    search = context.once(Search)
    for vid, pieces in split_vlans(context):
        told = vlan_rules.vlan_split(context, vid, pieces)
        found.setdefault(told.identity, told)
        way = search.between(pieces[0][0], pieces[1][0])
        causes[told.identity] = {finding.identity for finding in way.findings} if way is not None else set()
    kept, accepted, idle = _accepted(context, list(found.values()), today)
    kept = each_harmless(context, grounded(context, kept))
    ordered = sorted(nested(context, [*kept, *idle], causes), key=_order)
    unchecked = not_read(context.network)
    findings = told_apart(context.network.survey, ordered)
    return Check(findings, _counts(ordered), tuple(sorted(accepted, key=_order)), unchecked=unchecked)


_EITHER = ("host-outside-subnet", "port-vlan-wrong")
"""Two explanations of one disagreement: a host's address and its port's VLAN."""


def _one_a_host(context: Context, found: dict[object, Finding]) -> dict[object, Finding]:
    """The same findings; of a host of which both its address and its port were told, the likelier, and as bad."""
    of_host: dict[str, dict[str, tuple[object, Finding]]] = defaultdict(dict)
    for identity, finding in found.items():
        for name in [s.host for s in finding.subjects if s.host] if finding.rule in _EITHER else ():
            of_host[name][finding.rule] = identity, finding
    kept = dict(found)
    for name, told in of_host.items():
        if len(told) < len(_EITHER):
            continue
        best = judged(context, context.network.stations.hosts[name.casefold()])
        right = best.rule if best is not None and best.rule in told else _EITHER[0]
        worst = min((f.severity for _, f in told.values()), key=SEVERITIES.index)
        for rule, (identity, finding) in told.items():
            if rule == right:
                kept[identity] = msgspec.structs.replace(finding, severity=worst)
            else:
                kept.pop(identity, None)
    return kept


def _without_accused(found: dict[object, Finding]) -> dict[object, Finding]:
    """The same findings without interfaces that serve another VLAN only by hosts whose own address is called wrong."""
    wrong = (f for f in found.values() if f.rule == "host-outside-subnet" and f.severity == "breaks")
    accused = {s.host for finding in wrong for s in finding.subjects if s.host}
    return {
        identity: finding
        for identity, finding in found.items()
        if finding.rule != "gateway-vlan-wrong" or not finding.affects or not accused.issuperset(finding.affects)
    }


def _counts(findings: Iterable[Finding]) -> dict[Severity, int]:
    counts = dict.fromkeys(SEVERITIES, 0)
    for finding in findings:
        counts[finding.severity] += 1
    return counts


def _order(finding: Finding) -> tuple[object, ...]:
    subject = str(finding.subjects[0]) if finding.subjects else ""
    return SEVERITIES.index(finding.severity), -finding.affected, finding.rule, subject


_MEANT = ("filter-drops", "port-isolated", "routing-tables-apart")
"""What keeps two apart because somebody wanted it: worth knowing, and a fault only if they were to talk."""


def _if_meant(finding: Finding) -> Finding:
    return msgspec.structs.replace(finding, severity="note") if finding.rule in _MEANT else finding


def _softened(finding: Finding) -> Finding:
    """The same finding where nobody was found to be stopped by it."""
    return msgspec.structs.replace(finding, severity="risks") if finding.severity == "breaks" else finding


def _accepted(
    context: Context, findings: list[Finding], today: date
) -> tuple[list[Finding], list[Finding], list[Finding]]:
    """What the plan does not accept, what it does, and what it accepts in vain."""
    by_rule: dict[str, list[Accepted]] = defaultdict(list)
    for entry in context.plan.accept:
        by_rule[entry.rule].append(entry)
    kept: list[Finding] = []
    accepted: list[Finding] = []
    used: set[int] = set()
    for finding in findings:
        entries = [entry for entry in by_rule.get(finding.rule, ()) if _fits(entry, finding)]
        used |= {id(entry) for entry in entries}  # of the plan, which holds them
        good = any(entry.until is None or entry.until >= today for entry in entries)
        (accepted if good else kept).append(finding)
    idle = [
        plan_rules.acceptance_idle(context, entry, today)
        for entry in context.plan.accept
        if id(entry) not in used or (entry.until is not None and entry.until < today)
    ]
    return kept, accepted, idle


def _fits(entry: Accepted, finding: Finding) -> bool:
    """Whether an acceptance means a finding: its subject is one of the finding's, or stands for all of the rule."""
    if entry.subject is None:
        return True
    wanted = entry.subject.casefold()
    return any(
        wanted in (str(s).casefold(), str(msgspec.structs.replace(s, vid=None)).casefold()) for s in finding.subjects
    )


def select(
    answer: Check,
    only: str | None = None,
    at: tuple[str, str | None] | None = None,
    vid: int | None = None,
    severity: Severity | None = None,
) -> Check:
    """The part of an answer that is about one rule, one device or port, one VLAN, or of some severity at least.

    A finding is kept if it, or one that follows from it, is asked for.

    Parameters
    ----------
    answer
        What `check` said.
    only
        A rule's name.
    at
        A device, and a port of it or None.
    vid
        A VLAN.
    severity
        `breaks`, `risks` or `note`: this one and all that are worse.
    """

    def fits(finding: Finding) -> bool:
        subjects = finding.subjects
        return (
            (only is None or finding.rule == only)
            and (at is None or any(_is_at(subject, *at) for subject in subjects))
            and (vid is None or any(subject.vid == vid for subject in subjects) or _speaks_of(finding, vid))
            and (severity is None or SEVERITIES.index(finding.severity) <= SEVERITIES.index(severity))
        )

    kept = tuple(finding for finding in answer.findings if any(map(fits, _all(finding))))
    accepted = tuple(filter(fits, answer.accepted))
    return Check(kept, _counts(kept), accepted, len(answer.findings) - len(kept), answer.unchecked)


def _all(finding: Finding) -> Iterator[Finding]:
    yield finding
    for other in finding.follows:
        yield from _all(other)


def _is_at(subject: Subject, device: str, port: str | None) -> bool:
    here = (subject.device or "").casefold() == device.casefold()
    return here and (port is None or port in (subject.port, subject.interface))


def _speaks_of(finding: Finding, vid: int) -> bool:
    """Whether a finding's evidence names a VLAN as a port's own."""
    return any(fact.column in ("vid", "pvid") and fact.value == str(vid) for fact in finding.evidence)
