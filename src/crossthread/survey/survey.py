"""The survey itself: every table, immutable, and where each row stood."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any, TypeVar

import msgspec

from crossthread.survey.records import (
    TABLES,
    ArpEntry,
    Cable,
    Device,
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
    key: dict[str, Any]
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
    extra: tuple[tuple[str, str], ...] = ()


@dataclass(frozen=True)
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
    cables: Sequence[Cable] = ()
    notices: tuple[str, ...] = field(default=(), compare=False, repr=False)

    def __post_init__(self) -> None:
        for name, record in TABLES.items():
            rows = getattr(self, name)
            if not isinstance(rows, Table):
                object.__setattr__(self, name, Table.of(record, rows))

    def column(self, table: str, column: str) -> Sequence[Any]:
        """What a column holds, row by row: much quicker than to ask each row of a large table."""
        return self.table(table).column(column)

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
        given: str | None = getattr(row, "source", None)
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
