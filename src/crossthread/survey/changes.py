"""Changes: edits of a survey, what a repair consists of and what a rehearsal takes."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence
from typing import Any

import msgspec

from crossthread.errors import Problem, SurveyError
from crossthread.survey.building import cell_text
from crossthread.survey.records import READ_IN_FULL, TABLES, Coverage, Gateway, Row, TreePort, columns_of, folded
from crossthread.survey.survey import Survey
from crossthread.survey.table import Table
from crossthread.values import VlanSet

_OF_LINKS, _OF_VLANS = {"admin", "oper", "lag", "speed"}, {"mode", "allowed", "pvid"}
_MOVES_TREES = {
    "ports": _OF_LINKS | _OF_VLANS,
    "neighbors": {"neighbor", "neighbor_chassis", "neighbor_port"},
    "trees": {"priority", "protocol", "vlans", "region", "address"},
    "tree_ports": {"cost", "priority", "number", "edge", "guard"},
}
"""Columns on which the spanning tree depends: once one is changed, the observed roles and states are of the past."""


class Change(msgspec.Struct, frozen=True, omit_defaults=True, rename={"cells": "set"}):
    """One edit: set some cells of the row with this key, or delete it; a key that is not there adds a row."""

    table: str
    key: dict[str, Any]
    cells: dict[str, Any] = {}
    delete: bool = False

    def __post_init__(self) -> None:
        if any(isinstance(value, VlanSet) for value in self.cells.values()):  # a change is always what JSON can hold
            plain = {column: str(v) if isinstance(v, VlanSet) else v for column, v in self.cells.items()}
            msgspec.structs.force_setattr(self, "cells", plain)

    def __str__(self) -> str:
        key = " ".join(str(value) for value in self.key.values())
        if self.delete:
            return f"{self.table} {key}: delete"
        return f"{self.table} {key}: " + ", ".join(f"{column} = {value}" for column, value in self.cells.items())


_FOLLOWS = {"oper", "link"}
"""What follows from an edit, and is only observed."""


def edited(changes: Iterable[Change]) -> set[tuple[str, ...]]:
    """The ports, interfaces and other things that somebody has to edit; what will only be observed does not count.

    An interface whose address changes is one thing, and so is a route that leads elsewhere then.
    """
    found = set()
    for change in changes:
        if set(change.cells) - _FOLLOWS or change.delete:
            key = {column: str(value) for column, value in change.key.items() if column not in ("address", "next_hop")}
            found.add((change.table, *key.values()))
    return found


def apply_changes(survey: Survey, changes: Iterable[Change]) -> Survey:
    """Make a copy of a survey with some changes made, in their order.

    Spanning-tree roles and states that were observed before a change on which they depend are dropped from the copy,
    so that they are computed afresh.

    Raises
    ------
    SurveyError
        For a table, column or value that the format does not know; all problems at once.
    """
    problems: list[Problem] = []
    edits: dict[str, _Edits] = {}
    moved: set[_At] | None = set()
    for number, change in enumerate(changes, 1):
        label = f"change {number}"
        record = TABLES.get(change.table)
        if record is None:
            problems.append(Problem(label, f"expected a table of a survey: {', '.join(TABLES)}", value=change.table))
            continue
        if change.table not in edits:
            edits[change.table] = _Edits(survey.table(change.table))
        key, cells = _read(record, change.key, label, problems), _read(record, change.cells, label, problems)
        says = edits[change.table].make(key, cells, change.delete)
        if says:
            problems.append(Problem(label, says))
        here = _moved_ports(survey, change)
        moved = None if moved is None or here is None else moved | here
    if problems:
        raise SurveyError(problems)
    tables: dict[str, Any] = {name: edits[name].table() if name in edits else survey.table(name) for name in TABLES}
    if moved is None:
        tables["tree_ports"] = tables["tree_ports"].unseen("role", "state")
        tables["trees"] = tables["trees"].unseen("root_priority", "root_address", "root_cost", "root_port")
    elif moved:
        ports: Table[TreePort] = tables["tree_ports"]
        stale = {n: ports[n] for device, port in moved for n in _tree_ports_at(ports, device, port)}
        blank = {n: msgspec.structs.replace(row, role=None, state=None) for n, row in stale.items()}
        tables["tree_ports"] = ports.edited(blank)
    tables["coverage"] = _still_covered(survey, tables, edits)
    return Survey(info=survey.info, **tables)


_READ_TO_SAY = ("ports", "neighbors", "trees", "tree_ports", "macs")
"""Tables of which a first row, made by a change, does not mean that the device's other rows were read."""


