"""What is lost when a link or a device fails: whose VLAN falls apart, and how the trees form anew.

Each failure is worked out from how things stand: only the bridges below what fails find other ways (`standing_tree`),
so that only they, and the VLANs that reach them, have to be looked at again.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping
from typing import NamedTuple

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.detours import bridge_links
from crossthread.network.hosts.classes import HostClass
from crossthread.network.hosts.station import Station
from crossthread.network.spanning import roles as spanning
from crossthread.network.spanning.roles import Role
from crossthread.network.spanning.standing_tree import Rebuilt, StandingTree
from crossthread.network.three_valued import Bounds, vids_in
from crossthread.network.topology.adjacency import Adjacency
from crossthread.network.topology.graph import joined
from crossthread.network.topology.names import End


class Loss(NamedTuple):
    """What a failure takes.

    Attributes
    ----------
    vlans, hosts
        The VLANs that fall apart, and the hosts that lose their gateway or their peers.
    moved
        How many ports of other bridges change between forwarding and discarding.
    reformed
        How the trees form anew, port by port.
    """

    vlans: tuple[int, ...]
    hosts: tuple[str, ...]
    moved: int
    reformed: tuple[str, ...]


class _Need(NamedTuple):
    """Hosts of a VLAN on a device, and the device by which they come to their gateway (or to the first such host)."""

    vid: int
    device: str
    goal: str
    router: str
    by: frozenset[Adjacency]
    """The links of which the gateway needs one."""
    hosts: tuple[str, ...]


class _Group:
    """VLANs that have the same links and follow the same instances.

    `links` are those that carry them, each with its ports in the instances that decide whether it is open. `tree` is
    the one that all of them follow: None where there are several, or where links without a part in it may close a ring.
    """

    def __init__(
        self,
        vids: tuple[int, ...],
        links: tuple[tuple[Adjacency, frozenset[tuple[int, End]]], ...],
        trees: Mapping[int, StandingTree | None],
    ) -> None:
        self.vids, self.links = vids, links
        self.around: dict[str, list[tuple[Adjacency, str, frozenset[tuple[int, End]]]]] = defaultdict(list)
        for link, ends in links:
            self.around[link.a.device].append((link, link.b.device, ends))
            self.around[link.b.device].append((link, link.a.device, ends))
        followed = {instance for _, ends in links for instance, _ in ends}
        found = {id(trees.get(instance)): trees.get(instance) for instance in followed}
        self.tree = next(iter(found.values())) if len(found) == 1 else None
        self.parts: dict[str, str] = {}
        self.leaves: dict[str, list[str]] = defaultdict(list)
        """The devices that take no part in the tree, each at the end of one link, by the bridge at the other."""
        if self.tree is not None:
            self._find_leaves(self.tree)

    def _find_leaves(self, tree: StandingTree) -> None:
        for device, held in self.around.items():
            outside = [other for link, other, _ in held if not {link.a, link.b} <= tree.roles.keys()]
            if len(held) == 1 and outside:
                self.leaves[outside[0]].append(device)
            elif any(len(self.around[other]) > 1 for other in outside):
                self.tree = None
                return


class Failures:
    """Takes links and devices away from the trees of a network, without building it anew, and sees who loses whom."""

    def __init__(self, context: Context) -> None:
        self._context, network = context, context.network
        trees = network.fabric.trees
        self.at: dict[str, list[Adjacency]] = defaultdict(list)
        for adjacency in network.adjacencies:
            self.at[adjacency.a.device].append(adjacency)
            self.at[adjacency.b.device].append(adjacency)
        self._instances = sorted({row.instance for rows in trees.bridges.values() for row in rows})
        self._inputs = {instance: trees.inputs(instance) for instance in self._instances}
        known: dict[object, StandingTree] = {}
        self._trees: dict[int, StandingTree | None] = {}
        for instance, given in self._inputs.items():
            key = (given.bridges, given.lans)
            if not given.regions and key not in known:
                known[key] = StandingTree(dict(given.bridges), given.lans)
            self._trees[instance] = known[key] if not given.regions else None
        self._links = [a for a in bridge_links(network) if a.up is not False]
        self._groups = self._find_groups()
        self._group_of = {vid: group for group in self._groups for vid in group.vids}
        self._wanted = self._pairs()
        before = self._parts_now()
        self._met = {
            need
            for need in self._wanted
            for parts in [before.get(need.vid, {})]
            if parts.get(need.device, need.device) == parts.get(need.goal, need.goal)
        }
        self._roles = {i: trees.compute(i) for i in self._instances}
        self._blocked = _blocked(self._roles)
        for group in self._groups:
            group.parts = self._joined(group, set(), None, self._blocked)
        self._needs_at: dict[tuple[int, str], list[int]] = defaultdict(list)
        self._needs_of: dict[object, list[int]] = defaultdict(list)
        for number, need in enumerate(self._wanted):
            for device in {need.device, need.goal}:
                self._needs_at[need.vid, device].append(number)
            for thing in {need.device, need.goal, need.router, *need.by}:
                self._needs_of[thing].append(number)

    def _pairs(self) -> list[_Need]:
        stations, expected = self._context.network.stations, self._context.expected
        by_place: dict[tuple[int, str], list[tuple[HostClass, list[int]]]] = defaultdict(list)
        for one in self._context.network.classes.all:
            if one.vid is None:
                continue
            if one.plain:  # where they are stands in their rows
                near: dict[str, list[int]] = defaultdict(list)
                for number in one.hosts.numbers:
                    near[stations.places[number][0]].append(number)
                for device, numbers in near.items():
                    by_place[one.vid, device].append((one, numbers))
            else:
                for number, host in zip(one.hosts.numbers, one.hosts, strict=True):
                    if host.end is not None:
                        by_place[one.vid, host.end.device].append((one, [number]))
        first: dict[int, str] = {}
        found = []
        for (vid, device), held in by_place.items():
            gateway = next((g for one, _ in held for g in expected.gateways(one.hosts[0])), None)
            goal = gateway.taps[0].device if gateway is not None and gateway.taps else first.setdefault(vid, device)
            by = self._links_at(gateway) if gateway is not None else frozenset[Adjacency]()
            router = gateway.device if gateway is not None else ""
            if goal:
                names = tuple(stations.hosts.spelled[number] for _, numbers in held for number in numbers)
                found.append(_Need(vid, device, goal, router, by, names))
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
                near = gateways[device]
                by = self._links_at(near) or self._links_at(main)
                yield _Need(vid, near.taps[0].device, main.taps[0].device, main.device, by, tuple(served[device]))

    def _links_at(self, gateway: Station) -> frozenset[Adjacency]:
        """What the parent port of an interface is cabled to."""
        return frozenset(self._context.adjacencies_at.get(gateway.end, ())) if gateway.end is not None else frozenset()

    def without(self, gone: list[Adjacency], device: str | None = None) -> Loss:
        """What is lost without some links, and perhaps a device."""
        if None in self._trees.values() or any(group.links and group.tree is None for group in self._groups):
            return self._slowly(gone, device)
        lost, cut = set(gone), {end for a in gone for end in (a.a, a.b)}
        rebuilt: dict[int, Rebuilt] = {}
        for tree in self._trees.values():
            if tree is not None and id(tree) not in rebuilt:  # instances with equal inputs share their tree
                rebuilt[id(tree)] = tree.without(cut, device)
        numbers: set[int] = set(self._needs_of.get(device, ())) if device is not None else set()
        for adjacency in gone:
            numbers.update(self._needs_of.get(adjacency, ()))
        labels: dict[int, dict[str, object]] = {}
        for group in self._groups:
            if group.tree is None:
                continue  # a VLAN that no link carries
            below = self._touched(group, rebuilt[id(group.tree)], lost)
            if below:
                apart = self._apart(group, rebuilt[id(group.tree)], below, lost, device)
                for vid in group.vids:
                    labels[vid] = apart
                    numbers.update(n for other in below for n in self._needs_at.get((vid, other), ()))

        def part(vid: int, other: str) -> object:
            parts = self._group_of[vid].parts
            return labels.get(vid, {}).get(other, (False, parts.get(other, other)))

        vlans, hosts = self._losers(sorted(numbers), part, lost, device)
        roles = {i: rebuilt[id(tree)].roles for i, tree in self._trees.items() if tree is not None}
        return self._told(vlans, hosts, roles)

    def _touched(self, group: _Group, rebuilt: Rebuilt, lost: Collection[Adjacency]) -> set[str]:
        """The devices that may be cut off in a group's VLANs: below the failure, and those that hang on them."""
        here = {device for device in rebuilt.below if device in group.around}
        found = here | {leaf for device in here for leaf in group.leaves.get(device, ())}
        for link in lost:
            for near, far in ((link.a.device, link.b.device), (link.b.device, link.a.device)):
                if near in group.leaves.get(far, ()):
                    found.add(near)
        return found

    def _apart(
        self, group: _Group, rebuilt: Rebuilt, below: set[str], lost: Collection[Adjacency], device: str | None
    ) -> dict[str, object]:
        """For each device that was touched the part it is in now: by one of it, or by a part that was there before."""

        def place(other: str) -> tuple[bool, str]:
            return (True, other) if other in below else (False, group.parts.get(other, other))

        pairs = []
        for near in below:
            for link, far, ends in group.around[near]:
                if link in lost or device in (near, far) or any(self._closed(i, end, rebuilt) for i, end in ends):
                    continue
                pairs.append((place(near), place(far)))
        parts = joined(pairs)
        old = {parts.get((False, name), (False, name)): (False, name) for name in {n for k, n in parts if not k}}
        return {near: old.get(top, top) for near in below for top in [parts.get((True, near), (True, near))]}

    def _closed(self, instance: int, end: End, rebuilt: Rebuilt) -> bool:
        role = rebuilt.roles.get(end)
        return end in rebuilt.gone or (not role.forwards if role is not None else (instance, end) in self._blocked)

    def _losers(
        self, numbers: Iterable[int], part: Callable[[int, str], object], lost: set[Adjacency], device: str | None
    ) -> tuple[set[int], list[str]]:
        """The VLANs that fall apart and the hosts that lose, of those that may."""
        vlans: set[int] = set()
        hosts: list[str] = []
        for need in (self._wanted[number] for number in numbers):
            if device == need.device:
                hosts += need.hosts
            elif need in self._met:
                apart = part(need.vid, need.device) != part(need.vid, need.goal)
                cut_off = bool(need.by) and not need.by - lost
                if cut_off or apart or (device is not None and device in (need.goal, need.router)):
                    vlans.add(need.vid)
                    hosts += need.hosts
        return vlans, hosts

    def _told(self, vlans: set[int], hosts: list[str], roles: Mapping[int, Mapping[End, Role]]) -> Loss:
        changes = list(self._changes(roles))
        moved = sum(before.forwards != now.forwards for _, _, before, now in changes)
        reformed = [
            f"{end}: {old.role} → {new.role}" + (f" (tree {number})" if number else "")
            for number, end, old, new in changes
            if old.role != new.role
        ]
        return Loss(tuple(sorted(vlans)), tuple(dict.fromkeys(hosts)), moved, tuple(sorted(reformed)))

    def _slowly(self, gone: list[Adjacency], device: str | None) -> Loss:
        """The same where regions, or links without a part in the tree, make all of it be worked out again."""
        lost = set(gone)
        roles = self._roles_without({end for a in gone for end in (a.a, a.b)}, device)
        blocked = _blocked(roles)
        parts = {
            vid: joined_now
            for group in self._groups
            for joined_now in [self._joined(group, lost, device, blocked)]
            for vid in group.vids
        }

        def part(vid: int, other: str) -> object:
            return parts[vid].get(other, other)

        vlans, hosts = self._losers(range(len(self._wanted)), part, lost, device)
        return self._told(vlans, hosts, roles)

    def _roles_without(self, cut: set[End], device: str | None) -> dict[int, Mapping[End, Role]]:
        found: dict[int, Mapping[End, Role]] = {}
        for instance in self._instances:
            given = self._inputs[instance]
            lans = tuple(
                lan
                for lan in given.lans
                if not {e.end for e in lan} <= cut and device not in {e.end.device for e in lan}
            )
            bridges = {name: own for name, own in given.bridges if name != device}
            if given.internal:
                regions = dict(given.regions)
                found[instance] = spanning.instance_roles(bridges, lans, regions, found.get(0, {}))
            else:
                found[instance] = spanning.compute(bridges, lans, dict(given.regions))
        return found

    @staticmethod
    def _joined(
        group: _Group, lost: Collection[Adjacency], device: str | None, blocked: set[tuple[int, End]]
    ) -> dict[str, str]:
        """The connected parts of the devices in a group's VLANs, by a device that stands for each."""
        return joined(
            (link.a.device, link.b.device)
            for link, ends in group.links
            if link not in lost and blocked.isdisjoint(ends) and device not in (link.a.device, link.b.device)
        )

    def _parts_now(self) -> dict[int, dict[str, str]]:
        """The same as things are, by the states that were observed where they were."""
        forwarding = self._context.network.fabric.trees.forwarding
        states = {end: forwarding(end).possible for link in self._links for end in (link.a, link.b)}
        found = {}
        for group in self._groups:
            for vid in group.vids:
                now = (link for link, _ in group.links if states[link.a] >> vid & 1 and states[link.b] >> vid & 1)
                found[vid] = joined((link.a.device, link.b.device) for link in now)
        return found

    def _find_groups(self) -> list[_Group]:
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
            found.append(_Group(tuple(vids), tuple(links), self._trees))
        return found

    def _changes(self, roles: Mapping[int, Mapping[End, Role]]) -> Iterator[tuple[int, End, Role, Role]]:
        """The ports that do something else in other trees: before and after."""
        for instance, after in roles.items():
            for end, role in after.items():
                before = self._roles[instance].get(end)
                if before is not None and before.role != role.role:
                    yield instance, end, before, role


def _blocked(roles: Mapping[int, Mapping[End, Role]]) -> set[tuple[int, End]]:
    return {(instance, end) for instance, found in roles.items() for end, role in found.items() if not role.forwards}


def _followed(instances: Mapping[int, Bounds], vid: int) -> tuple[int, ...]:
    """The instances that a VLAN may follow on a device."""
    return tuple(instance for instance, vids in instances.items() if vids.possible >> vid & 1)
