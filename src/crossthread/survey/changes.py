"""Changes: edits of a survey, what a repair consists of and what a rehearsal takes."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

import msgspec

from crossthread.errors import Problem, SurveyError
from crossthread.survey.building import cell_text
from crossthread.survey.edited_table import EditedTable
from crossthread.survey.records import READ_IN_FULL, TABLES, Coverage, Row, TreePort, columns_of
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
    key: Mapping[str, object]
    cells: Mapping[str, object] = {}
    delete: bool = False

    def __post_init__(self) -> None:
        if any(isinstance(value, VlanSet) for value in self.cells.values()):  # a change is always what JSON can hold
            plain = {column: str(v) if isinstance(v, VlanSet) else v for column, v in self.cells.items()}
            msgspec.structs.force_setattr(self, "cells", plain)

    def named(self, column: str) -> str | None:
        """What its key has in a column, as text."""
        value = self.key.get(column)
        return None if value is None else str(value)

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
    so that they are computed afresh; but not of ports that a guard holds closed.

    Raises
    ------
    SurveyError
        For a table, column or value that the format does not know; all problems at once.
    """
    problems: list[Problem] = []
    edits: dict[str, EditedTable] = {}
    moved: set[_At] | None = set()
    opened: set[_At] = set()
    for number, change in enumerate(changes, 1):
        label = f"change {number}"
        record = TABLES.get(change.table)
        if record is None:
            problems.append(Problem(label, f"expected a table of a survey: {', '.join(TABLES)}", value=change.table))
            continue
        if change.table not in edits:
            edits[change.table] = EditedTable(survey.table(change.table))
        key, cells = _read(record, change.key, label, problems), _read(record, change.cells, label, problems)
        says = edits[change.table].make(key, cells, change.delete)
        if says:
            problems.append(Problem(label, says))
        opened |= _opened(change)
        here = _moved_ports(survey, change)
        moved = None if moved is None or here is None else moved | here
    if problems:
        raise SurveyError(problems)
    tables: dict[str, Any] = {name: edits[name].table() if name in edits else survey.table(name) for name in TABLES}
    if moved is None:
        held = _held_closed(tables["tree_ports"], tables["ports"], opened, "trees" in edits)
        tables["tree_ports"] = tables["tree_ports"].unseen("role", "state", but=held)
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


_At = tuple[str, str | None]
"""A device in lower case, and a port of it."""


def _moved_ports(survey: Survey, change: Change) -> set[_At] | None:
    """Whose observed tree states a change makes stale: those of some ports; None for all of the campus.

    What VLANs a port carries matters only to a tree for each VLAN, and a port at the edge only to itself.
    """
    touched = _MOVES_TREES.get(change.table, set()) & set(change.cells)
    if change.table != "ports" or not touched:
        return None if touched or (change.delete and change.table in _MOVES_TREES) else set()
    device, port = str(change.key.get("device", "")).casefold(), change.named("port")
    of_links = touched & _OF_LINKS or _leaves_bridge(survey, device, port, change)
    if not of_links and survey.trees and set(survey.distinct("trees", "protocol")) <= {"stp", "rstp", "off"}:
        return set()
    rows = [survey.tree_ports[n] for n in _tree_ports_at(survey.table("tree_ports"), device, port)]
    return {(device, port)} if rows and all(row.edge == "yes" for row in rows) else None


_OPENS = {"ports": {"admin", "oper"}, "tree_ports": {"guard", "edge", "role", "state"}, "trees": {"protocol"}}
"""Columns by which a port may come open that a guard of the spanning tree closed."""


def _opened(change: Change) -> set[_At]:
    """The port that a change may open, or the device with all its ports."""
    if not change.delete and _OPENS.get(change.table, set()).isdisjoint(change.cells):
        return set()
    return {(str(change.key.get("device", "")).casefold(), change.named("port"))} if change.table in _OPENS else set()


def _held_closed(rows: Table[TreePort], ports: Table[Any], opened: set[_At], trees: bool) -> list[int]:
    """Where those rows of ports stand that take no part in the tree though they have a link, as if a guard tripped.

    Nothing that happens elsewhere opens them: somebody has to. Where trees themselves are changed, a guard against
    other roots may open its port again.
    """
    if "disabled" not in rows.distinct("role"):
        return []
    told = zip(*(ports.column(name) for name in ("device", "port", "oper")), strict=True)
    up = {(device.casefold(), port) for device, port, oper in told if oper == "up"} - opened
    devices, names = rows.column("device"), rows.column("port")
    disabled = (n for n, role in enumerate(rows.column("role")) if role == "disabled")
    there = (n for n in disabled if (devices[n].casefold(), names[n]) in up)
    held = {n: rows[n] for n in there if (devices[n].casefold(), None) not in opened}
    return [n for n, row in held.items() if row.disabled and not (trees and row.guard == "root")]


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
    """Changes in their order, with several edits of one row taken together; the later value of a cell wins.

    What sets a host's address of IPv4, or its gateway, and what sets that of IPv6 do not touch each other.
    """
    merged: dict[tuple[Any, ...], Change] = {}
    for change in changes:
        key = (change.table, tuple(sorted((c, str(v)) for c, v in change.key.items())), change.delete)
        before = merged.get(key)
        cells = change.cells
        if before is not None:
            beside = _of_both_versions(before.cells, cells) if change.table == "hosts" else {}
            cells = {**before.cells, **cells, **beside}
        merged[key] = msgspec.structs.replace(change, cells=cells)
    return tuple(merged.values())


def _of_both_versions(first: Mapping[str, object], second: Mapping[str, object]) -> dict[str, str]:
    """A host's addresses, or gateways, of which one change sets that of IPv4 and another that of IPv6."""
    found = {}
    for column in {"address", "gateway"} & first.keys() & second.keys():
        texts = sorted((str(first[column]), str(second[column])), key=lambda text: ":" in text)
        alone = all("." in text or ":" in text for text in texts) and " " not in "".join(texts)
        if alone and [":" in text for text in texts] == [False, True]:
            found[column] = " ".join(texts)
    return found


def _read(record: type[Row], given: Mapping[str, object], label: str, problems: list[Problem]) -> dict[str, object]:
    columns = columns_of(record)
    found: dict[str, object] = {}
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
