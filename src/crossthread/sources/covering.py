"""What the sources of a gathering read in full: the rows of coverage.csv that go with what they tell.

A source that is known to list everything of a table says `yes`, one that sees a part by chance says `no`.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator

from crossthread.survey.records import Coverage, Device, Gateway, Port, Route, Row

_LISTED = {
    "lldp-neighbors": ("neighbors",),
    "ip-addr": ("ports", "gateways"),
    "ip-link": ("ports",),
    "ip-neigh": ("arp",),
    "bridge-fdb": ("macs",),
    "bridge-link": ("tree_ports",),
    "ovs-port": ("trees", "tree_ports"),
}
"""Which tables a listing has in full."""


def of_listings(device: str, kinds: dict[str, str], rows: Iterable[Row]) -> list[Coverage]:
    """What the listings of one device cover; `kinds` gives the path of each."""
    found = {
        table: Coverage(device, table, "yes", source=path)
        for kind, path in kinds.items()
        for table in _LISTED.get(kind, ())
    }
    if "ip-route" in kinds:
        held = list(rows)
        told = {":" in row.prefix for row in held if isinstance(row, Route)}
        needed = {":" in row.address for row in held if isinstance(row, Gateway) and row.address}
        # Routes are listed family by family; those of IPv6 in use and not listed were not read.
        complete = "no" if True in needed - told else "yes"
        found["routes"] = Coverage(device, "routes", complete, source=kinds["ip-route"])
    return list(found.values())


def in_full(device: str, tables: Collection[str], source: str) -> list[Coverage]:
    """Tables that were read in full of a device."""
    return [Coverage(device, table, "yes", source=source) for table in tables]


def by_chance(rows: Iterable[Row], source: str) -> Iterator[Coverage]:
    """For devices that were only overheard: their ports and neighbours are more than what was heard of them."""
    for device in dict.fromkeys(row.device for row in rows if isinstance(row, Device | Port)):
        for table in ("ports", "neighbors"):
            yield Coverage(device, table, "no", source=source)
