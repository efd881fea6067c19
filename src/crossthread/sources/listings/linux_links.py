"""How the interfaces of a Linux device belong together: bonds and their members, and routing tables kept apart."""

from __future__ import annotations

from crossthread.sources.documents import Document
from crossthread.sources.listings.shapes import Entry

Links = dict[str, Entry]


def link_data(link: Entry, part: str, kind: str) -> Entry | None:
    """What an interface says of being of some kind itself (`info`), or of its master of that kind (`info_slave`)."""
    told = link.get("linkinfo")
    if not isinstance(told, dict) or told.get(f"{part}_kind") != kind:
        return None
    data = told.get(f"{part}_data")
    return data if isinstance(data, dict) else {}


def counters(link: Entry) -> dict[str, int]:
    """What an interface has counted, of packets and of damaged ones, where the listing says (`-s`)."""
    told, found = link.get("stats64"), dict[str, int]()
    if not isinstance(told, dict):
        return found
    for way, part in (("in", "rx"), ("out", "tx")):
        counted = told.get(part)
        for kind in ("packets", "errors"):
            number = counted.get(kind) if isinstance(counted, dict) else None
            if isinstance(number, int) and number >= 0:
                found[f"{way}_{kind}"] = number
    return found


def is_bond(link: Entry) -> bool:
    """Whether an interface bundles others."""
    return link_data(link, "info", "bond") is not None


def bond_members(links: Links) -> dict[str, Entry]:
    """The columns of the ports that are members of a bond: which bond, and whether they carry frames of it.

    A member of an aggregate (IEEE 802.1AX) is attached while it collects and distributes; of a bond that has one member
    in use at a time the others stand by.
    """
    found: dict[str, Entry] = {}
    for name, link in links.items():
        data, master = link_data(link, "info_slave", "bond"), link.get("master")
        if data is None or not isinstance(master, str):
            continue
        bits = data.get("ad_actor_oper_port_state_str")
        if data.get("mii_status") == "DOWN":
            state = "detached"
        elif (
            isinstance(bits, list) and (link_data(links.get(master, {}), "info", "bond") or {}).get("mode") == "802.3ad"
        ):
            state = "attached" if {"collecting", "distributing"} <= set(map(str, bits)) else "detached"
        else:
            state = "standby" if data.get("state") == "BACKUP" else "attached"
        found[name] = {"lag": master, "lag_state": state}
    return found


def kept_apart(links: Links) -> dict[str, str]:
    """The names of the routing tables that are kept apart (VRF), by the table's number as text."""
    held = ((name, link_data(link, "info", "vrf")) for name, link in links.items())
    return {str(data.get("table")): name for name, data in held if data is not None}


def table_of(link: Entry) -> str | None:
    """The name of the routing table that an interface was put into."""
    master = link.get("master")
    return master if link_data(link, "info_slave", "vrf") is not None and isinstance(master, str) else None


def all_routes_told(links: Links, routes: list[Entry], rules: Document | None) -> bool:
    """Whether the listed routes are all by which packets go.

    They are not where other tables are in use and only the main one was listed, nor where rules choose a table by what
    a survey has no place for, such as the sender.
    """
    apart = kept_apart(links)
    told = {str(entry.get("table")) for entry in routes}
    chosen = [rule for rule in rules.data if isinstance(rule, dict) and "l3mdev" not in rule] if rules else []
    usual = {"local", "main", "default", "255", "254", "253"}
    return all(str(rule.get("table")) in usual for rule in chosen) and (
        not apart or bool(told & {*apart, *apart.values()})
    )
