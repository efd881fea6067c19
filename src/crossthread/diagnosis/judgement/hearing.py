"""Who is heard: all stations but those that are accused themselves."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Sequence
from typing import NamedTuple

from crossthread.diagnosis.context import Context
from crossthread.network.hosts.station import HostStation, Interface, Station
from crossthread.values import NONE, Address, PrefixedAddress, address

Accused = tuple[str, str]
"""A host ("", its name) or an interface (its device, its name) whose settings an explanation calls wrong."""


class Alike(NamedTuple):
    """Witnesses that nothing tells apart: one of them, how many they are, and the class that they are of."""

    station: Station
    number: int
    those: Sequence[Station]


class Hearing:
    """The evidence of a network, without that of those who are accused: what is itself in doubt is no witness."""

    def __init__(self, context: Context, accused: Collection[Accused] = ()) -> None:
        self.context, self._accused = context, frozenset(accused)
        self._silent: dict[Station | None, list[Sequence[Station]]] = {}

    def hears(self, station: Station) -> bool:
        """Whether a station is a witness."""
        return (station.device if isinstance(station, Interface) else "", station.name) not in self._accused

    def near(self, ip: Address, but: Station) -> Iterator[Alike]:
        """The witnesses in whose subnet an address is, all but one; not those of which only the address is of it."""
        for group in self.context.expected.groups(ip):
            if not self.context.expected.only_address_is_odd(group.stations[0]):
                yield from self._heard(group.stations, but)

    def _heard(self, stations: Sequence[Station], but: Station | None) -> Iterator[Alike]:
        """Those of some stations that are alike who are witnesses, all but one."""
        count = len(stations) - sum(held is stations for held in self._held(but))
        if count > 0:
            first = next((s for s in stations if s is not but and self.hears(s)), None)
            if first is not None:
                yield Alike(first, count, stations)

    def _held(self, but: Station | None) -> list[Sequence[Station]]:
        """The classes of all hosts that are not heard; the same class once for each."""
        if but not in self._silent:
            network = self.context.network
            names = {name.casefold() for device, name in self._accused if not device}
            names |= {but.name.casefold()} if isinstance(but, HostStation) else set()
            self._silent[but] = [network.classes.of(name).hosts for name in names if name in network.stations.hosts]
        return self._silent[but]

    def kin(self, station: Station) -> list[Alike]:
        """The witnesses of a station's subnet, and of its gateway or those that use it."""
        own = station.address
        if own is None:
            return []
        found = {id(one.those): one for one in self.near(own.ip, station)}
        if isinstance(station, Interface):
            users = (one for one in self.users(str(own.ip), station) if one.station.address)
            found |= {
                id(one.those): one
                for one in users
                if one.station.address and own.ip in one.station.address.network and id(one.those) not in found
            }
        elif isinstance(station, HostStation) and (hop := station.row.gateway) not in (None, NONE):
            holders = (
                self.context.network.stations.by_address.of(hop or "") if address(hop or "") in own.network else ()
            )
            known = {id(one.station) for one in found.values()}
            found |= {
                id(s): Alike(s, 1, (s,))
                for s in holders
                if isinstance(s, Interface) and self.hears(s) and id(s) not in known
            }
        return list(found.values())

    def users(self, hop: str, but: Station | None = None) -> list[Alike]:
        """The witnesses that have an address as their gateway, and may mean it.

        Of one whose own address and port agree on another subnet, the gateway is the odd one out.
        """
        found = [one for asking in self.context.expected.asking(hop) for one in self._heard(asking.hosts, but)]
        return [one for one in found if self._may_mean(one.station, hop)]

    def _may_mean(self, station: Station, hop: str) -> bool:
        expected = self.context.expected
        own, now = expected.subnet(station), expected.current_vlan(station)
        return own is None or address(hop) in own.network or now is None or expected.vlan(station) != now

    def count_users(self, hop: str, but: Station) -> int:
        """How many witnesses have an address as their gateway, besides one."""
        return sum(one.number for one in self.users(hop, but))

    def vlan(self, station: Station) -> int | None:
        """The VLAN that a station is in; not of an interface whose tag is wrong by most of what was read."""
        expected = self.context.expected
        vid = expected.current_vlan(station)
        if isinstance(station, HostStation):
            return vid
        return vid if expected.vlan(station) == vid and not expected.undecided(station) else None

    def home(self, near: Iterable[Alike]) -> set[int]:
        """The VLANs that some of one subnet live in: its gateways', if it has any, else its hosts'."""
        held = [one.station for one in near]
        found = {vid for s in held if isinstance(s, Interface) and (vid := self.vlan(s) or self._named(s))}
        return found or {vid for s in held if isinstance(s, HostStation) and (vid := self.vlan(s))}

    def _named(self, interface: Interface) -> int | None:
        """The VLAN of an interface whose tag is wrong, if its name and most of the evidence agree on it."""
        vid = self.context.expected.named_vid(interface)
        return vid if vid is not None and vid == self.context.expected.vlan(interface) else None

    def strangers(self, vid: int, station: Station) -> bool:
        """Whether stations live in a VLAN, and none of the subnet of one that is asked about."""
        if any(self.vlan(one.station) == vid for one in self.kin(station)):
            return False
        classes = self.context.living_in(vid, station)
        hosts = (host for one in classes if one.block is not None for host in one.hosts[:2])
        gateways = (s for s in self.context.network.stations.gateways if s.address and self.vlan(s) == vid)
        gateways = (s for s in gateways if self.context.network.one_lan(s, station))
        return any(s is not station and self.hears(s) and _one_version(s, station) for s in (*hosts, *gateways))

    def in_transit(self, host: HostStation, own: PrefixedAddress | None = None) -> bool:
        """Whether a host's address, or another, is in a subnet between routers, of which one sends to another there.

        It may have an address of elsewhere itself by now.
        """
        stations = [one.station for one in (self.kin(host) if own is None else self.near(own.ip, host))]
        if not all(isinstance(station, Interface) for station in stations):
            return False
        routed_to = self.context.routed_to
        return any(device != station.device for station in stations for device in routed_to.get(str(station.ip), ()))

    def others_served(self, vid: int, station: Station) -> bool:
        """Whether an interface serves a subnet in a VLAN that is not a station's own, and hosts of it live there."""
        if station.address is None:
            return False
        for gateway in self.context.expected.served(vid, station):
            own = gateway.address if _one_version(gateway, station) else None
            if gateway is station or own is None or not self.hears(gateway) or station.address.ip in own.network:
                continue
            if any(isinstance(one.station, HostStation) and self.vlan(one.station) == vid for one in self.kin(gateway)):
                return True
        return False


def _one_version(one: Station, other: Station) -> bool:
    """Whether two have addresses of one version of IP: a subnet of each may well be in one VLAN."""
    return one.address is None or other.address is None or one.address.version == other.address.version
