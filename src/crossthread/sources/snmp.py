"""What an SNMP walk says of a device: interfaces, bridge, VLANs, spanning tree, addresses, routes, neighbours.

All port numbers are brought to ifIndex first: see `mib`.
"""

from __future__ import annotations

import re
from collections import defaultdict
from ipaddress import IPv4Address
from typing import Any

from crossthread.sources.mib import COLUMNS, Mib
from crossthread.sources.walk import Walk
from crossthread.survey.tables import (
    ArpEntry,
    Device,
    Gateway,
    MacEntry,
    Neighbor,
    Port,
    Route,
    Row,
    Tree,
    TreePort,
    Vlan,
)
from crossthread.values import VlanSet

_STATES = {1: None, 2: "discarding", 3: "discarding", 4: "learning", 5: "forwarding", 6: None}
_ROLES = {1: "disabled", 2: "root", 3: "designated", 4: "alternate", 5: "backup"}
_CAPABILITIES = ("other", "repeater", "bridge", "wlan", "router", "phone", None, "station")
_ETHERNET, _AGGREGATE = {6, 62, 69, 117}, 161
_MAX_SPEED = 4294967295
_BY_MAC = {"chassis": 4, "port": 3}


def read_walk(text: str, device: str, source: str) -> list[Row]:
    """The rows of everything in a walk that a survey has a place for.

    Parameters
    ----------
    text
        The walk.
    device
        The device's name, if the walk does not tell it.
    source
        Where the walk came from.
    """
    return _Reader(Walk(text, COLUMNS.values()), device, source).rows()


