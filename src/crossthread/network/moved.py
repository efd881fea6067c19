"""Hosts that some changes move: what a changed copy is asked anew, and for all others not."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Protocol

from crossthread.network.hosts.classes import Classes
from crossthread.network.hosts.stations import Stations
from crossthread.network.kept import Kept
from crossthread.network.topology.names import End


class _Network(Protocol):
    """As much of a network as is looked at here."""

    @property
    def stations(self) -> Stations: ...
    @property
    def classes(self) -> Classes: ...
    @property
    def gateways_at(self) -> Mapping[End, object]: ...
    def leads_to_hosts(self, end: End) -> bool: ...
    def host_rows_at(self, end: End) -> Sequence[int]: ...


def find_moved(network: _Network, copy: _Network, kept: Kept) -> frozenset[int] | None:
    """The hosts, by their rows, without which a copy is the network, where nothing but rows of hosts and ports differs.

    Any two others reach each other in the copy if they do in the network: what was changed are those hosts, and ports
    that lead to them and to nobody else, and nobody has their addresses, or sends by way of them. None where a port
    leads elsewhere, or somebody does.
    """
    if not all(network.leads_to_hosts(end) and end not in network.gateways_at for end in kept.ports):
        return None
    places = network.stations.places, copy.stations.places
    found = set(kept.rows.get("hosts") or ())
    found |= {n for end in kept.ports for one in (network, copy) for n in one.host_rows_at(end)}
    unsettled = copy.stations.locating.unsettled.items()
    found |= {copy.stations.hosts.number(name) for name, ends in unsettled if not kept.ports.isdisjoint(ends)}
    found |= {n for n, _ in network.stations.learned.items() ^ copy.stations.learned.items()}
    if places[0] is not places[1]:
        found |= {n for n, (old, new) in enumerate(zip(*places, strict=True)) if old != new}
    return frozenset(found) if (network.classes.apart | copy.classes.apart).isdisjoint(found) else None
