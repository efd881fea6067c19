"""What a changed copy of a network can keep of it, by what differs between the two surveys."""

from __future__ import annotations

from collections.abc import Callable

from crossthread.network.dependencies import PARTS, stale
from crossthread.network.switching.known_vids import TELLING_VIDS_APART, find_known_vids, find_vids
from crossthread.network.topology.names import NAMING, End, Names, find_devices
from crossthread.survey import Survey
from crossthread.survey.difference import difference


class Kept:
    """What a changed copy of a network can keep of it.

    Parameters
    ----------
    before, survey
        What the network and its copy are of.
    names, cabled, known
        The network's own: its names, the ports that face others, the VLANs that are known in it, as bits.
    to_hosts
        Whether a port of the network leads to hosts only, by their rows.

    Attributes
    ----------
    stale
        The parts that have to be derived again.
    ports
        Those whose rows differ.
    tree_ends
        The ports of which something else was observed in a tree.
    rows
        The places of the rows that differ, of each table in which any does; None where rows came or went.
    only_hosts
        Whether nothing differs but rows of hosts and of ports, and of the latter nothing that others depend on, if all
        of them lead to hosts only.
    """

    def __init__(
        self,
        before: Survey,
        survey: Survey,
        names: Names,
        cabled: set[End],
        known: int,
        to_hosts: Callable[[End], bool],
    ) -> None:
        columns, rows = difference(before, survey)
        self.rows = rows
        spelled = names.spelled
        places = rows.get("ports", frozenset())
        rows_there = (survey.ports[n] for n in places or ())
        self.ports = {End(spelled[row.device], row.port) for row in rows_there}
        tree_places = rows.get("tree_ports", frozenset())
        tree_rows = survey.tree_ports if tree_places is None else [survey.tree_ports[n] for n in tree_places]
        if self.ports & cabled:
            columns |= {column.replace("ports.", "cabled.", 1) for column in columns if column.startswith("ports.")}
            columns |= {"cabled.bridged"} if _leave_the_bridge(before, survey, places or frozenset()) else set()
        ends = {End(spelled[row.device], names.port(spelled[row.device], row.port) or row.port) for row in tree_rows}
        if None in (places, tree_places) or not all(map(to_hosts, self.ports | ends)):
            told = (column.partition(".") for column in columns)
            columns |= {f"leading.{name}" for table, _, name in told if table in ("ports", "tree_ports")}
        found = set(stale(columns))
        if "per-vlan" not in survey.column("trees", "protocol"):
            found.discard("trees per VLAN")
        if found & {"trees per VLAN"}:
            found |= {"trees", "bridging"}
        renamed = any(survey.column(table, "device") is not before.column(table, "device") for table in NAMING)
        if renamed and find_devices(survey) != names.devices:
            found |= set(PARTS)
        told_apart = columns & TELLING_VIDS_APART
        same_vids = find_known_vids(survey) == known and (not told_apart or find_vids(survey) == find_vids(before))
        if not same_vids:
            found.add("bridging")
        self.stale = frozenset(found)
        self.only_hosts = set(rows) <= {"hosts", "ports"} and None not in rows.values() and found <= {"bridging"}
        self.only_hosts = self.only_hosts and same_vids and columns.isdisjoint(("hosts.mac", "ports.mac"))
        self.tree_ends = ends if "names" not in found else set[End]()


def _leave_the_bridge(before: Survey, survey: Survey, places: frozenset[int]) -> bool:
    """Whether some port that faces another became a routed one, or ceased to be one."""
    modes = before.column("ports", "mode"), survey.column("ports", "mode")
    return any((modes[0][n] == "routed") != (modes[1][n] == "routed") for n in places)
