"""At which port a host is plugged in: by its row, by what learned its MAC address, by a port that names it.

A row that names a port is believed, unless a filtering database has the host at another one, and none at that. Then it
is at either: what is said of it holds for both.
"""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Callable, Collection, Container, Iterable, Mapping, Sequence
from functools import cached_property
from itertools import compress, count
from operator import ne, not_

from crossthread.network.topology.adjacency import bundle, members_of_bundles
from crossthread.network.topology.links import port_up, word_runs
from crossthread.network.topology.names import End, Names
from crossthread.network.topology.open_ends import OpenEnd, Why
from crossthread.survey import Survey
from crossthread.survey.records import Host, MacEntry


class Locating:
    """Finds the ports of hosts.

    Parameters
    ----------
    survey, names
        What was observed.
    linked, facing
        The ports at which cables end, and those that face another port, aggregates included.
    beyond
        What an open end leads to; None of a port that is none.
    unread
        Whether there is any.
    before
        The same of a network with the same ports and links, in which hosts are found by the very same facts.

    Attributes
    ----------
    astray
        The hosts whose rows do not name their port, by the places of those rows.
    """

    def __init__(
        self,
        survey: Survey,
        names: Names,
        linked: Collection[End],
        facing: Container[End],
        beyond: Callable[[End], OpenEnd | None],
        unread: bool,
        before: Locating | None = None,
    ) -> None:
        self._survey, self._names = survey, names
        self._linked, self._facing, self._beyond, self._open = linked, facing, beyond, unread
        self._before = before
        self._seen: dict[tuple[str, str], tuple[End | None, Why | None]] = {}
        named = (survey.column("hosts", name) for name in ("device", "port"))
        self.astray: list[int] = (
            before.astray
            if before is not None
            else sorted({n for place in named for n in compress(count(), map(not_, place))} | self._bundled())
        )

    def _bundled(self) -> set[int]:
        """The hosts whose rows name a member of an aggregate, by the places of those rows: that is where they are."""
        members = members_of_bundles(self._survey, self._names)
        devices, ports = (self._survey.column("hosts", name) for name in ("device", "port"))
        names = {end.port for end in members}
        told = ((n, devices[n]) for n in compress(count(), map(names.__contains__, ports)))
        return {n for n, device in told if device and End(self._names.spelled[device], ports[n]) in members}

    def place(self, row: Host) -> tuple[End | None, list[MacEntry]]:
        """Find where a host is plugged in, with the entries of filtering databases that tell.

        As its row says, else the one edge port that learned its MAC address, else the one whose description names it.
        """
        device = self._names.device(row.device)
        if device and row.port:
            known = row.port in self._names.ports[device]
            end = End(device, row.port if known else self._names.port(device, row.port) or row.port)
            at = bundle(end, self._names)
            return end if self._names.row(at) is None else at, []
        if self._names.unsurveyed(row.device):
            return None, []  # beyond what was read, whatever was learned where
        found = {end: held for end, held in self._learned_at(row.mac).items() if device in (None, end.device)}
        if len(found) == 1:
            return next(iter(found.items()))
        named = self._described.get(row.host.casefold(), []) if not found else []
        if len(named) == 1 and device in (None, named[0].device) and not self._may_be_elsewhere(row, named[0]):
            return named[0], []
        return None, [entry for entries in found.values() for entry in entries]

    def _may_be_elsewhere(self, row: Host, end: End) -> bool:
        """Whether a host that nothing but a port's description places there may be beyond an open end: it is shut."""
        return self._open and row.link is None and port_up(self._names.row(end)) is False

    @cached_property
    def unsettled(self) -> Mapping[str, Mapping[End, MacEntry]]:
        """The hosts that were learned at other ports than their rows name, and not there: at which, and by what entry.

        By the host's name.
        """
        if self._before is not None:
            return self._before.unsettled
        survey = self._survey
        if not survey.macs:
            return {}
        plugged = list(zip(survey.column("hosts", "device"), survey.column("hosts", "port"), strict=True))
        macs, ports = survey.column("macs", "mac"), survey.column("macs", "port")
        told = dict(zip(self.owners, map(plugged.__getitem__, self.owners.values()), strict=True))
        seen = list(zip(survey.column("macs", "device"), ports, strict=True))
        elsewhere = compress(count(), map(ne, seen, map(told.get, macs)))  # nearly all are where their rows have them
        owners = {self.owners[macs[at]] for at in elsewhere if macs[at] in told and ports[at]}
        found = {}
        for n in sorted(n for n in owners if all(plugged[n])):
            learned = [at for at in self._positions[survey.hosts[n].mac] if ports[at]]
            if any(seen[at] == plugged[n] for at in learned):
                continue
            own, _ = self.place(survey.hosts[n])
            edges = self._edges(learned, once_closed=True).items()
            entries = {bundle(end, self._names): held[0] for end, held in edges if self._names.row(end) is not None}
            if own is not None and entries and bundle(own, self._names) not in entries:
                found[survey.hosts[n].host] = entries
        return found

    @cached_property
    def owners(self) -> Mapping[str, int]:
        """The place of the row of the one host that has each MAC address; of one that several have nothing tells."""
        macs = self._survey.column("hosts", "mac")
        owners = dict(zip(macs, count(), strict=False))
        owners.pop(None, None)
        if len(owners) < len(macs):
            times = Counter(macs)
            owners = {mac: n for mac, n in owners.items() if times[mac] == 1}
        return owners

    def _learned_at(self, mac: str | None) -> dict[End, list[MacEntry]]:
        """The edge ports at which the MAC address of one host was learned."""
        return self._edges(self._positions.get(mac, ())) if mac in self.owners else {}

    @cached_property
    def _positions(self) -> Mapping[object, Sequence[int]]:
        return self._survey.table("macs").positions("mac")

    def _edges(self, numbers: Iterable[int], once_closed: bool = False) -> dict[End, list[MacEntry]]:
        """The edge ports of some entries of filtering databases, by the places of their rows.

        `once_closed`: also those that are open ends for no other reason than that hosts were learned there which are
        elsewhere by their rows.
        """
        found: dict[End, list[MacEntry]] = defaultdict(list)
        for n in numbers:
            entry = self._survey.macs[n]
            end, why = self._seen_at(entry.device, entry.port) if entry.kind != "self" and entry.port else (None, None)
            if end is not None and (why is None or (once_closed and why == "stations")):
                found[end].append(entry)
        return found

    def _seen_at(self, device: str, port: str) -> tuple[End | None, Why | None]:
        """The port that an entry means, if it faces no other device, and why the unknown begins there if it does."""
        key = device, port
        if key not in self._seen:
            spelled = self._names.spelled[device]
            end = End(spelled, self._names.port(spelled, port) or port)
            beyond, faces = self._beyond(end), end in self._linked or end in self._facing
            self._seen[key] = None if faces else end, beyond.why if beyond is not None else None
        return self._seen[key]

    @cached_property
    def _described(self) -> Mapping[str, list[End]]:
        """Of those ports the ones that are no open ends, as in "to ticket-desk-1"."""
        return {host: [end for end in ends if self._beyond(end) is None] for host, ends in self._named.items()}

    def named_by(self, host: str) -> list[End]:
        """The ports without a cable whose description names a host that is looked for; others may be beyond as well."""
        return self._named.get(host.casefold(), [])

    @cached_property
    def _named(self) -> Mapping[str, list[End]]:
        """Those ports by the host; none that is shut for a host that is up."""
        if self._before is not None:
            return self._before._named
        rows = {row.host.casefold(): row for row in (self._survey.hosts[n] for n in self.astray)}
        found: dict[str, list[End]] = defaultdict(list)
        ports = self._names.ports.items() if rows else ()
        for end, row in ((End(device, port), row) for device, held in ports for port, row in held.items()):
            name = _first_of(word_runs(row.description), rows) if row.description and end not in self._linked else None
            if name is not None and not (rows[name].link == "up" and port_up(row) is False):
                found[name].append(end)
        return found


def _first_of(words: Iterable[str], hosts: Collection[str]) -> str | None:
    return next((folded for word in words if (folded := word.casefold()) in hosts), None)
