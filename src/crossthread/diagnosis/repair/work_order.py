"""The work order of a repair: its steps in an order that works on devices.

What has to be cleared before it can be used elsewhere comes first; of two ends the far one, where the step cuts the way
to it; then whatever interrupts nothing.
"""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Sequence
from heapq import heapify, heappop, heappush
from itertools import permutations
from typing import NamedTuple

import msgspec

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.findings import Finding
from crossthread.diagnosis.repair.steps import Draft, clear, drafts, loses, put_back, wakes, words
from crossthread.diagnosis.repair.testing import bare, progress_of, test_of, to_make_sure, waiting
from crossthread.network.hosts.station import Station
from crossthread.network.network import Network
from crossthread.network.topology.adjacency import Adjacency
from crossthread.network.topology.graph import distances
from crossthread.network.topology.names import End
from crossthread.survey.changes import Change, apply_changes
from crossthread.views.class_matrix import Touch

_INTERRUPTS = {"mode", "pvid", "tagging", "lag", "vid", "address", "speed", "duplex", "untagged"}


class WorkStep(msgspec.Struct, frozen=True, omit_defaults=True):
    """One step of a work order.

    Attributes
    ----------
    device
        Where it is done; None at a host.
    says
        What to do.
    changes
        The same as changes of the survey.
    rules
        The findings that it mends.
    first
        What to make sure of before it.
    loses
        What the device forgets by it, and has to be put back; who else is moved.
    wait, wait_for
        How many seconds to wait before testing, and for what.
    test
        What works after it that did not before, of the pair that was asked about.
    reached
        Whether the network leads to the device when the step's turn comes; if not, go there.
    touches
        Who else gains and loses by it; None if that was not worked out.
    """

    device: str | None
    says: str
    changes: tuple[Change, ...]
    rules: tuple[str, ...]
    first: str | None = None
    loses: str | None = None
    wait: float = 0
    wait_for: str | None = None
    test: str | None = None
    reached: bool = True
    touches: Touch | None = None


def work_order(
    network: Network, findings: Sequence[Finding], pair: tuple[str, str] | None = None, seat: str | None = None
) -> tuple[WorkStep, ...]:
    """Put the mends of some findings into an order that works.

    Parameters
    ----------
    network
        The network as it is.
    findings
        What is to be mended.
    pair
        Two hosts; after each step it is tried how far they have got.
    seat
        The device by which the engineer is connected; the one with the most links if not given.
    """
    return worked(network, findings, pair, seat)[0]


def worked(
    network: Network, findings: Sequence[Finding], pair: tuple[str, str] | None = None, seat: str | None = None
) -> tuple[tuple[WorkStep, ...], Network]:
    """The same, and the copy of the network on which every step was made, one after the other."""
    context = Context(network)
    seat = seat or central(network)
    now, steps = network, list[WorkStep]()
    before = progress_of(network, pair) if pair else None
    woken: list[Change] = []  # made before the next step that does more, since none turns on them
    for draft in _ordered(context, drafts(findings), seat):
        told = None
        if pair is None and _wakes_hosts(context, draft):
            after, woken = now, [*woken, *draft.changes]
            wait, reason = waiting(network.survey, apply_changes(network.survey, draft.changes), draft)
        else:
            now, woken = now.mended(woken) if woken else now, []
            after = now.mended(draft.changes)
            wait, reason = waiting(now.survey, after.survey, draft)
        if pair:
            reached = progress_of(after, pair)
            told = test_of(before, reached, pair)
            before = reached
        here = draft.device is None or draft.device in _connected(now.adjacencies, seat)
        steps.append(
            WorkStep(
                draft.device,
                words(context, draft),
                draft.changes,
                draft.rules,
                to_make_sure(network, draft),
                loses(context, draft),
                wait,
                reason,
                told,
                here,
            )
        )
        now = after
    return tuple(steps), now.mended(woken) if woken else now


def _wakes_hosts(context: Context, draft: Draft) -> bool:
    """Whether a step does no more than to bring up hosts, or a port that leads to hosts only."""
    kind, device, port, *_ = (*draft.thing, "", "")
    at_hosts = kind == "hosts" or (kind == "ports" and context.at_edge(End(device, port)))
    return at_hosts and all(map(wakes, draft.changes))


def central(network: Network) -> str | None:
    """The device with the most links to others."""
    count = Counter(end.device for a in network.adjacencies for end in (a.a, a.b))
    return min(count, key=lambda device: (-count[device], device), default=None)


class _Before(NamedTuple):
    """Which steps have to come before which, by their positions."""

    reuse: set[tuple[int, int]]
    other: set[tuple[int, int]]


