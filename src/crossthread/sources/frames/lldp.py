"""LLDP frames (IEEE 802.1AB-2016): one LLDPDU to a record and back.

All basic TLVs, those of IEEE 802.1 (annex D) and of IEEE 802.3 (clause 79), and the media-endpoint ones
(ANSI/TIA-1057). What is not understood is kept as it came.
"""

from __future__ import annotations

from collections.abc import Iterator
from ipaddress import IPv4Address, IPv6Address

import msgspec

ETHERTYPE = 0x88CC
GROUPS = (b"\x01\x80\xc2\x00\x00\x0e", b"\x01\x80\xc2\x00\x00\x03", b"\x01\x80\xc2\x00\x00\x00")
"""The group addresses an LLDPDU may be sent to (IEEE 802.1AB table 7-1)."""

CAPABILITIES = (
    "other",
    "repeater",
    "bridge",
    "wlan",
    "router",
    "phone",
    "cable",
    "station",
    "c-vlan",
    "s-vlan",
    "relay",
)
"""The system capabilities by bit (table 8-4)."""

_DOT1, _DOT3, _MED = b"\x00\x80\xc2", b"\x00\x12\x0f", b"\x00\x12\xbb"
_MAC_SUBTYPE, _NETWORK = {"chassis": 4, "port": 3}, {"chassis": 5, "port": 4}
_INVENTORY = ("hardware", "firmware", "software", "serial", "maker", "model", "asset")
_INVENTORY_BASE = 5


class FrameError(Exception):
    """A frame that cannot be read; the message says what was expected."""


class Policy(msgspec.Struct, frozen=True):
    """A network policy (ANSI/TIA-1057 clause 10.2.3): where traffic of one kind belongs; kind 1 is voice."""

    application: int
    tagged: bool
    vid: int
    priority: int
    dscp: int
    unknown: bool = False


class Lldpdu(msgspec.Struct, frozen=True):
    """What one LLDPDU says. Empty or None where it says nothing.

    `chassis` and `port` are text: MAC addresses and IP addresses in their usual form, anything else as written.
    `ttl` is the hold time in seconds; 0 is a farewell. `frame_size` is the largest frame in octets. `aggregate` is the
    number of the aggregate port, 0 if it is in none. `unknown` are TLVs as (type, octets).
    """

    chassis_subtype: int
    chassis: str
    port_subtype: int
    port: str
    ttl: int
    port_description: str | None = None
    name: str | None = None
    description: str | None = None
    capable: tuple[str, ...] | None = None
    enabled: tuple[str, ...] | None = None
    management: tuple[str, ...] = ()
    pvid: int | None = None
    protocol_vlans: tuple[tuple[int, int], ...] = ()
    vlan_names: tuple[tuple[int, str], ...] = ()
    aggregate: int | None = None
    negotiation: tuple[int, int, int] | None = None
    power: bytes | None = None
    frame_size: int | None = None
    policies: tuple[Policy, ...] = ()
    inventory: tuple[tuple[str, str], ...] = ()
    unknown: tuple[tuple[int, bytes], ...] = ()

    @property
    def voice(self) -> int | None:
        """The VID for voice, if a policy names one."""
        return next((p.vid for p in self.policies if p.application == 1 and not p.unknown and 0 < p.vid < 0xFFF), None)


def decode(data: bytes) -> tuple[Lldpdu, list[str]]:
    """Read an LLDPDU: what follows the Ethertype.

    Returns
    -------
    tuple
        What it says, and what was wrong with it; a TLV that is broken is left out.

    Raises
    ------
    FrameError
        If the three TLVs that must come first (clause 8.2) are not there.
    """
    cells: dict[str, object] = {}
    problems: list[str] = []
    order: list[int] = []
    for kind, value in _tlvs(data, problems):
        order.append(kind)
        try:
            if kind in _BASIC:
                _BASIC[kind](value, cells)
            elif kind == _PRIVATE and value[:3] in (_DOT1, _DOT3, _MED) and len(value) > 3:
                _private(value, cells)
            else:
                _append(cells, "unknown", (kind, value))
        except (FrameError, ValueError, IndexError) as error:
            problems.append(f"TLV of type {kind}: {error}")
    if order[:3] != [1, 2, 3] or not {"chassis", "port", "ttl"} <= cells.keys():
        raise FrameError("expected chassis, port and hold time first (IEEE 802.1AB clause 8.2)")
    return Lldpdu(**cells), problems  # type: ignore[arg-type]


