"""The text of an SNMP walk with numeric object identifiers: `OID = TYPE: value`, a value may run over several lines."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator

Index = tuple[int, ...]
_LINE = re.compile(r"\.?(\d+(?:\.\d+)+) = (?:([A-Za-z][A-Za-z0-9-]*): ?)?(.*)", re.DOTALL)
_HEX = re.compile(r"[0-9A-Fa-f]{2}(?:\s+[0-9A-Fa-f]{2})*\s*")
_HEAD = re.compile(rb"\s*\.?1\.[0-3](?:\.\d+)+ = ")


def is_walk(data: bytes) -> bool:
    """Whether a file begins as a walk does."""
    return _HEAD.match(data) is not None


class Walk:
    """The values of some columns of a walk.

    Parameters
    ----------
    text
        The walk.
    wanted
        The object identifiers of the columns (and single values) that are kept; everything else is passed over.
    """

    def __init__(self, text: str, wanted: Iterable[str]) -> None:
        self._columns: dict[str, dict[Index, tuple[str, str]]] = {column: {} for column in wanted}
        depths = sorted({column.count(".") for column in self._columns})
        for identifier, kind, value in _entries(text):
            parts = identifier.split(".")
            for depth in depths:
                held = self._columns.get(".".join(parts[: depth + 1]))
                if held is not None:
                    held[tuple(map(int, parts[depth + 1 :]))] = (kind, value)
                    break

    def texts(self, column: str) -> dict[Index, str]:
        """The values of a column as text; hex strings as the text they spell, if they do."""
        return {index: _as_text(kind, value) for index, (kind, value) in self._columns[column].items()}

    def numbers(self, column: str) -> dict[Index, int]:
        """The values of a column as whole numbers; what is none is left out."""
        found = {}
        for index, (kind, value) in self._columns[column].items():
            digits = re.search(r"-?\d+", value) if kind != "Hex-STRING" else None
            if digits is not None and len(digits[0]) < 25:
                found[index] = int(digits[0])
        return found

    def octets(self, column: str) -> dict[Index, bytes]:
        """The values of a column as octets, whether they were printed as hex or as text."""
        return {index: _as_octets(kind, value) for index, (kind, value) in self._columns[column].items()}


def _entries(text: str) -> Iterator[tuple[str, str, str]]:
    """Every entry of a walk; a line that begins none goes on with the value before it."""
    held: tuple[str, str, str] | None = None
    for line in text.split("\n"):
        found = _LINE.match(line)
        if found is not None:
            if held is not None:
                yield held
            held = (found[1], found[2] or "", found[3].rstrip("\r"))
        elif held is not None and line:
            held = (held[0], held[1], f"{held[2]}\n{line.rstrip()}")
    if held is not None:
        yield held


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
    if len(value) >= 2 and value[0] == value[-1] == '"':
        return value[1:-1].replace('\\"', '"').replace("\\\\", "\\")
    return value


def _as_octets(kind: str, value: str) -> bytes:
    if kind == "Hex-STRING":
        return bytes.fromhex("".join(value.split())) if _HEX.fullmatch(value) else b""
    return _unquoted(value).encode("utf-8", "surrogateescape")