def _still_covered(survey: Survey, tables: dict[str, Any], edited: Iterable[str]) -> Table[Row]:
    """What is covered after some changes: what was read in full before is so still, and nothing else.

    A device that loses its last row of a table is not one of which the table was never read.
    """
    said = {(row.device.casefold(), row.table) for row in tables["coverage"]}
    added: list[Row] = []
    for name in edited:
        if name not in READ_IN_FULL or tables[name].column("device") is survey.column(name, "device"):
            continue
        before, after = ({d.casefold(): d for d in t.distinct("device")} for t in (survey.table(name), tables[name]))
        for key, device in (*before.items(), *after.items()):
            gone, fresh = key not in after, key not in before and name in _READ_TO_SAY
            if (gone or fresh) and (key, name) not in said and name not in survey.info.complete:
                added.append(Coverage(device, name, "yes" if gone else "no"))
    table: Table[Row] = tables["coverage"]
    return table.edited({}, added) if added else table


class _Edits:
    """The changes of one table: which rows stand elsewhere now, or nowhere, and which were added."""

    def __init__(self, rows: Table[Row]) -> None:
        self._rows = rows
        self._edited: dict[int, Row | None] = {}
        self._added: list[Row | None] = []
        self._added_at: dict[object, list[int]] = defaultdict(list)
        """Of the added rows those that have, or had, each value in the first column of the key."""

    def table(self) -> Table[Row]:
        """The table with all changes made."""
        return self._rows.edited(self._edited, [row for row in self._added if row is not None])

    def make(self, key: dict[str, object], wanted: dict[str, object], delete: bool) -> str | None:
        """Make one change; returns why it cannot be made, if so."""
        record = self._rows.record
        hits = self._hits(key)
        if record is Gateway and not delete:
            if not hits:
                hits = self._hits({**key, "address": None})
            if wanted.get("admin") == "up":
                wanted.setdefault("oper", "up")  # what was down because it was shut comes up
        if not delete and wanted.keys() & set(record.KEY) and self._taken(hits, wanted):
            return f"another row of {record.TABLE} has that key already; expected one that is free"
        for n, row in hits.items():
            fresh = None if delete else msgspec.structs.replace(row, **wanted)
            if n < len(self._rows):
                self._edited[n] = fresh
            else:
                self._put(n - len(self._rows), fresh)
        if hits or delete:
            return None
        cells = {**key, **wanted}
        missing = [c for c, (_, must) in columns_of(record).items() if must and c not in cells]
        if missing:
            return f"a new row of {record.TABLE} also needs {', '.join(missing)}"
        self._added.append(None)
        self._put(len(self._added) - 1, record(**cells))
        return None

    def _put(self, n: int, row: Row | None) -> None:
        """Let a row stand in a place among the added ones, or none."""
        self._added[n] = row
        if row is not None:
            self._added_at[folded(self._column, getattr(row, self._column))].append(n)

    @property
    def _column(self) -> str:
        """The first column of the key."""
        return self._rows.record.KEY[0] if self._rows.record.KEY else "device"

    def _taken(self, hits: Mapping[int, Row], wanted: dict[str, object]) -> bool:
        """Whether rows would get the key of another row, or of each other."""
        keys = [msgspec.structs.replace(row, **wanted).key for row in hits.values()]
        others = (self._hits(dict(zip(self._rows.record.KEY, key, strict=True))).keys() - hits.keys() for key in keys)
        return len(set(keys)) < len(keys) or any(others)

    def _hits(self, key: dict[str, object]) -> dict[int, Row]:
        """The rows with a key, by where they stand: those that were there already, and after them those added."""
        column, count = self._column, len(self._rows)
        first = folded(column, key.get(column))
        near: Sequence[int] = self._rows.positions(column).get(first, ()) if first else range(count)
        for other in key.keys() - {column} if near else ():  # which is quicker than to look at each of many rows
            held, wanted = self._rows.column(other), folded(other, key[other])
            near = [n for n in near if n in self._edited or folded(other, held[n]) == wanted]
        rows = [(n, self._edited.get(n, self._rows[n])) for n in near]
        # Where it is not said whose rows are meant, they are looked for among all.
        rows += [(count + n, self._added[n]) for n in (self._added_at[first] if first else range(len(self._added)))]
        return {n: row for n, row in rows if row is not None and _fits(row, key)}


