"""Who else has an address that a change gives to somebody: who was read to have it, or is only heard of."""

from __future__ import annotations

from collections.abc import Iterator

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.expected.misaddressed import swapped_with
from crossthread.network.hosts.station import HostStation, Interface, Station
from crossthread.survey.changes import Change
from crossthread.survey.records import ArpEntry, Host, MacEntry
from crossthread.values import NONE


def holders(context: Context, change: Change) -> list[Station]:
    """Who else was read to have an address that a change gives to a host or an interface that has another now."""
    given = str(change.cells.get("address") or NONE) if change.table in ("hosts", "gateways") else NONE
    found = list[Station]()
    for ip in (text.partition("/")[0] for text in given.split() if not change.delete):
        there = context.network.stations.by_address.of(ip)
        found += there if not any(_is_of(change, one) or _gives_up(context, one, change) for one in there) else []
    return found


def _gives_up(context: Context, holder: Station, change: Change) -> bool:
    """Whether who has an address is to get, in exchange, that of whom a change gives it to."""
    other = swapped_with(context, holder) if isinstance(holder, Interface) else None
    return other is not None and _is_of(change, other)


def _is_of(change: Change, station: Station) -> bool:
    """Whether a change is of a host or an interface."""
    host = isinstance(station, HostStation)
    own = {"host": station.name} if host else {"device": station.device or "", "interface": station.name}
    return all(str(change.key.get(column, "")).casefold() == value.casefold() for column, value in own.items())


def heard_of(context: Context, change: Change) -> Iterator[ArpEntry]:
    """What ARP caches have of an address that a change gives to somebody, and that nobody else was read to have.

    Not where they have it at a MAC address of just that one, who may have had it before, nor at that of another host,
    of which another address was read: it has given this one up.
    """
    network, rows = context.network, context.network.survey.rows(ArpEntry)
    given = str(change.cells.get("address") or change.key.get("address") or "")
    for text in given.split() if change.table in ("hosts", "gateways") and not change.delete else ():
        ip = text.partition("/")[0]
        if ip not in network.stations.by_address:
            found = (rows[n] for n in rows.positions("address").get(ip, ()))
            yield from (row for row in found if row.mac and not _is_known(context, row.mac, change))


def _is_known(context: Context, mac: str, change: Change) -> bool:
    """Whether a MAC address is a host's whose address was read, or that of the host or device a change is about."""
    hosts, network = context.network.survey.rows(Host), context.network
    owners = [hosts[n] for n in hosts.positions("mac").get(mac, ())]
    if change.table == "hosts" or owners:
        own = str(change.key.get("host", "")).casefold()
        return bool(owners) and all(one.address is not None or one.host.casefold() == own for one in owners)
    device, heard = network.names.spelled[str(change.key["device"])], network.survey.rows(MacEntry)
    row, ports = network.device(device), network.names.ports.get(device, {}).values()
    entries = (heard[n] for n in heard.positions("mac").get(mac, ()))
    itself = any(one.kind == "self" and network.names.spelled[one.device] == device for one in entries)
    return itself or mac in {port.mac for port in ports} | {row.chassis if row else None}
