"""What a spanning tree does: who is root and how it became that, what each port does and because of what."""

from __future__ import annotations

import heapq
from collections import Counter, defaultdict
from collections.abc import Mapping

import msgspec

from crossthread.answer import Answer
from crossthread.errors import UnknownNameError
from crossthread.network.given import of_network
from crossthread.network.network import Network
from crossthread.network.spanning.roles import BridgeId, Role
from crossthread.network.topology.names import End
from crossthread.survey.records import Tree
from crossthread.values import VlanSet
from crossthread.views.tree_reasons import because, rivals
from crossthread.views.tree_roots import TreeRoot, reported_roots, root_of


class TreeBridge(msgspec.Struct, frozen=True, omit_defaults=True):
    """A bridge in a tree: its identifier, its root port and its root path cost; `region` where it is in one."""

    device: str
    identifier: str
    root: str
    root_port: str | None = None
    root_cost: int | None = None
    internal_cost: int | None = None
    region: str | None = None
    observed_root: str | None = None


class TreePortAnswer(msgspec.Struct, frozen=True, omit_defaults=True):
    """A port in a tree: what the standard gives and because of what, and what was observed."""

    device: str
    port: str
    role: str
    state: str
    because: str
    observed_role: str | None = None
    observed_state: str | None = None
    far: str | None = None


class TreeAnswer(Answer, frozen=True):
    """One instance of the spanning tree.

    Attributes
    ----------
    instance, vlans, protocols
        Its number, which VLANs follow it, and what its bridges run.
    root
        The root's device; None if it is not known. Where parts are not connected, that of the largest part.
    roots
        Every root, with how it became one.
    bridges, ports
        What each does; ports without a link to another bridge are left out.
    missing
        What was not observed, and keeps roles from being computed.
    """

    ROWS = "ports"
    instance: int
    vlans: str
    protocols: tuple[str, ...]
    root: str | None
    roots: tuple[TreeRoot, ...]
    bridges: tuple[TreeBridge, ...]
    ports: tuple[TreePortAnswer, ...]
    missing: tuple[str, ...]


class TreeOverview(Answer, frozen=True):
    """Every instance with its root and how many of its links' ends are blocked."""

    ROWS = "instances"
    instances: tuple[TreeAnswer, ...]


@of_network
def instance_of(network: Network, vid: int) -> int:
    """The instance that a VLAN follows on most devices.

    Parameters
    ----------
    network
        A network, a survey, or the place of one: a folder, or a `.json` or `.json.gz` file.
    vid
        The VLAN, from 1 to 4094.

    Returns
    -------
    int
        The number of the instance.

    Raises
    ------
    SurveyError
        If a place was given and no survey can be read there.
    UnknownNameError
        If no device says that it runs a tree for this VLAN.

    Examples
    --------
    >>> from crossthread.demo import faulty, healthy
    >>> instance_of(healthy(), 20)
    0
    """
    trees = network.fabric.trees
    count: Counter[int] = Counter()
    for device in trees.bridges:
        for instance, vids in trees.instances(device).items():
            count[instance] += bool(vids.possible >> vid & 1) + bool(vids.sure >> vid & 1)
    best = max(count, key=lambda instance: (count[instance], -instance), default=None)
    if best is None or not count[best]:
        raise UnknownNameError(f"no device in this survey runs a spanning tree for VLAN {vid}")
    return best


@of_network
def tree_overview(network: Network) -> TreeOverview:
    """Every instance; a tree per VLAN has one for each VLAN.

    Parameters
    ----------
    network
        A network, a survey, or the place of one: a folder, or a `.json` or `.json.gz` file.

    Returns
    -------
    TreeOverview
        Every instance as `tree` gives it; a tree per VLAN has one for each VLAN.

    Raises
    ------
    SurveyError
        If a place was given and no survey can be read there.

    Examples
    --------
    >>> from crossthread.demo import faulty, healthy
    >>> len(tree_overview(healthy()).instances)
    1
    """
    instances = sorted({row.instance for rows in network.fabric.trees.bridges.values() for row in rows})
    return TreeOverview(tuple(tree(network, instance) for instance in instances))


