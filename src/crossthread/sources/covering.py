"""What the sources of a gathering read in full: the rows of coverage.csv that go with what they tell.

A source that is known to list everything of a table says `yes`, one that sees a part by chance says `no`.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator

from crossthread.survey.records import READ_IN_FULL, Coverage, Device, Gateway, Port, Route, Row

_LISTED = {
    "lldp-neighbors": ("neighbors",),
    "ip-addr": ("ports", "gateways"),
    "ip-link": ("ports",),
    "ip-neigh": ("arp",),
    "bridge-fdb": ("macs",),
    "ovs-fdb": ("macs",),
    "packet-filter": ("filters",),
    "bridge-link": ("tree_ports",),
    "ovs-port": ("trees", "tree_ports"),
}
"""Which tables a listing has in full."""


def of_listings(
    device: str, kinds: dict[str, str], rows: Iterable[Row], all_routes: bool = True, damaged: Collection[str] = ()
) -> list[Coverage]:
    """What the listings of one device cover; `kinds` gives the path of each.

    `all_routes` says whether packets go by nothing but the routes that were listed; `damaged` are the listings of which
    some entries could not be read.
    """
    found: dict[str, Coverage] = {}
    for kind, path in sorted(kinds.items(), key=lambda entry: entry[0] in damaged):
        for table in _LISTED.get(kind, ("gateways",) if kind in damaged and kind == "shared-addresses" else ()):
            found[table] = Coverage(device, table, "no" if kind in damaged else "yes", source=path)
    held = list(rows)
    if "ip-route" in kinds:
        families = {":" in row.prefix for row in held if isinstance(row, Route)}
        families |= {True} if "ip-route6" in kinds else set()
        needed = {":" in row.address for row in held if isinstance(row, Gateway) and row.address}
        # Routes are listed family by family; those of IPv6 in use and not listed were not read.
        in_part = bool({"ip-route", "ip-route6"} & set(damaged))
        complete = "no" if True in needed - families or not all_routes or in_part else "yes"
        found["routes"] = Coverage(device, "routes", complete, source=kinds["ip-route"])
    told = found.keys() | {row.TABLE for row in held}
    rest = (row for row in in_full(device, told, next(iter(kinds.values()))) if row.complete == "no") if kinds else ()
    return [*found.values(), *rest]


def in_full(device: str, tables: Collection[str], source: str, broken: Collection[str] = ()) -> list[Coverage]:
    """Tables that were read in full of a device.

    Those that broke off, and all others on which verdicts turn, were not.
    """
    lacking = [table for table in READ_IN_FULL if table not in tables and (table in _NEEDED or table in broken)]
    said = [(table, "yes") for table in READ_IN_FULL if table in tables] + [(table, "no") for table in lacking]
    return [Coverage(device, table, complete, source=source) for table, complete in said]


_NEEDED = ("ports", "neighbors", "gateways", "routes", "trees", "tree_ports")


def by_chance(rows: Iterable[Row], source: str) -> Iterator[Coverage]:
    """For devices that were only overheard: there is more of them than what was heard."""
    for device in dict.fromkeys(row.device for row in rows if isinstance(row, Device | Port)):
        yield from in_full(device, (), source)
