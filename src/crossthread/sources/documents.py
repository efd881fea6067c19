"""Which format a file has, told from its content alone."""

from __future__ import annotations

import gzip
import json
import zlib
from typing import Any

import msgspec

from crossthread.errors import UnreadableError
from crossthread.sources.listings.discovery_daemon import lists_own_ports
from crossthread.sources.listings.flows import is_flows
from crossthread.sources.listings.packet_filter import is_ruleset
from crossthread.sources.listings.shared_addresses import is_shared
from crossthread.sources.listings.software_switch import is_database
from crossthread.sources.snmp.walk import is_named_walk, is_walk
from crossthread.sources.yang.ietf import is_yang


class Document(msgspec.Struct, frozen=True):
    """A recognised file: its path, the device its folder is named after, its format, and its contents."""

    path: str
    device: str
    kind: str
    data: Any


def recognise(data: bytes) -> tuple[str, Any] | None:
    """The format of a file and its contents, or None if no module reads it.

    Raises
    ------
    UnreadableError
        If the file begins like a format that is read, and goes on otherwise.
    """
    if data.startswith(b"\x1f\x8b"):
        try:
            data = gzip.decompress(data)
        except (OSError, EOFError, zlib.error) as error:
            raise UnreadableError(f"begins like a gzip file, but cannot be expanded: {error}") from None
    if data[:4] in (
        b"\xa1\xb2\xc3\xd4",
        b"\xd4\xc3\xb2\xa1",
        b"\xa1\xb2\x3c\x4d",
        b"\x4d\x3c\xb2\xa1",
        b"\x0a\x0d\x0d\x0a",
    ):
        return "capture", data
    if is_walk(data):
        return "walk", data.decode("utf-8", "surrogateescape")
    if is_named_walk(data):
        raise UnreadableError("a walk with names; walk again with numeric identifiers (the client's option -On)")
    if is_database(data):
        return "ovs-fdb", data.decode("utf-8", "replace")
    if is_flows(data):
        return "ovs-flows", data.decode("utf-8", "replace")
    if data.lstrip()[:1] not in (b"{", b"["):
        return None
    try:
        document = json.loads(data.decode("utf-8", "replace"))  # a neighbour's name may be any octets
    except (ValueError, RecursionError) as error:
        raise UnreadableError(f"begins like JSON, but is none: {error}") from None
    if b"\\ud" in data or b"\\uD" in data:
        document = _writable(document)
    kind = _kind_of_list(document) if isinstance(document, list) else _kind_of_object(document)
    return None if kind is None else (kind, document)


def _writable(value: Any) -> object:
    """The same without halves of surrogate pairs, which JSON can spell and no file can hold."""
    if isinstance(value, str):
        return value.encode("utf-8", "replace").decode()
    if isinstance(value, list):
        return [_writable(part) for part in value]
    if isinstance(value, dict):
        return {_writable(key): _writable(part) for key, part in value.items()}
    return value


def _kind_of_object(document: dict[str, object]) -> str | None:
    headings = document.get("headings")
    if isinstance(headings, list) and isinstance(document.get("data"), list):
        for column, kind in (("vlan_mode", "ovs-port"), ("datapath_id", "ovs-bridge"), ("ofport", "ovs-interface")):
            if column in headings:
                return kind
    if is_ruleset(document):
        return "packet-filter"
    if is_yang(document):
        return "yang"
    if "local-chassis" in document:
        return "lldp-chassis"
    if "asked_at" in document:
        return "asked"
    if "lldp" in document:
        return "lldp-ports" if lists_own_ports(document) else "lldp-neighbors"
    return None


def _kind_of_list(document: list[object]) -> str | None:
    if not document:
        return "empty"
    if is_shared(document):
        return "shared-addresses"
    keys = set().union(*(entry for entry in document if isinstance(entry, dict)))
    for needed, kind in (
        ({"ifname", "addr_info"}, "ip-addr"),
        ({"ifname", "vlans"}, "bridge-vlan"),
        ({"ifname", "mac", "flags"}, "bridge-fdb"),
        ({"ifname", "master", "cost"}, "bridge-link"),
        ({"ifname", "flags", "link_type"}, "ip-link"),
        ({"dst", "state"}, "ip-neigh"),
        ({"dst", "flags"}, "ip-route"),
        ({"family", "interface", "forwarding"}, "ip-netconf"),
        ({"priority", "src", "table"}, "ip-rule"),
    ):
        if needed <= keys:
            return "ip-route6" if kind == "ip-route" and _of_ipv6(document) else kind
    return None


def _of_ipv6(document: list[object]) -> bool:
    """Whether routes are those of IPv6, which are listed by themselves."""
    texts = [str(entry.get(key)) for entry in document if isinstance(entry, dict) for key in ("dst", "gateway")]
    return any(":" in text for text in texts)
