"""Small SNMP agents that stand in for devices: they answer version 2c by what a survey says of the device."""

from __future__ import annotations

import asyncio
import threading
from bisect import bisect_right
from collections.abc import AsyncIterator, Iterator, Mapping, Sequence
from contextlib import asynccontextmanager, contextmanager
from functools import partial

from crossthread.live.device_objects import by_device, objects_of
from crossthread.live.snmp.datagrams import Place
from crossthread.live.snmp.messages import (
    END,
    GET,
    GET_BULK,
    GET_NEXT,
    NO_INSTANCE,
    RESPONSE,
    TOO_BIG,
    Entry,
    Message,
    MessageError,
    encode_entry,
    encode_message,
    read_message,
)
from crossthread.survey import Survey
from crossthread.values import NONE

LARGEST_ANSWER = 1472
"""Octets that pass an Ethernet in one piece, without the headers of IP and UDP."""
_MOST_ROWS = 200


class Agent:
    """One device: answers a request with what its objects are.

    Parameters
    ----------
    objects
        What it tells, in the order of the identifiers.
    community
        What a request has to say; another is not answered.
    """

    elsewhere = False
    """Whether its answers come from another port than the one that is asked."""

    def __init__(self, objects: Sequence[Entry], community: str = "public") -> None:
        self._names = [entry.identifier for entry in objects]
        self._entries = [encode_entry(*entry) for entry in objects]
        self._community = community.encode()
        self.asked = 0
        """How many requests it has answered."""

    def answer(self, data: bytes) -> bytes | None:
        """The answer to a datagram; None where there is none."""
        try:
            message = read_message(data)
        except MessageError:
            return None
        if message.community != self._community or message.kind not in (GET, GET_NEXT, GET_BULK):
            return None
        self.asked += 1
        return self.respond(message)

    def late(self) -> float:
        """The seconds after which the answer to the last request goes out."""
        return 0.0

    def respond(self, message: Message) -> bytes:
        """The answer to a request: as many rows as fit."""
        found, size = [], 0
        for entry in self._wanted(message):
            size += len(entry)
            if size > LARGEST_ANSWER - 60:
                break
            found.append(entry)
        if message.kind != GET_BULK and len(found) < len(message.entries):
            return encode_message(message.community, RESPONSE, message.number, TOO_BIG, 0, b"")
        return encode_message(message.community, RESPONSE, message.number, 0, 0, b"".join(found))

    def _wanted(self, message: Message) -> Iterator[bytes]:
        names = [entry.identifier for entry in message.entries]
        if message.kind == GET:
            for name in names:
                at = bisect_right(self._names, name) - 1
                there = at >= 0 and self._names[at] == name
                yield self._entries[at] if there else encode_entry(name, NO_INSTANCE)
            return
        single = min(max(message.status, 0), len(names)) if message.kind == GET_BULK else len(names)
        places = [bisect_right(self._names, name) for name in names]
        for name, place in zip(names[:single], places, strict=False):
            yield self._at(place, name)
        rows = min(max(message.position, 0), _MOST_ROWS) if message.kind == GET_BULK else 0
        for row in range(rows):
            for name, place in zip(names[single:], places[single:], strict=True):
                yield self._at(place + row, name)

    def _at(self, place: int, name: tuple[int, ...]) -> bytes:
        if place < len(self._entries):
            return self._entries[place]
        return encode_entry(self._names[-1] if self._names else name, END)


class _Protocol(asyncio.DatagramProtocol):
    """One agent behind one socket; it answers after `delay` seconds."""

    def __init__(self, agent: Agent, delay: float) -> None:
        self._agent, self._delay = agent, delay
        self.answers_by: asyncio.DatagramTransport | None = None

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        if self.answers_by is None:
            self.answers_by = transport  # type: ignore[assignment]

    def datagram_received(self, data: bytes, sender: tuple[str, int]) -> None:
        answer = self._agent.answer(data)
        wait = self._delay + self._agent.late()
        if answer is not None and wait:
            asyncio.get_running_loop().call_later(wait, self._reply, answer, sender)
        elif answer is not None:
            self._reply(answer, sender)

    def _reply(self, answer: bytes, sender: tuple[str, int]) -> None:
        if self.answers_by is not None and not self.answers_by.is_closing():
            self.answers_by.sendto(answer, sender)


class Agents:
    """Agents that are running: `places` says where each management address is answered in reality."""

    def __init__(self, agents: Mapping[str, Agent], places: Mapping[str, Place]) -> None:
        self.agents, self.places = agents, places

    def __repr__(self) -> str:
        return f"<Agents: {len(self.places)} on loopback addresses>"


def agents_for(survey: Survey, community: str = "public") -> dict[str, Agent]:
    """An agent for each device of a survey that has a management address, by that address."""
    return {
        own.devices[0].management or "": Agent(objects_of(own), community)
        for own in by_device(survey).values()
        if own.devices[0].management not in (None, NONE)
    }


@asynccontextmanager
async def agents_async(
    survey: Survey | Mapping[str, Agent], community: str = "public", delay: float = 0.0, host: str = "127.0.0.1"
) -> AsyncIterator[Agents]:
    """Run an agent for each device of a survey, on unprivileged ports of a loopback address, until the block ends.

    Parameters
    ----------
    survey
        Whose devices; or agents by the addresses that they stand for.
    community
        What a request has to say.
    delay
        Seconds after which they answer.
    host
        The loopback address, of IPv4 or IPv6.
    """
    own = agents_for(survey, community) if isinstance(survey, Survey) else survey
    loop, transports = asyncio.get_running_loop(), list[asyncio.DatagramTransport]()
    places: dict[str, Place] = {}
    try:
        for address, agent in own.items():
            transport, protocol = await loop.create_datagram_endpoint(
                partial(_Protocol, agent, delay), local_addr=(host, 0)
            )
            transports.append(transport)
            if agent.elsewhere:
                other, _ = await loop.create_datagram_endpoint(asyncio.DatagramProtocol, local_addr=(host, 0))
                transports.append(other)
                protocol.answers_by = other
            places[address] = (host, transport.get_extra_info("sockname")[1])
        yield Agents(own, places)
    finally:
        for transport in transports:
            transport.close()


@contextmanager
def agents(
    survey: Survey | Mapping[str, Agent], community: str = "public", delay: float = 0.0, host: str = "127.0.0.1"
) -> Iterator[Agents]:
    """The same in a thread of their own, for programs that are not asynchronous.

    Examples
    --------
    >>> from crossthread import agents
    >>> from crossthread.demo import healthy
    >>> with agents(healthy()) as running:
    ...     len(running.places)
    11
    """
    loop = asyncio.new_event_loop()
    started, ended = threading.Event(), asyncio.Event()
    told: list[Agents | BaseException] = []

    async def run() -> None:
        try:
            async with agents_async(survey, community, delay, host) as running:
                told.append(running)
                started.set()
                await ended.wait()
        except BaseException as error:
            told.append(error)
            started.set()

    thread = threading.Thread(target=loop.run_until_complete, args=(run(),), daemon=True)
    thread.start()
    started.wait()
    try:
        if isinstance(told[0], BaseException):
            raise told[0]
        yield told[0]
    finally:
        loop.call_soon_threadsafe(ended.set)
        thread.join()
        loop.close()
