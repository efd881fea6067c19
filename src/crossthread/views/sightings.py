"""What an answer to "where is it" is made of: places, each with what says so."""

from __future__ import annotations

import msgspec

from crossthread.answer import Answer
from crossthread.network.topology.names import End
from crossthread.survey.survey import Evidence

EDGES = ("host", "learned", "described")
"""How something is known to be at a port that leads to no other device."""


class Sighting(msgspec.Struct, frozen=True, omit_defaults=True):
    """One place where something is, and what says so.

    `how` is `host` (its row), `learned` (filtering databases, followed to the edge), `towards` (learned on a port that
    leads on, and not beyond), `beyond` (behind an open end, where nobody looked), `heard` (a neighbour did),
    `described` (a port's description), `named` (the same where others may be beyond, so that it need not be there),
    `own` (a port's or device's own address),
    `interface` (an address of a gateway interface) or `member` (a VLAN on a device).
    """

    device: str
    how: str
    says: str
    port: str | None = None
    vid: int | None = None
    interface: str | None = None
    evidence: tuple[Evidence, ...] = ()


class Found(Answer, frozen=True):
    """The answer to "where is it": the places, the surest first, and where they do not agree."""

    ROWS = "places"
    what: str
    kind: str
    places: tuple[Sighting, ...]
    trail: tuple[Evidence, ...]
    conflicts: tuple[str, ...]


def spot(end: End, how: str, says: str) -> tuple[str, str, str, str]:
    """The device, how, what is said and the port, as a sighting begins."""
    return end.device, how, says, end.port
