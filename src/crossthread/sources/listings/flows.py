"""The flows of a software switch, as a packet filter of its ports: which packets it drops before it bridges them.

Read are flows of the first table that drop, or bridge as usual. One that does anything else, or matches what the survey
has no column for, is kept as an entry of which nobody knows whom it concerns; so is everything if it is not certain
that ARP (or neighbour discovery) passes, which a packet filter of the survey leaves alone. A whole listing drops what
no flow matches; but one that was cut short looks the same, and so it is not known what becomes of that.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable
from typing import Any, NamedTuple

from crossthread.survey.records import Filter, Port, Row
from crossthread.values import NONE, interface

_FLOW = re.compile(r"\s*cookie=0x[0-9a-f]+.*? actions=")
_NOT_READ = "not read"
_ASIDE = {"cookie", "duration", "n_packets", "n_bytes", "idle_age", "hard_age", "reset_counts", "send_flow_rem"}
_PROTOCOLS = {
    "ip": {"family": "4"}, "ipv6": {"family": "6"}, "icmp": {"family": "4", "protocol": "icmp"},
    "icmp6": {"family": "6", "protocol": "ipv6-icmp"}, "tcp": {"family": "4", "protocol": "tcp"},
    "udp": {"family": "4", "protocol": "udp"}, "tcp6": {"family": "6", "protocol": "tcp"},
    "udp6": {"family": "6", "protocol": "udp"},
}  # fmt: skip
_PREFIXES = {"nw_src": "source", "ipv6_src": "source", "nw_dst": "destination", "ipv6_dst": "destination"}
_USUAL, _HIGHEST = 32768, 65535
"""The priority of a flow that tells none, and the highest."""


class _Flow(NamedTuple):
    priority: int
    enters: str | None
    cells: dict[str, Any]
    """About which packets, and what becomes of them."""
    resolving: frozenset[str]
    """Of which versions of IP it may be about ARP, or neighbour discovery, as well."""
    bridges: bool
    """Whether it surely bridges what it is about."""
    whole: bool
    """Whether it is about all packets of its protocol."""


def is_flows(data: bytes) -> bool:
    """Whether a text lists flows."""
    lines = (line for line in data[:4000].decode("utf-8", "replace").splitlines() if line.strip())
    first = next(lines, "")
    return bool(_FLOW.match(next(lines, "") if "_FLOW reply" in first else first))


def read_flows(device: str, text: str, names: dict[str, str], ports: Iterable[str], source: str) -> list[Row]:
    """The entries for each port, and the ports with the filter's name; `none` where nothing is dropped.

    Parameters
    ----------
    device
        Its name.
    text
        The listing.
    names
        The names of its ports by their numbers.
    ports
        The ports on which frames come in.
    source
        Where the listing came from.
    """
    lines = [line for line in text.splitlines() if line.strip() and "_FLOW reply" not in line]
    flows = sorted((_flow(line, names) for line in lines), key=lambda flow: -flow.priority)
    found: list[Row] = []
    for port in ports:
        own = [flow for flow in flows if flow.enters in (None, port)]
        cells = [flow.cells for flow in own if flow.cells]
        cells = [{"protocol": _NOT_READ, "family": family} for family in "46" if not _resolves(own, family)] + cells
        if cells and cells[-1] == {"action": "accept"} and all(one.get("action") == "accept" for one in cells):
            found.append(Port(device, port, filter_in=NONE, source=source))
            continue
        name = f"flows in {port}"
        for number, one in enumerate(cells, 1):
            found.append(Filter(device, name, 10 * number, **one))
        found.append(Port(device, port, filter_in=name, source=source))
    return found


def _resolves(flows: Collection[_Flow], family: str) -> bool:
    """Whether every flow bridges ARP, or neighbour discovery, down to one that is about all of it."""
    for flow in flows:
        if family in flow.resolving and (not flow.bridges or flow.whole):
            return flow.bridges
    return False


def _flow(line: str, names: dict[str, str]) -> _Flow:
    """One flow: what it matches, and what it does; a line that is none may be about anything, and come first."""
    if not _FLOW.match(line):
        return _Flow(_HIGHEST + 1, None, {"protocol": _NOT_READ}, frozenset("46"), False, False)
    told, _, actions = line.partition(" actions=")
    words = [word.strip() for word in told.split(",") if word.strip()]
    action = {"NORMAL": "accept", "drop": "drop"}.get(actions.strip())
    cells: dict[str, object] = {"action": action} if action else {"protocol": _NOT_READ}
    priority, enters, about, resolving = _USUAL, None, dict[str, object](), frozenset("46")
    for word in words:
        key, _, value = word.partition("=")
        if key in _ASIDE or (key == "table" and value == "0"):
            continue
        if key == "priority" and value.isdecimal():
            priority = int(value)
        elif key == "in_port":
            enters = names.get(value, value.strip('"'))
        elif word in _PROTOCOLS:
            about |= _PROTOCOLS[word]
            resolving = frozenset("6" if word in ("ipv6", "icmp6") else "")
        elif word == "arp":
            cells, resolving = {} if action == "accept" else {"protocol": _NOT_READ}, frozenset("4")
        elif key in _PREFIXES and (prefix := _prefix(value)) is not None:
            about[_PREFIXES[key]] = prefix
        elif key in ("tp_src", "tp_dst"):
            about["source_port" if key == "tp_src" else "destination_port"] = value
        else:
            cells = {"protocol": _NOT_READ}
    whole = not about.keys() - {"family", "protocol"} and cells != {"protocol": _NOT_READ}
    bridges = cells.get("action", "" if cells else "accept") == "accept"
    return _Flow(priority, enters, {**about, **cells} if cells else {}, resolving, bridges, whole)


def _prefix(text: str) -> str | None:
    try:
        return str(interface(text).network)
    except ValueError:
        return None
