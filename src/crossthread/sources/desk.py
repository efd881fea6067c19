"""At a desk: which switch and port a cable leads to, by what is heard on it: a capture, or a daemon's neighbours."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import msgspec

from crossthread.answer import Answer
from crossthread.errors import Problem, SurveyError, UnreadableError
from crossthread.sources.documents import recognise
from crossthread.sources.frames.capture import Capture, port_name, read_capture
from crossthread.sources.listings import discovery_daemon as daemon
from crossthread.values import NONE


class Socket(msgspec.Struct, frozen=True, omit_defaults=True):
    """The far end of the cable, as it says itself.

    Attributes
    ----------
    device, port, description
        The switch, its port, and the port's description.
    vlan, voice
        The VLAN that untagged frames join there, and the one that a phone is told to use.
    management, capabilities, software
        Where the switch is managed, what it does, and what it says that it runs.
    hold_time
        For how many seconds what it said holds.
    at
        The own interface on which it was heard, if that was told.
    left
        Whether its last word was a farewell.
    """

    device: str
    port: str | None = None
    description: str | None = None
    vlan: int | None = None
    voice: int | None = None
    management: str | None = None
    capabilities: tuple[str, ...] = ()
    software: str | None = None
    hold_time: float | None = None
    at: str | None = None
    left: bool = False


class TreeRootSeen(msgspec.Struct, frozen=True):
    """A root of the spanning tree as it is seen from here: its identifier, and what the way to it costs."""

    root: str
    cost: int
    vid: int


class Talker(msgspec.Struct, frozen=True):
    """Somebody else who talks on this segment."""

    mac: str
    address: str
    vid: int


class Desk(Answer, frozen=True):
    """Where a cable leads, and what goes on there.

    Attributes
    ----------
    sockets
        Who announced itself as the far end; several if something in between passes announcements on.
    roots
        The roots of the spanning trees that were heard.
    tagged
        The VLANs of which tagged frames were heard.
    talkers
        Who else talks here.
    malformed
        What could not be read, and how often: frames, or a capture that breaks off.
    kept
        The file in which what was heard is kept, if it was.
    """

    ROWS = "sockets"
    sockets: tuple[Socket, ...]
    roots: tuple[TreeRootSeen, ...] = ()
    tagged: tuple[int, ...] = ()
    talkers: tuple[Talker, ...] = ()
    malformed: dict[str, int] = msgspec.field(default_factory=dict)
    kept: str | None = None


def desk(source: str | Path) -> Desk:
    """Say which switch and port is at the other end of the cable on which something was heard.

    Parameters
    ----------
    source
        A capture (pcap or pcapng), or the neighbours of a discovery daemon as JSON.

    Returns
    -------
    Desk
        Switch, port, VLANs, management address, roots of trees, and who else talks.

    Raises
    ------
    SurveyError
        If it cannot be read, or is neither.
    """
    label = str(source)
    try:
        found = recognise(Path(source).read_bytes())
        if found is not None and found[0] == "capture":
            return desk_of_capture(read_capture(found[1]))
    except (OSError, UnreadableError) as error:
        says = f"cannot be read: {getattr(error, 'strerror', None) or error}"
        raise SurveyError([Problem(label, says)]) from None
    if found is None or found[0] != "lldp-neighbors":
        raise SurveyError([Problem(label, "expected a capture, or a discovery daemon's neighbours as JSON")])
    return Desk(tuple(_of_daemon(found[1], label)))


def desk_of_capture(capture: Capture, at: str | None = None) -> Desk:
    """Where the cable leads on which something was captured, `at` an own interface."""
    sockets = []
    for heard in capture.heard:
        unit = heard.unit
        management = unit.management[0] if unit.management else None
        sockets.append(
            Socket(
                unit.name or unit.chassis,
                port_name(unit),
                unit.port_description,
                unit.pvid or None,
                unit.voice,
                management,
                unit.enabled or (),
                unit.description,
                unit.ttl,
                at,
                heard.left,
            )
        )
    roots = tuple(TreeRootSeen(f"{t.root_priority}/{t.root_address}", t.root_cost, vid) for vid, t, _ in capture.roots)
    talkers = tuple(Talker(mac, address, vid) for vid, mac, address in capture.talkers)
    return Desk(tuple(sockets), roots, tuple(sorted(capture.tagged)), talkers, capture.malformed)


def _of_daemon(document: dict[str, object], label: str) -> Iterator[Socket]:
    voices = daemon.voice_vlans(document)
    for row in daemon.read_neighbors("", document, label):
        management = row.management if row.management != NONE else None
        yield Socket(
            row.neighbor or row.neighbor_chassis or "?",
            row.neighbor_port,
            row.neighbor_port_description,
            row.pvid or None,
            voices.get(row.port),
            management,
            row.capabilities or (),
            row.platform,
            row.ttl,
            row.port,
        )
