"""The way frames really go: detours that the tree makes, links that nothing uses, and what fails if one thing does."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterator, Mapping
from typing import NamedTuple

from crossthread.answer import Answer
from crossthread.diagnosis.context import Context
from crossthread.diagnosis.detours import Detour, bridge_links, find_detours
from crossthread.errors import UnknownNameError, visible
from crossthread.network.given import of_network
from crossthread.network.hosts.station import Station
from crossthread.network.network import Network
from crossthread.network.spanning import roles as spanning
from crossthread.network.spanning.roles import Role
from crossthread.network.three_valued import vids_in
from crossthread.network.topology.adjacency import Adjacency
from crossthread.network.topology.names import End


class Failure(Answer, frozen=True):
    """What is lost if a link or a device fails: VLANs that fall apart, hosts that lose their gateway or their peers."""

    what: str
    kind: str
    vlans: tuple[int, ...]
    hosts: tuple[str, ...]
    moved: int
    """How many ports of other bridges change between forwarding and discarding."""
    reformed: tuple[str, ...] = ()
    """How the trees form anew, port by port, where that was asked for."""


class Ways(Answer, frozen=True):
    """Detours, links that carry no VLAN's data at all, and single points of failure, the worst first."""

    ROWS = "failures"
    detours: tuple[Detour, ...]
    idle: tuple[str, ...]
    failures: tuple[Failure, ...]


@of_network
def tree_ways(network: Network, progress: Callable[[], None] = lambda: None, failing: bool = True) -> Ways:
    """Look at the way of every VLAN's hosts to their gateway, and let each link and each device fail in turn.

    Parameters
    ----------
    network
        A network, a survey, or the place of one: a folder, or a `.json` or `.json.gz` file.
    progress
        Called again and again while it works, for a progress bar.
    failing
        Whether to let each link and device fail in turn, which takes longest.

    Returns
    -------
    Ways
        Detours, links that carry nothing, and what is lost if one thing fails, the worst first.

    Raises
    ------
    SurveyError
        If a place was given and no survey can be read there.

    Examples
    --------
    >>> from crossthread.demo import faulty, healthy
    >>> tree_ways(healthy(), failing=False).failures
    ()
    """
    context = Context(network)
    detours = tuple(sorted(find_detours(context), key=lambda d: (-d.hosts * (d.hops - d.shortest), d.vid, d.device)))
    idle = tuple(_name(a) for a in bridge_links(network) if a.up is not False and not network.components.carried(a))
    failures: list[Failure] = []
    if failing:
        trial = Trial(context)
        for adjacency in network.adjacencies:
            if adjacency.up is not False:
                failures.append(trial.without(_name(adjacency), "link", [adjacency]))
                progress()
        for device in sorted({a.a.device for a in network.adjacencies} | {a.b.device for a in network.adjacencies}):
            failures.append(trial.without(device, "device", trial.at[device], device))
            progress()
    lost = [failure for failure in failures if failure.hosts or failure.vlans]
    return Ways(detours, idle, tuple(sorted(lost, key=lambda f: (-len(f.hosts), -len(f.vlans), f.kind, f.what))))


def _name(adjacency: Adjacency) -> str:
    return f"{adjacency.a} – {adjacency.b}"


class _Need(NamedTuple):
    """Hosts of a VLAN on a device, and the device by which they come to their gateway (or to the first such host)."""

    vid: int
    device: str
    goal: str
    router: str
    by: frozenset[int]
    """The links, by `id`, of which the gateway needs one."""
    hosts: tuple[str, ...]


