"""What is new, gone and changed from one survey to another: rows of tables, cables, trees, hosts, counters."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

import msgspec

from crossthread.network.network import Network
from crossthread.survey import Survey
from crossthread.survey.records import Port, Row, columns_of

_COUNTERS = ("in_errors", "crc_errors", "out_errors", "late_collisions", "violations")
_TRAFFIC = ("counted_for", "in_packets", "out_packets")
_OWN = {"source", "extra", "taken_at", *_COUNTERS, *_TRAFFIC}
"""Columns in which two surveys differ though nothing was changed."""


class Changed(msgspec.Struct, frozen=True):
    """One thing that is otherwise now: what, in which respect, as it was and as it is."""

    what: str
    column: str
    before: str | None
    after: str | None


class Part(msgspec.Struct, frozen=True):
    """What is new, gone and changed of one kind."""

    new: tuple[str, ...] = ()
    gone: tuple[str, ...] = ()
    changed: tuple[Changed, ...] = ()

    def __bool__(self) -> bool:
        return bool(self.new or self.gone or self.changed)


class Rose(msgspec.Struct, frozen=True):
    """A counter of damaged frames or refusals that went up, and by how much a minute, if both times are known."""

    port: str
    counter: str
    by: int
    a_minute: float | None = None


def _name(row: Row) -> str:
    return " ".join(str(value) for column in type(row).KEY if (value := getattr(row, column)) not in (None, ""))


def part_of(before: Survey, after: Survey, table: str) -> Part:
    """What is new, gone and changed in one table, by the keys of its rows."""
    old, new = ({row.key: row for row in survey.table(table)} for survey in (before, after))
    differ = [change for key, row in old.items() if key in new for change in _cells(row, new[key])]
    gone, fresh = [k for k in old if k not in new], [k for k in new if k not in old]
    return Part(tuple(_name(new[k]) for k in fresh), tuple(_name(old[k]) for k in gone), tuple(differ))


def _cells(one: Row, two: Row, but: Iterable[str] = ()) -> Iterator[Changed]:
    left_out = {*_OWN, *but, *type(one).KEY} if type(one).TABLE != "filters" else {"extra"}
    for column, (kind, _) in columns_of(type(one)).items():
        values = getattr(one, column), getattr(two, column)
        if column not in left_out and values[0] != values[1]:
            shown = [kind.show(value) if value is not None else None for value in values]
            yield Changed(_name(one), column, shown[0], shown[1])


def cables(before: Network, after: Network) -> Part:
    """Cables: new, gone, and moved, where one end is as before and the other is elsewhere."""
    old, new = ({frozenset((str(link.a), str(link.b))): link for link in network.links} for network in (before, after))
    gone, fresh = [ends for ends in old if ends not in new], [ends for ends in new if ends not in old]
    moved: list[Changed] = []
    for ends in list(gone):
        match = next((other for other in fresh if len(ends & other) == 1), None)
        if match is not None:
            (kept,) = ends & match
            moved.append(Changed(kept, "far end", *(next(iter(pair - {kept}), kept) for pair in (ends, match))))
            gone.remove(ends)
            fresh.remove(match)
    states = [
        Changed(
            " – ".join(sorted(ends)), "state", *({True: "up", False: "down", None: "unknown"}[link.up] for link in pair)
        )
        for ends in old.keys() & new.keys()
        for pair in [(old[ends], new[ends])]
        if pair[0].up is not pair[1].up
    ]
    return Part(
        tuple(" – ".join(sorted(ends)) for ends in fresh),
        tuple(" – ".join(sorted(ends)) for ends in gone),
        tuple(moved + sorted(states, key=lambda one: one.what)),
    )


def trees(before: Network, after: Network) -> Part:
    """Settings of the trees, roots that moved, and ports that have another part now."""
    found = [
        *part_of(before.told, after.told, "trees").changed,
        *part_of(before.told, after.told, "tree_ports").changed,
    ]
    return Part((), (), tuple(found))


def hosts(before: Survey, after: Survey) -> Part:
    """Hosts by name; one that is gone and one that is new with the same MAC address are one with another name."""
    old, new = ({row.host.casefold(): row for row in survey.hosts} for survey in (before, after))
    gone = {name: row for name, row in old.items() if name not in new}
    by_mac = {row.mac: name for name, row in new.items() if name not in old and row.mac}
    changed: list[Changed] = []
    renamed: set[str] = set()
    for name, row in list(gone.items()):
        other = by_mac.get(row.mac) if row.mac else None
        if other is not None:
            changed.append(Changed(row.host, "host", row.host, new[other].host))
            changed += _cells(row, new[other])
            renamed.add(other)
            del gone[name]
    changed += [change for name, row in old.items() if name in new for change in _cells(row, new[name])]
    fresh = [row.host for name, row in new.items() if name not in old and name not in renamed]
    return Part(tuple(fresh), tuple(row.host for row in gone.values()), tuple(changed))


def counters(before: Survey, after: Survey) -> Iterator[Rose]:
    """The counters of damaged frames and refusals that went up."""
    times = before.info.taken_at, after.info.taken_at
    minutes = (times[1] - times[0]).total_seconds() / 60 if times[0] and times[1] else None
    old: dict[object, Port] = {row.key: row for row in before.ports}
    for row in after.ports:
        was = old.get(row.key)
        for counter in _COUNTERS if was is not None else ():
            count = (getattr(row, counter) or 0) - (getattr(was, counter) or 0)
            if count > 0 and getattr(was, counter) is not None:
                rate = round(count / minutes, 2) if minutes and minutes > 0 else None
                yield Rose(_name(row), counter.replace("_", " "), count, rate)
