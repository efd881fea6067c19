"""What follows from a survey, derived when first asked for and then kept."""

from __future__ import annotations

from collections.abc import Sequence
from functools import cached_property

from crossthread.network.adjacency import Adjacency, find_adjacencies
from crossthread.network.classes import Classes
from crossthread.network.components import Components
from crossthread.network.links import Link, Loose, find_links, links_again
from crossthread.network.names import End, Names
from crossthread.network.routing import Routing
from crossthread.network.segments import Fabric
from crossthread.network.stations import Stations
from crossthread.survey import Survey
from crossthread.survey.changes import Change, apply_changes

_NAMES = {"aliases", "mac", "description"}
"""Columns by which a port may be found."""


class Network:
    """A survey's links, segments, stations and routes.

    Parameters
    ----------
    survey
        What was observed. Nothing is derived before it is asked for, and nothing twice.
    """

    def __init__(self, survey: Survey) -> None:
        self.survey = survey
        self._before: tuple[Fabric, set[End]] | None = None
        self._settled: tuple[Network, set[End]] | None = None
        self._origin: Network | None = None

    def changed(self, changes: Sequence[Change]) -> Network:
        """A copy with some changes made, which shares with this one whatever they do not touch.

        Raises
        ------
        SurveyError
            For a change that the format does not know; see `apply_changes`.
        """
        copy = Network(apply_changes(self.survey, changes))
        old, new = self.survey, copy.survey
        columns = {column for change in changes if change.table == "ports" for column in change.cells}
        rows_moved = len(old.ports) != len(new.ports) or any(c.delete for c in changes if c.table == "ports")
        if old.devices is not new.devices or old.neighbors is not new.neighbors or rows_moved:
            return copy
        if columns & _NAMES or any(self.names.device(str(change.key.get("device", ""))) is None
                                   for change in changes if change.table in ("gateways", "trees")):  # fmt: skip
            return copy
        ports = [row for was, row in zip(old.ports, new.ports, strict=True) if row is not was]
        copy.names, copy._origin = self.names.with_ports(new, ports), self
        touched = {End(self.names.spelled[row.device], row.port) for row in ports}
        ends = {end for link in self.links for end in (link.a, link.b)}
        if columns & {"admin", "oper"} and touched & ends:
            copy._found = links_again(self.links, copy.names, touched), self.loose
        else:
            copy._found = self._found
        alone = not touched & ends and not touched & self._bundles
        if not columns & {"admin", "oper", "lag"} or ("lag" not in columns and alone):
            copy.adjacencies = self.adjacencies
        same = not ports and old.vlans is new.vlans and old.trees is new.trees and old.tree_ports is new.tree_ports
        if same and Fabric.known_vids(new) == self.fabric.known:
            copy.fabric, copy.components = self.fabric, self.components
        else:
            copy._before = self.fabric, touched
            moved = {
                End(self.names.spelled[row.device], row.port)
                for was, row in zip(old.tree_ports, new.tree_ports, strict=False)
                if row is not was
            }
            alike = old.trees is new.trees and old.vlans is new.vlans and len(old.tree_ports) == len(new.tree_ports)
            plain = all(row.protocol != "per-vlan" for row in new.trees)
            if copy.adjacencies is self.adjacencies and alike and plain and moved <= touched:
                copy._settled = self, touched
        return copy

    @cached_property
    def _bundles(self) -> set[End]:
        """The ports that stand for several: the ends of adjacencies that are no ends of links."""
        return {end for a in self.adjacencies for end in (a.a, a.b)}

    @cached_property
    def names(self) -> Names:
        """Devices and ports by any of their names."""
        return Names(self.survey)

    @cached_property
    def _found(self) -> tuple[list[Link], list[Loose]]:
        return find_links(self.survey, self.names)

    @property
    def links(self) -> list[Link]:
        """The cables between surveyed devices."""
        return self._found[0]

    @property
    def loose(self) -> list[Loose]:
        """Neighbours that no link could be made of."""
        return self._found[1]

    @cached_property
    def adjacencies(self) -> list[Adjacency]:
        """Which ports face each other, with aggregates as one port."""
        return find_adjacencies(self.links, self.names)

    @cached_property
    def fabric(self) -> Fabric:
        """The layer-2 side: where a frame in a VLAN on a device gets to."""
        return Fabric(self.survey, self.names, self.adjacencies, self.loose, self._before)

    @cached_property
    def components(self) -> Components:
        """Which VLANs on which devices surely hear each other."""
        if self._settled is None:
            return Components(self.fabric)
        before, touched = self._settled
        self.fabric.take_over(before.fabric, touched)
        return Components(self.fabric, (before.components, touched))

    @cached_property
    def stations(self) -> Stations:
        """Hosts and gateway interfaces."""
        before = self._origin.stations if self._origin is not None else None
        return Stations(self.survey, self.names, self.links, self.adjacencies, self.fabric, self.components, before)

    @cached_property
    def classes(self) -> Classes:
        """Hosts that the network cannot tell apart, taken together."""
        return Classes(self.survey, self.names, self.fabric, self.components, self.stations)

    @cached_property
    def routing(self) -> Routing:
        """What devices do with IP packets."""
        return Routing(self.survey, self.names, self.stations)
