"""What decides a spanning tree, out of a survey: bridges, the media between them, regions, and what is missing."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import NamedTuple

from crossthread.network.spanning.roles import BridgeId, Lan, TreeEnd
from crossthread.network.three_valued import Bounds, Truth
from crossthread.network.topology.adjacency import Adjacency
from crossthread.network.topology.graph import distances, joined
from crossthread.network.topology.names import End
from crossthread.survey.records import Tree

_SINGLE = ("stp", "rstp", "mstp")


class TreeInputs(NamedTuple):
    """The inputs of one instance: only of those parts of the network in which nothing that matters is missing.

    `internal` is set for an instance of multiple spanning tree, which lives inside regions only.
    """

    instance: int
    bridges: tuple[tuple[str, BridgeId], ...]
    lans: tuple[Lan, ...]
    regions: tuple[tuple[str, str], ...]
    internal: bool
    missing: tuple[tuple[str, str], ...]
    """The devices for which something was not observed, and what."""


class TreeRows(NamedTuple):
    """What devices said of their trees: those that run one, by instance; whether one that runs none passes BPDUs."""

    devices: frozenset[str]
    members: Mapping[int, Mapping[str, Tree]]
    off: Mapping[str, str | None]


def sort_rows(rows: Mapping[str, Sequence[Tree]]) -> TreeRows:
    """Sort each device's rows by instance."""
    members: dict[int, dict[str, Tree]] = defaultdict(dict)
    off: dict[str, str | None] = {}
    for device, held in rows.items():
        for row in held:
            if row.protocol == "per-vlan" or row.protocol in _SINGLE:
                members[row.instance][device] = row
            elif row.protocol == "off":
                off.setdefault(device, row.bpdus)
    return TreeRows(frozenset(rows), members, off)


def gather_inputs(
    instance: int,
    rows: TreeRows,
    adjacencies: Iterable[Adjacency],
    carries: Callable[[End], Bounds],
    tree_end: Callable[[End], tuple[TreeEnd, bool] | None],
    no_bridge: set[str],
    no_part: Callable[[End], bool],
    open_ends: Iterable[End] = (),
) -> TreeInputs:
    """Collect the inputs of an instance.

    A device that runs no spanning tree and passes its frames on is part of the medium between its neighbours; one that
    drops them ends it. Which of the two it does matters only where it has several neighbours.
    """
    collected = _Collected(instance, rows, carries, tree_end)
    for adjacency in adjacencies:
        if not no_bridge & {adjacency.a.device, adjacency.b.device} and not any(
            map(no_part, (adjacency.a, adjacency.b))
        ):
            collected.add(adjacency)
    for end in open_ends:
        if end.device not in no_bridge and not no_part(end):
            collected.add_open(end)
    return collected.inputs()


