"""Who is the root of a spanning tree, and how it became one; or who is only believed to be."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping, Sequence

import msgspec

from crossthread.network.network import Network
from crossthread.network.spanning.roles import BridgeId
from crossthread.survey.records import Tree


class TreeRoot(msgspec.Struct, frozen=True):
    """A root: its identifier, and how it became root.

    `set` by a priority, by `default` through its MAC address, `alone` in its part; or `reported` by bridges for which
    it could not be computed: by itself, or as one that is in another part of the survey, only heard of, or not known at
    all.
    """

    device: str
    identifier: str
    how: str
    because: str


def reported_roots(network: Network, rows: Mapping[str, Tree]) -> dict[str, TreeRoot]:
    """The roots that bridges believe in for which none can be computed, by address; most believed first."""
    believed: dict[str, list[Tree]] = defaultdict(list)
    for row in rows.values():
        if row.root_address:
            believed[row.root_address].append(row)
    owners = {
        row.address: device
        for held in network.fabric.trees.bridges.values()
        for row in held
        if row.address
        for device in [network.names.spelled[row.device]]
    }
    found = {}
    for address, believers in sorted(believed.items(), key=lambda entry: -len(entry[1])):
        who = ", ".join(row.device for row in believers[:3])
        more = f" and {len(believers) - 3} more" if len(believers) > 3 else ""
        own = owners.get(address)
        if own is not None and any(row.device == own for row in believers):
            name, because = own, "it says so itself"
        elif own is not None:
            name, because = own, f"reported by {who}{more}; it is in another part of the survey"
        else:
            name, because = _heard_as(network, address, f"reported by {who}{more}")
        priority = next((row.root_priority for row in believers if row.root_priority is not None), None)
        found[address] = TreeRoot(name, f"{'?' if priority is None else priority}/{address}", "reported", because)
    return found


def _heard_as(network: Network, address: str, told: str) -> tuple[str, str]:
    """What a root is called that was not surveyed, and how it is known."""
    for entry in network.loose:
        if entry.row.neighbor_chassis == address:
            return entry.row.neighbor or address, f"{told}; only heard of, at {entry.end}"
    return address, f"{told}; nobody surveyed it"


def root_of(device: str, own: BridgeId, lowest: Sequence[BridgeId], one_of: bool) -> TreeRoot:
    """How a root became one; `lowest` are the two best identifiers of its part, one of several perhaps."""
    rival = next((other for other in lowest if other != own), None)
    if rival is None:
        return TreeRoot(device, str(own), "alone", "it is the only bridge of its part")
    if own.priority < rival.priority:
        because = f"its priority {own.priority} is the lowest; the next is {rival.priority}"
        return TreeRoot(device, str(own), "set", because)
    because = f"{own.address} is the lowest MAC address of all {'in its part ' * one_of}with priority {own.priority}"
    return TreeRoot(device, str(own), "default", because)
