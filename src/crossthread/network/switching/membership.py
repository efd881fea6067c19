"""What a port does with VLANs: which it carries, tagged or not, and what an untagged frame joins."""

from __future__ import annotations

import msgspec

from crossthread.network.three_valued import ANYTHING, EVERYTHING, NOTHING, Bounds, Truth
from crossthread.survey.records import Port
from crossthread.values import NO_VID


class Membership(msgspec.Struct, frozen=True):
    """A bridge port's part in the VLANs (IEEE 802.1Q clauses 6.9 and 8.6; points 2 and 3 of the forwarding model)."""

    tagged: Bounds
    """VIDs that leave with a tag."""
    untagged: Bounds
    """VIDs that leave without."""
    accepts: Bounds
    """VIDs that may arrive with a tag."""
    pvid: int | None
    """What an untagged frame joins; `NO_VID`: nothing, it is dropped; None: not observed."""
    joins: Bounds
    """The VIDs that an untagged frame may join; the PVID has to be in it."""
    tagging: str
    """The tag type; empty where frames of any go through."""
    bridged: bool
    """False for a routed port, which is no port of the bridge."""
    tunnel: Truth = False
    """Whether what arrives with a tag travels inside VLAN `pvid`, and leaves at such a port only, as it came.

    None: its mode was not observed.
    """


CLOSED = Membership(NOTHING, NOTHING, NOTHING, NO_VID, NOTHING, "802.1q", True)
"""A port that carries nothing, such as one whose station was not authorized (IEEE 802.1X)."""
UNOBSERVED = Membership(ANYTHING, ANYTHING, ANYTHING, None, ANYTHING, "802.1q", True, tunnel=None)
ROUTED = Membership(NOTHING, NOTHING, NOTHING, NO_VID, NOTHING, "802.1q", False)


def passing(row: Port | None, bare: int) -> Membership:
    """What a port of a bridge without regard to VLANs does (IEEE 802.1D): what comes in goes out as it is.

    Parameters
    ----------
    row
        The survey's row of the port.
    bare
        The VLAN that frames without a tag are in there, by the ports that face such a bridge; `BARE` if that is not
        one. Frames with its tag may come in all the same, and would not be in it.
    """
    if row is not None and row.mode == "routed":
        return ROUTED
    if row is not None and row.authorized == "no":
        return msgspec.structs.replace(CLOSED, pvid=bare)
    own = Bounds.exactly(1 << bare)
    tagged = EVERYTHING.without(own)
    return Membership(tagged, own, Bounds(tagged.sure, EVERYTHING.possible), bare, own, "", True)


def membership(row: Port | None) -> Membership:
    """What the survey's row of a port says about its VLANs; unknown stays unknown."""
    if row is None:
        return UNOBSERVED
    if row.mode == "routed":
        return ROUTED
    if row.authorized == "no":
        return msgspec.structs.replace(CLOSED, pvid=row.pvid)
    port = _by_mode(row)
    if row.ingress_filter == "no" and row.mode in ("trunk", "hybrid"):
        # What it does not carry comes in all the same; but there are devices that say so and filter nevertheless.
        accepts, joins = (Bounds(known.sure, EVERYTHING.possible) for known in (port.accepts, port.joins))
        port = msgspec.structs.replace(port, accepts=accepts, joins=joins)
    return _admitting(port, row.frames)


def _admitting(port: Membership, frames: str | None) -> Membership:
    """The same for a port that admits only tagged, or only untagged frames (IEEE 802.1Q clause 6.9)."""
    if frames == "tagged":
        return msgspec.structs.replace(port, joins=NOTHING)
    return msgspec.structs.replace(port, accepts=NOTHING) if frames == "untagged" else port


def _by_mode(row: Port) -> Membership:
    tagging = (row.tagging or "802.1Q").casefold()
    own = ANYTHING if row.pvid is None else Bounds.exactly(1 << row.pvid & EVERYTHING.sure)
    if row.mode == "access":
        phone = Bounds.exactly(1 << row.voice) if row.voice and row.voice != row.pvid else NOTHING
        return Membership(phone, own, phone, row.pvid, own, tagging, True)
    if row.mode == "tunnel":  # what is tagged travels inside VLAN `pvid`, and comes out with its tag
        return Membership(NOTHING, own, NOTHING, row.pvid, own, tagging, True, tunnel=True)
    if row.mode is None:
        return Membership(ANYTHING, ANYTHING, ANYTHING, row.pvid, ANYTHING, tagging, True, tunnel=None)
    carried = ANYTHING if row.allowed is None else Bounds.exactly(row.allowed.bits)
    if row.untagged is not None:
        untagged = carried.both(Bounds.exactly(row.untagged.bits))
    elif row.mode == "hybrid":
        untagged = Bounds(0, carried.possible)
    else:
        untagged = carried.both(own)
    return Membership(carried.without(untagged), untagged, carried, row.pvid, carried, tagging, True)
