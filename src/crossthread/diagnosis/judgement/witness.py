"""A witness: a fact that speaks for a setting."""

from __future__ import annotations

from typing import NamedTuple

from crossthread.diagnosis.judgement import weights


class Witness(NamedTuple):
    """A fact that speaks for a setting, or, with a weight below 0, against it."""

    weight: float
    says: str
    """Empty if it is not told."""


def agreeing(count: int, says: str, each: float = weights.PEER, most: float = weights.PEERS) -> list[Witness]:
    """One witness for several of a kind that agree; none if there are none."""
    return [Witness(min(count * each, most), says)] if count else []
