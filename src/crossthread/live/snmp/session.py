"""What can be asked of one device, whatever the version: a request, its answer, and why there is none."""

from __future__ import annotations

import asyncio
import os
from collections import Counter
from collections.abc import Callable
from typing import NamedTuple, Protocol

from crossthread.live.snmp.datagrams import Datagrams, Place
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


class Waiting:
    """What all ways to ask have in common: they wait for one answer, and remember what came in its place."""

    def __init__(self, datagrams: Datagrams, place: Place) -> None:
        self._datagrams, self._place = datagrams, place
        self._waiting: asyncio.Future[Reply] | None = None
        self.oddities: Counter[str] = Counter()

    def elsewhere(self, place: Place) -> None:
        self.oddities[f"its answers come from {place[0]} port {place[1]}, which was not asked"] += 1

    def refused(self, error: int) -> None:
        self._end(RefusedError(os.strerror(error).lower()))

    def _end(self, found: Reply | Exception) -> None:
        """Give an answer, or why there is none, to who waits for it."""
        if self._waiting is None or self._waiting.done():
            return
        if isinstance(found, Exception):
            self._waiting.set_exception(found)
        else:
            self._waiting.set_result(found)

    async def _answer(self, send: Callable[[], None], wait: float) -> Reply | None:
        """Send, and wait some seconds for an answer."""
        self._waiting = asyncio.get_running_loop().create_future()
        send()
        try:
            return await asyncio.wait_for(self._waiting, wait)
        except TimeoutError:
            return None
        finally:
            self._waiting = None


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
