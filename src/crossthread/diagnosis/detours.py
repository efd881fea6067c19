"""Detours: whose way to the gateway is longer than the cables would let it be."""

from __future__ import annotations

from collections import Counter, defaultdict, deque
from collections.abc import Iterator

import msgspec
from msgspec.structs import replace

from crossthread.diagnosis.context import Context
from crossthread.network.network import Network
from crossthread.network.spanning import roles as spanning
from crossthread.network.topology.adjacency import Adjacency


class Detour(msgspec.Struct, frozen=True):
    """A device whose hosts in a VLAN go a longer way to their gateway than the cables would let them.

    `hops` and `shortest` count links; `cost` and `least` are the sums of the recommended path costs of their speeds.
    """

    vid: int
    device: str
    gateway: str
    hosts: int
    hops: int
    shortest: int
    cost: int
    least: int
    way: tuple[str, ...] = ()
    short_way: tuple[str, ...] = ()


def bridge_links(network: Network) -> list[Adjacency]:
    """The links between two ports of bridges."""
    member = network.fabric.member
    return [a for a in network.adjacencies if member(a.a).bridged and member(a.b).bridged]


def find_detours(context: Context, dearer: bool = False, told: bool = True) -> Iterator[Detour]:
    """Every device and VLAN from which the active path to the gateway is longer than the shortest cabled one.

    The active path is looked for once for all VLANs that share their links, and the shortest once for all.

    Parameters
    ----------
    context
        The network.
    dearer
        Leave out the paths that are longer, but cost less.
    told
        Whether to name the devices on the ways.
    """
    network = context.network
    links = [a for a in bridge_links(network) if a.up is not False]
    cabled: _Around = defaultdict(list)
    active: _Around = defaultdict(list)
    speeds: dict[tuple[str, str], int] = {}
    for adjacency in links:
        bits = network.components.carried(adjacency)
        for near, far in ((adjacency.a, adjacency.b), (adjacency.b, adjacency.a)):
            pair = (near.device, far.device)
            cabled[near.device].append((far.device, -1))
            active[near.device].append((far.device, bits))
            row = context.port(near)
            speeds[pair] = max(speeds.get(pair, 0), (row.speed or 0) if row is not None else 0)
    costs = {pair: spanning.default_cost(speed) for pair, speed in speeds.items()}
    nearest: dict[str, _Towards] = {}
    ways: dict[tuple[str, int], tuple[_Towards, frozenset[str]]] = {}
    """For each goal and all VLANs that share their links the ways, and the devices whose way is a longer one."""
    for (vid, goal), devices in _devices_by_goal(context).items():
        group = network.components.group(vid)
        if goal not in nearest:
            nearest[goal] = _breadth_first(goal, cabled, 1, costs)
        there = nearest[goal]
        if (goal, group) not in ways:
            found_ways = _breadth_first(goal, active, 1 << vid, costs)
            ways[goal, group] = found_ways, frozenset(_longer(found_ways, there, dearer))
        here, longer = ways[goal, group]
        for device in filter(longer.__contains__, devices):
            (hops, _, cost), (shortest, _, least) = here[device], there[device]
            found = Detour(vid, device, goal, devices[device], hops, shortest, cost, least)
            if told:
                found = replace(found, way=_steps(here, device, goal), short_way=_steps(there, device, goal))
            yield found


def _longer(ways: _Towards, shortest: _Towards, dearer: bool) -> Iterator[str]:
    """The devices whose way is longer than the shortest, and dearer if that is asked."""
    for device, (hops, _, cost) in ways.items():
        near = shortest.get(device)
        if near is not None and hops > near[0] and not (dearer and cost < near[2]):
            yield device


_Around = defaultdict[str, list[tuple[str, int]]]


def _devices_by_goal(context: Context) -> dict[tuple[int, str], Counter[str]]:
    """For each VLAN, and each device that has a gateway of its hosts, how many of them are on which device."""
    found: dict[tuple[int, str], Counter[str]] = defaultdict(Counter)
    for one in context.network.classes.all:
        gateway = next(iter(context.expected.gateways(one.hosts[0])), None)
        goal = gateway.taps[0].device if gateway is not None and gateway.taps else ""
        if one.vid is None or not goal:
            continue
        found[one.vid, goal].update(one.devices or Counter(host.device for host in one.hosts if host.device))
    return found


_Towards = dict[str, tuple[int, str, int]]


def _breadth_first(start: str, around: _Around, wanted: int, costs: dict[tuple[str, str], int]) -> _Towards:
    """For each device how many links it is from one device, the next one on the way, and what the way costs."""
    towards = {start: (0, start, 0)}
    queue = deque([start])
    while queue:
        at = queue.popleft()
        depth, _, cost = towards[at]
        for other, bits in around[at]:
            if bits & wanted and other not in towards:
                towards[other] = (depth + 1, at, cost + costs.get((other, at), 0))
                queue.append(other)
    return towards


def _steps(towards: _Towards, device: str, goal: str) -> tuple[str, ...]:
    """The devices of a way."""
    found = [device]
    while found[-1] != goal:
        found.append(towards[found[-1]][1])
    return tuple(found)
