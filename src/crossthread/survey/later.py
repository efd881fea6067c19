"""Tables that few questions look at: their rows are made when they are asked for.

Where they are large and there is a processor to spare, another process sees meanwhile whether they can be read at all.
It sends back no rows, as that would take as long as making them, but only how many there are and of which contents.
"""

from __future__ import annotations

import os
import sys
from collections.abc import Callable, Iterator, Mapping, Sequence
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Generic, TypeVar, overload
from zlib import crc32

from crossthread.survey.problems import Problem
from crossthread.survey.tables import Row

if TYPE_CHECKING:
    from subprocess import Popen

TABLES = ("macs", "arp")
_WORTH = 2_000_000
"""From how many bytes on a second process is quicker."""
_R = TypeVar("_R", bound=Row)


class Later(Sequence[_R], Generic[_R]):
    """The rows of a table that can be read, and is not yet.

    Parameters
    ----------
    make
        Reads them.
    count
        How many there are.
    """

    def __init__(self, make: Callable[[], tuple[_R, ...]], count: int) -> None:
        self._make, self._count = make, count

    @cached_property
    def _rows(self) -> tuple[_R, ...]:
        return self._make()

    @overload
    def __getitem__(self, index: int) -> _R: ...
    @overload
    def __getitem__(self, index: slice) -> tuple[_R, ...]: ...
    def __getitem__(self, index: int | slice) -> _R | tuple[_R, ...]:
        return self._rows[index]

    def __iter__(self) -> Iterator[_R]:
        return iter(self._rows)

    def __len__(self) -> int:
        return self._count

    def __eq__(self, other: object) -> bool:
        return self is other or (isinstance(other, Sequence) and self._rows == tuple(other))

    def __hash__(self) -> int:
        return hash(self._rows)


class Looker:
    """Another process that looks whether some tables can be read.

    Parameters
    ----------
    files
        The tables of a survey by name.
    """

    def __init__(self, files: Mapping[str, Path]) -> None:
        self._files = [files[name] for name in TABLES if name in files]
        self._process = self._start() if self._is_worth_it() else None

    def _is_worth_it(self) -> bool:
        if getattr(sys, "frozen", False) or not sys.executable:  # it is no interpreter that could be started again
            return False
        spare = len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1
        try:
            return spare > 1 and sum(file.stat().st_size for file in self._files) > _WORTH
        except OSError:
            return False

    def _start(self) -> Popen[str] | None:
        from subprocess import DEVNULL, PIPE, Popen

        command = [sys.executable, "-P", "-m", __name__, *map(str, self._files)]
        try:
            return Popen(command, stdin=DEVNULL, stdout=PIPE, stderr=DEVNULL, text=True, errors="replace")
        except OSError:
            return None

    @cached_property
    def _said(self) -> dict[str, tuple[int, int]]:
        if self._process is None:
            return {}
        lines = [line.split() for line in self._process.communicate()[0].splitlines()]
        good = [words for words in lines if len(words) == 3 and "".join(words[1:]).isdecimal()]
        return {name: (int(count), int(crc)) for name, count, crc in good}

    def rows(self, name: str, data: bytes) -> int | None:
        """How many rows a table with these contents has, one on each line; None if it has to be looked at here."""
        count, crc = self._said.get(name, (0, -1))
        return count if crc == crc32(data) else None


def main(paths: Sequence[str]) -> None:
    """Say of each table that can be read how many rows it has, and of which contents this holds."""
    from crossthread.survey.reading import read_table

    for file in map(Path, paths):
        problems: list[Problem] = []
        data = file.read_bytes()
        builder = read_table(file.stem, data, problems)
        if builder is not None and not problems and not builder.problems and not builder.unknown:
            count = len(builder.lines)
            if builder.lines == range(2, count + 2):
                sys.stdout.write(f"{file.stem} {count} {crc32(data)}\n")


if __name__ == "__main__":
    main(sys.argv[1:])
