"""One VLAN across the campus, and all VLANs on all devices."""

from __future__ import annotations

from collections import defaultdict
from functools import reduce
from operator import or_

import msgspec

from crossthread.answer import Answer
from crossthread.errors import UnknownNameError
from crossthread.network.given import of_network
from crossthread.network.hosts.station import HostStation, Station
from crossthread.network.network import Network
from crossthread.network.switching.known_vids import find_named_vids, speaks_of
from crossthread.network.switching.nodes import Node
from crossthread.network.topology.names import End
from crossthread.values import VID_MAX, VlanSet
from crossthread.views.map import LinkEnd


class VlanPort(msgspec.Struct, frozen=True, omit_defaults=True):
    """A port that carries a VLAN.

    `how` is `tagged`, `untagged` or `unknown`; `state` is `forwarding`, `blocked` (by the spanning tree), `down` or
    `unknown`; `far` is the port at the other end, and `one_end` is set if that one does not carry the VLAN.
    """

    device: str
    port: str
    mode: str | None
    how: str
    state: str
    far: LinkEnd | None = None
    one_end: bool = False
    hosts: tuple[str, ...] = ()


class VlanSegment(msgspec.Struct, frozen=True):
    """A part of a VLAN in which every station surely hears every other."""

    devices: tuple[str, ...]
    hosts: tuple[str, ...]
    gateways: tuple[str, ...]


class VlanView(Answer, frozen=True):
    """Where a VLAN is: its names, its ports, its segments, and the devices where it is missing or suspended.

    `beyond` are the open ends by which it may go on, and join its pieces, where nobody looked; with the device that is
    known to be there.
    """

    ROWS = "ports"
    vid: int
    names: tuple[str, ...]
    ports: tuple[VlanPort, ...]
    segments: tuple[VlanSegment, ...]
    suspended: tuple[str, ...]
    roots: tuple[str, ...]
    beyond: tuple[str, ...] = ()


@of_network
def vlan_view(network: Network, vid: int) -> VlanView:
    """Look at one VLAN.

    Parameters
    ----------
    network
        A network, a survey, or the place of one: a folder, or a `.json` or `.json.gz` file.
    vid
        The VLAN, from 1 to 4094.

    Returns
    -------
    VlanView
        Its names, ports and pieces, and the devices on which it is suspended.

    Raises
    ------
    SurveyError
        If a place was given and no survey can be read there.
    UnknownNameError
        If the survey does not speak of this VLAN anywhere.

    Examples
    --------
    >>> from crossthread.demo import faulty, healthy
    >>> from crossthread import vlan
    >>> vlan(faulty(), 30).suspended
    ('lighthouse-2',)
    """
    fabric = network.fabric
    if not speaks_of(network.survey, vid):
        raise UnknownNameError(
            f"the survey does not speak of VLAN {vid}; expected a VID from 1 to {VID_MAX} that it has"
        )
    ports = []
    for device, rows in network.names.ports.items():
        for port, row in rows.items():
            end = End(device, port)
            carried = fabric.carried(end).has(vid)
            if carried is False or row.lag not in (None, "none") or (row.mode is None and row.pvid is None):
                continue
            member = fabric.member(end)
            how = "tagged" if member.tagged.has(vid) else "untagged" if member.untagged.has(vid) else "unknown"
            faced = network.adjacencies_at.get(end, ())
            far = faced[0].far(end) if faced else None
            bridged = far is not None and fabric.member(far).bridged
            lone = far is not None and bridged and fabric.carried(far).has(vid) is False
            hosts = tuple(host.name for host in network.hosts_at(end))
            state = _state(network, end, vid)
            ports.append(VlanPort(device, port, row.mode, how, state, LinkEnd(*far) if far else None, lone, hosts))
    held = [(device, known[vid]) for device, known in fabric.vlan_rows.items() if vid in known]
    suspended = tuple(device for device, vlan in held if vlan.state == "suspended")
    names = dict.fromkeys(vlan.name for _, vlan in held if vlan.name)
    segments, roots = _segments(network, vid), tuple(roots_of(network, vid))
    return VlanView(vid, tuple(names), tuple(ports), segments, suspended, roots, _beyond(network, vid))


def _beyond(network: Network, vid: int) -> tuple[str, ...]:
    """The open ends that may let a VLAN out."""
    ends = [one for one in network.open_ends.values() if network.fabric.leaving(one.end) >> vid & 1 and one.end.port]
    return tuple(f"{one.end} ({one.name})" if one.name else str(one.end) for one in ends)


def _state(network: Network, end: End, vid: int) -> str:
    row = network.port(end)
    faced = network.adjacencies_at.get(end, ())
    if (row is not None and "down" in (row.admin, row.oper)) or (faced and all(a.up is False for a in faced)):
        return "down"
    forwards = network.fabric.forwarding(end).has(vid)
    return {True: "forwarding", False: "blocked", None: "unknown"}[forwards]


