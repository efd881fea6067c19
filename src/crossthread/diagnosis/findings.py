"""What a question says of a network: findings, each with its subjects, evidence and mend."""

from __future__ import annotations

from typing import Literal, get_args

import msgspec

from crossthread.network.hosts.station import HostStation, Station
from crossthread.network.topology.names import End
from crossthread.survey.changes import Change
from crossthread.survey.survey import Evidence

Severity = Literal["breaks", "risks", "note"]
SEVERITIES: tuple[Severity, ...] = get_args(Severity)
Confidence = Literal["sure", "likely", "open"]


class Subject(msgspec.Struct, frozen=True, omit_defaults=True):
    """What a finding is about; only what applies is given."""

    device: str | None = None
    port: str | None = None
    vid: int | None = None
    host: str | None = None
    interface: str | None = None
    instance: int | None = None

    def __str__(self) -> str:
        parts = [self.host, self.device, self.port, self.interface]
        words = [part for part in parts if part]
        if self.vid is not None:
            words.append(f"VLAN {self.vid}")
        return " ".join(words)


class Alternative(msgspec.Struct, frozen=True):
    """A repair of one finding.

    Attributes
    ----------
    changes
        What it changes.
    because
        What speaks for it, the best evidence first; empty if nothing does.
    against
        What speaks against it all the same.
    weight
        What speaks for it, less what speaks for the settings that it overturns and what it costs.
    stops
        How many ordered pairs of hosts work now, other than by luck, and would stop with it.
    """

    changes: tuple[Change, ...]
    because: tuple[str, ...]
    weight: float = 0.0
    stops: int = 0
    against: tuple[str, ...] = ()


Identity = tuple[str, frozenset[Subject]]
"""What makes two findings the same one: the rule and its subjects."""


class Finding(msgspec.Struct, frozen=True):
    """One thing that is wrong, or fragile, or worth knowing.

    Attributes
    ----------
    rule
        Its name.
    severity
        `breaks` (traffic that should pass cannot), `risks` (works now, fragile or unsafe) or `note`.
    says
        The statement, in one or two sentences.
    evidence
        What it rests on.
    repair
        The changes that would mend it, in an order that works; empty where none can be worked out.
    alternatives
        The repair and others that are no larger, ranked by what speaks for them, in an answer about two hosts; else
        what may be meant, where no repair is proposed.
    confidence
        How sure its repair is by itself: `sure`, or `likely` if something speaks for another explanation; None where
        none is proposed, where the repair sets nothing that could be meant otherwise, and in an answer about two hosts.
    affected, affects
        How many hosts lose by it, and the names of the first of them.
    example
        Two stations that should reach each other and cannot because of it; None where none was found.
    follows
        Findings that follow from this one and go with it.
    """

    rule: str
    severity: Severity
    subjects: tuple[Subject, ...]
    says: str
    evidence: tuple[Evidence, ...]
    repair: tuple[Change, ...] = ()
    alternatives: tuple[Alternative, ...] = ()
    affected: int = 0
    affects: tuple[str, ...] = ()
    example: tuple[str, str] | None = None
    follows: tuple[Finding, ...] = ()
    confidence: Confidence | None = None

    @property
    def identity(self) -> Identity:
        """What makes two findings the same one."""
        subjects = self.subjects
        if self.rule == "port-vlan-missing":  # one for each device and VLAN, however many ports need it
            subjects = tuple(msgspec.structs.replace(subject, port=None) for subject in subjects)
        return self.rule, frozenset(subjects)


def at_port(end: End, vid: int | None = None) -> Subject:
    """A port as a subject."""
    return Subject(device=end.device, port=end.port, vid=vid)


def at_station(station: Station) -> Subject:
    """A host or an interface as a subject."""
    if isinstance(station, HostStation):
        return Subject(host=station.name)
    return Subject(device=station.device, interface=station.name, vid=station.row.vid)
