"""The LLDP side of an SNMP walk: the neighbours, and which port each LLDP port number stands for."""

from __future__ import annotations

from collections import defaultdict
from functools import cached_property

from crossthread.sources.mau import running
from crossthread.sources.snmp.mib import Mib, address_of, capabilities
from crossthread.survey.records import Neighbor
from crossthread.values import NONE

_BY_MAC = {"chassis": 4, "port": 3}


class NeighborTables(Mib):
    """Neighbours as LLDP-MIB and its 802.1 and 802.3 extensions tell them."""

    @cached_property
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
        ports = self._lldp_ports
        management = {}
        for index in self.numbers("rem_management"):
            own = address_of(index[3:])
            if own is not None and (own.version == 4 or index[:3] not in management):
                management[index[:3]] = str(own)
        found = []
        kinds = self.numbers("rem_mau")
        for index in self.octets("rem_chassis"):
            if len(index) != 3 or index[1] not in ports:
                continue
            runs = running(kinds.get(index, 0))
            found.append(
                Neighbor(
                    self.device,
                    ports[index[1]],
                    "lldp",
                    self.texts("rem_name").get(index) or None,
                    self._identifier(index, "chassis"),
                    self._identifier(index, "port"),
                    self.texts("rem_port_descr").get(index) or None,
                    management.get(index),
                    tuple(capabilities(self.octets("rem_enabled").get(index, b""))) or None,
                    self.texts("rem_descr").get(index) or None,
                    pvid=self._announced_vlan(index),
                    speed=runs.speed,
                    duplex=runs.duplex,
                    mtu=self._announced_mtu(index),
                    lag=self._announced_aggregate(index),
                    source=self.at("rem_chassis", index),
                )
            )
        return found

    def _announced_vlan(self, index: tuple[int, ...]) -> int | None:
        vid = self.numbers("rem_pvid").get(index)
        return vid if vid is not None and 0 <= vid <= 4094 else None

    def _announced_mtu(self, index: tuple[int, ...]) -> int | None:
        """From the largest frame: without 14 octets of header and 4 of checksum."""
        frame = self.numbers("rem_frame").get(index)
        return frame - 18 if frame and frame > 18 else None

    def _announced_aggregate(self, index: tuple[int, ...]) -> str | None:
        """The number of the aggregate port at the far end, if it says that it is in one (second bit of its status)."""
        status = self.octets("rem_lag_status").get(index, b"")
        number = self.numbers("rem_lag").get(index)
        if not status:
            return None
        return str(number) if status[0] & 0x40 and number else NONE

    def _identifier(self, index: tuple[int, ...], what: str) -> str | None:
        octets = self.octets(f"rem_{what}").get(index, b"")
        if self.numbers(f"rem_{what}_kind").get(index) == _BY_MAC[what] and len(octets) == 6:
            return octets.hex(":")
        return self.texts(f"rem_{what}").get(index) or None
