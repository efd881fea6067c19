"""What can be asked of one device, whatever the version: a request, its answer, and why there is none."""

from __future__ import annotations

from collections import Counter
from typing import NamedTuple, Protocol

from crossthread.live.snmp.messages import Entry, Oid


class Request(NamedTuple):
    """What follows each of some identifiers; `repetitions` rows of it, or with 0 by GETNEXT instead of GETBULK."""

    identifiers: tuple[Oid, ...]
    repetitions: int


class Reply(NamedTuple):
    """An answer: to which request, the error status and position, what was told, and the octets that it came in."""

    request: Request
    status: int
    position: int
    entries: list[Entry]
    size: int


class RefusedError(Exception):
    """Nobody listens there, or there is no way to it; the message says which."""


class CredentialsError(Exception):
    """The device does not accept who asks; only version 3 tells so."""


class Session(Protocol):
    """A way to ask one device."""

    oddities: Counter[str]
    """What came in place of answers, and how often."""

    async def ask(self, request: Request, wait: float) -> Reply | None:
        """Send a request, and wait some seconds for an answer to it or to one before it that had none.

        Raises
        ------
        RefusedError, CredentialsError
            If there will be none.
        """

    def close(self) -> None:
        """Take no more answers."""
