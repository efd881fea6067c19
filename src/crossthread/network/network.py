"""What follows from a survey, derived when first asked for and then kept."""

from __future__ import annotations

from functools import cached_property

from crossthread.network.adjacency import Adjacency, find_adjacencies
from crossthread.network.classes import Classes
from crossthread.network.components import Components
from crossthread.network.links import Link, Loose, find_links
from crossthread.network.names import Names
from crossthread.network.routing import Routing
from crossthread.network.segments import Fabric
from crossthread.network.stations import Stations
from crossthread.survey import Survey


class Network:
    """A survey's links, segments, stations and routes.

    Parameters
    ----------
    survey
        What was observed. Nothing is derived before it is asked for, and nothing twice.
    """

    def __init__(self, survey: Survey) -> None:
        self.survey = survey

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
        return Fabric(self.survey, self.names, self.adjacencies, self.loose)

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
