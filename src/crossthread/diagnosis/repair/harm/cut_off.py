"""Hosts of whom nobody read who they are: which of them a mend would cut off from others in their VLAN.

No pair that works is known of them, so that who stops by it cannot be asked; but they may work with anybody there.
"""

from __future__ import annotations

from collections import defaultdict

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.expected.unread_hosts import unlisted
from crossthread.diagnosis.repair.harm.management import node_of
from crossthread.network.network import Network
from crossthread.network.switching.components import Part
from crossthread.network.switching.nodes import Node


def cut_off(context: Context, after: Network) -> tuple[tuple[str, str], ...]:
    """The hosts without a known address that surely get to others in their VLAN, and no more in a changed copy.

    Each with one of those; a host that nobody listed by its port.
    """
    if after.components is context.network.components:
        return ()
    return tuple(
        (name, others[node])
        for names, others in context.once(_beside_unread)
        for at, name in names.items()
        for node in others
        if after.components.of(at) != after.components.of(node) and node not in after.fabric.flood(at)
    )


def _beside_unread(context: Context) -> list[tuple[dict[Node, str], dict[Node, str]]]:
    """For each connected part with hosts of unknown address where those are, and where anybody is."""
    unread: dict[Part, dict[Node, str]] = defaultdict(dict)
    for row in context.once(unlisted):
        _add(
            context, unread, Node(context.network.names.spelled[row.device], row.pvid or 0), f"{row.device} {row.port}"
        )
    hosts = context.network.stations.hosts
    told = context.network.survey.column("hosts", "address")
    for host in (hosts.at(n) for n, address in enumerate(told) if address is None):
        if host.end is not None and (vid := context.expected.current_vlan(host)):
            _add(context, unread, Node(host.end.device, vid), host.name)
    everybody: dict[Part, dict[Node, str]] = defaultdict(dict)
    for host in hosts.values() if unread else ():
        if host.end is not None and (vid := context.expected.current_vlan(host)):
            _add(context, everybody, Node(host.end.device, vid), host.name)
    for gateway in context.network.stations.gateways if unread else ():
        if (node := node_of(context, gateway)) is not None:
            _add(context, everybody, node, f"{gateway.device} {gateway.name}")
    return [(names, everybody[part]) for part, names in unread.items()]


def _add(context: Context, found: dict[Part, dict[Node, str]], node: Node, name: str) -> None:
    """Note who is at a node, if it surely is part of anything; past bridges without regard to VLANs it may change."""
    part = context.network.components.of(node) if not context.network.fabric.unaware(node.device) else None
    if part is not None:
        found[part].setdefault(node, name)
