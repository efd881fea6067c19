"""Where the known part of a network ends: ports beyond which the unknown begins.

Behind an open end any VLAN that the port lets out may go on, come in again at any other open end, and be answered for
by gateways that nobody has read. An access port that is up, with one station or none, is no open end.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from itertools import compress
from typing import Literal

import msgspec

from crossthread.network.coverage import Covered
from crossthread.network.topology.adjacency import Adjacency, bundle
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
    """Whether a neighbour may bridge or route: unless it says that it does neither.

    A telephone with a socket for a computer bridges, but to that computer only.
    """
    if capabilities is None:
        return True
    bridges = "phone" not in capabilities and {"bridge", "repeater", "wlan"} & set(capabilities)
    return "router" in capabilities or bool(bridges)


def find_open_ends(
    survey: Survey, names: Names, covered: Covered, adjacencies: Sequence[Adjacency], loose: Iterable[Loose]
) -> dict[End, OpenEnd]:
    """Every open end of a survey, by its port."""
    return _Finding(survey, names, covered, adjacencies).all(loose)


class _Finding:
    """What tells whether the far end of a port is known."""

    def __init__(self, survey: Survey, names: Names, covered: Covered, adjacencies: Sequence[Adjacency]) -> None:
        self._survey, self._names, self._covered = survey, names, covered
        self._linked = {end for a in adjacencies for end in (a.a, a.b)}
        self._hosted = set(self._ends("hosts"))
        self._found: dict[End, OpenEnd] = {}
        self._stations: dict[End, set[str]] = defaultdict(set)

    def _ends(self, table: str) -> Iterator[End]:
        columns = (self._survey.column(table, name) for name in ("device", "port"))
        for device, port in zip(*columns, strict=True):
            if device and port:
                spelled = self._names.spelled[device]
                yield End(spelled, self._names.port(spelled, port) or port)

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

    def _add(self, end: End, why: Why, heard: tuple[Neighbor, ...] = (), name: str | None = None) -> None:
        end = bundle(end, self._names)
        if end not in self._found and port_up(self._names.row(end)) is not False:
            self._found[end] = OpenEnd(end, why, heard, name)

    def _free(self, end: End) -> bool:
        """Whether nothing is known to be at the far end of a port."""
        return end not in self._linked and end not in self._hosted and bundle(end, self._names) not in self._linked

    def _take_heard(self, loose: Iterable[Loose]) -> None:
        unsurveyed: dict[End, list[Neighbor]] = defaultdict(list)
        for entry in loose:
            row = entry.row
            if entry.why == "unsurveyed":
                if leads_on(row.capabilities):
                    unsurveyed[entry.end].append(row)
                else:
                    self._hosted.add(entry.end)
                continue
            self._add(entry.end, "far end", name=self._names.neighbor_device(row))
            if entry.claims is not None:
                self._add(entry.claims, "far end", name=entry.end.device)
            far = self._names.neighbor_device(row)
            for port in self._names.ports.get(far or "", ()) if entry.why == "port" else ():
                if far is not None and self._free(End(far, port)):
                    self._add(End(far, port), "far end", name=entry.end.device)
        for end, rows in unsurveyed.items():
            self._add(end, "heard", tuple(rows), rows[0].neighbor or rows[0].neighbor_chassis)

    def _take_described(self) -> None:
        """Ports whose description names another device, where nothing confirms that there is a cable."""
        unsurveyed = {row.neighbor.casefold(): row.neighbor for row in self._survey.neighbors if row.neighbor}
        unsurveyed |= {name.casefold(): name for name in set(self._survey.column("hosts", "device")) if name}
        known = {**unsurveyed, **self._names.devices}
        begins = {name.split()[0] for name in known if name.split()}
        columns = (self._survey.column("ports", name) for name in ("device", "port", "description"))
        for device, port, text in zip(*columns, strict=True):
            if not text or begins.isdisjoint(text.casefold().replace(",", " ").replace(":", " ").split()):
                continue
            end = End(self._names.spelled[device], port)
            if self._free(end):
                name = next((known[part.casefold()] for part in word_runs(text) if part.casefold() in known), None)
                if name is not None and name != end.device:
                    self._add(end, "named", name=name)
                    self._take_named(text, name)

    def _take_named(self, text: str, device: str) -> None:
        """The port of a surveyed device that another's description names may be the far end."""
        rows: Mapping[str, object] = self._names.ports.get(device, {})
        for part in word_runs(text):
            if part in rows and part != device and self._free(End(device, part)):
                self._add(End(device, part), "far end")

    def _take_by_role(self) -> None:
        """Ports that a tree gives a part which only ports towards other bridges have."""
        columns = (self._survey.column("tree_ports", name) for name in ("role", "edge"))
        for end, role, edge in zip(self._ends("tree_ports"), *columns, strict=True):
            bridge = role in FACES_BRIDGES or (role == "designated" and edge == "no")
            if bridge and edge != "yes" and self._free(end):
                self._add(end, "far end")

    def _take_by_stations(self) -> None:
        """Ports that learned stations of which it is known that they are elsewhere, or more than two."""
        hosts = self._survey.hosts
        places = {row.mac: (row.device or "").casefold() for row in hosts if row.mac and row.device and row.port}
        own = {row.chassis for row in self._survey.devices} | set(self._survey.column("ports", "mac"))
        stations = self._stations
        elsewhere: set[End] = set()
        macs, kinds = self._survey.column("macs", "mac"), self._survey.column("macs", "kind")
        devices, ports = self._survey.column("macs", "device"), self._survey.column("macs", "port")
        for device, port, mac, kind in zip(devices, ports, macs, kinds, strict=True):
            if not port or kind == "self":
                continue
            spelled = self._names.spelled[device]
            end = End(spelled, self._names.port(spelled, port) or port)
            stations[end].add(mac)
            if mac in own or places.get(mac, device.casefold()) != device.casefold():
                elsewhere.add(end)
        for end, seen in stations.items():
            if (end in elsewhere or len(seen) > FEW_STATIONS) and self._free(end) and self._names.row(end) is not None:
                self._add(end, "stations")

    def _take_by_mode(self) -> None:
        """All others but access ports, if nothing is known to be plugged into them.

        A port at which no bridge was ever heard (an edge port) and which learned one known host only leads to that.
        """
        edges = set(
            compress(self._ends("tree_ports"), (edge == "yes" for edge in self._survey.column("tree_ports", "edge")))
        )
        hosts = set(self._survey.column("hosts", "mac"))
        columns = (self._survey.column("ports", name) for name in ("device", "port", "mode", "lag"))
        for device, port, mode, lag in zip(*columns, strict=True):
            if mode == "access" or (lag and lag != NONE):
                continue
            end = End(self._names.spelled[device], port)
            alone = end in edges and len(self._stations[end]) == 1 and self._stations[end] <= hosts
            if self._free(end) and not alone:
                self._add(end, "far end")
