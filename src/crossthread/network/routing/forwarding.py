"""Walking a packet through a network: who answers ARP, who forwards, where it stops.

The eight points of the forwarding model. ARP (RFC 826) and IPv6 neighbour discovery (RFC 4861) are one thing here:
the question has to reach somebody who answers for the address, and the answer has to come back.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import msgspec

from crossthread.network.hosts.station import HostStation, Interface, Station
from crossthread.network.network import Network
from crossthread.network.routing.filtering import Filtering
from crossthread.network.routing.filters import Packet
from crossthread.network.routing.routes import KEPT, Choice
from crossthread.network.routing.walks import Fork, Leg, Stop, Walk, combine
from crossthread.network.three_valued import Truth, all_of
from crossthread.survey.records import Gateway, Row
from crossthread.values import NONE, Address, PrefixedAddress, address

_UNREAD = ("", None)
"""Among the devices that a packet has passed: a router that nobody read, which need not be passed twice."""

_RECENT = 16
"""How many walks are kept for whoever asks for the same again: of one pair of hosts an echo each way, and replies."""


def _holds(station: Station, wanted: Address, holders: Sequence[Station]) -> Truth:
    """Whether a station answers for an address: one that it shares with others only while it holds it.

    Where nobody read which of several holds it, one of them does.
    """
    if not isinstance(station, Interface) or station.ip == wanted or station.row.virtual != str(wanted):
        return True
    state = station.row.virtual_state
    return state == "master" if state is not None else len({one.device for one in holders}) > 1 or None


def _is_there(station: Station, target: Station) -> bool:
    """Whether what has come to a station is at its target: a device takes what is for any of its interfaces."""
    if not (isinstance(station, Interface) and isinstance(target, Interface)) or station.device != target.device:
        return False
    return station.row.table == target.row.table


def _is_its_own(sender: Station, holder: Station, wanted: Address) -> bool:
    """Whether an address is one of the sender's own, for itself alone."""
    return holder.ip == wanted and holder.up is not False and (holder is sender or _is_there(sender, holder))


def is_broadcast(target: Address, own: PrefixedAddress) -> bool:
    """Whether an address is the broadcast address of a subnet (RFC 919; none for /31, RFC 3021, nor in IPv6)."""
    network = own.network
    return target.version == 4 and network.prefixlen < 31 and target == network.broadcast_address


