"""What it costs to get a VLAN across a link."""

from __future__ import annotations

from collections.abc import Sequence

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.findings import Finding
from crossthread.diagnosis.rules import between_bridges as bridge_rules
from crossthread.diagnosis.rules.link import (
    TAGS,
    link_access_vlan_differs,
    link_native_differs,
    link_tagging_differs,
)
from crossthread.diagnosis.rules.link_mode import link_access_both, link_end_routed, link_mode_differs, trunk_lacks
from crossthread.diagnosis.rules.link_vlan import blocked_by_tree, link_vlan_missing
from crossthread.diagnosis.rules.port.lost_vlan import port_vlan_missing, vlan_suspended
from crossthread.diagnosis.rules.port.quality import cable_fault
from crossthread.diagnosis.rules.port.state import port_admin_down, port_down
from crossthread.diagnosis.rules.port.vlan import shared_port_vlan_wrong
from crossthread.diagnosis.search.costs import AGREED, ANOTHER_TREE, Step, step_of
from crossthread.network.switching.unaware import same_tagging
from crossthread.network.three_valued import Truth, all_of
from crossthread.network.topology.adjacency import Adjacency
from crossthread.network.topology.names import End
from crossthread.values import BARE


class Crossings:
    """The price of every link for every VLAN, found once."""

    def __init__(self, context: Context) -> None:
        self._context, self._fabric = context, context.network.fabric
        self._prices: dict[tuple[Adjacency, int], Step | None] = {}

    def price(self, adjacency: Adjacency, vid: int) -> Step | None:
        """What it costs to get a VLAN across a link in both directions, staying that VLAN; None: nothing would do."""
        key = (adjacency, vid)
        if key not in self._prices:
            self._prices[key] = self._find_price(adjacency, vid)
        return self._prices[key]

    def _find_price(self, adjacency: Adjacency, vid: int) -> Step | None:
        context, ends = self._context, (adjacency.a, adjacency.b)
        if vid == BARE:
            return None  # where a bridge that knows no VLANs ends, what has no tag comes into one
        if not all(self._fabric.member(end).bridged for end in ends):
            routed = link_end_routed(context, adjacency)
            return None if routed is None else step_of([self._wide_enough(adjacency, vid, routed)], hops=1)
        closed = [finding for finding in map(self.closed, ends) if finding is not None]
        if closed:
            return step_of(closed, hops=1)
        findings = self._down(adjacency)
        findings += [self.vlan_on(end, vid) for end in ends]
        blocked = blocked_by_tree(context, adjacency, vid) if adjacency.up is not False and not any(findings) else None
        findings.append(blocked)
        works = self._carries(adjacency, vid)
        if works is False:
            told = self._why_not(adjacency, vid)
            if told is None:
                return None
            findings += told
        trees = self._trees(adjacency, vid)
        unknown = works is None or adjacency.up is None or trees is None or (trees is False and not any(findings))
        agreed = any(f.rule == "link-vlan-missing" and len({str(c.key) for c in f.repair}) > 1 for f in findings if f)
        doubts = (ANOTHER_TREE if blocked is not None else 0) + (AGREED if agreed else 0)
        return step_of(findings, doubts, observations=int(unknown), hops=1)

    def closed(self, end: End) -> Finding | None:
        """What holds a port closed that has a link: access control, or a guard of the spanning tree."""
        return bridge_rules.port_unauthorized(self._context, end) or bridge_rules.tree_guard_tripped(self._context, end)

    def opened(self, adjacency: Adjacency, service: int) -> Step:
        """What it costs that a cable to a tunnel is up, and that the tunnel's VLAN is there at this end."""
        closed = [finding for finding in map(self.closed, (adjacency.a, adjacency.b)) if finding is not None]
        tunnels = (end for end in (adjacency.a, adjacency.b) if self._fabric.member(end).tunnel)
        findings = [*(closed or self._down(adjacency)), *(self.vlan_on(end, service) for end in tunnels)]
        return step_of(findings, observations=int(adjacency.up is None))

    def _down(self, adjacency: Adjacency) -> list[Finding | None]:
        if adjacency.up is not False:
            return []
        cables = self._cables(adjacency)
        shut = [told for end in cables if (told := port_admin_down(self._context, end)) is not None]
        return [*shut] or self._dark((adjacency.a, adjacency.b), cables)

    def _dark(self, ends: Sequence[End], cables: Sequence[End]) -> list[Finding | None]:
        """Why a link is down that nobody shut: members that do not bundle, or the cable, if a test says so."""
        loose = [told for end in cables if (told := bridge_rules.link_lag_detached(self._context, end)) is not None]
        if loose:
            return list[Finding | None](loose[:1])
        tested = [cable_fault(self._context, end) for end in ends]
        return [told for told in tested if told] or [port_down(self._context, end) for end in ends]

    def _trees(self, adjacency: Adjacency, vid: int) -> Truth:
        return all_of(self._fabric.trees.forwarding(end).has(vid) for end in (adjacency.a, adjacency.b))

    @staticmethod
    def _cables(adjacency: Adjacency) -> list[End]:
        ends = [adjacency.a, adjacency.b]
        for link in adjacency.links:
            ends += [link.a, link.b]
        return list(dict.fromkeys(ends))

    def vlan_on(self, end: End, vid: int) -> Finding | None:
        missing = port_vlan_missing(self._context, end, vid)
        return missing or vlan_suspended(self._context, end, vid)

    def _carries(self, adjacency: Adjacency, vid: int) -> Truth:
        """Whether the settings of both ends let a VLAN across and back as itself, whatever links and trees do."""
        return all_of(
            self._one_way(near, far, vid) for near, far in ((adjacency.a, adjacency.b), (adjacency.b, adjacency.a))
        )

    def _one_way(self, near: End, far: End, vid: int) -> Truth:
        leaves, enters = self._fabric.member(near), self._fabric.member(far)
        if self._fabric.unaware(near.device) or self._fabric.unaware(far.device):
            return self._by_unaware(near, far, vid)
        if leaves.tagged.has(vid) is not False:
            same = same_tagging(leaves.tagging, enters.tagging)
            return all_of((leaves.tagged.has(vid), enters.accepts.has(vid), same))
        joined: Truth = None if enters.pvid is None else enters.pvid == vid
        return all_of((leaves.untagged.has(vid), joined, enters.joins.has(vid)))

    def _by_unaware(self, near: End, far: End, vid: int) -> Truth:
        """The same where a bridge that knows no VLANs is at an end: what has no tag is in a VLAN of its neighbours."""
        aware = [self._fabric.member(end) for end in (near, far) if not self._fabric.unaware(end.device)]
        bare = (None if member.pvid is None else member.pvid == vid for member in aware)
        return all_of((*bare, *(both.has(vid) for member in aware for both in (member.untagged, member.joins))))

    def _wide_enough(self, adjacency: Adjacency, vid: int, differs: Finding) -> Finding:
        """What tells that one end is to be a trunk like the other, also for a VLAN that this lacks."""
        high = self._context.port(End(str(differs.subjects[1].device), str(differs.subjects[1].port)))
        lacking = high is not None and high.mode in TAGS and high.allowed is not None and vid not in high.allowed
        return trunk_lacks(self._context, adjacency, vid, differs) if lacking else differs

    def _why_not(self, adjacency: Adjacency, vid: int) -> list[Finding] | None:
        context = self._context
        shared = shared_port_vlan_wrong(context, adjacency, vid)
        if shared is not None:
            return [shared]
        one_access = link_mode_differs(context, adjacency)
        if one_access is not None:
            return [self._wide_enough(adjacency, vid, one_access)]
        differ = link_access_vlan_differs(context, adjacency, vid)
        if differ is not None and differ.repair:
            return [differ]
        both = link_access_both(context, adjacency, vid)
        if both is not None:
            return [both]
        missing = link_vlan_missing(context, adjacency, vid)
        natives = link_native_differs(context, adjacency)
        rows = [row for row in map(context.port, (adjacency.a, adjacency.b)) if row is not None]
        settled = missing is not None and any("pvid" in change.cells for change in missing.repair)
        concerned = natives is not None and any(row.pvid == vid for row in rows) and not settled
        found = [link_tagging_differs(context, adjacency), missing, natives if concerned else None]
        return [finding for finding in found if finding is not None] or None
