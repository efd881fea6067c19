"""The addresses by which devices are managed: which of them a mend would part from their gateway."""

from __future__ import annotations

from typing import NamedTuple

from crossthread.diagnosis.context import Context
from crossthread.network.hosts.station import Interface
from crossthread.network.network import Network
from crossthread.network.switching.nodes import Node


class Managed(NamedTuple):
    """A VLAN on a device in which that is managed, and where it meets the gateway by which others get there."""

    device: str
    place: Node
    gateway: Interface
    entry: Node
    """The VLAN on the device behind which that gateway is."""


def managed(context: Context) -> list[Managed]:
    """The devices with an address by which they are managed, where another device serves its subnet."""
    stations, told = context.network.stations, {*context.network.survey.column("devices", "management")}
    serving: dict[object, list[Interface]] = {}
    for one in stations.gateways:
        if one.address is not None:
            serving.setdefault(one.address.network, []).append(one)
    own = [s for s in stations.gateways if s.end is None and s.address is not None and str(s.address.ip) in told]
    found = []
    for station in (*stations.managed, *own):
        near = serving.get(station.address.network, ()) if station.address is not None else ()
        gateway = next((one for one in near if one.device != station.device), None)
        place, entry = (node_of(context, one) for one in (station, gateway))
        if gateway is not None and place is not None and entry is not None:
            found.append(Managed(station.device, place, gateway, entry))
    return found


def node_of(context: Context, interface: Interface | None) -> Node | None:
    """The VLAN that an interface's frames join, on the bridge where they do."""
    vid = context.expected.current_vlan(interface) if interface is not None else None
    device = next((tap.device for tap in interface.taps if tap.device), None) if interface is not None else None
    return Node(device, vid) if vid and device else None


def parted(context: Context, after: Network) -> tuple[tuple[str, str], ...]:
    """The devices that surely get from where they are managed to their gateway now, and no more in a changed copy.

    Each with the gateway's interface.
    """
    before = context.network.components
    return tuple(
        (one.device, f"{one.gateway.device} {one.gateway.name}")
        for one in context.once(managed)
        if (part := before.of(one.place)) is not None
        and part == before.of(one.entry)
        and after.components.of(one.place) != after.components.of(one.entry)
        and one.entry not in after.fabric.flood(one.place)
    )
