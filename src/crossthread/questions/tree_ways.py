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
from crossthread.network.three_valued import Bounds, vids_in
from crossthread.network.topology.adjacency import Adjacency
from crossthread.network.topology.graph import joined
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
    by: frozenset[Adjacency]
    """The links of which the gateway needs one."""
    hosts: tuple[str, ...]


class _Alike(NamedTuple):
    """VLANs that have the same links and follow the same instances."""

    vids: tuple[int, ...]
    links: tuple[tuple[Adjacency, frozenset[tuple[int, End]]], ...]
    """The links that carry them, each with its ports in the instances that decide whether it is open."""


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
        self._alike = self._find_alike()
        self._wanted = self._pairs()
        before = self._parts_now()
        self._met = {
            need
            for need in self._wanted
            for parts in [before.get(need.vid, {})]
            if parts.get(need.device, need.device) == parts.get(need.goal, need.goal)
        }
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
            by = frozenset(network.stations.facing(gateway)) if gateway is not None else frozenset[Adjacency]()
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
                by = frozenset(facing(near)) or frozenset(facing(main))
                yield _Need(vid, near.taps[0].device, main.taps[0].device, main.device, by, tuple(served[device]))

    def without(self, what: str, kind: str, gone: list[Adjacency], device: str | None = None) -> Failure:
        """What is lost without some links, and perhaps a device."""
        lost = set(gone)
        roles = self._roles_without({(a.a, a.b) for a in gone}, device)
        after = self._parts(lost, device, roles)
        vlans: set[int] = set()
        hosts: list[str] = []
        for need in self._wanted:
            if device == need.device:
                hosts += need.hosts
            elif need in self._met:
                parts = after[need.vid]
                apart = parts.get(need.device, need.device) != parts.get(need.goal, need.goal)
                cut_off = bool(need.by) and not need.by - lost
                if cut_off or apart or (device is not None and device in (need.goal, need.router)):
                    vlans.add(need.vid)
                    hosts += need.hosts
        changes = list(self._changes(roles))
        moved = sum(before.forwards != now.forwards for _, _, before, now in changes)
        reformed = [f"{end}: {old.role} → {new.role}" + (f" (tree {number})" if number else "")
                    for number, end, old, new in changes if old.role != new.role]  # fmt: skip
        return Failure(what, kind, tuple(sorted(vlans)), tuple(dict.fromkeys(hosts)), moved, tuple(sorted(reformed)))

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

    def _parts(
        self, lost: set[Adjacency], device: str | None, roles: Mapping[int, Mapping[End, Role]]
    ) -> dict[int, dict[str, str]]:
        """For each VLAN the connected parts of the devices, by a device that stands for each."""
        blocked = {
            (instance, end) for instance, found in roles.items() for end, role in found.items() if not role.forwards
        }
        found: dict[int, dict[str, str]] = {}
        for group in self._alike:
            pairs = (
                (link.a.device, link.b.device)
                for link, ends in group.links
                if link not in lost and blocked.isdisjoint(ends) and device not in (link.a.device, link.b.device)
            )
            found.update(dict.fromkeys(group.vids, joined(pairs)))
        return found

    def _parts_now(self) -> dict[int, dict[str, str]]:
        """The same as things are, by the states that were observed where they were."""
        forwarding = self._context.network.fabric.trees.forwarding
        states = {end: forwarding(end).possible for link in self._links for end in (link.a, link.b)}
        found = {}
        for group in self._alike:
            for vid in group.vids:
                now = (link for link, _ in group.links if states[link.a] >> vid & 1 and states[link.b] >> vid & 1)
                found[vid] = joined((link.a.device, link.b.device) for link in now)
        return found

    def _find_alike(self) -> list[_Alike]:
        """The VLANs in groups that have the same links and follow the same instances on every device."""
        fabric = self._context.network.fabric
        carried = [
            fabric.carried(link.a).possible
            & fabric.exists(link.a.device).possible
            & fabric.carried(link.b).possible
            & fabric.exists(link.b.device).possible
            for link in self._links
        ]
        instances = {device: fabric.trees.instances(device) for device in self.at}
        alike: dict[tuple[tuple[int, ...], tuple[tuple[int, ...], ...]], list[int]] = defaultdict(list)
        for vid in vids_in(fabric.known):
            over = tuple(bits >> vid & 1 for bits in carried)
            alike[over, tuple(_followed(held, vid) for held in instances.values())].append(vid)
        found = []
        for (over, _), vids in alike.items():
            links = []
            for link, carries in zip(self._links, over, strict=True):
                if carries:
                    ends = {(i, end) for end in (link.a, link.b) for i in _followed(instances[end.device], vids[0])}
                    links.append((link, frozenset(ends)))
            found.append(_Alike(tuple(vids), tuple(links)))
        return found

    def _changes(self, roles: Mapping[int, Mapping[End, Role]]) -> Iterator[tuple[int, End, Role, Role]]:
        """The ports that do something else in other trees: before and after."""
        for instance, after in roles.items():
            for end, role in after.items():
                before = self._roles[instance].get(end)
                if before is not None and before.role != role.role:
                    yield instance, end, before, role


def _followed(instances: Mapping[int, Bounds], vid: int) -> tuple[int, ...]:
    """The instances that a VLAN may follow on a device."""
    return tuple(instance for instance, vids in instances.items() if vids.possible >> vid & 1)


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
