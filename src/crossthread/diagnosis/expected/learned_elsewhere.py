"""Hosts that are at another port by a filtering database than by their own rows."""

from __future__ import annotations

from collections import Counter
from itertools import count

from crossthread.diagnosis.context import Context
from crossthread.network.hosts.station import HostStation
from crossthread.network.topology.adjacency import bundle
from crossthread.network.topology.names import End
from crossthread.survey.records import MacEntry


class LearnedElsewhere:
    """Where the MAC addresses of hosts were learned, if that is at another port than theirs: `context.once` of this.

    At a port that leads to nobody but hosts, and by no entry at the host's own.

    Attributes
    ----------
    entries
        The entry of the filtering database (IEEE 802.1Q, 8.8), by the host's name.
    """

    def __init__(self, context: Context) -> None:
        self._context = context
        survey, stations = context.network.survey, context.network.stations
        macs, hosts = survey.column("macs", "mac"), survey.column("hosts", "mac")
        devices, ports = survey.column("hosts", "device"), survey.column("hosts", "port")
        learned = zip(
            count(), map(dict(zip(hosts, count(), strict=False)).get, macs), survey.column("macs", "device"),
            survey.column("macs", "port"), strict=False,
        )  # fmt: skip
        # Looked at further are only those that are spelled otherwise than in the host's row.
        odd = [n for n, of, device, port in learned if of is not None and (devices[of] != device or ports[of] != port)]
        elsewhere = {macs[n] for n in odd}
        numbers = [n for n, mac in enumerate(hosts) if mac in elsewhere] if elsewhere else []
        times = Counter(hosts[n] for n in numbers)
        self.entries: dict[str, MacEntry] = {}
        for host in (stations.hosts.at(n) for n in numbers if times[hosts[n]] == 1 and devices[n] and ports[n]):
            if (away := self._away(host)) is not None:
                self.entries[host.name] = away

    def _away(self, host: HostStation) -> MacEntry | None:
        """The first entry by which a host is elsewhere."""
        context, network = self._context, self._context.network
        ends = {self._end(entry): entry for entry in context.learned.get(host.row.mac or "", ())}
        if host.end is None or host.end in ends:
            return None
        unsure = network.open_ends.keys() | context.heard_at.keys()
        edges = (e for end, e in ends.items() if context.at_edge(end) and network.port(end) and end not in unsure)
        return next((entry for entry in edges if entry.kind != "static"), None)

    def _end(self, entry: MacEntry) -> End:
        names = self._context.network.names
        device = names.spelled[entry.device]
        return bundle(End(device, names.port(device, entry.port or "") or entry.port or ""), names)
