"""Everything about one device on one page, in the order in which one looks; also of one that was only heard of."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Sequence

import msgspec

from crossthread.answer import Answer
from crossthread.diagnosis.context import Context, context_of
from crossthread.diagnosis.findings import Finding
from crossthread.errors import UnknownNameError, visible
from crossthread.network.given import of_network
from crossthread.network.network import Network
from crossthread.network.topology.names import End
from crossthread.questions.check import check, select
from crossthread.questions.port import Fact, Hearing, facts_of, hearing
from crossthread.survey.records import Port
from crossthread.values import NONE
from crossthread.views.coverage import not_read
from crossthread.views.heard import Heard, heard_of

_FACTS = ("chassis", "capabilities", "platform", "software", "serial", "management", "site", "tier", "routing",
          "routing6", "vlan_aware", "discovery", "discovery_interval", "mac_ageing", "arp_ageing")  # fmt: skip


class PortLine(msgspec.Struct, frozen=True):
    """A port in one line: its state, what it does with VLANs, its description, and what it leads to."""

    port: str
    state: str
    vlans: str
    description: str | None
    leads_to: tuple[str, ...]


class Routed(msgspec.Struct, frozen=True):
    """An entry of the routing table; connected prefixes follow from the interfaces."""

    prefix: str
    by: str
    interface: str | None
    origin: str | None
    table: str | None = None


class InstanceLine(msgspec.Struct, frozen=True):
    """What it is in an instance of the spanning tree.

    `priority` as it is configured, `shown` with the system-ID extension added, as devices show it (IEEE 802.1Q 13.26).
    """

    instance: int
    protocol: str | None
    priority: int | None
    shown: int | None
    root_cost: int | None
    root_port: str | None
    is_root: bool


class DevicePage(Answer, frozen=True):
    """A device.

    Attributes
    ----------
    device, how
        Its name, and how it is known: `surveyed`, or who heard it.
    facts
        What it says of itself.
    differs
        Where its neighbours heard something else of it than it says.
    neighbors
        Who is next to it, as it heard them; of a device that was only heard of, who heard it.
    ports, vlans, interfaces, routes, trees
        Its ports in one line each; its VLANs with their names; the interfaces that route; the routing table, the
        default route first; the instances of the spanning tree.
    unread
        What nobody read of it.
    findings
        What `check` says of it.
    """

    ROWS = "ports"
    device: str
    how: str
    facts: tuple[Fact, ...]
    differs: tuple[str, ...]
    neighbors: tuple[Hearing, ...]
    ports: tuple[PortLine, ...]
    vlans: tuple[Fact, ...]
    interfaces: tuple[Fact, ...]
    routes: tuple[Routed, ...]
    trees: tuple[InstanceLine, ...]
    unread: tuple[str, ...]
    findings: tuple[Finding, ...]


@of_network
def device_page(network: Network, name: str) -> DevicePage:
    """Put together all that is known of a device.

    Parameters
    ----------
    network
        A network, a survey, or the place of one: a folder, or a `.json` or `.json.gz` file.
    name
        The device, by any of its names; also one that only its neighbours tell of.

    Returns
    -------
    DevicePage
        What it says of itself, what others heard, its ports, VLANs, routes, trees and findings.

    Raises
    ------
    SurveyError
        If a place was given and no survey can be read there.
    UnknownNameError
        If there is no such device.

    Examples
    --------
    >>> from crossthread.demo import faulty, healthy
    >>> from crossthread import device
    >>> device(healthy(), "core-east").routes[0].prefix
    '10.61.10.0/24'
    """
    known = network.names.device(name)
    heard = heard_of(network)
    if known is None:
        found = next((one for one in heard if _is_meant(one, name)), None)
        if found is None:
            raise UnknownNameError(f"there is no device “{visible(name)}” in this survey, nor was one heard of")
        return _only_heard(found)
    context, row = context_of(network), network.device(known)
    return DevicePage(
        device=known,
        how="surveyed" if row is not None else "named in some table, without a row of its own",
        facts=tuple(facts_of(row, _FACTS)),
        differs=tuple(_differs(network, known)),
        neighbors=tuple(
            hearing(told, end.port) for end, rows in context.heard_at.items() if end.device == known for told in rows
        ),
        ports=tuple(_ports(context, known)),
        vlans=tuple(
            Fact(str(vid), " ".join(filter(None, (told.name, told.state))))
            for vid, told in sorted(network.fabric.vlan_rows.get(known, {}).items())
        ),
        interfaces=tuple(_interfaces(network, known)),
        routes=tuple(_routes(network, known)),
        trees=tuple(_trees(network, known)),
        unread=tuple(lack.table or lack.says for lack in not_read(network) if known in lack.devices),
        findings=select(check(network), at=(known, None)).findings,
    )


def _is_meant(heard: Heard, name: str) -> bool:
    own = {
        text.casefold()
        for _, row in heard.rows
        for text in (row.neighbor, row.neighbor_chassis, row.management)
        if text
    }
    return name.strip().casefold() in own


def _only_heard(heard: Heard) -> DevicePage:
    columns = ("neighbor_chassis", "platform", "software", "management")
    facts = [Fact(c.removeprefix("neighbor_"), value) for c in columns if (value := heard.first(c))]
    facts += [Fact("capabilities", " ".join(heard.capabilities))] if heard.capabilities else []
    rows = tuple(hearing(row, str(end)) for end, row in heard.rows)
    return DevicePage(
        heard.name, "only heard of; nobody surveyed it", tuple(facts), (), rows, (), (), (), (), (), (), ()
    )


def _differs(network: Network, device: str) -> Iterator[str]:
    """Where neighbours heard another software, platform or management address than the device says that it has."""
    own = network.device(device)
    for row in network.survey.neighbors if own is not None else ():
        if network.names.neighbor_device(row) != device:
            continue
        for column in ("software", "platform", "management"):
            said, heard = getattr(own, column), getattr(row, column)
            if said and heard and said != heard:
                yield f"{row.device} {row.port} heard the {column} {heard}; it says {said}"


def _ports(context: Context, device: str) -> Iterator[PortLine]:
    far: dict[End, list[End]] = defaultdict(list)
    for link in context.network.links:
        far[link.a].append(link.b)
        far[link.b].append(link.a)
    for port, row in context.network.names.ports.get(device, {}).items():
        end = End(device, port)
        yield _port(context, end, row, far.get(end, []))


def _port(context: Context, end: End, row: Port, cabled: Sequence[End]) -> PortLine:
    words = "/".join(word or "?" for word in (row.admin, row.oper))
    state = {"up/up": "up", "down/down": "shut", "up/down": "no link"}.get(words, words)
    faced = list(map(str, cabled)) or [str(adjacency.far(end)) for adjacency in context.adjacencies_at.get(end, ())]
    heard = (
        [told.neighbor or told.neighbor_chassis or "?" for told in context.heard_at.get(end, ())] if not faced else []
    )
    hosts = [host.name for host in context.hosts_at(end)]
    return PortLine(end.port, state, _vlans(row), row.description, tuple(dict.fromkeys([*faced, *hosts, *heard])))


def _vlans(row: Port) -> str:
    """What a port does with VLANs, in a few words."""
    if row.lag and row.lag != NONE:
        return f"member of {row.lag}"
    if row.mode in (None, "routed"):
        return row.mode or ""
    own = "?" if row.pvid is None else (str(row.pvid) if row.pvid else "none")
    if row.mode in ("access", "tunnel"):
        return f"{row.mode} {own}" + (f", voice {row.voice}" if row.voice else "")
    carried = str(row.allowed) if row.allowed is not None else "?"
    return f"{row.mode} {carried}, native {own}"


def _interfaces(network: Network, device: str) -> Iterator[Fact]:
    for station in network.stations.on_device.get(device, ()):
        row = station.row
        where = f"VLAN {row.vid}" if row.vid else ""
        where += f" on {row.port}" if row.port else ""
        shared = f", shares {row.virtual} ({row.virtual_state or '?'})" if row.virtual and row.virtual != NONE else ""
        state = {True: "", False: ", down", None: ", state not read"}[station.up]
        yield Fact(station.name, f"{row.address or 'no address'}  {where.strip()}{shared}{state}".strip())


def _routes(network: Network, device: str) -> Iterator[Routed]:
    """The routing table: the default route first, then what is connected, then the rest."""
    rows = network.routing.routes(device)
    default = [row for row in rows if row.prefix in ("0.0.0.0/0", "::/0")]
    for row in default:
        yield Routed(row.prefix, row.next_hop or row.kind or "?", row.interface, row.origin, row.table)
    for station in network.stations.on_device.get(device, ()):
        if station.address is not None and station.up is not False:
            yield Routed(str(station.address.network), "connected", station.name, "connected", station.row.table)
    for row in rows:
        if row not in default and row.origin != "connected":
            yield Routed(row.prefix, row.next_hop or row.kind or "?", row.interface, row.origin, row.table)


def _trees(network: Network, device: str) -> Iterator[InstanceLine]:
    for row in network.fabric.trees.bridges.get(device, ()):
        extension = row.instance if row.protocol in ("per-vlan", "mstp") else 0
        shown = row.priority + extension if row.priority is not None else None
        is_root = bool(row.address) and row.root_address == row.address
        yield InstanceLine(row.instance, row.protocol, row.priority, shown, row.root_cost, row.root_port, is_root)
