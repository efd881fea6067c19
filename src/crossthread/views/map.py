"""Who is plugged into whom: devices, links told from both ends, and what is left over."""

from __future__ import annotations

from collections import Counter
from contextlib import suppress

import msgspec

from crossthread.answer import Answer
from crossthread.network.given import of_network
from crossthread.network.network import Network
from crossthread.network.topology.adjacency import Adjacency
from crossthread.network.topology.links import Link, Loose, port_up
from crossthread.network.topology.names import End
from crossthread.survey.records import Neighbor
from crossthread.values import NONE, parse_mac
from crossthread.views.heard import Heard, heard_of

STATES = {True: "up", False: "down", None: "unknown"}


class MapDevice(msgspec.Struct, frozen=True, omit_defaults=True):
    """A device, and how many links, hosts and loose neighbours it has; `heard`: it was not surveyed, only heard of."""

    device: str
    capabilities: tuple[str, ...] = ()
    platform: str | None = None
    software: str | None = None
    management: str | None = None
    site: str | None = None
    tier: str | None = None
    links: int = 0
    hosts: int = 0
    loose: int = 0
    heard: bool = False


class LinkEnd(msgspec.Struct, frozen=True):
    """One end of a link: a port, or an aggregate."""

    device: str
    port: str


class Member(msgspec.Struct, frozen=True):
    """One cable of an aggregate: the port at either end, and its state."""

    a: str
    b: str
    state: str


class MapLink(msgspec.Struct, frozen=True, omit_defaults=True):
    """A link. `seen_from` lists the ends that heard the other; empty if only both ports' descriptions tell of it.

    An aggregate is one link between two aggregate ports, with its cables as `members`.
    """

    a: LinkEnd
    b: LinkEnd
    seen_from: tuple[str, ...]
    state: str
    told_by: str
    members: tuple[Member, ...] = ()


class LooseEnd(msgspec.Struct, frozen=True, omit_defaults=True):
    """Something that was seen and could not be placed, and why."""

    why: str
    says: str
    device: str | None = None
    port: str | None = None
    neighbor: str | None = None
    neighbor_port: str | None = None
    host: str | None = None


class Map(Answer, frozen=True):
    """The answer to "what is plugged in where"."""

    ROWS = "links"
    devices: tuple[MapDevice, ...]
    links: tuple[MapLink, ...]
    loose: tuple[LooseEnd, ...]


@of_network
def map_network(network: Network) -> Map:
    """List a network's devices and links, and what is loose.

    Parameters
    ----------
    network
        A network, a survey, or the place of one: a folder, or a `.json` or `.json.gz` file.

    Returns
    -------
    Map
        Links in the order of their ends; `a` is the end that comes first. Local and far port are never mixed up: each
        stands beside its own device.

    Raises
    ------
    SurveyError
        If a place was given and no survey can be read there.

    Examples
    --------
    >>> from crossthread.demo import faulty, healthy
    >>> map_network(healthy()).links[0].a.port
    'port1'
    """
    found = [link for a in network.adjacencies for link in _links(a)]
    beyond = heard_of(network)
    found += [link for device in beyond for link in _links_to(network, device)]
    links = sorted(found, key=lambda link: (_order(link.a), _order(link.b)))
    placed = {(end, row.neighbor, row.neighbor_chassis) for device in beyond for end, row in device.rows}
    loose = [
        _loose(entry)
        for entry in network.loose
        if entry.why != "unsurveyed" or (entry.end, entry.row.neighbor, entry.row.neighbor_chassis) not in placed
    ]
    for host in network.stations.elsewhere:
        if host.end is None:
            at = network.names.unsurveyed(host.row.device)
            how = f"its row names {at}, which was not surveyed" if at else "no table says where this host is plugged in"
            loose.append(LooseEnd("host", how, host=host.name))
    for end, hosts in _unknown_ports(network).items():
        for name in hosts:
            says = f"the host is said to be at {end}, which the survey does not list"
            loose.append(LooseEnd("host-port", says, end.device, end.port, host=name))
    return Map((*_devices(network), *map(_heard, beyond)), tuple(links), tuple(loose))


def _heard(device: Heard) -> MapDevice:
    first = device.first
    return MapDevice(
        device.name,
        device.capabilities,
        first("platform"),
        first("software"),
        first("management"),
        links=len({end for end, _ in device.rows}),
        heard=True,
    )


def _links_to(network: Network, device: Heard) -> list[MapLink]:
    """The cables to a device that was only heard of: each is told of by its near end alone."""
    found = {}
    for end, row in device.rows:
        far = LinkEnd(device.name, _port_called(row))
        found[end] = MapLink(LinkEnd(*end), far, ("a",), STATES[port_up(network.port(end))], "one end")
    return list(found.values())


