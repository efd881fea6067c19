"""Mends that are found, and not proposed: told as ones that may be meant, or left out, as they might do harm."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.findings import Alternative, Finding
from crossthread.diagnosis.judgement.confidence import confidence_of
from crossthread.diagnosis.repair.side_effects import Stopped
from crossthread.diagnosis.repair.trials import changes_of
from crossthread.values import NONE


def harmless(context: Context, findings: Sequence[Finding], told: bool = False) -> list[Finding]:
    """The same findings without the mends that stop a pair which works as it should, or may do so.

    If those are to be told all the same, as each would mend the pair, they stay among the alternatives.
    """
    by = context.once(Stopped).by
    without = told_only if told else bare
    found = [without(one) if by(one.repair).stops or by(one.repair).doubtful else one for one in findings]
    costs = by(changes_of(found))
    return [without(finding) for finding in found] if costs.stops or costs.doubtful else found


def decided(findings: Sequence[Finding]) -> list[Finding]:
    """The same findings without the mends of those of which nothing decides between several; those are told."""
    return [told_only(one) if one.repair and confidence_of(one) == "open" else one for one in findings]


def told_only(finding: Finding) -> Finding:
    """The same finding, whose mend is told as one that may be meant."""
    known = finding.alternatives or (Alternative(finding.repair, ()),)
    return msgspec.structs.replace(finding, repair=(), alternatives=known)


def moves(context: Context, finding: Finding) -> bool:
    """Whether a mend puts a host, or an interface, elsewhere: into another VLAN, or to another address."""
    at_host = any(subject.host or subject.interface for subject in finding.subjects)
    return at_host and any(
        {"pvid", "vid"} & set(change.cells)
        or (
            (text := str(change.cells.get("address") or NONE)) != NONE
            and text.partition("/")[0] not in context.network.stations.by_address
        )
        for change in finding.repair
    )


def bare(finding: Finding) -> Finding:
    """The same finding without any mend."""
    return msgspec.structs.replace(finding, repair=(), alternatives=())
