"""What follows from what: one cause, one finding, with its consequences under it."""

from __future__ import annotations

from collections.abc import Container, Iterator, Mapping

import msgspec

from crossthread.diagnosis.all_rules import standing
from crossthread.diagnosis.context import Context
from crossthread.diagnosis.findings import Finding, Identity
from crossthread.diagnosis.nesting import nested, rests_on
from crossthread.diagnosis.registry import parents, parents_in_vlan
from crossthread.diagnosis.repair.doubts import PLACES
from crossthread.diagnosis.repair.hypotheses import judged
from crossthread.diagnosis.repair.together import changes_of, try_out
from crossthread.diagnosis.repair.withheld import bare
from crossthread.diagnosis.way.echo import walks
from crossthread.errors import UnknownNameError
from crossthread.network.hosts.ends import end_named
from crossthread.network.hosts.station import Interface
from crossthread.network.network import Network
from crossthread.network.routing.forwarding import Forwarding
from crossthread.survey.changes import edited, merge_changes


def consequences(context: Context, findings: list[Finding], causes: Mapping[Identity, set[Identity]]) -> list[Finding]:
    """The findings with those that follow from another put under it; see `nested`.

    What is wrong with a host, or rests on what a mend changes, follows from nothing if its rule finds it all the same
    once the mends of all that leads are made: it is a fault of its own, whose mend is to be told. So is what a pair
    still needs then. If not, that of what leads is all that it needs.
    """
    own, gone, found = set[Identity](), set[Identity](), nested(context, findings, causes)
    for _ in range(_ROUNDS):
        under = [(pair, finding) for finding in found if finding.repair for pair in _below(finding)]
        doubtful = [other for (other, above), _ in under if _is_of_a_host(other) or _only_rests_on(other, above)]
        others = [other for (other, _), leading in under if other.repair and rests_on(other, leading)]
        mended = try_out(context.network, changes_of(found)) if doubtful or others else None
        if mended is None:
            break
        still = _standing(Context(mended, context.plan), [*doubtful, *others])
        needed = {other.identity for other in others if _is_needed(mended, other)}
        gone = {other.identity for other in (*doubtful, *others)} - still - needed
        fresh = (still & {other.identity for other in doubtful}) | needed
        if not fresh:
            break
        own |= fresh
        found = nested(context, findings, causes, own)
    return [_mended_above(one, gone) for one in found]


_ROUNDS = 3
"""How often it is looked again at what stands under others once what is a fault of its own leads."""


def _standing(mended: Context, doubtful: list[Finding]) -> set[Identity]:
    """Which of some findings under others are there without them, too, as all that leads is mended."""
    still = standing(mended, doubtful)
    return {other.identity for other in doubtful if other.identity in still or _is_judged(mended, other)}


def _is_needed(mended: Network, finding: Finding) -> bool:
    """Whether the pair that showed a finding still fails with all that leads mended, and works with this as well."""
    if not finding.repair or finding.example is None or not _fails(mended, finding.example):
        return False
    after = try_out(mended, finding.repair)
    return after is not None and not _fails(after, finding.example)


def _fails(network: Network, pair: tuple[str, str]) -> bool:
    """Whether two do not reach each other, or a host and its gateway do not hear each other."""
    try:
        one, two = (end_named(network, name) for name in pair)
    except UnknownNameError:
        return False  # the gateway is not there
    if isinstance(two, Interface):
        return Forwarding(network).resolves(one, two) is False
    return any(walk.arrives is False for walk in walks(network, *pair))


def _mended_above(finding: Finding, gone: Container[Identity]) -> Finding:
    """The same, without mends of what follows from it and is gone with its own.

    What nobody edits, such as an interface that comes up by itself once its VLAN is there again, is told with its own.
    """
    below = [_mended_above(bare(other) if other.identity in gone else other, gone) for other in finding.follows]
    back = [other for other in below if other.repair and not edited(other.repair)] if edited(finding.repair) else []
    repair = merge_changes([*finding.repair, *(change for other in back for change in other.repair)])
    follows = tuple(bare(other) if any(other is one for one in back) else other for other in below)
    return msgspec.structs.replace(finding, repair=repair if back else finding.repair, follows=follows)


def _is_of_a_host(finding: Finding) -> bool:
    """Whether something of a host is to be mended, or it is not where it should be."""
    mended = bool(finding.repair) or finding.rule in PLACES
    return mended and any(subject.host for subject in finding.subjects)


def _is_judged(context: Context, finding: Finding) -> bool:
    """Whether it is what most likely is wrong with a host, by all that is known of it; or its port is, if not that.

    Whichever of a host's port and address is the wrong one, it is not where it should be.
    """
    hosts = [context.network.stations.hosts[s.host.casefold()] for s in finding.subjects if s.host]
    best = judged(context, hosts[0]) if len(hosts) == 1 else None
    return best is not None and (best.identity == finding.identity or {best.rule, finding.rule} <= set(PLACES))


def _below(finding: Finding) -> Iterator[tuple[Finding, Finding]]:
    """All that stands under a finding, each with what it stands under directly."""
    for other in finding.follows:
        yield other, finding
        yield from _below(other)


def _only_rests_on(finding: Finding, other: Finding) -> bool:
    """Whether a finding rests on what another one's mend changes, and its rule declares no more of the two."""
    declared = {*parents().get(finding.rule, ()), *parents_in_vlan().get(finding.rule, ())}
    return not finding.repair and other.rule not in declared and rests_on(finding, other)
