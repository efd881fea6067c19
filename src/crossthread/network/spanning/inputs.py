"""What decides a spanning tree, out of a survey: bridges, the media between them, regions, and what is missing."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import NamedTuple

from crossthread.network.spanning.roles import BridgeId, Lan, TreeEnd
from crossthread.network.three_valued import Bounds, Truth
from crossthread.network.topology.adjacency import Adjacency
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
    dropping: Callable[[End], bool],
) -> TreeInputs:
    """Collect the inputs of an instance.

    A device that runs no spanning tree and passes its frames on is part of the medium between its neighbours; one that
    drops them ends it. Which of the two it does matters only where it has several neighbours.
    """
    members, off = rows.members.get(instance, {}), rows.off
    missing: dict[str, str] = {}
    bridges, regions = {}, {}
    for device, row in members.items():
        if row.priority is None or not row.address:
            missing[device] = "priority" if row.priority is None else "address"
        else:
            bridges[device] = BridgeId(row.priority, row.address)
        if row.protocol == "mstp":
            regions[device] = row.region
    internal = bool(instance) and any(row.protocol == "mstp" for row in members.values())
    media = _Media()
    vague: dict[End, str] = {}
    inputs: dict[End, TreeEnd] = {}
    through: dict[str, list[End]] = defaultdict(list)
    for adjacency in adjacencies:
        ends = (adjacency.a, adjacency.b)
        devices = [end.device for end in ends]
        if no_bridge & set(devices) or any(map(dropping, ends)):
            continue
        silent = [device for device in devices if device in off]
        if len(silent) == 2:
            media.join(_inside(devices[0]), _inside(devices[1]))
            continue
        if silent:
            near = ends[0] if devices[1] in off else ends[1]
            if near.device in members:
                through[silent[0]].append(near)
            continue
        runs = _runs(adjacency, instance, members, carries)
        if runs is False:
            continue
        outside = internal and [d not in members for d in devices].count(True)
        if outside and len(set(devices) & members.keys()) == 1 and all(d in rows.devices for d in devices):
            continue  # the edge of a region, where the common tree decides
        for end, device in zip(ends, devices, strict=True):
            other = devices[1] if device == devices[0] else devices[0]
            if device not in members:
                if other in members:
                    missing.setdefault(other, "a row in trees of " + device)
            elif runs is None:
                missing.setdefault(device, f"whether the link at {end} is up and carries the VLAN")
            _add(end, tree_end, inputs, vague, missing)
        media.join(*ends)
    for device, ends_there in through.items():
        if off[device] is None and len(ends_there) > 1:
            for end in ends_there:
                missing.setdefault(end.device, f"bpdus of {device}, which runs no spanning tree")
        if off[device] == "pass":
            for end in ends_there:
                _add(end, tree_end, inputs, vague, missing)
                media.join(end, _inside(device))
    lans = [tuple(inputs[end] for end in ends if end in inputs) for ends in media.all()]
    lans = [lan for lan in lans if len(lan) > 1]
    _where_identifiers_matter(lans, vague, missing)
    for device, region in regions.items():
        beside = {e.end.device for lan in lans if any(x.end.device == device for x in lan) for e in lan} - {device}
        if region is None and beside & regions.keys():
            missing.setdefault(device, "region")
    known = _apart(bridges, lans, missing)
    kept = [lan for lan in lans if all(e.end.device in known for e in lan)]
    told = tuple(sorted((d, r) for d, r in regions.items() if r is not None and d in known))
    return TreeInputs(
        instance, tuple((d, bridges[d]) for d in sorted(known)), tuple(sorted(kept)), told, internal,
        tuple(missing.items()),
    )  # fmt: skip


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


def _add(
    end: End,
    tree_end: Callable[[End], tuple[TreeEnd, bool] | None],
    inputs: dict[End, TreeEnd],
    vague: dict[End, str],
    missing: dict[str, str],
) -> None:
    found = tree_end(end)
    if found is None:
        missing.setdefault(end.device, f"cost (or speed) of {end}")
        return
    inputs[end] = found[0]
    if not found[1]:
        vague[end] = f"priority and number of {end}"


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
        return list({id(ends): ends for ends in self._of.values()}.values())


def _apart(bridges: Mapping[str, BridgeId], lans: Iterable[Lan], missing: Iterable[str]) -> set[str]:
    """The bridges that are connected to none for which something is missing."""
    at: dict[str, set[str]] = defaultdict(set)
    for lan in lans:
        around = {one.end.device for one in lan}
        for device in around:
            at[device] |= around
    lost, todo = set(missing), list(missing)
    while todo:
        for other in at[todo.pop()]:
            if other not in lost:
                lost.add(other)
                todo.append(other)
    return set(bridges) - lost
