"""Whoever answers for an IP address."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Sequence

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

    def __init__(
        self, hosts: Hosts, gateways: Sequence[Station], ips: Sequence[str], before: Holders | None = None
    ) -> None:
        self._hosts = hosts
        self.ips = ips
        same = before is not None and before.ips is ips and before._hosts.names is hosts.names
        told = (before._names, before._twice) if same and before else _by_address(ips, hosts.names)
        self._names: dict[str, str] = told[0]
        self._twice: dict[str, list[str]] = told[1]
        self._routers: dict[str, list[Station]] = {}
        for own in (_address_of, _shared):
            for station in gateways:
                if ip := own(station):
                    self._routers.setdefault(ip, []).append(station)

    @property
    def shared(self) -> set[str]:
        """The addresses that several stations have."""
        among = {ip for ip, held in self._routers.items() if len(held) > 1 or ip in self._names}
        return among | self._twice.keys()

    def __contains__(self, ip: str) -> bool:
        return ip in self._names or ip in self._routers

    def numbers(self, ips: Iterable[str | None]) -> set[int]:
        """The places of the rows of the hosts that have one of some addresses."""
        one = (self._twice.get(ip) or [self._names[ip]] for ip in ips if ip in self._names)
        return {self._hosts.number(name) for names in one for name in names}

    def of(self, ip: str) -> list[Station]:
        """The stations that have an address: hosts in the order of the survey, then interfaces."""
        first = self._names.get(ip)
        names = self._twice.get(ip) or ([first] if first is not None else [])
        return [*map(self._hosts.__getitem__, names), *self._routers.get(ip, ())]


def _by_address(ips: Sequence[str], names: Sequence[str]) -> tuple[dict[str, str], dict[str, list[str]]]:
    """The name of the host, or of the last host, that has each address; and all names where several have one."""
    one = dict(zip(ips, names, strict=True))
    one.pop("", None)
    several: dict[str, list[str]] = {}
    if len(one) < sum(map(bool, ips)):
        several = {ip: [] for ip, number in Counter(filter(None, ips)).items() if number > 1}
        for ip, name in zip(ips, names, strict=True):
            if ip in several:
                several[ip].append(name)
    return one, several


def _address_of(station: Station) -> str:
    text = station.row.address
    return text.partition("/")[0] if text and text != NONE else ""


def _shared(station: Station) -> str:
    """The address that an interface shares with others, where that is not its own."""
    shared = station.row.virtual if isinstance(station.row, Gateway) else None
    return shared if shared and shared not in (NONE, _address_of(station)) else ""
