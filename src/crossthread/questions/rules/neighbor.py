"""Findings about neighbour discovery."""

from __future__ import annotations

from crossthread.network.links import Loose
from crossthread.questions.findings import Finding, at_port
from crossthread.questions.scene import Scene


def neighbor_conflict(scene: Scene, entry: Loose) -> Finding | None:
    """The two ends of what looks like one link name different ports.

    Matters: one of the two readings is stale, or something in between passes neighbour discovery on; no link is drawn
    until that is settled. Confirm: read the neighbour tables of both devices again; follow the cable.
    """
    if entry.why != "conflict" or entry.claims is None:
        return None
    others = [link for link in scene.network.links if entry.claims in (link.a, link.b)]
    hears = f"{entry.claims} hears {others[0].far(entry.claims)}" if others else f"{entry.claims} hears somebody else"
    evidence = scene.evidence(entry.row, "neighbor", "neighbor_port")
    for other in scene.network.loose:
        if other.end == entry.claims:
            evidence += scene.evidence(other.row, "neighbor", "neighbor_port")
    for link in others[:1]:
        for row in (*link.seen_a, *link.seen_b):
            if row.port == entry.claims.port:
                evidence += scene.evidence(row, "neighbor", "neighbor_port")
    return Finding(
        "neighbor-conflict",
        "risks",
        (at_port(entry.end), at_port(entry.claims)),
        f"{entry.end} hears {entry.claims}, but {hears}.",
        evidence,
    )
