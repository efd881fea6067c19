"""Which bridge should be root: the one from which hosts have the shortest way to their gateway, and its backup."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Mapping

import msgspec

from crossthread.answer import Answer
from crossthread.diagnosis.context import Context, context_of
from crossthread.diagnosis.rules.tree import priorities_for
from crossthread.network.given import of_network
from crossthread.network.network import Network
from crossthread.network.spanning import roles as spanning
from crossthread.network.spanning.inputs import TreeInputs
from crossthread.network.spanning.roles import BridgeId, Role
from crossthread.network.three_valued import vids_in
from crossthread.network.topology.names import End
from crossthread.survey.changes import Change
from crossthread.values import VlanSet

_CANDIDATES = 24
_WORTH = 0.9
"""A root is worth moving if the hosts' ways become shorter by a tenth at least."""


class Advice(msgspec.Struct, frozen=True):
    """Which root and backup root an instance should have.

    Attributes
    ----------
    root, backup
        The devices; the backup is the best root if the first one is gone.
    now
        Who is root now.
    hops_now, hops_then
        Links between hosts and their gateways, added up over all hosts.
    idle_now, idle_then
        Links that carry no data of the instance.
    changes
        The priorities to set.
    moves
        How many ports would change between forwarding and discarding.
    """

    instance: int
    vlans: str
    root: str
    backup: str | None
    now: str | None
    hops_now: int
    hops_then: int
    idle_now: int
    idle_then: int
    changes: tuple[Change, ...]
    moves: int


class TreeAdvice(Answer, frozen=True):
    """Advice for every instance; and which instances share all their links, so that one uplink of two stays idle."""

    ROWS = "advice"
    advice: tuple[Advice, ...]
    spreading: tuple[str, ...]


@of_network
def tree_advice(network: Network) -> TreeAdvice:
    """Try every likely root of every instance, and count the links that frames would cross.

    Parameters
    ----------
    network
        A network, a survey, or the place of one: a folder, or a `.json` or `.json.gz` file.

    Returns
    -------
    TreeAdvice
        For every instance the root and backup root that make the hosts' ways shortest, and the priorities to set.

    Raises
    ------
    SurveyError
        If a place was given and no survey can be read there.

    Examples
    --------
    >>> from crossthread.demo import faulty, healthy
    >>> tree_advice(healthy()).advice[0].root
    'core-east'
    """
    trees = network.fabric.trees
    instances = sorted({row.instance for rows in trees.bridges.values() for row in rows if row.protocol != "off"})
    needs = _needs(context_of(network))
    found = [advice for instance in instances if (advice := _advise(network, instance, needs)) is not None]
    return TreeAdvice(tuple(found), tuple(_spreading(network, found, needs)))


def _needs(context: Context) -> Counter[tuple[int, str, str]]:
    """How many hosts of a VLAN on a device need which device for their gateway."""
    found: Counter[tuple[int, str, str]] = Counter()
    for one in context.network.classes.all:
        gateway = next(iter(context.expected.gateways(one.hosts[0])), None)
        if one.vid is not None and gateway is not None and gateway.taps and gateway.taps[0].device:
            at = one.devices if one.plain else Counter(host.end.device for host in one.hosts if host.end is not None)
            for device, count in at.items():
                found[one.vid, device, gateway.taps[0].device] += count
    return found


