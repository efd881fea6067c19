"""What speaks against a mend although it fits best: told beside what speaks for it."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence

from crossthread.diagnosis.expected.listed_vlans import ListedVlans
from crossthread.diagnosis.judgement.for_hosts import looks_changed
from crossthread.diagnosis.judgement.hearing import Hearing
from crossthread.network.hosts.station import Interface
from crossthread.network.topology.names import End
from crossthread.survey.changes import Change
from crossthread.values import NONE


def against(hearing: Hearing, changes: Sequence[Change]) -> Iterator[str]:
    """What speaks against another VLAN for the port of a station, and against the gateway that a host would get."""
    yield from _against_moving(hearing, changes)
    yield from _among_others(hearing, changes)
    for change in changes:
        hop, host = change.cells.get("gateway"), hearing.context.network.stations.hosts.get(_name(change))
        if host is not None and hop not in (None, NONE) and "address" not in change.cells:
            yield from looks_changed(hearing, host, str(hop))


def _name(change: Change) -> str:
    return str(change.key.get("host") or "").casefold()


def _end(change: Change) -> End:
    return End(str(change.key["device"]), str(change.key["port"]))


def _against_moving(hearing: Hearing, changes: Iterable[Change]) -> Iterator[str]:
    """Others live where the port is, or somebody means that VLAN to be used."""
    moved = (c for c in changes if c.table == "ports" and "pvid" in c.cells and "mode" not in c.cells)
    for end in map(_end, moved):
        row, hosts = hearing.context.port(end), hearing.context.hosts_at(end)
        if row is None or row.mode != "access" or not row.pvid or row.pvid == 1 or not hosts:
            continue  # what nobody set says nothing
        if all(hearing.strangers(row.pvid, host) for host in hosts):
            yield f"others live in VLAN {row.pvid}, where {end} is now"
        elif hearing.context.once(ListedVlans).of_nobody_known(row.pvid):
            yield f"trunks carry VLAN {row.pvid}, where {end} is now, and no interface is known to serve it"


def _among_others(hearing: Hearing, changes: Iterable[Change]) -> Iterator[str]:
    """More hosts of other subnets live where a port would be put, and no interface serves its host's subnet there."""
    for change in changes:
        vid = change.cells.get("pvid") if change.table == "ports" else None
        for host in hearing.context.hosts_at(_end(change))[:1] if isinstance(vid, int) else ():
            near = [one for one in hearing.kin(host) if hearing.vlan(one.station) == vid]
            living = [one for one in hearing.context.living_in(vid, host) if one.block is not None]
            others = sum(len(one.hosts) for one in living) - sum(one.number for one in near)
            served = any(isinstance(one.station, Interface) for one in near)
            if near and not served and others > sum(one.number for one in near):
                yield f"{others} hosts of other subnets live in VLAN {vid}"
