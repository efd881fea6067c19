"""What a device of a survey would tell by SNMP: the reverse of `sources/snmp`, for agents that stand in for devices.

What the open MIB modules have no place for is not told: hosts, admitted stations, proxy ARP, filters, cable tests.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable
from functools import cached_property
from ipaddress import ip_address, ip_interface, ip_network
from typing import Any

from crossthread.live.snmp.messages import (
    COUNTER,
    COUNTER64,
    GAUGE,
    IDENTIFIER,
    INTEGER,
    OCTETS,
    Entry,
    Oid,
    identifier_octets,
    integer_octets,
)
from crossthread.live.snmp.walk_text import oid
from crossthread.sources.snmp.mib import CAPABILITIES, COLUMNS
from crossthread.survey import Survey
from crossthread.survey.records import Device, Gateway, Port
from crossthread.values import NO_VID, NONE, Address

_TOLD = ("devices", "ports", "vlans", "neighbors", "gateways", "routes", "trees", "tree_ports", "macs", "arp")
_ETHERNET, _AGGREGATE, _TAGGED, _ROUTED = 6, 161, 135, 136
_UP, _YES = {"up": 1, "down": 2}, {"yes": 1, "no": 2}
_ATTACHED, _DETACHED = b"\x3d", b"\x05"
_IDENTIFIERS = {name: oid(text) for name, text in COLUMNS.items()}
_MANUAL, _INTERFACE_NAME, _MAC, _OWN = 1, 5, 4, 7
_PORT_BY_MAC, _PORT_BY_NAME = 3, 5


def by_device(survey: Survey) -> dict[str, Survey]:
    """For each device with a row of its own the part of a survey that it could tell."""
    parts: dict[str, dict[str, list[object]]] = defaultdict(lambda: defaultdict(list))
    for name in _TOLD:
        rows: Iterable[Any] = survey.table(name)
        for row in rows:
            parts[row.device][name].append(row)
    return {row.device: Survey.of(None, **parts[row.device]) for row in survey.devices}


def untold(survey: Survey) -> Survey:
    """What a survey says and no device would tell: somebody has to type it in.

    That is the hosts, which stations a port admits, and whether gateways do proxy ARP.
    """
    ports = [
        Port(
            row.device,
            row.port,
            allowed_macs=row.allowed_macs,
            mac_limit=row.mac_limit,
            violation=row.violation,
            violations=row.violations,
        )
        for row in survey.ports
        if row.allowed_macs or row.mac_limit or row.violation
    ]
    gateways = [
        Gateway(row.device, row.interface, row.address, proxy_arp=row.proxy_arp)
        for row in survey.gateways
        if row.proxy_arp
    ]
    return Survey.of(survey.info, hosts=survey.hosts, ports=ports, gateways=gateways)


def objects_of(survey: Survey) -> list[Entry]:
    """What the one device of a survey would tell, in the order of the identifiers."""
    return _Told(survey).objects()


class _Told:
    """Collects objects; a device's interfaces are numbered from 1 on, a bridge port as the spanning tree numbers it."""

    def __init__(self, survey: Survey) -> None:
        self.survey = survey
        self.device: Device = survey.devices[0]
        self.found: dict[Oid, tuple[int, bytes]] = {}

    def objects(self) -> list[Entry]:
        self._system()
        self._interfaces()
        self._bridge()
        self._vlans()
        self._trees()
        self._stations()
        self._addresses()
        self._discovery()
        return [Entry(name, *self.found[name]) for name in sorted(self.found)]

    def _put(self, column: str, index: Iterable[int], value: object, tag: int = INTEGER) -> None:
        """One object; nothing if its value was not observed."""
        if isinstance(value, str):
            tag, value = OCTETS, value.encode()
        if isinstance(value, bytes):
            self.found[(*_IDENTIFIERS[column], *index)] = OCTETS, value
        elif isinstance(value, int):
            self.found[(*_IDENTIFIERS[column], *index)] = tag, integer_octets(value)
        elif isinstance(value, tuple):
            self.found[(*_IDENTIFIERS[column], *index)] = IDENTIFIER, identifier_octets(value)

    @cached_property
    def numbers(self) -> dict[str, int]:
        """The ifIndex of each port and each interface that routes."""
        names = [row.port for row in self.survey.ports] + [row.interface for row in self.survey.gateways]
        return {name: number for number, name in enumerate(dict.fromkeys(names), 1)}

    @cached_property
    def bridge_ports(self) -> dict[str, int]:
        """The bridge port number of each port that bridges: an aggregate bridges in place of its members."""
        told = {row.port: row.number for row in self.survey.tree_ports if row.number}
        rows = [row for row in self.survey.ports if row.mode != "routed" and row.lag in (None, NONE)]
        return {row.port: told.get(row.port) or self.numbers[row.port] for row in rows}

    def _system(self) -> None:
        told = self.device
        for column, value in (("description", told.platform), ("name", told.device), ("location", told.site)):
            self._put(column, (0,), value or "")
        self._put("forwarding", (0,), _YES.get(told.routing or ""))
        self._put("entity_class", (1,), 3)
        self._put("entity_model", (1,), told.platform)
        self._put("entity_software", (1,), told.software)
        self._put("engine", (0,), b"\x80\x00\x00\x00\x05" + _chassis(told.chassis))

    def _interfaces(self) -> None:
        bundles = {row.lag for row in self.survey.ports}
        for row in self.survey.ports:
            number = (self.numbers[row.port],)
            self._interface(row.port, _AGGREGATE if row.port in bundles else _ETHERNET, row)
            duplex = {"half": 2, "full": 3}.get(row.duplex or "")
            self._put("duplex", number, duplex)
            self._put("fcs_errors", number, row.crc_errors, COUNTER)
            self._put("late_collisions", number, row.late_collisions, COUNTER)
            if row.lag not in (None, NONE):
                self._put("lag_attached", number, self.numbers.get(row.lag or ""))
                state = {"attached": _ATTACHED, "detached": _DETACHED, "standby": _DETACHED}
                self._put("lag_state", number, state.get(row.lag_state or ""))
            self._put("authorized", number, _YES.get(row.authorized or ""))
        for name, gateway in {row.interface: row for row in self.survey.gateways}.items():
            if name not in {row.port for row in self.survey.ports}:
                self._interface(name, _TAGGED if gateway.port else _ROUTED, gateway)
                if gateway.port in self.numbers:
                    self._put("if_stack", (self.numbers[name], self.numbers[gateway.port]), 1)

    def _interface(self, name: str, kind: int, row: Port | Gateway) -> None:
        number = (self.numbers[name],)
        vid = row.vid if isinstance(row, Gateway) else None
        told = f"{name}, VLAN {vid}" if vid and not name.endswith(str(vid)) else name
        for column, value in (("if_descr", told), ("if_name", name), ("if_type", kind)):
            self._put(column, number, value)
        self._put("if_admin", number, _UP.get(row.admin or ""))
        self._put("if_oper", number, _UP.get(row.oper or ""))
        if isinstance(row, Port):
            self._put("if_mtu", number, row.mtu)
            self._put("if_mac", number, _octets(row.mac))
            self._put("if_alias", number, row.description or "")
            self._put("if_high_speed", number, row.speed, GAUGE)
            self._put("if_speed", number, min((row.speed or 0) * 1_000_000, 0xFFFFFFFF), GAUGE)
            self._put("if_in_errors", number, row.in_errors, COUNTER)
            self._put("if_out_errors", number, row.out_errors, COUNTER)
            self._put("if_in_unicast", number, row.in_packets, COUNTER64)
            self._put("if_out_unicast", number, row.out_packets, COUNTER64)

    def _bridge(self) -> None:
        if not self.bridge_ports or "bridge" not in (self.device.capabilities or ()):
            return
        self._put("bridge_address", (0,), _octets(self.device.chassis))
        self._put("mac_ageing", (0,), None if self.device.mac_ageing is None else int(self.device.mac_ageing))
        for name, number in self.bridge_ports.items():
            self._put("base_port", (number,), self.numbers[name])

    def _vlans(self) -> None:
        if not self.survey.vlans:
            return
        carried: dict[int, set[int]] = defaultdict(set)
        untagged: dict[int, set[int]] = defaultdict(set)
        known = {row.vid for row in self.survey.vlans}
        for row in self.survey.ports:
            number = self.bridge_ports.get(row.port)
            if number is None or row.mode is None:
                continue
            own = row.pvid or NO_VID
            access = row.mode in ("access", "tunnel")
            tagged = [] if access else [vid for vid in known if row.allowed is not None and vid in row.allowed]
            tagged += [row.voice] if row.voice in known else []
            for vid in ({own} & known | set(tagged)) if access else tagged:
                carried[vid].add(number)
            bare = [own] if access or row.untagged is None else [vid for vid in known if vid in row.untagged]
            for vid in set(bare) & carried.keys():
                if number in carried[vid]:
                    untagged[vid].add(number)
            self._put("pvid", (number,), own, GAUGE)
            self._put("port_frames", (number,), {"tagged": 2}.get(row.frames or "", 1))
        size = (max(self.bridge_ports.values()) + 7) // 8
        for vlan in self.survey.vlans:
            members, bare_members = _list(carried[vlan.vid], size), _list(untagged[vlan.vid], size)
            self._put("static_name", (vlan.vid,), vlan.name or "")
            self._put("static_egress", (vlan.vid,), members)
            self._put("static_untagged", (vlan.vid,), bare_members)
            self._put("static_status", (vlan.vid,), 2 if vlan.state == "suspended" else 1)
            self._put("vlan_fdb", (0, vlan.vid), vlan.vid, GAUGE)
            self._put("vlan_egress", (0, vlan.vid), members)
            self._put("vlan_untagged", (0, vlan.vid), bare_members)

    def _trees(self) -> None:
        """The one tree that BRIDGE-MIB has a place for (RFC 4188, RFC 4318)."""
        tree = next((row for row in self.survey.trees if row.instance == 0), None)
        if tree is None or tree.root_address is None or tree.root_priority is None:
            return
        own = _octets(tree.address) or b""
        self._put("stp_protocol", (0,), 3)
        self._put("stp_version", (0,), {"stp": 0, "rstp": 2, "mstp": 3}.get(tree.protocol or ""))
        self._put("stp_priority", (0,), tree.priority)
        self._put("stp_root", (0,), tree.root_priority.to_bytes(2, "big") + (_octets(tree.root_address) or b""))
        self._put("stp_root_cost", (0,), tree.root_cost)
        self._put("stp_root_port", (0,), self.bridge_ports.get(tree.root_port or "", 0))
        for column, seconds in (("stp_max_age", tree.max_age), ("stp_forward_delay", tree.forward_delay)):
            self._put(column, (0,), None if seconds is None else round(100 * seconds))
        states = {"discarding": 2, "learning": 4, "forwarding": 5}
        for row in self.survey.tree_ports:
            number = self.bridge_ports.get(row.port)
            if number is None or row.instance != 0:
                continue
            state = 1 if row.role == "disabled" else states.get(row.state or "")
            other = (tree.priority or 0).to_bytes(2, "big") + (
                own if row.role in ("designated", "backup") else b"\2" * 6
            )
            self._put("port_state", (number,), state)
            self._put("port_priority", (number,), row.priority)
            self._put("port_enabled", (number,), 1)
            self._put("port_cost_32", (number,), row.cost)
            self._put("port_designated", (number,), other)
            self._put("port_edge", (number,), _YES.get(row.edge or ""))

    def _stations(self) -> None:
        kinds = {"learned": 3, "self": 4, "static": 5}
        for row in self.survey.macs:
            octets, number = _octets(row.mac), self.bridge_ports.get(row.port or "", 0)
            if octets is not None and row.vid is not None and row.kind in kinds:
                self._put("fdb_port", (row.vid, *octets), number)
                self._put("fdb_status", (row.vid, *octets), kinds[row.kind])
        for entry in self.survey.arp:
            number = next(
                (self.numbers[r.interface] for r in self.survey.gateways if r.interface == entry.interface), 0
            )
            if number and entry.mac:
                self._put("neighbour_mac", (number, *_index(ip_address(entry.address))), _octets(entry.mac))

    def _addresses(self) -> None:
        for row in self.survey.gateways:
            if row.address in (None, "", NONE):
                continue
            own: Any = ip_interface(row.address or "")
            number = self.numbers[row.interface]
            if own.version == 4:
                self._put("ip_index", own.ip.packed, number)
                self.found[(*_IDENTIFIERS["ip_mask"], *own.ip.packed)] = 0x40, own.netmask.packed
            index = _index(own.ip)
            self._put("address_if", index, number)
            self._put("address_kind", index, 1)
            net = own.network
            prefix = (*oid("1.3.6.1.2.1.4.32.1.5"), number, *_index(net.network_address), net.prefixlen)
            self._put("address_prefix", index, prefix)
        called = {row.interface: self.numbers[row.interface] for row in self.survey.gateways}
        for route in self.survey.routes:
            goal = ip_network(route.prefix)
            hop: Address = (
                ip_address(route.next_hop) if route.next_hop else ip_address(b"\0" * len(goal.network_address.packed))
            )
            index = (*_index(goal.network_address), goal.prefixlen, 2, 0, 0, *_index(hop))
            self._put("inet_route_if", index, called.get(route.interface or "", 0))
            kind = {"blackhole": 5, "prohibit": 2, "unreachable": 2}.get(route.kind or "", 4)
            protocols = {"connected": 2, "rip": 8, "ospf": 13, "bgp": 14}
            self._put("inet_route_type", index, kind)
            self._put("inet_route_protocol", index, protocols.get(route.origin or "", 3))

    def _discovery(self) -> None:
        if self.device.discovery == "off":
            return
        self._put("lldp_chassis", (0,), _chassis(self.device.chassis))
        self._put("lldp_enabled", (0,), _words(self.device.capabilities))
        if self.device.management not in (None, NONE):
            self._put("lldp_management", _index(ip_address(self.device.management or "")), 2)
        words = {"send": 1, "receive": 2, "both": 3, "off": 4}
        for port in self.survey.ports:
            number = (self.numbers[port.port],)
            self._put("lldp_admin", number, words.get(port.discovery or ""))
            if port.discovery is not None:
                self._put("lldp_port_id", number, port.port)
                self._put("lldp_port_descr", number, port.description or port.port)
            if port.voice:
                self._put("med_vlan", (*number, 1), port.voice)
                self._put("med_tagged", (*number, 1), 1)
        for at, row in enumerate(self.survey.neighbors, 1):
            index = (0, self.numbers.get(row.port, 0), at)
            chassis, far = _octets(row.neighbor_chassis), _octets(row.neighbor_port)
            self._put("rem_chassis_kind", index, _MAC if chassis else _OWN)
            self._put("rem_chassis", index, chassis or row.neighbor_chassis or row.neighbor or "")
            self._put("rem_port_kind", index, _PORT_BY_MAC if far else _PORT_BY_NAME)
            self._put("rem_port", index, far or row.neighbor_port or "")
            self._put("rem_port_descr", index, row.neighbor_port_description or "")
            self._put("rem_name", index, row.neighbor or "")
            self._put("rem_descr", index, row.platform or "")
            self._put("rem_enabled", index, _words(row.capabilities))
            self._put("rem_pvid", index, row.pvid)
            if row.management not in (None, NONE):
                self._put("rem_management", (*index, *_index(ip_address(row.management or ""))), 2)


def _octets(text: str | None) -> bytes | None:
    parts = (text or "").split(":")
    return bytes.fromhex("".join(parts)) if len(parts) == 6 and all(len(part) == 2 for part in parts) else None


def _chassis(text: str | None) -> bytes:
    return _octets(text) or (text or "").encode()


def _index(own: Address) -> tuple[int, ...]:
    """An address in an index: its type, its length, its octets (RFC 4001)."""
    return (1, 4, *own.packed) if own.version == 4 else (2, 16, *own.packed)


def _list(ports: Iterable[int], size: int) -> bytes:
    """A list of ports as bits: port 1 is the first octet's highest (RFC 4363)."""
    found = bytearray(size)
    for port in ports:
        found[(port - 1) // 8] |= 0x80 >> (port - 1) % 8
    return bytes(found)


def _words(words: Iterable[str] | None) -> bytes:
    bits = sum(0x80 >> at for at, word in enumerate(CAPABILITIES) if word and word in (words or ()))
    return bytes((bits, 0))
