"""VLANs that the two ends of links agree to leave out: a host that would have to be let through them may be at home."""

from __future__ import annotations

from collections import defaultdict, deque

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.expected.listed_vlans import ListedVlans
from crossthread.diagnosis.findings import Finding
from crossthread.diagnosis.judgement import weights
from crossthread.diagnosis.judgement.hearing import Hearing
from crossthread.diagnosis.judgement.needs import across, bridge_links
from crossthread.diagnosis.rules.gateway.interface import gateway_unreachable
from crossthread.diagnosis.vlan_pieces import split_vlans
from crossthread.network.hosts.station import HostStation
from crossthread.network.topology.adjacency import Adjacency
from crossthread.values import VlanSet


def suffered(context: Context, vids: VlanSet) -> bool:
    """Whether any of some VLANs is in several pieces as things are, so that others suffer from it anyway."""
    return bool(vids) and any(vid in vids for vid in context.once(_in_pieces))


def _in_pieces(context: Context) -> frozenset[int]:
    """The VLANs that are in several pieces; also those of trunks' lists that get to no port where an interface is."""
    cut_off = (s.row.vid for s in context.network.stations.gateways if gateway_unreachable(context, s) is not None)
    named = (vid for vid in cut_off if vid and context.once(ListedVlans).on_trunks(vid))
    return frozenset([*named, *(vid for vid, _ in split_vlans(context))])


def against_links(context: Context, host: HostStation, finding: Finding) -> float:
    """What links say against a mend that puts a host's port into another VLAN, with what it costs to open them."""
    vid = next((change.cells.get("pvid") for change in finding.repair), None)
    if finding.rule != "port-vlan-wrong" or host.end is None or not isinstance(vid, int):
        return 0.0
    hearing = Hearing(context)
    homes = {t.device for one in hearing.kin(host) if hearing.vlan(one.station) == vid for t in one.station.taps}
    away = context.once(_Leaving).links(host.end.device, frozenset(filter(None, homes)), vid)
    return (weights.LEFT_OUT - weights.ROW * away) if away and not suffered(context, VlanSet.of([vid])) else 0.0


class _Leaving:
    """How many links leave a VLAN out at both ends on the way between bridges, by what was asked already."""

    def __init__(self, context: Context) -> None:
        self._context = context
        self._known: dict[tuple[str, frozenset[str], int], int] = {}
        self._around: dict[str, list[tuple[str, int]]] = defaultdict(list)
        """For each bridge those next to it, with the VLANs that the link to it lets through or may."""
        carried = context.network.fabric.carried
        for link in bridge_links(context):
            bits = -1 if self._is_wrong(link) else carried(link.a).possible | carried(link.b).possible
            self._around[link.a.device].append((link.b.device, bits))
            self._around[link.b.device].append((link.a.device, bits))

    def links(self, device: str, homes: frozenset[str], vid: int) -> int:
        """How many are on the way that has the fewest; none if there is no way at all."""
        key = device, homes, vid
        if key not in self._known:
            self._known[key] = self._count(*key) if homes and device not in homes else 0
        return self._known[key]

    def _count(self, device: str, homes: frozenset[str], vid: int) -> int:
        """Over the links that let the VLAN through first (breadth first, where these are no step)."""
        away = {device: 0}
        queue = deque([device])
        done = set()
        while queue:
            at = queue.popleft()
            if at in homes:
                return away[at]
            if at in done:
                continue
            done.add(at)
            for other, bits in self._around.get(at, ()):
                step = away[at] + (not bits >> vid & 1)
                if step < away.get(other, step + 1):
                    away[other] = step
                    (queue.append if step > away[at] else queue.appendleft)(other)
        return 0

    def _is_wrong(self, link: Adjacency) -> bool:
        """Whether both ends are access ports, and stations of several VLANs on both sides: that is a fault anyway."""
        rows = [self._context.port(end) for end in (link.a, link.b)]
        if not all(row is not None and row.mode == "access" for row in rows):
            return False
        near, beyond = across(self._context, link, link.a)
        return len(near & beyond) > 1
