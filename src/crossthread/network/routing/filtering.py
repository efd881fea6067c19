"""What packet filters do to the walk of a packet."""

from __future__ import annotations

from collections.abc import Iterator

import msgspec

from crossthread.network.hosts.station import Interface, Station
from crossthread.network.network import Network
from crossthread.network.routing.filters import Packet, Passage
from crossthread.network.routing.passed_ports import PassedPorts
from crossthread.network.routing.walks import Leg, Stop, Walk
from crossthread.network.topology.names import End
from crossthread.survey.records import Gateway, Port


class Filtering:
    """Lets walks pass the packet filters of interfaces and of ports."""

    def __init__(self, network: Network) -> None:
        self._filters, self._names = network.filters, network.names
        self._passed = PassedPorts(network.hearing, network.fabric)
        self.used = network.filters.used
        """Whether any filter was read at all."""

    def seen_by(self, walk: Walk) -> frozenset[str]:
        """The devices that surely see a packet on its way."""
        if walk.aside or walk.arrives is None:
            return frozenset()
        routers = {s.device for leg in walk.legs for s in (leg.sender, leg.receiver) if isinstance(s, Interface)}
        passed = [self._passed.between(leg.sender, leg.receiver) for leg in walk.legs] if self._filters.ports else []
        return frozenset(routers | {end.device for ports, sure in passed if sure for end, _ in ports})

    def filtered(self, walk: Walk, packet: Packet, itself: set[str]) -> Walk:
        """The same walk past the packet filters of the interfaces and ports on it.

        Whether an interface's filter also concerns what a device sends or takes itself differs from maker to maker.
        """
        for legs, known in ((walk.legs, not walk.aside), (walk.aside, False)):
            for leg in legs:
                for station, row, way, end, sure in self._filtering(leg):
                    device = end.device if end is not None else station.device
                    passes, entry = self._passage(device, row, way, packet)
                    if passes is True:
                        continue
                    stop = Stop("filter", station, packet.target, entry=entry, port=end)
                    if passes is False and sure and known and (end is not None or station.device not in itself):
                        at = walk.legs.index(leg) + (station is leg.receiver)
                        return Walk(False, walk.legs[:at], stop)
                    missing = walk.missing if passes is False else (*walk.missing, (row, f"filter_{way}"))
                    walk = msgspec.structs.replace(walk, arrives=None, stop=walk.stop or stop, missing=missing)
        return walk

    def _passage(self, device: str, row: Gateway | Port, way: str, packet: Packet) -> Passage:
        name = row.filter_in if way == "in" else row.filter_out
        if name is None and isinstance(row, Gateway):  # what another row says of the interface is likely, but not sure
            told = self._filters.passage(device, self._filters.beside(row, way), packet)
            return Passage(told.passes or None, told.entry)
        return self._filters.passage(device, name, packet)

    def _filtering(self, leg: Leg) -> Iterator[tuple[Station, Gateway | Port, str, End | None, bool]]:
        """The interfaces and ports of a leg: the nearer station, its row, the direction, the port, whether surely."""
        if isinstance(leg.sender, Interface):
            yield leg.sender, leg.sender.row, "out", None, True
        passed, sure = self._passed.between(leg.sender, leg.receiver) if self._filters.ports else ((), True)
        for end, way in passed:
            row = self._names.row(end)
            if row is not None and end in self._filters.ports:
                yield leg.sender, row, way, end, sure
        if isinstance(leg.receiver, Interface):
            yield leg.receiver, leg.receiver.row, "in", None, True
