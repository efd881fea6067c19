"""Which findings stand at which hop of a way."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec

from crossthread.diagnosis.findings import Finding
from crossthread.diagnosis.rules.routing import OF_ROUTES
from crossthread.values import VlanSet
from crossthread.views.way import Hop


def with_faults(hops: Sequence[Hop], findings: Sequence[Finding], back: bool = False) -> tuple[Hop, ...]:
    """The hops of a way with the names of the findings that stand at each; `back` for the way of a reply."""
    routed: set[str] = set()
    found = []
    for hop in hops:
        first = hop.kind == "gateway" and hop.name not in routed
        routed |= {hop.name} if first else set()
        here = [f.rule for f in findings if _stands_at(f, hop, first, back)]
        found.append(msgspec.structs.replace(hop, faults=tuple(dict.fromkeys(here))) if here else hop)
    return tuple(found)


def along(findings: Sequence[Finding], path: Sequence[Hop], path_back: Sequence[Hop]) -> list[Finding]:
    """The findings in the order in which the echo, and then its reply, comes to them.

    One of which the way shows no place stays behind the one before it.
    """
    found, before = [], (0, 0, 0)
    for finding in findings:
        places = (_place(finding, hops, back) for hops, back in ((path, False), (path_back, True)))
        before = next((place for place in places if place is not None), before)
        found.append((before, finding))
    return [finding for _, finding in sorted(found, key=lambda entry: entry[0])]


def _place(finding: Finding, hops: Sequence[Hop], back: bool) -> tuple[int, int, int] | None:
    """Where a finding stands first: there or on the way back, at which hop, and coming in before going out."""
    routed: set[str] = set()
    for number, hop in enumerate(hops):
        first = hop.kind == "gateway" and hop.name not in routed
        routed |= {hop.name} if first else set()
        if _stands_at(finding, hop, first, back):
            enters = any(s.device == hop.name and s.port == hop.enters for s in finding.subjects if s.port)
            return int(back), number, int(not enters)
    return None


def _stands_at(finding: Finding, hop: Hop, first: bool, back: bool) -> bool:
    """Whether a finding stands at a hop; what concerns a device's routing stands where a packet first comes to it."""
    of_route = finding.rule in OF_ROUTES
    if of_route and back != (finding.rule == "route-back-missing"):
        return False
    for subject in finding.subjects[:1] if of_route else finding.subjects:
        if hop.kind == "host":
            here = subject.host == hop.name and finding.rule.startswith("host-")
        elif subject.device != hop.name:
            here = False
        elif subject.interface is not None:
            here = hop.interface == subject.interface
        elif subject.port is not None:
            here = subject.port in (hop.enters, hop.leaves) and not _allowed(finding, hop)
        elif subject.vid is not None:
            here = hop.kind == "bridge" and subject.vid == hop.vid
        else:
            here = first
        if here:
            return True
    return False


def _allowed(finding: Finding, hop: Hop) -> bool:
    """Whether a finding is that a VLAN is not allowed at a port, which allows the one that the hop is in."""
    ports = (hop.enters, hop.leaves)
    told = [
        fact.value
        for fact in finding.evidence
        if fact.column == "allowed" and fact.key.get("device") == hop.name and fact.key.get("port") in ports
    ]
    if finding.rule != "link-vlan-missing" or hop.vid is None:
        return False
    return bool(told) and all(text is not None and hop.vid in VlanSet.parse(text) for text in told)