def _port_called(row: Neighbor) -> str:
    """How a neighbour calls its port: its identifier, unless that is a bare MAC address and there is a description."""
    with suppress(ValueError):
        parse_mac(row.neighbor_port or "")
        return row.neighbor_port_description or row.neighbor_port or "?"
    return row.neighbor_port or row.neighbor_port_description or "?"


def _devices(network: Network) -> list[MapDevice]:
    rows = {network.names.device(row.device): row for row in network.survey.devices}
    counts: dict[str, list[int]] = {name: [0, 0, 0] for name in network.names.devices.values()}
    for adjacency in network.adjacencies:
        for link in _links(adjacency):
            counts[link.a.device][0] += 1
            if link.b.device != link.a.device:
                counts[link.b.device][0] += 1
    for device, count in _hosts_on(network).items():
        if device in counts:
            counts[device][1] = count
    for entry in network.loose:
        counts[entry.end.device][0 if entry.why == "unsurveyed" else 2] += 1
    found = []
    for name, (links, hosts, loose) in counts.items():
        row = rows.get(name)
        if row is None:
            found.append(MapDevice(name, links=links, hosts=hosts, loose=loose))
            continue
        management = None if row.management == NONE else row.management
        found.append(
            MapDevice(
                name,
                row.capabilities or (),
                row.platform,
                row.software,
                management,
                row.site,
                row.tier,
                links,
                hosts,
                loose,
            )
        )
    return sorted(found, key=lambda d: (_TIERS.get(d.tier or "", 9), d.device))


def _hosts_on(network: Network) -> Counter[str]:
    """How many hosts are plugged into each device."""
    stations = network.stations
    ends = {host.name.casefold(): host.device for host in stations.elsewhere}
    return Counter(ends.get(name, pair[0]) for name, pair in zip(stations.hosts, stations.pairs, strict=True))


_TIERS = {"core": 0, "distribution": 1, "access": 2, "edge": 3}


def _order(end: LinkEnd) -> tuple[str, list[int], str]:
    digits = "".join(c if c.isdecimal() else " " for c in end.port).split()
    return end.device, [int(number[:18]) for number in digits[:6]], end.port


def _links(adjacency: Adjacency) -> list[MapLink]:
    """What joins two ports: an aggregate as one link, anything else cable by cable."""
    cables = [_cable(link) for link in adjacency.links]
    first = adjacency.links[0]
    if {first.a, first.b} == {adjacency.a, adjacency.b}:
        return cables
    a, b = LinkEnd(*adjacency.a), LinkEnd(*adjacency.b)
    members = []
    seen: set[str] = set()
    for link, cable in zip(adjacency.links, cables, strict=True):
        turned = link.a.device != a.device or (a.device == b.device and cable.a.port != link.a.port)
        ends = (link.b, link.a) if turned else (link.a, link.b)
        seen |= {
            name
            for name, rows in (("b" if turned else "a", link.seen_a), ("a" if turned else "b", link.seen_b))
            if rows
        }
        members.append(Member(ends[0].port, ends[1].port, cable.state))
    members.sort(key=lambda member: _order(LinkEnd(a.device, member.a)))
    told_by = "both ends" if len(seen) == 2 else "one end" if seen else "descriptions"
    return [MapLink(a, b, tuple(sorted(seen)), STATES[adjacency.linked], told_by, tuple(members))]


def _cable(link: Link) -> MapLink:
    a, b = LinkEnd(*link.a), LinkEnd(*link.b)
    seen = [name for name, rows in (("a", link.seen_a), ("b", link.seen_b)) if rows]
    told_by = "both ends" if len(seen) == 2 else "one end" if seen else "descriptions"
    if _order(a) > _order(b):
        a, b = b, a
        seen = sorted("b" if name == "a" else "a" for name in seen)
    return MapLink(a, b, tuple(seen), STATES[link.up], told_by)


def _loose(entry: Loose) -> LooseEnd:
    row = entry.row
    if entry.why == "conflict":
        says = f"it hears {entry.claims}, but {entry.claims} hears somebody else"
    elif entry.why == "port":
        says = "the neighbour is surveyed, but not the port it names"
    else:
        says = "the neighbour is not in the survey"
    name = row.neighbor or row.neighbor_chassis
    return LooseEnd(entry.why, says, entry.end.device, entry.end.port, name, row.neighbor_port)


def _unknown_ports(network: Network) -> dict[End, list[str]]:
    found: dict[End, list[str]] = {}
    for host in network.stations.elsewhere:
        if host.end is not None and network.names.row(host.end) is None:
            found.setdefault(host.end, []).append(host.name)
    return found
