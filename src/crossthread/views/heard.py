"""The devices that were only heard of: what their neighbours tell of each, and where they heard it."""

from __future__ import annotations

from collections import defaultdict
from typing import NamedTuple

from crossthread.network.network import Network
from crossthread.network.topology.names import End, is_one_device
from crossthread.survey.records import Neighbor
from crossthread.values import NONE


class Heard(NamedTuple):
    """A device that was not surveyed, as its neighbours know it.

    Attributes
    ----------
    name
        Its system name; its chassis identifier if it gives none.
    rows
        What was heard of it, each with the port where.
    """

    name: str
    rows: tuple[tuple[End, Neighbor], ...]

    def first(self, column: str) -> str | None:
        """What a column says, where any of the rows has it."""
        values = (getattr(row, column) for _, row in self.rows)
        return next((value for value in values if value and value != NONE), None)

    @property
    def capabilities(self) -> tuple[str, ...]:
        """What it says that it does."""
        return next((row.capabilities for _, row in self.rows if row.capabilities), ())


def heard_of(network: Network) -> tuple[Heard, ...]:
    """Every device that was only heard of, in the order of the survey; one chassis is one device, by all its names.

    Without one, so are two names of one port, address and platform that are heard at one seat.
    """
    groups: dict[str, list[tuple[End, Neighbor]]] = {}
    known_by: dict[str, str] = {}
    seats: dict[End, list[tuple[str, Neighbor]]] = defaultdict(list)
    for entry in network.loose:
        row = entry.row
        labels = [text.casefold() for text in (row.neighbor_chassis, row.neighbor) if text]
        if entry.why != "unsurveyed" or not labels:
            continue
        key = next((known_by[label] for label in labels if label in known_by), labels[0])
        if row.neighbor_chassis and key in groups:
            others = {other.neighbor_chassis for _, other in groups[key]} - {None}
            key = key if not others or row.neighbor_chassis in others else labels[0]
        if key not in groups:
            key = next((other for other, beside in seats[entry.end] if is_one_device(row, beside)), key)
        seats[entry.end].append((key, row))
        for label in labels:
            known_by.setdefault(label, key)
        groups.setdefault(key, []).append((entry.end, row))
    return tuple(Heard(_name(rows), tuple(rows)) for rows in groups.values())


def _name(rows: list[tuple[End, Neighbor]]) -> str:
    """The system name that was heard last to age out, else the chassis identifier."""
    named = [row for _, row in rows if row.neighbor]
    if named:
        return str(max(named, key=lambda row: row.remaining or 0).neighbor)
    return str(rows[0][1].neighbor_chassis)
