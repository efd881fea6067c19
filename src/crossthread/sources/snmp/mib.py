"""The columns of the MIB modules that are read, and a device's three numberings of ports brought together.

Bridge port number, ifIndex and LLDP port number are three different things. Bridge ports are brought to ifIndex by
BRIDGE-MIB's base port table (RFC 4188); LLDP ports by the identifiers that LLDP-MIB gives for them.
"""

from __future__ import annotations

import re
from collections import Counter
from functools import cached_property
from ipaddress import IPv4Address, IPv6Address
from typing import TypeVar

from crossthread.sources.snmp.walk import Walk
from crossthread.values import Address

_SYSTEM = "1.3.6.1.2.1.1"
_IF, _IFX, _ETHER = "1.3.6.1.2.1.2.2.1", "1.3.6.1.2.1.31.1.1.1", "1.3.6.1.2.1.10.7.2.1"
_BRIDGE, _VLAN = "1.3.6.1.2.1.17", "1.3.6.1.2.1.17.7.1"
_ENTITY, _IFSTACK, _ACCESS = "1.3.6.1.2.1.47.1.1.1.1", "1.3.6.1.2.1.31.1.2.1", "1.0.8802.1.1.1.1.2.1.1"
_VRRP, _VRRP3 = "1.3.6.1.2.1.68", "1.3.6.1.2.1.207.1"
_IP, _LAG, _LLDP = "1.3.6.1.2.1.4", "1.2.840.10006.300.43.1.2.1.1", "1.0.8802.1.1.2.1"
_MST, _MAU, _SIX = "1.3.111.2.802.1.1.6.1", "1.3.6.1.2.1.26", "1.3.6.1.2.1.55.1"

