"""The packet filter of a Linux router, as `nft -j list ruleset` tells it: what it does with packets that pass.

Read are chains at the hook `forward`. Simple rules are read in full: by interface, addresses, protocol and state, with
accept, drop or reject. A rule that says anything else is kept as one of which nobody knows whom it concerns, so that a
verdict that turns on it is unknown and not wrong.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import NamedTuple

from msgspec.structs import replace

from crossthread.sources.listings.shapes import Entry
from crossthread.survey.records import Filter, Gateway, Row
from crossthread.values import NONE, interface

_VERDICTS = {"accept", "drop", "reject"}
_ASIDE = {"counter", "log", "comment", "limit"}
_NOT_READ = "not read"
"""What stands as the protocol of an entry that is not understood: it may be about any packet."""


class _Rule(NamedTuple):
    """A rule: by which interfaces, about which packets (each a row's cells), and what happens."""

    enters: str | None
    leaves: str | None
    cells: tuple[Entry, ...]


def is_ruleset(document: Entry) -> bool:
    """Whether a document is such a listing."""
    entries = document.get("nftables")
    return isinstance(entries, list) and all(isinstance(entry, dict) for entry in entries)


def read_filters(device: str, document: Entry, gateways: Iterable[Gateway]) -> list[Row]:
    """The entries for each interface, and the interfaces with the filter's name; `none` where nothing is filtered."""
    held = list(gateways)
    entries = document["nftables"]
    chains = [c for e in entries if isinstance(c := e.get("chain"), dict) and c.get("hook") == "forward"]
    if not chains:
        return [replace(row, filter_in=NONE, filter_out=NONE) for row in held]
    if len(chains) > 1:
        name = " ".join(dict.fromkeys(_called(chain) for chain in chains))
        return [replace(row, filter_in=name, filter_out=NONE) for row in held]  # in which order is not told
    chain = chains[0]
    told = [r for e in entries if isinstance(r := e.get("rule"), dict)]
    rules = [
        _rule(r)
        for r in told
        if (r.get("family"), r.get("table"), r.get("chain"))
        == (chain.get("family"), chain.get("table"), chain.get("name"))
    ]
    if any(rule.leaves for rule in rules):
        return [replace(row, filter_in=_called(chain), filter_out=NONE) for row in held]
    found: list[Row] = []
    for label in dict.fromkeys(row.interface for row in held):
        name = f"{_called(chain)} in {label}" if any(rule.enters for rule in rules) else _called(chain)
        if not any(isinstance(row, Filter) and row.filter == name for row in found):
            found += _entries(device, name, [r for r in rules if r.enters in (None, label)], chain.get("policy"))
        found += [replace(row, filter_in=name, filter_out=NONE) for row in held if row.interface == label]
    return found


def _called(chain: Entry) -> str:
    return f"{chain.get('table')} {chain.get('name')}"


def _entries(device: str, name: str, rules: Iterable[_Rule], policy: object) -> Iterator[Filter]:
    cells = [cells for rule in rules for cells in rule.cells]
    for number, own in enumerate(cells, 1):
        yield Filter(device, name, 10 * number, **own)
    yield Filter(device, name, otherwise="drop" if policy == "drop" else "accept")


def _rule(rule: Entry) -> _Rule:
    """A rule in the words of the survey; one that is not understood may be about any packet, and do anything."""
    enters: str | None = None
    leaves: str | None = None
    cells: list[Entry] = [{}]
    expressions = rule.get("expr")
    for part in expressions if isinstance(expressions, list) else ():
        if not isinstance(part, dict) or len(part) != 1:
            return _Rule(enters, leaves, ({"protocol": _NOT_READ},))
        ((word, value),) = part.items()
        if word in _ASIDE:
            continue
        if word in _VERDICTS:
            return _Rule(enters, leaves, tuple({**own, "action": word} for own in cells))
        match = _match(value) if word == "match" and isinstance(value, dict) else None
        if match is None:
            return _Rule(enters, leaves, ({"protocol": _NOT_READ},))
        column, values = match
        if column == "iifname":
            enters = values[0]
        elif column == "oifname":
            leaves = values[0]
        else:
            cells = [{**own, **more} for own in cells for more in _cells(column, values)]
    return _Rule(enters, leaves, ())  # it decides nothing


def _match(match: Entry) -> tuple[str, list[str]] | None:
    """What a match compares, and with which values; None if it is not understood."""
    left, right = match.get("left"), match.get("right")
    if match.get("op") not in ("==", "in") or not isinstance(left, dict):
        return None
    values = _values(right)
    meta, payload, track = left.get("meta"), left.get("payload"), left.get("ct")
    if not values:
        return None
    if isinstance(meta, dict) and meta.get("key") in ("iifname", "iif", "oifname", "oif") and len(values) == 1:
        return ("iifname" if str(meta["key"])[0] == "i" else "oifname"), values
    if isinstance(meta, dict) and meta.get("key") in ("l4proto", "nfproto"):
        return str(meta["key"]), values
    if isinstance(track, dict) and track.get("key") == "state":
        return "state", values
    if isinstance(payload, dict):
        protocol, field = payload.get("protocol"), payload.get("field")
        if protocol in ("ip", "ip6") and field in ("saddr", "daddr"):
            return f"{protocol} {field}", values
        if protocol in ("ip", "ip6") and field in ("protocol", "nexthdr"):
            return "l4proto", values
        if protocol in ("tcp", "udp") and field in ("sport", "dport"):
            return f"{protocol} {field}", values
    return None


def _values(right: object) -> list[str]:
    """The values of a comparison: one, a list, or a set; empty if one of them is not understood."""
    listed = right.get("set") if isinstance(right, dict) and "set" in right else right
    found = []
    for one in listed if isinstance(listed, list) else [listed]:
        prefix = one.get("prefix") if isinstance(one, dict) else None
        if isinstance(prefix, dict):
            found.append(f"{prefix.get('addr')}/{prefix.get('len')}")
        elif isinstance(one, str | int) and not isinstance(one, bool):
            found.append(str(one))
        else:
            return []
    return found


def _cells(column: str, values: list[str]) -> Iterator[Entry]:
    """The cells that a match means; one for each value, any of which will do."""
    if column == "state":
        known = tuple(value for value in values if value in ("new", "established"))
        yield {"state": known} if known else {"protocol": _NOT_READ}
        return
    for value in values:
        if column == "nfproto":
            yield {"family": "6" if value == "ipv6" else "4"}
        elif column == "l4proto":
            yield {"protocol": value}
        elif column.endswith("port"):
            protocol, field = column.split()
            yield {"protocol": protocol, "source_port" if field == "sport" else "destination_port": value}
        else:
            family, field = column.split()
            try:
                prefix = str(interface(value).network)
            except ValueError:
                yield {"protocol": _NOT_READ}
                continue
            yield {"family": "6" if family == "ip6" else "4", "source" if field == "saddr" else "destination": prefix}
