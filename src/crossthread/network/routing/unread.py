"""Routers that nobody read: where one may be, whose questions it may answer, and to whom it may pass packets on.

Such a router is beyond an open end, or is a device of which the gateways were not read. It may have any address that
nobody is known to have, and any route.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from functools import cached_property
from typing import NamedTuple

from crossthread.network.coverage import Covered
from crossthread.network.hosts.station import HostStation, Interface, Station
from crossthread.network.routing.routes import Routing
from crossthread.network.switching.nodes import BEYOND, Node
from crossthread.network.switching.segments import Fabric
from crossthread.network.three_valued import vids_in
from crossthread.network.topology.adjacency import Adjacency
from crossthread.network.topology.names import End
from crossthread.network.topology.open_ends import OpenEnd


class Exit(NamedTuple):
    """An open end by which what a station sends may leave the known part of the network.

    Attributes
    ----------
    unknown, hops
        Over how many crossings that were not fully observed it is reached, and over how many in all.
    vid
        The VLAN in which the frame is there; None where it is beyond the end already.
    """

    unknown: int
    hops: int
    vid: int | None
    beyond: OpenEnd


class Unread:
    """All routers of a network that nobody read, as one."""

    def __init__(
        self,
        covered: Covered,
        routing: Routing,
        gateways: Sequence[Interface],
        fabric: Fabric,
        adjacencies_at: Mapping[End, Sequence[Adjacency]],
    ) -> None:
        self._covered, self._routing, self._gateways = covered, routing, gateways
        self._fabric, self._adjacencies_at = fabric, adjacencies_at
        self._hears: dict[Station, bool] = {}
        self._heard: dict[Station, bool] = {}

    @cached_property
    def devices(self) -> frozenset[str]:
        """The surveyed devices that may have interfaces which nobody read, and may route."""
        return frozenset(
            device
            for device in self._covered.surveyed
            if not self._covered.fully(device, "gateways") and self._routing.on(device) is not False
        )

    def routes_of(self, device: str) -> bool:
        """Whether a device may have routes that nobody read."""
        return device in self.devices or not self._covered.fully(device, "routes")

    @cached_property
    def _places(self) -> frozenset[Node]:
        """The VLANs on devices in which such a router may hear what is sent."""
        fabric = self._fabric
        found = {BEYOND} if fabric.open_ends else set[Node]()
        for device in self.devices:
            found |= {Node(device, vid) for vid in vids_in(fabric.exists(device).possible & fabric.vids)}
            for crossing in fabric.out.get(device, ()):
                far = crossing.far
                if far.device:
                    out = fabric.carried(far).possible & fabric.forwarding(far).possible & fabric.vids
                    found |= {Node(far.device, vid) for vid in vids_in(out)}
        return frozenset(found)

    @cached_property
    def anywhere(self) -> bool:
        """Whether there may be anything at all that has an address which nobody read."""
        covered = self._covered
        return bool(self._fabric.open_ends) or not all(covered.fully(d, "gateways") for d in covered.surveyed)

    @property
    def routes(self) -> bool:
        """Whether there may be a router that nobody read; a device that says that it does not route is none."""
        return bool(self._fabric.open_ends or self.devices)

    def hears(self, station: Station) -> bool:
        """Whether such a router may get what a station sends on its own segment."""
        if station not in self._hears:
            self._hears[station] = any(self._may_meet(one, sends=True) for one in station.wherever)
        return self._hears[station]

    def heard_by(self, station: Station) -> bool:
        """Whether a station may get what such a router sends."""
        if station not in self._heard:
            self._heard[station] = any(self._may_meet(one, sends=False) for one in station.wherever)
        return self._heard[station]

    def _may_meet(self, station: Station, sends: bool) -> bool:
        places = self._places
        if station.up is False:
            return False
        if any(not tap.device for tap in station.taps):
            return True  # it is plugged in nobody knows where, or beyond an open end
        if not places:
            return False
        if self._on_one_wire(station):
            return True
        fabric = self._fabric
        for tap in station.taps:
            vids = (tap.enters if sends else tap.leaves).possible & fabric.vids
            for node in tap.enter(vids_in(vids)):
                if node in places or (node in self._reachable if not sends else self._may_lead(node)):
                    return True
        return False

    def _may_lead(self, node: Node) -> bool:
        """Whether a frame in some VLAN on a device may get to such a router."""
        fabric = self._fabric
        if fabric.parting:
            return not self._places.isdisjoint(fabric.flood(node))
        started = node == BEYOND or fabric.exists(node.device).has(node.vid) is not False
        return started and any(fabric.possibly.leads(node, place) for place in self._places)

    def exits(self, station: Station) -> list[Exit]:
        """The open ends by which what a station sends may get beyond the known part, the surest and nearest first."""
        found: dict[End, Exit] = {}
        floods = [
            self._fabric.flood(node)
            for one in station.wherever
            for tap in one.taps
            if tap.device
            for node in tap.enter(vids_in(tap.enters.possible & self._fabric.vids))
        ]
        for flood in floods:
            for crossing in self._fabric.leading_out:
                for vid in vids_in(self._fabric.leaving(crossing.near) & self._fabric.vids):
                    reached = flood.get(Node(crossing.near.device, vid))
                    if reached is not None:
                        here = Exit(reached.unknown, reached.hops, vid, self._fabric.open_ends[crossing.near])
                        found[crossing.near] = min(found.get(crossing.near, here), here, key=lambda one: one[:2])
        return sorted(found.values(), key=lambda one: one[:2])

    def devices_near(self, station: Station) -> set[str]:
        """The devices that what a station sends may get to, without going beyond the known part."""
        return {
            device
            for one in station.wherever
            for tap in one.taps
            if tap.device
            for start in tap.enter(vids_in(tap.enters.possible & self._fabric.vids))
            for node in self._fabric.flood(start)
            for device in (node.device, *(c.far.device for c in self._fabric.out.get(node.device, ())))
        }

    @cached_property
    def _reachable(self) -> frozenset[Node]:
        """Every VLAN on a device into which such a router may send."""
        return frozenset().union(*(self._fabric.flood(place) for place in self._places))

    def _on_one_wire(self, station: Station) -> bool:
        """Whether a station is cabled to such a router without a bridge between."""
        end = station.end
        if end is None:
            return False
        if isinstance(station, HostStation):
            return end.device in self.devices
        return any(a.far(end).device in self.devices for a in self._adjacencies_at.get(end, ()))

    def beside(self, interface: Interface) -> Iterator[Interface]:
        """The interfaces of other devices in an interface's subnet: what may be a next hop of a route not read."""
        own = interface.address
        for other in self._gateways if own is not None else ():
            if other.device != interface.device and other.address and own and other.address.ip in own.network:
                yield other
