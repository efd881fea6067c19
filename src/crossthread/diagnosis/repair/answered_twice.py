"""For which addresses on a pair's way several stations answer, and which of them is to get another one."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.findings import Finding
from crossthread.diagnosis.repair.together import changes_of, try_out
from crossthread.diagnosis.repair.trials import Outcomes
from crossthread.diagnosis.rules import routing
from crossthread.diagnosis.way.echo import walks
from crossthread.network.routing.walks import Walk


def answered_twice(context: Context, walked: Sequence[Walk]) -> list[Finding]:
    """For which addresses several stations answer on the way of an echo and its reply, each told once."""
    asked = [contest for walk in walked for contest in walk.contests]
    told = filter(None, (routing.several_answer(context, asker, wanted) for asker, wanted in asked))
    return list({finding.identity: finding for finding in told}.values())


def twice_once_mended(context: Context, findings: Sequence[Finding], pair: tuple[str, str]) -> list[Finding]:
    """The same once some findings are mended, where it is not known for sure that the pair works by that alone.

    It is mended as well if it is known who is to get another address.
    """
    if context.once(Outcomes).of(findings, *pair) is not None:
        return []
    after = try_out(context.network, changes_of(findings))
    told = answered_twice(context, walks(after, *pair)) if after is not None else []
    return [
        msgspec.structs.replace(one, repair=one.alternatives[0].changes) if len(one.alternatives) == 1 else one
        for one in told
    ]
