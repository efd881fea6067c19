"""What a Linux device says of passing packets on: `ip -j netconf`, and `ip -j route` of both versions of IP."""

from __future__ import annotations

from collections.abc import Mapping

from crossthread.sources.documents import Document
from crossthread.sources.listings.shapes import Entry
from crossthread.survey.records import Device, Route, Row
from crossthread.values import address, interface

Parts = dict[str, Document]


def listed(parts: Parts, *kinds: str) -> list[Entry]:
    """The entries of the first of some listings that is there."""
    for kind in kinds:
        if kind in parts:
            return [entry for entry in parts[kind].data if isinstance(entry, dict)]
    return []


def read_forwarding(name: str, parts: Parts) -> list[Row]:
    """Whether the device passes packets on, of each version: what its kernel does, whatever it announces of itself."""
    said = {
        family: [e.get("forwarding") is True for e in _settings(parts, family) if e.get("interface") not in _FOR_ALL]
        for family in ("inet", "inet6")
    }
    if not said["inet"]:
        return []
    routing, routing6 = ("yes" if any(said[family]) else "no" for family in ("inet", "inet6"))
    return [
        Device(name, routing=routing, routing6=routing6 if said["inet6"] else None, source=parts["ip-netconf"].path)
    ]


_FOR_ALL = ("lo", "all", "default")
"""What settings of no real interface stand under."""


def _settings(parts: Parts, family: str) -> list[Entry]:
    return [entry for entry in listed(parts, "ip-netconf") if entry.get("family") == family]


def proxies_of(parts: Parts) -> dict[str, str]:
    """Of each interface whether it answers for others (proxy ARP)."""
    told = {str(e.get("interface")): e["proxy_neigh"] is True for e in _settings(parts, "inet") if "proxy_neigh" in e}
    everywhere = told.get("all", False)
    return {name: "yes" if says or everywhere else "no" for name, says in told.items()}


def read_routes(name: str, parts: Parts, tables: Mapping[str, str]) -> list[Row]:
    """The routes that somebody or something set, of both versions, with those that discard.

    `tables` has the names of the tables that are kept apart, by their numbers; those of any other table but the main
    one are left out, as only rules lead to them.
    """
    found: list[Row] = []
    told = [(source, one) for source in ("ip-route", "ip-route6") for one in listed(parts, source)]
    for source, entry in [(source, way) for source, one in told for way in _ways(one)]:
        dst, hop, kind = str(entry.get("dst")), entry.get("gateway"), str(entry.get("type", "unicast"))
        discards = kind in ("blackhole", "unreachable", "prohibit")
        table = str(entry.get("table", "main"))
        apart = tables.get(table, table if table in tables.values() else None)
        if entry.get("protocol") == "kernel" or not (isinstance(hop, str) or discards):
            continue
        if apart is None and table not in ("main", "254"):
            continue
        six = ":" in (hop if isinstance(hop, str) else dst) or (source == "ip-route6" and not isinstance(hop, str))
        prefix = (
            ("::/0" if six else "0.0.0.0/0")
            if dst == "default"
            else (dst if "/" in dst else f"{dst}/{128 if six else 32}")
        )
        try:
            target, via = str(interface(prefix).network), str(address(str(hop))) if isinstance(hop, str) else None
        except ValueError:
            continue
        metric = entry.get("metric", 0)  # it is listed if it is another one
        found.append(
            Route(
                name,
                target,
                via,
                interface=entry.get("dev"),
                origin=str(entry.get("protocol", "static")),
                metric=metric if isinstance(metric, int) else None,
                kind=kind if discards else None,
                table=apart,
                source=parts[source].path,
            )
        )
    return found


def _ways(entry: Entry) -> list[Entry]:
    """A route by each of its next hops."""
    hops = entry.get("nexthops")
    ways = [{**entry, **hop} for hop in hops if isinstance(hop, dict)] if isinstance(hops, list) else []
    return ways or [entry]
