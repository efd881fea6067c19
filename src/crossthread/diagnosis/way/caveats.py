"""What could not be seen and could still stop a pair, or part of what it sends, though what was read says it works."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.rules.between_bridges import link_one_way
from crossthread.network.hosts.station import Interface
from crossthread.network.routing.forwarding import Walk
from crossthread.network.topology.links import Link
from crossthread.network.topology.names import End
from crossthread.views.way import Hop


def caveats(context: Context, walks: Sequence[Walk], paths: Sequence[Sequence[Hop]]) -> tuple[str, ...]:
    """Filters that nobody read, links that may pass one direction only, links that are too narrow for large packets."""
    unread: dict[str, None] = dict.fromkeys(where for walk in walks for where in _unread_filters(walk))
    found = [f"packet filters were not read at {' and '.join(unread)}: one there could still drop it"] if unread else []
    links = {link: None for path in paths for link in _links(context, path)}
    found += [says for link in links for says in (_one_way(context, link), _narrow(context, link)) if says]
    return tuple(dict.fromkeys(found))


def _unread_filters(walk: Walk) -> Iterator[str]:
    for leg in walk.legs:
        for station, column in ((leg.sender, "filter_out"), (leg.receiver, "filter_in")):
            if isinstance(station, Interface) and getattr(station.row, column) is None:
                yield f"{station.device} {station.name}"


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


def _narrow(context: Context, link: Link) -> str | None:
    sizes = {end: row.mtu for end in (link.a, link.b) if (row := context.port(end)) is not None and row.mtu}
    if len(set(sizes.values())) < 2:
        return None
    end = min(sizes, key=lambda one: sizes[one])
    return f"small packets pass; frames of over {sizes[end]} octets do not: {end} takes no larger ones"
