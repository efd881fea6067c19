"""Everything about one port on one page, in the order in which one looks."""

from __future__ import annotations

from collections.abc import Iterator

import msgspec

from crossthread.answer import Answer
from crossthread.diagnosis.context import context_of
from crossthread.diagnosis.findings import Finding
from crossthread.errors import UnknownNameError, visible
from crossthread.network.given import of_network
from crossthread.network.network import Network
from crossthread.network.topology.adjacency import bundle
from crossthread.network.topology.names import End
from crossthread.questions.check import check, select
from crossthread.questions.link import Side, link_view
from crossthread.survey.records import Neighbor, Port, columns_of
from crossthread.views.tree import tree

_FACTS = (
    "description", "aliases", "admin", "oper", "speed", "capable_speed", "duplex", "mtu", "mode", "pvid", "allowed",
    "untagged", "voice", "forbidden", "tagging", "frames", "ingress_filter", "isolated", "authorized", "lag",
    "lag_state", "lag_partner", "discovery", "mac", "allowed_macs", "mac_limit", "violation", "violations",
    "filter_in", "filter_out",
)  # fmt: skip
_COUNTERS = ("in_errors", "crc_errors", "out_errors", "late_collisions")
_BESIDE = {"in_errors": "in_packets", "crc_errors": "in_packets", "out_errors": "out_packets",
           "late_collisions": "out_packets"}  # fmt: skip


class Fact(msgspec.Struct, frozen=True):
    """One thing that is known: what it is, and its value as the survey writes it."""

    fact: str
    value: str


class Counted(msgspec.Struct, frozen=True):
    """A counter of damaged frames: how many, of how many packets, and one in how many that is."""

    counter: str
    count: int
    of: int | None = None
    one_in: int | None = None


class Hearing(msgspec.Struct, frozen=True, omit_defaults=True):
    """A neighbour: who it says it is, and how old that is; times in seconds."""

    name: str
    port: str | None = None
    protocol: str | None = None
    management: str | None = None
    capabilities: tuple[str, ...] = ()
    platform: str | None = None
    software: str | None = None
    hold_time: float | None = None
    left: float | None = None
    interval: float | None = None
    at: str | None = None
    """Where it was heard, on a page of a device."""


class InTree(msgspec.Struct, frozen=True, omit_defaults=True):
    """A port's part in an instance of the spanning tree, and because of what."""

    instance: int
    role: str | None
    state: str | None
    cost: int | None = None
    because: str | None = None


class Learned(msgspec.Struct, frozen=True, omit_defaults=True):
    """A station that was learned there, and which host it is, if that is known."""

    mac: str
    vid: int | None = None
    host: str | None = None


class PortPage(Answer, frozen=True):
    """A port.

    Attributes
    ----------
    device, port
        Where it is.
    facts
        Its settings and its state, as far as they were read.
    far, sides
        What it is cabled to, and both ends side by side; None and empty where no link is known.
    hosts, gateways
        The hosts plugged in, and the interfaces that route on it.
    neighbors
        Who was heard there, and how old that is.
    counters
        Damaged frames, with rates where packets were counted.
    pairs
        The cable test, pair by pair: status, and how far the place is in metres.
    trees
        Its part in each instance of the spanning tree.
    learned
        The stations in the filtering database.
    findings
        What `check` says of it.
    """

    ROWS = "facts"
    device: str
    port: str
    facts: tuple[Fact, ...]
    far: str | None
    sides: tuple[Side, ...]
    hosts: tuple[str, ...]
    gateways: tuple[str, ...]
    neighbors: tuple[Hearing, ...]
    counters: tuple[Counted, ...]
    pairs: tuple[Fact, ...]
    trees: tuple[InTree, ...]
    learned: tuple[Learned, ...]
    findings: tuple[Finding, ...]


