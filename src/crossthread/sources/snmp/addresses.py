"""The IP side of an SNMP walk: addresses, routes, ARP and neighbour caches, by the older and the newer tables."""

from __future__ import annotations

import re
from ipaddress import IPv4Address, ip_network
from typing import Any

from crossthread.sources.snmp.mib import COLUMNS, Mib, address_of
from crossthread.survey.records import ArpEntry, Gateway, Route, Row


class AddressTables(Mib):
    """Gateways, routes and caches."""

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
        told = {row.address for row in found if isinstance(row, Gateway) and row.address}
        known = {(row.interface, row.address) for row in found if isinstance(row, ArpEntry)}
        newer = self._newer_addresses(told)
        return found + [r for r in newer if not isinstance(r, ArpEntry) or (r.interface, r.address) not in known]

    def _newer_addresses(self, known: set[str]) -> list[Row]:
        """Addresses that only the newer table tells, for IPv4 and IPv6 (RFC 4293 ipAddressTable)."""
        found: list[Row] = []
        prefixes = self._walk.pointers(COLUMNS["address_prefix"])
        for index, number in self.numbers("address_if").items():
            own, pointer = address_of(index), prefixes.get(index, ())
            if own is None or own.is_loopback or own.is_link_local or number not in self.interfaces or len(pointer) < 3:
                continue  # 0.0 in place of a pointer: the prefix is not known
            text = f"{own}/{pointer[-1]}"
            if text not in known and pointer[-1] <= own.max_prefixlen:
                name = self.interfaces[number]
                state = {1: "up", 2: "down"}
                found.append(
                    Gateway(
                        self.device, name, text, admin=state.get(self.of(self.numbers("if_admin"), number) or 0),
                        oper=state.get(self.of(self.numbers("if_oper"), number) or 0), source=self._source,
                        **self._place(number, name),
                    )
                )  # fmt: skip
        for index, octets in self.octets("neighbour_mac").items():
            own = address_of(index[1:]) if index else None
            if own is not None and len(octets) == 6:
                label = self.interfaces.get(index[0])
                found.append(ArpEntry(self.device, label, str(own), octets.hex(":"), source=self._source))
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
        for index, number in self.numbers("inet_route_if").items():
            # destination type, length and octets; prefix length; policy; next hop type, length and octets
            goal, rest = address_of(index), index[2 + index[1] :] if len(index) > 2 else ()
            if goal is None or len(rest) < 2 or rest[0] > goal.max_prefixlen:
                continue
            via = address_of(rest[2 + rest[1] :])
            protocol = protocols.get(self.numbers("inet_route_protocol").get(index, 0), "other")
            if via is None or int(via) == 0 or protocol == "connected" or goal.is_loopback:
                continue
            prefix = str(ip_network(f"{goal}/{rest[0]}", strict=False))
            found.setdefault(
                (prefix, str(via)),
                Route(self.device, prefix, str(via), self.interfaces.get(number), protocol, source=self._source),
            )
        return list(found.values())
