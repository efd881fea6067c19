"""Putting rows of many sources together: one row a key, differences reported and decided."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from typing import Any

import msgspec

from crossthread.survey import Survey
from crossthread.survey.cell_kinds import Kind
from crossthread.survey.records import TABLES, Coverage, Filter, Neighbor, Row, columns_of

_JOIN = "; "


class Difference(msgspec.Struct, frozen=True):
    """Two sources that say different things of one cell, which was taken, and why."""

    table: str
    key: tuple[object, ...]
    column: str
    taken: str
    taken_from: str
    left: str
    left_from: str
    because: str

    def __str__(self) -> str:
        key = " ".join(str(part) for part in self.key if part is not None)
        return (
            f"{self.table} {key}: {self.column} is {self.taken} by {self.taken_from}, and {self.left} by "
            f"{self.left_from}; the first was taken: {self.because}"
        )


class Told(msgspec.Struct, frozen=True):
    """A row as a source tells it: when, and whether of itself rather than of a neighbour."""

    row: Row
    time: float = 0.0
    itself: bool = True


def writable(told: Iterable[Told]) -> Iterator[Told]:
    """The rows as a survey can hold them: a value that could not be read back is left out, a row without a key too."""
    checked: dict[tuple[str, str, object], bool] = {}
    for entry in told:
        record = type(entry.row)
        bad: dict[str, object] = {}
        lost = False
        for column, (kind, must) in columns_of(record).items():
            value = getattr(entry.row, column)
            if value is None:
                lost = lost or must
                continue
            key = (record.TABLE, column, value)
            if key not in checked:
                checked[key] = _reads_back(kind, value)
            if not checked[key]:
                bad[column] = None
                lost = lost or must
        if not lost:
            yield msgspec.structs.replace(entry, row=msgspec.structs.replace(entry.row, **bad)) if bad else entry


def _reads_back(kind: Kind, value: object) -> bool:
    try:
        text = kind.show(value)
        text.encode("utf-8")
        return bool(text.strip()) and "\0" not in text and bool(kind.read(text) == value)
    except (ValueError, TypeError, AttributeError):
        return False


def identity(row: Row) -> tuple[object, ...]:
    """What makes two rows speak of one thing: the key; of a neighbour also who it is."""
    if isinstance(row, Neighbor):
        who = row.neighbor_chassis or row.neighbor
        return (row.device.casefold(), row.port, row.protocol, (who or "").casefold(), row.neighbor_port)
    return row.key


def merge(base: Survey, told: Iterable[Told], gathered: set[str]) -> tuple[Survey, list[Difference], int]:
    """Merge rows into a survey.

    Parameters
    ----------
    base
        The survey as it was.
    told
        The rows of this gathering.
    gathered
        The files that were read: what they told before and no longer tell is left out.

    Returns
    -------
    tuple
        The new survey, the differences between sources, and how many rows were left out as gone.
    """
    differences: list[Difference] = []
    gone = 0
    fresh: dict[str, dict[tuple[object, ...], Told]] = {name: {} for name in TABLES}
    for entry in told:
        rows = fresh[type(entry.row).TABLE]
        key = identity(entry.row)
        rows[key] = _join(rows[key], entry, differences) if key in rows else entry
    tables: dict[str, Any] = {}
    for name in TABLES:
        merged: dict[tuple[object, ...], Row] = {}
        for row in base.table(name):
            if _files_of(row) <= gathered and identity(row) not in fresh[name]:
                gone += 1
                continue
            merged[identity(row)] = row
        for key, entry in fresh[name].items():
            old = merged.get(key)
            merged[key] = entry.row if old is None else _renew(old, entry.row, gathered, differences)
        tables[name] = tuple(merged.values())
    return Survey(info=base.info, **tables), differences, gone


def _cells(row: Row) -> dict[str, object]:
    columns = [*columns_of(type(row))]
    but = () if isinstance(row, Filter) else ("source",)
    return {c: v for c in columns if c not in but and (v := getattr(row, c)) is not None}


def _sources(*rows: Row) -> str | None:
    told = [row for row in rows if not isinstance(row, Filter)]
    parts = [part for row in told for part in (getattr(row, "source", None) or "").split(_JOIN) if part]
    return _JOIN.join(dict.fromkeys(parts)) or None


def _files_of(row: Row) -> set[str]:
    """The files that a row came from, without line numbers."""
    if isinstance(row, Filter):
        return {""}
    return {re.sub(r":[\d.]+$", "", part) for part in (getattr(row, "source", None) or "").split(_JOIN)}


def _with_extra(row: Row, old: Row) -> Row:
    """A row with the cells of the other's columns that the format does not name."""
    extra = {**dict(getattr(old, "extra", ())), **dict(getattr(row, "extra", ()))}
    return msgspec.structs.replace(row, extra=tuple(extra.items())) if extra else row


