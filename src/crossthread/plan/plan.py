"""The plan's records: one type for each of its sections, a field for each of its words.

Everything is optional, and None means that the plan says nothing about it. `line` is where an entry stands.
"""

from collections.abc import Iterable, Mapping
from datetime import date
from typing import Annotated

import msgspec

from crossthread.survey import cell_kinds as cells
from crossthread.survey.survey import Evidence
from crossthread.values import VlanSet

PREFIXES = cells.Kind(
    "IP prefixes such as 10.4.30.0/24, in brackets if there are several",
    lambda text: tuple(cells.PREFIX.read(word) for word in text.split()),
    " ".join,
)
ADDRESSES = cells.Kind(
    "IP addresses such as 10.4.30.1, in brackets if there are several",
    lambda text: tuple(cells.ADDRESS.read(word) for word in text.split()),
    " ".join,
)
ENDS = ("device", "port", "far device", "far port")

Text = Annotated[str | None, cells.TEXT]
Vid = Annotated[int | None, cells.VID]
VidOrNone = Annotated[int | None, cells.PVID]
Vids = Annotated[VlanSet | None, cells.VIDS]
Count = Annotated[int | None, cells.COUNT]
Mode = Annotated[str | None, cells.choice("access", "trunk", "hybrid", "routed", "tunnel")]


class Settings(msgspec.Struct, frozen=True):
    """What holds for the whole campus."""

    native: VidOrNone = None
    mtu: Count = None
    speed: Count = None
    tagging: Text = None
    discovery: Annotated[str | None, cells.choice("between-devices", "everywhere", "nowhere")] = None
    tree: Annotated[str | None, cells.choice("stp", "rstp", "mstp", "per-vlan", "off")] = None
    line: int = 0


class PlannedVlan(msgspec.Struct, frozen=True):
    """A VLAN: its name, its subnets with their gateways, and which bridges should be its root."""

    vid: int
    name: Text = None
    subnets: Annotated[tuple[str, ...] | None, PREFIXES] = None
    gateways: Annotated[tuple[str, ...] | None, ADDRESSES] = None
    root: Text = None
    backup_root: Text = None
    line: int = 0


class PlannedPort(msgspec.Struct, frozen=True):
    """A port: its mode, the VLAN of an access or tunnel port, what a trunk allows and which VLAN is its native one."""

    device: str
    port: str
    mode: Mode = None
    vlan: Vid = None
    allowed: Vids = None
    native: VidOrNone = None
    line: int = 0


class PlannedLink(msgspec.Struct, frozen=True):
    """A documented cable, and which VLANs it must carry."""

    ends: tuple[str, str, str, str]
    """Device and port at the one end, device and port at the other."""
    carries: Vids = None
    line: int = 0


class PlannedHost(msgspec.Struct, frozen=True):
    """A host: its VLAN, its address, its gateway."""

    host: str
    vlan: Vid = None
    address: Annotated[str | None, cells.INTERFACE] = None
    gateway: Annotated[str | None, cells.ADDRESS_OR_NONE] = None
    line: int = 0


class Talk(msgspec.Struct, frozen=True):
    """Whether hosts of some VLANs may talk with hosts of others."""

    vlans: Annotated[VlanSet, cells.VIDS]
    others: Annotated[VlanSet, cells.VIDS]
    may: Annotated[str, cells.YES]
    line: int = 0


class Accepted(msgspec.Struct, frozen=True):
    """A finding that somebody knows of and accepts, why, and until which day."""

    rule: Annotated[str, cells.NAME]
    reason: Annotated[str, cells.NAME]
    subject: Text = None
    until: Annotated[date | None, cells.DAY] = None
    line: int = 0


Entry = Settings | PlannedVlan | PlannedPort | PlannedLink | PlannedHost | Talk | Accepted


class Plan(msgspec.Struct, frozen=True):
    """What was intended of a campus.

    Attributes
    ----------
    vlans
        By VID.
    ports
        By device (in lower case) and port.
    hosts
        By name in lower case.
    talk
        In their order; of several that fit two VLANs, the last counts. Where none fits, hosts may talk.
    """

    file: str = "plan.toml"
    title: str | None = None
    settings: Settings = Settings()
    vlans: dict[int, PlannedVlan] = {}
    ports: dict[tuple[str, str], PlannedPort] = {}
    links: tuple[PlannedLink, ...] = ()
    hosts: dict[str, PlannedHost] = {}
    talk: tuple[Talk, ...] = ()
    accept: tuple[Accepted, ...] = ()

    def port(self, device: str, port: str, aliases: Iterable[str] = ()) -> PlannedPort:
        """What is planned for a port, by any of its names; nothing, if the plan does not know it."""
        held = (self.ports.get((device.casefold(), name)) for name in (port, *aliases) if self.ports)
        return next((entry for entry in held if entry is not None), PlannedPort(device, port))

    def served_at(self, address: str) -> int | None:
        """The VLAN of which an address is planned as a gateway's."""
        return next((vid for vid, entry in self.vlans.items() if address in (entry.gateways or ())), None)

    def may_talk(self, one: int | None, two: int | None) -> bool:
        """Whether hosts of two VLANs may talk with each other."""
        for entry in reversed(self.talk):
            if (one in entry.vlans and two in entry.others) or (two in entry.vlans and one in entry.others):
                return entry.may == "yes"
        return True

    def evidence(self, entry: Entry, key: Mapping[str, object], *words: str) -> tuple[Evidence, ...]:
        """What some words of an entry say, as evidence."""
        found = []
        for word in words:
            value = getattr(entry, word)
            shown = None if value is None else " ".join(map(str, value)) if isinstance(value, tuple) else str(value)
            source = f"{self.file}:{entry.line}"
            found.append(Evidence("plan", key, word, "none" if shown == "0" else shown, source))
        return tuple(found)
