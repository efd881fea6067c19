"""The whole campus against itself and against the plan: every fault in one list, worst first."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence, Set
from datetime import date

import msgspec

from crossthread.answer import Answer
from crossthread.collector import held_still
from crossthread.diagnosis.consequences import consequences
from crossthread.diagnosis.context import Context, context_of
from crossthread.diagnosis.faults import Faults, find_faults
from crossthread.diagnosis.findings import SEVERITIES, Finding, Identity, Severity, Subject
from crossthread.diagnosis.repair.both_versions import merge_versions
from crossthread.diagnosis.repair.confidences import with_confidence
from crossthread.diagnosis.repair.facts import told_apart
from crossthread.diagnosis.repair.harm.harmless import each_harmless, together_harmless, with_luck
from crossthread.diagnosis.repair.together import carrying_all
from crossthread.network.given import of_network
from crossthread.network.network import Network
from crossthread.plan import Plan
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
    return checked(context_of(network, plan), today, progress)


def checked(context: Context, today: date | None = None, progress: Callable[[], None] = lambda: None) -> Check:
    """The same of a context, for those who go on with it: what it worked out is there still."""

    def asked(_: Context) -> Check:
        with held_still():
            return told(faults(context, today, progress))

    found = context.once(asked, checked) if context.plan == Plan() else asked(context)
    return msgspec.structs.replace(found, counts=dict(found.counts))  # who edits an answer edits nobody else's


def faults(
    context: Context, today: date | None = None, progress: Callable[[], None] = lambda: None
) -> tuple[Faults, ...]:
    """What is found wrong, by each version of IP of which any host has an address."""
    network, day = context.network, today or date.today()
    first = find_faults(context, day, progress)
    if network.twin is None or network.version == 6:
        return (first,)
    return first, find_faults(context_of(network.twin, context.plan), day, progress)


def told(found: Sequence[Faults], known: Set[Identity] = frozenset()) -> Check:
    """The answer of what was found; of findings that are `known`, whether their mends stop somebody is not asked."""
    first, *others = (_told(one, known) for one in found)
    return _together(first, *others) if others else first


def _together(first: Check, second: Check) -> Check:
    """What is found by IPv4, and what only by IPv6."""
    told = {finding.identity for one in first.findings for finding in _all(one)}
    follows = {finding.identity for one in first.findings for finding in _all(one) if finding is not one}
    new = [
        f
        for f in merge_versions(first.findings, second.findings)
        if f.identity not in follows or f.severity == "breaks"
    ]
    ordered = sorted(new, key=_order)
    accepted = {f.identity: f for f in (*second.accepted, *first.accepted) if f.identity not in told}
    return Check(tuple(ordered), _counts(ordered), tuple(accepted.values()), 0, first.unchecked)


def _told(one: Faults, known: Set[Identity]) -> Check:
    """What was found, each under what it follows from, without the mends that would stop somebody."""
    context = one.context
    proven = iter(each_harmless(context, [finding for finding in one.kept if finding.identity not in known]))
    kept = [finding if finding.identity in known else next(proven) for finding in one.kept]
    if any(finding.rule == "host-address-duplicate" and not finding.repair for finding in kept):
        kept = together_harmless(context, kept)  # what lets the two hear each other, each by itself or not
    found = carrying_all(sorted(consequences(context, kept, one.causes), key=_order))
    leading = with_confidence(context, found)
    findings = told_apart(context.network.survey, with_luck(context, leading))
    accepted = tuple(sorted(one.accepted, key=_order))
    return Check(findings, _counts(findings), accepted, unchecked=not_read(context.network))


def _counts(findings: Iterable[Finding]) -> dict[Severity, int]:
    counts = dict.fromkeys(SEVERITIES, 0)
    for finding in findings:
        counts[finding.severity] += 1
    return counts


def _order(finding: Finding) -> tuple[object, ...]:
    subject = str(finding.subjects[0]) if finding.subjects else ""
    return SEVERITIES.index(finding.severity), -finding.affected, finding.rule, subject


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
