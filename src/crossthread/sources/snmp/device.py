"""What an SNMP walk says of a device: interfaces, bridge, VLANs, spanning tree, addresses, routes, neighbours.

All port numbers are brought to ifIndex first: see `mib`.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator
from typing import Any

from crossthread.sources.covering import in_full
from crossthread.sources.snmp.addresses import AddressTables
from crossthread.sources.snmp.cabling import BY_TREE
from crossthread.sources.snmp.mib import COLUMNS, address_of, capabilities
from crossthread.sources.snmp.neighbors import NeighborTables
from crossthread.sources.snmp.walk import Walk
from crossthread.survey.records import (
    Coverage,
    Device,
    MacEntry,
    Neighbor,
    Port,
    Row,
    Tree,
    TreePort,
    Vlan,
)
from crossthread.values import VlanSet

_STATES = {1: None, 2: "discarding", 3: "discarding", 4: "learning", 5: "forwarding", 6: None}
_ETHERNET, _AGGREGATE = {6, 62, 69, 117}, 161
_MAX_SPEED = 4294967295


def read_walk(text: str, device: str, source: str, called: str | None = None) -> list[Row]:
    """The rows of everything in a walk that a survey has a place for.

    Parameters
    ----------
    text
        The walk.
    device
        The device's name, if the walk does not tell it.
    source
        Where the walk came from.
    called
        A name for the device in place of what the walk tells.
    """
    reader = _Reader(Walk(text, COLUMNS.values()), device, source)
    reader.device = called or reader.device
    return reader.rows()


class _Reader(AddressTables, NeighborTables):
    """One walk, table by table."""

    def rows(self) -> list[Row]:
        parts: tuple[Row, ...] = (
            self._device(),
            *self._ports(),
            *self._vlans(),
            *self._tree(),
            *self._stations(),
            *self._addresses(),
        )
        found = [*parts, *self._routes(), *self._neighbors(), *self._designated()]
        return [*found, *self._covered()]

    def _covered(self) -> list[Coverage]:
        """The tables that were read in full: those of which a column is there, unless the walk broke off in it."""
        broken = self._walk.not_in_full
        there = {t for t, columns in _TELLING.items() if any(self._walk.has(COLUMNS[c]) for c in columns)}
        cut = {t for t, columns in _TELLING.items() if any(COLUMNS[c] in broken for c in columns + _NEEDED.get(t, ()))}
        return in_full(self.device, there - cut, self._source, cut)

    def _device(self) -> Device:
        forwarding = self.one("forwarding")
        chassis = next(iter(self.octets("lldp_chassis").values()), b"") or next(
            iter(self.octets("bridge_address").values()), b""
        )
        words = tuple(capabilities(next(iter(self.octets("lldp_enabled").values()), b"")))
        return Device(
            self.device,
            chassis.hex(":") if len(chassis) == 6 else None,
            words or (("bridge",) if self.bridge_ports else None),
            platform=self._model() or next(iter(self.texts("description").values()), None) or None,
            software=self._entity("entity_software"),
            management=self._management() or self._walk.asked,
            site=next(iter(self.texts("location").values()), None) or None,
            routing={1: "yes", 2: "no"}.get(forwarding or 0),
            mac_ageing=self.one("mac_ageing"),
            source=self.at("name", (0,)) if self.texts("name") else self._source,
        )

    def _entity(self, column: str) -> str | None:
        """What the chassis says of itself (ENTITY-MIB, RFC 6933, class 3); the first part that says it, else."""
        kinds, told = self.numbers("entity_class"), self.texts(column)
        ordered = sorted(told, key=lambda index: (kinds.get(index) != 3, index))
        return next((text for index in ordered if (text := told[index].strip())), None)

    def _model(self) -> str | None:
        return self._entity("entity_model")

    def _management(self) -> str | None:
        """The management address that it announces: the first of IPv4, else of IPv6 (lldpLocManAddrTable)."""
        found = [own for index in self.numbers("lldp_management") if (own := address_of(index)) is not None]
        return str(min(found, key=lambda own: own.version)) if found else None

    def _ports(self) -> list[Port]:
        kinds = {index[0]: kind for index, kind in self.numbers("if_type").items()}
        wanted = set(self.bridge_ports.values()) | {i for i, kind in kinds.items() if kind in _ETHERNET | {_AGGREGATE}}
        cells, discovery, voice = self._membership(), self._discovery(), self._voice()
        found = []
        for number in sorted(wanted & self.interfaces.keys()):
            mac = self.of(self.octets("if_mac"), number) or b""
            lag = self.aggregates.get(number)
            told = {"mode": "routed"} if self.only_routes else dict(cells.get(number, {}))
            own: dict[str, Any] = _with_voice(told, voice.get(self.interfaces[number]))
            if lag in self.interfaces:
                own["lag"] = self.interfaces[lag]
                own["lag_state"] = self._attached(number)
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
                    authorized={1: "yes", 2: "no"}.get(self.of(self.numbers("authorized"), number) or 0),
                    discovery=discovery.get(self.interfaces[number]),
                    in_packets=self._packets("in", number),
                    out_packets=self._packets("out", number),
                    in_errors=self.of(self.numbers("if_in_errors"), number),
                    crc_errors=self.of(self.numbers("fcs_errors"), number),
                    out_errors=self.of(self.numbers("if_out_errors"), number),
                    late_collisions=self.of(self.numbers("late_collisions"), number),
                    source=self.at(self._called_by(number), (number,)),
                    **own,
                )
            )
        return found

    def _attached(self, number: int) -> str | None:
        """Whether a member takes part in its bundle: it collects and distributes (IEEE 802.1AX, Dot3adPortState)."""
        octets = self.of(self.octets("lag_state"), number) or b""
        if len(octets) not in (1, 2) or octets.isdigit():
            return None  # some devices fill in a number as text
        return "attached" if octets[0] & 0x0C == 0x0C else "detached"

    def _discovery(self) -> dict[str, str]:
        """What each port does with neighbour discovery (lldpPortConfigAdminStatus)."""
        words = {1: "send", 2: "receive", 3: "both", 4: "off"}
        ports = self._lldp_ports
        told = self.numbers("lldp_admin").items()
        return {ports[i[0]]: words[status] for i, status in told if i and i[0] in ports and status in words}

    def _voice(self) -> dict[str, int]:
        """The VLAN that each port tells phones to tag (LLDP-EXT-MED-MIB, ANSI/TIA-1057)."""
        ports, tagged = self._lldp_ports, self.numbers("med_tagged")
        told = ((index, vid) for index, vid in self.numbers("med_vlan").items() if index[1:] in _VOICE)
        return {ports[i[0]]: vid for i, vid in told if i[0] in ports and tagged.get(i) == 1 and 1 <= vid <= 4094}

    def _packets(self, direction: str, number: int) -> int | None:
        """How many packets came in or went out, by the counters of 64 bits: the older ones start again too soon."""
        kinds = ("unicast", "multicast", "broadcast")
        counts = [self.of(self.numbers(f"if_{direction}_{kind}"), number) for kind in kinds]
        return sum(filter(None, counts)) if counts[0] is not None else None

    def _speed(self, number: int) -> int | None:
        """In Mb/s, while the interface is up; the older column cannot hold more than 4.29 Gb/s."""
        if self.of(self.numbers("if_oper"), number) != 1:
            return None
        high, low = self.of(self.numbers("if_high_speed"), number), self.of(self.numbers("if_speed"), number)
        return high or (low // 1_000_000 if low and low < _MAX_SPEED else None) or None

    def _membership(self) -> dict[int, dict[str, Any]]:
        """The VLAN columns of each bridge port, by ifIndex."""
        untagged = self.members("vlan_untagged") or self.members("static_untagged")
        unread = {COLUMNS["vlan_untagged"], COLUMNS["static_untagged"]} & self._walk.not_in_full and not untagged
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
        frames = {index[0]: kind for index, kind in self.numbers("port_frames").items() if len(index) == 1}
        for port, number in self.bridge_ports.items():
            own_vid = pvids.get(port)
            if own_vid is None:
                if carried[port]:  # a member, though nobody says what its untagged frames join
                    found[number] = {"mode": "hybrid", "allowed": VlanSet(carried[port])}
                    found[number] |= {} if unread else {"untagged": VlanSet(bare[port] & carried[port])}
                continue
            if not self.egress:
                found[number] = {"pvid": own_vid if 1 <= own_vid <= 4094 else 0}
                continue
            own = 1 << own_vid if 1 <= own_vid <= 4094 else 0
            if carried[port] == bare[port] == own and own:
                found[number] = {"mode": "access", "pvid": own_vid}
            else:
                found[number] = {"mode": "hybrid", "pvid": own_vid if own else 0, "allowed": VlanSet(carried[port])}
                found[number] |= {} if unread else {"untagged": VlanSet(bare[port] & carried[port])}
            if frames.get(port) == 2:
                found[number]["frames"] = "tagged"
        return found

    def _vlans(self) -> list[Vlan]:
        names = {index[-1]: text for index, text in self.texts("static_name").items() if index}
        told = ("vlan_egress", "static_egress", "static_name")
        at = {index[-1]: self.at(column, index) for column in told for index in self.octets(column) if index}
        vids = sorted(vid for vid in at if 1 <= vid <= 4094)
        states = {index[-1]: state for index, state in self.numbers("static_status").items() if index}
        words = {1: "active", 2: "suspended"}  # RowStatus (RFC 2579): active, notInService
        return [
            Vlan(self.device, vid, names.get(vid) or None, words.get(states.get(vid, 1)), source=at[vid])
            for vid in vids
        ]

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
                root_cost=cost, root_port=self.name(root_port) if root_port else None,
                forward_delay=_seconds(self.one("stp_forward_delay"), 4, 30),
                max_age=_seconds(self.one("stp_max_age"), 6, 40),
                source=self.at("stp_root", (0,)),
            )
        ]  # fmt: skip
        for port, state in states.items():
            label = self.name(port)
            if label is not None:
                role = self._role(port, state, root_port, address)
                wide = self.of(self.numbers("port_cost_32"), port)
                found.append(
                    TreePort(
                        self.device, label, 0, role=role,
                        state=_STATES.get(state),
                        cost=wide if wide is not None else self.of(self.numbers("port_cost"), port),
                        priority=self.of(self.numbers("port_priority"), port), number=port,
                        edge={1: "yes", 2: "no"}.get(self.of(self.numbers("port_edge"), port) or 0),
                        bpdus="drop" if self.of(self.numbers("port_enabled"), port) == 2 else None,
                        source=self.at("port_state", (port,)),
                    )
                )  # fmt: skip
        return found

    def _designated(self) -> Iterator[Neighbor]:
        """Whom the ports that lead to the root, or are closed, take for the designated bridge and port of their link.

        The far port is told by its number only (IEEE 802.1D-2004 clause 9.2.7); `cabling` finds which port that is.
        """
        address = next(iter(self.octets("bridge_address").values()), b"")
        root_port = self.one("stp_root_port")
        far_ports = self.octets("port_designated_port")
        states = {index[0]: state for index, state in self.numbers("port_state").items() if len(index) == 1}
        for port, state in states.items():
            label, bridge, far = (self.name(port), self.of(self.octets("port_designated"), port) or b"",
                                  self.of(far_ports, port) or b"")  # fmt: skip
            if label is None or self._role(port, state, root_port, address) not in ("root", "alternate"):
                continue
            if len(bridge) == 8 and len(far) == 2 and bridge[2:] != address:
                yield Neighbor(
                    self.device, label, BY_TREE, neighbor_chassis=bridge[2:].hex(":"),
                    neighbor_port=str(int.from_bytes(far, "big") & 0xFFF), capabilities=("bridge",),
                    source=self.at("port_designated", (port,)),
                )  # fmt: skip

    def _role(self, port: int, state: int, root_port: int | None, address: bytes) -> str | None:
        """A port's role, by whom it takes for the designated bridge of its link (IEEE 802.1D-2004 clause 17.7)."""
        if port == root_port:
            return "root"
        if state == 1:
            return "disabled"
        bridge = self.of(self.octets("port_designated"), port) or b""
        if len(bridge) != 8 or len(address) != 6 or not any(bridge):
            return None
        closed = state == 2
        if bridge[2:] == address:
            return "backup" if closed else "designated"
        return "alternate" if closed else None

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
                    found[vid, mac] = MacEntry(
                        self.device, vid, mac, self.name(port), kind, source=self.at(ports, index)
                    )
            if found:
                break
        return list(found.values())