def _advise(network: Network, instance: int, needs: Counter[tuple[int, str, str]]) -> Advice | None:
    given = network.fabric.trees.inputs(instance)
    if len(given.bridges) < 2:
        return None
    vids = 0
    for device, _ in given.bridges:
        vids |= network.fabric.trees.instances(device).get(instance, (0, 0))[0]
    wanted = Counter[tuple[str, str]]()
    for (vid, device, goal), count in needs.items():
        wanted[device, goal] += count if vids >> vid & 1 else 0
    degree = Counter(e.end.device for lan in given.lans for e in lan)
    goals = Counter[str]()
    for (_, goal), count in wanted.items():
        goals[goal] += count
    names = [device for device, _ in given.bridges]
    likely = sorted(names, key=lambda d: (-goals[d], -degree[d], d))[:_CANDIDATES]
    now = spanning.compute(dict(given.bridges), given.lans, dict(given.regions))
    hops_now = _hops(now, wanted)
    best = min(likely, key=lambda d: (_hops(_with_root(given, d), wanted), -goals[d], -degree[d], d))
    current = min(given.bridges, key=lambda pair: pair[1])
    if _hops(_with_root(given, best), wanted) > _WORTH * hops_now:
        best = current[0]  # not worth the break
    then = _with_root(given, best)
    rest = [d for d in likely if d != best]
    backup = min(rest, key=lambda d: (_hops(_with_root(given, d, best), wanted), -degree[d], d), default=None)
    second = min((pair for pair in given.bridges if pair[0] != best), key=lambda pair: pair[1])[0]
    if backup is not None and best == current[0] and dict(given.bridges)[second].priority < 32768:
        lost = [_hops(_with_root(given, device, best), wanted) for device in (backup, second)]
        backup = second if lost[0] >= _WORTH * lost[1] else backup
    changes = priorities_for(instance, best, backup, dict(given.bridges))
    moves = sum(now[end].forwards != role.forwards for end, role in then.items())
    return Advice(
        instance,
        str(VlanSet(vids & network.fabric.known)),
        best,
        backup,
        current[0],
        hops_now,
        _hops(then, wanted),
        _idle(given, now),
        _idle(given, then),
        changes,
        moves,
    )


def _with_root(given: TreeInputs, root: str, gone: str | None = None) -> dict[End, Role]:
    """The roles with another root, and perhaps without a bridge."""
    bridges = {device: own for device, own in given.bridges if device != gone}
    bridges[root] = BridgeId(-1, bridges[root].address)
    lans = [lan for lan in given.lans if gone not in {e.end.device for e in lan}]
    return spanning.compute(bridges, lans, dict(given.regions))


def _hops(roles: dict[End, Role], wanted: Mapping[tuple[str, str], int]) -> int:
    """Links between hosts and gateways along the active tree, each host counted."""
    above: dict[str, str] = {}
    for end, role in roles.items():
        if role.role == "root":
            above[end.device] = role.designated.device
    depth: dict[str, list[str]] = {}

    def up(device: str) -> list[str]:
        if device not in depth:
            way = [device]
            while way[-1] in above:
                way.append(above[way[-1]])
            depth[device] = way
        return depth[device]

    total = 0
    for (device, goal), count in wanted.items():
        here, there = up(device), up(goal)
        if here[-1] != there[-1]:
            continue
        while len(here) > 1 and len(there) > 1 and here[-2:] == there[-2:]:
            here, there = here[:-1], there[:-1]
        total += count * (len(here) + len(there) - 2)
    return total


def _idle(given: TreeInputs, roles: dict[End, Role]) -> int:
    return sum(any(e.end in roles and not roles[e.end].forwards for e in lan) for lan in given.lans)


def _spreading(network: Network, found: list[Advice], needs: Counter[tuple[int, str, str]]) -> list[str]:
    """How VLANs could share redundant uplinks."""
    idle = [advice for advice in found if advice.idle_then]
    if not idle:
        return []
    if len(found) == 1:
        goals: dict[str, list[int]] = defaultdict(list)
        for vid in vids_in(network.fabric.known):
            served = Counter[str]()
            for (other, _, goal), count in needs.items():
                if other == vid:
                    served[goal] += count
            if served:
                goals[served.most_common(1)[0][0]].append(vid)
        one = found[0]
        vlans = sorted(vid for held in goals.values() for vid in held)
        if len(vlans) < 2 or one.backup is None:
            return []
        first = goals.get(one.root, [])
        rest = [vid for vid in vlans if vid not in first]
        if not first or not rest:
            first, rest = vlans[::2], vlans[1::2]
        return [
            f"One tree serves all VLANs, so {one.idle_then} links stay idle. With two instances, or a tree per VLAN: "
            f"VLAN {' '.join(map(str, first))} with the root {one.root}, VLAN {' '.join(map(str, rest))} with the root "
            f"{one.backup}; each is the other's backup."
        ]
    roots = Counter(advice.root for advice in found)
    if len(roots) == 1 and found[0].backup:
        half = [str(advice.instance) for advice in found[1::2]]
        return [
            f"All trees would have the root {found[0].root}. Giving instances {' '.join(half)} the root "
            f"{found[0].backup} uses the other uplinks as well."
        ]
    return []
