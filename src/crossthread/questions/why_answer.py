"""The answer to "why do two hosts not talk", and each version of IP by itself."""

from __future__ import annotations

import msgspec

from crossthread.answer import Answer
from crossthread.diagnosis.findings import Confidence, Finding
from crossthread.diagnosis.repair.harm.side_effects import Pairs
from crossthread.diagnosis.repair.work_order import WorkStep
from crossthread.diagnosis.unknown.looking import Look
from crossthread.network.three_valued import Verdict
from crossthread.survey.changes import Change
from crossthread.survey.survey import Evidence
from crossthread.views.way import Hop


class Family(msgspec.Struct, frozen=True, rename={"version": "family"}):
    """What is true of two hosts by one version of IP: the verdict, and where the packet stops."""

    version: int
    verdict: Verdict
    stopped: str | None = None


class Why(Answer, frozen=True, rename={"source": "from", "target": "to"}):
    """The answer to "why can A not reach B".

    Attributes
    ----------
    source, target
        Their names (`from` and `to` in JSON); an interface's with its device before it.
    verdict
        `works` if an echo gets there and its reply gets back, `fails`, or `unknown`.
    findings
        Every fault in this pair's way, in the order of the way; for a pair that works, what it works by luck of.
    repair
        The changes of all findings together.
    repair_proven
        Whether the pair works on a copy of the survey with these changes made.
    order, seat
        The repair as a work order: its steps in an order that works on devices, for somebody who is connected to the
        device `seat`.
    unproven
        Where the packet still stops, or may stop, with all of it done; None if it is proven.
    confidence
        How sure the repair is: `sure` if hardly anything speaks against it, `likely`, or `open` if two explanations are
        about as good. Of an unknown verdict: `likely` if facts say what is wrong already (the findings), else `open`.
    decide
        What to look at, or to ask, to tell the explanations apart where it is open.
    costs
        The pairs of hosts that work now, as they should, and would stop with whatever was found to mend this one: it is
        not proposed for that reason. Not worked out for a campus of very many kinds of hosts; nor is `luck`.
    luck
        The pairs that work now and stop with the repair, but work by luck only, such as by a leak between two VLANs.
    then
        What the pair works by luck of once the repair is made, such as a gateway that answers for others.
    doubtful
        The pairs of which nobody knows whether they work now, and that would stop with a mend that was found, which is
        not proposed for that reason.
    unsure
        The pairs that work now and may stop with the repair, as what was not read decides whether they do.
    surely, look, turns
        Of an unknown verdict: how far the packet surely gets; what to look at next, the first place first; how the
        verdict will turn.
    observe
        What has to be looked at before more can be said.
    path, path_back
        The way of the echo and of the reply, hop by hop; beyond a fault, as it would go if that were mended.
    stopped
        Where the packet really stops first, in one sentence; None if it does not.
    caveats
        What could not be seen, and could still stop them or part of what they send.
    families
        Where the two have IPv4 and IPv6 in common: each by itself; the verdict is the worse.
    """

    ROWS = "findings"
    source: str
    target: str
    verdict: Verdict
    findings: tuple[Finding, ...]
    repair: tuple[Change, ...]
    repair_proven: bool
    observe: tuple[Evidence, ...]
    path: tuple[Hop, ...]
    path_back: tuple[Hop, ...]
    stopped: str | None = None
    order: tuple[WorkStep, ...] = ()
    seat: str | None = None
    via: str | None = None
    unproven: str | None = None
    confidence: Confidence | None = None
    decide: tuple[str, ...] = ()
    costs: Pairs = ()
    luck: Pairs = ()
    then: tuple[Finding, ...] = ()
    doubtful: Pairs = ()
    unsure: Pairs = ()
    surely: str | None = None
    look: tuple[Look, ...] = ()
    turns: str | None = None
    caveats: tuple[str, ...] = ()
    families: tuple[Family, ...] = ()
