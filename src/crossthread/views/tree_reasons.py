"""Because of what a port has its role: the comparison of priority vectors, in words (IEEE 802.1D-2004 clause 17.6)."""

from __future__ import annotations

from collections.abc import Mapping

from crossthread.network.spanning.roles import BridgeId, Offer, Role
from crossthread.network.topology.names import End


def rivals(roles: Mapping[End, Role]) -> dict[End, tuple[End, Role]]:
    """For each designated port the best of the others on its medium."""
    found: dict[End, tuple[End, Role]] = {}
    for end, role in roles.items():
        best = role.designated
        if best != end and (best not in found or role.offer < found[best][1].offer):
            found[best] = (end, role)
    return found


def because(
    end: End,
    role: Role,
    siblings: Mapping[End, Role],
    names: Mapping[BridgeId, str],
    rival: tuple[End, Role] | None = None,
) -> str:
    """The comparison that decided a port's role, in words with the numbers."""
    if role.role == "master":
        return "the root port of its region in the common tree"
    if role.role == "root":
        return _why_root(end, role, siblings, names)
    if role.role == "designated":
        if role.offer.bridge == role.root:
            return "the root's own port"
        versus = f": {_decides(role.offer, rival[1].offer, names)} at {rival[0]}" if rival is not None else ""
        return f"offers the best way to the root on its link{versus}"
    if role.role == "backup":
        return (
            f"{role.designated} of the same bridge is better on this medium: {_decides(role.best, role.offer, names)}"
        )
    return f"{role.designated} offers a better way to the root: {_decides(role.best, role.offer, names)}"


def _why_root(end: End, role: Role, siblings: Mapping[End, Role], names: Mapping[BridgeId, str]) -> str:
    got = role.received
    via = names.get(got.bridge, str(got.bridge))
    own = f"root path cost {_cost(got)} ({_cost(role.best)} at {via} + {role.cost:,})"
    others = [
        (other.received, _receiver(other), far)
        for far, other in siblings.items()
        if far != end and other.role in ("alternate", "backup") and other.best.bridge != other.offer.bridge
    ]
    if not others:
        return f"the only way to the root: {own}"
    best, _, far = min(others, key=lambda entry: (entry[0], entry[1]))
    if best == got:
        return f"{own}, as by {far.port}; its own port identifier is lower"
    return f"{own}; by {far.port}, the next best, {_decides(got, best, names)}"


def _receiver(role: Role) -> tuple[int, int]:
    return role.offer.port


def _cost(offer: Offer) -> str:
    return f"{offer.cost:,}" + (f" + {offer.internal:,} inside the region" if offer.internal else "")


def _decides(better: Offer, worse: Offer, names: Mapping[BridgeId, str]) -> str:
    """What makes one vector better than another: the first part in which they differ (IEEE 802.1D-2004 17.6)."""
    if better.cost != worse.cost:
        return f"root path cost {better.cost:,} against {worse.cost:,}"
    if better.regional != worse.regional and (better.internal or worse.internal):
        return f"same cost {better.cost:,}, regional root {better.regional} before {worse.regional}"
    if better.internal != worse.internal:
        return f"cost inside the region {better.internal:,} against {worse.internal:,}"
    if better.bridge != worse.bridge:
        one, two = (f"{names.get(bridge, '?')} ({bridge})" for bridge in (better.bridge, worse.bridge))
        return f"same cost {_cost(better)}, lower bridge identifier of {one} than of {two}"
    return f"same cost and bridge, lower port identifier {_port_id(better.port)} than {_port_id(worse.port)}"


def _port_id(port: tuple[int, int]) -> str:
    return f"{port[0]}.{port[1]}"
