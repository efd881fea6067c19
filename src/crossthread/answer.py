"""What every answer has in common: one short line, a table for notebooks and data frames, JSON."""

from __future__ import annotations

import re
from collections.abc import Iterator
from html import escape
from typing import TYPE_CHECKING, Any, ClassVar

import msgspec

from crossthread.values import VlanSet

if TYPE_CHECKING:
    import pandas

_SHOWN = 20
"""How many rows a notebook shows."""
_UNSAFE = re.compile(r"[\x7f-\x9f\u200b-\u200f\u2028-\u202e\u2060-\u206f\ufeff]")


class Answer(msgspec.Struct, frozen=True):
    """An answer: a frozen record.

    Attributes
    ----------
    ROWS
        The field that holds what the answer lists, if it lists anything.
    COLUMNS
        What to call the parts of an entry that has no names for them.
    """

    ROWS: ClassVar[str] = ""
    COLUMNS: ClassVar[tuple[str, ...]] = ()

    def __repr__(self) -> str:
        return f"<{type(self).__name__}: {', '.join(self._told())}>"

    def _told(self) -> Iterator[str]:
        """Short facts: single values as they are, of anything longer how much there is."""
        for name in self.__struct_fields__:
            value = getattr(self, name)
            if isinstance(value, (str, int, float)) and len(str(value)) < 60:
                yield f"{name} {value}"
            elif isinstance(value, (tuple, dict)) and value:
                yield f"{len(value):,} {name}"

    def records(self) -> list[dict[str, object]]:
        """What the answer lists, row by row, in plain values: VLAN sets, places and the like as text."""
        return [_row(entry, self.COLUMNS) for entry in getattr(self, self.ROWS)] if self.ROWS else [_row(self, ())]

    def to_frame(self) -> pandas.DataFrame:
        """What the answer lists as a data frame; needs pandas (`pip install 'crossthread[frames]'`)."""
        import pandas as pd

        return pd.DataFrame.from_records(self.records())

    def to_json(self) -> str:
        """The whole answer as JSON in which nothing can steer a terminal, whatever a neighbour called itself."""
        return json_of(self)

    def _repr_html_(self) -> str:
        listed = self.records() if self.ROWS else []
        head = f"<p>{escape(repr(self))}</p>"
        if not listed:
            return head
        columns = [name for name in listed[0] if any(row[name] not in (None, "") for row in listed[:_SHOWN])]
        cells = "".join(f"<th>{escape(name)}</th>" for name in columns)
        body = "".join(
            "<tr>" + "".join(f"<td>{escape(str('' if row[n] is None else row[n]))}</td>" for n in columns) + "</tr>"
            for row in listed[:_SHOWN]
        )
        more = f"<p>and {len(listed) - _SHOWN:,} more</p>" if len(listed) > _SHOWN else ""
        return f"{head}<table><tr>{cells}</tr>{body}</table>{more}"


def json_of(answer: object) -> str:
    """Anything that an answer consists of as indented JSON."""
    text = msgspec.json.format(msgspec.json.encode(answer, enc_hook=_encoded), indent=2).decode()
    return _UNSAFE.sub(lambda found: f"\\u{ord(found.group()):04x}", text)


def _encoded(value: object) -> object:
    if isinstance(value, VlanSet):
        return str(value)
    raise NotImplementedError(f"{type(value).__name__} in an answer")


def _row(entry: Any, names: tuple[str, ...]) -> dict[str, object]:
    if isinstance(entry, msgspec.Struct):
        return {name: _plain(getattr(entry, name)) for name in entry.__struct_fields__}
    return {name: _plain(value) for name, value in zip(names, entry, strict=True)}


def _plain(value: object) -> object:
    if value is None or isinstance(value, (str, int, float)):
        return value
    if isinstance(value, msgspec.Struct) and type(value).__str__ is object.__str__:
        parts = (getattr(value, name) for name in value.__struct_fields__)
        return " ".join(str(_plain(part)) for part in parts if part not in (None, ()))
    if isinstance(value, (tuple, list)):
        return "; ".join(str(_plain(part)) for part in value)
    return str(value)
