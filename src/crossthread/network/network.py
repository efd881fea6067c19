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
        if old.devices is not new.devices or old.neighbors is not new.neighbors or len(old.ports) != len(new.ports):
            return copy
        if columns & _NAMES or any(self.names.device(str(change.key.get("device", ""))) is None
                                   for change in changes if change.table in ("gateways", "trees")):  # fmt: skip
            return copy
        ports = [row for was, row in zip(old.ports, new.ports, strict=True) if row is not was]
        copy.names = self.names.with_ports(new, ports)
        touched = {End(self.names.spelled[row.device], row.port) for row in ports}
        if columns & {"admin", "oper"}:
            copy._found = links_again(self.links, copy.names, touched), self.loose
        else:
            copy._found = self._found
        if not columns & {"admin", "oper", "lag"}:
            copy.adjacencies = self.adjacencies
        same = not ports and old.vlans is new.vlans and old.trees is new.trees and old.tree_ports is new.tree_ports
        if same and Fabric.known_vids(new) == self.fabric.known:
            copy.fabric, copy.components = self.fabric, self.components
        else:
            copy._before = self.fabric, touched
        return copy

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
        return Components(self.fabric)

    @cached_property
    def stations(self) -> Stations:
        """Hosts and gateway interfaces."""
        return Stations(self.survey, self.names, self.links, self.adjacencies, self.fabric, self.components)

    @cached_property
    def classes(self) -> Classes:
        """Hosts that the network cannot tell apart, taken together."""
        return Classes(self.survey, self.names, self.fabric, self.components, self.stations)

    @cached_property
    def routing(self) -> Routing:
        """What devices do with IP packets."""
        return Routing(self.survey, self.names, self.stations)
