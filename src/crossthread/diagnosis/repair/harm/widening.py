"""Mends after which every frame passes that passes now, and more do: they let a link carry more, or add VLANs.

Such mends may be asked about together. Whoever hears another with one of them hears it with all of them, too: where all
together stop nobody, and let nobody come to ask for an address for which two answer, none of them does by itself. Of a
campus with many uplinks that lack VLANs, one question takes the place of hundreds.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from crossthread.errors import SurveyError
from crossthread.network.network import Network
from crossthread.network.switching.nodes import Node
from crossthread.network.switching.segments import Fabric
from crossthread.network.three_valued import vids_in
from crossthread.network.topology.names import End
from crossthread.survey.changes import Change

_OF_LINKS = frozenset({"mode", "pvid", "allowed", "untagged", "tagging", "frames"})
_OF_VLANS = frozenset({"name", "state"})


def only_widens(network: Network, changes: Sequence[Change]) -> bool:
    """Whether some changes let frames pass by links that do not now, and stop none that do."""
    told = all(
        not change.delete
        and set(change.cells) <= {"ports": _OF_LINKS, "vlans": _OF_VLANS}.get(change.table, frozenset())
        for change in changes
    )
    if not changes or not told or "per-vlan" in network.survey.column("trees", "protocol"):
        return False  # what a port carries decides which of the trees it is in
    names = network.names
    devices = {names.device(str(change.key["device"])) for change in changes}
    ends = {
        End(names.device(str(change.key["device"])) or "", str(change.key["port"]))
        for change in changes
        if change.table == "ports"
    }
    if None in devices or not all(_is_plain(network, end) for end in ends):
        return False
    try:
        copy = network.changed(changes)
    except SurveyError:
        return False
    if not ends.isdisjoint(copy.open_ends):
        return False
    old, new = network.fabric, copy.fabric
    for device in filter(None, devices):
        was, now = old.exists(device), new.exists(device)
        if was.sure & ~now.sure or was.possible & ~now.possible:
            return False
    return all(set(_passing(old, end)) <= set(_passing(new, end)) for end in ends)


def _is_plain(network: Network, end: End) -> bool:
    """Whether a port leads to other bridges only, all of which were read."""
    links = network.adjacencies_at.get(end, ())
    return (
        bool(links)
        and end not in network.open_ends
        and not network.host_rows_at(end)
        and all(_bridges(network.fabric, one) for link in links for one in (end, link.far(end)))
    )


def _bridges(fabric: Fabric, end: End) -> bool:
    port = fabric.member(end)
    return port.bridged and not port.tunnel


def _passing(fabric: Fabric, end: End) -> Iterator[tuple[End, int, Node, bool, bool]]:
    """Which frames pass by a port, in and out: from where, in what VLAN, to where, whether tagged, whether surely.

    What surely passes is told once more as what may.
    """
    for crossing in fabric.out.get(end.device, ()):
        if crossing.near != end:
            continue
        back = next(one for one in fabric.out[crossing.far.device] if (one.near, one.far) == (crossing.far, end))
        for way in (crossing, back):
            for vid in vids_in(fabric.leaving(way.near) & fabric.vids):
                for _, node, tagged, sure in fabric.cross(way, vid):
                    yield way.near, vid, node, tagged, False
                    if sure:
                        yield way.near, vid, node, tagged, True
