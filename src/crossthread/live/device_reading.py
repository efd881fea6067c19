"""One device by SNMP, in the order that a visit needs: who it is, whom it hears, and then everything else."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence

from crossthread.live.account import NotInFull
from crossthread.live.snmp.messages import Oid
from crossthread.live.snmp.reading import Column, Reading
from crossthread.live.snmp.session import Session
from crossthread.live.snmp.walk_text import dotted, oid
from crossthread.live.visit_folder import Unfinished
from crossthread.sources.snmp.mib import COLUMNS, SINGLE
from crossthread.sources.snmp.told import ToldDevice, told_in

_SELF = ("name", "lldp_chassis", "bridge_address", "engine", "description", "location", "lldp_enabled")
_NEIGHBORS = (
    "rem_chassis_kind", "rem_chassis", "rem_port_kind", "rem_port", "rem_port_descr", "rem_name", "rem_descr",
    "rem_enabled", "rem_management", "lldp_port_id", "lldp_port_descr", "lldp_management", "if_name", "if_descr",
    "if_alias", "if_mac", "base_port",
)  # fmt: skip
"""What neighbours are and at which ports: read early, so that what breaks later hides no neighbour."""


class DeviceReading:
    """A device that is being read; what it told before a visit was killed is not asked again.

    Parameters
    ----------
    session
        The way to ask it.
    part
        Where its lines are kept.
    patience, tries
        See `Reading`.
    counted
        Called with the number of values that were read since it was called last.

    Notes
    -----
    Each step raises what `Reading.read` raises.
    """

    def __init__(
        self, session: Session, part: Unfinished, patience: float, tries: int, counted: Callable[[int], None]
    ) -> None:
        self._part, self._counted, self._sum = part, counted, 0
        self._columns = {name: Column(oid(COLUMNS[name]), name in SINGLE) for name in (*_SELF, *_NEIGHBORS, *COLUMNS)}
        _resume(self._columns.values(), part)
        self._reading = Reading(session, part.keep, patience, tries, self._ended)

    @property
    def objects(self) -> int:
        """How many values were read."""
        return self._reading.objects

    @property
    def answered(self) -> bool:
        """Whether it has answered, now or before the visit was killed."""
        return bool(self._reading.answers or self._part.lines)

    async def itself(self) -> ToldDevice:
        """Who it is; asked in the simplest way, as nobody knows yet whether it answers at all."""
        await self._read(_SELF, many=False)
        return told_in(self._part.text())

    async def neighbors(self) -> ToldDevice:
        """Whom it hears."""
        await self._read(_NEIGHBORS)
        return told_in(self._part.text())

    async def everything(self) -> None:
        """All the rest."""
        await self._read(tuple(self._columns))

    def not_in_full(self, why: str) -> list[NotInFull]:
        """The columns that were not read to their ends; `why` is said of those of which nothing else is known."""
        return [
            NotInFull(name.replace("_", " "), COLUMNS[name], column.cut or why)
            for name, column in self._columns.items()
            if not column.ended
        ]

    def _ended(self, column: Column) -> None:
        self._part.end(dotted(column.identifier), column.cut)

    async def _read(self, names: Sequence[str], many: bool = True) -> None:
        try:
            await self._reading.read([self._columns[name] for name in names], many)
        finally:
            self._counted(self._reading.objects - self._sum)
            self._sum = self._reading.objects


def _resume(columns: Iterable[Column], part: Unfinished) -> None:
    """Bring columns to where a visit was when it was killed."""
    found: dict[Oid, Column] = {column.identifier: column for column in columns}
    for line in part.lines:
        if line.startswith("#"):
            continue
        identifier = oid(line.partition(" = ")[0])
        for length in range(len(identifier) - 1, 5, -1):
            column = found.get(identifier[:length])
            if column is not None:
                column.at, column.rows, column.touched = identifier, column.rows + 1, True
                break
    for text in part.ended:
        found[oid(text)].ended = True
    for text, why in part.cut.items():
        found[oid(text)].cut = why
