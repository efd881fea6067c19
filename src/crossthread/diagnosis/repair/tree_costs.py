"""Path costs with which the spanning tree uses a link that it blocks now."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import msgspec

from crossthread.diagnosis.caution import cautious
from crossthread.diagnosis.context import Context
from crossthread.diagnosis.findings import Finding
from crossthread.network.topology.names import End
from crossthread.survey.changes import Change

_FAR_TOO_MUCH = 200_000_000
"""The highest path cost (IEEE 802.1D-2004 table 17-3)."""


def opened(context: Context, finding: Finding) -> Finding:
    """A finding of a blocked link with a path cost that opens it; any other finding as it is."""
    if finding.rule != "tree-blocks-vlan" or finding.repair:
        return finding
    ends = [End(s.device, s.port) for s in finding.subjects if s.device and s.port]
    vid = next((s.vid for s in finding.subjects if s.vid), 0)
    says = f"The spanning tree blocks {' and '.join(map(str, ends))} and takes VLAN {vid} another way."
    for changes in _costs(context, ends, vid):
        trees = context.network.mended(changes).fabric.trees
        facing = [a.far(end) for end in ends for a in context.adjacencies_at.get(end, ())]
        if all(trees.forwarding(end).has(vid) for end in (*ends, *facing)):
            return cautious(context, msgspec.structs.replace(finding, says=says, repair=changes))
    return msgspec.structs.replace(finding, says=says)


def _costs(context: Context, ends: Sequence[End], vid: int) -> Iterator[tuple[Change, ...]]:
    """Make the blocked port cheap; or make the root port of its bridge dear."""
    trees = context.network.fabric.trees
    for end in ends:
        for instance, vids in trees.instances(end.device).items():
            if not vids.possible >> vid & 1:
                continue
            yield (_cost(end, instance, 1),)
            for other, role in trees.compute(instance).items():
                if other.device == end.device and role.role == "root":
                    yield (_cost(other, instance, _FAR_TOO_MUCH),)


def _cost(end: End, instance: int, cost: int) -> Change:
    return Change("tree_ports", {"device": end.device, "port": end.port, "instance": instance}, {"cost": cost})
