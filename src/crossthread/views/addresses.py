"""The addressing table: every interface and host with its VLAN, address, prefix and gateway."""

from __future__ import annotations

import msgspec

from crossthread.network.hosts.station import Station
from crossthread.network.network import Network
from crossthread.survey.records import Gateway, Host
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


class Addresses(msgspec.Struct, frozen=True):
    """The addressing table: gateways first, then hosts, each in the order of their addresses."""

    rows: tuple[Addressed, ...]


def addresses(network: Network) -> Addresses:
    """List every address of a network."""
    gateways = [_gateway(network, station) for station in network.stations.gateways]
    hosts = [_host(network, station) for station in network.stations.hosts.values()]
    return Addresses((*sorted(gateways, key=_order), *sorted(hosts, key=_order)))


def _order(row: Addressed) -> tuple[int, int, str]:
    if row.address is None or row.address == NONE:
        return (9, 0, row.name)
    own = interface(f"{row.address}/{(row.prefix or '/0').rpartition('/')[2]}")
    return (own.version, int(own.ip), row.name)


def _split(text: str | None) -> tuple[str | None, str | None]:
    if text is None or text == NONE:
        return text, None
    own = interface(text)
    return str(own.ip), str(own.network)


def _gateway(network: Network, station: Station) -> Addressed:
    assert isinstance(station.row, Gateway)
    own, prefix = _split(station.row.address)
    vid = station.row.vid or network.current_vlan(station)
    return Addressed(station.device, station.name, vid, own, prefix, None, None, None)


def _host(network: Network, station: Station) -> Addressed:
    row = station.row
    assert isinstance(row, Host)
    own, prefix = _split(row.address)
    at = str(station.end) if station.end else None
    return Addressed(row.host, None, network.current_vlan(station), own, prefix, row.gateway, row.mac, at)
