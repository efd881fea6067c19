"""The addressing table: every interface and host with its VLAN, address, prefix and gateway."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator

import msgspec

from crossthread.answer import Answer
from crossthread.network.given import of_network
from crossthread.network.hosts.blocks import Block, number_of
from crossthread.network.hosts.station import Station
from crossthread.network.network import Network
from crossthread.survey.records import Gateway
from crossthread.values import NONE, interface


class Addressed(msgspec.Struct, frozen=True):
    """One address, or a host without one. What was not observed is None; `none` was observed to be absent."""

    name: str
    interface: str | None
    vid: int | None
    address: str | None
    prefix: str | None
    gateway: str | None
    mac: str | None
    at: str | None
    """Of a host: the device and port that it is plugged into."""
    marks: tuple[str, ...] = ()
    """What is wrong with it: who else has it, or that it is in none of the subnets of its VLAN."""


class Addresses(Answer, frozen=True):
    """The addressing table: gateways first, then management addresses, then hosts, in the order of their addresses."""

    ROWS = "rows"
    rows: tuple[Addressed, ...]


@of_network
def addresses(network: Network) -> Addresses:
    """List every address of a network.

    Parameters
    ----------
    network
        A network, a survey, or the place of one: a folder, or a `.json` or `.json.gz` file.

    Returns
    -------
    Addresses
        Gateways first, then management addresses of devices, then hosts, each in the order of their addresses; a host
        with several has a row for each. What clashes, or lies outside its subnet, is marked.

    Raises
    ------
    SurveyError
        If a place was given and no survey can be read there.

    Examples
    --------
    >>> from crossthread.demo import faulty, healthy
    >>> addresses(healthy()).rows[0].address
    '10.61.10.1'
    """
    prefixes: dict[Block, str] = {}
    gateways = [_gateway(network, station, prefixes) for station in network.stations.gateways]
    managed = _managed(network, prefixes)
    hosts = list(_hosts(network, prefixes))
    rows = [*sorted(gateways, key=_order), *sorted(managed, key=_order), *sorted(hosts, key=_order)]
    return Addresses(tuple(_marked(network, rows)))


def _managed(network: Network, prefixes: dict[Block, str]) -> list[Addressed]:
    """The management addresses of devices that are no addresses of their interfaces."""
    stations = network.stations
    inside = {s.device: s for s in stations.managed}
    own = {(s.device, str(s.address.ip)) for s in stations.gateways if s.address is not None}
    found = []
    for row in network.survey.devices:
        device = network.names.spelled[row.device]
        if row.management in (None, NONE) or (device, row.management) in own:
            continue
        station = inside.get(device)
        ip, prefix = _split(station.row.address, prefixes) if station is not None else (row.management, None)
        vid = station.row.vid if station is not None else None
        found.append(Addressed(device, "management", vid, ip, prefix, None, row.chassis, None))
    return found


def _marked(network: Network, rows: list[Addressed]) -> Iterator[Addressed]:
    """The rows with what clashes, and what is in none of the subnets that are served in its VLAN."""
    holders: dict[str, list[Addressed]] = defaultdict(list)
    for row in rows:
        if row.address and row.address != NONE:
            holders[row.address].append(row)
    served: dict[int, list[Block]] = defaultdict(list)
    for station in network.stations.gateways:
        if station.address is not None and station.row.vid:
            served[station.row.vid].append(Block.of(str(station.address)))
    for row in rows:
        marks = [
            f"also {_name(other)}"
            for other in holders.get(row.address or "", ())
            if other is not row and not interface(row.address or "").is_link_local
        ]
        if row.interface in (None, "management") and row.vid in served and row.address not in (None, NONE):
            number, width = number_of(row.address or "")
            same = [block for block in served[row.vid or 0] if (block.version == 6) == (width == 128)]
            if same and not any(block.holds(number, width) for block in same):
                marks.append(f"in none of the subnets of VLAN {row.vid}")
        yield msgspec.structs.replace(row, marks=tuple(marks)) if marks else row


def _name(row: Addressed) -> str:
    return f"{row.name} {row.interface}" if row.interface else row.name


def _order(row: Addressed) -> tuple[int, int, str]:
    if row.address is None or row.address == NONE:
        return (9, 0, row.name)
    number, width = number_of(row.address)
    return (width, number, row.name)


def _split(text: str | None, prefixes: dict[Block, str]) -> tuple[str | None, str | None]:
    """An address and its prefix; `prefixes` are those that were put into words already."""
    if text is None or text == NONE:
        return text, None
    block = Block.of(text)
    if block not in prefixes:
        prefixes[block] = str(interface(text).network)
    return text.partition("/")[0], prefixes[block]


def _gateway(network: Network, station: Station, prefixes: dict[Block, str]) -> Addressed:
    assert isinstance(station.row, Gateway)
    own, prefix = _split(station.row.address, prefixes)
    vid = station.row.vid or network.current_vlan(station)
    return Addressed(station.device, station.name, vid, own, prefix, None, None, None)


def _hosts(network: Network, prefixes: dict[Block, str]) -> Iterator[Addressed]:
    """The hosts, by columns: where each is plugged in and what its address is are looked up once."""
    stations, survey = network.stations, network.told
    ends = {host.name.casefold(): host.end for host in stations.elsewhere}
    told = [survey.column("hosts", column) for column in ("host", "address", "gateway", "mac")]
    for folded, pair, name, address, gateway, mac in zip(stations.hosts, stations.pairs, *told, strict=True):
        end = ends.get(folded, pair)
        vid = network.classes.of(folded).vid
        at = " ".join(map(str, end)) if end else None
        for one in address.split() if address and " " in address else [address]:
            own, prefix = _split(one, prefixes)
            yield Addressed(name, None, vid, own, prefix, gateway, mac, at)
