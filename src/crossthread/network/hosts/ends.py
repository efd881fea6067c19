"""What a packet may be sent from or to: a host, an interface that routes, a device's management address, any address.

A device as such sends from the interface that is nearest to whom it sends to, and is reached at its management address.
"""

from __future__ import annotations

from crossthread.errors import UnknownNameError, visible
from crossthread.network.hosts.search import find_host
from crossthread.network.hosts.station import Attachment, HostStation, Station, Tap
from crossthread.network.network import Network
from crossthread.network.three_valued import NOTHING
from crossthread.survey.records import Host
from crossthread.values import NO_VID, NONE, Address, address

_ANYTHING = "host, device or interface"


def end_name(station: Station) -> str:
    """What somebody who asks about a station calls it, so that it is found again in a changed copy."""
    return station.name if isinstance(station, HostStation) else f"{station.device} {station.name}"


def is_nobody(station: Station) -> bool:
    """Whether a station stands for an address that nobody who was read has."""
    return isinstance(station, HostStation) and station.taps == (_NOWHERE,)


def find_ends(network: Network, source: str, target: str) -> tuple[Station, Station]:
    """The two that somebody means.

    Raises
    ------
    UnknownNameError
        If one is nothing that has an address, or both are the same.
    """
    one, two = find_end(network, source), find_end(network, target)
    if isinstance(one, str) and one == two:
        raise UnknownNameError(f"both are {one}; expected two different ones")
    if isinstance(one, str) and isinstance(two, str):
        two = _nearest(network, two, None)
    if isinstance(one, str):
        one = _nearest(network, one, two.address.ip if isinstance(two, Station) and two.address else None)
    if isinstance(two, str):
        two = _nearest(network, two, one.address.ip if one.address else None, asked=True)
    if one is two or (one.row is two.row):
        what = " host" if isinstance(one, HostStation) else ""
        raise UnknownNameError(f"{end_name(one)} and {end_name(two)} are the same{what}; expected two different ones")
    if is_nobody(one):
        raise UnknownNameError(f"nobody has the address {one.name}, so nothing is sent from there")
    return one, two


def end_named(network: Network, name: str) -> Station:
    """One of the two by the name that `end_name` gives it."""
    found = find_end(network, name)
    return _nearest(network, found, None) if isinstance(found, str) else found


def find_end(network: Network, wanted: str) -> Station | str:
    """What somebody means by a name or an address; a device's name for a device as such."""
    text = wanted.strip()
    host = network.stations.hosts.get(text.casefold())
    if host is not None:
        return host
    for interface in (*network.stations.gateways, *network.stations.managed):
        if f"{interface.device} {interface.name}".casefold() == text.casefold():
            return interface
    device = network.names.devices.get(text.casefold())
    if device is not None:
        return device
    try:
        own = address(text)
    except ValueError:
        return find_host(network, wanted, _ANYTHING)
    holders = network.stations.by_address.of(str(own))
    if len(holders) == 1:
        return holders[0]
    if holders:
        listed = ", ".join(visible(end_name(s)) for s in holders)
        raise UnknownNameError(f"several have the address {own}: {listed}; name one of them")
    if network.told is not network.survey:
        try:
            return find_host(network, wanted, _ANYTHING)
        except UnknownNameError:
            pass
    if not any(s.address is not None and own in s.address.network for s in network.stations.gateways):
        return find_host(network, wanted, _ANYTHING)  # which says that it is no address of anything that was read
    return _nobody(own)


def _nobody(own: Address) -> HostStation:
    """An address that nobody has."""
    row = Host(str(own), address=f"{own}/{own.max_prefixlen}", gateway=NONE)
    return HostStation(row, str(own), lambda _: Attachment("", None, NO_VID, (), lambda: (None, (_NOWHERE,))))


_NOWHERE = Tap("", None, NOTHING, NOTHING)


def _nearest(network: Network, device: str, other: Address | None, asked: bool = False) -> Station:
    """The interface by which a device sends to an address, or is sent to (`asked`)."""
    own = [s for s in network.stations.on_device.get(device, ()) if s.address is not None]
    managed = [s for s in network.stations.managed if s.device == device]
    row = network.device(device)
    at = row.management if row is not None else None
    if asked and at not in (None, NONE):
        named = [s for s in (*own, *managed) if s.address is not None and str(s.address.ip) == at]
        if named:
            return named[0]
    if other is not None:
        ways = network.routing.choices(device, None, other)
        if ways and ways[0].interface.address is not None:
            return ways[0].interface
        same = [s for s in own if s.address is not None and s.address.version == other.version]
        if same or managed:
            return (same or managed)[0]
    if own or managed:
        return (managed or own)[0]
    raise UnknownNameError(
        f"{device} has no address that was read: no interface that routes, and no management address in a known subnet"
    )
