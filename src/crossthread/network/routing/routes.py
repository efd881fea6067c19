"""Routes: which interface and next hop a device chooses for a destination, by longest prefix."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Sequence
from functools import cached_property
from typing import Literal, NamedTuple

from crossthread.network.hosts.blocks import Block, ByPrefix
from crossthread.network.hosts.station import Interface, Station
from crossthread.network.hosts.stations import Stations
from crossthread.network.three_valued import Truth, all_of
from crossthread.network.topology.names import Names
from crossthread.survey import Survey
from crossthread.survey.records import Device, Route
from crossthread.values import NONE, Address, Prefix, PrefixedAddress, address, prefix


class Choice(NamedTuple):
    """A way a device may send a packet: out of an interface, to a next hop; None: to the destination itself."""

    interface: Station
    next_hop: Address | None
    route: Route | None
    length: int
    usable: Truth

    @property
    def discards(self) -> bool:
        """Whether the route is one that drops what it matches."""
        return self.route is not None and self.route.kind not in (None, "unicast")

    @property
    def anywhere(self) -> bool:
        """Whether nobody read where its route leads, nor whether it discards."""
        row = self.route
        return row is not None and row.kind is None and row.next_hop is None and not row.interface

    @property
    def looked_up(self) -> bool:
        """Whether it is taken only if the device looks the next hop up in other routes, which was not seen."""
        row = self.route
        return self.usable is None and row is not None and not row.interface and row.next_hop != str(self.next_hop)


KEPT = 50_000
"""How many answers are remembered at once: the same are asked for again soon, or not at all."""


class Routing:
    """The routing tables of all devices."""

    def __init__(self, survey: Survey, names: Names, stations: Stations) -> None:
        self._survey, self._names, self._stations = survey, names, stations
        self._chosen: dict[tuple[str, str | None, Address], list[Choice]] = {}
        self._untold_of: dict[str, Literal["routes", "interfaces"] | None] = {}
        self._subnets: dict[str, ByPrefix[tuple[Interface, PrefixedAddress]]] = {}
        self._tables: dict[str, ByPrefix[tuple[int, Route]]] = {}

    @cached_property
    def _rows(self) -> dict[str, Device]:
        return {self._names.spelled[row.device]: row for row in self._survey.devices}

    def device_rows(self, device: str) -> list[Device]:
        """The row of a device, if there is one."""
        return [row for row in [self._rows.get(device)] if row is not None]

    def on(self, device: str, version: int = 4) -> Truth:
        """Whether a device forwards packets between its interfaces, of a version of IP."""
        row = self._rows.get(device)
        if row is None:
            return None
        says = row.routing6 or row.routing if version == 6 else row.routing
        return {"yes": True, "no": False}.get(says or "")

    @cached_property
    def _routes(self) -> dict[str, list[Route]]:
        found: dict[str, list[Route]] = defaultdict(list)
        for row in self._survey.routes:
            found[self._names.spelled[row.device]].append(row)
        return found

    @cached_property
    def _prefixes(self) -> dict[str, Prefix]:
        return {text: prefix(text) for text in {row.prefix for row in self._survey.routes}}

    def routes(self, device: str) -> list[Route]:
        """The rows of a device's routing table."""
        return self._routes.get(device, [])

    def routes_in(self, device: str, table: str | None) -> list[Route]:
        """Those of one routing table; all where nobody read in which each is."""
        rows = self.routes(device)
        return [row for row in rows if row.table == table] if rows and self.untold(device) is None else rows

    def connected(self, device: str, table: str | None, target: Address) -> list[Choice]:
        """The interfaces of a device in whose subnet an address is, the longest prefix first."""
        if device not in self._subnets:
            here = ((s, s.address) for s in self._stations.on_device.get(device, ()))
            self._subnets[device] = ByPrefix((Block.of(str(own)), (s, own)) for s, own in here if own is not None)
        sure = None if self.untold(device) == "interfaces" else True
        found = [
            Choice(station, None, None, own.network.prefixlen, all_of((sure, station.up)))
            for station, own in self._subnets[device].around(target)
            if station.row.table == table and station.up is not False
        ]
        return sorted(found, key=lambda choice: -choice.length)

    def untold(self, device: str) -> Literal["routes", "interfaces"] | None:
        """Of which on a device nobody read in what routing table each is: of none is it told, and of all the others."""
        if device not in self._untold_of:
            told = (
                {row.table for row in self.routes(device)},
                {s.row.table for s in self._stations.on_device.get(device, ())},
            )
            by_routes, by_interfaces = (held == {None} for held in told)
            split = by_routes != by_interfaces and all(told) and not (None in told[0] and None in told[1])
            self._untold_of[device] = ("routes" if by_routes else "interfaces") if split else None
        return self._untold_of[device]

    def choices(self, device: str, table: str | None, target: Address) -> list[Choice]:
        """How a device may forward to an address, best first.

        The longest prefix wins; a connected prefix wins over a route of the same length, then the lower metric. The
        list ends with the first way that is surely there, and those that are as good: packets may go by any of these
        (RFC 2992), as they may by one whose metric nobody read. Before it stand those that are only possibly there.
        """
        key = (device, table, target)
        if key not in self._chosen:
            if len(self._chosen) >= KEPT:
                self._chosen.clear()
            self._chosen[key] = self._choose(device, table, target)
        return self._chosen[key]

    def hop_unread(self, device: str, table: str | None, target: Address) -> bool:
        """Whether a route of a device leads to an address by a next hop that was not observed."""
        leading = (row for row in self.routes(device) if row.table == table and row.kind in (None, "unicast"))
        unread = (row for row in leading if row.next_hop is None and row.origin != "connected")
        return any(target in self._prefixes[row.prefix] for row in unread)

    def resolves(self, device: str, row: Route) -> bool:
        """Whether a route's next hop is in a subnet of the device, or other routes than the default one lead to it."""
        return any(choice.usable is not False for choice in self._by_route(device, row.table, row))

    def _choose(self, device: str, table: str | None, target: Address, passed: tuple[Route, ...] = ()) -> list[Choice]:
        found: list[_Ranked]
        found = [(-one.length, 0, False, 0, n, one) for n, one in enumerate(self.connected(device, table, target))]
        untold = self.untold(device)
        if device not in self._tables:
            rows = enumerate(self.routes(device))
            self._tables[device] = ByPrefix((Block.of(row.prefix), (n, row)) for n, row in rows)
        for number, row in self._tables[device].around(target):
            here = row.table == table or untold is not None
            if row.origin == "connected" or not here or any(row is other for other in passed):
                continue
            for choice in self._by_route(device, table, row, passed):
                usable = choice.usable if untold is None else all_of((None, choice.usable))
                rank = (-self._prefixes[row.prefix].prefixlen, 1, row.metric is None, row.metric or 0, number)
                found += [(*rank, choice._replace(usable=usable))] if usable is not False else []
        found.sort(key=lambda entry: entry[:5])
        return [choice for *_, choice in _up_to_the_surest(found)]

    def _by_route(self, device: str, table: str | None, row: Route, passed: tuple[Route, ...] = ()) -> Sequence[Choice]:
        """The ways by a route: several where its next hop is looked up in others that are as good."""
        length = self._prefixes[row.prefix].prefixlen
        own = self._stations.on_device.get(device, [])
        to_none = [Choice(one, None, row, length, True) for one in own[:1]]
        if row.kind not in (None, "unicast"):
            return to_none
        if to_none and to_none[0].anywhere:
            return [to_none[0]._replace(usable=None)]
        named = [s for s in own if s.name == row.interface]
        if row.next_hop is None or row.next_hop == NONE:
            usable = named[0].up if named else False
            usable = usable if row.next_hop else all_of((None, usable))
            return [Choice(named[0], None, row, length, usable)] if named else ()
        hop = address(row.next_hop)
        for choice in self.connected(device, table, hop):
            if not row.interface or choice.interface.name == row.interface or not named:
                return [Choice(choice.interface, hop, row, length, choice.usable)]
        apart = next((s for s in named if s.address and hop in s.address.network and s.row.table != table), None)
        if apart is not None:  # whether a route leads out of another table's interface differs from maker to maker
            return [Choice(apart, hop, row, length, all_of((None, apart.up)))]
        if hop.is_link_local:
            return [Choice(named[0], hop, row, length, named[0].up)] if named else ()
        return self._by_others(device, table, row, hop, passed) if len(passed) < _DEPTH else ()

    def _by_others(
        self, device: str, table: str | None, row: Route, hop: Address, passed: tuple[Route, ...]
    ) -> Sequence[Choice]:
        """A route whose next hop is in no subnet of the device: other routes lead there (RFC 4271, 9.1.2.1).

        The default route does not count: what follows it goes there anyway. Not all makers look a static route's next
        hop up that way; where the table names the interface that the others lead to, this one has done so.
        """
        inner = [one for one in self._choose(device, table, hop, (*passed, row)) if one.length and not one.discards]
        if inner and row.interface not in (None, "", NONE, inner[0].interface.name):
            return ()
        told = bool(inner) and (row.interface == inner[0].interface.name or row.origin not in (None, "static"))
        sure = told and all(one.usable for one in inner)
        length = self._prefixes[row.prefix].prefixlen
        return [
            Choice(one.interface, one.next_hop or hop, row, length, True if sure else all_of((None, one.usable)))
            for one in (inner if sure else inner[:1])
        ]


_Ranked = tuple[int, int, bool, int, int, Choice]
"""A way with what it is put in order by: its length, whether it is a route, whether its metric is not known, that
metric, and its place."""


def _up_to_the_surest(ways: list[_Ranked]) -> Iterator[_Ranked]:
    """Of ways in their order those that packets may go: none that comes after one that is surely there and better.

    Of the addresses of one interface the first stands for all.
    """
    best: _Ranked | None = None
    for way in ways:
        if best is not None:
            itself = not way[1] and (way[-1].interface.name == best[-1].interface.name)
            if way[:2] != best[:2] or itself or not (way[2] or way[2:4] == best[2:4]):
                continue
        yield way
        if best is None and way[-1].usable:
            best = way


_DEPTH = 4
"""By how many routes, one after the other, a next hop is looked up."""
