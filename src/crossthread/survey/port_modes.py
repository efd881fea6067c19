"""What a port's row says of its VLANs by its mode alone, whether it is written down besides or not."""

from __future__ import annotations

from collections.abc import Mapping

import msgspec

from crossthread.survey.records import Port
from crossthread.values import VlanSet

_PLAIN = ("access", "trunk")
"""The modes in which a port sends its own VLAN without a tag, and no other."""


def untagged_by_mode(port: Port) -> VlanSet | None:
    """The VLANs that a port sends without a tag if nobody says otherwise; None if that is not known."""
    own = _own(port) if port.mode in _PLAIN else None
    return own if own is None or port.mode == "access" or port.allowed is None else own & port.allowed


def that_follow(port: Port, wanted: Mapping[str, object]) -> dict[str, object]:
    """The cells that change along with others: what the row says besides, and its mode and VLAN say anyway.

    Who puts an access port into another VLAN does not have to say that frames leave it without a tag there, too.
    """
    if wanted.keys().isdisjoint(("mode", "pvid", "allowed")):
        return {}
    fresh, found = msgspec.structs.replace(port, **wanted), dict[str, VlanSet | None]()
    if "untagged" not in wanted and port.untagged == untagged_by_mode(port) and fresh.mode in _PLAIN:
        found["untagged"] = untagged_by_mode(fresh)
    if "allowed" not in wanted and port.mode == fresh.mode == "access" and port.allowed == _own(port):
        found["allowed"] = _own(fresh)
    return {column: vids for column, vids in found.items() if getattr(port, column) is not None}


def _own(port: Port) -> VlanSet | None:
    """A port's own VLAN, as a set; None if that is not known."""
    return VlanSet.of([port.pvid]) if port.pvid else VlanSet() if port.pvid is not None else None