_At = tuple[str, str | None]
"""A device in lower case, and a port of it."""


def _moved_ports(survey: Survey, change: Change) -> set[_At] | None:
    """Whose observed tree states a change makes stale: those of some ports; None for all of the campus.

    What VLANs a port carries matters only to a tree for each VLAN, and a port at the edge only to itself.
    """
    touched = _MOVES_TREES.get(change.table, set()) & set(change.cells)
    if change.table != "ports" or not touched:
        return None if touched or (change.delete and change.table in _MOVES_TREES) else set()
    device, port = str(change.key.get("device", "")).casefold(), change.key.get("port")
    of_links = touched & _OF_LINKS or _leaves_bridge(survey, device, port, change)
    if not of_links and survey.trees and set(survey.distinct("trees", "protocol")) <= {"stp", "rstp", "off"}:
        return set()
    rows = [survey.tree_ports[n] for n in _tree_ports_at(survey.table("tree_ports"), device, port)]
    return {(device, port)} if rows and all(row.edge == "yes" for row in rows) else None


def _leaves_bridge(survey: Survey, device: str, port: str | None, change: Change) -> bool:
    """Whether a change makes a port of the bridge a routed one, or the other way round."""
    if "mode" not in change.cells:
        return False
    places = survey.table("ports").positions("device").get(device, ())
    was = {survey.ports[n].mode for n in places if survey.ports[n].port == port}
    return ("routed" in was) is not (change.cells["mode"] == "routed")


def _tree_ports_at(table: Table[Any], device: str, port: str | None) -> list[int]:
    """Where the rows of one port stand."""
    return [n for n in table.positions("device").get(device, ()) if table[n].port == port]


def merge_changes(changes: Iterable[Change]) -> tuple[Change, ...]:
    """Changes in their order, with several edits of one row taken together; the later value of a cell wins."""
    merged: dict[tuple[Any, ...], Change] = {}
    for change in changes:
        key = (change.table, tuple(sorted((c, str(v)) for c, v in change.key.items())), change.delete)
        before = merged.get(key)
        cells = {**before.cells, **change.cells} if before is not None else change.cells
        merged[key] = msgspec.structs.replace(change, cells=cells)
    return tuple(merged.values())


def _read(record: type[Row], given: dict[str, object], label: str, problems: list[Problem]) -> dict[str, object]:
    columns = columns_of(record)
    found: dict[str, Any] = {}
    for column, value in given.items():
        if column not in columns:
            says = f"{record.TABLE} has no such column; expected one of {', '.join(columns)}"
            problems.append(Problem(label, says, column=column))
            continue
        kind, must = columns[column]
        try:
            text = cell_text(value)
            if must and not text:
                raise ValueError
            found[column] = kind.read(text) if text.strip() else None
        except ValueError:
            problems.append(Problem(label, f"expected {kind.expected}", column=column, value=str(value)))
    return found


def _fits(row: Row, key: dict[str, object]) -> bool:
    return all(folded(c, getattr(row, c)) == folded(c, value) for c, value in key.items())
