"""Agents that get something wrong, each in one of the ways that are met on real campuses: for tests and benchmarks."""

from __future__ import annotations

import random
from collections.abc import Sequence
from time import monotonic

from crossthread.live.agent import Agent
from crossthread.live.snmp.messages import (
    COUNTER,
    GENERAL_ERROR,
    GET_BULK,
    INTEGER,
    RESPONSE,
    TOO_BIG,
    Entry,
    Message,
    Oid,
    encode_entry,
    encode_message,
    integer_octets,
    read_message,
)
from crossthread.live.snmp.walk_text import oid

_DESCRIPTIONS, _KINDS = oid("1.3.6.1.2.1.2.2.1.2"), oid("1.3.6.1.2.1.2.2.1.3")
_OWN = oid("1.3.6.1.2.1.2.2.1.20")


class StandsStill(Agent):
    """Its identifiers do not increase: in one column it says the first row again and again."""

    def _at(self, place: int, name: Oid) -> bytes:
        if name[: len(_KINDS)] == _KINDS and len(name) > len(_KINDS):
            return encode_entry((*_KINDS, 1), INTEGER, b"\6")
        return super()._at(place, name)


class Endless(Agent):
    """One of its columns has no end."""

    def _wanted(self, message: Message) -> Sequence[bytes]:  # type: ignore[override]
        found = list(super()._wanted(message))
        many = len(message.entries)
        for at in range(len(found)):
            name = message.entries[at % many].identifier
            if name[: len(_OWN)] == _OWN:
                number = (name[-1] if len(name) > len(_OWN) else 0) + 1 + at // many
                found[at] = encode_entry((*_OWN, number), COUNTER, integer_octets(number))
        return found


class TooBig(Agent):
    """It has no room for more than two values in an answer, and says so instead of telling fewer."""

    def respond(self, message: Message) -> bytes:
        rows = message.position if message.kind == GET_BULK else 1
        if rows * len(message.entries) > 2:
            return encode_message(message.community, RESPONSE, message.number, TOO_BIG, 0, b"")
        return super().respond(message)


class NoBulk(Agent):
    """It does not answer GETBULK."""

    def answer(self, data: bytes) -> bytes | None:
        return None if read_message(data).kind == GET_BULK else super().answer(data)


class FailsInOneColumn(Agent):
    """It answers with genErr where one column is asked for."""

    def respond(self, message: Message) -> bytes:
        for at, entry in enumerate(message.entries, 1):
            if entry.identifier[: len(_DESCRIPTIONS)] == _DESCRIPTIONS:
                return encode_message(message.community, RESPONSE, message.number, GENERAL_ERROR, at, b"")
        return super().respond(message)


class WrongNumber(Agent):
    """It answers with the number of a request that nobody made."""

    def respond(self, message: Message) -> bytes:
        return super().respond(message._replace(number=message.number ^ 1))


class RandomOctets(Agent):
    """It answers with octets that are no message."""

    def answer(self, data: bytes) -> bytes | None:
        self.asked += 1
        return random.randbytes(200)


class Loses(Agent):
    """Every third of its answers is lost."""

    def answer(self, data: bytes) -> bytes | None:
        found = super().answer(data)
        return None if self.asked % 3 == 0 else found


class Limited(Agent):
    """It answers only some requests a second, and none that comes too early."""

    def __init__(self, objects: Sequence[Entry], community: str = "public") -> None:
        super().__init__(objects, community)
        self._next = 0.0

    def answer(self, data: bytes) -> bytes | None:
        if monotonic() < self._next:
            return None
        self._next = monotonic() + 0.05
        return super().answer(data)


class Dies(Agent):
    """After some answers it says nothing more."""

    def answer(self, data: bytes) -> bytes | None:
        return super().answer(data) if self.asked < 12 else None


class Late(Agent):
    """Every fourth of its answers comes after one has asked again."""

    def late(self) -> float:
        return 1.3 if self.asked % 4 == 3 else 0.0


class Elsewhere(Agent):
    """It answers from another port than it was asked at."""

    elsewhere = True


class Silent(Agent):
    """It never answers."""

    def answer(self, data: bytes) -> bytes | None:
        return None


MISBEHAVIOURS: tuple[type[Agent], ...] = (
    StandsStill, Endless, TooBig, NoBulk, FailsInOneColumn, WrongNumber, Elsewhere, RandomOctets, Loses, Late, Limited,
    Dies, Silent,
)  # fmt: skip
"""All of them."""
