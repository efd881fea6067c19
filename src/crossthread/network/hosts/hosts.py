"""Hosts by their names. What a host is, is made when it is first asked for."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import overload

from crossthread.network.hosts.station import Attachment, Station
from crossthread.survey import Survey
from crossthread.survey.records import Host


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
