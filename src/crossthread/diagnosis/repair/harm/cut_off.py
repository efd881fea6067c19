"""Hosts of whom nobody read who they are: which of them a mend would cut off from others in their VLAN.

No pair that works is known of them, so that who stops by it cannot be asked; but they may work with anybody there.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator
from itertools import compress, islice
from typing import NamedTuple

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.expected.unread_hosts import unlisted
from crossthread.diagnosis.repair.harm.management import node_of
from crossthread.network.network import Network
from crossthread.network.switching.components import Part
from crossthread.network.switching.nodes import Node
from crossthread.network.topology.names import End


def cut_off(context: Context, after: Network) -> tuple[tuple[str, str], ...]:
    """The hosts without a known address that surely get to others in their VLAN, and no more in a changed copy.

    Each with one of those; a host that nobody listed by its port.
    """
    if after.components is context.network.components:
        return ()
    part = after.components.of
    divided = (one for one in context.once(_beside_unread) if len({*map(part, one.unread), *map(part, one.there)}) > 1)
    return tuple(pair for one in divided for pair in islice(_parted(one, after), 1))


class _Beside(NamedTuple):
    """A connected part with hosts of unknown address: where those are, and where anybody is, each with a name."""

    unread: dict[Node, str]
    there: dict[Node, str]


def _parted(beside: _Beside, after: Network) -> Iterator[tuple[str, str]]:
    """Who is in another part afterwards than somebody who was in the same, and is not reached any other way."""
    by_part: dict[Part | None, list[Node]] = defaultdict(list)
    for node in beside.there:
        by_part[after.components.of(node)].append(node)
    for at, name in beside.unread.items():
        others = (nodes for part, nodes in by_part.items() if part != after.components.of(at))
        reached = after.fabric.flood(at)
        yield from ((name, beside.there[node]) for nodes in others for node in nodes if node not in reached)


def _beside_unread(context: Context) -> list[_Beside]:
    """For each connected part with hosts of unknown address where those are, and where anybody is."""
    unread: dict[Part, dict[Node, str]] = defaultdict(dict)
    for row in context.once(unlisted):
        device = context.network.names.spelled[row.device]
        _add(context, unread, Node(device, row.pvid or 0), f"{device} {row.port}")
    hosts = context.network.stations.hosts
    told = context.network.survey.column("hosts", "address")
    for host in (hosts.at(n) for n, address in enumerate(told) if address is None):
        if host.end is not None and (vid := context.expected.current_vlan(host)):
            _add(context, unread, Node(host.end.device, vid), host.name)
    everybody: dict[Part, dict[Node, str]] = defaultdict(dict)
    for node, name in _plugged_in(context) if unread else ():
        _add(context, everybody, node, name)
    for gateway in context.network.stations.gateways if unread else ():
        if (entry := node_of(context, gateway)) is not None:
            _add(context, everybody, entry, f"{gateway.device} {gateway.name}")
    return [_Beside(names, everybody[part]) for part, names in unread.items()]


def _plugged_in(context: Context) -> Iterator[tuple[Node, str]]:
    """The VLANs on devices in which hosts are, each once, with a port of it or a host; a host is made for few only."""
    survey, network = context.network.survey, context.network
    columns = (survey.column("ports", name) for name in ("device", "port", "mode", "pvid"))
    found: dict[tuple[str, int], str] = {}
    for device, port, mode, pvid in compress(zip(*columns, strict=True), context.taken_rows):
        if mode == "access" and pvid:
            found.setdefault((device, pvid), port)
        for host in network.hosts_at(End(network.names.spelled[device], port)) if mode != "access" else ():
            if vid := context.expected.current_vlan(host):
                yield Node(network.names.spelled[device], vid), host.name
    for (device, vid), port in found.items():
        yield Node(network.names.spelled[device], vid), f"{network.names.spelled[device]} {port}"


def _add(context: Context, found: dict[Part, dict[Node, str]], node: Node, name: str) -> None:
    """Note who is at a node, if it surely is part of anything; past bridges without regard to VLANs it may change."""
    part = context.network.components.of(node) if not context.network.fabric.unaware(node.device) else None
    if part is not None:
        found[part].setdefault(node, name)
