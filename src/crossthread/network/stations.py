"""Hosts and gateway interfaces: what sends and answers at the edge of the bridges, and where it is attached."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence

import msgspec

from crossthread.network.adjacency import Adjacency
from crossthread.network.links import Link, cable_up, port_up, word_runs
from crossthread.network.names import End, Names
from crossthread.network.segments import Fabric, Node
from crossthread.network.truth import ANYTHING, NOTHING, Bounds, Truth, all_of, any_of, vids_in
from crossthread.survey import Survey
from crossthread.survey.tables import Gateway, Host, MacEntry
from crossthread.values import NO_VID, Interface, interface


class Tap(msgspec.Struct, frozen=True):
    """Where a station's frames join the bridges: a device, by a port of it or (None) from inside."""

    device: str
    end: End | None
    enters: Bounds
    leaves: Bounds


class Station(msgspec.Struct, frozen=True):
    """A host, or an interface that routes."""

    row: Host | Gateway
    name: str
    device: str
    """The device that routes, or that the host is plugged into; empty if the host was not located."""
    end: End | None
    """The port a host is plugged into, or the parent port of a gateway interface."""
    tag: int
    up: Truth
    taps: tuple[Tap, ...]
    address: Interface | None
    located_by: tuple[MacEntry, ...] = ()

    @property
    def is_host(self) -> bool:
        """Whether it is a host rather than an interface that routes."""
        return isinstance(self.row, Host)


def _address(text: str | None) -> Interface | None:
    return interface(text) if text and text != "none" else None


