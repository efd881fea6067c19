"""What a survey covers: of which device which table was read in full, so that a row that is missing is a fact.

Everything else is half-known: what has no row was not observed, and may be there (see "What a survey covers" in the
description of the format).
"""

from __future__ import annotations

from functools import cached_property

from crossthread.network.topology.names import Names
from crossthread.survey import Survey
from crossthread.survey.records import TABLES
from crossthread.values import NONE

OWN = tuple(name for name in TABLES if name not in ("hosts", "coverage"))
"""The tables that a device tells of itself: a row in any of them says that it was surveyed."""
_ABSENT_UNLESS_ROUTER = ("gateways", "routes")
"""Of a device that does not route, these are empty rather than unread, where other devices have rows in them."""


class Covered:
    """Which tables were read in full of which device.

    Parameters
    ----------
    survey, names
        What was observed, and how devices are called.
    """

    def __init__(self, survey: Survey, names: Names) -> None:
        self._survey, self._names = survey, names
        self._said = {
            (names.spelled[row.device], row.table): row.complete == "yes" for row in survey.coverage if row.complete
        }
        self._complete = frozenset(survey.info.complete)

    @cached_property
    def rows(self) -> dict[str, frozenset[str]]:
        """For each table the devices that have a row in it."""
        spelled = self._names.spelled
        return {name: frozenset(map(spelled.__getitem__, self._survey.distinct(name, "device"))) for name in OWN}

    @cached_property
    def surveyed(self) -> frozenset[str]:
        """The devices that were surveyed: those that told something of themselves."""
        told = {device for device, _ in self._said}
        return frozenset().union(*self.rows.values(), told)

    def fully(self, device: str, table: str) -> bool:
        """Whether a table was read in full of a device, so that it has no other rows than those of the survey."""
        said = self._said.get((device, table))
        if said is not None:
            return said
        if device not in self.surveyed:
            return False
        if device in self.rows[table] or table in self._complete:
            return True
        return table in _ABSENT_UNLESS_ROUTER and bool(self.rows[table]) and device not in self.routers

    @classmethod
    def everything(cls, survey: Survey, names: Names) -> Covered:
        """The same as if all tables had been read in full of every surveyed device."""
        return _Everything(survey, names)

    def said(self, device: str, table: str) -> bool | None:
        """What coverage.csv says itself; None if it says nothing."""
        return self._said.get((device, table))

    @cached_property
    def routers(self) -> frozenset[str]:
        """The devices that are said to route: by themselves, by a neighbour, or as somebody's gateway or next hop."""
        names, found = self._names, set[str]()
        hops = {*self._survey.column("hosts", "gateway"), *self._survey.column("routes", "next_hop")} - {None, NONE}
        for row in self._survey.devices:
            if row.routing == "yes" or "router" in (row.capabilities or ()) or row.management in hops:
                found.add(names.spelled[row.device])
        for heard in self._survey.neighbors:
            if "router" in (heard.capabilities or ()) or heard.management in hops:
                found.add(names.neighbor_device(heard) or "")
        return frozenset(found)


class _Everything(Covered):
    def fully(self, device: str, table: str) -> bool:
        return True
