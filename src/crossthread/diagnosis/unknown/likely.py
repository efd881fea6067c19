"""What is likely wrong where the verdict is not known: what facts speak for, whatever nobody read."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from crossthread.diagnosis.all_rules import standing
from crossthread.diagnosis.caution import cautious
from crossthread.diagnosis.context import Context
from crossthread.diagnosis.findings import Finding
from crossthread.diagnosis.repair.facts import GivenUp
from crossthread.diagnosis.repair.mends import mend
from crossthread.diagnosis.rules.equal_routes import routes_uneven
from crossthread.diagnosis.rules.survey import route_unread
from crossthread.diagnosis.vlan_pieces import split_vlans
from crossthread.diagnosis.way.echo import walks
from crossthread.diagnosis.way.explanations import explain
from crossthread.network.hosts.station import Station
from crossthread.network.routing.walks import Walk
from crossthread.network.three_valued import all_of


def likely(context: Context, source: str, target: str) -> list[Finding]:
    """What would be in the way if there were nothing but what was read: accused as far as facts speak for it."""
    if all_of(walk.arrives for walk in walks(context.closed.network, source, target)) is not False:
        return []
    suspected = mend(context.closed, source, target)
    known = standing(context, suspected)
    found = [f for f in suspected if f.identity in known or _one_sided(f) or _cut(context, f)]
    absent = [finding for finding in suspected if finding not in found]
    given_up = GivenUp(absent, found)
    told = []
    for one in found:
        careful, stands = cautious(context, one), known.get(one.identity, one)
        mendless = bool(one.repair) and not stands.repair
        told.append(stands if mendless or given_up.contradicts(one) or given_up.tells(one) else careful)
    return told + [gap for finding in absent if (gap := route_unread(context, finding)) is not None]


def by_equal_routes(context: Context, pair: Sequence[Station], walked: Sequence[Walk]) -> Iterator[Finding]:
    """Where packets of a pair may go by several routes and do not arrive by one, and what stands in the way there."""
    for walk, goal, back in zip(walked, reversed(pair), (False, True), strict=False):
        for fork in walk.forks:
            yield routes_uneven(context, fork, back)
            yield from explain(context, fork.stop, goal, back) if fork.stop is not None else ()


def _one_sided(finding: Finding) -> bool:
    """Whether the two ends of a link disagree about the VLAN that it lacks: so much was read, whoever needs it."""
    return finding.rule == "link-vlan-missing" and len(finding.subjects) == 1


def _cut(context: Context, finding: Finding) -> bool:
    """Whether a link lacks a VLAN which surely is in several pieces: whoever asks, its stations suffer from that."""
    vids = [s.vid for s in finding.subjects if finding.rule == "link-vlan-missing"]
    return bool(vids) and any(vid in vids for vid, _ in split_vlans(context))
