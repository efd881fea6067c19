"""The IP side of an SNMP walk: addresses, routes, ARP and neighbour caches, by the older and the newer tables."""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Iterable, Iterator
from functools import cached_property
from ipaddress import IPv4Address, ip_network
from typing import Any

from msgspec.structs import replace

from crossthread.sources.snmp.mib import COLUMNS, Mib, address_of, sixteen
from crossthread.survey.records import ArpEntry, Gateway, Route, Row
from crossthread.values import Address, address, interface

_ETHERNET = 6
_LOCAL = 64
"""The prefix length of link-local addresses (RFC 4291 section 2.5.6)."""
_DISCARDED6, _REMOTE6 = 2, 4
_NAMED_VLAN = re.compile(r"\bVLAN[ #:-]?(\d{1,4})\b", re.IGNORECASE)


def _is_routed6(own: Address | None) -> bool:
    """Whether an address makes its interface one that routes IPv6: a link-local one alone does not."""
    return own is not None and own.version == 6 and not own.is_link_local and not own.is_loopback


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
                    self.device,
                    name,
                    own,
                    admin=state.get(self.of(self.numbers("if_admin"), number) or 0),
                    oper=state.get(self.of(self.numbers("if_oper"), number) or 0),
                    source=self.at("ip_index", index),
                    **place,
                )
            )
        for index, octets in self.octets("arp").items():
            if len(index) == 5 and len(octets) == 6:
                name_of = self.interfaces.get(index[0])
                ip = ".".join(map(str, index[1:]))
                found.append(ArpEntry(self.device, name_of, ip, octets.hex(":"), source=self.at("arp", index)))
        told = {row.address for row in found if isinstance(row, Gateway) and row.address}
        known = {(row.interface, row.address) for row in found if isinstance(row, ArpEntry)}
        newer = self._newer_addresses(told)
        found = [
            *self._shared(r for r in (*found, *newer) if isinstance(r, Gateway)),
            *(r for r in found if not isinstance(r, Gateway)),
        ]
        newer = [row for row in newer if not isinstance(row, Gateway)]
        return found + [r for r in newer if not isinstance(r, ArpEntry) or (r.interface, r.address) not in known]

    def _newer_addresses(self, known: set[str]) -> list[Row]:
        """Addresses that only the newer table tells, for IPv4 and IPv6 (RFC 4293 ipAddressTable)."""
        found: list[Row] = []
        prefixes = self._walk.pointers(COLUMNS["address_prefix"])
        routed6 = {n for index, n in self.numbers("address_if").items() if _is_routed6(address_of(index))}
        for index, number in self.numbers("address_if").items():
            own, pointer = address_of(index), prefixes.get(index, ())
            if self.numbers("address_kind").get(index, 1) != 1:
                continue  # an anycast or broadcast address
            if own is None or own.is_loopback or number not in self.interfaces:
                continue
            length = _LOCAL if own.is_link_local and own.version == 6 else pointer[-1] if len(pointer) > 2 else None
            if length is None or (own.is_link_local and number not in routed6):
                continue  # 0.0 in place of a pointer: the prefix is not known
            text = f"{own}/{length}"
            if text not in known and length <= own.max_prefixlen:
                found.append(self._interface(number, text, "address_if", index))
        if not routed6:
            found += self._old_addresses6()
        for index, octets in self.octets("neighbour_mac").items():
            own = address_of(index[1:]) if index else None
            if own is not None and len(octets) == 6:
                label = self.interfaces.get(index[0])
                found.append(
                    ArpEntry(self.device, label, str(own), octets.hex(":"), source=self.at("neighbour_mac", index))
                )
        return found

    def _interface(self, number: int, text: str, column: str, index: tuple[int, ...]) -> Gateway:
        state, name = {1: "up", 2: "down"}, self.interfaces[number]
        return Gateway(
            self.device,
            name,
            text,
            admin=state.get(self.of(self.numbers("if_admin"), number) or 0),
            oper=state.get(self.of(self.numbers("if_oper"), number) or 0),
            source=self.at(column, index),
            **self._place(number, name),
        )

    def _old_addresses6(self) -> Iterator[Row]:
        """Addresses and neighbours of IPv6 in its first tables (RFC 2465), where they are the only ones."""
        told = {index: sixteen(index[1:]) for index in self.numbers("six_prefix") if index[0] in self.interfaces}
        routed6 = {index[0] for index, own in told.items() if _is_routed6(own)}
        for index, own in told.items():
            length = self.numbers("six_prefix")[index]
            if own is not None and not own.is_loopback and length <= own.max_prefixlen and index[0] in routed6:
                yield self._interface(index[0], f"{own}/{length}", "six_prefix", index)
        for index, octets in self.octets("six_neighbour").items():
            known = sixteen(index[1:])
            if known is not None and len(octets) == 6:
                label = self.interfaces.get(index[0])
                yield ArpEntry(self.device, label, str(known), octets.hex(":"), source=self.at("six_neighbour", index))

    def _place(self, number: int, name: str) -> dict[str, Any]:
        """The VLAN of an interface that routes: as its description says, else by the number at the end of its name."""
        alone = self.only_routes and self.of(self.numbers("if_type"), number) == _ETHERNET
        if number in self.bridge_ports.values() or alone:
            return {"port": name, "untagged": "yes"}
        digits = _NAMED_VLAN.search(self.of(self.texts("if_descr"), number) or "") or re.search(r"(\d{1,4})$", name)
        vid = int(digits[1]) if digits else 0
        parents = self._below.get(number, [])
        if len(parents) == 1 and 1 <= vid <= 4094 and not self.bridge_ports:
            return {"vid": vid, "port": self.interfaces[parents[0]], "untagged": "no"}
        return {"vid": vid} if vid in self.egress else {}

    @cached_property
    def _below(self) -> dict[int, list[int]]:
        """The Ethernet interfaces on which others run, such as a tagged sub-interface on its port (ifStackTable)."""
        kinds = {index[0]: kind for index, kind in self.numbers("if_type").items()}
        found: dict[int, list[int]] = defaultdict(list)
        for index in self.numbers("if_stack"):
            if len(index) == 2 and index[0] != index[1] and kinds.get(index[1]) == _ETHERNET and index[0]:
                found[index[0]].append(index[1])
        return found

    def _shared(self, gateways: Iterable[Gateway]) -> Iterator[Gateway]:
        """The addresses of interfaces with those that they share, and who holds these (RFC 2787, RFC 6527)."""
        words = {1: "down", 2: "backup", 3: "master"}
        shared: dict[str, tuple[str, str | None]] = {}
        for index in self.numbers("vrrp_address"):
            if len(index) == 6 and max(index[2:]) < 256:
                state = words.get(self.numbers("vrrp_state").get(index[:2], 0))
                shared[self.interfaces.get(index[0], "")] = ".".join(map(str, index[2:])), state
        for index in self.numbers("vrrp3_address"):
            own = address_of(index[2:])
            if own is not None:
                state = words.get(self.numbers("vrrp3_state").get(index[:3], 0))
                shared[self.interfaces.get(index[0], "")] = str(own), state
        for row in gateways:
            held, state = shared.get(row.interface, ("", None))
            same = held and row.address and address(held) in interface(row.address).network
            yield replace(row, virtual=held, virtual_state=state) if same else row

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
            if hop == "0.0.0.0" or max(index) > 255:
                continue
            protocol = "static" if protocol == "connected" else protocol  # some call static routes local
            mask = int.from_bytes(bytes(index[4:8]), "big")
            prefix = f"{IPv4Address(int.from_bytes(bytes(index[:4]), 'big') & mask)}/{length}"
            found[prefix, hop] = Route(
                self.device, prefix, hop, self.interfaces.get(number), protocol, source=self.at("route_if", index)
            )
        for index, number in self.numbers("inet_route_if").items():
            # destination type, length and octets; prefix length; policy; next hop type, length and octets
            goal, rest = address_of(index), index[2 + index[1] :] if len(index) > 2 else ()
            if goal is None or len(rest) < 2 or rest[0] > goal.max_prefixlen:
                continue
            via = address_of(rest[2 + rest[1] :])
            protocol = protocols.get(self.numbers("inet_route_protocol").get(index, 0), "other")
            kind = {2: "prohibit", 5: "blackhole"}.get(self.numbers("inet_route_type").get(index, 0))
            if goal.is_loopback or (kind is None and (via is None or int(via) == 0)):
                continue
            protocol = "static" if protocol == "connected" else protocol  # some call static routes local
            at = self.at("inet_route_if", index)
            prefix = str(ip_network(f"{goal}/{rest[0]}", strict=False))
            if kind is not None or via is None:
                found.setdefault((prefix, ""), Route(self.device, prefix, kind=kind, source=at))
                continue
            found.setdefault(
                (prefix, str(via)),
                Route(self.device, prefix, str(via), self.interfaces.get(number), protocol, source=at),
            )
        if not found:
            self._old_routes(found)
        if not any(":" in prefix for prefix, _ in found):
            self._old_routes6(found)
        return list(found.values())

    def _old_routes6(self, found: dict[tuple[str, str], Route]) -> None:
        """Routes of IPv6 in their first table (RFC 2465), where it is the only one."""
        protocols, known = {3: "static", 5: "rip", 6: "ospf", 7: "bgp"}, self.numbers("six_route_protocol")
        hops, kinds = self.octets("six_route_hop"), self.numbers("six_route_type")
        for index, number in self.numbers("six_route_if").items():
            goal, hop, at = sixteen(index[:16]), sixteen(hops.get(index, b"")), self.at("six_route_if", index)
            if goal is None or goal.is_loopback or len(index) < 17 or index[16] > goal.max_prefixlen:
                continue
            prefix = str(ip_network(f"{goal}/{index[16]}", strict=False))
            if kinds.get(index) == _DISCARDED6:
                found[prefix, ""] = Route(self.device, prefix, kind="blackhole", source=at)
            elif hop is not None and int(hop) and kinds.get(index) == _REMOTE6:
                origin = protocols.get(known.get(index, 0), "other")
                row = Route(self.device, prefix, str(hop), self.interfaces.get(number), origin, source=at)
                found[prefix, str(hop)] = row

    def _old_routes(self, found: dict[tuple[str, str], Route]) -> None:
        """The oldest table of routes (RFC 1213), where it is the only one."""
        hops, masks = self.texts("old_route_hop"), self.lengths("old_route_mask")
        protocols = {3: "static", 8: "rip", 13: "ospf", 14: "bgp"}
        for index, number in self.numbers("old_route_if").items():
            hop, length = hops.get(index, ""), masks.get(index)
            if len(index) != 4 or max(index) > 255 or length is None or index[0] == 127:
                continue
            if self.numbers("old_route_type").get(index) != 4 or hop in ("", "0.0.0.0"):
                continue
            prefix = str(ip_network(f"{'.'.join(map(str, index))}/{length}", strict=False))
            origin = protocols.get(self.numbers("old_route_protocol").get(index, 0), "other")
            out = self.interfaces.get(number)
            found[prefix, hop] = Route(self.device, prefix, hop, out, origin, source=self.at("old_route_if", index))
