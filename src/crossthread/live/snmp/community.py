"""Asking by SNMP version 2c: a community in clear text (RFC 1901), over the datagrams that a visit shares."""

from __future__ import annotations

import random

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
from crossthread.live.snmp.session import Reply, Request, Waiting


class CommunitySession(Waiting):
    """One device, asked with one community."""

    def __init__(self, datagrams: Datagrams, place: Place, community: str) -> None:
        super().__init__(datagrams, place)
        self.__community = community.encode()
        self._open: dict[int, Request] = {}
        self._answered: set[int] = set()
        datagrams.attach(place, self)

    async def ask(self, request: Request, wait: float) -> Reply | None:
        """Send a request, and wait for an answer to it, or to one before it that had none: see `Session`."""
        number = random.getrandbits(31)
        self._open[number] = request
        self._datagrams.expected[number] = self
        kind = GET_BULK if request.repetitions else GET_NEXT
        entries = b"".join(map(encode_entry, request.identifiers))
        message = encode_message(self.__community, kind, number, 0, request.repetitions, entries)
        reply = await self._answer(lambda: self._datagrams.send(message, self._place), wait)
        if reply is not None:
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
        self._end(Reply(request, message.status, message.position, message.entries, len(data)))

    def close(self) -> None:
        self._datagrams.detach(self._place)
        self._forget()

    def _forget(self) -> None:
        for number in self._open:
            self._datagrams.expected.pop(number, None)
        self._answered.update(self._open)
        self._open = {}

    def __repr__(self) -> str:
        return f"<CommunitySession: {self._place[0]}>"
