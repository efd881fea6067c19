"""The survey's tables: one record type for each, a field for each column.

A value of None means "not observed". "Observed: there is none" is `NO_VID` for a PVID, an empty set or tuple where
several may stand, and the word `none` (`crossthread.values.NONE`) for an address or a name.
"""

from collections.abc import Sequence
from functools import cache
from typing import Annotated, Any, ClassVar

import msgspec

from crossthread.survey import cell_kinds as cells
from crossthread.values import NONE, VlanSet

Name = Annotated[str, cells.NAME]
Place = Annotated[str, cells.REPEATED]
PlaceOrNot = Annotated[str | None, cells.REPEATED]
Text = Annotated[str | None, cells.TEXT]
Words = Annotated[tuple[str, ...] | None, cells.WORDS]
Mac = Annotated[str | None, cells.MAC]
Vid = Annotated[int | None, cells.VID]
Pvid = Annotated[int | None, cells.PVID]
Vids = Annotated[VlanSet | None, cells.VIDS]
Address = Annotated[str | None, cells.ADDRESS]
AddressOrNone = Annotated[str | None, cells.ADDRESS_OR_NONE]
Interface = Annotated[str | None, cells.INTERFACE]
NameOrNone = Annotated[str | None, cells.NAME_OR_NONE]
Yes = Annotated[str | None, cells.YES]
Up = Annotated[str | None, cells.UP]
Count = Annotated[int | None, cells.COUNT]
Number = Annotated[float | None, cells.NUMBER]
Extra = tuple[tuple[str, str], ...]


class Row(msgspec.Struct, frozen=True, gc=False):
    """What every record has: its table's name, its key, the columns that the format does not name, its source."""

    TABLE: ClassVar[str] = ""
    KEY: ClassVar[tuple[str, ...]] = ()

    @property
    def key(self) -> tuple[object, ...]:
        """The values of the key columns; texts without regard to case where the format has none."""
        return tuple(folded(column, getattr(self, column)) for column in self.KEY)


@cache
def columns_of(record: type[Row]) -> dict[str, tuple[cells.Kind, bool]]:
    """Each column's kind, and whether its cells must not be empty, in the order of the fields."""
    hints = {name: record.__annotations__[name] for name in record.__struct_fields__ if name != "extra"}
    return {name: (hint.__metadata__[0], hint.__origin__ in (str, int)) for name, hint in hints.items()}


def folded(column: str, value: Any) -> object:
    """A key value for comparison: device and host names compare without regard to case."""
    return value.casefold() if column in ("device", "host") and value is not None else value


def all_folded(column: str, values: Sequence[Any]) -> Sequence[object]:
    """The same for all values of a column, which mostly are in lower case as they are."""
    text = "\n".join(filter(None, values)) if column in ("device", "host") else ""
    return values if text == text.casefold() else [folded(column, value) for value in values]


class Device(Row, frozen=True):
    """A switch, router or other box that bridges or routes."""

    TABLE = "devices"
    KEY = ("device",)
    device: Place
    chassis: Annotated[str | None, cells.CHASSIS] = None
    capabilities: Annotated[tuple[str, ...] | None, cells.CAPABILITIES] = None
    platform: Text = None
    software: Text = None
    management: AddressOrNone = None
    site: Text = None
    tier: Annotated[str | None, cells.choice("core", "distribution", "access", "edge")] = None
    routing: Yes = None
    routing6: Yes = None
    vlan_aware: Yes = None
    discovery: Annotated[str | None, cells.ON] = None
    mac_ageing: Number = None
    arp_ageing: Number = None
    discovery_interval: Number = None
    serial: Text = None
    source: Text = None
    extra: Extra = ()