class Stations:
    """Every station of a survey, found by name, address and port."""

    def __init__(
        self,
        survey: Survey,
        names: Names,
        links: Sequence[Link],
        adjacencies: Sequence[Adjacency],
        fabric: Fabric,
    ) -> None:
        self._names, self._fabric = names, fabric
        self._far: dict[End, list[Adjacency]] = defaultdict(list)
        for adjacency in adjacencies:
            self._far[adjacency.a].append(adjacency)
            self._far[adjacency.b].append(adjacency)
        self._capabilities: dict[str, list[tuple[str, ...]]] = defaultdict(list)
        for row in survey.devices:
            if row.capabilities is not None:
                self._capabilities[names.device(row.device) or row.device].append(row.capabilities)
        self._linked = {end for link in links for end in (link.a, link.b)}
        self._learned: dict[str, list[MacEntry]] = defaultdict(list)
        wanted = {row.mac for row in survey.hosts if row.mac and not (row.device and row.port)}
        for entry in survey.macs:
            if entry.mac in wanted and entry.kind != "self" and entry.port:
                self._learned[entry.mac].append(entry)
        lost = {row.host.casefold() for row in survey.hosts if not (row.device and row.port)}
        self._described = self._ports_that_name(lost) if lost else {}
        self.hosts = {row.host.casefold(): self._host(row) for row in survey.hosts}
        self.gateways = [self._gateway(row) for row in survey.gateways]
        self.proxies = [s for s in self.gateways if isinstance(s.row, Gateway) and s.row.proxy_arp != "no"]
        """Interfaces that may answer for others."""
        self.by_address: dict[str, list[Station]] = defaultdict(list)
        for station in (*self.hosts.values(), *self.gateways):
            own = {str(station.address.ip)} if station.address else set()
            if isinstance(station.row, Gateway) and station.row.virtual not in (None, "none"):
                own.add(str(station.row.virtual))
            for text in own:
                self.by_address[text].append(station)
        self.on_device: dict[str, list[Station]] = defaultdict(list)
        for station in self.gateways:
            self.on_device[station.device].append(station)

    def _host(self, row: Host) -> Station:
        end, entries = self._place(row)
        tag = row.vid or NO_VID
        if end is None:
            taps: tuple[Tap, ...] = (Tap("", None, ANYTHING, ANYTHING),)
            up: Truth = False if row.link == "down" else None
        else:
            port = self._names.ports.get(end.device, {}).get(end.port)
            up = cable_up([port_up(port), {"up": True, "down": False}.get(row.link or "")])
            taps = (Tap(end.device, end, self._fabric.enters(end, tag), self._fabric.leaves(end, tag)),)
            if not admits(port, row.mac):
                taps = (Tap(end.device, end, NOTHING, taps[0].leaves),)
        return Station(
            row, row.host, end.device if end else "", end, tag, up, taps, _address(row.address), tuple(entries)
        )

    def _ports_that_name(self, hosts: set[str]) -> dict[str, list[End]]:
        """The edge ports whose description names one of some hosts, as in "to ticket-desk-1"."""
        found: dict[str, list[End]] = defaultdict(list)
        for device, ports in self._names.ports.items():
            for port, row in ports.items():
                end = End(device, port)
                if row.description and end not in self._linked:
                    for part in word_runs(row.description):
                        if part.casefold() in hosts:
                            found[part.casefold()].append(end)
                            break
        return found

    def _place(self, row: Host) -> tuple[End | None, list[MacEntry]]:
        """Find where a host is plugged in.

        As its row says, else the one edge port that learned its MAC address, else the one whose description names it.
        """
        device = self._names.device(row.device)
        if device and row.port:
            return End(device, self._names.port(device, row.port) or row.port), []
        found: dict[End, list[MacEntry]] = defaultdict(list)
        for entry in self._learned.get(row.mac or "", ()):
            at = self._names.device(entry.device) or entry.device
            end = End(at, self._names.port(at, entry.port) or entry.port or "")
            if end not in self._linked and end not in self._far and (device in (None, at)):
                found[end].append(entry)
        if len(found) == 1:
            return next(iter(found.items()))
        named = self._described.get(row.host.casefold(), []) if not found else []
        if len(named) == 1 and device in (None, named[0].device):
            return named[0], []
        return None, [entry for entries in found.values() for entry in entries]

    def _gateway(self, row: Gateway) -> Station:
        device = self._names.device(row.device) or row.device
        state: list[Truth] = [False if "down" in (row.admin, row.oper) else (True if row.oper == "up" else None)]
        if not row.port and self._bridgeless(device):
            nowhere = (Tap("", None, ANYTHING, ANYTHING),)
            return Station(row, row.interface, device, None, NO_VID, all_of(state), nowhere, _address(row.address))
        if not row.port:
            bits = Bounds(0, self._fabric.known) if row.vid is None else Bounds.exactly(1 << row.vid)
            inside = bits.both(self._fabric.exists(device))
            taps: list[Tap] = [Tap(device, None, inside, inside)]
            return Station(row, row.interface, device, None, NO_VID, all_of(state), tuple(taps), _address(row.address))
        end = End(device, self._names.port(device, row.port) or row.port)
        bare = row.untagged == "yes" or (row.untagged is None and row.vid is None)
        tagless = not bare and row.vid is None  # it tags, but with what was not observed
        tag = NO_VID if bare else (row.vid or NO_VID)
        facing = self._far.get(end, [])
        parent = any_of(a.up for a in facing) if facing else port_up(self._names.ports.get(device, {}).get(end.port))
        if parent is False or False in state:
            up: Truth = False
        elif state[0] or (row.admin == "up" and parent):
            up = True
        else:
            up = None
        tagging = self._fabric.member(end).tagging
        taps = []
        for adjacency in facing:
            far = adjacency.far(end)
            enters = self._fabric.enters(far, tag, tagging).when(adjacency.up)
            leaves = self._fabric.leaves(far, tag).when(adjacency.up)
            if tagless:
                enters = leaves = Bounds(0, self._fabric.known)
            taps.append(Tap(far.device, far, enters, leaves))
        return Station(row, row.interface, device, end, tag, up, tuple(taps), _address(row.address))

    def _bridgeless(self, device: str) -> bool:
        """Whether a device is known to have no bridge on which an interface without a parent port could sit."""
        return any("bridge" not in c for c in self._capabilities.get(device, ()))

    def facing(self, station: Station) -> list[Adjacency]:
        """What the parent port of a gateway interface is cabled to."""
        return self._far.get(station.end, []) if station.end else []

    def on_one_wire(self, one: Station, two: Station) -> Truth:
        """Whether two stations hear each other without any bridge: on one port, or on two routed ports cabled."""
        if one.end is None or two.end is None or one.tag != two.tag:
            return False
        if one.end == two.end:
            return True
        ways = [a for a in self._far.get(one.end, ()) if a.far(one.end) == two.end]
        routed = not any(self._fabric.member(end).bridged for end in (one.end, two.end))
        return any_of(a.up for a in ways) if ways and (routed or not (one.is_host or two.is_host)) else False

    def hears(self, sender: Station, receiver: Station) -> Truth:
        """Whether a frame from one station gets to another."""
        ends_up = all_of((sender.up, receiver.up))
        if ends_up is False:
            return False
        direct = self.on_one_wire(sender, receiver)
        if direct:
            return ends_up
        ways: list[Truth] = [direct]
        if any(station.is_host and station.end is None for station in (sender, receiver)):
            ways.append(None)  # it may be plugged in anywhere
        for tap in sender.taps:
            for goal in receiver.taps:
                ways.append(self._between(tap, goal))
        return all_of((ends_up, any_of(ways)))

    def _between(self, tap: Tap, goal: Tap) -> Truth:
        if not tap.device or not goal.device:
            return None if tap.enters.possible and goal.leaves.possible else False
        if tap.end is not None and tap.end == goal.end:
            return False
        found: Truth = False
        for vid in vids_in(tap.enters.possible):
            flood = self._fabric.flood(Node(tap.device, vid))
            for arrives in vids_in(goal.leaves.possible & self._fabric.known):
                reached = flood.get(Node(goal.device, arrives))
                if reached is None:
                    continue
                if reached.unknown == 0 and goal.leaves.has(arrives) and tap.enters.has(vid):
                    return True
                found = None
        return found


def admits(row: object, mac: str | None) -> bool:
    """Whether a port lets a station in: false only where its list of stations was observed and lacks this one."""
    listed = getattr(row, "allowed_macs", None)
    if not listed or mac is None or mac in listed:
        return True
    limit = getattr(row, "mac_limit", None)
    return limit is not None and limit > len(listed)
