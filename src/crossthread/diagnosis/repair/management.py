"""The addresses by which devices are managed: which of them a mend would part from their gateway."""

from __future__ import annotations

from typing import NamedTuple

from crossthread.diagnosis.context import Context
from crossthread.network.hosts.station import Interface
from crossthread.network.network import Network
from crossthread.network.switching.nodes import Node
from crossthread.values import NONE, address


class Managed(NamedTuple):
    """Where a device is managed, and the gateway by which others get there."""

    device: str
    place: Node
    gateway: Interface
    entry: Node
    """The VLAN on the device behind which that gateway is."""


def managed(context: Context) -> list[Managed]:
    """The devices with an address by which they are managed, where a gateway of another device serves its subnet.

    Which VLAN such an address is in is read of the interface that has it; where no interface has it, it is that of the
    subnet.
    """
    found = (_managed(context, row.device, row.management) for row in context.network.survey.devices)
    return [one for one in found if one is not None]


def _managed(context: Context, name: str, text: str | None) -> Managed | None:
    if text in (None, NONE):
        return None
    device, wanted = context.network.names.spelled[name], address(str(text))
    own = [s for s in context.network.stations.by_address.of(str(text)) if s.device == device]
    near = context.expected.near(wanted) if wanted.version == context.network.version else ()
    for gateway in (s for s in near if isinstance(s, Interface) and s.device != device):
        vid = context.expected.current_vlan(own[0] if own else gateway)
        entry = next((tap.device for tap in gateway.taps if tap.device), None)
        if vid and entry and not any(one.end for one in own):
            return Managed(device, Node(device, vid), gateway, Node(entry, vid))
    return None


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
