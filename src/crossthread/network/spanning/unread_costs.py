"""What ports of a tree do whatever a few costs are that nobody read."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from itertools import product
from typing import NamedTuple

from crossthread.network.spanning.roles import Role
from crossthread.network.topology.adjacency import Adjacency
from crossthread.network.topology.graph import joined
from crossthread.network.topology.names import End
from crossthread.survey.records import Tree

_LEAST, _MOST = 1, 200_000_000
"""Between these is the path cost of a port (IEEE 802.1D-2004 clause 17.14)."""
_FEW = 4
"""Of so many costs each is tried at its least and at its most."""


def forwarding_at_any_cost(
    members: Mapping[str, Tree],
    links: Sequence[Adjacency],
    unread: Sequence[End],
    roles_at: Callable[[Mapping[End, int]], Mapping[End, Role]],
) -> Mapping[End, bool]:
    """Whether ports forward, where that is the same for all that unread costs may be.

    What a way to the root costs more than another rises or falls steadily with each cost. So what beats all others with
    each of them at its least and at its most, in all combinations, does so with any between: the root port of a bridge,
    and the designated port of a medium. Where those are the same, so is what a port does; that it forwards, now as the
    one and now as the other, is not enough. On a medium of several bridges equals may be told apart otherwise between.

    Parameters
    ----------
    members
        The bridges that take part, with what they say of the tree.
    links
        The links between bridges that are up.
    unread
        The ports of which nobody read what they cost.
    roles_at
        The roles by the standard, if those ports cost that much.

    Returns
    -------
    Mapping[End, bool]
        Nothing where too many costs are unread, or bridges, or there are regions.
    """
    if not unread or any(row.priority is None or not row.address or row.protocol == "mstp" for row in members.values()):
        return {}
    parts = joined((link.a.device, link.b.device) for link in links)
    first: dict[str, tuple[int, str, str]] = {}
    for device, row in members.items():
        own, part = (row.priority or 0, row.address or "", device), parts.get(device, device)
        first[part] = min(first.get(part, own), own)
    # A root hears of no better way to itself: what its own ports cost decides nothing.
    decisive = [end for end in unread if first[parts.get(end.device, end.device)][2] != end.device]
    found: dict[End, _Kept] | None = None
    for costs in product((_LEAST, _MOST), repeat=len(decisive)) if len(decisive) <= _FEW else ():
        now = _kept(roles_at(dict.fromkeys(unread, _LEAST) | dict(zip(decisive, costs, strict=True))))
        found = now if found is None else {end: kept for end, kept in found.items() if now.get(end) == kept}
    return {end: kept.forwards for end, kept in (found or {}).items()}


class _Kept(NamedTuple):
    """What has to stay as it is of a port: what it does, its bridge's root port, and its medium's designated one."""

    forwards: bool
    role: str
    root: End | None
    designated: End


def _kept(roles: Mapping[End, Role]) -> dict[End, _Kept]:
    root = {end.device: end for end, role in roles.items() if role.role == "root"}
    sharing = Counter(role.designated for role in roles.values())
    return {
        end: _Kept(role.forwards, role.role, root.get(end.device), role.designated)
        for end, role in roles.items()
        if sharing[role.designated] <= 2
    }
