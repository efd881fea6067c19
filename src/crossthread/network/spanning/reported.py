"""The tree by what bridges report of their way to the root, where what decides it was not read.

Each bridge says by which port it reaches the root, and at what cost (IEEE 802.1D-2004 clause 17.18.5 and 17.18.6). A
root port forwards once the tree has settled, and so does the port at the other end of its cable, which is designated
(clause 17.3). Of two ports that are neither, that of the bridge with the lower cost, else the lower identifier, is
designated, and the other one discards.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Container, Iterable, Mapping, Sequence

from crossthread.network.topology.adjacency import Adjacency
from crossthread.network.topology.names import End
from crossthread.survey.records import Tree
from crossthread.values import NONE


def reported_forwarding(
    rows: Mapping[str, Tree], adjacencies: Sequence[Adjacency], port_of: Callable[[str, str], str | None]
) -> dict[End, bool]:
    """Whether ports forward in one instance, of those whose role follows from what both bridges report.

    Parameters
    ----------
    rows
        What each device says of the instance.
    adjacencies
        The links between bridges that are not known to be down.
    port_of
        How a device spells a port that is named otherwise.
    """
    seen, found = Counter(_ends(adjacencies)), dict[End, bool]()
    reach = {device: _root_port(device, row, port_of, seen) for device, row in rows.items()}
    root_ports = {End(device, port) for device, port in reach.items() if port}
    for link in adjacencies:
        one, two = (rows.get(end.device) for end in (link.a, link.b))
        if one is None or two is None or seen[link.a] > 1 or seen[link.b] > 1 or not _one_tree(one, two):
            continue  # with several on one medium, any of them may be the designated one
        roots = {link.a, link.b} & root_ports
        if len(roots) == 1:
            found[link.a] = found[link.b] = True
        elif not roots and None not in (reach[link.a.device], reach[link.b.device]):
            if "mstp" in (one.protocol, two.protocol):
                continue
            first, second = _offer(one), _offer(two)
            if first is not None and second is not None and first != second:
                found[link.a], found[link.b] = first < second, second < first
    return found


def _ends(adjacencies: Iterable[Adjacency]) -> list[End]:
    return [end for link in adjacencies for end in (link.a, link.b)]


def _root_port(device: str, row: Tree, port_of: Callable[[str, str], str | None], known: Container[End]) -> str | None:
    """The port by which a bridge reaches the root, as its other rows spell it; empty for the root itself.

    None if nobody read it, or it is spelled as no port that is known: which one it is cannot be said then.
    """
    told = row.root_port
    if told is None or told == NONE:
        return told and ""
    return port_of(device, told) or (told if End(device, told) in known else None)


def _one_tree(one: Tree, two: Tree) -> bool:
    """Whether two bridges surely take part in one tree: they report one root, and are in one region if that matters."""
    same = one.root_address is not None and one.root_address == two.root_address
    if one.instance and "mstp" in (one.protocol, two.protocol):
        return same and one.region is not None and one.region == two.region
    return same and one.root_priority == two.root_priority


def _offer(row: Tree) -> tuple[int, int, str] | None:
    """How good a way to the root a bridge offers: the cost, and its own identifier."""
    if row.root_cost is None or row.priority is None or row.address is None:
        return None
    return row.root_cost, row.priority, row.address