COLUMNS = {
    "description": f"{_SYSTEM}.1", "name": f"{_SYSTEM}.5", "up_time": f"{_SYSTEM}.3", "location": f"{_SYSTEM}.6",
    "entity_class": f"{_ENTITY}.5", "entity_software": f"{_ENTITY}.10", "entity_model": f"{_ENTITY}.13",
    "entity_serial": f"{_ENTITY}.11",
    "engine": "1.3.6.1.6.3.10.2.1.1", "if_stack": f"{_IFSTACK}.3", "authorized": f"{_ACCESS}.5",
    "if_descr": f"{_IF}.2", "if_type": f"{_IF}.3", "if_mtu": f"{_IF}.4", "if_speed": f"{_IF}.5", "if_mac": f"{_IF}.6",
    "if_admin": f"{_IF}.7", "if_oper": f"{_IF}.8", "if_in_errors": f"{_IF}.14", "if_out_errors": f"{_IF}.20",
    "if_in_unicast": f"{_IFX}.7", "if_in_multicast": f"{_IFX}.8", "if_in_broadcast": f"{_IFX}.9",
    "if_out_unicast": f"{_IFX}.11", "if_out_multicast": f"{_IFX}.12", "if_out_broadcast": f"{_IFX}.13",
    "if_name": f"{_IFX}.1", "if_high_speed": f"{_IFX}.15", "if_alias": f"{_IFX}.18",
    "if_discontinuity": f"{_IFX}.19", "mau_type": f"{_MAU}.2.1.1.3", "mau_capable": f"{_MAU}.5.1.1.9",
    "fcs_errors": f"{_ETHER}.3", "late_collisions": f"{_ETHER}.8", "duplex": f"{_ETHER}.19",
    "bridge_address": f"{_BRIDGE}.1.1", "base_port": f"{_BRIDGE}.1.4.1.2",
    "stp_protocol": f"{_BRIDGE}.2.1", "stp_priority": f"{_BRIDGE}.2.2", "stp_root": f"{_BRIDGE}.2.5",
    "stp_root_cost": f"{_BRIDGE}.2.6", "stp_root_port": f"{_BRIDGE}.2.7", "stp_version": f"{_BRIDGE}.2.16",
    "stp_max_age": f"{_BRIDGE}.2.8", "stp_forward_delay": f"{_BRIDGE}.2.11", "mac_ageing": f"{_BRIDGE}.4.2",
    "port_priority": f"{_BRIDGE}.2.15.1.2", "port_state": f"{_BRIDGE}.2.15.1.3", "port_cost": f"{_BRIDGE}.2.15.1.5",
    "port_enabled": f"{_BRIDGE}.2.15.1.4", "port_designated": f"{_BRIDGE}.2.15.1.8",
    "port_designated_port": f"{_BRIDGE}.2.15.1.9",
    "port_cost_32": f"{_BRIDGE}.2.15.1.11", "port_edge": f"{_BRIDGE}.2.19.1.3",
    "mac_port": f"{_BRIDGE}.4.3.1.2", "mac_status": f"{_BRIDGE}.4.3.1.3",
    "fdb_port": f"{_VLAN}.2.2.1.2", "fdb_status": f"{_VLAN}.2.2.1.3",
    "vlan_fdb": f"{_VLAN}.4.2.1.3", "vlan_egress": f"{_VLAN}.4.2.1.4", "vlan_untagged": f"{_VLAN}.4.2.1.5",
    "static_name": f"{_VLAN}.4.3.1.1", "static_egress": f"{_VLAN}.4.3.1.2", "static_untagged": f"{_VLAN}.4.3.1.4",
    "static_forbidden": f"{_VLAN}.4.3.1.3", "static_status": f"{_VLAN}.4.3.1.5",
    "pvid": f"{_VLAN}.4.5.1.1", "port_frames": f"{_VLAN}.4.5.1.2", "ingress_filtering": f"{_VLAN}.4.5.1.3",
    "mst_restricted": f"{_MST}.3.1.12", "mst_cist_role": f"{_MST}.3.1.14", "mst_region": f"{_MST}.7.1.3",
    "mst_vlan": f"{_MST}.6.1.3", "mst_root": f"{_MST}.2.1.7", "mst_root_cost": f"{_MST}.2.1.8",
    "mst_root_port": f"{_MST}.2.1.9", "mst_priority": f"{_MST}.2.1.10", "mst_state": f"{_MST}.4.1.5",
    "mst_port_priority": f"{_MST}.4.1.6", "mst_cost": f"{_MST}.4.1.7", "mst_role": f"{_MST}.4.1.12",
    "forwarding": f"{_IP}.1", "ip_index": f"{_IP}.20.1.2", "ip_mask": f"{_IP}.20.1.3", "arp": f"{_IP}.22.1.2",
    "route_if": f"{_IP}.24.4.1.5", "route_type": f"{_IP}.24.4.1.6", "route_protocol": f"{_IP}.24.4.1.7",
    "old_route_if": f"{_IP}.21.1.2", "old_route_hop": f"{_IP}.21.1.7", "old_route_type": f"{_IP}.21.1.8",
    "old_route_protocol": f"{_IP}.21.1.9", "old_route_mask": f"{_IP}.21.1.11",
    "address_if": f"{_IP}.34.1.3", "address_kind": f"{_IP}.34.1.4", "address_prefix": f"{_IP}.34.1.5",
    "neighbour_mac": f"{_IP}.35.1.4",
    "inet_route_if": f"{_IP}.24.7.1.7", "inet_route_type": f"{_IP}.24.7.1.8",
    "inet_route_protocol": f"{_IP}.24.7.1.9",
    "six_prefix": f"{_SIX}.8.1.2", "six_route_if": f"{_SIX}.11.1.4", "six_route_hop": f"{_SIX}.11.1.5",
    "six_route_type": f"{_SIX}.11.1.6", "six_route_protocol": f"{_SIX}.11.1.7", "six_neighbour": f"{_SIX}.12.1.2",
    "rem_pvid": f"{_LLDP}.5.32962.1.3.1.1.1", "rem_lag_status": f"{_LLDP}.5.4623.1.3.3.1.1",
    "rem_lag": f"{_LLDP}.5.4623.1.3.3.1.2", "rem_frame": f"{_LLDP}.5.4623.1.3.4.1.1",
    "rem_mau": f"{_LLDP}.5.4623.1.3.1.1.4",
    "med_vlan": f"{_LLDP}.5.4795.1.2.1.1.2", "med_tagged": f"{_LLDP}.5.4795.1.2.1.1.6",
    "lag_attached": f"{_LAG}.13", "lag_state": f"{_LAG}.21", "lag_partner": f"{_LAG}.9",
    "vrrp_state": f"{_VRRP}.1.3.1.3", "vrrp_address": f"{_VRRP}.1.4.1.2",
    "vrrp3_state": f"{_VRRP3}.1.1.1.5", "vrrp3_address": f"{_VRRP3}.1.2.1.2",
    "lldp_interval": f"{_LLDP}.1.1",
    "lldp_admin": f"{_LLDP}.1.6.1.2", "lldp_management": f"{_LLDP}.3.8.1.3",
    "lldp_chassis": f"{_LLDP}.3.2", "lldp_enabled": f"{_LLDP}.3.6", "lldp_port_id": f"{_LLDP}.3.7.1.3",
    "lldp_port_descr": f"{_LLDP}.3.7.1.4", "rem_chassis_kind": f"{_LLDP}.4.1.1.4", "rem_chassis": f"{_LLDP}.4.1.1.5",
    "rem_port_kind": f"{_LLDP}.4.1.1.6", "rem_port": f"{_LLDP}.4.1.1.7", "rem_port_descr": f"{_LLDP}.4.1.1.8",
    "rem_name": f"{_LLDP}.4.1.1.9", "rem_descr": f"{_LLDP}.4.1.1.10", "rem_enabled": f"{_LLDP}.4.1.1.12",
    "rem_management": f"{_LLDP}.4.2.1.3",
}  # fmt: skip
"""Every column that is read, and single values, by the name that it has here."""
SINGLE = frozenset({
    "description", "name", "up_time", "location", "bridge_address", "stp_protocol", "stp_priority", "stp_root",
    "stp_root_cost", "stp_root_port", "stp_version", "stp_max_age", "stp_forward_delay", "mac_ageing", "forwarding",
    "lldp_chassis", "lldp_enabled", "lldp_interval", "engine",
})  # fmt: skip
"""Those of `COLUMNS` that have a single value, of instance 0."""
CAPABILITIES = ("other", "repeater", "bridge", "wlan", "router", "phone", None, "station")
"""The bits of LldpSystemCapabilitiesMap."""

