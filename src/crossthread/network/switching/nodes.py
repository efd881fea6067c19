"""The points and steps of the layer-2 graph: VLANs on devices, and the crossings between them."""

from __future__ import annotations

from typing import NamedTuple

import msgspec

from crossthread.network.topology.adjacency import Adjacency
from crossthread.network.topology.names import End
from crossthread.network.topology.open_ends import OUTSIDE


class Node(NamedTuple):
    """A VLAN on a device."""

    device: str
    vid: int


BEYOND = Node(OUTSIDE.device, 0)
"""What is beyond all open ends, as one node: a frame may come out of it at any of them, in any VLAN."""


class Crossing(msgspec.Struct, frozen=True):
    """One direction of an adjacency: what a frame needs to get from one bridge into the next.

    Either end may be `OUTSIDE`, what is beyond an open end.
    """

    near: End
    far: End
    adjacency: Adjacency


class Reached(msgspec.Struct, frozen=True):
    """How a flood came to a node: over how many crossings that were not fully observed, and by which last one."""

    unknown: int
    hops: int
    came_from: Node | None
    crossing: Crossing | None
    tagged: bool
