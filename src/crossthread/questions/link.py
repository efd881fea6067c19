"""Both ends of one link side by side."""

from __future__ import annotations

import msgspec

from crossthread.answer import Answer
from crossthread.diagnosis.context import context_of
from crossthread.diagnosis.findings import Finding
from crossthread.errors import UnknownNameError, visible
from crossthread.network.given import of_network
from crossthread.network.network import Network
from crossthread.network.topology.names import End
from crossthread.questions.check import check, select
from crossthread.survey.records import Row, columns_of
from crossthread.values import NONE, VlanSet
from crossthread.views.map import STATES, LinkEnd

_PORT = ("admin", "oper", "mode", "pvid", "allowed", "untagged", "forbidden", "tagging", "speed", "capable_speed",
         "duplex", "mtu", "lag", "discovery", "in_errors", "crc_errors", "out_errors", "late_collisions")  # fmt: skip
_OWN = (
    "in_packets",
    "out_packets",
    "in_errors",
    "crc_errors",
    "out_errors",
    "late_collisions",
    "capable_speed",
    "discovery",
    "lag",
)
"""What may differ between two ends that agree."""


class Side(msgspec.Struct, frozen=True):
    """One fact at both ends; None where it was not observed. `differs` if the two should be the same and are not."""

    fact: str
    a: str | None
    b: str | None
    differs: bool


class LinkView(Answer, frozen=True):
    """A link: its ends, its state, what each end says of itself, and what is found there."""

    ROWS = "sides"
    a: LinkEnd
    b: LinkEnd
    state: str
    sides: tuple[Side, ...]
    findings: tuple[Finding, ...]


@of_network
def link_view(network: Network, device: str, port: str) -> LinkView:
    """Compare the two ends of the link at a port.

    Parameters
    ----------
    network
        A network, a survey, or the place of one: a folder, or a `.json` or `.json.gz` file.
    device, port
        One end of the link, by any of their names.

    Returns
    -------
    LinkView
        Both ends side by side, with what differs, and the findings there.

    Raises
    ------
    SurveyError
        If a place was given and no survey can be read there.
    UnknownNameError
        If there is no such device or port, or no link at it.

    Examples
    --------
    >>> from crossthread.demo import faulty, healthy
    >>> from crossthread import link
    >>> [side.fact for side in link(faulty(), "galley", "port1").sides if side.differs]
    ['mode', 'pvid']
    """
    known = network.names.device(device)
    context = context_of(network)
    name = network.names.port(known, port) if known else None
    if known is not None and name is None and End(known, port) in context.adjacencies_at:
        name = port  # only its neighbour tells of it
    if known is None or name is None:
        what = f"there is no device “{visible(device)}”" if known is None else f"{known} has no port “{visible(port)}”"
        raise UnknownNameError(f"{what} in this survey")
    end = End(known, name)
    faced = context.adjacencies_at.get(end) or [
        a for a in network.adjacencies if any(end in (link.a, link.b) for link in a.links)
    ]
    if not faced:
        raise UnknownNameError(f"no link was found at {end}")
    adjacency = faced[0]
    inner = next((link for link in adjacency.links if end in (link.a, link.b)), None)
    far = inner.far(end) if inner is not None and end not in (adjacency.a, adjacency.b) else adjacency.far(end)
    sides = [*_sides(context.port(end), context.port(far), _PORT)]
    sides += _carried(network, end, far)
    trees = network.fabric.trees
    for instance in sorted({i for e in (end, far) for d, p, i in trees.ports if (d, p) == e}):
        rows = [trees.ports.get((*e, instance)) for e in (end, far)]
        sides += _sides(rows[0], rows[1], ("role", "state", "cost"), f"tree {instance} ", compare=False)
    found = check(network)
    here = select(found, at=(end.device, end.port)).findings + select(found, at=(far.device, far.port)).findings
    unique = tuple({finding.identity: finding for finding in here}.values())
    return LinkView(LinkEnd(*end), LinkEnd(*far), STATES[adjacency.linked], tuple(sides), unique)


def _carried(network: Network, end: End, far: End) -> list[Side]:
    """The VLANs that each end really carries: one that does not exist on the device is none of them."""
    allowed, carried = [], []
    for one in (end, far):
        row = network.port(one)
        if row is None or row.mode not in ("trunk", "hybrid") or row.allowed is None:
            return []
        allowed.append(row.allowed)
        carried.append(VlanSet(row.allowed.bits & network.fabric.exists(one.device).possible))
    if carried == allowed:
        return []
    return [Side("carried", str(carried[0]), str(carried[1]), carried[0] != carried[1])]


def _routed(a: Row | None, b: Row | None) -> bool:
    """Whether one end routes and the other is an access port, which is no difference in itself."""
    return {getattr(row, "mode", None) for row in (a, b)} == {"routed", "access"}


def _sides(
    a: Row | None, b: Row | None, columns: tuple[str, ...], before: str = "", compare: bool = True
) -> list[Side]:
    found = []
    for column in columns:
        rows = [row for row in (a, b) if row is not None]
        values = [getattr(row, column) if row is not None else None for row in (a, b)]
        if not rows or values == [None, None]:
            continue
        kind = columns_of(type(rows[0]))[column][0]
        one, two = (None if value is None else kind.show(value) for value in values)
        alike = one == two or None in (one, two) or column in _OWN
        if column == "lag" and None not in (one, two):
            alike = (one == NONE) == (two == NONE)
        alike = alike or (column in ("mode", "pvid") and _routed(a, b))
        found.append(Side(before + column, one, two, compare and not alike))
    return found
