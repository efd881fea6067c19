"""Whoever answers for an IP address."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from itertools import chain

from crossthread.network.hosts.hosts import Hosts
from crossthread.network.hosts.station import Station
from crossthread.survey.records import Gateway
from crossthread.values import NONE


class Holders:
    """Who answers for an IP address.

    Attributes
    ----------
    ips
        The address of each host, without its prefix length; empty where it has none.
    """

    def __init__(self, hosts: Hosts, gateways: Sequence[Station], ips: Sequence[str]) -> None:
        self._hosts = hosts
        self.ips = ips
        routers = [(ip, station) for own in (_own, _shared) for station in gateways if (ip := own(station))]
        self._one: dict[str, str | Station] = dict(zip(self.ips, hosts.names, strict=True))
        self._one.pop("", None)
        for ip, station in routers:
            self._one.setdefault(ip, station)
        self._several: dict[str, list[str | Station]] = {}
        if len(self._one) < sum(map(bool, self.ips)) + len(routers):
            counts = Counter(chain(filter(None, self.ips), (ip for ip, _ in routers)))
            self._several = {ip: [] for ip, count in counts.items() if count > 1}
            holders: Iterator[tuple[str, str | Station]] = chain(zip(self.ips, hosts.names, strict=True), routers)
            for ip, holder in holders:
                if ip in self._several:
                    self._several[ip].append(holder)

    @property
    def shared(self) -> set[str]:
        """The addresses that several stations have."""
        return set(self._several)

    def __contains__(self, ip: str) -> bool:
        return ip in self._one

    def of(self, ip: str) -> list[Station]:
        """The stations that have an address, in the order of the survey."""
        found = self._several.get(ip) or [self._one[ip]] if ip in self._one else []
        return [holder if isinstance(holder, Station) else self._hosts[holder] for holder in found]


def _own(station: Station) -> str:
    text = station.row.address
    return text.partition("/")[0] if text and text != NONE else ""


def _shared(station: Station) -> str:
    """The address that an interface shares with others, where that is not its own."""
    shared = station.row.virtual if isinstance(station.row, Gateway) else None
    return shared if shared and shared not in (NONE, _own(station)) else ""
