"""Packet filters: what becomes of a packet at an interface that has one, after the model of RFC 8519."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Set
from ipaddress import ip_network
from typing import NamedTuple

from crossthread.network.coverage import Covered
from crossthread.network.three_valued import Truth, all_of
from crossthread.network.topology.names import End, Names
from crossthread.survey import Survey
from crossthread.survey.records import Filter, Gateway
from crossthread.values import NONE, Address, Prefix

_ECHO = {4: {"icmp", "1"}, 6: {"icmpv6", "ipv6-icmp", "icmp6", "58"}}
_ANY = {"any", "all", "ip", "ipv4", "ipv6"}
_DIRECTIONS = "filter_in", "filter_out"
_OTHER = {"tcp", "udp", "sctp", "gre", "esp", "ah", "ospf", "igmp", "vrrp", "pim"}


class Packet(NamedTuple):
    """An echo request, or its reply."""

    source: Address
    target: Address
    reply: bool
    by: frozenset[str] = frozenset()
    """The devices that the echo surely passed which this replies to."""

    def is_in(self, states: tuple[str, ...], device: str) -> Truth:
        """Whether a device that remembers connections takes it for one of some states.

        A reply to an echo that it has not seen belongs to nothing that it remembers: makers differ in what follows.
        """
        if self.reply and device not in self.by:
            return None
        return ("established" if self.reply else "new") in states


class Passage(NamedTuple):
    """What a filter does with a packet: whether it lets it pass, and the entry that says so; None: none was read."""

    passes: Truth
    entry: Filter | None


def _filtered_ports(survey: Survey, names: Names, loose: Set[str]) -> frozenset[End]:
    """The ports that have a packet filter, as far as was read, or may have one that is listed of some devices.

    What a routed port has is its interface's, and so are a router's filters where nobody read those of any port.
    """
    devices, ports, modes, *both = (survey.column("ports", name) for name in ("device", "port", "mode", *_DIRECTIONS))
    read = {name for column in both for name in set(column)} - {None}
    routing = () if read else (row.device for row in survey.devices if row.routing == "yes")
    loose = loose - {names.spelled[name] for name in routing}
    if not loose and not read - {NONE}:
        return frozenset()
    places = zip(map(names.spelled.__getitem__, devices), ports, modes, *both, strict=True)
    return frozenset(
        End(device, port)
        for device, port, mode, *held in places
        if {*held} - {None, NONE} or (None in held and device in loose and mode != "routed")
    )


class Filters:
    """The packet filters of a survey; of a device whose filters were not read in full no entry decides."""

    def __init__(self, survey: Survey, names: Names, covered: Covered) -> None:
        self._covered = covered
        self._entries: dict[tuple[str, str], list[Filter]] = defaultdict(list)
        for row in survey.filters:
            self._entries[names.spelled[row.device], row.filter].append(row)
        for rows in self._entries.values():
            rows.sort(key=lambda row: (row.number is None, row.number or 0))
        self.used = any(
            name not in (None, NONE)
            for table in ("gateways", "ports")
            for column in _DIRECTIONS
            for name in survey.distinct(table, column)
        )
        """Whether any interface or port has a filter, as far as was read."""
        self._loose = self._nowhere(survey, names)
        self.used = self.used or bool(self._loose)
        self.ports = _filtered_ports(survey, names, self._loose.keys())
        self._prefixes: dict[str, Prefix] = {}
        self._of_interfaces = {
            (row.device, row.interface, way): name
            for row in (survey.gateways if self.used else ())
            for way, name in (("in", row.filter_in), ("out", row.filter_out))
            if name is not None
        }

    def beside(self, row: Gateway, way: str) -> str | None:
        """The filter of an interface for packets that come `in` or go `out`, by its rows of other addresses."""
        return self._of_interfaces.get((row.device, row.interface, way))

    def _nowhere(self, survey: Survey, names: Names) -> dict[str, list[str]]:
        """By device, its filters that no row names: they may be wherever nobody read that."""
        placed = set[tuple[str, str | None]]()
        for table in ("gateways", "ports") if self._entries else ():
            devices = [names.spelled[name] for name in survey.column(table, "device")]
            for column in _DIRECTIONS:
                placed.update(zip(devices, survey.column(table, column), strict=True))
        found = defaultdict[str, list[str]](list)
        for device, name in self._entries.keys() - placed:
            found[device].append(name)
        return {device: sorted(held) for device, held in found.items()}

    def entries(self, device: str, name: str) -> list[Filter]:
        """The entries of a filter in their order; the one without a number, for all other packets, last."""
        return self._entries.get((device, name), [])

    def passage(self, device: str, name: str | None, packet: Packet) -> Passage:
        """What becomes of a packet at a filter of a device; if nobody read which, at one that may be there."""
        if name is None:
            perhaps = (self.passage(device, one, packet) for one in self._loose.get(device, ()))
            return next((Passage(None, told.entry) for told in perhaps if not told.passes), Passage(True, None))
        if name == NONE:
            return Passage(True, None)
        if not self._covered.fully(device, "filters"):
            return Passage(None, None)  # any entry may be missing, also one before the first that matches
        doubtful: Filter | None = None
        for entry in self.entries(device, name):
            if entry.number is None:
                verdict, matches = entry.otherwise, True if entry.otherwise else None
            else:
                verdict, matches = entry.action, self._matches(entry, packet, device)
            if matches is False:
                continue
            if matches and verdict and doubtful is None:
                return Passage(verdict == "accept", entry)
            if matches and verdict and doubtful is not None and verdict == doubtful.action:
                return Passage(verdict == "accept", doubtful)
            doubtful = doubtful or entry
            if matches:
                break
        return Passage(None, doubtful)

    def _matches(self, entry: Filter, packet: Packet, device: str) -> Truth:
        """Whether an entry is about a packet; None if it says something that is not understood."""
        version = packet.source.version
        if entry.family and entry.family != str(version):
            return False
        for prefix, ip in ((entry.source, packet.source), (entry.destination, packet.target)):
            if prefix and not self._within(ip, prefix):
                return False
        remembered = packet.is_in(entry.state, device) if entry.state else True
        if remembered is False:
            return False
        protocol = (entry.protocol or "any").casefold()
        if protocol in _ECHO[version]:
            found: Truth = True
        elif protocol in _ANY:
            found = True
        else:
            other = protocol in _OTHER or protocol in _ECHO[10 - version] or protocol.isdecimal()
            found = False if other else None
        ports = entry.source_port or entry.destination_port
        return False if ports else all_of((found, remembered))  # an echo has no ports

    def _within(self, ip: Address, prefix: str) -> bool:
        """Whether an address is in a prefix, of which each is read once: many packets are asked about."""
        if prefix not in self._prefixes:
            self._prefixes[prefix] = ip_network(prefix)
        return ip.version == self._prefixes[prefix].version and ip in self._prefixes[prefix]
