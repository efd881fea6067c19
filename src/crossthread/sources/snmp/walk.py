"""The text of an SNMP walk with numeric object identifiers: `OID = TYPE: value`, a value may run over several lines."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable
from functools import cached_property, lru_cache
from typing import TypeVar

Index = tuple[int, ...]
_Value = TypeVar("_Value")
_KIND = re.compile(r"([A-Za-z][A-Za-z0-9-]*): ?(.*)", re.DOTALL)
_HEX = re.compile(r"[0-9A-Fa-f]{2}(?:\s+[0-9A-Fa-f]{2})*\s*")
_REMARKS = rb"(?:#[^\n]*\n)*"
_HEAD = re.compile(_REMARKS + rb"\s*(?:\.?1|\.?iso)\.[0-3](?:\.\d+)+ = ")
_CUT = re.compile(r"# not read in full: ([0-9.]+)")
_ASKED = re.compile(r"# asked at (\S+)")
_NAMED = re.compile(rb"\s*[A-Za-z][A-Za-z0-9-]*::[a-z][A-Za-z0-9]*(?:\.[0-9.]+)? = ")


def is_walk(data: bytes) -> bool:
    """Whether a file begins as a walk does."""
    return _HEAD.match(data) is not None


def is_named_walk(data: bytes) -> bool:
    """Whether a file begins as a walk does whose identifiers were printed as names."""
    return _NAMED.match(data) is not None


class Walk:
    """The values of some columns of a walk.

    Parameters
    ----------
    text
        The walk.
    wanted
        The object identifiers of the columns (and single values) that are kept; everything else is passed over.

    Notes
    -----
    Most lines of a large walk are of no interest, so a line is only cut in two and compared with the parents of the
    wanted columns, the parent of the line before first; indexes and values are read when a column is asked for.
    """

    def __init__(self, text: str, wanted: Iterable[str]) -> None:
        self._columns: dict[str, list[tuple[str, str]]] = {column: [] for column in wanted}
        by_parent: dict[str, dict[str, list[tuple[str, str]]]] = {}
        for column, entries in self._columns.items():
            above, _, number = column.rpartition(".")
            by_parent.setdefault(above + ".", {})[number] = entries
        parents = sorted(by_parent, key=len, reverse=True)
        outer = {p for p in parents if any(other != p and other.startswith(p) for other in parents)}
        last = parents[0] if parents else " "
        into: list[tuple[str, str]] | None = None
        self._text = text
        for line in text.split("\n"):
            identifier, equals, value = line.partition(" = ")
            if identifier.startswith(("iso.", ".iso.")):
                identifier = "1." + identifier.partition("iso.")[2]
            if not equals or identifier.strip("0123456789."):
                if into and line:  # a line that begins no entry goes on with the value before it
                    index, begun = into[-1]
                    into[-1] = (index, f"{begun}\n{line.rstrip()}")
                continue
            identifier = identifier.lstrip(".")
            into = None
            if last in outer or not identifier.startswith(last):
                for parent in parents:
                    if identifier.startswith(parent):
                        last = parent
                        break
                else:
                    continue
            number, _, index = identifier[len(last) :].partition(".")
            into = by_parent[last].get(number)
            if into is not None:
                into.append((index, value))

    def has(self, column: str) -> bool:
        """Whether anything of a column is there."""
        return any(index for index, _ in self._columns[column])

    @cached_property
    def asked(self) -> str | None:
        """The address at which the device was asked, if whoever walked wrote that down."""
        told = _ASKED.match(self._text)
        return told[1] if told else None

    @cached_property
    def not_in_full(self) -> frozenset[str]:
        """The columns that were not read to their ends: as whoever walked wrote down, else where the walk broke off."""
        if self.asked is None:
            return frozenset(filter(None, [self._broken_off]))
        found = set()
        for line in self._text.split("\n"):
            if not line.startswith("#"):
                break
            told = _CUT.match(line)
            found |= {told[1]} if told else set()
        return frozenset(found)

    @property
    def _broken_off(self) -> str | None:
        """The column in which the walk ends too early: with fewer entries than an earlier column of the same table."""
        lines = reversed(self._text.split("\n"))
        last = next((line for line in lines if _HEAD.match(line.encode("utf-8", "surrogateescape"))), "")
        identifier = last.partition(" = ")[0].strip().lstrip(".")
        column = next((c for c in self._columns if identifier.startswith(c + ".")), None)
        if column is None:
            return None
        table = column.rpartition(".")[0]
        others = [len(entries) for c, entries in self._columns.items() if c != column and c.startswith(table + ".")]
        return column if len(self._columns[column]) < max(others, default=0) else None

    def _read(self, column: str, read: Callable[[str, str], _Value | None]) -> dict[Index, _Value]:
        found = {}
        for index, text in self._columns[column]:
            told = _KIND.match(text)
            value = read(told[1], told[2]) if told else read("", text)
            place = _index(index)
            if value is not None and place:
                found[place] = value
        return found

    def texts(self, column: str) -> dict[Index, str]:
        """The values of a column as text; hex strings as the text they spell, if they do."""
        return self._read(column, _as_text)

    def numbers(self, column: str) -> dict[Index, int]:
        """The values of a column as whole numbers; what is none is left out."""
        return self._read(column, _as_number)

    def pointers(self, column: str) -> dict[Index, Index]:
        """The values of a column that are object identifiers themselves."""
        return self._read(column, _as_identifier)

    def octets(self, column: str) -> dict[Index, bytes]:
        """The values of a column as octets, whether they were printed as hex or as text."""
        return self._read(column, _as_octets)


@lru_cache(65_536)
def _index(text: str) -> Index:
    """The numbers of an index: every instance has one, even a single value has 0; empty if it is none."""
    place = text.strip(".")
    return tuple(map(int, place.split("."))) if place and ".." not in place and len(place) < 1000 else ()


def _as_number(kind: str, value: str) -> int | None:
    if value.isdecimal() and len(value) < 25:
        return int(value)
    digits = re.search(r"-?\d+", value) if kind != "Hex-STRING" else None
    return int(digits[0]) if digits is not None and len(digits[0]) < 25 else None


def _as_identifier(kind: str, value: str) -> Index | None:
    parts = value.strip().strip(".").split(".")
    return tuple(map(int, parts)) if all(part.isdecimal() and len(part) < 11 for part in parts) else None


def _as_text(kind: str, value: str) -> str:
    if kind == "Hex-STRING":
        octets = _as_octets(kind, value)
        try:
            text = octets.rstrip(b"\0").decode("utf-8")
        except UnicodeDecodeError:
            return octets.hex(":")
        return text if text.isprintable() else octets.hex(":")
    return _unquoted(value)


def _unquoted(value: str) -> str:
    value = value.rstrip("\r")
    if len(value) >= 2 and value[0] == value[-1] == '"':
        return value[1:-1].replace('\\"', '"').replace("\\\\", "\\")
    return value


def _as_octets(kind: str, value: str) -> bytes:
    if kind == "Hex-STRING":
        return bytes.fromhex("".join(value.split())) if _HEX.fullmatch(value) else b""
    return _unquoted(value).encode("utf-8", "surrogateescape")