class _Reader(Mib):
    """One walk, table by table."""

    def __init__(self, walk: Walk, device: str, source: str) -> None:
        super().__init__(walk)
        self._source = source
        self.device = next(iter(self.texts("name").values()), "") or device

    def rows(self) -> list[Row]:
        parts = (self._device(), *self._ports(), *self._vlans(), *self._tree(), *self._stations(), *self._addresses())
        return [*parts, *self._routes(), *self._neighbors()]

    def _device(self) -> Device:
        forwarding = self.one("forwarding")
        chassis = next(iter(self.octets("lldp_chassis").values()), b"") or next(
            iter(self.octets("bridge_address").values()), b""
        )
        words = tuple(_capabilities(next(iter(self.octets("lldp_enabled").values()), b"")))
        return Device(
            self.device,
            chassis.hex(":") if len(chassis) == 6 else None,
            words or (("bridge",) if self.bridge_ports else None),
            platform=next(iter(self.texts("description").values()), None) or None,
            routing={1: "yes", 2: "no"}.get(forwarding or 0),
            source=self._source,
        )

    def _ports(self) -> list[Port]:
        kinds = {index[0]: kind for index, kind in self.numbers("if_type").items()}
        wanted = set(self.bridge_ports.values()) | {i for i, kind in kinds.items() if kind in _ETHERNET | {_AGGREGATE}}
        cells = self._membership()
        found = []
        for number in sorted(wanted & self.interfaces.keys()):
            mac = self.of(self.octets("if_mac"), number) or b""
            lag = self.aggregates.get(number)
            own: dict[str, Any] = dict(cells.get(number, {}))
            if lag in self.interfaces:
                own["lag"] = self.interfaces[lag]
            names = {t for t in (self.of(self.texts("if_descr"), number),) if t and " " not in t}
            found.append(
                Port(
                    self.device,
                    self.interfaces[number],
                    aliases=tuple(names - {self.interfaces[number]}) or None,
                    description=self.of(self.texts("if_alias"), number) or None,
                    mac=mac.hex(":") if len(mac) == 6 and any(mac) else None,
                    admin={1: "up", 2: "down"}.get(self.of(self.numbers("if_admin"), number) or 0),
                    oper={1: "up", 2: "down", 6: "down", 7: "down"}.get(self.of(self.numbers("if_oper"), number) or 0),
                    speed=self._speed(number),
                    duplex={2: "half", 3: "full"}.get(self.of(self.numbers("duplex"), number) or 0),
                    mtu=self.of(self.numbers("if_mtu"), number),
                    in_errors=self.of(self.numbers("if_in_errors"), number),
                    crc_errors=self.of(self.numbers("fcs_errors"), number),
                    out_errors=self.of(self.numbers("if_out_errors"), number),
                    late_collisions=self.of(self.numbers("late_collisions"), number),
                    source=self._source,
                    **own,
                )
            )
        return found

    def _speed(self, number: int) -> int | None:
        """In Mb/s, while the interface is up; the older column cannot hold more than 4.29 Gb/s."""
        if self.of(self.numbers("if_oper"), number) != 1:
            return None
        high, low = self.of(self.numbers("if_high_speed"), number), self.of(self.numbers("if_speed"), number)
        return high or (low // 1_000_000 if low and low < _MAX_SPEED else None) or None

    def _membership(self) -> dict[int, dict[str, Any]]:
        """The VLAN columns of each bridge port, by ifIndex."""
        untagged = self.members("vlan_untagged") or self.members("static_untagged")
        pvids = {index[0]: vid for index, vid in self.numbers("pvid").items() if len(index) == 1}
        carried: dict[int, int] = defaultdict(int)
        bare: dict[int, int] = defaultdict(int)
        for vid, ports in self.egress.items():
            for port in ports:
                carried[port] |= 1 << vid
        for vid, ports in untagged.items():
            for port in ports:
                bare[port] |= 1 << vid
        found: dict[int, dict[str, Any]] = {}
        for port, number in self.bridge_ports.items():
            own_vid = pvids.get(port)
            if own_vid is None:
                continue
            if not self.egress:
                found[number] = {"pvid": own_vid if 1 <= own_vid <= 4094 else 0}
                continue
            own = 1 << own_vid if 1 <= own_vid <= 4094 else 0
            if carried[port] == bare[port] == own and own:
                found[number] = {"mode": "access", "pvid": own_vid}
            else:
                sets = {"allowed": VlanSet(carried[port]), "untagged": VlanSet(bare[port] & carried[port])}
                found[number] = {"mode": "hybrid", "pvid": own_vid if own else 0, **sets}
        return found

    def _vlans(self) -> list[Vlan]:
        names = {index[-1]: text for index, text in self.texts("static_name").items() if index}
        told = (index for column in ("vlan_egress", "static_egress") for index in self.octets(column) if index)
        vids = sorted(vid for vid in {*names, *(index[-1] for index in told)} if 1 <= vid <= 4094)
        return [Vlan(self.device, vid, names.get(vid) or None, "active", source=self._source) for vid in vids]

    def _tree(self) -> list[Row]:
        states = {index[0]: state for index, state in self.numbers("port_state").items() if len(index) == 1}
        root = next(iter(self.octets("stp_root").values()), b"")
        address = next(iter(self.octets("bridge_address").values()), b"")
        if not states or len(root) != 8:
            return []
        version = self.one("stp_version")
        cost, root_port = self.one("stp_root_cost"), self.one("stp_root_port")
        priority = self.one("stp_priority")
        found: list[Row] = [
            Tree(
                self.device, 0, protocol={0: "stp", 2: "rstp", 3: "mstp"}.get(-1 if version is None else version),
                priority=None if priority is None else priority & 0xF000,
                address=address.hex(":") if len(address) == 6 else None,
                root_priority=int.from_bytes(root[:2], "big") & 0xF000, root_address=root[2:].hex(":"),
                root_cost=cost, root_port=self.name(root_port) if root_port else None, source=self._source,
            )
        ]  # fmt: skip
        for port, state in states.items():
            label = self.name(port)
            if label is not None:
                role = _ROLES.get(self.of(self.numbers("port_role"), port) or 0)
                wide = self.of(self.numbers("port_cost_32"), port)
                found.append(
                    TreePort(
                        self.device, label, 0, role=role or ("disabled" if state == 1 else None),
                        state=_STATES.get(state),
                        cost=wide if wide is not None else self.of(self.numbers("port_cost"), port),
                        priority=self.of(self.numbers("port_priority"), port), number=port,
                        edge={1: "yes", 2: "no"}.get(self.of(self.numbers("port_edge"), port) or 0),
                        source=self._source,
                    )
                )  # fmt: skip
        return found

    def _stations(self) -> list[MacEntry]:
        """The filtering database: per VLAN where the device has it, else for the whole bridge."""
        vids: dict[int, list[int]] = defaultdict(list)
        for index, number in self.numbers("vlan_fdb").items():
            if index and 1 <= index[-1] <= 4094:
                vids[number].append(index[-1])
        found = {}
        kinds = {3: "learned", 4: "self", 5: "static"}
        for ports, status in (("fdb_port", "fdb_status"), ("mac_port", "mac_status")):
            states = self.numbers(status)
            for index, port in self.numbers(ports).items():
                octets = index[-6:]
                if len(octets) < 6 or max(octets) > 255:
                    continue
                mac = bytes(octets).hex(":")
                database = index[0] if len(index) == 7 else 0
                owners = vids.get(database, [database] if not vids and 1 <= database <= 4094 else [])
                vid = owners[0] if len(owners) == 1 else None
                kind = kinds.get(states.get(index, 0))
                if kind is not None:
                    found[vid, mac] = MacEntry(self.device, vid, mac, self.name(port), kind, source=self._source)
            if found:
                break
        return list(found.values())

    def _addresses(self) -> list[Row]:
        found: list[Row] = []
        masks = self.lengths("ip_mask")
        for index, number in self.numbers("ip_index").items():
            if len(index) != 4 or index[0] == 127 or index not in masks or number not in self.interfaces:
                continue
            own = f"{'.'.join(map(str, index))}/{masks[index]}"
            state = {1: "up", 2: "down"}
            name = self.interfaces[number]
            place = self._place(number, name)
            found.append(
                Gateway(
                    self.device, name, own, admin=state.get(self.of(self.numbers("if_admin"), number) or 0),
                    oper=state.get(self.of(self.numbers("if_oper"), number) or 0), source=self._source, **place,
                )
            )  # fmt: skip
        for index, octets in self.octets("arp").items():
            if len(index) == 5 and len(octets) == 6:
                name_of = self.interfaces.get(index[0])
                ip = ".".join(map(str, index[1:]))
                found.append(ArpEntry(self.device, name_of, ip, octets.hex(":"), source=self._source))
        return found

    def _place(self, number: int, name: str) -> dict[str, Any]:
        """The VLAN of an interface that routes: by the number at the end of its name, if that is a VLAN here."""
        if number in self.bridge_ports.values():
            return {"port": name, "untagged": "yes"}
        digits = re.search(r"(\d{1,4})$", name)
        vid = int(digits[1]) if digits else 0
        return {"vid": vid} if vid in self.egress else {}

    def _routes(self) -> list[Route]:
        found = {}
        protocols = {2: "connected", 3: "static", 8: "rip", 13: "ospf", 14: "bgp"}
        known = self.numbers("route_protocol")
        for index, number in self.numbers("route_if").items():
            if len(index) != 13 or index[0] == 127 or self.numbers("route_type").get(index) not in (3, 4):
                continue
            length = int(IPv4Address(bytes(index[4:8]))).bit_count() if max(index) < 256 else 0
            hop = ".".join(map(str, index[9:13]))
            protocol = protocols.get(known.get(index, 0), "other")
            if hop == "0.0.0.0" or protocol == "connected" or max(index) > 255:
                continue
            mask = int.from_bytes(bytes(index[4:8]), "big")
            prefix = f"{IPv4Address(int.from_bytes(bytes(index[:4]), 'big') & mask)}/{length}"
            found[prefix, hop] = Route(
                self.device, prefix, hop, self.interfaces.get(number), protocol, source=self._source
            )
        return list(found.values())

    def _lldp_ports(self) -> dict[int, str]:
        """The name of each LLDP port number: the interface whose name, description or MAC address LLDP gives for it."""
        by_text: dict[str, set[int]] = defaultdict(set)
        for number, name in self.interfaces.items():
            mac = self.of(self.octets("if_mac"), number) or b""
            for text in (name, self.of(self.texts("if_descr"), number), self.of(self.texts("if_alias"), number)):
                by_text[(text or "").casefold()].add(number)
            by_text[mac.hex(":")].add(number)
        found = {}
        wanted = set(self.bridge_ports.values())
        numbers = {index[0] for column in ("lldp_port_id", "lldp_port_descr") for index in self.octets(column) if index}
        for port in numbers | {index[1] for index in self.octets("rem_chassis") if len(index) == 3}:
            identifier = self.of(self.octets("lldp_port_id"), port) or b""
            texts = [
                identifier.hex(":"),
                self.of(self.texts("lldp_port_id"), port),
                self.of(self.texts("lldp_port_descr"), port),
            ]
            for text in texts:
                hits = by_text.get((text or "-").casefold(), set())
                hits = hits & wanted or hits
                if len(hits) == 1:
                    found[port] = self.interfaces[next(iter(hits))]
                    break
            else:
                label = self.name(port) if port in self.bridge_ports else self.interfaces.get(port)
                if label is not None:
                    found[port] = label
        return found

    def _neighbors(self) -> list[Neighbor]:
        ports = self._lldp_ports()
        management = {}
        for index in self.numbers("rem_management"):
            if len(index) == 9 and index[3:5] == (1, 4):
                management[index[:3]] = ".".join(map(str, index[5:]))
        found = []
        for index in self.octets("rem_chassis"):
            if len(index) != 3 or index[1] not in ports:
                continue
            found.append(
                Neighbor(
                    self.device, ports[index[1]], "lldp", self.texts("rem_name").get(index) or None,
                    self._identifier(index, "chassis"), self._identifier(index, "port"),
                    self.texts("rem_port_descr").get(index) or None, management.get(index),
                    tuple(_capabilities(self.octets("rem_enabled").get(index, b""))) or None,
                    self.texts("rem_descr").get(index) or None, source=self._source,
                )
            )  # fmt: skip
        return found

    def _identifier(self, index: tuple[int, ...], what: str) -> str | None:
        octets = self.octets(f"rem_{what}").get(index, b"")
        if self.numbers(f"rem_{what}_kind").get(index) == _BY_MAC[what] and len(octets) == 6:
            return octets.hex(":")
        return self.texts(f"rem_{what}").get(index) or None


def _capabilities(octets: bytes) -> list[str]:
    """The names of the bits of LldpSystemCapabilitiesMap; bit 0 is the first octet's highest."""
    return [word for bit, word in enumerate(_CAPABILITIES) if word and octets and octets[0] << bit & 0x80]
