"""How stations are attached: up or not, and by which taps their frames join the bridges that they are at."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping
from functools import partial

from crossthread.network.hosts.learned_tags import may_be_told
from crossthread.network.hosts.station import Attachment, Station, Tap
from crossthread.network.switching.segments import Fabric
from crossthread.network.three_valued import ANYTHING, NOTHING, Bounds, Truth, any_of
from crossthread.network.topology.adjacency import Adjacency, bundle
from crossthread.network.topology.links import cable_up, port_up
from crossthread.network.topology.names import End, Names
from crossthread.network.topology.open_ends import OpenEnd
from crossthread.survey import Survey
from crossthread.survey.records import Gateway, Host, Port
from crossthread.values import NO_VID, SOME_VID


class Attachments:
    """What ports are cabled to, and how hosts and interfaces at them join the bridges there."""

    def __init__(self, survey: Survey, names: Names, far: Mapping[End, list[Adjacency]], fabric: Fabric) -> None:
        self._names, self._fabric = names, fabric
        self.far = far
        """What each port is cabled to."""
        self._capabilities: dict[str, list[tuple[str, ...]]] = defaultdict(list)
        for row in survey.devices:
            if row.capabilities is not None:
                self._capabilities[names.device(row.device) or row.device].append(row.capabilities)

    def plugged(self, row: Host, end: End | None, tag: int) -> tuple[Truth, tuple[Tap, ...]]:
        """Whether a host at a port has a link, and how it joins the bridge there with a tag that it sends."""
        if end is None:
            return False if row.link == "down" else None, (Tap("", None, ANYTHING, ANYTHING),)
        port = self._names.row(end)
        up = cable_up([port_up(port), {"up": True, "down": False}.get(row.link or "")])
        if tag < 0:  # the port takes it, whatever else is known of its settings
            inside = Bounds.exactly(1 << -tag).both(self._fabric.exists(end.device))
            return up, (Tap(end.device, end, inside.when(admits(port, row.mac)), inside),)
        if tag and may_be_told(port, tag):
            inside = Bounds(0, 1 << tag).both(self._fabric.exists(end.device)).both(self._fabric.forwarding(end))
            return up, (Tap(end.device, end, inside.when(admits(port, row.mac)), inside),)
        enters = self._fabric.enters(end, tag).when(admits(port, row.mac))
        return up, (Tap(end.device, end, enters, self._fabric.leaves(end, tag)),)

    def interface(self, station: Station) -> Attachment:
        """How an interface that routes is attached."""
        row = station.row
        assert isinstance(row, Gateway)
        device = self._names.spelled[row.device]
        if not row.port:
            return Attachment(device, None, NO_VID, (), partial(self._inside, row, device))
        end = End(device, self._names.port(device, row.port) or row.port)
        bare = row.untagged == "yes" or (row.untagged is None and row.vid is None)
        tag = NO_VID if bare else (row.vid or SOME_VID)
        return Attachment(device, end, tag, (), partial(self._cabled, row, end, tag))

    def _inside(self, row: Gateway, device: str) -> tuple[Truth, tuple[Tap, ...]]:
        """How a gateway interface without a parent port joins its device's own bridge."""
        if self.bridgeless(device):
            return _state(row), (Tap("", None, ANYTHING, ANYTHING),)
        if row.vid is None:
            bare = self._fabric.bare(device)
            bits = Bounds(0, self._fabric.vids) if bare is None else Bounds.exactly(1 << bare)
        else:
            bits = Bounds.exactly(1 << row.vid)
        inside = bits.both(self._fabric.exists(device))
        return _state(row), (Tap(device, None, inside, inside),)

    def _cabled(self, row: Gateway, end: End, tag: int) -> tuple[Truth, tuple[Tap, ...]]:
        """How a gateway interface on a port joins the bridge at the far end of that port's cable."""
        facing = self.far.get(end, [])
        port = self._names.row(end)
        parent = any_of(a.up for a in facing) if facing else port_up(port)
        own = _state(row)
        if parent is False or own is False:
            up: Truth = False
        else:
            up = True if own or (row.admin == "up" and parent) else None
        tagging = self._fabric.member(end).tagging
        taps = []
        for adjacency in facing:
            far = adjacency.far(end)
            if tag == SOME_VID:
                enters = leaves = Bounds(0, self._fabric.vids)
            else:
                enters = self._fabric.enters(far, tag, tagging).when(adjacency.up)
                leaves = self._fabric.leaves(far, tag).when(adjacency.up)
            taps.append(Tap(far.device, far, enters, leaves))
        if not facing and self.open(end):
            taps.append(Tap("", None, NOTHING, NOTHING, beyond=True))
        return up, tuple(taps)

    def open(self, end: End) -> bool:
        """Whether the unknown begins at a port; it may at one of a device of which not all ports were read."""
        return self.beyond(end) is not None

    def beyond(self, end: End) -> OpenEnd | None:
        """The open end that a port is, or may be; None if it is none."""
        ends = self._fabric.open_ends
        found = ends.get(bundle(end, self._names))
        return ends.get(End(end.device, "")) if found is None and self._names.row(end) is None else found

    def bridgeless(self, device: str) -> bool:
        """Whether a device is known to have no bridge on which an interface without a parent port could sit."""
        return any("bridge" not in c for c in self._capabilities.get(device, ()))


def _state(row: Gateway) -> Truth:
    """Whether an interface says that it works."""
    return False if "down" in (row.admin, row.oper) else (True if row.oper == "up" else None)


def admits(port: Port | None, mac: str | None) -> Truth:
    """Whether a port lets a station in: false only where its list of stations was observed and lacks this one."""
    listed = port.allowed_macs if port is not None else None
    if port is None or not listed or mac in listed or (port.mac_limit is not None and port.mac_limit > len(listed)):
        return True
    return None if mac is None else False
