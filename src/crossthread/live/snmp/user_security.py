"""Asking by SNMP version 3: a user, authentication and privacy (RFC 3414). Its security is the library's, all of it."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from contextlib import suppress
from typing import Any

from crossthread.live.access import Access
from crossthread.live.snmp.datagrams import Datagrams, Place
from crossthread.live.snmp.messages import (
    END,
    IDENTIFIER,
    NO_INSTANCE,
    NO_OBJECT,
    NULL,
    Entry,
    identifier_octets,
    integer_octets,
)
from crossthread.live.snmp.session import CredentialsError, Reply, Request, Waiting

_SAID = {
    "UnknownUserName": "it does not know the user",
    "UnknownSecurityName": "it does not know the user",
    "WrongDigest": "the authentication key is wrong",
    "AuthenticationFailure": "the authentication key is wrong",
    "AuthenticationError": "the authentication key is wrong",
    "DecryptionError": "the privacy key is wrong",
    "UnsupportedSecurityLevel": "it does not let this user ask with this level of security",
    "UnsupportedAuthProtocol": "it does not know the authentication protocol",
    "UnsupportedPrivProtocol": "it does not know the privacy protocol",
    "NoAccessEntry": "it lets this user see nothing",
}
"""What a device, or the library, says of credentials that do not fit."""
_NO_VALUE = {"EndOfMibView": END, "NoSuchObject": NO_OBJECT, "NoSuchInstance": NO_INSTANCE, "Null": NULL}
_LONGEST = 6_000
"""Hundredths of a second after which the library forgets a request; we stop waiting long before."""
_TICK = 0.05


class UserEngine:
    """All devices that are asked with one entry of an access file: one engine of the library, with one user."""

    def __init__(self, datagrams: Datagrams, entry: Access) -> None:
        from pysnmp.carrier.asyncio.dgram import udp, udp6
        from pysnmp.entity import config
        from pysnmp.entity.engine import SnmpEngine

        auth = {
            None: config.USM_AUTH_NONE,
            "sha1": config.USM_AUTH_HMAC96_SHA,
            "sha224": config.USM_AUTH_HMAC128_SHA224,
            "sha256": config.USM_AUTH_HMAC192_SHA256,
            "sha384": config.USM_AUTH_HMAC256_SHA384,
            "sha512": config.USM_AUTH_HMAC384_SHA512,
        }
        privacy = {
            None: config.USM_PRIV_NONE,
            "aes128": config.USM_PRIV_CFB128_AES,
            "aes192": config.USM_PRIV_CFB192_AES_BLUMENTHAL,
            "aes256": config.USM_PRIV_CFB256_AES_BLUMENTHAL,
        }
        self.datagrams, self._config, self._places = datagrams, config, 0
        self._engine = SnmpEngine()
        self.transports: dict[bool, Any] = {}
        for six, module in ((False, udp), (True, udp6)):
            kind = module.Udp6AsyncioTransport if six else module.UdpAsyncioTransport
            self.transports[six] = _over(datagrams, kind)
            config.add_transport(self._engine, module.DOMAIN_NAME, self.transports[six])
        self._engine.transport_dispatcher.set_timer_resolution(_TICK)
        config.add_v3_user(
            self._engine,
            entry.user,
            auth[entry.auth],
            entry.auth_key.reveal() if entry.auth_key else None,
            privacy[entry.privacy],
            entry.privacy_key.reveal() if entry.privacy_key else None,
        )
        level = "authPriv" if entry.privacy else "authNoPriv" if entry.auth else "noAuthNoPriv"
        config.add_target_parameters(self._engine, "reader", entry.user, level)
        self._domains = {False: udp.DOMAIN_NAME, True: udp6.DOMAIN_NAME}

    def session(self, place: Place) -> UserSession:
        """A way to ask one device."""
        self._places += 1
        name, six = f"place {self._places}", ":" in place[0]
        own = (*place, 0, 0) if six else place
        self._config.add_target_address(self._engine, name, self._domains[six], own, "reader", _LONGEST, 0)
        return UserSession(self, name, place)

    def send(self, name: str, request: Request, answered: Callable[[object, object], None]) -> None:
        """Hand a request to the library; it calls with what went wrong, and the answer."""
        from pysnmp.entity.rfc3413 import cmdgen
        from pysnmp.proto.rfc1902 import Null, ObjectName

        wanted = [(ObjectName(identifier), Null("")) for identifier in request.identifiers]

        def called(engine: object, handle: object, wrong: object, answer: object, context: object) -> None:
            answered(wrong, answer)

        if request.repetitions:
            pdu = cmdgen.v2c.GetBulkRequestPDU()
            cmdgen.v2c.apiBulkPDU.set_defaults(pdu)
            cmdgen.v2c.apiBulkPDU.set_non_repeaters(pdu, 0)
            cmdgen.v2c.apiBulkPDU.set_max_repetitions(pdu, request.repetitions)
        else:
            pdu = cmdgen.v2c.GetNextRequestPDU()
            cmdgen.v2c.apiPDU.set_defaults(pdu)
        cmdgen.v2c.apiPDU.set_varbinds(pdu, wanted)
        cmdgen.CommandGenerator().send_pdu(self._engine, name, None, b"", pdu, called, None)

    def close(self) -> None:
        with suppress(Exception):
            self._engine.close_dispatcher()


class UserSession(Waiting):
    """One device, asked as one user."""

    def __init__(self, engine: UserEngine, name: str, place: Place) -> None:
        super().__init__(engine.datagrams, place)
        self._engine, self._name = engine, name
        self._turn = 0
        engine.datagrams.attach(place, self)

    async def ask(self, request: Request, wait: float) -> Reply | None:
        """Send a request, and wait for an answer to it, or to one before it that had none: see `Session`."""
        turn = self._turn

        def answered(wrong: object, answer: object) -> None:
            if turn == self._turn:  # else it is once more, or late: an answer to this question was there already
                self._answered(request, wrong, answer)

        reply = await self._answer(lambda: self._engine.send(self._name, request, answered), wait)
        self._turn += reply is not None
        return reply

    def _answered(self, request: Request, wrong: object, answer: object) -> None:
        from pysnmp.entity.rfc3413.cmdgen import v2c

        if wrong is not None:
            kind = type(wrong).__name__
            if kind in _SAID:
                self._end(CredentialsError(_SAID[kind]))
            elif kind != "RequestTimedOut":
                self.oddities[f"its answers cannot be used: {wrong}"] += 1
            return
        status, position = int(v2c.apiPDU.get_error_status(answer)), int(v2c.apiPDU.get_error_index(answer))
        entries = [_entry(name, value) for name, value in v2c.apiPDU.get_varbinds(answer)]
        size = sum(len(entry.octets) + len(entry.identifier) + 8 for entry in entries) + 120
        self._end(Reply(request, status, position, entries, size))

    def heard(self, data: bytes) -> None:
        try:
            self._engine.transports[":" in self._place[0]].heard(data, self._place)
        except Exception:  # the library's decoders raise what they like for octets that are no message
            self.oddities["it answers with octets that are no SNMP message"] += 1

    def close(self) -> None:
        self._datagrams.detach(self._place)


def _over(datagrams: Datagrams, kind: Any) -> object:
    """The library's transport over the datagrams that a visit shares."""

    class Shared(kind):  # type: ignore[misc]
        def send_message(self, message: bytes, address: Any) -> None:
            datagrams.send(bytes(message), (address[0], address[1]))

        def heard(self, data: bytes, place: Place) -> None:
            six = (*place, 0, 0) if ":" in place[0] else place
            self._callback_function(self, self.normalize_address(six), data)

        def close_transport(self) -> None:
            pass

    return Shared(loop=asyncio.get_running_loop())


def _entry(name: Any, value: Any) -> Entry:
    """A variable binding of the library as one of ours."""
    tag = value.tagSet.superTags[-1] if len(value.tagSet) else None
    number = (tag.tagClass | tag.tagId) if tag is not None else NULL
    identifier, kind = tuple(name), type(value).__name__
    if kind in _NO_VALUE:
        return Entry(identifier, _NO_VALUE[kind], b"")
    if number == IDENTIFIER:
        return Entry(identifier, number, identifier_octets(tuple(value)))
    return Entry(identifier, number, value.asOctets() if hasattr(value, "asOctets") else integer_octets(int(value)))
