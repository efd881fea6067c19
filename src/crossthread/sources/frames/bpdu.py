"""Spanning-tree BPDUs: configuration, topology change, rapid and multiple.

IEEE 802.1Q clause 14, IEEE 802.1D-2004 clause 9.3.

The layout is declared as data: each field's name, and its length in octets.
"""

from __future__ import annotations

import msgspec

GROUP = b"\x01\x80\xc2\x00\x00\x00"
LLC = b"\x42\x42\x03"

_CONFIGURATION = (
    ("protocol", 2), ("version", 1), ("type", 1), ("flags", 1), ("root_priority", 2), ("root_address", 6),
    ("root_cost", 4), ("bridge_priority", 2), ("bridge_address", 6), ("port", 2), ("age", 2), ("max_age", 2),
    ("hello", 2), ("forward_delay", 2),
)  # fmt: skip
_MULTIPLE = (
    ("version_1_length", 1), ("version_3_length", 2), ("selector", 1), ("region", 32), ("revision", 2),
    ("digest", 16), ("internal_cost", 4), ("own_priority", 2), ("own_address", 6), ("hops", 1),
)  # fmt: skip
_INSTANCE = (
    ("flags", 1), ("root_priority", 2), ("root_address", 6), ("internal_cost", 4), ("bridge_priority", 1),
    ("port_priority", 1), ("hops", 1),
)  # fmt: skip
_CHANGE = 0x80
_ROLES = ("unknown", "alternate", "root", "designated")


class BpduError(Exception):
    """A BPDU that cannot be read; the message says what was expected."""


class Instance(msgspec.Struct, frozen=True):
    """What a BPDU says of one multiple-tree instance; its number is part of the regional root's priority."""

    number: int
    root_priority: int
    root_address: str
    internal_cost: int
    hops: int


class Bpdu(msgspec.Struct, frozen=True):
    """One BPDU. Priorities include the system-ID extension (`root_system`, `bridge_system` hold it apart).

    `kind` is `stp`, `rstp` or `mstp`; `change` marks a bare topology-change notice, which says nothing else. Costs are
    path costs, times are in seconds; `role` is the sending port's.
    """

    kind: str
    change: bool = False
    flags: int = 0
    root_priority: int = 0
    root_address: str = ""
    root_cost: int = 0
    bridge_priority: int = 0
    bridge_address: str = ""
    port: int = 0
    max_age: float = 0
    hello: float = 0
    forward_delay: float = 0
    region: str | None = None
    revision: int | None = None
    digest: str | None = None
    instances: tuple[Instance, ...] = ()

    @property
    def role(self) -> str:
        """The role that the sending port claims (rapid and multiple only)."""
        return _ROLES[self.flags >> 2 & 3]


def decode(data: bytes) -> Bpdu:
    """Read a BPDU: what follows the LLC header.

    Raises
    ------
    BpduError
        If it is none, or too short for its type.
    """
    if len(data) < 4 or data[:2] != b"\0\0":
        raise BpduError("expected protocol identifier 0 (IEEE 802.1D clause 9.3)")
    if data[3] == _CHANGE:
        return Bpdu("stp", change=True)
    version, kind = data[2], data[3]
    if kind not in (0, 2):
        raise BpduError(f"BPDU type {kind}, expected 0, 2 or 128")
    fields, at = _fields(_CONFIGURATION, data, 0)
    name = "stp" if kind == 0 or version < 2 else "rstp"
    found = Bpdu(
        name,
        flags=_int(fields["flags"]),
        root_priority=_int(fields["root_priority"]),
        root_address=fields["root_address"].hex(":"),
        root_cost=_int(fields["root_cost"]),
        bridge_priority=_int(fields["bridge_priority"]),
        bridge_address=fields["bridge_address"].hex(":"),
        port=_int(fields["port"]),
        max_age=_int(fields["max_age"]) / 256,
        hello=_int(fields["hello"]) / 256,
        forward_delay=_int(fields["forward_delay"]) / 256,
    )
    if name == "stp" or version < 3 or len(data) < at + 3:
        return found
    more, at = _fields(_MULTIPLE, data, at)
    instances = []
    end = at - 64 + _int(more["version_3_length"])
    while at + 16 <= min(end, len(data)):
        part, at = _fields(_INSTANCE, data, at)
        priority = _int(part["root_priority"])
        instances.append(
            Instance(
                priority & 0xFFF,
                priority & 0xF000,
                part["root_address"].hex(":"),
                _int(part["internal_cost"]),
                _int(part["hops"]),
            )
        )
    return msgspec.structs.replace(
        found,
        kind="mstp",
        region=more["region"].rstrip(b"\0").decode("utf-8", "replace"),
        revision=_int(more["revision"]),
        digest=more["digest"].hex(),
        instances=tuple(instances),
    )


def _fields(layout: tuple[tuple[str, int], ...], data: bytes, at: int) -> tuple[dict[str, bytes], int]:
    found = {}
    for name, length in layout:
        found[name] = data[at : at + length]
        if len(found[name]) < length:
            raise BpduError(f"{len(data)} octets, too short for the field {name}")
        at += length
    return found, at


def _int(octets: bytes) -> int:
    return int.from_bytes(octets, "big")
