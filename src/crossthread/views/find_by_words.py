"""Finding by other words than a host, a device or an address: a subnet, an old name, a VLAN's number, a description."""

from __future__ import annotations

from crossthread.errors import UnknownNameError
from crossthread.network.network import Network
from crossthread.network.topology.names import End, is_one_device
from crossthread.views.sightings import Found, Sighting, spot


def find_subnet(network: Network, prefix: str) -> Found:
    """A subnet: the interfaces that serve it, and how many hosts are in it."""
    stations = network.stations
    serving = [s for s in stations.gateways if s.address is not None and str(s.address.network) == prefix]
    inside = [h for h in stations.hosts.values() if h.address is not None and str(h.address.network) == prefix]
    places = [
        Sighting(
            s.device,
            "interface",
            f"{s.device} {s.name} serves it as {s.address.ip}",
            s.row.port,
            s.row.vid,
            s.name,
            network.evidence(s.row, "address", "vid"),
        )
        for s in serving
        if s.address is not None
    ]
    for host in inside[:20]:
        if host.end is not None and host.address is not None:
            says = f"{host.name} has {host.address.ip} of it, at {host.end}"
            places.append(Sighting(*spot(host.end, "host", says), evidence=network.evidence(host.row, "address")))
    if not places and not inside:
        raise UnknownNameError(f"no interface and no host of this survey is in {prefix}")
    more = [f"{len(inside)} hosts are in it; the first 20 are shown"] if len(inside) > 20 else []
    return Found(prefix, "subnet", tuple(places), (), tuple(more))


def find_old_name(network: Network, word: str) -> Found | None:
    """A name that only neighbours' tables still have: of a device that is called otherwise now, as the entry ages."""
    names = network.names
    rows = [row for row in network.survey.neighbors if (row.neighbor or "").casefold() == word.casefold()]
    places, now = [], dict[str, None]()
    for row in rows:
        device = names.spelled[row.device]
        end = End(device, names.port(device, row.port) or row.port)
        beside = [
            other
            for other in network.survey.neighbors
            if other is not row
            and names.spelled[other.device] == device
            and other.port == row.port
            and other.neighbor
            and other.neighbor.casefold() != word.casefold()
            and is_one_device(row, other)
        ]
        known = names.neighbor_device(row)
        now.update(dict.fromkeys([*(o.neighbor for o in beside if o.neighbor), *([known] if known else [])]))
        left = f"; the entry has {row.remaining:g} s left" if row.remaining is not None else ""
        says = f"{end} heard it under that name{left}"
        places.append(Sighting(*spot(end, "heard", says), evidence=network.evidence(row, "neighbor", "remaining")))
    called = [name for name in now if name.casefold() != word.casefold()]
    if not called:
        return None
    return Found(word, "old name of a device", tuple(places), (), (f"it is called {' or '.join(called)} now",))


def find_numbered(network: Network, word: str) -> Found | None:
    """A VLAN by its number: where it exists, and what serves it."""
    vid = int(word)
    rows = [row for row in network.survey.vlans if row.vid == vid]
    places = [
        Sighting(
            row.device,
            "member",
            f"{row.device} has it as “{row.name or 'no name'}”",
            vid=vid,
            evidence=network.evidence(row, "name", "state"),
        )
        for row in rows
    ]
    for station in network.stations.gateways:
        if station.row.vid == vid and station.address is not None:
            says = f"{station.device} {station.name} serves it as {station.address}"
            places.append(
                Sighting(
                    station.device,
                    "interface",
                    says,
                    station.row.port,
                    vid,
                    station.name,
                    network.evidence(station.row, "vid", "address"),
                )
            )
    if not places and not network.fabric.known >> vid & 1:
        return None
    return Found(word, "VLAN", tuple(places), (), ())


def find_described(network: Network, word: str) -> Found | None:
    """Ports whose description holds what somebody looks for."""
    texts = network.survey.column("ports", "description")
    hits = [n for n, text in enumerate(texts) if text and word.casefold() in text.casefold()]
    places = []
    for row in (network.survey.ports[n] for n in hits[:40]):
        end = End(network.names.spelled[row.device], row.port)
        says = f"{end} has it in its description: {row.description}"
        places.append(Sighting(*spot(end, "described", says), evidence=network.evidence(row, "description")))
    return Found(word, "description", tuple(places), (), ()) if places else None
