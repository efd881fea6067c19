"""Datagrams to many devices through one socket a family, and who answered what: UDP (RFC 768) under asyncio.

One socket that is tied to nobody hears an answer also where it comes from another address than was asked: a reader
then is told why a device seems silent. Answers are only taken from the address and port that were asked.
"""

from __future__ import annotations

import asyncio
import errno
import socket
import sys
from contextlib import suppress
from typing import Protocol

from crossthread.live.snmp.messages import MessageError, read_message

Place = tuple[str, int]
"""An address as text, and a port."""
_ROOM = 1 << 23
"""Octets that the kernel may hold for us while we are busy."""
_TELL_ERRORS, _TELL_ERRORS_6 = 11, 25
_ERROR_QUEUE = 0x2000
_REFUSED = {errno.ECONNREFUSED, errno.EHOSTUNREACH, errno.ENETUNREACH, errno.EACCES, errno.EPERM}


class Hearer(Protocol):
    """Who waits for answers."""

    def heard(self, data: bytes) -> None:
        """Take a datagram from the place that was asked."""

    def elsewhere(self, place: Place) -> None:
        """Be told that an answer came from a place that was not asked."""

    def refused(self, error: int) -> None:
        """Be told that what was sent came back: nobody listens there, or there is no way to it."""


class Datagrams:
    """The sockets of a visit. Only to be used within one running loop."""

    def __init__(self) -> None:
        self._sockets: dict[int, socket.socket] = {}
        self._hearers: dict[Place, Hearer] = {}
        self.expected: dict[int, Hearer] = {}
        """Who waits for an answer to the request of a number."""

    def attach(self, place: Place, hearer: Hearer) -> None:
        """Hand what comes from a place to somebody, from now on."""
        self._hearers[place] = hearer

    def detach(self, place: Place) -> None:
        self._hearers.pop(place, None)

    def send(self, data: bytes, place: Place) -> None:
        """Send a datagram; that it cannot be sent is told to who waits for the answer."""
        own = self._socket(socket.AF_INET6 if ":" in place[0] else socket.AF_INET)
        try:
            own.sendto(data, place)
        except BlockingIOError:
            pass  # as if it was lost on the way
        except OSError as error:
            self._errors(own)  # an earlier datagram's error may be told here
            try:
                own.sendto(data, place)
            except OSError:
                if error.errno in _REFUSED and place in self._hearers:
                    self._hearers[place].refused(error.errno or 0)

    def close(self) -> None:
        for own in self._sockets.values():
            asyncio.get_running_loop().remove_reader(own)
            own.close()
        self._sockets.clear()

    def _socket(self, family: int) -> socket.socket:
        if family not in self._sockets:
            own = socket.socket(family, socket.SOCK_DGRAM)
            own.setblocking(False)
            with suppress(OSError):
                own.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, _ROOM)
            with suppress(OSError):  # only Linux tells a socket that is tied to nobody what came back
                if family == socket.AF_INET:
                    own.setsockopt(socket.IPPROTO_IP, _TELL_ERRORS, 1)
                else:
                    own.setsockopt(socket.IPPROTO_IPV6, _TELL_ERRORS_6, 1)
            asyncio.get_running_loop().add_reader(own, self._receive, own)
            self._sockets[family] = own
        return self._sockets[family]

    def _receive(self, own: socket.socket) -> None:
        for _ in range(64):  # then others get their turn
            try:
                data, sender = own.recvfrom(65_535)
            except BlockingIOError:
                break
            except OSError:
                break
            place = (sender[0], sender[1])
            hearer = self._hearers.get(place)
            if hearer is not None:
                hearer.heard(data)
            else:
                self._stranger(data, place)
        self._errors(own)

    def _stranger(self, data: bytes, place: Place) -> None:
        """Tell who waits for this answer that it came from somewhere else; it is not taken."""
        with suppress(MessageError):
            hearer = self.expected.get(read_message(data).number)
            if hearer is not None:
                hearer.elsewhere(place)

    def _errors(self, own: socket.socket) -> None:
        """What came back of what was sent: the kernel gives the address that it was sent to."""
        if sys.platform != "linux":
            return
        with suppress(OSError):
            while True:
                _, told, _, place = own.recvmsg(0, 512, _ERROR_QUEUE)
                number = next((int.from_bytes(d[:4], sys.byteorder) for _, kind, d in told if kind in (11, 25)), 0)
                hearer = self._hearers.get((place[0], place[1]))
                if hearer is not None and number in _REFUSED:
                    hearer.refused(number)