class Trial:
    """Takes links away from the trees of a network, without building it anew, and sees who loses whom."""

    def __init__(self, context: Context) -> None:
        self._context, network = context, context.network
        trees = network.fabric.trees
        self.at: dict[str, list[Adjacency]] = defaultdict(list)
        for adjacency in network.adjacencies:
            self.at[adjacency.a.device].append(adjacency)
            self.at[adjacency.b.device].append(adjacency)
        self._instances = sorted({row.instance for rows in trees.bridges.values() for row in rows})
        self._inputs = {instance: trees.inputs(instance) for instance in self._instances}
        self._links = [a for a in bridge_links(network) if a.up is not False]
        self._wanted = self._pairs()
        self._before = self._parts([], None)
        self._roles = {i: trees.compute(i) for i in self._instances}

    def _pairs(self) -> list[_Need]:
        network = self._context.network
        by_place: dict[tuple[int, str], list[Station]] = defaultdict(list)
        for one in network.classes.all:
            if one.vid is not None:
                for host in one.hosts:
                    if host.end is not None:
                        by_place[one.vid, host.end.device].append(host)
        first: dict[int, str] = {}
        found = []
        for (vid, device), hosts in by_place.items():
            gateway = next((g for h in hosts for g in self._context.expected.gateways(h)), None)
            goal = gateway.taps[0].device if gateway is not None and gateway.taps else first.setdefault(vid, device)
            by = frozenset(map(id, network.stations.facing(gateway))) if gateway is not None else frozenset()
            router = gateway.device if gateway is not None else ""
            if goal:
                found.append(_Need(vid, device, goal, router, by, tuple(host.name for host in hosts)))
        return [*found, *self._between_routers(found)]

    def _between_routers(self, found: list[_Need]) -> Iterator[_Need]:
        """What routers need of each other in VLANs without hosts: the hosts behind the lesser one lose by it."""
        served: dict[str, list[str]] = defaultdict(list)
        for need in found:
            served[need.router] += need.hosts
        with_hosts = {need.vid for need in found}
        transit: dict[int, dict[str, Station]] = defaultdict(dict)
        for gateway in self._context.network.stations.gateways:
            if gateway.row.vid and gateway.row.vid not in with_hosts and gateway.taps and gateway.taps[0].device:
                transit[gateway.row.vid].setdefault(gateway.device, gateway)
        for vid, gateways in transit.items():
            order = sorted(gateways, key=lambda device: -len(served[device]))
            main = gateways[order[0]]
            for device in order[1:]:
                near, facing = gateways[device], self._context.network.stations.facing
                by = frozenset(map(id, facing(near))) or frozenset(map(id, facing(main)))
                yield _Need(vid, near.taps[0].device, main.taps[0].device, main.device, by, tuple(served[device]))

    def without(self, what: str, kind: str, gone: list[Adjacency], device: str | None = None) -> Failure:
        """What is lost without some links, and perhaps a device."""
        lost = {id(adjacency) for adjacency in gone}
        after = self._parts(gone, device)
        vlans: set[int] = set()
        hosts: list[str] = []
        for need in self._wanted:
            if device == need.device:
                hosts += need.hosts
            elif self._joined(self._before, need.vid, need.device, need.goal):
                cut_off = bool(need.by) and not need.by - lost
                apart = not self._joined(after, need.vid, need.device, need.goal)
                if cut_off or apart or (device is not None and device in (need.goal, need.router)):
                    vlans.add(need.vid)
                    hosts += need.hosts
        changes = list(self._changes(lost, device))
        moved = sum(before.forwards != after.forwards for _, _, before, after in changes)
        reformed = [f"{end}: {old.role} → {new.role}" + (f" (tree {number})" if number else "")
                    for number, end, old, new in changes if old.role != new.role]  # fmt: skip
        return Failure(what, kind, tuple(sorted(vlans)), tuple(dict.fromkeys(hosts)), moved, tuple(sorted(reformed)))

    @staticmethod
    def _joined(parts: Mapping[int, Mapping[str, str]], vid: int, one: str, two: str) -> bool:
        top = parts.get(vid, {})
        return top.get(one, one) == top.get(two, two)

    def _roles_without(self, gone: set[tuple[End, End]], device: str | None) -> dict[int, Mapping[End, Role]]:
        found: dict[int, Mapping[End, Role]] = {}
        for instance in self._instances:
            given = self._inputs[instance]
            cut = {end for pair in gone for end in pair}
            lans = tuple(
                lan for lan in given.lans
                if not {e.end for e in lan} <= cut and device not in {e.end.device for e in lan}
            )  # fmt: skip
            bridges = {name: own for name, own in given.bridges if name != device}
            if given.internal:
                regions = dict(given.regions)
                found[instance] = spanning.instance_roles(bridges, lans, regions, found.get(0, {}))
            else:
                found[instance] = spanning.compute(bridges, lans, dict(given.regions))
        return found

    def _parts(self, gone: list[Adjacency], device: str | None) -> dict[int, dict[str, str]]:
        """For each VLAN the connected parts of the devices, by a device that stands for each."""
        fabric = self._context.network.fabric
        pairs = {(adjacency.a, adjacency.b) for adjacency in gone}
        roles = self._roles_without(pairs, device) if gone or device else {}
        found: dict[int, dict[str, str]] = {}
        for vid in vids_in(fabric.known):
            above: dict[str, str] = {}
            for adjacency in self._links:
                if (adjacency.a, adjacency.b) in pairs or device in (adjacency.a.device, adjacency.b.device):
                    continue
                if all(self._open(end, vid, roles) for end in (adjacency.a, adjacency.b)):
                    one, two = (_top(above, end.device) for end in (adjacency.a, adjacency.b))
                    above[one] = two
            found[vid] = {name: _top(above, name) for name in list(above)}
        return found

    def _open(self, end: End, vid: int, roles: Mapping[int, Mapping[End, Role]]) -> bool:
        """Whether a port carries a VLAN and forwards for it, in the trees as they are or as they would be."""
        fabric = self._context.network.fabric
        if not fabric.carried(end).possible >> vid & 1 or not fabric.exists(end.device).possible >> vid & 1:
            return False
        if not roles:
            return bool(fabric.trees.forwarding(end).possible >> vid & 1)
        for instance, vids in fabric.trees.instances(end.device).items():
            role = roles.get(instance, {}).get(end)
            if vids.possible >> vid & 1 and role is not None:
                return role.forwards
        return True

    def _changes(self, lost: set[int], device: str | None) -> Iterator[tuple[int, End, Role, Role]]:
        """The ports that do something else in the trees without some links: before and after."""
        pairs = {(a.a, a.b) for held in self.at.values() for a in held if id(a) in lost}
        for instance, after in self._roles_without(pairs, device).items():
            for end, role in after.items():
                before = self._roles[instance].get(end)
                if before is not None and before.role != role.role:
                    yield instance, end, before, role


