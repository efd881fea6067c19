"""What an SNMP walk says of a device: interfaces, bridge, VLANs, spanning tree, addresses, routes, neighbours.

All port numbers are brought to ifIndex first: see `mib`.
"""

from __future__ import annotations

from collections import defaultdict

from crossthread.sources.covering import in_full
from crossthread.sources.snmp.addresses import AddressTables
from crossthread.sources.snmp.mib import COLUMNS, address_of, capabilities
from crossthread.sources.snmp.ports import PortTables
from crossthread.sources.snmp.spanning import TreeTables
from crossthread.sources.snmp.walk import Walk
from crossthread.survey.records import (
    Coverage,
    Device,
    MacEntry,
    Row,
    Vlan,
)


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


class _Reader(AddressTables, PortTables, TreeTables):
    """One walk, table by table."""

    def rows(self) -> list[Row]:
        parts: tuple[Row, ...] = (
            self._device(),
            *self._ports(),
            *self._vlans(),
            *self._trees(),
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
            serial=self._entity("entity_serial"),
            management=self._management() or self._walk.asked,
            site=next(iter(self.texts("location").values()), None) or None,
            routing={1: "yes", 2: "no"}.get(forwarding or 0),
            discovery_interval=self.one("lldp_interval"),
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


_TELLING = {
    "ports": ("if_descr", "if_oper", "if_type", "if_admin", "if_name", "pvid"),
    "vlans": ("vlan_egress", "static_egress", "static_name"),
    "neighbors": ("lldp_chassis", "lldp_port_id", "rem_chassis", "rem_port", "rem_name"),
    "gateways": ("ip_index", "address_if", "address_prefix", "six_prefix"),
    "routes": ("route_if", "route_type", "inet_route_if", "old_route_if", "six_route_if"),
    "trees": ("port_state", "mst_root"),
    "tree_ports": ("port_state", "port_cost", "port_cost_32", "mst_state"),
    "macs": ("mac_port", "fdb_port"),
    "arp": ("arp", "neighbour_mac", "six_neighbour"),
}
"""The columns of a walk by which one sees that a table was read, or where it broke off."""
_NEEDED = {
    "ports": ("base_port",),
    "neighbors": ("rem_chassis_kind", "rem_port_kind", "lldp_port_descr"),
    "gateways": ("ip_mask", "address_kind"),
    "routes": (
        "inet_route_type",
        "old_route_hop",
        "old_route_type",
        "old_route_mask",
        "six_route_hop",
        "six_route_type",
    ),
    "macs": ("fdb_status", "mac_status", "vlan_fdb"),
}
"""The other columns without which rows of a table are missing."""
