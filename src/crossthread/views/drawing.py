"""The map against the drawing: a documented list of cables, and what was really found."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

import msgspec

from crossthread.answer import Answer
from crossthread.network.given import of_network
from crossthread.network.network import Network
from crossthread.network.topology.names import End
from crossthread.plan.drawing import DrawnCable
from crossthread.views.map import MapLink, map_network


class Moved(msgspec.Struct, frozen=True):
    """A documented cable whose one end, or both, is on another port than drawn."""

    drawn: DrawnCable
    found: DrawnCable


class Drawing(Answer, frozen=True):
    """How a drawing compares: cables as drawn, those missing, those extra, those moved; and the corrected list.

    `unconfirmed` are drawn cables that only one end tells of, or of whose ends nobody read who is heard there. They are
    neither right nor wrong, and stay in the corrected list. That keeps the order of the drawing and its other columns;
    what is extra stands at its end.
    """

    right: tuple[DrawnCable, ...]
    missing: tuple[DrawnCable, ...]
    extra: tuple[DrawnCable, ...]
    moved: tuple[Moved, ...]
    corrected: tuple[DrawnCable, ...]
    unconfirmed: tuple[DrawnCable, ...] = ()


@of_network
def compare_drawing(network: Network, drawn: Iterable[DrawnCable]) -> Drawing:
    """Compare documented cables with those that were found.

    A drawn and a found cable between the same two devices, of which at least one port differs, are one that was moved;
    those that share a port are paired first. Ports are matched by any of their names.

    Parameters
    ----------
    network
        A network, a survey, or the place of one: a folder, or a `.json` or `.json.gz` file.
    drawn
        The documented cables, as `read_drawing` reads them.

    Returns
    -------
    Drawing
        What is as drawn, not confirmed, missing, extra, and moved to other ports.

    Raises
    ------
    SurveyError
        If a place was given and no survey can be read there.

    Examples
    --------
    >>> from crossthread.demo import faulty, healthy
    >>> from crossthread import DrawnCable, compare_drawing
    >>> len(compare_drawing(healthy(), [DrawnCable("galley", "port1", "ropehall", "port3")]).missing)
    0
    """
    links = map_network(network).links
    found = [cable for link in links for cable in _cables(link)]
    vague = {frozenset(_ends(cable)) for link in links if link.told_by == "one end" for cable in _cables(link)}
    wanted = [_known(network, cable) for cable in drawn]
    left = {frozenset(_ends(cable)): cable for cable in found}
    right: list[DrawnCable] = []
    unconfirmed: list[DrawnCable] = []
    open_drawn = []
    for cable in wanted:
        if left.pop(frozenset(_ends(cable)), None) is not None:
            (unconfirmed if frozenset(_ends(cable)) in vague else right).append(cable)
        else:
            open_drawn.append(cable)
    moved, missing, unread = [], [], []
    for cable in sorted(open_drawn, key=lambda c: -_likeness(c, left.values())):
        best = max(left.values(), key=lambda other: _alike(cable, other), default=None)
        if best is not None and _alike(cable, best):
            moved.append(Moved(cable, best))
            del left[frozenset(_ends(best))]
        elif any(network.covered.fully(device, "neighbors") for device in (cable.device, cable.far_device)):
            missing.append(cable)
        else:
            unread.append(cable)
    extra, gone = tuple(left.values()), {id(cable) for cable in missing}
    instead = {id(one.drawn): _as_drawn(one) for one in moved}
    corrected = (*(instead.get(id(cable), cable) for cable in wanted if id(cable) not in gone), *extra)
    return Drawing(tuple(right), tuple(missing), extra, tuple(moved), corrected, (*unconfirmed, *unread))


def _cables(link: MapLink) -> list[DrawnCable]:
    """The cables of a link: a drawing has the members of an aggregate one by one."""
    ports = [(member.a, member.b) for member in link.members] or [(link.a.port, link.b.port)]
    return [DrawnCable(link.a.device, one, link.b.device, two) for one, two in ports]


def _known(network: Network, cable: DrawnCable) -> DrawnCable:
    ends: list[str] = []
    for device, port in ((cable.device, cable.port), (cable.far_device, cable.far_port)):
        known = network.names.device(device) or device
        ends += [known, network.names.port(known, port) or port]
    device, port, far_device, far_port = ends
    return DrawnCable(device, port, far_device, far_port, cable.extra)


def _as_drawn(moved: Moved) -> DrawnCable:
    """A cable as it was found, from the end from which it was drawn, with the drawing's other columns."""
    found = moved.found
    if moved.drawn.device == found.far_device != found.device:
        found = DrawnCable(found.far_device, found.far_port, found.device, found.port)
    return msgspec.structs.replace(found, extra=moved.drawn.extra)


def _ends(cable: DrawnCable) -> Sequence[End]:
    return End(cable.device, cable.port), End(cable.far_device, cable.far_port)


def _alike(one: DrawnCable, two: DrawnCable) -> int:
    """0 if they join different devices; else 1, and more for each end that they share."""
    if {one.device, one.far_device} != {two.device, two.far_device}:
        return 0
    return 1 + len(set(_ends(one)) & set(_ends(two)))


def _likeness(cable: DrawnCable, others: Iterable[DrawnCable]) -> int:
    return max((_alike(cable, other) for other in others), default=0)
