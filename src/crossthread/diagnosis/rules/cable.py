"""Findings about how a cable runs: speed, duplex, frame size, aggregation at its two ends."""

from __future__ import annotations

from collections.abc import Iterator

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.findings import Finding, Severity, at_port
from crossthread.diagnosis.registry import About, rule
from crossthread.network.topology.adjacency import Adjacency
from crossthread.network.topology.names import End
from crossthread.survey.records import Neighbor, Port
from crossthread.values import NONE


def _differing(
    context: Context, adjacency: Adjacency, name: str, column: str, unit: str, why: str, severity: Severity
) -> Finding | None:
    a, b = context.port(adjacency.a), context.port(adjacency.b)
    one, two = getattr(a, column, None), getattr(b, column, None)
    if one is None or two is None or one == two:
        return None
    return Finding(
        name,
        severity,
        (at_port(adjacency.a), at_port(adjacency.b)),
        f"{adjacency.a} has {column} {one}{unit}, {adjacency.b} at the other end {two}{unit}: {why}.",
        context.evidence(a, column) + context.evidence(b, column),
    )


@rule("link-speed-differs", "Link", About.LINK, differ="speed", follows="cable-fault link-lag-differs")
def link_speed_differs(context: Context, adjacency: Adjacency) -> Finding | None:
    """The two ends of a link report different speeds.

    Matters: one of the two readings is old, or there is something in between that nobody drew.
    Notice: slowness, or a link that is not what it says.
    Confirm: read both ends again; follow the cable.
    Mend: let both ends negotiate; look for a box in between.
    """
    why = "both ends of a cable run at one speed"
    return _differing(context, adjacency, "link-speed-differs", "speed", " Mb/s", why, "risks")


@rule("link-duplex-differs", "Link", About.LINK, differ="duplex")
def link_duplex_differs(context: Context, adjacency: Adjacency) -> Finding | None:
    """One end of a link runs full duplex, the other half.

    Matters: under load the half-duplex end sees late collisions, the other damaged frames, and throughput collapses.
    Notice: slowness under load, while a plain echo works.
    Confirm: compare duplex at both ends, and look at the counters of late collisions and checksum errors.
    Mend: let both ends negotiate, or set both to full duplex.
    """
    why = "frames get lost under load"
    return _differing(context, adjacency, "link-duplex-differs", "duplex", "", why, "risks")


@rule("link-mtu-differs", "Link", About.LINK, differ="mtu")
def link_mtu_differs(context: Context, adjacency: Adjacency) -> Finding | None:
    """The two ends of a link take frames of different size.

    Matters: small packets pass and large ones vanish.
    Notice: logins and small pages work, transfers hang.
    Confirm: send an echo of the larger size across with "do not fragment" set.
    Mend: set one frame size at both ends.
    """
    why = "larger frames are lost"
    return _differing(context, adjacency, "link-mtu-differs", "mtu", "", why, "risks")


@rule("link-lag-differs", "Link", About.LINK, differ="lag")
def link_lag_differs(context: Context, adjacency: Adjacency) -> Finding | None:
    """A cable is a member of an aggregate at one end only.

    Matters: one end spreads its frames over several cables, the other takes them for separate links: frames are lost,
    or a loop opens.
    Notice: half of the connections fail, or a storm.
    Confirm: compare the aggregate at both ends (IEEE 802.1AX).
    Mend: make both ends members of one aggregate, or neither.
    """
    for link in adjacency.links:
        a, b = context.port(link.a), context.port(link.b)
        if a is None or b is None or a.lag is None or b.lag is None or (a.lag == NONE) == (b.lag == NONE):
            continue
        member, alone = (link.a, link.b) if b.lag == NONE else (link.b, link.a)
        return Finding(
            "link-lag-differs",
            "risks",
            (at_port(member), at_port(alone)),
            f"{member} is a member of an aggregate, {alone} at the other end is not.",
            context.evidence(a, "lag") + context.evidence(b, "lag"),
        )
    return None


_ANNOUNCED = (
    ("pvid", "link-native-differs"),
    ("mtu", "link-mtu-differs"),
    ("duplex", "link-duplex-differs"),
    ("speed", "link-speed-differs"),
    ("lag", "link-lag-differs"),
)


@rule(
    "link-native-differs",
    "Link",
    About.NEIGHBOR,
    needs="neighbors.pvid neighbors.mtu neighbors.duplex neighbors.speed neighbors.lag",
)
def announced_differs(context: Context, row: Neighbor) -> Iterator[Finding]:
    """A neighbour announces another setting than our end of the link has (IEEE 802.1AB annex D and E).

    Matters: as for two ends that were both surveyed, only that the other end is told by the neighbour itself.
    Notice: as for the difference that it names.
    Confirm: look at the setting at both ends.
    Mend: make both ends the same.
    """
    names = context.network.names
    device = names.spelled[row.device]
    end = End(device, names.port(device, row.port) or row.port)
    own = context.port(end)
    far_device = names.neighbor_device(row)
    far_port = names.neighbor_port(far_device, row) if far_device else None
    far = context.port(End(far_device, far_port)) if far_device and far_port else None
    if own is None:
        return
    for column, name in _ANNOUNCED:
        said, ours = getattr(row, column), getattr(own, column)
        if said is None or ours is None or (far is not None and getattr(far, column) is not None):
            continue
        if column == "pvid" and own.mode == "routed":
            continue
        if (said != NONE) != (ours != NONE) if column == "lag" else said != ours:
            yield _announced(context, end, own, row, column, name)


def _announced(context: Context, end: End, own: Port, row: Neighbor, column: str, name: str) -> Finding:
    who = row.neighbor or row.neighbor_chassis or "the neighbour"
    word = {"pvid": "port VLAN", "lag": "aggregate"}.get(column, column)
    shown = [NONE if value == 0 else value for value in (getattr(own, column), getattr(row, column))]
    return Finding(
        name,
        "risks",
        (at_port(end),),
        f"{end} has {word} {shown[0]}, but {who} at the other end announces {shown[1]}.",
        context.evidence(own, column) + context.evidence(row, column, "neighbor", "neighbor_port"),
    )
