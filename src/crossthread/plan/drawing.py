"""A drawing as a list: the cables that somebody documented."""

from __future__ import annotations

import csv
from pathlib import Path

import msgspec

from crossthread.errors import Problem, SurveyError

_COLUMNS = ("device", "port", "far_device", "far_port")


class DrawnCable(msgspec.Struct, frozen=True, omit_defaults=True):
    """A cable as somebody documented it; `extra` are the list's other columns, with what stands there."""

    device: str
    port: str
    far_device: str
    far_port: str
    extra: tuple[tuple[str, str], ...] = ()

    def __str__(self) -> str:
        return f"{self.device} {self.port} – {self.far_device} {self.far_port}"


def read_drawing(path: str | Path) -> list[DrawnCable]:
    """Read a documented list of cables: CSV with the columns device, port, far_device, far_port.

    Raises
    ------
    SurveyError
        If it cannot be read: every problem at once.
    """
    label = str(path)
    try:
        with open(path, newline="", encoding="utf-8-sig") as file:
            reader = csv.DictReader(file, strict=True)
            rows = [(reader.line_num, row) for row in reader]
    except (OSError, UnicodeDecodeError, csv.Error) as error:
        says = f"cannot be read: {getattr(error, 'strerror', None) or error}"
        raise SurveyError([Problem(label, says)]) from None
    lacking = [column for column in _COLUMNS if column not in (reader.fieldnames or ())]
    wrong = [Problem(label, f"expected a column {column}", 1) for column in lacking]
    if not wrong:
        wrong = [Problem(label, f"{c}: empty, expected a name", n) for n, row in rows for c in _COLUMNS if not row[c]]
    if wrong:
        raise SurveyError(wrong)
    others = [column for column in reader.fieldnames or () if column not in _COLUMNS]
    return [
        DrawnCable(
            device=row["device"].strip(),
            port=row["port"].strip(),
            far_device=row["far_device"].strip(),
            far_port=row["far_port"].strip(),
            extra=tuple((name, row[name] or "") for name in others),
        )
        for _, row in rows
    ]
