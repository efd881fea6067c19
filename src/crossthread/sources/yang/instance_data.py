"""Reading leaves and lists of JSON that encodes YANG data (RFC 7951), however much of it is missing or malformed."""

from __future__ import annotations

from collections.abc import Iterator
from ipaddress import IPv4Address
from typing import Any

from crossthread.values import interface, parse_mac

Node = dict[str, Any]
CAPABILITIES = {"bridge", "router", "station", "phone", "wlan", "repeater", "other"}
"""The words of a survey for what a device can do (IEEE 802.1AB)."""


def plain(value: object) -> Any:
    """The same data without the module names in front of members (RFC 7951 section 4)."""
    if isinstance(value, dict):
        return {str(key).rpartition(":")[2]: plain(part) for key, part in value.items()}
    return [plain(part) for part in value] if isinstance(value, list) else value


def each(node: object, *path: str) -> Iterator[Node]:
    """The entries of a list that stands at a path."""
    found = at(node, *path)
    for entry in found if isinstance(found, list) else []:
        if isinstance(entry, dict):
            yield entry


def at(node: object, *path: str) -> Any:
    """What stands at a path of members; None if there is nothing."""
    for name in path:
        node = node.get(name) if isinstance(node, dict) else None
    return node


def leaf(node: object, *path: str) -> str | None:
    """A leaf at a path as text; None if it is none, or empty."""
    found = at(node, *path)
    return str(found) if isinstance(found, str | int) and not isinstance(found, bool) and str(found) else None


def number_at(node: object, *path: str) -> int | None:
    """A number; 64-bit ones are strings in JSON (RFC 7951 section 6.1)."""
    found = leaf(node, *path)
    return int(found) if found is not None and found.isdecimal() and len(found) < 20 else None


def state_of(node: Node, name: str) -> object:
    """A leaf as it is, else as it is configured: openconfig keeps the two apart."""
    found = at(node, "state", name)
    return found if found is not None else at(node, "config", name)


def word_of(value: object) -> str | None:
    """A leaf, if it is text."""
    return value if isinstance(value, str) and value else None


def mac_of(text: str | None) -> str | None:
    """A MAC address in the usual form; None if it is none."""
    try:
        return parse_mac(text) if text else None
    except ValueError:
        return None


def vid_of(value: object) -> int | None:
    """A VLAN identifier from 1 to 4094; None if it is none."""
    number = int(value) if isinstance(value, str | int) and str(value).isdecimal() and len(str(value)) < 6 else 0
    return number if 1 <= number <= 4094 else None


def up_or_down(value: object) -> str | None:
    """The words of admin-status and oper-status as `up` or `down`."""
    return {
        "up": "up",
        "down": "down",
        "lower-layer-down": "down",
        "lower_layer_down": "down",
        "not-present": "down",
        "not_present": "down",
    }.get(str(value).lower())


def enabled_state(value: object) -> str | None:
    """The leaf `enabled` as `up` or `down`."""
    return {True: "up", False: "down"}.get(value) if isinstance(value, bool) else None


def own_address(address: str | None, length: int | None, mask: str | None = None) -> str | None:
    """An address with its prefix length, which may be given as a mask."""
    try:
        if length is None and mask is not None:
            length = int(IPv4Address(mask)).bit_count()
        return str(interface(f"{address}/{length}")) if address and length is not None else None
    except ValueError:
        return None
