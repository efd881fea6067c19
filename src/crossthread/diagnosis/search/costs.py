"""What a way costs, and what stands on it."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import msgspec

from crossthread.diagnosis.findings import Finding
from crossthread.survey.changes import edited

NO_CHANGE = 3
"""What a fault counts for of which no change is known that mends it."""
AGREED = 1
"""What it counts for besides to let a VLAN over a link of which both ends leave it out: that may be meant."""
ANOTHER_TREE = 9
"""What it counts for besides to make the spanning tree take another way: the way it takes is mended rather."""
LEAK = 3
"""What it counts for to go through a leak between two VLANs: as much as three changes more."""


class Cost(NamedTuple):
    """What a way costs; compared in this order."""

    price: int
    """Rows to edit, and what was added for steps against the evidence: a VLAN that the station's subnet does not live
    in, a leak between two VLANs."""
    observations: int
    hops: int

    def plus(self, other: Cost) -> Cost:
        """The sum."""
        return Cost(self.price + other.price, self.observations + other.observations, self.hops + other.hops)


class Step(msgspec.Struct, frozen=True):
    """One piece of a way: its price and the findings that stand there."""

    cost: Cost
    findings: tuple[Finding, ...] = ()


PLAIN = Step(Cost(0, 0, 1))


def step_of(findings: Sequence[Finding | None], doubts: int = 0, observations: int = 0, hops: int = 0) -> Step:
    """One piece with some findings: as dear as all their changes together, and what counts against it."""
    real = tuple(finding for finding in findings if finding is not None)
    changes = sum(max(1, len(edited(finding.repair))) if finding.repair else NO_CHANGE for finding in real)
    return Step(Cost(changes + doubts, observations, hops), real)
