"""Where a packet gets no further, in one sentence."""

from __future__ import annotations

from crossthread.network.hosts.station import HostStation
from crossthread.network.routing.walks import Stop

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


def told(stop: Stop | None, back: bool, nobody: bool = False, unread: bool = False) -> str | None:
    """Where an echo stops, or (`back`) its reply; None if it does not.

    `nobody` has the address that it is for; the routes of the device were `unread`.
    """
    if stop is None:
        return None
    station = (
        stop.station.name if isinstance(stop.station, HostStation) else f"{stop.station.device} ({stop.station.name})"
    )
    if stop.reason == "silent" and nobody:
        return f"{station} asks for {stop.target}, which nobody has that was read"
    if stop.reason == "route" and unread:
        return f"{station} has no route to {stop.target} that was read"
    if stop.reason == "down" and isinstance(stop.station, HostStation):
        station = f"the link of {station}"
    if stop.port is not None:
        station = str(stop.port)
    says = _REASONS[stop.reason].format(station=station, target=stop.target)
    return f"the reply stops on its way back: {says}" if back else says
