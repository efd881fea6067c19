"""Where the known part of a network ends: ports beyond which the unknown begins.

Behind an open end any VLAN that the port lets out may go on, come in again at any other open end, and be answered for
by gateways that nobody has read. An access port that is up, with one station or none, is no open end, if it was read
that it heard no neighbour: where nobody read that, a router may be plugged into it.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection, Iterable, Sequence, Set
from functools import cached_property
from itertools import compress, count
from typing import Literal

import msgspec

from crossthread.network.coverage import Covered
from crossthread.network.topology.adjacency import Adjacency, bundle, members_of_bundles
from crossthread.network.topology.links import Loose, port_up, word_runs
from crossthread.network.topology.names import End, Names
from crossthread.survey import Survey
from crossthread.survey.records import Neighbor
from crossthread.values import NONE

OUTSIDE = End("", "")
"""What is beyond all open ends, as one place: how things are connected there is not known."""

FACES_BRIDGES = frozenset({"root", "alternate", "backup", "master"})
"""The tree roles that only a port towards another bridge has."""
FEW_STATIONS = 2
"""How many stations may be at a port without a bridge: a telephone and the computer that is plugged into it."""

Why = Literal["heard", "named", "far end", "stations", "ports"]


class OpenEnd(msgspec.Struct, frozen=True):
    """A port beyond which the unknown begins.

    Attributes
    ----------
    end
        The port; an aggregate stands for its members. Without a port name: any port of a device of which the ports
        were not read.
    why
        `heard` (an unsurveyed neighbour that may bridge or route), `named` (its description names a device, and nothing
        confirms how it is cabled), `far end` (a trunk, hybrid or routed port, or one with a tree role other than edge,
        whose far end nobody knows), `stations` (it learned stations of other places), `ports` (the device's ports were
        not read).
    heard
        What was heard there of devices that were not surveyed.
    name
        The device that is known to be beyond, by name.
    """

    end: End
    why: Why
    heard: tuple[Neighbor, ...] = ()
    name: str | None = None


def leads_on(capabilities: Collection[str] | None) -> bool:
    """Whether a neighbour may bridge or route: unless it says what it does, and neither is among it.

    A telephone with a socket for a computer bridges, but to that computer only.
    """
    if not capabilities:
        return True
    bridges = "phone" not in capabilities and {"bridge", "repeater", "wlan"} & set(capabilities)
    return "router" in capabilities or bool(bridges)


def find_open_ends(
    survey: Survey, names: Names, covered: Covered, adjacencies: Sequence[Adjacency], loose: Iterable[Loose]
) -> dict[End, OpenEnd]:
    """Every open end of a survey, by its port."""
    return _Finding(survey, names, covered, adjacencies).all(loose)


class _Finding:
    """What tells whether the far end of a port is known.

    Most ports of a campus are down, or it is known what is plugged into them: the others are looked for once.
    """

    def __init__(self, survey: Survey, names: Names, covered: Covered, adjacencies: Sequence[Adjacency]) -> None:
        self._survey, self._names, self._covered = survey, names, covered
        self._linked: dict[str, set[str]] = defaultdict(set)
        for a in adjacencies:
            for device, port in (a.a, a.b):
                self._linked[device].add(port)
        self._hosted = self._at("hosts")
        for end in members_of_bundles(survey, names):
            if end.port in self._hosted[end.device]:
                self._hosted[end.device].add(bundle(end, names).port)
        self._found: dict[End, OpenEnd] = {}

    def all(self, loose: Iterable[Loose]) -> dict[End, OpenEnd]:
        """The open ends, the surest reason first."""
        self._take_heard(loose)
        self._take_described()
        self._take_by_role()
        self._take_by_stations()
        self._take_by_mode()
        for device in sorted(self._covered.surveyed):
            if not self._covered.fully(device, "ports"):
                self._found[End(device, "")] = OpenEnd(End(device, ""), "ports")
        return self._found

    def _at(self, table: str, flags: Iterable[bool] | None = None) -> dict[str, set[str]]:
        """Of which ports of each device a table speaks, by their own names; in some of its rows."""
        devices, ports = (self._survey.column(table, name) for name in ("device", "port"))
        places = zip(devices, ports, strict=True)
        found: dict[str, set[str]] = defaultdict(set)
        for device, port in places if flags is None else compress(places, flags):
            if device and port:
                found[device].add(port)
        told: dict[str, set[str]] = defaultdict(set)
        for written, held in found.items():
            device = self._names.spelled[written]
            told[device] |= {self._known_as(device, port) for port in held - self._own(device)}
            told[device] |= held & self._own(device)
        return told

    def _own(self, device: str) -> Set[str]:
        """The names of a device's own ports."""
        rows = self._names.ports.get(device)
        return rows.numbers.keys() if rows is not None else frozenset()

    def _known_as(self, device: str, port: str) -> str:
        """A port's name as the device spells it."""
        return port if port in self._own(device) else self._names.port(device, port) or port

    @cached_property
    def _free(self) -> dict[_Place, int]:
        """The ports that are not down and at whose far end nothing is known to be, with the places of their rows.

        They are looked for device by device, as at nearly all ports something is.
        """
        admin, oper, lags = (self._survey.column("ports", name) for name in ("admin", "oper", "lag"))
        left = [
            (rows.numbers[port], device, port)
            for device, rows in self._names.ports.items()
            for port in rows.numbers.keys() - self._linked[device] - self._hosted[device]
        ]
        free = {(device, port): n for n, device, port in sorted(left) if admin[n] != "down" and oper[n] != "down"}
        members = {place: n for place, n in free.items() if lags[n] and lags[n] != NONE}
        return {
            place: n
            for place, n in free.items()
            if place not in members or not self._is_linked(bundle(End(*place), self._names))
        }

    def _is_linked(self, end: End) -> bool:
        return end.port in self._linked.get(end.device, ())

    def _add(self, end: End, why: Why, heard: tuple[Neighbor, ...] = (), name: str | None = None) -> None:
        end = bundle(end, self._names)
        if end not in self._found and port_up(self._names.row(end)) is not False:
            self._found[end] = OpenEnd(end, why, heard, name)

    def _take_heard(self, loose: Iterable[Loose]) -> None:
        unsurveyed: dict[End, list[Neighbor]] = defaultdict(list)
        lost: list[tuple[Loose, str]] = []
        for entry in loose:
            row = entry.row
            if entry.why == "unsurveyed":
                if leads_on(row.capabilities):
                    unsurveyed[entry.end].append(row)
                else:
                    self._hosted[entry.end.device].add(entry.end.port)
                continue
            far = self._names.neighbor_device(row)
            self._add(entry.end, "far end", name=far)
            if entry.claims is not None:
                self._add(entry.claims, "far end", name=entry.end.device)
            if entry.why == "port" and far is not None:
                lost.append((entry, far))
        for end, rows in unsurveyed.items():
            self._add(end, "heard", tuple(rows), rows[0].neighbor or rows[0].neighbor_chassis)
        for entry, far in lost:  # it is cabled to one of the other's free ports
            for port in self._names.ports.get(far, ()):
                if (far, port) in self._free:
                    self._add(End(far, port), "far end", name=entry.end.device)

    def _take_described(self) -> None:
        """Ports whose description names another device, where nothing confirms that there is a cable."""
        texts = self._survey.column("ports", "description")
        told = [(End(*place), text) for place, n in self._free.items() if (text := texts[n])]
        if not told:
            return
        unsurveyed = {row.neighbor.casefold(): row.neighbor for row in self._survey.neighbors if row.neighbor}
        unsurveyed |= {name.casefold(): name for name in self._survey.distinct("hosts", "device") if name}
        known = {**unsurveyed, **self._names.devices}
        for end, text in told:
            name = next((known[part.casefold()] for part in word_runs(text) if part.casefold() in known), None)
            if name is not None and name != end.device:
                self._add(end, "named", name=name)
                self._take_named(text, name)

    def _take_named(self, text: str, device: str) -> None:
        """The port of a surveyed device that another's description names may be the far end."""
        for part in word_runs(text):
            if part != device and (device, part) in self._free:
                self._add(End(device, part), "far end")

    def _take_by_role(self) -> None:
        """Ports that a tree gives a part which only ports towards other bridges have."""
        roles, edges = (self._survey.column("tree_ports", name) for name in ("role", "edge"))
        kinds = list(zip(roles, edges, strict=True))
        bridges = {
            (role, edge): edge != "yes" and (role in FACES_BRIDGES or (role == "designated" and edge == "no"))
            for role, edge in set(kinds)
        }
        told = self._at("tree_ports", map(bridges.__getitem__, kinds))
        for place in self._free:
            if place[1] in told.get(place[0], ()):
                self._add(End(*place), "far end")

    @cached_property
    def _stations(self) -> dict[_Place, set[str]]:
        """The stations that were learned at each free port, and at each of which there is no row."""
        found: dict[_Place, set[str]] = defaultdict(set)
        devices, ports, macs, kinds = (self._survey.column("macs", name) for name in ("device", "port", "mac", "kind"))
        told: dict[str, set[str | None]] = defaultdict(set)
        for written, port in zip(devices, ports, strict=True):
            told[written].add(port)
        free: dict[str, set[str | None]] = defaultdict(set)
        for place in self._free:
            free[place[0]].add(place[1])
        wanted: dict[tuple[str, str | None], _Place] = {}
        for written, held in told.items():
            device = self._names.spelled[written]
            for port in held & free.get(device, set()) | held - self._own(device):
                known = (device, self._known_as(device, port)) if port else None
                if known is not None and (known in self._free or not self._is_listed(known)):
                    wanted[written, port] = known
        for n in compress(count(), map(wanted.__contains__, zip(devices, ports, strict=True))) if wanted else ():
            if kinds[n] != "self":
                found[wanted[devices[n], ports[n]]].add(macs[n])
        return found

    def _is_listed(self, place: _Place) -> bool:
        """Whether a port has a row, or is known to lead to another device or to a host."""
        device, port = place
        return port in self._own(device) or port in self._linked[device] or port in self._hosted[device]

    def _take_by_stations(self) -> None:
        """Ports that learned stations of which it is known that they are elsewhere, or more than two."""
        if not self._stations:
            return
        plugged = (self._survey.column("hosts", name) for name in ("mac", "device", "port"))
        places = {mac: device.casefold() for mac, device, port in zip(*plugged, strict=True) if mac and device and port}
        own = {row.chassis for row in self._survey.devices} | set(self._survey.column("ports", "mac"))
        for place, macs in self._stations.items():
            here = place[0].casefold()
            elsewhere = any(mac in own or places.get(mac, here) != here for mac in macs)
            if elsewhere or len(macs) > FEW_STATIONS:
                self._add(End(*place), "stations")

    def _take_by_mode(self) -> None:
        """All others but access ports that heard nobody, if nothing is known to be plugged into them.

        A port at which no bridge was ever heard (an edge port) and which learned one known host only leads to that; so
        does one that alone names a host in its description of which nobody knows another place, if nobody was heard.
        """
        modes, lags = (self._survey.column("ports", name) for name in ("mode", "lag"))
        hosts = set(self._survey.column("hosts", "mac"))
        left = [
            place
            for place, n in self._free.items()
            if (not lags[n] or lags[n] == NONE) and (modes[n] != "access" or self._may_hear(place, hosts))
        ]
        if not left:
            return
        edges = self._at("tree_ports", (e == "yes" for e in self._survey.column("tree_ports", "edge")))
        named = self._named_hosts(left)
        for place in left:
            learned = self._stations.get(place, set())
            if place[1] in edges.get(place[0], ()) and len(learned) == 1 and learned <= hosts:
                continue
            if place not in named or not learned <= {named[place]}:
                self._add(End(*place), "far end")

    def _may_hear(self, place: _Place, hosts: set[str | None]) -> bool:
        """Whether a neighbour may be at an access port: nobody read whom it heard, nor that it leads to hosts only.

        That it learned nobody does not say that nobody is there: what it learned is forgotten after five minutes.
        """
        learned = self._stations.get(place)
        return not self._covered.fully(place[0], "neighbors") and not (learned and learned <= hosts)

    def _named_hosts(self, places: Iterable[_Place]) -> dict[_Place, str | None]:
        """The MAC addresses of hosts of which nobody knows the place, by the one port whose description names each."""
        told = (self._survey.column("hosts", name) for name in ("host", "mac", "device", "port"))
        lost = {name.casefold(): mac for name, mac, device, port in zip(*told, strict=True) if not (device and port)}
        texts = self._survey.column("ports", "description") if lost else ()
        found: dict[str, list[_Place]] = defaultdict(list)
        for place in places if lost else ():
            if text := texts[self._free[place]]:
                for part in {part.casefold() for part in word_runs(text)} & lost.keys():
                    found[part].append(place)
        return {
            held[0]: lost[name]
            for name, held in found.items()
            if len(held) == 1 and self._covered.fully(held[0][0], "neighbors")
        }


_Place = tuple[str, str]
"""A device and its port; an `End` is one too."""
