"""SNMP messages of version 2c as octets: RFC 1901, RFC 3416, in the basic encoding rules (X.690)."""

from __future__ import annotations

from functools import lru_cache
from typing import NamedTuple

INTEGER, OCTETS, NULL, IDENTIFIER, SEQUENCE = 0x02, 0x04, 0x05, 0x06, 0x30
IP_ADDRESS, COUNTER, GAUGE, TICKS, OPAQUE, COUNTER64 = 0x40, 0x41, 0x42, 0x43, 0x44, 0x46
NO_OBJECT, NO_INSTANCE, END = 0x80, 0x81, 0x82
GET, GET_NEXT, RESPONSE, GET_BULK = 0xA0, 0xA1, 0xA2, 0xA5
TOO_BIG, NO_NAME, GENERAL_ERROR, NO_ACCESS, DENIED = 1, 2, 5, 6, 16
ERRORS = {1: "tooBig", 2: "noSuchName", 3: "badValue", 5: "genErr", 6: "noAccess", 16: "authorizationError"}
"""The error statuses that a reader may meet (RFC 3416 section 3)."""
_VERSION_2C = b"\x02\x01\x01"

Oid = tuple[int, ...]


class MessageError(ValueError):
    """Octets that are no SNMP message of version 2c."""


class Entry(NamedTuple):
    """A variable binding: an object identifier, and its value as the type's tag and the contents' octets."""

    identifier: Oid
    tag: int
    octets: bytes


class Message(NamedTuple):
    """A message. In a GETBULK `status` is how many names are asked for once, `position` how many rows of the others."""

    community: bytes
    kind: int
    number: int
    status: int
    position: int
    entries: list[Entry]


def encoded(tag: int, octets: bytes) -> bytes:
    """One element: tag, definite length, contents."""
    size = len(octets)
    if size < 0x80:
        return bytes((tag, size)) + octets
    length = size.to_bytes((size.bit_length() + 7) // 8, "big")
    return bytes((tag, 0x80 | len(length))) + length + octets


def integer_octets(value: int) -> bytes:
    """The contents of an INTEGER (X.690 section 8.3); of counters and gauges, too."""
    return value.to_bytes(value.bit_length() // 8 + 1, "big", signed=True)


@lru_cache(65_536)
def identifier_octets(identifier: Oid) -> bytes:
    """The contents of an OBJECT IDENTIFIER (X.690 section 8.19)."""
    first, second, *rest = (*identifier, 0, 0)[:2] if len(identifier) < 2 else identifier
    found = bytearray()
    for arc in (40 * first + second, *rest):
        groups = [arc & 0x7F]
        while arc := arc >> 7:
            groups.append(arc & 0x7F | 0x80)
        found += bytes(reversed(groups))
    return bytes(found)


@lru_cache(65_536)
def read_identifier(octets: bytes) -> Oid:
    """The object identifier that contents spell.

    Raises
    ------
    MessageError
        If they spell none, or one with more than 128 numbers or a number beyond 32 bits (RFC 2578 section 3.5).
    """
    found, arc = [], 0
    for octet in octets:
        arc = arc << 7 | octet & 0x7F
        if arc > 0xFFFFFFFF + 80:
            raise MessageError("a number of an object identifier beyond 32 bits")
        if octet < 0x80:
            found.append(arc)
            arc = 0
    if not octets or octets[-1] >= 0x80 or len(found) > 127:
        raise MessageError("a broken object identifier")
    first = min(found[0] // 40, 2)
    return (first, found[0] - 40 * first, *found[1:])


def encode_entry(identifier: Oid, tag: int = NULL, octets: bytes = b"") -> bytes:
    """A variable binding as octets."""
    return encoded(SEQUENCE, encoded(IDENTIFIER, identifier_octets(identifier)) + encoded(tag, octets))


def encode_message(community: bytes, kind: int, number: int, status: int, index: int, entries: bytes) -> bytes:
    """A message as octets; `entries` are variable bindings as octets, one after the other."""
    numbers = b"".join(encoded(INTEGER, integer_octets(value)) for value in (number, status, index))
    body = encoded(kind, numbers + encoded(SEQUENCE, entries))
    return encoded(SEQUENCE, _VERSION_2C + encoded(OCTETS, community) + body)


def _element(data: bytes, at: int, end: int) -> tuple[int, int, int]:
    """The tag of the element that begins somewhere, and where its contents begin and end."""
    if at + 2 > end:
        raise MessageError("an element is cut off")
    tag, size, begin = data[at], data[at + 1], at + 2
    if size >= 0x80:
        begin += size & 0x7F
        if size == 0x80 or size > 0x84 or begin > end:
            raise MessageError("a length that cannot be")
        size = int.from_bytes(data[at + 2 : begin], "big")
    if begin + size > end:
        raise MessageError("an element is longer than what is around it")
    return tag, begin, begin + size


def _expected(data: bytes, at: int, end: int, tag: int) -> tuple[int, int]:
    found, begin, stop = _element(data, at, end)
    if found != tag:
        raise MessageError(f"an element of type {found:#04x} where {tag:#04x} belongs")
    return begin, stop


def read_message(data: bytes) -> Message:
    """The message that a datagram holds.

    Raises
    ------
    MessageError
        If it holds none, or one of another version.
    """
    at, end = _expected(data, 0, len(data), SEQUENCE)
    if data[at : at + 3] != _VERSION_2C:
        raise MessageError("a message of another version")
    begin, stop = _expected(data, at + 3, end, OCTETS)
    community = data[begin:stop]
    kind, at, end = _element(data, stop, end)
    numbers = []
    for _ in range(3):
        begin, at = _expected(data, at, end, INTEGER)
        if not 1 <= at - begin <= 5:
            raise MessageError("a number that is none")
        numbers.append(int.from_bytes(data[begin:at], "big", signed=True))
    at, end = _expected(data, at, end, SEQUENCE)
    entries = []
    while at < end:
        begin, stop = _expected(data, at, end, SEQUENCE)
        name, at = _expected(data, begin, stop, IDENTIFIER)
        tag, begin, last = _element(data, at, stop)
        if last != stop:
            raise MessageError("a variable binding with more than a name and a value")
        entries.append(Entry(read_identifier(data[name:at]), tag, data[begin:last]))
        at = stop
    number, status, position = numbers
    return Message(community, kind, number, status, position, entries)
