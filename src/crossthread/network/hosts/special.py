"""What sets a host apart from the others of its VLAN and subnet, so that what holds for them may not hold for it."""

from __future__ import annotations

from functools import cached_property
from itertools import compress, count

from crossthread.network.hosts.stations import Stations
from crossthread.network.topology.names import End, Names
from crossthread.survey import Survey

_Place = tuple[str, str | None]
_HARMLESS = frozenset({None, "forwarding"})


class Special:
    """Of all hosts, by the places of their rows, those that are special in some way.

    Parameters
    ----------
    survey, names, stations
        What was observed, and what follows from it.
    filtered
        The ports that have packet filters.
    before
        The same of a network in which nothing of the ports in trees is different.
    """

    def __init__(
        self, survey: Survey, names: Names, stations: Stations, filtered: frozenset[End], before: Special | None = None
    ) -> None:
        self._survey, self._names, self._stations, self._filtered = survey, names, stations, filtered
        if before is not None:
            self._closed = before._closed

    @cached_property
    def apart(self) -> set[int]:
        """Those that share an address, or are a next hop."""
        holders, survey = self._stations.by_address, self._survey
        hops = set(survey.distinct("hosts", "gateway")) | {row.next_hop for row in survey.routes} | holders.shared
        return holders.numbers(hops)

    @cached_property
    def unsettled(self) -> set[int]:
        """Those that may be at one of several ports, or send one of several tags."""
        return self._stations.unsettled

    @cached_property
    def shut(self) -> set[int]:
        """Those at a port that does not forward."""
        return self._at(self._stations.taken & self._closed)

    @cached_property
    def sharing(self) -> set[int]:
        """Those that share a port with others."""
        return self._at(self._stations.crowded)

    @cached_property
    def isolated(self) -> set[int]:
        """Those at isolated ports."""
        states = self._survey.column("ports", "isolated")
        if "yes" not in states:
            return set()
        devices, ports = (self._survey.column("ports", name) for name in ("device", "port"))
        places = zip(devices, ports, states, strict=True)
        return self._at({(self._names.spelled[device], port) for device, port, state in places if state == "yes"})

    @cached_property
    def filters(self) -> dict[_Place, str]:
        """The packet filters of ports, with their device: those at one with the same filters are alike."""
        rows = {(end.device, end.port): self._names.row(end) for end in self._filtered}
        return {(d, p): f", at {d} by {row.filter_in}, {row.filter_out}" for (d, p), row in rows.items() if row}

    def _at(self, places: set[_Place] | frozenset[_Place]) -> set[int]:
        """The hosts at some ports."""
        return set(compress(count(), map(places.__contains__, self._stations.places))) if places else set()

    @cached_property
    def _closed(self) -> set[_Place]:
        """The ports that were observed not to forward in some tree."""
        closed = set(self._survey.distinct("tree_ports", "state")) - _HARMLESS
        states, devices, ports = (self._survey.column("tree_ports", name) for name in ("state", "device", "port"))
        rows = compress(zip(devices, ports, strict=True), map(closed.__contains__, states))
        written = [(self._names.spelled[device], port) for device, port in rows]
        return {(device, self._names.port(device, port) or port) for device, port in written}