class _Collected:
    """What is known so far of one instance while its links are looked through."""

    def __init__(
        self,
        instance: int,
        rows: TreeRows,
        carries: Callable[[End], Bounds],
        tree_end: Callable[[End], tuple[TreeEnd, bool] | None],
    ) -> None:
        self._instance, self._rows, self._carries, self._tree_end = instance, rows, carries, tree_end
        self._members = rows.members.get(instance, {})
        self._missing: dict[str, str] = {}
        self._bridges: dict[str, BridgeId] = {}
        for device, row in self._members.items():
            if row.priority is None or not row.address:
                self._missing[device] = "priority" if row.priority is None else "address"
            else:
                self._bridges[device] = BridgeId(row.priority, row.address)
        self._regions = {device: row.region for device, row in self._members.items() if row.protocol == "mstp"}
        self._internal = bool(instance) and bool(self._regions)
        self._media = _Media()
        self._vague: dict[End, str] = {}
        self._ends: dict[End, TreeEnd] = {}
        self._through: dict[str, list[End]] = defaultdict(list)
        self._open_media: set[str] = set()

    def add(self, adjacency: Adjacency) -> None:
        """Take a link between two devices that bridge."""
        ends, off = (adjacency.a, adjacency.b), self._rows.off
        silent = [end.device for end in ends if end.device in off]
        if len(silent) == 2:
            self._media.join(_inside(silent[0]), _inside(silent[1]))
        elif silent:
            near = ends[0] if ends[1].device in off else ends[1]
            if near.device in self._members:
                self._through[silent[0]].append(near)
        else:
            runs = _runs(adjacency, self._instance, self._members, self._carries)
            if runs is not False and not self._leaves_region(ends):
                self._take(ends, runs)

    def add_open(self, end: End) -> None:
        """Take a port beyond which there may be other bridges: one of them may be the root."""
        if end.device in self._rows.off:
            self._open_media.add(end.device)
        row = self._members.get(end.device)
        if row is None or (row.protocol == "per-vlan" and self._carries(end).has(self._instance) is False):
            return
        self._missing.setdefault(end.device, f"what is beyond {end}" if end.port else f"the ports of {end.device}")

    def _leaves_region(self, ends: tuple[End, End]) -> bool:
        """Whether a link is the edge of a region, where the common tree decides."""
        devices = {end.device for end in ends}
        inside = devices & self._members.keys()
        return self._internal and len(devices) == 2 and len(inside) == 1 and devices <= self._rows.devices

    def _take(self, ends: tuple[End, End], runs: Truth) -> None:
        for end, other in (ends, ends[::-1]):
            if end.device not in self._members:
                if other.device in self._members:
                    self._missing.setdefault(other.device, "a row in trees of " + end.device)
            elif runs is None:
                self._missing.setdefault(end.device, f"whether the link at {end} is up and carries the VLAN")
            self._add(end)
        self._media.join(*ends)

    def _add(self, end: End) -> None:
        found = self._tree_end(end)
        if found is None:
            self._missing.setdefault(end.device, f"cost of {end}")
            return
        self._ends[end] = found[0]
        if not found[1]:
            self._vague[end] = f"priority and number of {end}"

    def _pass_through(self) -> None:
        """Join what is connected by devices that run no tree and pass its frames on."""
        off = self._rows.off
        for device, ends in self._through.items():
            for end in ends if device in self._open_media and off[device] != "drop" else ():
                self._missing.setdefault(end.device, f"what is beyond {device}, which runs no spanning tree")
            if off[device] is None and len(ends) > 1:
                for end in ends:
                    self._missing.setdefault(end.device, f"bpdus of {device}, which runs no spanning tree")
            for end in ends if off[device] == "pass" else ():
                self._add(end)
                self._media.join(end, _inside(device))

    def _unknown_regions(self, lans: Iterable[Lan]) -> None:
        """It matters in which region a bridge is, if it has a neighbour that is in one."""
        beside: dict[str, set[str]] = defaultdict(set)
        for lan in lans:
            devices = {one.end.device for one in lan}
            for device in devices:
                beside[device] |= devices - {device}
        for device, region in self._regions.items():
            if region is None and beside[device] & self._regions.keys():
                self._missing.setdefault(device, "region")

    def _root_elsewhere(self, lans: Iterable[Lan]) -> None:
        """A part of which no bridge reports a root that is in it has its root where nobody looked."""
        parts = joined((one.end.device, lan[0].end.device) for lan in lans for one in lan)
        inside: dict[str, set[str]] = defaultdict(set)
        reported: dict[str, set[str]] = defaultdict(set)
        for device, row in self._members.items():
            part = parts.get(device, device)
            inside[part] |= {row.address} if row.address else set()
            reported[part] |= {row.root_address} if row.root_address else set()
        for device in self._members:
            part = parts.get(device, device)
            if reported[part] and reported[part].isdisjoint(inside[part]):
                self._missing.setdefault(device, f"the root that it reports, {min(reported[part])}")

    def inputs(self) -> TreeInputs:
        """All that was collected, without the parts of the network in which something that matters is missing."""
        self._pass_through()
        media = self._media.all()
        all_lans = [tuple(self._ends[end] for end in ends if end in self._ends) for ends in media]
        lans = [lan for lan in all_lans if len(lan) > 1]
        _where_identifiers_matter(lans, self._vague, self._missing)
        self._unknown_regions(lans)
        self._root_elsewhere(lans)
        known = _apart(self._bridges, media, self._missing)
        kept = [lan for lan in lans if all(one.end.device in known for one in lan)]
        told = sorted(
            (device, region) for device, region in self._regions.items() if region is not None and device in known
        )
        bridges = tuple((device, self._bridges[device]) for device in sorted(known))
        missing = tuple(self._missing.items())
        return TreeInputs(self._instance, bridges, tuple(sorted(kept)), tuple(told), self._internal, missing)


def _inside(device: str) -> End:
    """The medium that a device is, which passes the frames of the tree on."""
    return End(device, "")


def _runs(adjacency: Adjacency, instance: int, members: Mapping[str, Tree], carries: Callable[[End], Bounds]) -> Truth:
    """Whether an instance runs over a link: it is up, and carries the VLAN if there is a tree for each."""
    row = members.get(adjacency.a.device) or members.get(adjacency.b.device)
    if row is not None and row.protocol == "per-vlan":
        carried = carries(adjacency.a).both(carries(adjacency.b)).has(instance)
        if not carried:
            return carried
    return adjacency.up


def _where_identifiers_matter(lans: Iterable[Lan], vague: Mapping[End, str], missing: dict[str, str]) -> None:
    """Port identifiers decide between two ports of one bridge on media that lead to the same bridge, and on hubs."""
    count = Counter(frozenset(e.end.device for e in lan) for lan in lans)
    for lan in lans:
        on_it = frozenset(e.end.device for e in lan)
        if count[on_it] > 1 or len(on_it) < len(lan) or len(lan) > 2:
            for one in lan:
                if one.end in vague:
                    missing.setdefault(one.end.device, vague[one.end])


class _Media:
    """Which ports share a medium, by merging."""

    def __init__(self) -> None:
        self._of: dict[End, list[End]] = {}

    def join(self, one: End, two: End) -> None:
        """Two ports are on one medium."""
        here, there = self._of.setdefault(one, [one]), self._of.setdefault(two, [two])
        if here is not there:
            here += there
            for end in there:
                self._of[end] = here

    def all(self) -> list[list[End]]:
        """Every medium."""
        return list({id(ends): ends for ends in self._of.values()}.values())  # lists, shared by all in them


def _apart(bridges: Mapping[str, BridgeId], media: Iterable[Iterable[End]], missing: Iterable[str]) -> set[str]:
    """The bridges that are connected to none for which something is missing."""
    at: dict[str, set[str]] = defaultdict(set)
    for ends in media:
        around = {end.device for end in ends}
        for device in around:
            at[device] |= around
    return set(bridges) - distances(missing, at).keys()