@of_network
def port_page(network: Network, device: str, port: str) -> PortPage:
    """Put together all that is known of a port.

    Parameters
    ----------
    network
        A network, a survey, or the place of one: a folder, or a `.json` or `.json.gz` file.
    device, port
        By any of their names.

    Returns
    -------
    PortPage
        State and settings, the far end, neighbours, counters, cable test, trees, stations and findings.

    Raises
    ------
    SurveyError
        If a place was given and no survey can be read there.
    UnknownNameError
        If there is no such device or port.

    Examples
    --------
    >>> from crossthread.demo import faulty, healthy
    >>> from crossthread import port
    >>> port(faulty(), "galley", "port1").far
    'ropehall port3'
    """
    context = context_of(network)
    end = find_port(network, device, port)
    row = context.port(end)
    whole = bundle(end, network.names)
    faced = context.adjacencies_at.get(end) or context.adjacencies_at.get(whole, [])
    view = link_view(network, *end) if faced else None
    found = view.findings if view is not None else select(check(network), at=(end.device, end.port)).findings
    told = context.device(end.device) if network.fabric.unaware(end.device) else None
    return PortPage(
        device=end.device,
        port=end.port,
        facts=(*facts_of(row, _FACTS), *facts_of(told, ("vlan_aware",))),  # why no VLAN is told of it
        far=f"{view.b.device} {view.b.port}" if view is not None else None,
        sides=view.sides if view is not None else (),
        hosts=tuple(host.name for host in context.hosts_at(end)),
        gateways=tuple(f"{g.name} {g.row.address or ''}".strip() for g in network.gateways_at.get(end, ())),
        neighbors=tuple(hearing(heard) for heard in context.heard_at.get(end, ())),
        counters=tuple(_counted(row)),
        pairs=tuple(_pairs(network, end)),
        trees=tuple(_trees(network, end)),
        learned=tuple(_learned(network, end)),
        findings=found,
    )


def find_port(network: Network, device: str, port: str) -> End:
    """A port by any of its names.

    Raises
    ------
    UnknownNameError
        If there is no such device or port.
    """
    known = network.names.device(device)
    if known is None:
        raise UnknownNameError(f"there is no device “{visible(device)}” in this survey")
    name = network.names.port(known, port)
    if name is None and End(known, port) in network.cabled:
        name = port  # only its neighbour tells of it
    if name is None:
        listed = list(network.names.ports.get(known, ()))[:4]
        hint = f"; it has {', '.join(map(visible, listed))} …" if listed else ""
        raise UnknownNameError(f"{known} has no port “{visible(port)}” in this survey{hint}")
    return End(known, name)


def facts_of(row: msgspec.Struct | None, columns: tuple[str, ...]) -> Iterator[Fact]:
    """What some columns of a row say, those left out that were not observed."""
    for column in columns if row is not None else ():
        value = getattr(row, column)
        if value is not None:
            yield Fact(column.replace("_", " "), columns_of(type(row))[column][0].show(value))  # type: ignore[arg-type]


def hearing(row: Neighbor, at: str | None = None) -> Hearing:
    """A neighbour as it was heard."""
    return Hearing(
        row.neighbor or row.neighbor_chassis or "?",
        row.neighbor_port or row.neighbor_port_description,
        row.protocol,
        row.management,
        row.capabilities or (),
        row.platform,
        row.software,
        row.ttl,
        row.remaining,
        row.interval,
        at,
    )


def _counted(row: Port | None) -> Iterator[Counted]:
    for column in _COUNTERS if row is not None else ():
        bad, good = getattr(row, column), getattr(row, _BESIDE[column])
        if bad is not None:
            one_in = round((good + bad) / bad) if good and bad else None
            yield Counted(column.replace("_", " "), bad, good, one_in)


def _pairs(network: Network, end: End) -> Iterator[Fact]:
    names = network.names
    for row in network.survey.cables:
        device = names.spelled[row.device]
        if (device, names.port(device, row.port) or row.port) == end:
            far = f" at {row.length:g} m" if row.length is not None and row.status not in (None, "ok") else ""
            yield Fact(f"pair {row.pair}", (row.status or "not told") + far)


def _trees(network: Network, end: End) -> Iterator[InTree]:
    trees = network.fabric.trees
    for instance in trees.instances(end.device):
        row = trees.ports.get((*end, instance))
        told = next((p for p in tree(network, instance).ports if (p.device, p.port) == end), None)
        if row is not None or told is not None:
            role, state = (row.role, row.state) if row is not None else (None, None)
            computed = (told.role, told.state) if told is not None else (None, None)
            yield InTree(
                instance,
                role or computed[0],
                state or computed[1],
                row.cost if row is not None else None,
                told.because if told is not None else None,
            )


def _learned(network: Network, end: End) -> Iterator[Learned]:
    names, survey = network.names, network.survey
    macs, hosts = survey.column("hosts", "mac"), survey.column("hosts", "host")
    known = {mac: host for mac, host in zip(macs, hosts, strict=True) if mac}
    for row in survey.macs:
        device = names.spelled[row.device]
        if device == end.device and row.kind != "self" and (names.port(device, row.port) or row.port) == end.port:
            yield Learned(row.mac, row.vid, known.get(row.mac))
