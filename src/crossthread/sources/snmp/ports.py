"""The ports of an SNMP walk: their state, the VLANs that they are in, what they counted."""

from __future__ import annotations

from collections import defaultdict
from typing import Any

from crossthread.sources.mau import Running, highest, running
from crossthread.sources.snmp.mib import COLUMNS
from crossthread.sources.snmp.neighbors import NeighborTables
from crossthread.survey.records import Port
from crossthread.values import VlanSet

_ETHERNET, _AGGREGATE = {6, 62, 69, 117}, 161
_MAX_SPEED = 4294967295


class PortTables(NeighborTables):
    """Interfaces and bridge ports as IF-MIB, EtherLike-MIB, MAU-MIB, Q-BRIDGE-MIB and others tell them."""

    def _ports(self) -> list[Port]:
        kinds = {index[0]: kind for index, kind in self.numbers("if_type").items()}
        wanted = set(self.bridge_ports.values()) | {i for i, kind in kinds.items() if kind in _ETHERNET | {_AGGREGATE}}
        cells, discovery, voice = self._membership(), self._discovery(), self._voice()
        runs, able, up_time = self._running(), self._capable(), self.one("up_time")
        found = []
        for number in sorted(wanted & self.interfaces.keys()):
            mac = self.of(self.octets("if_mac"), number) or b""
            lag = self.aggregates.get(number)
            told = {"mode": "routed"} if self.only_routes else dict(cells.get(number, {}))
            own: dict[str, Any] = _with_voice(told, voice.get(self.interfaces[number]))
            if lag in self.interfaces:
                own["lag"] = self.interfaces[lag]
                own["lag_state"] = self._attached(number)
                partner = self.of(self.octets("lag_partner"), number) or b""
                own["lag_partner"] = partner.hex(":") if len(partner) == 6 and any(partner) else None
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
                    capable_speed=able.get(number),
                    duplex={2: "half", 3: "full"}.get(self.of(self.numbers("duplex"), number) or 0)
                    or runs.get(number, Running()).duplex,
                    mtu=self.of(self.numbers("if_mtu"), number),
                    authorized={1: "yes", 2: "no"}.get(self.of(self.numbers("authorized"), number) or 0),
                    discovery=discovery.get(self.interfaces[number]),
                    counted_for=_counted(up_time, self.of(self.numbers("if_discontinuity"), number)),
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

    def _running(self) -> dict[int, Running]:
        """How each interface runs, by what its transceiver says while it is up (MAU-MIB, RFC 4836)."""
        kinds = self._walk.pointers(COLUMNS["mau_type"])
        up = {index[0] for index, state in self.numbers("if_oper").items() if state == 1}
        return {index[0]: running(kind[-1]) for index, kind in kinds.items() if kind and index[0] in up}

    def _capable(self) -> dict[int, int]:
        """The highest speed that each interface can negotiate."""
        told = {index[0]: highest(octets) for index, octets in self.octets("mau_capable").items()}
        return {number: speed for number, speed in told.items() if speed}

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

    def _membership(self) -> dict[int, dict[str, object]]:
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
        found: dict[int, dict[str, object]] = {}
        frames = {index[0]: kind for index, kind in self.numbers("port_frames").items() if len(index) == 1}
        filtering = {index[0]: kind for index, kind in self.numbers("ingress_filtering").items() if len(index) == 1}
        forbidden: dict[int, int] = defaultdict(int)
        for vid, ports in self.members("static_forbidden").items():
            for port in ports:
                forbidden[port] |= 1 << vid
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
            if filtering.get(port) in (1, 2):
                found[number]["ingress_filter"] = "yes" if filtering[port] == 1 else "no"
            if forbidden[port]:
                found[number]["forbidden"] = VlanSet(forbidden[port])
        return found


def _counted(up_time: int | None, since: int | None) -> int | None:
    """For how many seconds an interface has counted, of two times in hundredths (RFC 2863 ifCounterDiscontinuityTime).

    None if the device's own clock has begun again since: it holds 497 days.
    """
    return (up_time - since) // 100 if up_time and since is not None and since <= up_time else None


_VOICE = ((1,), (64,), (1, 64))
"""How the application “voice” stands in an index: as a number, or as the second bit of an octet, with its length."""


def _with_voice(own: dict[str, Any], vid: int | None) -> dict[str, object]:
    """A port's VLAN columns, if it tells phones to use a VLAN: believed unless its membership says otherwise."""
    if vid is None or own.get("mode") not in (None, "hybrid"):
        return own
    allowed, untagged, pvid = own.get("allowed"), own.get("untagged"), own.get("pvid")
    if allowed is None:
        return {**own, "voice": vid}  # its membership is not told
    if pvid and untagged == VlanSet.of([pvid]) and allowed == VlanSet.of([pvid, vid]):
        return {key: cell for key, cell in own.items() if key not in ("allowed", "untagged")} | {
            "mode": "access",
            "voice": vid,
        }
    return own