def _ordered(context: Context, todo: list[Draft], seat: str | None) -> list[Draft]:
    """The steps in order; where a few need each other's place, one of them is cleared first and set at the end."""
    rules = _Before(_reuse(context, todo), _needs(context, todo, seat))
    near = _connected(context.network.adjacencies, seat)
    ranks = [(d.device is not None and d.device not in near, _interrupts(context, d), n) for n, d in enumerate(todo)]
    left = set(range(len(todo)))
    done: list[Draft] = []
    cleared: set[int] = set()
    while left:
        waiting, then = Counter[int](), defaultdict[int, list[int]](list)
        for a, b in rules.reuse | rules.other:
            if a in left and b in left:
                waiting[b] += 1
                then[a].append(b)
        ready = [ranks[n] for n in left if not waiting[n]]
        heapify(ready)
        while ready:
            *_, at = heappop(ready)
            left.discard(at)
            done.append(put_back(context, todo[at]) if at in cleared else todo[at])
            for n in then[at]:
                waiting[n] -= 1
                if not waiting[n]:
                    heappush(ready, ranks[n])
        stuck = [a for a, b in rules.reuse if a in left and b in left and a not in cleared]
        if stuck:
            at = min(stuck, key=ranks.__getitem__)
            cleared.add(at)
            done.append(clear(context, todo[at]))
            rules = rules._replace(reuse={pair for pair in rules.reuse if pair[0] != at})
        else:
            rules = rules._replace(other=set())
    return done


def _reuse(context: Context, todo: Sequence[Draft]) -> set[tuple[int, int]]:
    """Who gives up a tag or an address that another takes."""
    stations = context.network.stations
    found = set()
    for n, taker in enumerate(todo):
        tag, ip = taker.sets("gateways", "vid"), taker.sets("gateways", "address") or taker.sets("hosts", "address")
        if not tag and not ip:
            continue
        for m, giver in enumerate(todo):
            if m == n:
                continue
            giving = [s for s in stations.on_device.get(giver.thing[1], ()) if s.name == giver.thing[2]]
            host = stations.hosts.get(giver.thing[2].casefold()) if giver.thing[0] == "hosts" else None
            held: list[Station] = [host] if host is not None else [*giving]
            if tag and giver.thing[:2] == taker.thing[:2] and giver.sets("gateways", "vid") is not None:
                own = [s for s in stations.on_device.get(taker.thing[1], ()) if s.name == taker.thing[2]]
                parents: set[object] = {s.row.port for s in own} or {taker.sets("gateways", "port")}
                if any(s.row.vid == int(str(tag)) and s.row.port in parents for s in held):
                    found.add((m, n))
            moves = giver.sets("gateways", "address") or giver.sets("hosts", "address")
            if ip and moves and any(s.address is not None and str(s.address.ip) == bare(ip) for s in held):
                found.add((m, n))
    return found


def _needs(context: Context, todo: Sequence[Draft], seat: str | None) -> set[tuple[int, int]]:
    """A VLAN before the ports that use it, an interface before the routes over it, the far end before the near one.

    And before all a host that has an address of another: whoever comes back finds it free.
    """
    shared = {n for n, draft in enumerate(todo) if _gives_back(context, draft)}
    found = {(n, m) for n in shared for m in range(len(todo)) if m not in shared}
    rank = {"vlans": 0, "gateways": 1, "devices": 1, "ports": 1, "routes": 2}
    on_device: dict[str, list[int]] = defaultdict(list)
    for n, one in enumerate(todo):
        on_device[one.thing[1]].append(n)
    for device, held in on_device.items():
        for n, m in permutations(held, 2) if device else ():
            if rank.get(todo[n].thing[0], 1) < rank.get(todo[m].thing[0], 1):
                found.add((n, m))
    reached = _connected(context.network.adjacencies, seat)
    for n, draft in enumerate(todo):
        if draft.thing[0] != "ports" or not _interrupts(context, draft):
            continue
        end = End(draft.thing[1], draft.thing[2])
        cut = [a for a in context.adjacencies_at.get(end, ()) if a.up is not False]
        if cut:
            beyond = reached - _connected([a for a in context.network.adjacencies if a not in cut], seat)
            found |= {(m, n) for m, other in enumerate(todo) if m != n and other.device in beyond}
    return found


def _gives_back(context: Context, draft: Draft) -> bool:
    """Whether a host gets another address than the one that somebody else has as well."""
    host = context.network.stations.hosts.get(draft.thing[2].casefold()) if draft.thing[0] == "hosts" else None
    if host is None or host.address is None or draft.sets("hosts", "address") is None:
        return False
    return len(context.network.stations.by_address.of(str(host.address.ip))) > 1


def _connected(adjacencies: Sequence[Adjacency], seat: str | None) -> set[str]:
    """The devices to which working links lead from one."""
    around: dict[str, set[str]] = defaultdict(set)
    for adjacency in adjacencies:
        if adjacency.up is not False:
            around[adjacency.a.device].add(adjacency.b.device)
            around[adjacency.b.device].add(adjacency.a.device)
    return set(distances([seat or ""], around))


def _interrupts(context: Context, draft: Draft) -> bool:
    """Whether a step stops something for a moment that works, or may."""
    if draft.thing[0] in ("trees", "tree_ports"):
        return True
    if draft.thing[0] == "ports":
        row = context.port(End(draft.thing[1], draft.thing[2]))
        if row is not None and "down" in (row.admin, row.oper):
            return False
    return any(_INTERRUPTS & set(change.cells) or change.delete for change in draft.changes)