class Forwarding:
    """Walks packets between the hosts of a network."""

    def __init__(self, network: Network) -> None:
        self._stations, self._routing, self._hearing = network.stations, network.routing, network.hearing
        self._heard: dict[tuple[Station, Station], Truth] = {}
        self._recent: dict[tuple[Station, Station], Walk] = {}
        self._answered: dict[tuple[Station, Address], list[tuple[Station, bool, Truth]]] = {}
        self._onward: dict[tuple[Station, Station], Walk] = {}
        self._arriving: dict[tuple[str, str | None, Station], Walk] = {}
        self._connected: dict[str, set[Address]] = {}
        self._unread_addresses = network.unread_addresses
        self._unread, self._filtering, self._stranger_at = network.unread, Filtering(network), network.stranger_at
        self._version, self._versions = network.version, network.versions
        twin = network.twin
        self._twin: Forwarding | None = None
        if twin is not None and network.version == 4:
            self._twin, self._twin_hosts = Forwarding(twin), twin.stations.hosts
        self._delivered: dict[Station, bool] = {}

    def echo(self, source: Station, target: Station) -> Truth:
        """Whether an echo arrives and its reply comes back, by each version of IP that both hosts have.

        Where it does not arrive, no reply is walked.
        """
        if self._twin is None:
            return self.echo_alone(source, target)
        common = self._versions(source.name) & self._versions(target.name)
        found = self.echo_alone(source, target) if self._version in common or not common else True
        if len(common) == 2 or (common and self._version not in common):
            one, two = (self._twin_hosts[host.name.casefold()] for host in (source, target))
            found = all_of((found, self._twin.echo_alone(one, two)))
        return found

    def echo_alone(self, source: Station, target: Station) -> Truth:
        """The same by the addresses of one version only."""
        there = self.send(source, target).arrives
        return all_of((there, self.send(target, source, reply=True).arrives)) if there is not False else False

    def send(self, source: Station, target: Station, reply: bool = False) -> Walk:
        """Walk one packet, an echo or its reply, from a host to a host, with all that the source knows."""
        walk = self._walked(source, target)
        if not self._filtering.used or walk.arrives is False or source.ip is None or target.ip is None:
            return walk
        itself = {station.device for station in (source, target) if isinstance(station, Interface)}
        by = self._filtering.seen_by(self._walked(target, source)) if reply else frozenset[str]()
        return self._filtering.filtered(walk, Packet(source.ip, target.ip, reply, by), itself)

    def _walked(self, source: Station, target: Station) -> Walk:
        """A walk past no filters; the last ones are kept: where filters are, each is asked for several times."""
        if not self._filtering.used:
            return self._walk(source, target)
        key = source, target
        if key not in self._recent:
            if len(self._recent) >= _RECENT:
                self._recent.clear()
            self._recent[key] = self._walk(source, target)
        return self._recent[key]

    def _walk(self, source: Station, target: Station) -> Walk:
        for host in (source, target):
            if host.address is None:
                if host.row.address == NONE:
                    return Walk(False, (), Stop("address", host))
                return Walk(None, (), Stop("unknown", host), ((host.row, "address"),))
        own, goal = source.address, target.ip
        assert own is not None
        assert goal is not None
        if own.version != goal.version:
            return Walk(False, (), Stop("family", target, goal))
        if isinstance(target, Interface) and target.up is False:
            return Walk(False, (), Stop("down", target, goal))
        if isinstance(source, Interface):
            return self._from_device(source, target, goal)
        if goal in own.network:
            if is_broadcast(goal, own):
                return Walk(False, (), Stop("broadcast", source, goal))
            return self._deliver(source, goal, target, ())
        gateway = source.row.gateway if isinstance(source, HostStation) else None
        if gateway is None:
            cut = next((host for host in (source, target) if host.up is False), None)
            if cut is not None:  # whatever its gateway is
                return Walk(False, (), Stop("down", cut, goal))
            return Walk(None, (), Stop("unknown", source), ((source.row, "gateway"),))
        if gateway == NONE:
            return Walk(False, (), Stop("gateway", source, goal))
        hop = address(gateway)
        if hop.version != own.version or (hop not in own.network and not hop.is_link_local):
            return Walk(False, (), Stop("gateway-outside", source, hop))
        return self._deliver(source, hop, target, ())

    def _from_device(self, source: Interface, target: Station, goal: Address) -> Walk:
        """Walk a packet that a device sends itself, with an interface's address as its own."""
        if source.up is False:
            return Walk(False, (), Stop("down", source, goal))
        if isinstance(target, Interface) and target.device == source.device:
            return Walk(True, ())
        if source in self._stations.managed and not self._stations.on_device.get(source.device):
            if source.address is not None and goal in source.address.network:
                return self._deliver(source, goal, target, ())
            return self._by_default(source, target)
        return self._by_known_routes(source, target, ())

    def _by_default(self, source: Interface, target: Station) -> Walk:
        """Walk what a bridge sends from its management address to another subnet: by its default route."""
        assert source.address is not None
        for row in self._routing.routes(source.device):
            hop = address(row.next_hop) if row.next_hop not in (None, NONE) and row.next_hop else None
            if row.prefix in ("0.0.0.0/0", "::/0") and hop is not None and hop in source.address.network:
                return self._deliver(source, hop, target, ())
        return Walk(None, (), Stop("unknown", source, target.ip))

    def answers(self, sender: Station, wanted: Address) -> list[tuple[Station, bool, Truth]]:
        """Who answers when a station asks for an address: the station, whether by proxy, and how surely."""
        key = (sender, wanted)
        if key not in self._answered:
            if len(self._answered) >= KEPT:
                self._answered.clear()
            self._answered[key] = self._find_answers(sender, wanted)
        return self._answered[key]

    def _find_answers(self, sender: Station, wanted: Address) -> list[tuple[Station, bool, Truth]]:
        found: list[tuple[Station, bool, Truth]] = []
        holders = self._stations.by_address.of(str(wanted))
        # Whoever has an address itself need not ask for it: what becomes of the packet differs from maker to maker.
        asks = None if any(_is_its_own(sender, one, wanted) for one in holders) else True
        for station in holders:
            holds = _holds(station, wanted, holders)
            if station is not sender and sender.row != station.row and holds is not False:
                found.append((station, False, all_of((asks, holds, self.resolves(sender, station)))))
        if not any(heard for _, _, heard in found):
            found += self._by_address_unread(sender, wanted)
        for station in self._stations.proxies:
            if station.device == sender.device and not isinstance(sender, HostStation):
                continue
            if any(station is other for other, _, _ in found):
                continue
            answers = self._answers_for(station, wanted)
            if answers is not False and (heard := all_of((answers, self.resolves(sender, station)))) is not False:
                found.append((station, True, heard))
        return found

    def _by_address_unread(self, sender: Station, wanted: Address) -> Iterator[tuple[Station, bool, Truth]]:
        """The interfaces that may have an address as their own, or share it, though that was not read of them."""
        unread, own = self._unread_addresses, wanted.version == 6 and wanted.is_link_local
        if not own and str(wanted) in self._stations.by_address:
            return
        may = unread.sharing(wanted, sender.device if isinstance(sender, Interface) else None)
        may += [one for one in unread.link_local if own and one not in may and one.device != sender.device]
        for station in may:
            if (heard := self.resolves(sender, station)) is not False:
                yield station, False, all_of((None, heard))

    def _answers_for(self, gateway: Station, wanted: Address) -> Truth:
        """Whether a gateway answers for an address behind it (proxy ARP, RFC 1027)."""
        row = gateway.row
        assert isinstance(row, Gateway)
        says: Truth = {"yes": True, "no": False}.get(row.proxy_arp or "")
        routes = self._routing.on(gateway.device, wanted.version)
        if wanted.version == 6 and says is None:
            return False  # nobody answers for others in IPv6 unless told to, address by address (RFC 4861, 7.2.8)
        ways = self._routing.choices(gateway.device, row.table, wanted)
        if not ways:
            may = says is not False and routes is not False and self._unread.routes_of(gateway.device)
            return None if may else False  # by a route that nobody read
        if ways[0].interface.name == gateway.name or ways[0].discards:
            return False
        # Makers differ in whether a device answers, by proxy, for its own address of another interface.
        its_own = any(s.ip == wanted for s in self._stations.on_device[gateway.device])
        return all_of((says, routes, ways[0].usable, None if its_own else True))

    def _proxy_gaps(self, gateway: Station) -> list[tuple[Row, str]]:
        """What was not observed of whether a gateway answers for others."""
        rows: list[tuple[Row, str]] = []
        if isinstance(gateway, Interface) and gateway.row.proxy_arp is None:
            rows.append((gateway.row, "proxy_arp"))
        if self._routing.on(gateway.device) is None:
            rows += [(row, "routing") for row in self._routing.device_rows(gateway.device)]
        return rows

    def resolves(self, sender: Station, receiver: Station) -> Truth:
        """Whether the question reaches the receiver and the answer comes back."""
        key = (sender, receiver)
        if key not in self._heard:
            there = self._hearing.hears(sender, receiver)
            back = self._hearing.hears(receiver, sender) if there is not False else False
            self._heard[key] = all_of((there, back))
        return self._heard[key]

    def _deliver(
        self, sender: Station, hop: Address, target: Station, seen: tuple[tuple[str, str | None], ...]
    ) -> Walk:
        """Send a packet to a next hop on the sender's own segment, and follow it from there."""
        found = self._to_known(sender, hop, target, seen)
        if found.arrives is not False:
            return found
        if False not in (sender.up, target.up) and self._stranger_at(str(hop)) is not None:
            return msgspec.structs.replace(found, arrives=None, stop=Stop("beyond", sender, hop))
        if _UNREAD in seen:
            return found
        if not self.may_be_taken(sender, hop) or not self._may_pass_on(target):
            return found
        return msgspec.structs.replace(found, arrives=None, stop=Stop("beyond", sender, hop))

    def may_be_taken(self, sender: Station, wanted: Address) -> bool:
        """Whether a router that nobody read may answer for an address: one that nobody surely has for itself alone."""
        for station, proxy, heard in self.answers(sender, wanted):
            shared = isinstance(station, Interface) and station.row.virtual == str(wanted)
            if heard and not proxy and not shared:
                return False
        return self._unread.hears(sender)

    def _may_pass_on(self, target: Station) -> bool:
        """Whether a packet that a router has which nobody read may get to a station, by whatever way."""
        if target not in self._delivered:
            self._delivered[target] = False  # by no way that comes back to the unknown
            self._delivered[target] = self._unread.heard_by(target) or any(
                self._unread.heard_by(gateway) and self._forward(gateway, target, (_UNREAD,)).arrives is not False
                for gateway in self._stations.gateways
            )
        return self._delivered[target]

    def _to_known(
        self, sender: Station, hop: Address, target: Station, seen: tuple[tuple[str, str | None], ...]
    ) -> Walk:
        """The same, as far as stations were read."""
        known = self.answers(sender, hop)
        answering = [entry for entry in known if entry[2] is not False]
        if not answering:
            return Walk(False, (), Stop("silent", sender, hop, tuple(entry[0] for entry in known)))
        walks = []
        for station, proxy, heard in answering:
            leg = Leg(sender, station, hop, proxy)
            if station is target or _is_there(station, target):
                onward = Walk(True, ())
            elif isinstance(station, HostStation):
                onward = Walk(False, (), Stop("deaf-host", station, hop, (sender,)))
            else:
                onward = self._passed_on(station, target, seen)
            arrives = all_of((onward.arrives, heard))
            stop = onward.stop or (Stop("silent", sender, hop, (station,)) if heard is None else None)
            missing = (*onward.missing, *(self._proxy_gaps(station) if proxy and heard is None else ()))
            walks.append(Walk(arrives, (leg, *onward.legs), stop, missing, onward.aside, onward.contests, onward.forks))
        found = combine(walks, any(entry[2] for entry in answering))
        contested = {True, False} <= {walk.arrives for walk in walks}
        if contested or (found.arrives is None and self._held_twice(sender, hop, answering, walks)):
            found = msgspec.structs.replace(found, contests=(*found.contests, (sender, hop)))
        return found

    def _held_twice(
        self, sender: Station, hop: Address, answering: Sequence[tuple[Station, bool, Truth]], walks: Sequence[Walk]
    ) -> bool:
        """Whether it turns on whose own an address is: two answer for it as theirs, or the sender has it as well."""
        arriving = {walk.arrives for walk, (station, *_) in zip(walks, answering, strict=True) if station.ip == hop}
        if None not in arriving:
            return False
        return len(arriving) > 1 or any(_is_its_own(sender, one, hop) for one in self._stations.by_address.of(str(hop)))

    def _passed_on(self, gateway: Station, target: Station, seen: tuple[tuple[str, str | None], ...]) -> Walk:
        """The same as `_forward`; a gateway's first step is the same whoever asked it, and is walked once.

        What arrives does so by whichever interface the device took it; where it stops, that interface is told.
        """
        if seen:
            return self._forward(gateway, target, seen)
        assert isinstance(gateway.row, Gateway)
        alike = (gateway.device, gateway.row.table, target)
        if alike in self._arriving:
            return self._arriving[alike]
        key = (gateway, target)
        if key not in self._onward:
            if len(self._onward) >= KEPT:
                self._onward.clear()
                self._arriving.clear()
            found = self._onward[key] = self._forward(gateway, target, seen)
            if found.arrives:
                self._arriving[alike] = found
        return self._onward[key]

    def _broadcasts(self, device: str) -> set[Address]:
        """The broadcast addresses of the subnets that a device is connected to, to which it forwards nothing."""
        if device not in self._connected:
            own = (s.address for s in self._stations.on_device[device] if s.address and s.up is not False)
            last = ((address.network.broadcast_address, address) for address in own)
            self._connected[device] = {ip for ip, address in last if is_broadcast(ip, address)}
        return self._connected[device]

    def _forward(self, gateway: Station, target: Station, seen: tuple[tuple[str, str | None], ...]) -> Walk:
        """Let a device forward a packet that one of its interfaces took."""
        assert target.ip is not None
        assert isinstance(gateway.row, Gateway)
        goal, device, table = target.ip, gateway.device, gateway.row.table
        if _is_there(gateway, target):
            return Walk(target.up, ())
        on = self._routing.on(device, goal.version)
        if on is False:
            return Walk(False, (), Stop("routing", gateway, goal))
        if (device, table) in seen:
            return Walk(False, (), Stop("loop", gateway, goal))
        found = self._by_known_routes(gateway, target, seen)
        unread = found.arrives is False and (
            self._unread.routes_of(device)  # a longer prefix than any that was read may be among them
            or self._routing.hop_unread(device, table, goal)
        )
        if unread and self._may_be_routed(gateway, target, seen):
            found = msgspec.structs.replace(found, arrives=None, stop=Stop("beyond", gateway, goal))
        if on is None and found.arrives is not False:
            column = "routing6" if goal.version == 6 else "routing"
            rows = [(row, column) for row in self._routing.device_rows(device)]
            return msgspec.structs.replace(
                found, arrives=None, stop=Stop("unknown", gateway, goal), missing=(*found.missing, *rows)
            )
        return found

    def _may_be_routed(self, gateway: Station, target: Station, seen: tuple[tuple[str, str | None], ...]) -> bool:
        """Whether a device may have a route that nobody read, by which a packet arrives."""
        device, table = gateway.device, gateway.row.table if isinstance(gateway.row, Gateway) else None
        if device in self._unread.devices and _UNREAD not in seen and self._may_pass_on(target):
            return True
        for own in self._stations.on_device[device]:
            if own.up is False:
                continue
            if _UNREAD not in seen and self._unread.hears(own) and self._may_pass_on(target):
                return True
            for other in self._unread.beside(own):
                if (other.device, other.row.table) in seen or self.resolves(own, other) is False:
                    continue
                if self._forward(other, target, (*seen, (device, table))).arrives is not False:
                    return True
        return False

    def _by_known_routes(self, gateway: Station, target: Station, seen: tuple[tuple[str, str | None], ...]) -> Walk:
        """Forward a packet as the routes say that were read."""
        assert target.ip is not None
        assert isinstance(gateway.row, Gateway)
        goal, device, table = target.ip, gateway.device, gateway.row.table
        ways = self._routing.choices(device, table, goal)
        if not ways:
            return Walk(False, (), Stop("route", gateway, goal))
        walks = []
        for way in ways:
            if way.discards:
                walks.append(Walk(False, (), Stop("discards", gateway, goal, choice=way)))
                continue
            if way.anywhere and way.route is not None:
                walks.append(Walk(None, (), Stop("unknown", gateway, goal), ((way.route, "next_hop"),)))
                continue
            if way.next_hop is None and goal in self._broadcasts(device):
                walks.append(Walk(False, (), Stop("broadcast", way.interface, goal, choice=way)))
                continue
            onward = self._deliver(way.interface, way.next_hop or goal, target, (*seen, (device, table)))
            if onward.arrives is False and way.route is not None and way.route.next_hop is None:  # not read
                walks.append(Walk(False, (), Stop("unknown", gateway, goal), ((way.route, "next_hop"),)))
                continue
            unread: list[tuple[Row, str]] = []
            if way.looked_up and way.route is not None:
                unread.append((way.route, "interface"))
            if untold := self._routing.untold(device):
                row = way.route if untold == "routes" else way.interface.row
                unread += [(row, "table")] if row is not None else []
            if unread and onward.arrives is not False:
                onward = msgspec.structs.replace(onward, missing=(*onward.missing, *unread))
            if onward.stop is not None and onward.stop.station is way.interface and onward.stop.choice is None:
                stop = msgspec.structs.replace(onward.stop, choice=way)
                onward = msgspec.structs.replace(onward, stop=stop)
            walks.append(onward)
        found = combine(walks, any(way.usable for way in ways))
        return _at_fork(gateway, ways, walks, found) if found.arrives is None and len(ways) > 1 else found


def _at_fork(gateway: Station, ways: Sequence[Choice], walks: Sequence[Walk], found: Walk) -> Walk:
    """The same walk with what it turns on, if by one of several ways that are there it arrives and by another not.

    That is a metric that nobody read, unless a protocol put both in the table, which keeps the best; else the routes
    are as good, and the device may take either.
    """
    sure = [(way, walk) for way, walk in zip(ways, walks, strict=True) if way.usable]
    good = next((way for way, walk in sure if walk.arrives), None)
    bad = next(((way, walk.stop) for way, walk in sure if walk.arrives is False), None)
    if good is None or bad is None:
        return found
    rows = [way.route for way, _ in sure if way.route is not None and way.route.metric is None]
    unread = [(row, "metric") for row in rows if row.origin in (None, "static")]
    if unread:
        return msgspec.structs.replace(found, missing=(*found.missing, *unread))
    return msgspec.structs.replace(found, forks=(*found.forks, Fork(gateway, good, *bad)))
