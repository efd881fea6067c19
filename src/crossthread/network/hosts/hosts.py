"""Hosts by their names. What a host is, is made when it is first asked for."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from functools import cached_property
from typing import overload

from crossthread.network.hosts.station import Attachment, HostStation, Station
from crossthread.survey import Survey
from crossthread.survey.records import Host, all_folded


class Hosts(Mapping[str, HostStation]):
    """The hosts of a survey by their names in lower case, in its order.

    Attributes
    ----------
    names, spelled
        The same names as a list, and as the survey spells them.
    """

    def __init__(self, survey: Survey, attach: Callable[[Station], Attachment], before: Hosts | None = None) -> None:
        self.spelled: Sequence[str] = survey.column("hosts", "host")
        same = before is not None and before.spelled is self.spelled
        self.names: list[str] = before.names if same and before else list(map(str, all_folded("host", self.spelled)))
        self._numbers: dict[str, int] = (
            before._numbers if same and before else dict(zip(self.names, range(len(self.names)), strict=True))
        )
        self._rows, self._attach = survey.rows(Host), attach
        self._made: dict[int, HostStation] = {}

    def at(self, n: int) -> HostStation:
        """The host whose row is at a place of the table."""
        made = self._made.get(n)
        if made is None:
            row = self._rows.at(n)
            made = self._made[n] = HostStation(row, row.host, self._attach)
        return made

    def __getitem__(self, name: str) -> HostStation:
        return self.at(self._numbers[name])

    def number(self, name: str) -> int:
        """The place of a host's row in its table."""
        return self._numbers[name.casefold()]

    def __iter__(self) -> Iterator[str]:
        return iter(self.names)

    def __len__(self) -> int:
        return len(self.names)


class Members(Sequence[HostStation]):
    """Some hosts, as a sequence.

    Attributes
    ----------
    numbers
        The places of their rows in the table.
    """

    def __init__(self, numbers: Sequence[int], hosts: Hosts) -> None:
        self.numbers, self._hosts = numbers, hosts

    @overload
    def __getitem__(self, index: int) -> HostStation: ...
    @overload
    def __getitem__(self, index: slice) -> list[HostStation]: ...
    def __getitem__(self, index: int | slice) -> HostStation | list[HostStation]:
        if isinstance(index, slice):
            return list(map(self._hosts.at, self.numbers[index]))
        return self._hosts.at(self.numbers[index])

    def __len__(self) -> int:
        return len(self.numbers)

    def __iter__(self) -> Iterator[HostStation]:
        return map(self._hosts.at, self.numbers)

    @cached_property
    def names(self) -> tuple[str, ...]:
        """Their names as the survey spells them."""
        return tuple(map(self._hosts.spelled.__getitem__, self.numbers))

    def part(self, begin: int, end: int) -> Members:
        """Some of them that stand one after the other."""
        return Members(self.numbers[begin:end], self._hosts)
