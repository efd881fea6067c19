"""The survey itself: every table, immutable, and where each row stood."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime
from html import escape
from typing import Any, TypeVar

import msgspec

from crossthread.errors import Problem, SurveyError, visible
from crossthread.survey.by_hand import checked, table_of
from crossthread.survey.records import (
    TABLES,
    ArpEntry,
    Cable,
    Coverage,
    Device,
    Filter,
    Gateway,
    Host,
    MacEntry,
    Neighbor,
    Port,
    Route,
    Row,
    Tree,
    TreePort,
    Vlan,
    columns_of,
)
from crossthread.survey.table import Table

_R = TypeVar("_R", bound=Row)

FORMAT = 1
"""The version of the survey format that this program writes, and the highest that it reads."""


class Evidence(msgspec.Struct, frozen=True, omit_defaults=True):
    """One fact that a statement rests on: where it stands in the survey, and where it came from."""

    table: str
    key: Mapping[str, object]
    column: str
    value: str | None
    source: str | None = None

    def __str__(self) -> str:
        key = " ".join(str(part) for part in self.key.values() if part is not None)
        value = self.value if self.value is not None else "(not observed)"
        return f"{self.table} {key}: {self.column} = {value}" + (f"  [{self.source}]" if self.source else "")


class Info(msgspec.Struct, frozen=True):
    """The contents of survey.toml."""

    title: str | None = None
    taken_at: datetime | None = None
    site: str | None = None
    notes: str | None = None
    complete: tuple[str, ...] = ()
    """The tables that were read in full of every surveyed device."""
    extra: tuple[tuple[str, str], ...] = ()


@dataclass(frozen=True, repr=False)
class Survey:
    """What was observed of a network at about one time.

    Two surveys are equal if they say the same, wherever they were read from.
    """

    info: Info = field(default_factory=Info)
    devices: Sequence[Device] = ()
    ports: Sequence[Port] = ()
    vlans: Sequence[Vlan] = ()
    neighbors: Sequence[Neighbor] = ()
    gateways: Sequence[Gateway] = ()
    routes: Sequence[Route] = ()
    trees: Sequence[Tree] = ()
    tree_ports: Sequence[TreePort] = ()
    hosts: Sequence[Host] = ()
    macs: Sequence[MacEntry] = ()
    arp: Sequence[ArpEntry] = ()
    filters: Sequence[Filter] = ()
    cables: Sequence[Cable] = ()
    coverage: Sequence[Coverage] = ()
    notices: tuple[str, ...] = field(default=(), compare=False, repr=False)

    def __post_init__(self) -> None:
        for name in TABLES:
            rows = getattr(self, name)
            if not isinstance(rows, Table):
                object.__setattr__(self, name, checked(name, rows))

    @classmethod
    def of(cls, info: Info | None = None, **tables: object) -> Survey:
        """A survey of tables made by hand.

        Parameters
        ----------
        info
            Title, time and the like.
        tables
            By the names of tables (`ports`, `hosts` …): records, dictionaries with what one would write into the cells
            of a file, or data frames with such columns.

        Returns
        -------
        Survey
            The same as one read from files with these cells.

        Raises
        ------
        SurveyError
            For every table, column or value that the format does not know, with the row and the column.

        Examples
        --------
        >>> from crossthread import Survey
        >>> survey = Survey.of(ports=[{"device": "quay", "port": "port1", "mode": "trunk", "allowed": "1 10-19"}])
        >>> survey
        <survey: 1 ports>
        >>> len(survey.ports[0].allowed)
        11
        """
        problems: list[Problem] = []
        read: dict[str, Any] = {}
        for name, rows in tables.items():
            try:
                read[name] = table_of(name, rows)
            except SurveyError as error:
                problems += error.problems
        if problems:
            raise SurveyError(problems)
        return cls(info=info or Info(), **read)

    def __repr__(self) -> str:
        held = ", ".join(f"{len(self.table(name)):,} {name}" for name in TABLES if len(self.table(name)))
        title = f" “{visible(self.info.title)}”" if self.info.title else ""
        return f"<survey{title}: {held or 'nothing observed'}>"

    def _repr_html_(self) -> str:
        rows = "".join(
            f"<tr><td>{name}</td><td>{len(self.table(name)):,}</td></tr>" for name in TABLES if len(self.table(name))
        )
        return f"<p>{escape(repr(self))}</p><table><tr><th>table</th><th>rows</th></tr>{rows}</table>"

    def column(self, table: str, column: str) -> Sequence[Any]:
        """What a column holds, row by row: much quicker than to ask each row of a large table."""
        return self.table(table).column(column)

    def distinct(self, table: str, column: str) -> tuple[Any, ...]:
        """The values that a column holds, each once."""
        return self.table(table).distinct(column)

    def table(self, name: str) -> Table[Row]:
        """The rows of a table by its name, such as `ports`."""
        if name not in TABLES:
            raise KeyError(name)
        rows: Table[Row] = getattr(self, name)
        return rows

    def rows(self, record: type[_R]) -> Table[_R]:
        """The rows of a table by their type."""
        rows: Table[_R] = getattr(self, record.TABLE)
        return rows

    def source(self, row: Row) -> str | None:
        """Where a row's facts came from: its own `source`, else the file and line it was read from."""
        told = not isinstance(row, Filter)  # there the column says whose packets an entry is about
        given: str | None = getattr(row, "source", None) if told else None
        return given or self.table(type(row).TABLE).where(row)

    def evidence(self, row: Row, *columns: str) -> tuple[Evidence, ...]:
        """What some columns of a row say, as evidence."""
        kinds = columns_of(type(row))
        key_columns = type(row).KEY or ("device", "port")
        key = {c: kinds[c][0].show(v) for c in key_columns if (v := getattr(row, c)) is not None}
        source = self.source(row)
        found = []
        for column in columns:
            value = getattr(row, column)
            shown = kinds[column][0].show(value) if value is not None else None
            found.append(Evidence(type(row).TABLE, key, column, shown, source))
        return tuple(found)


def replaced_hosts(survey: Survey, addresses: Sequence[str | None], gateways: Sequence[str | None]) -> Survey:
    """A survey with other addresses and gateways in the rows of hosts.csv, which stand where they stood."""
    hosts: Table[Host] = survey.table("hosts")  # type: ignore[assignment]  # a table by its name is of any rows
    return replace(survey, hosts=hosts.with_columns({"address": addresses, "gateway": gateways}))
