"""Where a packet gets no further, in one sentence."""

from __future__ import annotations

from crossthread.network.hosts.station import HostStation, Interface, Station
from crossthread.network.network import Network
from crossthread.network.routing.forwarding import Forwarding
from crossthread.network.routing.walks import Stop, Walk
from crossthread.values import prefix

_REASONS = {
    "address": "{station} has no IP address",
    "family": "the two hosts have no kind of IP address in common",
    "broadcast": "{target} is the broadcast address of the subnet that {station} believes to be in",
    "gateway": "{station} has no gateway for {target}",
    "gateway-outside": "the gateway {target} is outside the subnet of {station}",
    "silent": "{station} asks for {target} and gets no answer",
    "deaf-host": "{station}, which was asked to pass the packet on, is a host and does not",
    "routing": "{station} does not forward packets",
    "route": "{station} has no route to {target}",
    "loop": "the packet to {target} comes back to {station} and goes round",
    "unknown": "what {station} does was not observed",
    "filter": "a packet filter of {station} drops it",
    "down": "{station} is down",
    "discards": "{station} has a route for {target} that drops what it matches",
    "beyond": "what takes the packet for {target} on from {station} may be where nobody looked",
}


def told(stop: Stop | None, back: bool) -> str | None:
    """Where an echo stops, or (`back`) its reply; None if it does not."""
    if stop is None:
        return None
    station = _called(stop.station)
    if stop.reason == "down" and isinstance(stop.station, HostStation):
        station = f"the link of {station}"
    if stop.port is not None:
        station = str(stop.port)
    return _said(_REASONS[stop.reason].format(station=station, target=stop.target), back)


def stopped(network: Network, walk: Walk, goal: str, back: bool, nobody: bool = False) -> str | None:
    """The same of a walk to a station, where something may be that nobody read; or `nobody` has that address."""
    stop = walk.stop
    if stop is None:
        return None
    if stop.reason == "silent" and nobody:
        return _said(f"{_called(stop.station)} asks for {stop.target}, which nobody has that was read", back)
    if stop.reason == "silent" and _parted(network, stop):
        says = f"{stop.target} may be where nobody looked, and nothing gets to {goal} from there"
        return _said(says, back)
    unread = isinstance(stop.station, Interface) and network.unread.routes_of(stop.station.device)
    if stop.reason == "route" and not unread and _has_route(network, stop):
        return _said(f"{_called(stop.station)} has a route to {stop.target} that leads nowhere", back)
    says = told(stop, back) or ""
    return f"{says} that was read" if stop.reason == "route" and unread else says


def unproven(network: Network, pair: tuple[str, str], there: Walk, back: Walk) -> str | None:
    """Why a pair is not known to work once something is mended; None if it is."""
    if there.arrives and back.arrives:
        return None
    failed, goal, reply = (there, pair[1], False) if not there.arrives else (back, pair[0], True)
    if failed.arrives is None:
        return "what was not observed may still stop the " + ("reply" if reply else "echo")
    return stopped(network, failed, goal, reply)


def _called(station: Station) -> str:
    return station.name if isinstance(station, HostStation) else f"{station.device} ({station.name})"


def _said(says: str, back: bool) -> str:
    return f"the reply stops on its way back: {says}" if back else says


def _has_route(network: Network, stop: Stop) -> bool:
    """Whether a device has a route to what it does not reach: its interface or next hop is not as the route says."""
    own, target = stop.station, stop.target
    rows = network.routing.routes_in(own.device, own.row.table) if isinstance(own, Interface) else []
    return target is not None and any(target in prefix(row.prefix) for row in rows if row.origin != "connected")


def _parted(network: Network, stop: Stop) -> bool:
    """Whether something that nobody read may answer a question, so that it does not end for want of an answer."""
    if stop.target is None or stop.candidates or not network.unread.routes:
        return False
    return Forwarding(network).may_be_taken(stop.station, stop.target)
