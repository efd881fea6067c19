"""The VLANs that a survey speaks of."""

from __future__ import annotations

from crossthread.network.three_valued import EVERY_VID
from crossthread.survey import Survey


def find_known_vids(survey: Survey) -> int:
    """The VIDs that a survey speaks of one by one, as bits."""
    tables = (("vlans", "vid"), ("ports", "pvid"), ("gateways", "vid"), ("hosts", "vid"))
    found = {vid for table, column in tables for vid in survey.distinct(table, column)}
    return sum(1 << vid for vid in found if vid)


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