@of_network
def tree(network: Network, instance: int, explained: bool = True) -> TreeAnswer:
    """Work out one instance, and set what was observed beside it.

    Parameters
    ----------
    network
        A network, a survey, or the place of one: a folder, or a `.json` or `.json.gz` file.
    instance
        The tree's number; `instance_of` tells it for a VLAN.
    explained
        Whether each port says because of what it does what it does; putting that into words takes longest.

    Returns
    -------
    TreeAnswer
        The root, and what each bridge and port does by the standard (IEEE 802.1D-2004 clause 17, 802.1Q), beside what
        was observed.

    Raises
    ------
    SurveyError
        If a place was given and no survey can be read there.

    Examples
    --------
    >>> from crossthread.demo import faulty, healthy
    >>> tree(healthy(), 0).root
    'core-east'
    """
    trees = network.fabric.trees
    given, roles = trees.inputs(instance), trees.compute(instance)
    rows = {device: row for device, held in trees.bridges.items() for row in held if row.instance == instance}
    known = dict(given.bridges)
    names = {own: device for device, own in known.items()}
    roles = dict(roles)  # those that are made when looked at, only once
    by_device: dict[str, dict[End, Role]] = defaultdict(dict)
    for end, role in roles.items():
        by_device[end.device][end] = role
    reported = reported_roots(network, {device: row for device, row in rows.items() if device not in known})
    bridges = [
        _bridge(device, row, known.get(device), by_device.get(device, {}), names, reported)
        for device, row in rows.items()
    ]
    alone = {device for device in known if device not in by_device}
    root_ids = {role.root for role in roles.values()} | {known[device] for device in alone}
    parts: dict[str, list[BridgeId]] = defaultdict(list)
    for bridge in bridges:
        if bridge.device in known:
            parts[bridge.root].append(known[bridge.device])
    found = sorted((own for own in root_ids if own in names), key=lambda own: (-len(parts[names[own]]), own))
    roots = [root_of(names[own], own, heapq.nsmallest(2, parts[names[own]]), len(found) > 1) for own in found]
    roots += [root for root in reported.values() if root.device not in {other.device for other in roots}]
    ports = []
    best = rivals(roles)
    for end, role in sorted(roles.items()):
        says = because(end, role, by_device[end.device], names, best.get(end)) if explained else ""
        ports.append(_port(network, instance, end, role, says, best.get(end)))
    ports += _only_observed(network, instance, roles)
    vlans = 0
    for device in rows:
        vlans |= trees.instances(device)[instance].sure
    protocols = tuple(sorted({row.protocol for row in rows.values() if row.protocol}))
    missing = tuple(f"{what} ({device})" for device, what in given.missing)
    root = roots[0].device if roots else None
    followed = str(VlanSet(vlans & network.fabric.known))
    return TreeAnswer(instance, followed, protocols, root, tuple(roots), tuple(bridges), tuple(ports), missing)


def _identifier(row: Tree) -> str:
    return f"{row.priority}/{row.address}" if row.priority is not None and row.address else "?"


def _bridge(
    device: str,
    row: Tree,
    own: BridgeId | None,
    roles: dict[End, Role],
    names: dict[BridgeId, str],
    reported: Mapping[str, TreeRoot],
) -> TreeBridge:
    root_port = next((end.port for end, role in roles.items() if role.role in ("root", "master")), None)
    one = next(iter(roles.values()), None)
    root = names.get(one.root, "?") if one is not None else device
    internal = next((r.received.internal for r in roles.values() if r.role == "root" and r.inside), None)
    observed = f"{row.root_priority}/{row.root_address}" if row.root_address else None
    believed = reported.get(row.root_address or "") if own is None else None
    if believed is not None:
        told, port = believed.device, row.root_port
        return TreeBridge(device, _identifier(row), told, port, row.root_cost, None, row.region, observed)
    return TreeBridge(
        device,
        str(own) if own else "?",
        root if own else "?",
        root_port,
        one.root_cost if one is not None else 0,
        internal,
        row.region,
        observed,
    )


def _port(
    network: Network, instance: int, end: End, role: Role, says: str, rival: tuple[End, Role] | None
) -> TreePortAnswer:
    row = network.fabric.trees.ports.get((*end, instance))
    far = role.designated if role.designated != end else rival[0] if rival is not None else None
    return TreePortAnswer(
        end.device,
        end.port,
        role.role,
        "forwarding" if role.forwards else "discarding",
        says,
        row.role if row is not None else None,
        row.state if row is not None else None,
        str(far) if far is not None else None,
    )


def _only_observed(network: Network, instance: int, roles: Mapping[End, Role]) -> list[TreePortAnswer]:
    """The link ends that could not be computed, by what was observed of them."""
    found = []
    for adjacency in network.adjacencies:
        for end in (adjacency.a, adjacency.b):
            row = network.fabric.trees.ports.get((*end, instance)) if end not in roles else None
            if row is None or not row.role or adjacency.up is False:
                continue
            if not network.fabric.member(adjacency.far(end)).bridged:
                continue
            says = "a guard holds it closed" if row.disabled and row.guarded else "observed; what decides it was not"
            state, far = row.state or "unknown", str(adjacency.far(end))
            found.append(TreePortAnswer(end.device, end.port, row.role, state, says, row.role, row.state, far))
    return found
