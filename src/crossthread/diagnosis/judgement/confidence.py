"""How sure a repair is: by what speaks for other explanations."""

from __future__ import annotations

from collections.abc import Sequence
from typing import get_args

from crossthread.diagnosis.findings import Alternative, Confidence, Finding
from crossthread.diagnosis.judgement import weights
from crossthread.values import NONE, VlanSet

_LEVELS: tuple[Confidence, ...] = get_args(Confidence)

_CHOSEN = {
    "gateway-missing",
    "host-outside-subnet",
    "host-address-missing",
    "host-address-broadcast",
    "host-address-duplicate",
    "link-access-vlan-differs",
    "tree-blocks-vlan",
}
"""Findings whose mend picks something that no fact names.

A device for a lost interface, one of several addresses, what a link was meant to be, a way that the tree may take.
"""

_FEW = 2
"""So many facts are few to move a port for, if something speaks against it."""

_MEANT = ("port-isolated", "route-discards")
"""Findings of what somebody set in order to keep two apart: whether they are to talk, no fact says."""


def confidence(findings: Sequence[Finding], proven: bool = True) -> Confidence:
    """How sure the repair of some findings together is: as sure as the least sure of them.

    `sure` if hardly anything speaks against any of them, `open` if another explanation of one is about as good, else
    `likely`.
    """
    found: list[Confidence] = [confidence_of(finding) for finding in findings]
    return max([*found, "sure" if proven and not left_out(findings) else "likely"], key=_LEVELS.index)


def left_out(findings: Sequence[Finding]) -> bool:
    """Whether a port gets a VLAN that both ends of some link leave out: the two agree that it does not belong there.

    So they do where both are access ports of one other VLAN. What the plan decides is not asked.
    """
    agreed = [f for f in findings if len({str(c.key) for c in f.repair if c.table == "ports"}) > 1]
    single = [f for f in findings if f.rule in ("port-vlan-wrong", "port-mode-wrong") and f not in agreed]
    single = [finding for finding in single if not beyond_doubt(finding)]
    moved = {change.cells.get("pvid") for finding in single for change in finding.repair}
    return any(isinstance(vid, int) and vid in lacking(agreed) for vid in moved)


def lacking(findings: Sequence[Finding]) -> VlanSet:
    """The VLANs that links do not carry, by some findings about links: those that they say, or that a trunk would."""
    found = VlanSet.of(s.vid for f in findings if f.rule == "link-vlan-missing" for s in f.subjects if s.vid)
    for change in [change for f in findings if f.rule == "port-mode-wrong" for change in f.repair]:
        found |= VlanSet.parse(str(change.cells.get("allowed") or NONE))
    return found


def confidence_of(finding: Finding) -> Confidence:
    """How sure one finding's repair is; a repair that stops somebody who works is never sure."""
    others = rivals(finding)
    if finding.rule in _MEANT:
        return "open"
    if not finding.repair or any(own.stops for own in finding.alternatives if own.changes == finding.repair):
        return "open"
    if others and _margin(finding, others) < weights.OPEN:
        return "open"
    if beyond_doubt(finding):
        return "sure"
    by_hand = any("forbidden" in change.cells for change in finding.repair)
    at_a_port = all(change.table == "ports" for change in finding.repair)
    at_a_host = at_a_port and any(change.table == "hosts" for rival in others for change in rival.changes)
    if (
        at_a_host
        or by_hand
        or kept_apart(finding)
        or picked(finding)
        or one_speaks(finding)
        or barely(finding)
        or doubted(finding)
        or _own_weight(finding) < -weights.ROW
        or (others and _margin(finding, others) < weights.SURE)
    ):
        return "likely"
    return "sure"


def beyond_doubt(finding: Finding) -> bool:
    """Whether so much speaks for its repair, more than for any other, as the plan does, and hardly anything else.

    Which device had a lost interface no plan says, nor whether somebody forbade a VLAN on purpose.
    """
    by_hand = any("forbidden" in change.cells for change in finding.repair)
    weighs = min(_own_weight(finding), _margin(finding, rivals(finding)))
    return weighs >= weights.DECIDED and not by_hand and finding.rule != "gateway-missing"


def picked(finding: Finding) -> bool:
    """Whether what its repair sets was picked, as no fact names it.

    So the VLAN that is left for a host at a trunk, and an interface's own address beside one that it shares.
    """
    if finding.rule == "gateway-address-wrong" and any(fact.column == "virtual" for fact in finding.evidence):
        return True
    if finding.rule != "port-mode-wrong" or not any(subject.host for subject in finding.subjects):
        return finding.rule in _CHOSEN
    changed = [change.key for change in finding.repair]
    others = [fact for fact in finding.evidence if fact.key not in changed]
    return [(fact.table, fact.column) for fact in others] == [("hosts", "address")]


def kept_apart(finding: Finding) -> bool:
    """Whether it sets what one of a device's several routing tables has: as it was may be what they are for."""
    between = any(fact.column == "table" for fact in finding.evidence)
    return between and any(change.table in ("routes", "gateways") and not change.delete for change in finding.repair)


def one_speaks(finding: Finding) -> bool:
    """Whether a port is to be moved, a length, a gateway or an address set, because of what a single other one has."""
    own, changed = _own(finding), [change.key for change in finding.repair]
    others = [fact for fact in finding.evidence if fact.key not in changed]
    if own is None or len(own.because) > 1:
        return False
    if finding.rule == "gateway-address-wrong":
        return len({(fact.table, fact.key.get("device")) for fact in others}) == 1 and others[0].table == "routes"
    if finding.rule == "host-mask-differs":
        return [(fact.table, fact.column) for fact in others] == [("hosts", "address")]
    if finding.rule.startswith("host-gateway"):
        return [(fact.table, fact.column) for fact in others] == [("hosts", "gateway")]
    return finding.rule == "port-vlan-wrong" and sum(fact.column in ("pvid", "vid") for fact in others) == 1


def barely(finding: Finding) -> bool:
    """Whether few facts say that a port is to be moved, and about as much speaks against it."""
    own = _own(finding)
    few = own is not None and own.weight <= weights.OWN and len(own.because) <= _FEW
    return finding.rule == "port-vlan-wrong" and few


def doubted(finding: Finding) -> bool:
    """Whether something speaks against its repair, though nothing else would mend it."""
    own = _own(finding)
    return own is not None and bool(own.against)


def _own(finding: Finding) -> Alternative | None:
    """The explanation of a finding that is proposed."""
    return next((own for own in finding.alternatives if own.changes == finding.repair), None)


def rivals(finding: Finding) -> list[Alternative]:
    """The other explanations of a finding."""
    return [other for other in finding.alternatives if other.changes != finding.repair]


def _margin(finding: Finding, others: Sequence[Alternative]) -> float:
    """By how much the repair outweighs the best other one; what it weighs if there is none."""
    return _own_weight(finding) - max((rival.weight for rival in others), default=0.0)


def _own_weight(finding: Finding) -> float:
    own = _own(finding)
    return own.weight if own is not None else 0.0
