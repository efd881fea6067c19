"""Hosts by name, and whoever answers for an IP address. What a host is, is made when it is first asked for."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from itertools import chain
from typing import overload

from crossthread.network.station import Attachment, Station
from crossthread.survey import Survey
from crossthread.survey.tables import Gateway, Host
from crossthread.values import NONE


class Hosts(Mapping[str, Station]):
    """The hosts of a survey by their names in lower case, in its order.

    Attributes
    ----------
    rows
        Their rows, by the same names.
    """

    def __init__(self, survey: Survey, attach: Callable[[Station], Attachment]) -> None:
        names = map(str.casefold, survey.column("hosts", "host"))
        self.rows: dict[str, Host] = dict(zip(names, survey.hosts, strict=True))
        self._attach = attach
        self._made: dict[str, Station] = {}

    def __getitem__(self, name: str) -> Station:
        made = self._made.get(name)
        if made is None:
            row = self.rows[name]
            made = self._made[name] = Station(row, row.host, self._attach)
        return made

    def __iter__(self) -> Iterator[str]:
        return iter(self.rows)

    def __len__(self) -> int:
        return len(self.rows)


class Members(Sequence[Station]):
    """Some hosts, as a sequence.

    Attributes
    ----------
    rows
        Their rows, in the same order.
    """

    def __init__(self, rows: Sequence[Host], hosts: Hosts) -> None:
        self.rows, self._hosts = rows, hosts

    @overload
    def __getitem__(self, index: int) -> Station: ...
    @overload
    def __getitem__(self, index: slice) -> list[Station]: ...
    def __getitem__(self, index: int | slice) -> Station | list[Station]:
        if isinstance(index, slice):
            return [self._hosts[row.host.casefold()] for row in self.rows[index]]
        return self._hosts[self.rows[index].host.casefold()]

    def __len__(self) -> int:
        return len(self.rows)

    def __iter__(self) -> Iterator[Station]:
        return (self._hosts[row.host.casefold()] for row in self.rows)

    def part(self, begin: int, end: int) -> Members:
        """Some of them that stand one after the other."""
        return Members(self.rows[begin:end], self._hosts)


class Holders:
    """Who answers for an IP address.

    Attributes
    ----------
    ips
        The address of each host, without its prefix length; empty where it has none.
    """

    def __init__(self, hosts: Hosts, gateways: Sequence[Station], addresses: Sequence[str | None]) -> None:
        self._hosts = hosts
        self.ips = [text.partition("/")[0] if text and text != NONE else "" for text in addresses]
        routers = [(ip, station) for own in (_own, _shared) for station in gateways if (ip := own(station))]
        self._one: dict[str, str | Station] = dict(zip(self.ips, hosts.rows, strict=True))
        self._one.pop("", None)
        for ip, station in routers:
            self._one.setdefault(ip, station)
        self._several: dict[str, list[str | Station]] = {}
        if len(self._one) < sum(map(bool, self.ips)) + len(routers):
            counts = Counter(chain(filter(None, self.ips), (ip for ip, _ in routers)))
            self._several = {ip: [] for ip, count in counts.items() if count > 1}
            holders: Iterator[tuple[str, str | Station]] = chain(zip(self.ips, hosts.rows, strict=True), routers)
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
