"""What could not be seen and could still stop a pair, or part of what it sends, though what was read says it works."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import groupby

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.rules.between_bridges import link_one_way
from crossthread.network.hosts.station import Interface
from crossthread.network.routing.walks import Walk
from crossthread.network.topology.links import Link
from crossthread.network.topology.names import End
from crossthread.views.way import Hop


def caveats(context: Context, walks: Sequence[Walk], paths: Sequence[Sequence[Hop]]) -> tuple[str, ...]:
    """What nobody read, links that may pass one direction only, links that are too narrow for large packets."""
    unread: dict[str, None] = dict.fromkeys(where for walk in walks for where in _unread_filters(walk))
    found = [f"packet filters were not read at {' and '.join(unread)}: one there could still drop it"] if unread else []
    found += _unread_routes(context, walks)
    bridges = list(dict.fromkeys(hop.name for path in paths for hop in path if hop.kind == "bridge"))
    found += _taken_as_usual(context, bridges)
    links = {link: None for path in paths for link in _links(context, path)}
    found += [says for link in links for says in (_one_way(context, link), _narrow(context, link)) if says]
    found += [says for path in paths for stretch in _stretches(path) if (says := _narrower(context, stretch))]
    return tuple(dict.fromkeys(found))


def _taken_as_usual(context: Context, bridges: Sequence[str]) -> Iterator[str]:
    """What is taken to be as it usually is where nobody read it: that VLANs exist, and what a tree lets through."""
    covered, fabric = context.network.covered, context.network.fabric
    vlans = [name for name in bridges if not covered.fully(name, "vlans") and not fabric.unaware(name)]
    if vlans:
        yield f"which VLANs exist was not read of {_listed(vlans)}: one that is missing or suspended there is dropped"
    trees = [name for name in bridges if not covered.fully(name, "tree_ports") and not fabric.trees.off(name)]
    if trees:
        yield f"the ports' states in the spanning tree were not read of {_listed(trees)}: a guard may hold one closed"


def _listed(names: Sequence[str]) -> str:
    """Up to four names, and how many more there are."""
    more = f" and {len(names) - 4} more" if len(names) > 4 else ""
    return ", ".join(names[:4]) + more


def _unread_filters(walk: Walk) -> Iterator[str]:
    for leg in walk.legs:
        for station, column in ((leg.sender, "filter_out"), (leg.receiver, "filter_in")):
            if isinstance(station, Interface) and getattr(station.row, column) is None:
                yield f"{station.device} {station.name}"


def _unread_routes(context: Context, walks: Sequence[Walk]) -> Iterator[str]:
    """The routers that pass a packet on by what their interfaces say, though nobody read their routes."""
    passing = (leg.sender.device for walk in walks for leg in walk.legs if isinstance(leg.sender, Interface))
    unread = [name for name in dict.fromkeys(passing) if not context.network.covered.fully(name, "routes")]
    if unread:
        yield f"the routes of {_listed(unread)} were not read: one that discards could still drop it"


def _links(context: Context, path: Sequence[Hop]) -> Iterator[Link]:
    """The cables that a way passes."""
    for hop in path:
        for adjacency in context.adjacencies_at.get(End(hop.name, hop.leaves or ""), ()):
            yield from adjacency.links


def _one_way(context: Context, link: Link) -> str | None:
    if told := link_one_way(context, link):
        return f"frames may pass in one direction only: {told.says}"
    if bool(link.seen_a) == bool(link.seen_b):
        return None
    hears, silent = (link.a, link.b) if link.seen_a else (link.b, link.a)
    covered, rows = context.network.covered, (context.port(link.a), context.port(link.b))
    if not all(covered.fully(end.device, "neighbors") for end in (link.a, link.b)):
        return None
    devices = [context.device(end.device) for end in (link.a, link.b)]
    if any(row is not None and row.discovery not in (None, "both") for row in rows):
        return None
    if any(row is not None and row.discovery == "off" for row in devices):
        return None
    return f"{hears} hears {silent}, and {silent} hears nobody there: frames may pass in one direction only"


def _stretches(path: Sequence[Hop]) -> Iterator[list[Hop]]:
    """The bridges between two stations that send and take packets, stretch by stretch."""
    for bridged, hops in groupby(path, lambda hop: hop.kind == "bridge"):
        if bridged:
            yield list(hops)


def _narrower(context: Context, stretch: Sequence[Hop]) -> str | None:
    """A port in the middle that takes only smaller frames than both at the ends, of which no station learns."""
    ends = [End(hop.name, port) for hop in stretch for port in (hop.enters, hop.leaves) if port]
    sizes = [(row.mtu, end) for end in ends if (row := context.port(end)) is not None and row.mtu]
    if len(ends) < 4 or len(sizes) < len(ends):
        return None
    least, end = min(sizes)
    return _too_narrow(end, least) if least < min(sizes[0][0], sizes[-1][0]) else None


def _too_narrow(end: End, size: int) -> str:
    return f"small packets pass; frames of over {size} octets do not: {end} takes no larger ones"


def _narrow(context: Context, link: Link) -> str | None:
    sizes = {end: row.mtu for end in (link.a, link.b) if (row := context.port(end)) is not None and row.mtu}
    if len(set(sizes.values())) < 2:
        return None
    end = min(sizes, key=lambda one: sizes[one])
    return _too_narrow(end, sizes[end])