_VOICE = ((1,), (64,), (1, 64))
"""How the application “voice” stands in an index: as a number, or as the second bit of an octet, with its length."""


def _with_voice(own: dict[str, Any], vid: int | None) -> dict[str, Any]:
    """A port's VLAN columns, if it tells phones to use a VLAN: believed unless its membership says otherwise."""
    if vid is None or own.get("mode") not in (None, "hybrid"):
        return own
    allowed, untagged, pvid = own.get("allowed"), own.get("untagged"), own.get("pvid")
    if allowed is None:
        return {**own, "voice": vid}  # its membership is not told
    if pvid and untagged == VlanSet.of([pvid]) and allowed == VlanSet.of([pvid, vid]):
        return {key: cell for key, cell in own.items() if key not in ("allowed", "untagged")} | {
            "mode": "access", "voice": vid,
        }  # fmt: skip
    return own


_TELLING = {
    "ports": ("if_descr", "if_oper", "if_type", "if_admin", "if_name", "pvid"),
    "vlans": ("vlan_egress", "static_egress", "static_name"),
    "neighbors": ("lldp_chassis", "lldp_port_id", "rem_chassis", "rem_port", "rem_name"),
    "gateways": ("ip_index", "address_if", "address_prefix"),
    "routes": ("route_if", "route_type", "inet_route_if", "old_route_if"),
    "trees": ("port_state",),
    "tree_ports": ("port_state", "port_cost", "port_cost_32"),
    "macs": ("mac_port", "fdb_port"),
    "arp": ("arp", "neighbour_mac"),
}
"""The columns of a walk by which one sees that a table was read, or where it broke off."""
_NEEDED = {
    "ports": ("base_port",),
    "neighbors": ("rem_chassis_kind", "rem_port_kind", "lldp_port_descr"),
    "gateways": ("ip_mask", "address_kind"),
    "routes": ("inet_route_type", "old_route_hop", "old_route_type", "old_route_mask"),
    "macs": ("fdb_status", "mac_status", "vlan_fdb"),
}
"""The other columns without which rows of a table are missing."""


def _seconds(hundredths: int | None, least: int, most: int) -> float | None:
    """A timer out of hundredths of a second; None if it is out of its range (IEEE 802.1D-2004 table 17-1)."""
    return hundredths / 100 if hundredths is not None and least <= hundredths / 100 <= most else None
