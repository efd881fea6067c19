"""Which ports face each other, with aggregates as one port."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Mapping
from itertools import compress, count

import msgspec

from crossthread.network.three_valued import Truth, any_of
from crossthread.network.topology.links import Link
from crossthread.network.topology.names import End, Names
from crossthread.survey import Survey
from crossthread.survey.records import Port
from crossthread.values import NONE


class Adjacency(msgspec.Struct, frozen=True, eq=False):
    """Two ports, each a port or an aggregate, joined by one or several cables.

    Each is one thing: two are the same only if they are the same object, so that what is known of one is quickly found.

    Attributes
    ----------
    up
        Whether it carries frames; unknown where they may as well go to another device, as the bundle chooses.
    spread
        The ends that are aggregates whose members lead to several devices and were all seen to be attached: for such a
        one, those devices are one system (IEEE 802.1AX-2020 clause 9).
    """

    a: End
    b: End
    links: tuple[Link, ...]
    up: Truth
    spread: tuple[End, ...] = ()

    @property
    def linked(self) -> Truth:
        """Whether its cables are up, to whichever device a bundle sends a frame."""
        return True if self.up is None and any(link.up for link in self.links) else self.up

    def far(self, end: End) -> End:
        """The other end."""
        return self.b if end == self.a else self.a


def bundle(end: End, names: Names) -> End:
    """The aggregate that a port is a member of (IEEE 802.1AX), or the port itself."""
    row = names.row(end)
    if row is None or not row.lag or row.lag == NONE:
        return end
    return End(end.device, names.port(end.device, row.lag) or row.lag)


def members_of_bundles(survey: Survey, names: Names) -> frozenset[End]:
    """The ports that are members of an aggregate which has a row."""
    devices, ports, lags = (survey.column("ports", name) for name in ("device", "port", "lag"))
    places = ((devices[n], ports[n]) for n in compress(count(), lags) if lags[n] != NONE)  # of most it is not there
    members = (End(names.spelled[device], port) for device, port in places)
    return frozenset(end for end in members if names.row(bundle(end, names)) is not None)


def find_adjacencies(links: Iterable[Link], names: Names, known: Iterable[Adjacency] = ()) -> list[Adjacency]:
    """The links with the members of an aggregate taken together; up if one member is.

    Where one of those that are `known` is the same, it is taken, so that what was derived from it is found again.
    """
    before = {(adjacency.a, adjacency.b): adjacency for adjacency in known}
    together: dict[tuple[End, End], list[Link]] = defaultdict(list)
    for link in links:
        a, b = sorted((bundle(link.a, names), bundle(link.b, names)))
        together[a, b].append(link)
    leads = _far_devices(together, names)
    attached = _all_attached(together, {end for end, devices in leads.items() if len(devices) > 1}, names)
    found = []
    for (a, b), members in together.items():
        aggregates = [names.row(e) for e in (a, b)]
        down = any(row is not None and "down" in (row.admin, row.oper) for row in aggregates)
        up = False if down else any_of(link.up if _attached(link, names) else False for link in members)
        several = tuple(end for end in (a, b) if len(leads.get(end, ())) > 1) if up else ()
        up = None if several else up  # which of the devices gets a frame is the choice of the bundle
        spread = several if attached.issuperset(several) else ()
        old = before.get((a, b))
        same = old is not None and old.up is up and old.links == tuple(members) and old.spread == spread
        found.append(old if old is not None and same else Adjacency(a, b, tuple(members), up, spread))
    return found


def _all_attached(together: Mapping[tuple[End, End], Iterable[Link]], ends: set[End], names: Names) -> set[End]:
    """The aggregates among some of which all members that have a link were seen to take part, with one partner."""
    ports = (
        port for members in together.values() for link in members if link.up is not False for port in (link.a, link.b)
    )
    held = defaultdict[End, list[Port | None]](list)
    for port in ports if ends else ():
        held[bundle(port, names)].append(names.row(port))
    found = set()
    for end in ends:
        rows = [row for row in held[end] if row is not None]
        if len({row.lag_partner for row in rows} - {None}) < 2 and all(row.lag_state == "attached" for row in rows):
            found.add(end)
    return found


def _attached(link: Link, names: Names) -> bool:
    """Whether a cable is not left out of its aggregate by either end (IEEE 802.1AX clause 6.4)."""
    rows = [row for row in map(names.row, (link.a, link.b)) if row is not None]
    return not any(row.lag_state in ("detached", "standby") for row in rows)


def _far_devices(together: Mapping[tuple[End, End], Iterable[Link]], names: Names) -> dict[End, set[str]]:
    """To which devices the members of each aggregate lead that take part in it."""
    found: dict[End, set[str]] = defaultdict(set)
    for pair, members in together.items():
        for link in members:
            if link.up is not False and _attached(link, names):
                for port in (link.a, link.b):
                    end = bundle(port, names)
                    if end != port:
                        found[end].add(pair[end == pair[0]].device)
    return found


def on_a_cycle(adjacencies: Iterable[Adjacency]) -> set[int]:
    """The positions of the adjacencies that lie on a cycle of devices.

    Iterative depth-first search with low links; an edge is on no cycle if nothing below it reaches above it.

    References
    ----------
    R. Tarjan, "A note on finding the bridges of a graph", Information Processing Letters 2 (1974).
    """
    edges = [(adjacency.a.device, adjacency.b.device) for adjacency in adjacencies]
    at: dict[str, list[tuple[int, str]]] = defaultdict(list)
    for number, (a, b) in enumerate(edges):
        at[a].append((number, b))
        at[b].append((number, a))
    order: dict[str, int] = {}
    low: dict[str, int] = {}
    alone: set[int] = set()
    for root, around in at.items():
        if root in order:
            continue
        order[root] = low[root] = len(order)
        stack = [(root, -1, iter(around))]
        while stack:
            device, came_by, rest = stack[-1]
            for number, other in rest:
                if number == came_by:
                    continue
                if other in order:
                    low[device] = min(low[device], order[other])
                    continue
                order[other] = low[other] = len(order)
                stack.append((other, number, iter(at[other])))
                break
            else:
                stack.pop()
                if stack:
                    above = stack[-1][0]
                    low[above] = min(low[above], low[device])
                    if low[device] > order[above]:
                        alone.add(came_by)
    return set(range(len(edges))) - alone
