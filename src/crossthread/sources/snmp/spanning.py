"""Spanning tree in an SNMP walk: the one tree that BRIDGE-MIB tells, and the trees of a region."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator

import msgspec

from crossthread.sources.snmp.cabling import BY_TREE
from crossthread.sources.snmp.mib import Mib
from crossthread.survey.records import Neighbor, Row, Tree, TreePort
from crossthread.values import VlanSet

_STATES = {1: None, 2: "discarding", 3: "discarding", 4: "learning", 5: "forwarding", 6: None}
_MSTP = 3
_MST_STATES = {2: "discarding", 3: "learning", 4: "forwarding", 5: "discarding"}
_MST_ROLES = {1: "root", 2: "alternate", 3: "designated", 4: "backup"}


class TreeTables(Mib):
    """Bridges and ports of spanning trees (BRIDGE-MIB, RFC 4188; RSTP-MIB, RFC 4318; IEEE8021-MSTP-MIB)."""

    def _trees(self) -> list[Row]:
        """The common tree, and those of the region's instances (IEEE 802.1Q clause 17.7.6)."""
        common, version = self._tree(), self.one("stp_version")
        if version not in (None, _MSTP) or not (self.texts("mst_region") or self.octets("mst_root")):
            return common
        region = next(iter(self.texts("mst_region").values()), None)
        mapped: dict[int, int] = defaultdict(int)
        for index, instance in self.numbers("mst_vlan").items():
            if instance and 1 <= index[-1] <= 4094:
                mapped[instance] |= 1 << index[-1]
        others = VlanSet.all() - VlanSet(sum(mapped.values())) if self.numbers("mst_vlan") else None
        roles = {index[-1]: _MST_ROLES.get(role) for index, role in self.numbers("mst_cist_role").items()}
        guarded = {index[-1] for index, says in self.numbers("mst_restricted").items() if says == 1}

        def in_region(row: Row) -> Row:
            if isinstance(row, Tree):
                return msgspec.structs.replace(row, protocol="mstp", region=region, vlans=others)
            if not isinstance(row, TreePort) or row.number is None:
                return row
            role = row.role if row.role == "disabled" else roles.get(row.number) or row.role
            return msgspec.structs.replace(row, role=role, guard="root" if row.number in guarded else row.guard)

        return [*map(in_region, common), *self._instances(region, mapped, guarded)]

    def _instances(self, region: str | None, mapped: dict[int, int], guarded: set[int]) -> Iterator[Row]:
        address = next(iter(self.octets("bridge_address").values()), b"")
        costs, ports = self.numbers("mst_root_cost"), self.numbers("mst_root_port")
        priorities, roles = self.numbers("mst_priority"), self.numbers("mst_role")
        for index, root in self.octets("mst_root").items():
            if len(root) == 8 and index[-1]:
                root_port = ports.get(index)
                yield Tree(
                    self.device,
                    index[-1],
                    VlanSet(mapped[index[-1]]) if mapped else None,
                    "mstp",
                    region,
                    priorities.get(index),
                    address.hex(":") if len(address) == 6 else None,
                    int.from_bytes(root[:2], "big") & 0xF000,
                    root[2:].hex(":"),
                    costs.get(index),
                    self.name(root_port) if root_port else None,
                    source=self.at("mst_root", index),
                )
        for index, state in self.numbers("mst_state").items():
            label = self.name(index[-1])
            if len(index) == 3 and index[1] and label is not None:
                yield TreePort(
                    self.device,
                    label,
                    index[1],
                    "disabled" if state == 1 else _MST_ROLES.get(roles.get(index, 0)),
                    _MST_STATES.get(state),
                    self.numbers("mst_cost").get(index),
                    self.numbers("mst_port_priority").get(index),
                    index[-1],
                    guard="root" if index[-1] in guarded else None,
                    source=self.at("mst_state", index),
                )

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
                self.device,
                0,
                protocol={0: "stp", 2: "rstp", 3: "mstp"}.get(-1 if version is None else version),
                priority=None if priority is None else priority & 0xF000,
                address=address.hex(":") if len(address) == 6 else None,
                root_priority=int.from_bytes(root[:2], "big") & 0xF000,
                root_address=root[2:].hex(":"),
                root_cost=cost,
                root_port=self.name(root_port) if root_port else None,
                forward_delay=_seconds(self.one("stp_forward_delay"), 4, 30),
                max_age=_seconds(self.one("stp_max_age"), 6, 40),
                source=self.at("stp_root", (0,)),
            )
        ]
        for port, state in states.items():
            label = self.name(port)
            if label is not None:
                role = self._role(port, state, root_port, address)
                wide = self.of(self.numbers("port_cost_32"), port)
                found.append(
                    TreePort(
                        self.device,
                        label,
                        0,
                        role=role,
                        state=_STATES.get(state),
                        cost=wide if wide is not None else self.of(self.numbers("port_cost"), port),
                        priority=self.of(self.numbers("port_priority"), port),
                        number=port,
                        edge={1: "yes", 2: "no"}.get(self.of(self.numbers("port_edge"), port) or 0),
                        bpdus="drop" if self.of(self.numbers("port_enabled"), port) == 2 else None,
                        source=self.at("port_state", (port,)),
                    )
                )
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
            label, bridge, far = (
                self.name(port),
                self.of(self.octets("port_designated"), port) or b"",
                self.of(far_ports, port) or b"",
            )
            if label is None or self._role(port, state, root_port, address) not in ("root", "alternate"):
                continue
            if len(bridge) == 8 and len(far) == 2 and bridge[2:] != address:
                yield Neighbor(
                    self.device,
                    label,
                    BY_TREE,
                    neighbor_chassis=bridge[2:].hex(":"),
                    neighbor_port=str(int.from_bytes(far, "big") & 0xFFF),
                    capabilities=("bridge",),
                    source=self.at("port_designated", (port,)),
                )

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


def _seconds(hundredths: int | None, least: int, most: int) -> float | None:
    """A timer out of hundredths of a second; None if it is out of its range (IEEE 802.1D-2004 table 17-1)."""
    return hundredths / 100 if hundredths is not None and least <= hundredths / 100 <= most else None
