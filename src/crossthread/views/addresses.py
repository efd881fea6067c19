"""The addressing table: every interface and host with its VLAN, address, prefix and gateway."""

from __future__ import annotations

from collections.abc import Iterator

import msgspec

from crossthread.answer import Answer
from crossthread.network.given import of_network
from crossthread.network.hosts.classes import Block, number_of
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


class Addresses(Answer, frozen=True):
    """The addressing table: gateways first, then hosts, each in the order of their addresses."""

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
        Gateways first, then hosts, each in the order of their addresses.

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
    hosts = list(_hosts(network, prefixes))
    return Addresses((*sorted(gateways, key=_order), *sorted(hosts, key=_order)))


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
    stations, survey = network.stations, network.survey
    ends = {host.name.casefold(): host.end for host in stations.elsewhere}
    told = [survey.column("hosts", column) for column in ("host", "address", "gateway", "mac")]
    for folded, pair, name, address, gateway, mac in zip(stations.hosts, stations.pairs, *told, strict=True):
        own, prefix = _split(address, prefixes)
        end = ends.get(folded, pair)
        vid = network.classes.of[folded].vid
        yield Addressed(name, None, vid, own, prefix, gateway, mac, " ".join(map(str, end)) if end else None)
