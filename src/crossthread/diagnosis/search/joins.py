"""What it costs to get a station into a VLAN."""

from __future__ import annotations

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.edits import closed_itself
from crossthread.diagnosis.findings import Finding
from crossthread.diagnosis.rules.gateway import interface as gateway_rules
from crossthread.diagnosis.rules.gateway.port import (
    gateway_port_mode_wrong,
    gateway_port_routed,
    gateway_port_vlan_wrong,
)
from crossthread.diagnosis.rules.host.place import host_link_down
from crossthread.diagnosis.rules.port.admission import port_has_refused, port_refuses_station
from crossthread.diagnosis.rules.port.lost_vlan import gateway_vlan_lost
from crossthread.diagnosis.rules.port.mode import port_mode_wrong, port_without_native
from crossthread.diagnosis.rules.port.state import port_admin_down, port_down
from crossthread.diagnosis.rules.port.vlan import port_vlan_wrong
from crossthread.diagnosis.search.costs import Step, step_of
from crossthread.diagnosis.search.crossings import Crossings
from crossthread.network.hosts.station import HostStation, Interface, Station, Tap
from crossthread.network.switching.nodes import Node
from crossthread.network.three_valued import Truth, all_of
from crossthread.network.topology.names import End
from crossthread.values import BARE, SOME_VID


class Joins:
    """Where stations may join the bridges, and what stands there."""

    def __init__(self, context: Context, crossings: Crossings) -> None:
        self._context, self._crossings, self._fabric = context, crossings, context.network.fabric

    def down(self, station: Station) -> list[Finding]:
        """What keeps a station's own link or interface down."""
        context = self._context
        if station.up is not False:
            return []
        found: list[Finding | None]
        if isinstance(station, HostStation):
            found = [host_link_down(context, station)]
            if station.end is not None:
                if closed_itself(context.port(station.end)):
                    found += [port_refuses_station(context, station)]
                    found += [port_has_refused(context, station.end)]
                found += [port_admin_down(context, station.end), port_down(context, station.end)]
            return [finding for finding in found if finding][:1]
        assert isinstance(station, Interface)
        found = [gateway_rules.gateway_admin_down(context, station)]
        if not any(found) and station.end is not None:
            ends = [station.end, *(a.far(station.end) for a in context.adjacencies_at.get(station.end, ()))]
            found += [port_admin_down(context, end) for end in ends]
            if not any(found):  # one end is enough: the other may have been read while the link was up
                found.append(next(filter(None, (port_down(context, end) for end in ends)), None))
        if not any(found):
            found.append(gateway_rules.gateway_down(context, station))
        return [finding for finding in found if finding]

    def attach(self, station: Station, vids: set[int]) -> list[tuple[Node, Step]]:
        """Every VLAN that a station may be got into, and what that costs."""
        found = []
        base = self.down(station)
        for tap in station.taps:
            if not tap.device:
                continue
            without_tag = self._fabric.bare(tap.device) == BARE and not station.tag
            for vid in vids if without_tag else vids - {BARE}:
                step = self._join(station, tap, vid)
                if step is None:
                    continue
                doubts = self._context.expected.doubt(station, vid)
                more = step_of([*base, *step.findings], doubts, int(station.up is None) + step.cost.observations)
                found.append((Node(tap.device, vid), more))
        return found

    def _join(self, station: Station, tap: Tap, vid: int) -> Step | None:
        context = self._context
        if isinstance(station, HostStation):
            assert tap.end is not None
            held = self._crossings.closed(tap.end)
            if held is not None:
                return step_of([held])
            findings: list[Finding | None] = [port_refuses_station(context, station)]
            findings.append(self._crossings.vlan_on(tap.end, vid))
            member = self._fabric.member(tap.end)
            tag = station.tag
            if not tag and self._fabric.unaware(tap.device):
                return step_of(findings)
            enters: Truth = member.accepts.has(vid) if tag else (None if member.pvid is None else member.pvid == vid)
            leaves = member.tagged.has(vid) if tag else all_of((member.untagged.has(vid), member.joins.has(vid)))
            if all_of((enters, leaves)) is False:
                told = port_vlan_wrong(context, station, vid) or port_without_native(context, station, vid)
                told = told or port_mode_wrong(context, station, vid)
                if told is None:
                    return None
                findings.append(told)
            return step_of(findings, observations=int(all_of((enters, leaves)) is None))
        assert isinstance(station, Interface)
        if tap.end is None:
            if self._fabric.unaware(tap.device) and station.row.vid is None:
                return step_of([])
            lost = gateway_vlan_lost(context, station, vid)
            if station.row.vid is None or station.row.vid == vid:
                return step_of([lost], observations=int(station.row.vid is None))
            told = gateway_rules.gateway_vlan_wrong(context, station, vid)
            return None if told is None else step_of([told, lost])
        return self._join_by_cable(station, tap.end, vid)

    def _join_by_cable(self, station: Interface, far: End, vid: int) -> Step | None:
        """The same for a gateway that is plugged into a bridge."""
        context, member = self._context, self._fabric.member(far)
        if not member.bridged:
            routed = gateway_port_routed(context, station, far, vid) or gateway_port_mode_wrong(
                context, station, far, vid
            )
            return None if routed is None else step_of([routed])
        findings: list[Finding | None] = [self._crossings.vlan_on(far, vid)]
        if not station.tag and self._fabric.unaware(far.device):
            return step_of(findings)
        if not station.tag:
            enters: Truth = None if member.pvid is None else member.pvid == vid
            carried = all_of((enters, member.untagged.has(vid), member.joins.has(vid)))
            if carried is False:
                told = gateway_port_vlan_wrong(context, station, far, vid)
                if told is None:
                    return None
                findings.append(told)
            return step_of(findings, observations=int(carried is None))
        carried = all_of((member.accepts.has(vid), member.tagged.has(vid)))
        if station.tag == SOME_VID:
            return None if carried is False else step_of(findings, observations=1)
        if station.tag != vid:
            told = gateway_rules.gateway_vlan_wrong(context, station, vid)
            if told is None:
                return None
            findings.append(told)
        if carried is False:
            told = gateway_port_mode_wrong(context, station, far, vid)
            if told is None:
                return None
            findings.append(told)
        return step_of(findings, observations=int(carried is None))
