"""What a survey does not say, table by table: what was read of whom, and what cannot be told because of the rest."""

from __future__ import annotations

import msgspec

from crossthread.network.network import Network
from crossthread.views.heard import heard_of

_CONSEQUENCES = {
    "ports": "modes and VLANs of ports, their states, speeds and errors",
    "neighbors": "which port is cabled to which",
    "gateways": "which device routes for whom, and with which addresses",
    "routes": "where packets for other subnets go",
    "trees": "which bridge is root, and what it decides",
    "tree_ports": "which ports the spanning tree blocks",
}
"""What cannot be told without a table, in the order in which one reads them."""
TABLES_IN_WORDS = {
    "devices": "system description",
    "ports": "port table",
    "vlans": "VLAN list",
    "neighbors": "neighbour table",
    "gateways": "routing interfaces",
    "routes": "routing table",
    "trees": "spanning-tree settings",
    "tree_ports": "spanning-tree ports",
    "macs": "filtering database",
    "arp": "ARP cache",
    "cables": "cable tests",
}
"""How a table of a device is called where somebody is asked to read it."""


class NotRead(msgspec.Struct, frozen=True, omit_defaults=True):
    """A table that was not read of some devices, or a device that was not surveyed, and what cannot be told for that.

    Attributes
    ----------
    says
        What to read, or whom to survey.
    means
        What cannot be told.
    table
        The table; None for a device.
    devices
        The devices concerned.
    """

    says: str
    means: str
    table: str | None = None
    devices: tuple[str, ...] = ()


def not_read(network: Network) -> tuple[NotRead, ...]:
    """What nobody read and something turns on: tables of surveyed devices, then devices that were only heard of."""
    covered, found = network.covered, []
    bridges = {device for device in covered.surveyed if _bridges(network, device)}
    for table, means in _CONSEQUENCES.items():
        asked = bridges if table in ("trees", "tree_ports") else covered.surveyed
        lacking = tuple(sorted(device for device in asked if not covered.fully(device, table)))
        if table in ("gateways", "routes"):
            lacking = tuple(device for device in lacking if network.routing.on(device) is not False)
        if lacking:
            found.append(NotRead(f"read the {TABLES_IN_WORDS[table]} of {listed(lacking)}", means, table, lacking))
    if not len(network.survey.hosts):
        found.append(NotRead("list some hosts: address, gateway and port of each", "who reaches whom", "hosts"))
    open_to = {one.name for one in network.open_ends.values()}
    for device in heard_of(network):
        if device.name in open_to or not open_to.isdisjoint({row.neighbor_chassis for _, row in device.rows}):
            address = device.first("management")
            reached = f", {address}" if address else ""
            says = f"survey {device.name}{reached}, heard at {device.rows[0][0]}"
            found.append(NotRead(says, "what is beyond it", None, (device.name,)))
    return tuple(found)


def _bridges(network: Network, device: str) -> bool:
    row = network.device(device)
    return row is None or row.capabilities is None or "bridge" in row.capabilities


def listed(names: tuple[str, ...], most: int = 6) -> str:
    """Some names, and how many more there are."""
    more = f" and {len(names) - most} more" if len(names) > most else ""
    return ", ".join(names[:most]) + more
