"""Findings about pairs that work, but only by luck."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import pairwise

import msgspec

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.findings import Finding, at_port
from crossthread.diagnosis.registry import rule
from crossthread.diagnosis.rules.vlan import vlan_leak
from crossthread.network.topology.names import End
from crossthread.views.way import Hop


@rule("vlan-leak", "VLAN")
def way_leaks(context: Context, path: Sequence[Hop]) -> Iterator[Finding]:
    """A pair works only because a link joins two VLANs into one.

    Matters: whoever sets the two ends of that link right cuts the pair.
    Notice: nothing, until then; the two hosts' ports are in different VLANs.
    Confirm: follow the VLAN along the way: it changes between two bridges without a gateway.
    Mend: put both hosts into the VLAN of their subnet first, and then make the ends of the link agree.
    """
    for near, far in pairwise(path):
        if near.kind == far.kind == "bridge" and near.vid != far.vid and near.leaves and far.enters:
            for adjacency in context.adjacencies_at.get(End(near.name, near.leaves), ()):
                found = vlan_leak(context, adjacency)
                if found is not None and adjacency.far(End(near.name, near.leaves)) == End(far.name, far.enters):
                    says = f"The way goes from VLAN {near.vid} into VLAN {far.vid} by a leak. {found.says}"
                    yield msgspec.structs.replace(found, says=says)


@rule("way-one-sided", "VLAN")
def way_one_sided(context: Context, path: Sequence[Hop], back: Sequence[Hop]) -> Iterator[Finding]:
    """Frames between two stations go one way there and another back, as each link works in one direction only.

    Matters: both ways have to stay up, and neither end shows anything wrong.
    Notice: nothing, until one of the two links fails; then the pair is cut though the other link is up.
    Confirm: look at which VLANs each end of the two links lets in and out, tagged and untagged.
    Mend: make the two ends of each of these links agree.
    """
    there, answers = _stretches(path), _stretches(back)
    for stations, ends in there.items():
        other = answers.get(stations)
        if other is not None and other != ends:
            aside = sorted(ends ^ other)
            rows = [row for row in map(context.port, aside) if row is not None]
            yield Finding(
                "way-one-sided",
                "risks",
                tuple(map(at_port, aside)),
                f"Frames between {' and '.join(sorted(stations))} go by {_listed(ends - other)} and come back by "
                f"{_listed(other - ends)}.",
                tuple(fact for row in rows for fact in context.evidence(row, "mode", "pvid", "allowed")),
            )


def _stretches(path: Sequence[Hop]) -> dict[frozenset[str], frozenset[End]]:
    """The ports that a path uses between each two stations."""
    found: dict[frozenset[str], frozenset[End]] = {}
    last, ends = "", set[End]()
    for hop in path:
        if hop.kind == "bridge":
            ends |= {End(hop.name, port) for port in (hop.enters, hop.leaves) if port}
            continue
        name = hop.name + (f" {hop.interface}" if hop.interface else "")
        if ends:
            found[frozenset((last, name))] = frozenset(ends)
        last, ends = name, set()
    return found


def _listed(ends: frozenset[End]) -> str:
    return " and ".join(map(str, sorted(ends))) or "the same links but one"
