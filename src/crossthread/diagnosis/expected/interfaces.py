"""What an interface's name, its tag, and the other interfaces of its device say of the VLAN that it serves."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence
from functools import cached_property

from crossthread.diagnosis.expected.prefix_lengths import PrefixLengths
from crossthread.network.hosts.station import HostStation, Interface, Station
from crossthread.network.network import Network
from crossthread.network.switching.known_vids import find_named_vids
from crossthread.values import NO_VID


class Interfaces:
    """What is known of the interfaces of a network that route, whatever VLAN each should serve."""

    def __init__(self, network: Network, lengths: PrefixLengths) -> None:
        self._network, self._lengths = network, lengths
        self._claims: dict[Station, bool] = {}

    def named_vid(self, station: Station) -> int | None:
        """The VID in an interface's name, such as 30 in `vlan30` or `up1.30`, if it is a VLAN of this network."""
        if isinstance(station, HostStation):
            return None
        found = re.search(r"(?:vlan[^0-9]*|\.)(\d{1,4})$", station.name.casefold())
        if found is None or not self._spoken >> int(found[1]) & 1:
            return None
        return int(found[1])

    @cached_property
    def _spoken(self) -> int:
        return find_named_vids(self._network.survey)

    def told_vid(self, station: Station) -> int | None:
        """The VID that an interface's name says; else the VLAN that it says it serves, if its frames carry no tag."""
        untagged = isinstance(station, Interface) and station.end is not None and station.tag == NO_VID
        return self.named_vid(station) or (station.row.vid if untagged else None)

    def let_through_as_named(self, station: Station) -> bool:
        """Whether the port that an interface is plugged into carries the VLAN that it is named after, not its tag."""
        if not isinstance(station, Interface) or station.end is None or not station.row.vid:
            return False
        named, tag = self.named_vid(station), station.row.vid
        facing = self._network.adjacencies_at.get(station.end, ())
        ports = (self._network.port(link.far(station.end)) for link in facing)
        lists = [row.allowed for row in ports if row is not None and row.mode != "access"]
        return bool(lists) and all(held is not None and named in held and tag not in held for held in lists)

    def crossed(self, station: Station) -> Interface | None:
        """The interface beside this one that has the tag which this is named after, and is named after this one's."""
        named, tag = self.named_vid(station), station.row.vid
        if not isinstance(station, Interface) or named in (None, tag):
            return None
        beside = (s for s in self._network.stations.on_device.get(station.device, ()) if s.end == station.end)
        return next((s for s in beside if s.row.vid == named and self.named_vid(s) == tag), None)

    def claimed(self, station: Station) -> bool:
        """Whether another interface of the device has a better claim to the tag of this one: two cannot hold it."""
        if station not in self._claims:
            self._claims[station] = isinstance(station, Interface) and any(
                self._claims_tag(other, station.row.vid)
                for other in self._network.stations.on_device.get(station.device, ())
                if other.name != station.name and other.end == station.end
            )
        return self._claims[station]

    def _claims_tag(self, gateway: Interface, vid: int | None) -> bool:
        """Whether the hosts of an interface's subnet, and its name, say more for a tag than for the one it has."""
        own = gateway.row.vid
        if gateway.address is None or vid is None or own in (None, vid):
            return False
        said: Counter[int | None] = Counter({self.named_vid(gateway): 1})
        for group in self._lengths.around(gateway.address.ip):
            if isinstance(group.stations[0], HostStation):
                said[group.vid] += len(group.stations)
        return said[vid] > said[own]

    def refused(self, vid: int, interfaces: Sequence[Interface]) -> bool:
        """Whether no interface of a subnet could serve a VLAN, as each has another beside it that does so rightly.

        However many hosts of the subnet are there then, it is not where their subnet lives.
        """
        return bool(interfaces) and all(
            (one.row.vid != vid if one.row.vid else one.end is not None)
            and any(
                other.end == one.end
                and self._serves(other) == vid
                and self.crossed(other) is None
                and self._at_home(other, one)
                for other in self._network.stations.on_device.get(one.device, ())
            )
            for one in interfaces
        )

    def _at_home(self, gateway: Interface, beside: Interface) -> bool:
        """Whether in no VLAN are more hosts of an interface's subnet than in its own, and it has one of its own."""
        own, other = gateway.address, beside.address
        if own is None or other is None or own.ip in other.network or other.ip in own.network:
            return False
        groups = (group for group in self._lengths.around(own.ip) if isinstance(group.stations[0], HostStation))
        homes = Counter[int | None]()
        for group in groups:
            homes[group.vid] += len(group.stations)
        return 0 < homes[self._serves(gateway)] == max(homes.values())

    def _serves(self, gateway: Interface) -> int | None:
        """The VLAN of an interface by its tag; where nobody read that, by its name."""
        return gateway.row.vid or self.named_vid(gateway)

    def only_managed(self, one: Station) -> bool:
        """Whether an interface is there to manage its device, which has no other and forwards for nobody."""
        return isinstance(one, Interface) and one.device in self._managed

    @cached_property
    def _managed(self) -> set[str]:
        """The devices that forward nothing, and have one interface, whose address no host has as its gateway."""
        found = set[str]()
        for device, held in self._network.stations.on_device.items():
            own = [s for s in held if s.address is not None]
            alone = len({s.name for s in own}) == 1 and not any(str(s.ip) in self._asked_for for s in own)
            if alone and self._network.routing.on(device, self._network.version) is False:
                found.add(device)
        return found

    @cached_property
    def _asked_for(self) -> set[str | None]:
        """The gateways that hosts use."""
        return {one.gateway for one in self._network.classes.all}
