"""Where to look next: what was not observed, put into words by device and table instead of cell by cell."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Sequence

import msgspec

from crossthread.diagnosis.context import Context
from crossthread.network.hosts.station import Station
from crossthread.network.topology.names import End
from crossthread.survey.records import MacEntry
from crossthread.survey.survey import Evidence
from crossthread.values import NONE
from crossthread.views.coverage import TABLES_IN_WORDS, listed

_FEW = 4
"""Up to how many cells of one port or interface are named one by one."""


class Look(msgspec.Struct, frozen=True, omit_defaults=True):
    """One thing to do to know more.

    Attributes
    ----------
    says
        What to read or survey, and from where it is reached.
    devices
        The devices that it is about.
    table
        The table to read of them; None for a device that was not surveyed at all, or a host to be found.
    """

    says: str
    devices: tuple[str, ...] = ()
    table: str | None = None


def looks(context: Context, facts: Iterable[Evidence], near: Sequence[End] = ()) -> tuple[Look, ...]:
    """What to look at, in the order of the facts that are missing; those of one table are one thing to do.

    Of several open ends by which an unsurveyed device is reached the first of those `near` is named.
    """
    groups: dict[tuple[str, str], list[Evidence]] = defaultdict(list)
    for fact in facts:
        unsurveyed = fact.table == "devices" and fact.column == "device"
        whom = str(fact.key.get("host") or fact.key.get("device") or "") if unsurveyed or fact.table == "hosts" else ""
        groups[fact.table, whom].append(fact)
    found = (
        _surveying(context, whom, near) if whom and table == "devices" else _look(context, table, whom, held)
        for (table, whom), held in groups.items()
    )
    once: dict[object, Look] = {}
    for look in found:
        once.setdefault(look.devices if look.table is None and look.devices else look.says, look)
    return tuple(once.values())


def _surveying(context: Context, device: str, near: Sequence[End]) -> Look:
    return Look(f"survey {device}{_reached(context, device, near)}", (device,))


def _look(context: Context, table: str, whom: str, facts: Sequence[Evidence]) -> Look:
    if table == "hosts":
        return _of_host(context, whom, facts)
    devices = tuple(dict.fromkeys(str(fact.key.get("device", "")) for fact in facts))
    if table == "gateways" and (shared := {fact.column for fact in facts}) in ({"virtual"}, {"virtual_state"}):
        sharing = listed(tuple(f"{fact.key['device']} {fact.key['interface']}" for fact in facts))
        held = f"see whether {sharing} {'holds' if len(facts) == 1 else 'hold'} the shared address"
        return Look(held if "virtual_state" in shared else f"read the shared addresses of {sharing}", devices, table)
    if table == "filters":
        return _of_filters(devices, facts)
    if {fact.column for fact in facts} == {"table"}:
        whose = "routes" if table == "routes" else "routing interfaces"
        return Look(f"read in which routing table each of the {whose} of {listed(devices)} is", devices, table)
    if {fact.column for fact in facts} == {"vlan_aware"}:
        return Look(
            f"see whether {listed(devices)} bridge{'s' * (len(devices) == 1)} without regard to VLANs", devices, table
        )
    if table == "ports" and {fact.column for fact in facts} == {"lag"}:
        return Look(f"read which ports of {listed(devices)} are members of an aggregate", devices, table)
    if table == "ports" and {fact.column for fact in facts} == {"lag_state"}:
        return Look(f"read which members of their aggregates are attached at {listed(devices)}", devices, table)
    cells = [fact for fact in facts if len(fact.key) > 1]
    one = len({str(fact.key) for fact in cells}) == 1
    if len(cells) == len(facts) and one and len(cells) <= _FEW:
        columns = " and ".join(dict.fromkeys(fact.column for fact in cells))
        place = " ".join(str(part) for part in cells[0].key.values() if part is not None)
        if table == "gateways" and columns == "address":
            return Look(f"read the link-local address of {place}", devices, table)
        if table == "neighbors":
            return Look(f"find what is at the far end of {place}", devices, table)
        if table == "arp" and cells[0].value is not None:
            return _of_stranger(context, cells[0])
        if table == "arp":
            asked = f"which MAC address {cells[0].key['address']} has"
            return Look(f"look in the ARP cache of {listed(devices)} {asked}", devices, table)
        if table == "routes":
            prefix = str(cells[0].key.get("prefix") or "/0")
            route = "default route" if prefix.endswith("/0") else f"route to {prefix}"
            return Look(f"read the {route} of {listed(devices)}", devices, table)
        return Look(f"read {columns} of {place} ({table}.csv)", devices, table)
    return Look(f"read the {TABLES_IN_WORDS.get(table, table)} of {listed(devices)}", devices, table)


def _of_filters(devices: tuple[str, ...], facts: Sequence[Evidence]) -> Look:
    """What of packet filters to read, or to try."""
    named = listed(tuple(dict.fromkeys(f"{fact.key['filter']} of {fact.key['device']}" for fact in facts)))
    numbers = {fact.key.get("number") for fact in facts}
    if all(fact.value is not None for fact in facts):
        told = f"see whether the packet filter {named} is for what a device sends or takes itself, too"
    elif len(numbers) == 1 and None not in numbers:
        told = f"see whether entry {numbers.pop()} of the packet filter {named} is about such packets"
    else:
        told = f"read the packet filter {named}"
    return Look(told, devices, "filters")


def _of_stranger(context: Context, fact: Evidence) -> Look:
    """What to survey, where only an ARP cache tells of somebody: whose own MAC address it is, or who is heard there."""
    mac, names = str(fact.value), context.network.names
    told = [End(names.spelled[entry.device], entry.port or "") for entry in context.learned.get(mac, ())]
    rows = context.network.survey.rows(MacEntry)
    own = [names.spelled[rows[n].device] for n in rows.positions("mac").get(mac, ()) if rows[n].kind == "self"]
    far = (link.far(end) for end in told for link in context.adjacencies_at.get(end, ()))
    own += [end.device for end in far if (row := context.port(end)) is not None and row.mode == "routed"]
    for device in own:
        if not context.network.covered.fully(device, "gateways"):
            return Look(f"read the {TABLES_IN_WORDS['gateways']} of {device}", (device,), "gateways")
    edge = next((end for end in told if end.port and end not in context.adjacencies_at), None)
    beyond = context.network.open_ends.get(edge) if edge is not None else None
    if beyond is not None and beyond.name is not None and context.network.names.device(beyond.name) is None:
        return _surveying(context, beyond.name, [beyond.end])
    where = f"learned at {edge}" if edge is not None else f"in the ARP cache of {fact.key['device']}"
    return Look(f"survey what answers for {fact.key['address']}: MAC address {mac}, {where}", (), "arp")


def _of_host(context: Context, host: str, facts: Sequence[Evidence]) -> Look:
    station = context.network.stations.hosts.get(host.casefold())
    if station is not None and len(station.wherever) > 1 and any(fact.column == "vid" for fact in facts):
        return Look(f"see whether {host} tags its frames: {' or '.join(_tags(station))}")
    if not any(fact.column in ("device", "port") for fact in facts):
        columns = " and ".join(dict.fromkeys(fact.column.replace("mac", "MAC address") for fact in facts))
        return Look(f"ask {host} for its {columns}")
    places = station.wherever if station is not None else ()
    if station is not None and len(places) > 1:
        learned = " or ".join(str(one.end) for one in places[1:])
        return Look(f"find the port that {host} is plugged into: {learned}, where it was learned, or {station.end}")
    beyond = [context.network.open_ends[end] for end in context.learned_at_open_ends(station)] if station else []
    named = context.only_named_at(station) if station is not None else None
    if named is not None:
        learned = ", and which has learned its MAC address" if beyond else ""
        return Look(f"see whether {host} is plugged into {named}, whose description names it{learned}")
    if beyond:
        names = ", ".join(dict.fromkeys(one.name or f"what is beyond {one.end}" for one in beyond))
        at = ", ".join(str(one.end) for one in beyond)
        known = tuple(dict.fromkeys(one.name for one in beyond if one.name))
        return Look(f"survey {names}: the MAC address of {host} was learned at {at}", known)
    return Look(f"find the port that {host} is plugged into")


def _tags(host: Station) -> list[str]:
    """The tags that a host may send."""
    return [f"with VLAN {one.tag}" if one.tag else "not at all" for one in host.wherever]


def _reached(context: Context, device: str, near: Sequence[End]) -> str:
    """How a device that was not surveyed is reached: its management address, and where it was heard."""
    beyond = [one for one in context.network.open_ends.values() if one.name == device]
    beyond.sort(key=lambda one: near.index(one.end) if one.end in near else len(near))
    rows, ends = [row for one in beyond for row in one.heard], [one.end for one in beyond]
    address = next((row.management for row in rows if row.management and row.management != NONE), None)
    where = f", heard at {ends[0]}" if rows else f", which the description of {ends[0]} names" if ends else ""
    return (f", {address}" if address else "") + where