def _tlvs(data: bytes, problems: list[str]) -> Iterator[tuple[int, bytes]]:
    at = 0
    while at + 2 <= len(data):
        head = int.from_bytes(data[at : at + 2], "big")
        kind, length = head >> 9, head & 0x1FF
        if kind == 0:
            return
        value = data[at + 2 : at + 2 + length]
        if len(value) < length:
            problems.append(f"TLV of type {kind} claims {length} octets, only {len(value)} are left")
            return
        yield kind, value
        at += 2 + length
    problems.append("no end TLV")


def _append(cells: dict[str, object], name: str, value: object) -> None:
    held = cells.get(name, ())
    assert isinstance(held, tuple)
    cells[name] = (*held, value)


def _text(value: bytes) -> str:
    return value.decode("utf-8", "replace").rstrip("\0")


def _identifier(value: bytes, what: str, cells: dict[str, object]) -> None:
    if len(value) < 2:
        raise FrameError("expected a subtype and an identifier")
    subtype, body = value[0], value[1:]
    if subtype == _MAC_SUBTYPE[what] and len(body) == 6:
        text = body.hex(":")
    elif subtype == _NETWORK[what] and (body[0], len(body)) in ((1, 5), (2, 17)):
        text = str(IPv4Address(body[1:]) if body[0] == 1 else IPv6Address(body[1:]))
    elif all(32 <= octet < 127 for octet in body):
        text = body.decode("ascii")
    else:
        text = body.decode("utf-8", "replace") if _is_text(body) else "0x" + body.hex()
    cells[f"{what}_subtype"], cells[what] = subtype, text


def _is_text(body: bytes) -> bool:
    try:
        return body.decode("utf-8").isprintable()
    except UnicodeDecodeError:
        return False


def _ttl(value: bytes, cells: dict[str, object]) -> None:
    if len(value) < 2:
        raise FrameError("expected two octets of hold time")
    cells["ttl"] = int.from_bytes(value[:2], "big")


def _capabilities(value: bytes, cells: dict[str, object]) -> None:
    if len(value) != 4:
        raise FrameError("expected four octets of capabilities")
    for name, bits in (("capable", value[:2]), ("enabled", value[2:])):
        number = int.from_bytes(bits, "big")
        cells[name] = tuple(word for bit, word in enumerate(CAPABILITIES) if number >> bit & 1)


def _management(value: bytes, cells: dict[str, object]) -> None:
    length = value[0]
    body = value[2 : 1 + length]
    if len(value) < 1 + length or length < 2:
        raise FrameError("a management address that is longer than its TLV")
    if (value[1], len(body)) == (1, 4):
        _append(cells, "management", str(IPv4Address(body)))
    elif (value[1], len(body)) == (2, 16):
        _append(cells, "management", str(IPv6Address(body)))
    else:
        _append(cells, "unknown", (8, value))


_PRIVATE = 127
_BASIC = {
    1: lambda value, cells: _identifier(value, "chassis", cells),
    2: lambda value, cells: _identifier(value, "port", cells),
    3: _ttl,
    4: lambda value, cells: cells.__setitem__("port_description", _text(value)),
    5: lambda value, cells: cells.__setitem__("name", _text(value)),
    6: lambda value, cells: cells.__setitem__("description", _text(value)),
    7: _capabilities,
    8: _management,
}


def _number(body: bytes, length: int) -> int:
    if len(body) < length:
        raise FrameError(f"expected {length} octets, got {len(body)}")
    return int.from_bytes(body[:length], "big")


def _private(value: bytes, cells: dict[str, object]) -> None:
    """An organizationally specific TLV (clause 8.6): owner, subtype, contents."""
    owner, subtype, body = value[:3], value[3], value[4:]
    if (owner, subtype) == (_DOT1, 1):  # port VLAN; 0: none (802.1Q D.2.1)
        cells["pvid"] = _number(body, 2)
    elif (owner, subtype) == (_DOT1, 2):  # port and protocol VLAN: flags, VID
        _append(cells, "protocol_vlans", (_number(body, 1), _number(body[1:], 2)))
    elif (owner, subtype) == (_DOT1, 3):  # VLAN name: VID, length, name
        vid, length = _number(body, 2), _number(body[2:], 1)
        if len(body) < 3 + length:
            raise FrameError("a VLAN name that is longer than its TLV")
        _append(cells, "vlan_names", (vid, _text(body[3 : 3 + length])))
    elif (owner, subtype) in ((_DOT1, 7), (_DOT3, 3)):  # link aggregation: status (bit 1: enabled), port number
        cells["aggregate"] = _number(body[1:], 4) if _number(body, 1) & 2 else 0
    elif (owner, subtype) == (_DOT3, 1):  # MAC/PHY: negotiation status, advertised, operational MAU type
        cells["negotiation"] = (_number(body, 1), _number(body[1:], 2), _number(body[3:], 2))
    elif (owner, subtype) == (_DOT3, 2):
        cells["power"] = body
    elif (owner, subtype) == (_DOT3, 4):
        cells["frame_size"] = _number(body, 2)
    elif (owner, subtype) == (_MED, 2):
        number = _number(body[1:], 3)
        policy = Policy(
            _number(body, 1),
            bool(number >> 22 & 1),
            number >> 9 & 0xFFF,
            number >> 6 & 7,
            number & 63,
            bool(number >> 23 & 1),
        )
        _append(cells, "policies", policy)
    elif owner == _MED and 0 <= subtype - _INVENTORY_BASE < len(_INVENTORY):
        _append(cells, "inventory", (_INVENTORY[subtype - _INVENTORY_BASE], _text(body)))
    else:
        _append(cells, "unknown", (_PRIVATE, value))


