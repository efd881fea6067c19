"""VLANs in several pieces."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator

from crossthread.diagnosis.context import Context
from crossthread.network.hosts.station import Station
from crossthread.network.switching.nodes import Node
from crossthread.network.three_valued import vids_in


def split_vlans(context: Context) -> Iterator[tuple[int, list[list[Station]]]]:
    """Each VLAN that holds stations of one subnet in several pieces that surely do not hear each other."""
    parts: dict[tuple[int, object], dict[object, list[Station]]] = defaultdict(lambda: defaultdict(list))
    for station in _standing(context):
        vid, subnet = context.expected.vlan(station), context.expected.subnet(station)
        if vid is None or subnet is None or station.up is False:
            continue
        for tap in station.taps:
            for joined in vids_in(tap.enters.sure):
                part = context.network.components.of(Node(tap.device, joined))
                if joined == vid and part is not None:
                    parts[vid, subnet.network][part].append(station)
    done = set()
    for (vid, _), pieces in parts.items():
        if len(pieces) > 1 and vid not in done:
            groups = sorted(pieces.values(), key=len, reverse=True)
            if all(context.network.hearing.hears(groups[0][0], other[0]) is False for other in groups[1:]):
                done.add(vid)
                yield vid, groups


def _standing(context: Context) -> Iterable[Station]:
    """One host of each class, and every gateway interface."""
    yield from (one.hosts[0] for one in context.network.classes.all)
    yield from context.network.stations.gateways
