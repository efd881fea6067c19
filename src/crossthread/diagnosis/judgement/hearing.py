"""Who is heard: all stations but those that are accused themselves."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator

from crossthread.diagnosis.context import Context
from crossthread.network.hosts.station import HostStation, Interface, Station
from crossthread.values import NONE, Address, address

Accused = tuple[str, str]
"""A host ("", its name) or an interface (its device, its name) whose settings an explanation calls wrong."""


class Hearing:
    """The evidence of a network, without that of those who are accused: what is itself in doubt is no witness."""

    def __init__(self, context: Context, accused: Collection[Accused] = ()) -> None:
        self.context, self._accused = context, frozenset(accused)

    def hears(self, station: Station) -> bool:
        """Whether a station is a witness."""
        return (station.device if isinstance(station, Interface) else "", station.name) not in self._accused

    def near(self, ip: Address, but: Station) -> Iterator[Station]:
        """The witnesses in whose subnet an address is, all but one."""
        return (s for s in self.context.expected.near(ip) if s is not but and self.hears(s))

    def kin(self, station: Station) -> list[Station]:
        """The witnesses of a station's subnet, and of its gateway or those that use it."""
        own = station.address
        if own is None:
            return []
        found = dict.fromkeys(self.near(own.ip, station))
        if isinstance(station, Interface):
            users = (s for s in self.users(str(own.ip), station) if s.address and own.ip in s.address.network)
            found |= dict.fromkeys(users)
        elif isinstance(station, HostStation) and (hop := station.row.gateway) not in (None, NONE):
            holders = (
                self.context.network.stations.by_address.of(hop or "") if address(hop or "") in own.network else ()
            )
            found |= dict.fromkeys(s for s in holders if isinstance(s, Interface) and self.hears(s))
        return list(found)

    def users(self, hop: str, but: Station | None = None) -> list[HostStation]:
        """The witnesses that have an address as their gateway."""
        alike = (one.hosts for one in self.context.network.classes.all if one.gateway == hop)
        return [host for hosts in alike for host in hosts if host is not but and self.hears(host)]

    def count_users(self, hop: str, but: Station) -> int:
        """How many witnesses have an address as their gateway, besides one."""
        alike = [one for one in self.context.network.classes.all if one.gateway == hop]
        hosts = self.context.network.stations.hosts
        unheard = {name.casefold() for device, name in self._accused if not device} | {but.name.casefold()}
        silent = sum(hosts[name].row.gateway == hop for name in unheard if name in hosts)
        return sum(len(one.hosts) for one in alike) - silent

    def vlan(self, station: Station) -> int | None:
        """The VLAN that a station is in; not of an interface whose tag is wrong by most of the evidence."""
        expected = self.context.expected
        vid = expected.current_vlan(station)
        return vid if isinstance(station, HostStation) or expected.vlan(station) == vid else None

    def home(self, near: Iterable[Station]) -> set[int]:
        """The VLANs that some of one subnet live in: its gateways', if it has any, else its hosts'."""
        held = list(near)
        found = {vid for s in held if isinstance(s, Interface) and (vid := self.vlan(s))}
        return found or {vid for s in held if isinstance(s, HostStation) and (vid := self.vlan(s))}

    def strangers(self, vid: int, station: Station) -> bool:
        """Whether stations live in a VLAN, and none of the subnet of one that is asked about."""
        if any(self.vlan(s) == vid for s in self.kin(station)):
            return False
        classes = self.context.classes_in.get(vid, ())
        hosts = (host for one in classes if one.block is not None for host in one.hosts[:2])
        gateways = (s for s in self.context.network.stations.gateways if s.address and self.vlan(s) == vid)
        return any(s is not station and self.hears(s) for s in (*hosts, *gateways))
