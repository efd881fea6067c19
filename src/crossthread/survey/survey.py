"""The survey itself: every table, immutable, and where each row stood."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from functools import cached_property
from typing import Any

import msgspec

from crossthread.survey.columns import Table
from crossthread.survey.tables import (
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


class Places(msgspec.Struct, frozen=True):
    """Where a table was read: its file, and the line of each row; 0 for a row that was changed since."""

    file: str
    lines: Sequence[int]


@dataclass(frozen=True)
class Survey:
    """What was observed of a network at about one time.

    Two surveys are equal if they say the same, wherever they were read from.
    """

    info: Info = field(default_factory=Info)
    devices: tuple[Device, ...] = ()
    ports: tuple[Port, ...] = ()
    vlans: tuple[Vlan, ...] = ()
    neighbors: tuple[Neighbor, ...] = ()
    gateways: tuple[Gateway, ...] = ()
    routes: tuple[Route, ...] = ()
    trees: tuple[Tree, ...] = ()
    tree_ports: tuple[TreePort, ...] = ()
    hosts: tuple[Host, ...] = ()
    macs: Sequence[MacEntry] = ()
    arp: Sequence[ArpEntry] = ()
    cables: tuple[Cable, ...] = ()
    places: Mapping[str, Places] = field(default_factory=dict, compare=False, repr=False)
    notices: tuple[str, ...] = field(default=(), compare=False, repr=False)

    def __post_init__(self) -> None:
        for name in TABLES:
            rows = getattr(self, name)
            if isinstance(rows, (list, tuple)) and not isinstance(rows, Table):
                object.__setattr__(self, name, Table(rows))

    def column(self, table: str, column: str) -> Sequence[Any]:
        """What a column holds, row by row: much quicker than to ask each row of a large table."""
        rows = self.table(table)
        return rows.column(column) if isinstance(rows, Table) else [getattr(row, column) for row in rows]

    def table(self, name: str) -> Sequence[Row]:
        """The rows of a table by its name, such as `ports`."""
        if name not in TABLES:
            raise KeyError(name)
        rows: Sequence[Row] = getattr(self, name)
        return rows

    @cached_property
    def _positions(self) -> dict[str, dict[int, int]]:
        """The place of each row in its table, by `id`, of those tables that were asked about."""
        return {}

    def source(self, row: Row) -> str | None:
        """Where a row's facts came from: its own `source`, else the file and line it was read from."""
        given: str | None = getattr(row, "source", None)
        name = type(row).TABLE
        if given or name not in self.places:
            return given
        if name not in self._positions:
            self._positions[name] = {id(held): index for index, held in enumerate(self.table(name))}
        index = self._positions[name].get(id(row))
        at = self.places[name].lines[index] if index is not None else 0
        return f"{self.places[name].file}:{at}" if at else None

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