def _report(old: Row, new: Row, differences: list[Difference]) -> None:
    """What stood otherwise in the survey than its source tells now."""
    if isinstance(old, Coverage):
        return
    was, now, kinds = _cells(old), _cells(new), columns_of(type(new))
    for column in sorted(was):
        if was[column] != now.get(column):
            show = kinds[column][0].show
            told = show(now[column]) if column in now else "nothing"
            told_from = _sources(new) or "its source"
            because = "the source of the row tells it so now; if it was edited by hand, edit it again"
            differences.append(
                Difference(type(new).TABLE, new.key, column, told, told_from, show(was[column]), "the survey", because)
            )


def _join(one: Told, two: Told, differences: list[Difference]) -> Told:
    """Two sources of this gathering: the device itself counts more than its neighbour, then the newer one."""
    first, second = (one, two)
    if isinstance(one.row, Coverage) and isinstance(two.row, Coverage):  # what one source has in full is complete
        first, second = (one, two) if one.row.complete == "yes" else (two, one)
        source = _sources(first.row, second.row)
        return Told(msgspec.structs.replace(first.row, source=source), max(one.time, two.time))
    if one.itself != two.itself:
        first, second = (one, two) if one.itself else (two, one)
        because = "a device knows better than its neighbour"
    else:
        first, second = (one, two) if one.time >= two.time else (two, one)
        because = "it is newer" if one.time != two.time else "it was read first"
    row = _over(first.row, second.row, because, differences)
    return Told(row, max(one.time, two.time), first.itself)


def _over(first: Row, second: Row, because: str, differences: list[Difference]) -> Row:
    """The first row, with what only the second one has."""
    ours, theirs = _cells(first), _cells(second)
    kinds = columns_of(type(first))
    for column in sorted(ours.keys() & theirs.keys()):
        if ours[column] != theirs[column] and column not in type(first).KEY:
            show = kinds[column][0].show
            sources = [getattr(row, "source", None) or "the survey" for row in (first, second)]
            differences.append(
                Difference(
                    type(first).TABLE,
                    first.key,
                    column,
                    show(ours[column]),
                    sources[0],
                    show(theirs[column]),
                    sources[1],
                    because,
                )
            )
    return _told_by(msgspec.structs.replace(first, **{**theirs, **ours}), _sources(first, second))


def _told_by(row: Row, source: str | None) -> Row:
    """A row with where it came from; an entry of a packet filter has no column for that."""
    return row if isinstance(row, Filter) else msgspec.structs.replace(row, source=source)


def _renew(old: Row, new: Row, gathered: set[str], differences: list[Difference]) -> Row:
    """A row of the survey and the same thing as it is told now: what the same source told before is replaced.

    What then differs is reported, as somebody may have edited it by hand; columns that the format does not name stay.
    """
    if _files_of(old) <= gathered:
        new = _with_extra(new, old)
        _report(old, new, differences)
        return new
    if isinstance(old, Coverage):  # that another source had all of it is not forgotten
        return old if old.complete == "yes" else msgspec.structs.replace(new, source=_sources(old, new))
    row = _with_extra(_over(new, old, "it was gathered now", differences), old)
    return _told_by(row, _sources(old, new))
