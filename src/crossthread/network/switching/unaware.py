"""Bridges without regard to VLANs: which there are, and what frames without a tag are in on them.

Such a bridge passes every frame on as it came (IEEE 802.1D). A frame without a tag is in no VLAN there, but in one of
the bridges around: as long as these agree, it is taken to be in that.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable

from crossthread.network.switching.membership import membership
from crossthread.network.three_valued import Bounds, Truth
from crossthread.network.topology.adjacency import Adjacency
from crossthread.network.topology.graph import joined
from crossthread.network.topology.names import Names
from crossthread.survey import Survey
from crossthread.values import BARE


def find_bare(unaware: frozenset[str], adjacencies: Iterable[Adjacency], names: Names) -> dict[str, int]:
    """What frames without a tag are in on each bridge without regard to VLANs.

    That is the VLAN of the ports of other bridges that face it, or another such bridge that it is cabled to; `BARE` if
    these are not in one, or not known.
    """
    if not unaware:
        return {}
    inner, facing = [], defaultdict[str, set[int]](set)
    for adjacency in adjacencies:
        if adjacency.up is False:
            continue
        for near, far in ((adjacency.a, adjacency.b), (adjacency.b, adjacency.a)):
            if near.device in unaware and far.device in unaware:
                inner.append((near.device, far.device))
            elif near.device in unaware:
                port = membership(names.row(far))
                own = (port.pvid if port.untagged == Bounds.exactly(1 << port.pvid) else BARE) if port.pvid else BARE
                if port.pvid is None or port.untagged.possible:  # one that takes no untagged frames is of no account
                    facing[near.device].add(own)
    stands = joined(inner)
    found = defaultdict[str, set[int]](set)
    for device in unaware:
        found[stands.get(device, device)] |= facing[device]
    return {
        device: next(iter(vids)) if len(vids) == 1 else BARE
        for device in unaware
        for vids in [found[stands.get(device, device)]]
    }


def find_unaware(survey: Survey, names: Names) -> frozenset[str]:
    """The devices that are known to bridge without regard to VLANs."""
    told = zip(survey.column("devices", "device"), survey.column("devices", "vlan_aware"), strict=True)
    return frozenset(names.spelled[device] for device, aware in told if aware == "no")


def same_tagging(sender: str | None, receiver: str) -> Truth:
    """Whether a port takes the tag type of a frame for one; None where a bridge that knows no VLANs passed it on.

    Then it may be of any type, most likely the usual.
    """
    if sender in (None, receiver):
        return True
    if "" in (sender, receiver):
        return True if "802.1q" in (sender, receiver) else None
    return False
