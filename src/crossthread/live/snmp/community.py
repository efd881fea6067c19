"""Asking by SNMP version 2c: a community in clear text (RFC 1901), over the datagrams that a visit shares."""

from __future__ import annotations

import asyncio
import os
import random
from collections import Counter

from crossthread.live.snmp.datagrams import Datagrams, Place
from crossthread.live.snmp.messages import (
    GET_BULK,
    GET_NEXT,
    RESPONSE,
    MessageError,
    encode_entry,
    encode_message,
    read_message,
)
from crossthread.live.snmp.session import RefusedError, Reply, Request


class CommunitySession:
    """One device, asked with one community."""

    def __init__(self, datagrams: Datagrams, place: Place, community: str) -> None:
        self._datagrams, self._place = datagrams, place
        self.__community = community.encode()
        self._open: dict[int, Request] = {}
        self._answered: set[int] = set()
        self._waiting: asyncio.Future[Reply] | None = None
        self.oddities: Counter[str] = Counter()
        datagrams.attach(place, self)

    async def ask(self, request: Request, wait: float) -> Reply | None:
        """Send a request, and wait for an answer to it, or to one before it that had none: see `Session`."""
        number = random.getrandbits(31)
        self._open[number] = request
        self._datagrams.expected[number] = self
        many = (0, request.repetitions) if request.repetitions else (0, 0)
        kind = GET_BULK if request.repetitions else GET_NEXT
        entries = b"".join(map(encode_entry, request.identifiers))
        self._waiting = asyncio.get_running_loop().create_future()
        self._datagrams.send(encode_message(self.__community, kind, number, *many, entries), self._place)
        try:
            reply = await asyncio.wait_for(self._waiting, wait)
        except TimeoutError:
            return None
        finally:
            self._waiting = None
        self._forget()
        return reply

    def heard(self, data: bytes) -> None:
        try:
            message = read_message(data)
        except MessageError:
            self.oddities["it answers with octets that are no SNMP message"] += 1
            return
        request = self._open.get(message.number)
        if message.number in self._answered:
            return  # once more, or late
        if message.kind != RESPONSE or request is None:
            self.oddities["it answers to requests that nobody made"] += 1
            return
        if self._waiting is not None and not self._waiting.done():
            reply = Reply(request, message.status, message.position, message.entries, len(data))
            self._waiting.set_result(reply)

    def elsewhere(self, place: Place) -> None:
        self.oddities[f"its answers come from {place[0]} port {place[1]}, which was not asked"] += 1

    def refused(self, error: int) -> None:
        if self._waiting is not None and not self._waiting.done():
            self._waiting.set_exception(RefusedError(os.strerror(error).lower()))

    def close(self) -> None:
        self._datagrams.detach(self._place)
        self._forget()

    def _forget(self) -> None:
        for number in self._open:
            self._datagrams.expected.pop(number, None)
        self._answered = {*self._open}
        self._open = {}

    def __repr__(self) -> str:
        return f"<CommunitySession: {self._place[0]}>"