_Value = TypeVar("_Value")
_RANGE = rb"\d{1,5}(?:-\d{1,5})?"
_NUMBERS = re.compile(rb"%b(?:[, ]+%b)*[\0 ]*" % (_RANGE, _RANGE))
_WRITTEN = 6
"""How many octets of text at least make sure that lists of ports are no bits."""


class Mib:
    """What a walk says, by the names of `COLUMNS`."""

    def __init__(self, walk: Walk, device: str, source: str) -> None:
        self._walk, self._source = walk, source
        self._texts: dict[str, dict[tuple[int, ...], str]] = {}
        self._numbers: dict[str, dict[tuple[int, ...], int]] = {}
        self._octets: dict[str, dict[tuple[int, ...], bytes]] = {}
        self.device = next(iter(self.texts("name").values()), "") or device

    def at(self, name: str, index: tuple[int, ...]) -> str:
        """Where a row came from: the walk, and the object identifier of the value that it is known by."""
        return f"{self._source}:{COLUMNS[name]}.{'.'.join(map(str, index))}"

    def texts(self, name: str) -> dict[tuple[int, ...], str]:
        """A column as text, read once."""
        if name not in self._texts:
            self._texts[name] = self._walk.texts(COLUMNS[name])
        return self._texts[name]

    def numbers(self, name: str) -> dict[tuple[int, ...], int]:
        """A column as numbers, read once."""
        if name not in self._numbers:
            self._numbers[name] = self._walk.numbers(COLUMNS[name])
        return self._numbers[name]

    def octets(self, name: str) -> dict[tuple[int, ...], bytes]:
        """A column as octets, read once."""
        if name not in self._octets:
            self._octets[name] = self._walk.octets(COLUMNS[name])
        return self._octets[name]

    def one(self, name: str) -> int | None:
        return next(iter(self.numbers(name).values()), None)

    @staticmethod
    def of(column: dict[tuple[int, ...], _Value], number: int) -> _Value | None:
        return column.get((number,))

    @cached_property
    def interfaces(self) -> dict[int, str]:
        """The name of each interface by ifIndex: ifName, else ifDescr; where two share one, with the ifIndex behind."""
        names = {index[0]: text for index, text in self.texts("if_name").items() if text and len(index) == 1}
        descriptions = {index[0]: text for index, text in self.texts("if_descr").items() if text and len(index) == 1}
        taken = list(names.values())
        good = {index: name for index, name in names.items() if taken.count(name) == 1}
        found = {**{index: text for index, text in descriptions.items() if index not in good}, **good}
        told = Counter(found.values())
        return {index: name if told[name] == 1 else f"{name} #{index}" for index, name in found.items()}

    def _called_by(self, number: int) -> str:
        """The column that names an interface."""
        return "if_name" if self.texts("if_name").get((number,)) else "if_descr"

    @cached_property
    def bridge_ports(self) -> dict[int, int]:
        """The ifIndex of each bridge port."""
        return {index[0]: number for index, number in self.numbers("base_port").items() if len(index) == 1}

    @cached_property
    def only_routes(self) -> bool:
        """Whether the device says of itself that it is a router and no bridge."""
        words = capabilities(next(iter(self.octets("lldp_enabled").values()), b""))
        return "router" in words and "bridge" not in words and not self.bridge_ports

    @cached_property
    def aggregates(self) -> dict[int, int]:
        """The ifIndex of the aggregate that each member is attached to."""
        return {index[0]: to for index, to in self.numbers("lag_attached").items() if to and to != index[0]}

    def name(self, bridge_port: int) -> str | None:
        """The name of a bridge port."""
        return self.interfaces.get(self.bridge_ports.get(bridge_port, bridge_port if not self.bridge_ports else -1))

    def members(self, name: str) -> dict[int, set[int]]:
        """The bridge ports of each VLAN in a column of port lists (RFC 4363): port 1 is the first octet's highest bit.

        Empty if most of the listed ports are none of the bridge's: some devices fill in something else; and if the
        column was not read to its end.
        """
        found: dict[int, set[int]] = {}
        if COLUMNS[name] in self._walk.not_in_full:  # a member that is not listed may be one
            return found
        for index, octets in self.octets(name).items():
            vid = index[-1] if index else 0
            if 1 <= vid <= 4094:
                found[vid] = found.get(vid, set()) | (_written(octets) if self._written_lists else _set_bits(octets))
        listed = set().union(*found.values())
        return found if 2 * len(listed & self.bridge_ports.keys()) >= len(listed) else {}

    @cached_property
    def _written_lists(self) -> bool:
        """Whether port lists are numbers in text, such as “1,3-5”, as some devices send them instead of bits.

        Only if all of them can be read so, and name ports that the bridge has: by chance six octets of bits never do.
        """
        columns = ("vlan_egress", "static_egress", "vlan_untagged", "static_untagged")
        lists = [octets for name in columns for octets in self.octets(name).values() if octets.strip(b"\0")]
        if sum(map(len, lists)) < _WRITTEN or not all(_NUMBERS.fullmatch(octets) for octets in lists):
            return False
        return any(not octets.isdigit() for octets in lists) and self.bridge_ports.keys() >= set().union(
            *map(_written, lists)
        )

    @cached_property
    def egress(self) -> dict[int, set[int]]:
        """The members of each VLAN as they are; where that is not told, as configured."""
        return self.members("vlan_egress") or self.members("static_egress")

    def lengths(self, name: str) -> dict[tuple[int, ...], int]:
        """Masks as prefix lengths."""
        found = {}
        for index, text in self.texts(name).items():
            try:
                found[index] = int(IPv4Address(text.strip())).bit_count()
            except ValueError:
                continue
        return found


