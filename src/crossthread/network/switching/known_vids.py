"""The VLANs that a survey speaks of."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import islice

from crossthread.network.three_valued import EVERY_VID, vids_in
from crossthread.survey import Survey
from crossthread.values import VID_MAX


def find_known_vids(survey: Survey) -> int:
    """The VIDs that a survey speaks of one by one, as bits."""
    tables = (("vlans", "vid"), ("ports", "pvid"), ("gateways", "vid"), ("hosts", "vid"))
    found = {vid for table, column in tables for vid in survey.distinct(table, column)}
    return sum(1 << vid for vid in found if vid)


def find_vids(survey: Survey) -> int:
    """What a frame may be in whose VLAN nobody observed, as bits: the VIDs that a survey tells, and two of each kind.

    Of one kind are all those others that no list tells apart. With one alone of each, two ports of which nothing was
    observed would be in one VLAN for sure.
    """
    known = find_known_vids(survey) | sum(1 << vid for vid in set(_alone(survey)))
    lists = {held for table, column in _LISTS for held in survey.distinct(table, column) if held is not None}
    kinds = [EVERY_VID & ~known]
    for held in lists:
        kinds = [part for kind in kinds for part in (kind & held.bits, kind & ~held.bits) if part]
    return known | sum(1 << vid for kind in kinds for vid in islice(vids_in(kind), 2))


def _alone(survey: Survey) -> Iterator[int]:
    """The VIDs that are treated otherwise than others and are in no list: for phones, or by trees of their own."""
    yield from filter(None, survey.distinct("ports", "voice"))
    trees = set(zip(survey.column("trees", "protocol"), survey.column("trees", "instance"), strict=True))
    yield from (vid for protocol, vid in trees if protocol == "per-vlan" and 0 < vid <= VID_MAX)


_LISTS = (("ports", "allowed"), ("ports", "untagged"), ("trees", "vlans"))
TELLING_VIDS_APART = frozenset(
    {*(f"{table}.{column}" for table, column in _LISTS), "ports.voice", "trees.instance", "trees.protocol"}
)
"""The columns by which VIDs are told apart of which the survey does not speak one by one."""

_FEW = 128
"""A list of more VLANs than this, such as 1-99 101-4094, says what a port keeps out, and not what is there."""


def find_named_vids(survey: Survey, most: int = _FEW) -> int:
    """The VIDs that a survey speaks of, also in a list of at most so many that a port lets through, as bits."""
    found = find_known_vids(survey)
    for allowed in survey.distinct("ports", "allowed"):
        found |= allowed.bits if allowed is not None and allowed.bits.bit_count() <= most else 0
    return found


def speaks_of(survey: Survey, vid: int) -> bool:
    """Whether a survey speaks of a VLAN at all, also in a long list; not if only `all` includes it."""
    return bool(find_named_vids(survey, EVERY_VID.bit_count() - 1) >> vid & 1)