def roots_of(network: Network, vid: int) -> list[str]:
    """The devices that say of themselves that they are the root of the tree that a VLAN follows."""
    trees = network.fabric.trees
    found = []
    for device, rows in trees.bridges.items():
        follows = {instance for instance, vids in trees.instances(device).items() if vids.possible >> vid & 1}
        if any(r.instance in follows and r.address and r.root_address == r.address for r in rows):
            found.append(device)
    return found


def _roots(network: Network) -> dict[str, int]:
    """By device the VLANs that follow a tree of which it says of itself that it is the root, as bits."""
    trees, found = network.fabric.trees, dict[str, int]()
    for device, rows in trees.bridges.items():
        own = {row.instance for row in rows if row.address and row.root_address == row.address}
        if own:
            vids = (bounds.possible for instance, bounds in trees.instances(device).items() if instance in own)
            found[device] = reduce(or_, vids, 0)
    return found


def _segments(network: Network, vid: int) -> tuple[VlanSegment, ...]:
    parts: dict[object, tuple[set[str], list[str], list[str]]] = defaultdict(lambda: (set(), [], []))
    for device in network.names.devices.values():
        part = network.components.of(Node(device, vid))
        if part is not None and any(
            network.fabric.carried(End(device, port)).has(vid) for port in network.names.ports.get(device, ())
        ):
            parts[part][0].add(device)
    alike = (one for one in network.classes.all if not one.plain or one.vid == vid)  # all others are surely elsewhere
    numbers = sorted(n for one in alike for n in one.hosts.numbers)
    stations: list[Station] = [*map(network.stations.hosts.at, numbers), *network.stations.gateways]
    for station in stations:
        for tap in station.taps:
            part = network.components.of(Node(tap.device, vid)) if tap.device and tap.enters.has(vid) else None
            if part is not None:
                name = station.name if isinstance(station, HostStation) else f"{station.device} {station.name}"
                parts[part][0].add(tap.device)
                (parts[part][1] if isinstance(station, HostStation) else parts[part][2]).append(name)
    found = [VlanSegment(tuple(sorted(d)), tuple(h), tuple(dict.fromkeys(g))) for d, h, g in parts.values()]
    return tuple(sorted(found, key=lambda s: (-len(s.hosts) - len(s.gateways), -len(s.devices), s.devices)))


class Presence(msgspec.Struct, frozen=True, omit_defaults=True):
    """A VLAN on a device: on how many access ports and trunks it is, and whether its gateway or its root is there."""

    vid: int
    access: int = 0
    trunks: int = 0
    gateway: bool = False
    root: bool = False


class DeviceVlans(msgspec.Struct, frozen=True):
    """The VLANs of one device."""

    device: str
    vlans: tuple[Presence, ...]


class VlanOverview(Answer, frozen=True):
    """The VLANs of a campus, with their names, and each device's part in them."""

    ROWS = "devices"
    vlans: tuple[int, ...]
    names: dict[int, str]
    devices: tuple[DeviceVlans, ...]


@of_network
def vlan_overview(network: Network) -> VlanOverview:
    """Every VLAN on every device.

    Parameters
    ----------
    network
        A network, a survey, or the place of one: a folder, or a `.json` or `.json.gz` file.

    Returns
    -------
    VlanOverview
        Each device's part in each VLAN.

    Raises
    ------
    SurveyError
        If a place was given and no survey can be read there.

    Examples
    --------
    >>> from crossthread.demo import faulty, healthy
    >>> from crossthread import vlans
    >>> vlans(healthy()).vlans
    (10, 20, 30, 40, 50, 90)
    """
    counts: dict[str, dict[int, list[int]]] = defaultdict(lambda: defaultdict(lambda: [0, 0]))
    for name in network.names.devices.values():
        counts[name]  # also one of which nothing is known but that it is there
    named = VlanSet(find_named_vids(network.survey))
    for device, rows in network.names.ports.items():
        for row in rows.values():
            if row.mode == "access" and row.pvid:
                counts[device][row.pvid][0] += 1
            elif row.mode in ("trunk", "hybrid") and row.allowed is not None:
                for vid in named & row.allowed:
                    counts[device][vid][1] += 1
    for device, held in network.fabric.vlan_rows.items():
        for vid in held:
            counts[device][vid]
    gateways = {(s.device, s.row.vid) for s in network.stations.gateways if s.row.vid}
    for device, gateway_vid in gateways:
        if gateway_vid:
            counts[device][gateway_vid]
    vids = sorted({vid for found in counts.values() for vid in found})
    roots = _roots(network)
    names: dict[int, str] = {}
    for held in network.fabric.vlan_rows.values():
        for vid, vlan in held.items():
            if vlan.name:
                names.setdefault(vid, vlan.name)
    devices = []
    for device, found in counts.items():
        entries = [
            Presence(vid, access, trunks, (device, vid) in gateways, bool(roots.get(device, 0) >> vid & 1))
            for vid, (access, trunks) in sorted(found.items())
        ]
        devices.append(DeviceVlans(device, tuple(entries)))
    return VlanOverview(tuple(vids), names, tuple(devices))