def _top(above: dict[str, str], device: str) -> str:
    above.setdefault(device, device)
    while above[device] != device:
        above[device] = device = above[above[device]]
    return device


@of_network
def failure_of(network: Network, text: str) -> Failure:
    """What is lost without one thing: a device by its name, or the link at DEVICE:PORT.

    Parameters
    ----------
    network
        A network, a survey, or the place of one: a folder, or a `.json` or `.json.gz` file.
    text
        A device by its name, or a link as `DEVICE:PORT`.

    Returns
    -------
    Failure
        The VLANs that fall apart, and the hosts that lose their gateway or their peers.

    Raises
    ------
    SurveyError
        If a place was given and no survey can be read there.
    UnknownNameError
        If there is no such device or link.

    Examples
    --------
    >>> from crossthread.demo import faulty, healthy
    >>> from crossthread import tree_without
    >>> "foghorn-exhibit" in tree_without(healthy(), "ropehall").hosts
    True
    """
    context = Context(network)
    trial = Trial(context)
    device = network.names.device(text)
    if device is not None:
        return trial.without(device, "device", trial.at[device], device)
    name, _, port = text.partition(":")
    known = network.names.device(name)
    end = End(known, network.names.port(known, port) or port) if known else None
    faced = [a for a in network.adjacencies if end in (a.a, a.b) or any(end in (k.a, k.b) for k in a.links)]
    if end is None or not faced:
        raise UnknownNameError(f"there is no device and no link “{visible(text)}”; expected DEVICE or DEVICE:PORT")
    return trial.without(_name(faced[0]), "link", faced[:1])
