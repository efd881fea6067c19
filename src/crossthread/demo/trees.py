"""What the switches of a made-up campus would say of their rapid spanning tree."""

from __future__ import annotations

from collections.abc import Mapping

from msgspec.structs import replace

from crossthread.network import Network
from crossthread.network.spanning.roles import default_cost
from crossthread.survey import Survey
from crossthread.survey.records import Tree, TreePort
from crossthread.values import NONE


def with_trees(survey: Survey, bridges: Mapping[str, tuple[int, str]]) -> Survey:
    """Add the roles and states that the standard gives.

    Parameters
    ----------
    survey
        A campus without trees; its ports are named by a word and a number.
    bridges
        The priority and the MAC address of each switch.
    """
    trees = tuple(Tree(name, 0, protocol="rstp", priority=p, address=own) for name, (p, own) in bridges.items())
    bundled = {(row.device, row.port) for row in survey.ports if row.lag not in (None, NONE)}
    ports = []
    for row in survey.ports:
        if row.device in bridges and row.mode != "routed" and (row.device, row.port) not in bundled:
            digits = int("".join(c for c in row.port if c.isdecimal()))
            number = digits + (64 if row.port.startswith("bundle") else 0)
            cost = default_cost(row.speed) if row.speed else 20000
            edge = "yes" if row.mode == "access" else "no"
            ports.append(TreePort(row.device, row.port, 0, cost=cost, priority=128, number=number, edge=edge))
    survey = Survey(**{**survey.__dict__, "trees": trees, "tree_ports": tuple(ports)})
    roles = {(str(end.device), end.port): role for end, role in Network(survey).fabric.trees.compute(0).items()}
    down = {(row.device, row.port) for row in survey.ports if row.oper == "down"}
    settled = []
    told: dict[str, tuple[str, int]] = {}
    for port in ports:
        role = roles.get((port.device, port.port))
        name = role.role if role else ("disabled" if (port.device, port.port) in down else "designated")
        state = "forwarding" if name in ("root", "designated") else "discarding"
        settled.append(replace(port, role=name, state=state))
        if role is not None and (name == "root" or port.device not in told):
            told[port.device] = (port.port if name == "root" else NONE, role.root_cost)
    root = min(trees, key=lambda tree: (tree.priority, tree.address))
    seen = []
    for tree in trees:
        root_port, cost = told.get(tree.device, (NONE, 0))
        seen.append(
            replace(tree, root_priority=root.priority, root_address=root.address, root_cost=cost, root_port=root_port)
        )
    return Survey(**{**survey.__dict__, "trees": tuple(seen), "tree_ports": tuple(settled)})
