"""What a device's walk says of itself and of whom it hears: enough to go from one device to the next."""

from __future__ import annotations

import msgspec

from crossthread.sources.snmp.mib import COLUMNS, address_of
from crossthread.sources.snmp.neighbors import NeighborTables
from crossthread.sources.snmp.walk import Walk

_SELF = ("name", "bridge_address", "lldp_chassis", "engine")
_HEARD = (
    "if_name", "if_descr", "if_alias", "if_mac", "base_port", "lldp_port_id", "lldp_port_descr", "rem_chassis",
    "rem_chassis_kind", "rem_name", "rem_management",
)  # fmt: skip


class ToldNeighbor(msgspec.Struct, frozen=True):
    """A neighbour as a device hears it: at which port, who it is, and the addresses at which it can be managed."""

    port: str
    name: str | None
    chassis: str | None
    addresses: tuple[str, ...]


class ToldDevice(msgspec.Struct, frozen=True):
    """A device as it tells itself: by what it is known again, and whom it hears."""

    name: str | None
    chassis: str | None
    engine: str | None
    neighbors: tuple[ToldNeighbor, ...] = ()


def told_in(text: str) -> ToldDevice:
    """What a walk, or the beginning of one, tells of a device and its neighbours.

    The chassis is LLDP's local chassis identifier, else the bridge's address; the engine is SNMP's own identifier of
    it (RFC 3411 section 5).
    """
    return _Told(Walk(text, [COLUMNS[name] for name in (*_SELF, *_HEARD)]), "", "").told()


class _Told(NeighborTables):
    def told(self) -> ToldDevice:
        chassis = next((o for name in ("lldp_chassis", "bridge_address") for o in self.octets(name).values() if o), b"")
        engine = next(iter(self.octets("engine").values()), b"")
        ports = self._lldp_ports
        addresses: dict[tuple[int, ...], list[str]] = {}
        for index in self.numbers("rem_management"):
            own = address_of(index[3:])
            if own is not None:
                addresses.setdefault(index[:3], []).append(str(own))
        neighbors = tuple(
            ToldNeighbor(
                ports.get(index[1], f"port number {index[1]}"),
                self.texts("rem_name").get(index) or None,
                self._identifier(index, "chassis"),
                tuple(addresses.get(index, ())),
            )
            for index in self.octets("rem_chassis")
            if len(index) == 3
        )
        return ToldDevice(self.device or None, chassis.hex(":") or None, engine.hex(":") or None, neighbors)
