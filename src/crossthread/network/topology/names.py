"""Who is meant: devices and ports by whatever name a table or a neighbour uses for them."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping
from functools import cached_property
from typing import NamedTuple

from crossthread.network.topology.port_names import match_port
from crossthread.survey import Survey
from crossthread.survey.records import Neighbor, Port
from crossthread.survey.table import RowsBy, runs
from crossthread.values import NONE, parse_mac


class End(NamedTuple):
    """A port of a device; as the end of a cable."""

    device: str
    port: str

    def __str__(self) -> str:
        return f"{self.device} {self.port}"


class _Spelled(dict[str, str]):
    """How each device is spelled, by the name that some row has for it; found once and kept."""

    def __init__(self, devices: dict[str, str]) -> None:
        super().__init__()
        self._devices = devices

    def __missing__(self, name: str) -> str:
        self[name] = self._devices.get(name.casefold(), name)
        return self[name]


def _is_mac(text: str) -> bool:
    try:
        return bool(parse_mac(text))
    except ValueError:
        return False


def is_one_device(one: Neighbor, two: Neighbor) -> bool:
    """Whether two entries of one port are one device under two names, of which the old one has not aged out yet.

    It is, if both are of one chassis or, where that is not told, have one port, management address and platform.
    """
    if one.neighbor_chassis and two.neighbor_chassis:
        return one.neighbor_chassis == two.neighbor_chassis
    told = one.neighbor_port and one.management and one.management != NONE
    return bool(told) and all(getattr(one, c) == getattr(two, c) for c in ("neighbor_port", "management", "platform"))


NAMING = ("devices", "ports", "gateways", "trees", "neighbors")
"""The tables whose rows are about a device, so that it is there."""


def find_devices(survey: Survey) -> dict[str, str]:
    """Every device that some table speaks of: its name folded to lower case, and as it is spelled first."""
    found: dict[str, str] = {}
    for table in NAMING:
        for name in survey.distinct(table, "device"):
            found.setdefault(name.casefold(), name)
    return found


class Names:
    """Finds devices and ports by name, chassis identifier, MAC address, alias or short form."""

    def __init__(self, survey: Survey) -> None:
        self._survey = survey
        self._ports_seen: dict[tuple[str, str], str | None] = {}
        self._rows: dict[End, Port | None] = {}

    @cached_property
    def devices(self) -> dict[str, str]:
        """Every device that some table speaks of: its name folded to lower case, and as it is spelled."""
        return find_devices(self._survey)

    @cached_property
    def spelled(self) -> dict[str, str]:
        """How a device is spelled, by any row's name for it; a name that is no device's stands for itself."""
        return _Spelled(self.devices)

    @cached_property
    def ports(self) -> dict[str, RowsBy[str, Port]]:
        """The rows of each device's ports, by the device's name and the port's."""
        numbers: dict[str, dict[str, int]] = {name: {} for name in self.devices.values()}
        ports = self._survey.column("ports", "port")
        for device, run in runs(self._survey.column("ports", "device")):
            numbers[self.spelled[device]].update(zip(ports[run], range(run.start, run.stop), strict=True))
        table = self._survey.rows(Port)
        return {device: RowsBy(table, held) for device, held in numbers.items()}

    def row(self, end: End) -> Port | None:
        """The survey's row of a port."""
        if end not in self._rows:  # most are asked for again and again
            held = self.ports.get(end.device)
            self._rows[end] = held.get(end.port) if held is not None else None
        return self._rows[end]

    @cached_property
    def _by_chassis(self) -> dict[str, str | None]:
        found: dict[str, str | None] = {}
        for row in self._survey.devices:
            if row.chassis:
                known = row.chassis.casefold()
                found[known] = None if known in found else self.devices[row.device.casefold()]
        return found

    @cached_property
    def _by_mac(self) -> dict[str, list[End]]:
        """The ports that have each MAC address: a software bridge and its port share one."""
        found: dict[str, list[End]] = {}
        columns = (self._survey.column("ports", name) for name in ("mac", "device", "port"))
        for mac, device, port in zip(*columns, strict=True):
            if mac:
                found.setdefault(mac, []).append(End(self.spelled[device], port))
        return found

    def in_copy(self, survey: Survey) -> Names:
        """The names of a changed survey in which devices and ports have the names, and the places, that they had."""
        copy, table = Names(survey), survey.rows(Port)
        copy.devices, copy.spelled, copy._ports_seen = self.devices, self.spelled, self._ports_seen
        copy.ports = {device: RowsBy(table, rows.numbers) for device, rows in self.ports.items()}
        return copy

    def device(self, name: str | None) -> str | None:
        """The device of this name, as it is spelled."""
        return self.devices.get(name.casefold()) if name else None

    def unsurveyed(self, name: str | None) -> str | None:
        """The device of this name if no table speaks of it, though a host's row may name it."""
        return name if name and name != NONE and self.device(name) is None else None

    def port(self, device: str, name: str | None) -> str | None:
        """The port of a device that `name` means: by name, alias, MAC address or short form; None if unclear."""
        if not name:
            return None
        rows: Mapping[str, Port] = self.ports.get(device, {})
        if name in rows:
            return name
        if (device, name) not in self._ports_seen:
            known = [(row.port, [*(row.aliases or ()), row.mac or ""]) for row in rows.values()]
            known = known or [(port, []) for port in self.spoken.get(device, {})]
            found = match_port(name, known, device not in self._read_in_part) or self._port_of_mac(device, name)
            self._ports_seen[device, name] = found or (name if name in self.spoken.get(device, {}) else None)
        return self._ports_seen[device, name]

    @cached_property
    def _read_in_part(self) -> frozenset[str]:
        """The devices of which some ports were read, and it is known that others were not."""
        told = (row for row in self._survey.coverage if row.table == "ports" and row.complete == "no")
        return frozenset(device for row in told if self.ports.get(device := self.spelled[row.device]))

    @cached_property
    def spoken(self) -> dict[str, dict[str, None]]:
        """How each device spells those ports of which its other tables speak; they may be ports that were not read."""
        found: dict[str, dict[str, None]] = {name: {} for name in self.ports}
        for table in ("neighbors", "tree_ports"):
            columns = (self._survey.column(table, column) for column in ("device", "port"))
            for device, port in zip(*columns, strict=True):
                if (name := self.spelled[device]) in found:
                    found[name][port] = None
        return found

    def _port_of_mac(self, device: str, text: str) -> str | None:
        try:
            ends = self._by_mac.get(parse_mac(text), [])
        except ValueError:
            return None
        own = [end.port for end in ends if end.device == device]
        return own[0] if len(own) == 1 else None

    def neighbor_device(self, row: Neighbor) -> str | None:
        """The surveyed device a neighbour row speaks of.

        The chassis identifier counts more than the name, since a name survives only until somebody renames. One that
        has the name of a surveyed device and another chassis, and that is not heard by it, is another one of that name.
        """
        if row.neighbor_chassis:
            by_chassis = self._by_chassis.get(row.neighbor_chassis.casefold())
            if by_chassis:
                return by_chassis
            owners = {end.device for end in self._by_mac.get(row.neighbor_chassis, ())}
            if len(owners) == 1:
                return owners.pop()
        by_name = self.device(row.neighbor) or self._by_host_name(row)
        if by_name and self._is_of_another(row, by_name) and not self._hears(by_name, row.device):
            by_name = None
        if by_name or not row.management or row.management == NONE:
            return by_name
        matches = [d.device for d in self._survey.devices if d.management == row.management]
        if len(matches) == 1 and matches[0] != row.device and not self._is_of_another(row, matches[0]):
            return self.device(matches[0])
        seat = self._seats.get((row.device, row.port), ())
        others = (other for other in seat if other is not row and is_one_device(row, other))
        called = {device for other in others if (device := self.device(other.neighbor)) is not None}
        return called.pop() if len(called) == 1 else None

    def _hears(self, device: str, other: str) -> bool:
        """Whether a device hears another, by its name or its chassis."""
        told = {other.casefold(), self._chassis.get(self.devices[other.casefold()])}
        return not self._heard.isdisjoint((device, name) for name in told)

    @cached_property
    def _heard(self) -> set[tuple[str, str | None]]:
        """Which names and chassis each device hears."""
        rows = self._survey.neighbors
        told = ((row, name) for row in rows for name in (row.neighbor, row.neighbor_chassis) if name)
        return {(self.spelled[row.device], name.casefold()) for row, name in told}

    @cached_property
    def _seats(self) -> dict[tuple[str, str], list[Neighbor]]:
        """The entries of each port's neighbours."""
        found: dict[tuple[str, str], list[Neighbor]] = defaultdict(list)
        for row in self._survey.neighbors:
            found[row.device, row.port].append(row)
        return found

    def _by_host_name(self, row: Neighbor) -> str | None:
        """The device whose name is the neighbour's without its domain, or with one; none of another chassis."""
        label, _, domain = (row.neighbor or "").casefold().partition(".")
        same = [name for name in self._by_label.get(label, ()) if not domain or "." not in name]
        if len(same) != 1 or label.isdecimal():
            return None
        return None if self._is_of_another(row, same[0]) else same[0]

    def _is_of_another(self, row: Neighbor, device: str) -> bool:
        """Whether a neighbour tells another chassis than a device has, though their address or name is the same.

        Only a MAC address is told apart from another: a device may have other identifiers besides.
        """
        told, heard = self._chassis.get(self.devices[device.casefold()]), row.neighbor_chassis
        return bool(told and heard and told != heard.casefold() and _is_mac(told) and _is_mac(heard))

    @cached_property
    def _by_label(self) -> dict[str, list[str]]:
        found: dict[str, list[str]] = {}
        for folded, name in self.devices.items():
            found.setdefault(folded.partition(".")[0], []).append(name)
        return found

    @cached_property
    def _chassis(self) -> dict[str, str]:
        rows = self._survey.devices
        return {self.devices[row.device.casefold()]: row.chassis.casefold() for row in rows if row.chassis}

    def neighbor_port(self, device: str, row: Neighbor) -> str | None:
        """The port of `device` that a neighbour row names.

        By its identifier or else by its description; the latter decides where several ports share the MAC address that
        is the identifier.
        """
        return self.port(device, row.neighbor_port) or self.port(device, row.neighbor_port_description)
