"""Addresses that may be an interface's though its rows do not have them, as nobody read all of its own.

Two kinds: the link-local one that every interface with IPv6 has (RFC 4291, 2.1), and the one that several routers share
for the hosts of a subnet (first-hop redundancy, RFC 9568).
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from functools import cached_property

from crossthread.network.hosts.station import Interface
from crossthread.network.routing.routes import Routing
from crossthread.survey import Survey
from crossthread.survey.records import ArpEntry
from crossthread.values import Address, Prefix

VIRTUAL_MAC = "00:00:5e:00:"
"""How the MAC address begins at which a shared address answers, whoever holds it now (RFC 9568, 7.3)."""


class UnreadAddresses:
    """Which interfaces may have an address that nobody is known to have."""

    def __init__(self, survey: Survey, routing: Routing, gateways: Sequence[Interface]) -> None:
        self._survey, self._routing, self._gateways = survey, routing, gateways

    @cached_property
    def link_local(self) -> tuple[Interface, ...]:
        """The interfaces that speak IPv6 and of which no link-local address was read, each once."""
        told = {(s.device, s.name) for s in self._gateways if s.address is None and s.row.address}
        speaking = {(s.device, s.name): s for s in self._gateways if s.address and s.address.version == 6}
        return tuple(one for key, one in speaking.items() if key not in told)

    def sharing(self, wanted: Address, asker: str | None = None) -> list[Interface]:
        """The interfaces that may share an address with others, as it was not read whether they do.

        Two devices that may route have to be in one subnet besides the one that asks, that of the address or, as in
        IPv6 it is mostly link-local, any; or one, of which it was read whether it holds a shared address, or where a
        MAC address at which such answer was learned in its VLAN, or is what an ARP cache has for the address.
        """
        subnets: dict[Prefix, list[Interface]] = defaultdict(list)
        for one in self._gateways:
            if one.address is None or one.row.virtual is not None or one.device == asker:
                continue
            near = wanted in one.address.network or (wanted.is_link_local and one.address.version == wanted.version)
            if near and self._routing.on(one.device, wanted.version) is not False:
                subnets[one.address.network].append(one)
        heard = bool(subnets) and self._answers_as_shared(str(wanted))
        return [
            one
            for here in subnets.values()
            for one in here
            if heard or one.row.virtual_state or len({s.device for s in here}) > 1 or one.row.vid in self._vids_shared
        ]

    def _answers_as_shared(self, ip: str) -> bool:
        entries = self._survey.rows(ArpEntry)
        found = (entries[n] for n in entries.positions("address").get(ip, ()))
        return any((entry.mac or "").startswith(VIRTUAL_MAC) for entry in found)

    @cached_property
    def _vids_shared(self) -> frozenset[int | None]:
        """The VLANs in which a MAC address was learned at which shared addresses answer."""
        told = zip(self._survey.column("macs", "mac"), self._survey.column("macs", "vid"), strict=True)
        return frozenset(vid for mac, vid in told if mac.startswith(VIRTUAL_MAC))
