"""Changes: edits of a survey, what a repair consists of and what a rehearsal takes."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

import msgspec

from crossthread.survey.columns import Table
from crossthread.survey.problems import Problem, SurveyError
from crossthread.survey.single import cell_text
from crossthread.survey.survey import Places, Survey
from crossthread.survey.tables import TABLES, Row, Tree, TreePort, all_folded, columns_of, folded

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

    def __str__(self) -> str:
        key = " ".join(str(value) for value in self.key.values())
        if self.delete:
            return f"{self.table} {key}: delete"
        return f"{self.table} {key}: " + ", ".join(f"{column} = {value}" for column, value in self.cells.items())


def apply_changes(survey: Survey, changes: Iterable[Change]) -> Survey:
    """Make a copy of a survey with some changes made, in their order.

    Spanning-tree roles and states that were observed before a change on which they depend are dropped from the copy,
    so that they are computed afresh.

    Raises
    ------
    SurveyError
        For a table, column or value that the format does not know; all problems at once.
    """
    tables: dict[str, dict[int, Row | None]] = {}
    problems: list[Problem] = []
    stale = False
    unsettled: set[int] = set()
    added: dict[str, list[Row]] = {}
    indexes: dict[str, dict[Any, list[int]]] = {}
    changes = list(changes)
    for number, change in enumerate(changes, 1):
        label = f"change {number}"
        record = TABLES.get(change.table)
        if record is None:
            problems.append(Problem(label, f"expected a table of a survey: {', '.join(TABLES)}", value=change.table))
            continue
        key = _read(record, change.key, label, problems)
        wanted = _read(record, change.cells, label, problems)
        rows = survey.table(change.table)
        edits = tables.setdefault(change.table, {})
        extra = added.setdefault(change.table, [])
        index = indexes.get(change.table)
        if index is None:
            index = indexes[change.table] = _index(survey, change.table, changes)
        first = _first(record, key)
        near: Iterable[int] = index.get(first, ()) if first else range(len(rows))
        current: dict[int, Row | None] = {n: edits.get(n, rows[n]) for n in near}
        current.update((len(rows) + n, row) for n, row in enumerate(extra))
        hits = [n for n, row in current.items() if row is not None and _fits(row, key)]
        if change.table == "gateways" and not hits and not change.delete:
            hits = [n for n, row in current.items() if row is not None and _fits(row, {**key, "address": None})]
        if change.table == "gateways" and wanted.get("admin") == "up":
            wanted.setdefault("oper", "up")  # what was down because it was shut comes up
        moved = _moved_ports(survey, change)
        stale = stale or moved is None
        unsettled |= moved or set()
        for n in hits:
            row = current[n]
            fresh = None if change.delete or row is None else msgspec.structs.replace(row, **wanted)
            if n < len(rows):
                edits[n] = fresh
            else:
                extra[n - len(rows)] = fresh if fresh is not None else extra[n - len(rows)]
        if not hits and not change.delete:
            cells = {**key, **wanted}
            missing = [c for c, (_, must) in columns_of(record).items() if must and c not in cells]
            if missing:
                problems.append(Problem(label, f"a new row of {change.table} also needs {', '.join(missing)}"))
            else:
                extra.append(record(**cells))
    if problems:
        raise SurveyError(problems)
    fresh_tables: dict[str, Any] = {}
    places = dict(survey.places)
    for name, edits in tables.items():
        rows = survey.table(name)
        fresh_tables[name] = _edited(rows if isinstance(rows, Table) else Table(rows), edits, added[name])
        if name in places:
            at = list(places[name].lines)
            for n in edits:
                at[n] = 0
            kept = [line for n, line in enumerate(at) if edits.get(n, True)] if None in edits.values() else at
            places[name] = Places(places[name].file, kept + [0] * len(added[name]))
    if stale or unsettled:
        ports: tuple[TreePort, ...] = fresh_tables.get("tree_ports", survey.tree_ports)
        fresh_tables["tree_ports"] = tuple(
            msgspec.structs.replace(p, role=None, state=None) if stale or id(p) in unsettled else p for p in ports
        )
    if stale:
        trees: tuple[Tree, ...] = fresh_tables.get("trees", survey.trees)
        unseen = {"root_priority": None, "root_address": None, "root_cost": None, "root_port": None}
        fresh_tables["trees"] = tuple(msgspec.structs.replace(t, **unseen) for t in trees)
        places.pop("tree_ports", None)
        places.pop("trees", None)
    tables_now = {name: fresh_tables.get(name, survey.table(name)) for name in TABLES}
    return Survey(info=survey.info, **tables_now, places=places)


def _edited(rows: Table[Row], edits: dict[int, Row | None], added: list[Row]) -> Table[Row]:
    """A table with some rows replaced, some deleted, and some added."""
    edited = rows.with_rows({n: row for n, row in edits.items() if row is not None})
    if not added and None not in edits.values():
        return edited
    return Table([*(row for n, row in enumerate(edited) if edits.get(n, row) is not None), *added])


def _moved_ports(survey: Survey, change: Change) -> set[int] | None:
    """Whose observed tree states a change makes stale: the rows of some ports, by `id`; None for all of the campus.

    What VLANs a port carries matters only to a tree for each VLAN, and a port at the edge only to itself.
    """
    touched = _MOVES_TREES.get(change.table, set()) & set(change.cells)
    if change.table != "ports" or not touched:
        return None if touched or (change.delete and change.table in _MOVES_TREES) else set()
    if not touched & _OF_LINKS and all(row.protocol in ("stp", "rstp", "off") for row in survey.trees) and survey.trees:
        return set()
    device, port = str(change.key.get("device", "")).casefold(), change.key.get("port")
    rows = [row for row in survey.tree_ports if row.port == port and row.device.casefold() == device]
    return {id(row) for row in rows} if rows and all(row.edge == "yes" for row in rows) else None


def _index(survey: Survey, table: str, changes: Iterable[Change]) -> dict[Any, list[int]]:
    """Where the rows are that have the value of the table's first key column which some change asks for."""
    record = TABLES[table]
    column = record.KEY[0] if record.KEY else "device"
    asked = {_first(record, _read(record, change.key, "", [])) for change in changes if change.table == table}
    found: dict[Any, list[int]] = {}
    for n, first in enumerate(all_folded(column, survey.column(table, column))):
        if first in asked:
            found.setdefault(first, []).append(n)
    return found


def _first(record: type[Row], key: dict[str, Any]) -> Any:
    """The first key column's value as the index has it; None if the key does not say."""
    column = record.KEY[0] if record.KEY else "device"
    return folded(column, key.get(column))


def merge_changes(changes: Iterable[Change]) -> tuple[Change, ...]:
    """Changes in their order, with several edits of one row taken together; the later value of a cell wins."""
    merged: dict[tuple[Any, ...], Change] = {}
    for change in changes:
        key = (change.table, tuple(sorted((c, str(v)) for c, v in change.key.items())), change.delete)
        before = merged.get(key)
        cells = {**before.cells, **change.cells} if before is not None else change.cells
        merged[key] = msgspec.structs.replace(change, cells=cells)
    return tuple(merged.values())


def _read(record: type[Row], given: dict[str, Any], label: str, problems: list[Problem]) -> dict[str, Any]:
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


def _fits(row: Row, key: dict[str, Any]) -> bool:
    return all(folded(c, getattr(row, c)) == folded(c, value) for c, value in key.items())
