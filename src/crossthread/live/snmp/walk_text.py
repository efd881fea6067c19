"""Variable bindings as lines of a walk with numeric identifiers: one line each, whatever octets a value has."""

from __future__ import annotations

from crossthread.live.snmp.messages import (
    COUNTER,
    COUNTER64,
    GAUGE,
    IDENTIFIER,
    INTEGER,
    IP_ADDRESS,
    NULL,
    OCTETS,
    OPAQUE,
    TICKS,
    Entry,
    MessageError,
    Oid,
    read_identifier,
)

_NUMBERS = {
    INTEGER: "INTEGER", COUNTER: "Counter32", GAUGE: "Gauge32", TICKS: "Timeticks", COUNTER64: "Counter64",
}  # fmt: skip
_PLAIN = frozenset(range(0x20, 0x7F)) - {0x22, 0x5C}
"""Octets that stand for themselves in a text: printable, and neither a quotation mark nor a backslash."""


_LONGEST = 9
"""Octets of a Counter64 with the highest bit set."""


def line_of(entry: Entry) -> str:
    """A variable binding as a line, without its end."""
    return f".{dotted(entry.identifier)} = {_value(entry.tag, entry.octets)}"


def dotted(identifier: Oid) -> str:
    """An object identifier as numbers with dots between."""
    return ".".join(map(str, identifier))


def oid(text: str) -> Oid:
    """An object identifier from numbers with dots between."""
    return tuple(map(int, text.strip(".").split(".")))


def _value(tag: int, octets: bytes) -> str:
    if tag in _NUMBERS and len(octets) <= _LONGEST:
        return f"{_NUMBERS[tag]}: {int.from_bytes(octets, 'big', signed=tag == INTEGER)}"
    if tag == OCTETS and _PLAIN.issuperset(octets):
        return f'STRING: "{octets.decode("ascii")}"'
    if tag == IP_ADDRESS and len(octets) == 4:
        return f"IpAddress: {'.'.join(map(str, octets))}"
    if tag == IDENTIFIER:
        try:
            return f"OID: .{dotted(read_identifier(octets))}"
        except MessageError:
            pass
    if tag == NULL:
        return "NULL"
    return f"{'OPAQUE' if tag == OPAQUE else 'Hex-STRING'}: {octets.hex(' ').upper()}"