class Port(Row, frozen=True):
    """A port of a device: its state, its VLANs (IEEE 802.1Q clause 6.9), whom it admits, its counters."""

    TABLE = "ports"
    KEY = ("device", "port")
    device: Place
    port: Place
    aliases: Words = None
    description: Text = None
    mac: Mac = None
    admin: Up = None
    oper: Up = None
    speed: Count = None
    duplex: Annotated[str | None, cells.DUPLEX] = None
    mtu: Count = None
    capable_speed: Count = None
    mode: Annotated[str | None, cells.choice("access", "trunk", "hybrid", "routed", "tunnel")] = None
    voice: Vid = None
    isolated: Yes = None
    authorized: Yes = None
    lag_state: Annotated[str | None, cells.choice("attached", "detached", "standby")] = None
    lag_partner: Mac = None
    frames: Annotated[str | None, cells.choice("all", "tagged", "untagged")] = None
    pvid: Pvid = None
    allowed: Vids = None
    untagged: Vids = None
    forbidden: Vids = None
    ingress_filter: Yes = None
    tagging: Text = None
    lag: NameOrNone = None
    discovery: Annotated[str | None, cells.choice("both", "send", "receive", "off")] = None
    allowed_macs: Annotated[tuple[str, ...] | None, cells.MACS] = None
    mac_limit: Count = None
    violation: Annotated[str | None, cells.choice("drop", "shutdown")] = None
    violations: Count = None
    filter_in: NameOrNone = None
    filter_out: NameOrNone = None
    counted_for: Count = None
    in_packets: Count = None
    out_packets: Count = None
    in_errors: Count = None
    crc_errors: Count = None
    out_errors: Count = None
    late_collisions: Count = None
    source: Text = None
    extra: Extra = ()


class Vlan(Row, frozen=True):
    """A VLAN that exists on a device. A device with any row here has no other VLANs."""

    TABLE = "vlans"
    KEY = ("device", "vid")
    device: Place
    vid: Annotated[int, cells.VID]
    name: Text = None
    state: Annotated[str | None, cells.choice("active", "suspended")] = None
    source: Text = None
    extra: Extra = ()


class Neighbor(Row, frozen=True):
    """What a port heard a neighbour say of itself (IEEE 802.1AB clause 8)."""

    TABLE = "neighbors"
    KEY = ()
    device: Place
    port: Place
    protocol: Text = None
    neighbor: Text = None
    neighbor_chassis: Annotated[str | None, cells.CHASSIS] = None
    neighbor_port: Text = None
    neighbor_port_description: Text = None
    management: AddressOrNone = None
    capabilities: Annotated[tuple[str, ...] | None, cells.CAPABILITIES] = None
    platform: Text = None
    software: Text = None
    ttl: Number = None
    remaining: Number = None
    interval: Number = None
    pvid: Pvid = None
    speed: Count = None
    duplex: Annotated[str | None, cells.DUPLEX] = None
    mtu: Count = None
    lag: NameOrNone = None
    source: Text = None
    extra: Extra = ()


class Gateway(Row, frozen=True):
    """One address of an interface that routes."""

    TABLE = "gateways"
    KEY = ("device", "interface", "address")
    device: Place
    interface: Name
    address: Interface = None
    vid: Vid = None
    port: Text = None
    untagged: Yes = None
    admin: Up = None
    oper: Up = None
    virtual: AddressOrNone = None
    virtual_state: Annotated[str | None, cells.choice("master", "backup", "down")] = None
    proxy_arp: Yes = None
    filter_in: NameOrNone = None
    filter_out: NameOrNone = None
    table: Text = None
    source: Text = None
    extra: Extra = ()


class Route(Row, frozen=True):
    """An entry of a device's routing table."""

    TABLE = "routes"
    KEY = ("device", "prefix", "next_hop")
    device: Place
    prefix: Annotated[str, cells.PREFIX]
    next_hop: AddressOrNone = None
    interface: Text = None
    origin: Text = None
    metric: Count = None
    table: Text = None
    kind: Annotated[str | None, cells.choice("unicast", "blackhole", "unreachable", "prohibit")] = None
    source: Text = None
    extra: Extra = ()


class Tree(Row, frozen=True):
    """What a bridge says of one spanning-tree instance."""

    TABLE = "trees"
    KEY = ("device", "instance")
    device: Place
    instance: Annotated[int, cells.COUNT]
    vlans: Vids = None
    protocol: Annotated[str | None, cells.choice("stp", "rstp", "mstp", "per-vlan", "off")] = None
    region: Text = None
    priority: Count = None
    address: Mac = None
    root_priority: Count = None
    root_address: Mac = None
    root_cost: Count = None
    root_port: NameOrNone = None
    bpdus: Annotated[str | None, cells.choice("pass", "drop")] = None
    forward_delay: Number = None
    max_age: Number = None
    source: Text = None
    extra: Extra = ()