def encode(unit: Lldpdu) -> bytes:
    """Write an LLDPDU; `decode(encode(unit))` gives the unit back."""
    parts = [
        _tlv(1, bytes([unit.chassis_subtype]) + _identifier_octets(unit.chassis_subtype, unit.chassis, "chassis")),
        _tlv(2, bytes([unit.port_subtype]) + _identifier_octets(unit.port_subtype, unit.port, "port")),
        _tlv(3, unit.ttl.to_bytes(2, "big")),
    ]
    for kind, text in ((4, unit.port_description), (5, unit.name), (6, unit.description)):
        if text is not None:
            parts.append(_tlv(kind, text.encode()))
    if unit.capable is not None and unit.enabled is not None:
        bits = [sum(1 << CAPABILITIES.index(word) for word in words) for words in (unit.capable, unit.enabled)]
        parts.append(_tlv(7, bits[0].to_bytes(2, "big") + bits[1].to_bytes(2, "big")))
    for text in unit.management:
        packed = IPv6Address(text).packed if ":" in text else IPv4Address(text).packed
        parts.append(_tlv(8, bytes([len(packed) + 1, 2 if ":" in text else 1]) + packed + b"\x01\0\0\0\0\0"))
    parts += [_tlv(_PRIVATE, owner + body) for owner, body in _private_parts(unit)]
    parts += [_tlv(kind, value) for kind, value in unit.unknown]
    return b"".join(parts) + b"\0\0"


def _private_parts(unit: Lldpdu) -> Iterator[tuple[bytes, bytes]]:
    if unit.pvid is not None:
        yield _DOT1, b"\x01" + unit.pvid.to_bytes(2, "big")
    for flags, vid in unit.protocol_vlans:
        yield _DOT1, b"\x02" + bytes([flags]) + vid.to_bytes(2, "big")
    for vid, name in unit.vlan_names:
        yield _DOT1, b"\x03" + vid.to_bytes(2, "big") + bytes([len(name.encode())]) + name.encode()
    if unit.aggregate is not None:
        yield _DOT1, b"\x07" + (b"\x03" if unit.aggregate else b"\x01") + unit.aggregate.to_bytes(4, "big")
    if unit.negotiation is not None:
        status, advertised, mau = unit.negotiation
        yield _DOT3, b"\x01" + bytes([status]) + advertised.to_bytes(2, "big") + mau.to_bytes(2, "big")
    if unit.power is not None:
        yield _DOT3, b"\x02" + unit.power
    if unit.frame_size is not None:
        yield _DOT3, b"\x04" + unit.frame_size.to_bytes(2, "big")
    for policy in unit.policies:
        number = policy.unknown << 23 | policy.tagged << 22 | policy.vid << 9 | policy.priority << 6 | policy.dscp
        yield _MED, b"\x02" + bytes([policy.application]) + number.to_bytes(3, "big")
    for name, text in unit.inventory:
        yield _MED, bytes([_INVENTORY_BASE + _INVENTORY.index(name)]) + text.encode()


def _tlv(kind: int, value: bytes) -> bytes:
    return (kind << 9 | len(value)).to_bytes(2, "big") + value


def _identifier_octets(subtype: int, text: str, what: str) -> bytes:
    if subtype == _MAC_SUBTYPE[what] and text.count(":") == 5:
        return bytes.fromhex(text.replace(":", ""))
    if subtype == _NETWORK[what]:
        return b"\x02" + IPv6Address(text).packed if ":" in text else b"\x01" + IPv4Address(text).packed
    return bytes.fromhex(text[2:]) if text.startswith("0x") else text.encode()
