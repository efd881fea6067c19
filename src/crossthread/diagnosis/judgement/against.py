"""What speaks against a mend although it fits best: told beside what speaks for it."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence

from crossthread.diagnosis.expected.listed_vlans import ListedVlans
from crossthread.diagnosis.judgement.for_hosts import looks_changed
from crossthread.diagnosis.judgement.hearing import Hearing
from crossthread.network.topology.names import End
from crossthread.survey.changes import Change
from crossthread.values import NONE


def against(hearing: Hearing, changes: Sequence[Change]) -> Iterator[str]:
    """What speaks against another VLAN for the port of a station, and against the gateway that a host would get."""
    yield from _against_moving(hearing, changes)
    for change in changes:
        hop, host = change.cells.get("gateway"), hearing.context.network.stations.hosts.get(_name(change))
        if host is not None and hop not in (None, NONE) and "address" not in change.cells:
            yield from looks_changed(hearing, host, str(hop))


def _name(change: Change) -> str:
    return str(change.key.get("host") or "").casefold()


def _against_moving(hearing: Hearing, changes: Iterable[Change]) -> Iterator[str]:
    """Others live where the port is, or somebody means that VLAN to be used."""
    moved = (c for c in changes if c.table == "ports" and "pvid" in c.cells and "mode" not in c.cells)
    for end in (End(str(change.key["device"]), str(change.key["port"])) for change in moved):
        row, hosts = hearing.context.port(end), hearing.context.hosts_at(end)
        if row is None or row.mode != "access" or not row.pvid or row.pvid == 1 or not hosts:
            continue  # what nobody set says nothing
        if all(hearing.strangers(row.pvid, host) for host in hosts):
            yield f"others live in VLAN {row.pvid}, where {end} is now"
        elif hearing.context.once(ListedVlans).of_nobody_known(row.pvid):
            yield f"trunks carry VLAN {row.pvid}, where {end} is now, and no interface is known to serve it"
