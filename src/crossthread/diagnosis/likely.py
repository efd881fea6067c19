"""What is likely wrong where the verdict is not known: what facts speak for, whatever nobody read."""

from __future__ import annotations

from crossthread.diagnosis.all_rules import ask_everywhere
from crossthread.diagnosis.caution import cautious
from crossthread.diagnosis.context import Context
from crossthread.diagnosis.findings import Finding
from crossthread.diagnosis.registry import named
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
    asked = (declared for name in {finding.rule for finding in suspected} for declared in named(name))
    known = (finding for declared in asked for finding in ask_everywhere(context, declared))
    standing = {finding.identity for finding in known if finding.severity != "note"}
    found = [cautious(context, finding) for finding in suspected if finding.identity in standing]
    absent = (finding for finding in suspected if finding.identity not in standing)
    return found + [gap for finding in absent if (gap := route_unread(context, finding)) is not None]
