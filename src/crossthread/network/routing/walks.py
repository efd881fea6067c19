"""The way of one packet, leg by leg: whether it arrives, and where it stops if it does not."""

from __future__ import annotations

from typing import Literal, NamedTuple

import msgspec

from crossthread.network.hosts.station import Station
from crossthread.network.routing.routes import Choice
from crossthread.network.three_valued import Truth
from crossthread.network.topology.names import End
from crossthread.survey.records import Filter, Row
from crossthread.values import Address


class Leg(NamedTuple):
    """One stretch of a way: from a station to the one that takes the packet on, over bridges only."""

    sender: Station
    receiver: Station
    target: Address
    """Whose MAC address the sender asks for."""
    proxy: bool
    """Whether the receiver answers for somebody else."""


Reason = Literal[
    "address", "family", "broadcast", "gateway", "gateway-outside", "silent", "deaf-host", "routing", "route", "loop",
    "unknown", "beyond", "filter", "discards", "down",
]  # fmt: skip


class Stop(msgspec.Struct, frozen=True):
    """Where a packet gets no further, and why."""

    reason: Reason
    station: Station
    target: Address | None = None
    candidates: tuple[Station, ...] = ()
    choice: Choice | None = None
    entry: Filter | None = None
    """Of a packet filter, the entry that drops the packet, or may do so."""
    port: End | None = None
    """The port that has that filter; None: an interface of the station has it."""


class Fork(NamedTuple):
    """Where a device has several routes that are as good, or interfaces, and not by all of them a packet arrives."""

    station: Station
    arriving: Choice
    failing: Choice
    stop: Stop | None
    """Where it stops by the one that fails."""


class Walk(msgspec.Struct, frozen=True):
    """The way of one packet: whether it arrives, over which legs, and where it stops if it does not."""

    arrives: Truth
    legs: tuple[Leg, ...]
    stop: Stop | None = None
    missing: tuple[tuple[Row, str], ...] = ()
    """Cells that the outcome turns on and that were not observed."""
    aside: tuple[Leg, ...] = ()
    """The legs of the other ways that the packet may take instead, where it is not known which it takes."""
    contests: tuple[tuple[Station, Address], ...] = ()
    """Who asks for which address and gets several answers that lead to different ends: whoever answers first wins."""
    forks: tuple[Fork, ...] = ()
    """Where it turns on which of several routes a device takes that are as good."""


def combine(walks: list[Walk], sure: bool) -> Walk:
    """One outcome of several possible ones: certain only where all agree.

    Parameters
    ----------
    walks
        What may happen, the most likely first; not empty.
    sure
        Whether one of them is certain to happen; otherwise nothing at all may happen.
    """
    outcomes = {walk.arrives for walk in walks} | (set() if sure else {False})
    if len(outcomes) == 1:
        return (
            walks[0]
            if len(walks) == 1
            else msgspec.structs.replace(
                walks[0], aside=(*walks[0].aside, *(leg for walk in walks[1:] for leg in (*walk.legs, *walk.aside)))
            )
        )
    best = next((walk for walk in walks if walk.arrives is not False), walks[0])
    missing = tuple(fact for walk in walks for fact in walk.missing)
    contests = tuple(contest for walk in walks for contest in walk.contests)
    forks = tuple(fork for walk in walks for fork in walk.forks)
    aside = tuple(leg for walk in walks for leg in (*(walk.legs if walk is not best else ()), *walk.aside))
    return Walk(None, best.legs, best.stop, missing, aside, contests, forks)
