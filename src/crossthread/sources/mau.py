"""The kinds of Ethernet transceivers, by which devices tell the speed and the duplex of a link."""

from __future__ import annotations

from typing import NamedTuple


class Running(NamedTuple):
    """How a link runs: Mb/s, and `full` or `half` duplex; None: the kind does not say."""

    speed: int | None = None
    duplex: str | None = None


def running(kind: int) -> Running:
    """What the number of a MAU type means (IANA-MAU-MIB, RFC 4836; operational MAU type of IEEE 802.3 clause 79).

    Examples
    --------
    >>> running(16)
    Running(speed=100, duplex='full')
    >>> running(0)
    Running(speed=None, duplex=None)
    """
    speed = next((speed for kinds, speed in _SPEEDS if kind in kinds), None)
    duplex = "half" if kind in _HALF else "full" if speed is not None and kind not in _EITHER else None
    return Running(speed, duplex)


def highest(capable: bytes) -> int | None:
    """The highest speed among the kinds that a port can negotiate, in Mb/s (IANAifMauAutoNegCapBits, RFC 4836).

    Examples
    --------
    >>> highest(bytes([0x6C, 0x01])), highest(bytes([0x80, 0x00]))
    (1000, None)
    """
    bits = {bit for bit in range(8 * len(capable)) if capable[bit // 8] << bit % 8 & 0x80}
    return max((speed for speed, kinds in _NEGOTIATED.items() if bits & kinds), default=None)


_SPEEDS = (
    (range(1, 14), 10), (range(14, 21), 100), (range(44, 47), 100), (range(21, 31), 1000), (range(47, 54), 1000),
    ((56,), 1000), (range(31, 42), 10_000), ((54, 55, 57, 58), 10_000),
)  # fmt: skip
_HALF = frozenset({10, 12, 15, 17, 19, 21, 23, 25, 27, 29})
_EITHER = frozenset({*range(1, 10), 14})
"""Kinds that have no other of the other duplex beside them, and so say nothing of it."""
_NEGOTIATED = {10: {1, 2}, 100: {3, 4, 5, 6, 7}, 1000: {12, 13, 14, 15}}
"""The bits of what can be negotiated, by speed."""
