"""What is likely wrong where the verdict is not known: what facts speak for, whatever nobody read."""

from __future__ import annotations

from crossthread.diagnosis.all_rules import standing
from crossthread.diagnosis.caution import cautious
from crossthread.diagnosis.context import Context
from crossthread.diagnosis.findings import Finding
from crossthread.diagnosis.repair.facts import GivenUp
from crossthread.diagnosis.repair.mends import mend
from crossthread.diagnosis.rules.survey import route_unread
from crossthread.diagnosis.way.echo import walks
from crossthread.network.three_valued import all_of


def likely(context: Context, source: str, target: str) -> list[Finding]:
    """What would be in the way if there were nothing but what was read: accused as far as facts speak for it."""
    closed = context.network.as_if_complete()
    if all_of(walk.arrives for walk in walks(closed, source, target)) is not False:
        return []
    suspected = mend(Context(closed, context.plan), source, target)
    known = standing(context, suspected)
    found = [finding for finding in suspected if finding.identity in known]
    absent = [finding for finding in suspected if finding.identity not in known]
    given_up = GivenUp(absent, found)
    told = [
        known[one.identity] if given_up.contradicts(one) or given_up.tells(one) else cautious(context, one)
        for one in found
    ]
    return told + [gap for finding in absent if (gap := route_unread(context, finding)) is not None]
