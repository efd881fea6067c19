"""Three-valued answers: true, false, or None for "it turns on something that was not observed"."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Literal, NamedTuple

from crossthread.values import VID_MAX

Truth = bool | None

Verdict = Literal["works", "fails", "unknown"]
VERDICTS: dict[Truth, Verdict] = {True: "works", False: "fails", None: "unknown"}
"""What answers call them."""

EVERY_VID = (1 << (VID_MAX + 1)) - 2


def all_of(parts: Iterable[Truth]) -> Truth:
    """True if all are, False if one is not, else unknown (Kleene's conjunction)."""
    found: Truth = True
    for part in parts:
        if part is False:
            return False
        if part is None:
            found = None
    return found


def any_of(parts: Iterable[Truth]) -> Truth:
    """True if one is, False if none is, else unknown (Kleene's disjunction)."""
    found: Truth = False
    for part in parts:
        if part:
            return True
        if part is None:
            found = None
    return found


def agreed(cases: Iterable[Truth]) -> Truth:
    """What holds in each of several cases, of which nobody knows which it is; unknown if that differs."""
    found = set(cases)
    return found.pop() if len(found) == 1 else None


def vids_in(bits: int) -> Iterator[int]:
    """The VIDs of a set given as an integer, in order."""
    while bits:
        low = bits & -bits
        yield low.bit_length() - 1
        bits ^= low


class Bounds(NamedTuple):
    """A VLAN set that is only partly known: the VIDs surely in it, and those possibly in it.

    Both are integers with a bit per VID; `sure` is part of `possible`.
    """

    sure: int
    possible: int

    @classmethod
    def exactly(cls, bits: int) -> Bounds:
        """A set that is fully known."""
        return cls(bits, bits)

    def both(self, other: Bounds) -> Bounds:
        """The intersection."""
        return Bounds(self.sure & other.sure, self.possible & other.possible)

    def without(self, other: Bounds) -> Bounds:
        """The difference."""
        return Bounds(self.sure & ~other.possible, self.possible & ~other.sure)

    def when(self, condition: Truth) -> Bounds:
        """The same set if the condition holds, else the empty set."""
        if condition:
            return self
        return NOTHING if condition is False else Bounds(0, self.possible)

    def has(self, vid: int) -> Truth:
        """Whether a VID is in the set."""
        return True if self.sure >> vid & 1 else (None if self.possible >> vid & 1 else False)


NOTHING = Bounds(0, 0)
ANYTHING = Bounds(0, EVERY_VID)
EVERYTHING = Bounds(EVERY_VID, EVERY_VID)