class TreePort(Row, frozen=True):
    """A port's part in one spanning-tree instance."""

    TABLE = "tree_ports"
    KEY = ("device", "port", "instance")
    device: Place
    port: Place
    instance: Annotated[int, cells.COUNT]
    role: Annotated[str | None, cells.choice("root", "designated", "alternate", "backup", "master", "disabled")] = None
    state: Annotated[
        str | None,
        cells.choice("forwarding", "learning", "discarding", blocking="discarding", listening="discarding"),
    ] = None
    cost: Count = None
    priority: Count = None
    number: Count = None
    edge: Yes = None
    guard: Text = None
    bpdus: Annotated[str | None, cells.choice("pass", "drop")] = None
    source: Text = None
    extra: Extra = ()

    @property
    def disabled(self) -> bool:
        """Whether the port takes no part in the tree and passes nothing: no link, or something holds it closed."""
        return self.role == "disabled" and self.state in (None, "discarding")

    @property
    def guarded(self) -> bool:
        """Whether a guard, or the protection of edge ports, may hold the port closed."""
        return self.guard not in (None, NONE) or self.edge == "yes"


class Host(Row, frozen=True):
    """A station: its address settings and where it is plugged in."""

    TABLE = "hosts"
    KEY = ("host",)
    host: Name
    mac: Mac = None
    address: Annotated[str | None, cells.INTERFACES] = None
    gateway: Annotated[str | None, cells.ADDRESSES] = None
    device: PlaceOrNot = None
    port: PlaceOrNot = None
    vid: Pvid = None
    link: Up = None
    source: Text = None
    extra: Extra = ()


class MacEntry(Row, frozen=True):
    """An entry of a bridge's filtering database (IEEE 802.1Q clause 8.8)."""

    TABLE = "macs"
    KEY = ("device", "vid", "mac")
    device: Place
    vid: Vid
    mac: Annotated[str, cells.MAC]
    port: Text = None
    kind: Annotated[str | None, cells.choice("learned", "static", "self")] = None
    source: Text = None
    extra: Extra = ()


class ArpEntry(Row, frozen=True):
    """An entry of a device's ARP or neighbour-discovery cache."""

    TABLE = "arp"
    KEY = ("device", "interface", "address")
    device: Place
    interface: Text
    address: Annotated[str, cells.ADDRESS]
    mac: Mac = None
    source: Text = None
    extra: Extra = ()


class Cable(Row, frozen=True):
    """The outcome of a cable test on one pair of wires."""

    TABLE = "cables"
    KEY = ("device", "port", "pair")
    device: Place
    port: Place
    pair: Name
    status: Annotated[str | None, cells.choice("ok", "open", "short", "crosstalk", "mismatch", "unknown")] = None
    length: Number = None
    source: Text = None
    extra: Extra = ()


class Filter(Row, frozen=True):
    """An entry of a packet filter (RFC 8519); the row without a number says what happens where none matches."""

    TABLE = "filters"
    KEY = ("device", "filter", "number")
    device: Place
    filter: Name
    number: Count = None
    action: Annotated[str | None, cells.choice("accept", "drop", "reject")] = None
    family: Annotated[str | None, cells.choice("4", "6")] = None
    protocol: Text = None
    source: Annotated[str | None, cells.MATCH] = None
    source_port: Text = None
    destination: Annotated[str | None, cells.MATCH] = None
    destination_port: Text = None
    state: Annotated[tuple[str, ...] | None, cells.STATES] = None
    otherwise: Annotated[str | None, cells.choice("accept", "drop", "reject")] = None
    extra: Extra = ()


READ_IN_FULL = (
    "devices", "ports", "vlans", "neighbors", "gateways", "routes", "trees", "tree_ports", "macs", "arp", "filters",
    "cables"
)  # fmt: skip
"""The tables that can be read in full of a device; hosts.csv never is: it lists whom one asks about."""


class Coverage(Row, frozen=True):
    """Whether a table was read in full of a device: only then is a row that is missing there a fact."""

    TABLE = "coverage"
    KEY = ("device", "table")
    device: Place
    table: Annotated[str, cells.choice(*READ_IN_FULL)]
    complete: Yes = None
    taken_at: Annotated[str | None, cells.TIME] = None
    source: Text = None
    extra: Extra = ()


TABLES: dict[str, type[Row]] = {
    kind.TABLE: kind
    for kind in (
        Device, Port, Vlan, Neighbor, Gateway, Route, Tree, TreePort, Host, MacEntry, ArpEntry, Filter, Cable, Coverage
    )
}  # fmt: skip