def _set_bits(octets: bytes) -> set[int]:
    return {8 * at + bit + 1 for at, octet in enumerate(octets) for bit in range(8) if octet << bit & 0x80}


def _written(octets: bytes) -> set[int]:
    """The numbers of a list in text, ranges included."""
    found: set[int] = set()
    for part in re.findall(_RANGE, octets):
        low, _, high = part.partition(b"-")
        found.update(range(int(low), int(high or low) + 1))
    return found


def address_of(index: tuple[int, ...]) -> Address | None:
    """An address that begins an index: its type (1 IPv4, 2 IPv6), its length, its octets (RFC 4001).

    Of types 3 and 4 a zone of four octets follows, such as the interface of a link-local address; it is left out.
    """
    if len(index) < 2 or (index[0], index[1]) not in ((1, 4), (2, 16), (3, 8), (4, 20)):
        return None
    octets = index[2 : 2 + index[1]]
    if len(octets) < index[1] or max(octets) > 255:
        return None
    return IPv4Address(bytes(octets[:4])) if index[0] in (1, 3) else IPv6Address(bytes(octets[:16]))


def sixteen(octets: tuple[int, ...] | bytes) -> IPv6Address | None:
    """The IPv6 address in sixteen octets."""
    return IPv6Address(bytes(octets)) if len(octets) == 16 and max(octets) < 256 else None


def capabilities(octets: bytes) -> list[str]:
    """The names of the bits of LldpSystemCapabilitiesMap; bit 0 is the first octet's highest."""
    return [word for bit, word in enumerate(CAPABILITIES) if word and octets and octets[0] << bit & 0x80]
