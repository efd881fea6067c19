"""For which addresses on a pair's way several stations answer, and which of them is to get another one."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.findings import Finding
from crossthread.diagnosis.repair.harm.side_effects import Stopped
from crossthread.diagnosis.repair.together import changes_of, try_out
from crossthread.diagnosis.repair.trials import Outcomes
from crossthread.diagnosis.rules.gateway.proxy_arp import several_answer
from crossthread.diagnosis.way.echo import walks
from crossthread.network.routing.walks import Walk
from crossthread.survey.changes import merge_changes


def answered_twice(context: Context, walked: Sequence[Walk]) -> list[Finding]:
    """For which addresses several stations answer on the way of an echo and its reply, each told once."""
    asked = [contest for walk in walked for contest in walk.contests]
    told = filter(None, (several_answer(context, asker, wanted) for asker, wanted in asked))
    return list({finding.identity: finding for finding in told}.values())


def twice_once_mended(context: Context, findings: Sequence[Finding], pair: tuple[str, str]) -> list[Finding]:
    """The same once some findings are mended, where it is not known for sure that the pair works by that alone.

    It is mended as well if it is known who is to get another address; else so that nobody stops who would otherwise.
    """
    if context.once(Outcomes).of(findings, *pair) is not None:
        return []
    made = changes_of(findings)
    after = try_out(context.network, made)
    told = answered_twice(context, walks(after, *pair)) if after is not None else []
    costs = context.once(Stopped).by

    def mended(one: Finding) -> Finding:
        options = [other.changes for other in one.alternatives]
        if len(options) > 1:
            harmful = bool(costs(made).stops)
            options = [each for each in options if harmful and not costs(merge_changes([*made, *each])).stops]
        return msgspec.structs.replace(one, repair=options[0]) if options else one

    return list(map(mended, told))
