"""What a setting most likely should be, by the evidence of everything around it.

Nobody may have written a plan, but a network says most things several times: a subnet's VLAN is said by its gateway's
tag, by the ports of its hosts and often by the interface's name; its prefix length by every host and gateway in it.
Here they vote.
"""

from __future__ import annotations

import re
from collections import Counter, defaultdict
from collections.abc import Iterator
from functools import cached_property
from ipaddress import ip_interface

from crossthread.network.network import Network
from crossthread.network.stations import Station
from crossthread.network.truth import vids_in
from crossthread.survey.tables import Gateway, Host
from crossthread.values import NONE, Address, Interface, address

_HOST, _GATEWAY, _WEAK = 1.0, 1.5, 0.4


class Expected:
    """Expectations of a network's stations."""

    def __init__(self, network: Network) -> None:
        self._network = network
        self._vlan: dict[int, int | None] = {}
        self._weights: dict[int, dict[int, float]] = {}
        self._length: dict[int, int | None] = {}

    @cached_property
    def _stations(self) -> list[Station]:
        stations = self._network.stations
        return [s for s in (*stations.hosts.values(), *stations.gateways) if s.address is not None]

    @cached_property
    def _by_block(self) -> dict[tuple[int, int], list[Station]]:
        """Stations by the /16 (IPv4) or /48 (IPv6) that their address is in, to look at few of them."""
        found: dict[tuple[int, int], list[Station]] = defaultdict(list)
        for station in self._stations:
            assert station.address is not None
            found[_block(station.address.ip)].append(station)
        return found

    @cached_property
    def _wide(self) -> list[Station]:
        return [s for s in self._stations if s.address and s.address.network.prefixlen < _BLOCK[s.address.version]]

    def near(self, wanted: Address) -> Iterator[Station]:
        """The stations in whose subnet an address is, by their own prefix length."""
        seen = set()
        for station in (*self._by_block.get(_block(wanted), ()), *self._wide):
            own = station.address
            if own and id(station) not in seen and own.version == wanted.version and wanted in own.network:
                seen.add(id(station))
                yield station

    def current_vlan(self, station: Station) -> int | None:
        """The VLAN that a station's frames join as things are, if that is one and known."""
        for tap in station.taps:
            found = list(vids_in(tap.enters.possible))
            if len(found) == 1:
                return found[0]
        row = station.row
        if isinstance(row, Gateway):
            return row.vid
        if station.end is not None:
            port = self._network.names.ports.get(station.end.device, {}).get(station.end.port)
            return (port.pvid or None) if port else None
        return None

    def _votes(self, station: Station) -> Iterator[tuple[Station, float]]:
        own = station.address
        assert own is not None
        for other in self.near(own.ip):
            if other is station:
                continue
            assert other.address is not None
            mutual = other.address.ip in own.network
            linked = _gateway(station) == other.address.ip or _gateway(other) == own.ip
            if other.is_host:
                yield other, _HOST if mutual or linked else _WEAK
            else:
                yield other, _GATEWAY if mutual or linked else _WEAK

    def vlan(self, station: Station) -> int | None:
        """The VLAN a station should be in: where its subnet lives by most of the evidence."""
        if id(station) not in self._vlan:
            self._vlan[id(station)] = self._vote_vlan(station)
        return self._vlan[id(station)]

    def doubt(self, station: Station, vid: int) -> int:
        """How much speaks against a station being in a VLAN: 0 nothing, 1 no more than for it, 3 most."""
        wanted = self.vlan(station)
        weights = self._weights.get(id(station), {})
        if wanted is None or wanted == vid:
            return 0
        return 1 if weights.get(vid, 0.0) >= 0.5 * weights.get(wanted, 1.0) else 3

    def _vote_vlan(self, station: Station) -> int | None:
        if station.address is None:
            return self.current_vlan(station)
        count: Counter[int] = Counter()
        weights: dict[int, float] = defaultdict(float)
        for other, weight in (*self._votes(station), (station, _HOST)):
            for vid, share in self._says_vlan(other):
                weights[vid] += weight * share
                count[vid] += 1
        self._weights[id(station)] = weights
        if not weights:
            return None
        best = max(weights.values())
        winners = [vid for vid, weight in weights.items() if weight > best - 1e-9]
        current = self.current_vlan(station)
        return current if current in winners else winners[0]

    def _says_vlan(self, station: Station) -> Iterator[tuple[int, float]]:
        vid = self.current_vlan(station)
        named = self._named_vid(station)
        if named is not None and named != vid:
            yield named, 1.0
        if vid is not None:
            yield vid, 0.5 if named is not None and named != vid else 1.0

    def _named_vid(self, station: Station) -> int | None:
        """The VID in an interface's name, such as 30 in `vlan30` or `up1.30`, if it is a VLAN of this network."""
        if station.is_host:
            return None
        found = re.search(r"(?:vlan[^0-9]*|\.)(\d{1,4})$", station.name.casefold())
        if found is None or not self._network.fabric.known >> int(found[1]) & 1:
            return None
        return int(found[1])

    def length(self, station: Station) -> int | None:
        """The prefix length a station should have: what most of those in its subnet have."""
        if id(station) not in self._length:
            weights: dict[int, float] = defaultdict(float)
            if station.address is not None:
                weights[station.address.network.prefixlen] += _HOST if station.is_host else _GATEWAY
                for other, weight in self._votes(station):
                    assert other.address is not None
                    weights[other.address.network.prefixlen] += weight
            best = max(weights.values(), default=0.0)
            own = station.address.network.prefixlen if station.address else None
            winners = [length for length, weight in weights.items() if weight > best - 1e-9]
            self._length[id(station)] = own if own in winners or not winners else winners[0]
        return self._length[id(station)]

    def subnet(self, station: Station) -> Interface | None:
        """A station's address with the prefix length it should have."""
        length = self.length(station)
        return None if length is None or station.address is None else ip_interface(f"{station.address.ip}/{length}")

    def gateways(self, host: Station) -> list[Station]:
        """The interfaces that serve a host's subnet, the one most of its peers use first."""
        wanted = self.subnet(host)
        if wanted is None:
            return []
        found = [s for s in self._network.stations.gateways if s.address and s.address.ip in wanted.network]
        used: Counter[Address | None] = Counter(
            _gateway(other) for other in self.near(wanted.ip) if other.is_host and other is not host
        )
        served = self.vlan(host)
        return sorted(found, key=lambda s: (-used[gateway_address(s)], self.vlan(s) != served, s.device, s.name))

    def served(self, vid: int | None) -> list[Station]:
        """The gateway interfaces whose subnet lives in a VLAN."""
        return [s for s in self._network.stations.gateways if s.address is not None and self.vlan(s) == vid]

    def users(self, wanted: Address) -> list[Station]:
        """The hosts that have an address as their gateway."""
        return [s for s in self._network.stations.hosts.values() if _gateway(s) == wanted]


_BLOCK = {4: 16, 6: 48}


def _block(ip: Address) -> tuple[int, int]:
    return ip.version, int(ip) >> (ip.max_prefixlen - _BLOCK[ip.version])


def gateway_address(station: Station) -> Address | None:
    """The address that hosts use for a gateway interface: its shared one, else its own."""
    row = station.row
    if isinstance(row, Gateway) and row.virtual and row.virtual != NONE:
        return address(row.virtual)
    return station.address.ip if station.address else None


def _gateway(station: Station) -> Address | None:
    row = station.row
    return address(row.gateway) if isinstance(row, Host) and row.gateway and row.gateway != NONE else None
