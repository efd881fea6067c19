"""Tables that few questions look at: their rows are made when they are asked for."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from functools import cached_property
from typing import Generic, TypeVar, overload

from crossthread.survey.tables import Row

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

    def __init__(self, make: Callable[[], Sequence[_R]], count: int) -> None:
        self._make, self._count = make, count

    @cached_property
    def _rows(self) -> Sequence[_R]:
        return self._make()

    @overload
    def __getitem__(self, index: int) -> _R: ...
    @overload
    def __getitem__(self, index: slice) -> Sequence[_R]: ...
    def __getitem__(self, index: int | slice) -> _R | Sequence[_R]:
        return self._rows[index]

    def __iter__(self) -> Iterator[_R]:
        return iter(self._rows)

    def __len__(self) -> int:
        return self._count

    def __eq__(self, other: object) -> bool:
        return self is other or (isinstance(other, Sequence) and tuple(self._rows) == tuple(other))

    def __hash__(self) -> int:
        return hash(tuple(self._rows))
