"""Where is it: the port that a host, a MAC address, an IP address, a device or a VLAN is on, and how that is known."""

from __future__ import annotations

from contextlib import suppress
from difflib import get_close_matches

from crossthread.errors import UnknownNameError, visible
from crossthread.network.given import of_network
from crossthread.network.network import Network
from crossthread.network.topology.adjacency import bundle
from crossthread.network.topology.names import End
from crossthread.survey.records import Gateway, Host, MacEntry
from crossthread.survey.survey import Evidence
from crossthread.values import address, interface, parse_mac
from crossthread.views.find_by_words import find_described, find_numbered, find_old_name, find_subnet
from crossthread.views.heard import Heard, heard_of
from crossthread.views.sightings import EDGES, Found, Sighting, spot


@of_network
def find(network: Network, wanted: str) -> Found:
    """Find something by whatever one knows of it.

    Parameters
    ----------
    network
        A network, a survey, or the place of one: a folder, or a `.json` or `.json.gz` file.
    wanted
        A host's or device's name, also an old one that neighbours still have; a MAC address in any notation; an IP
        address; a subnet; a VLAN's name or number; or part of a port's description.

    Returns
    -------
    Found
        The places, the surest first, and where they do not agree.

    Raises
    ------
    SurveyError
        If a place was given and no survey can be read there.
    UnknownNameError
        If the survey has no trace of it; names that come close are suggested.

    Examples
    --------
    >>> from crossthread.demo import faulty, healthy
    >>> find(faulty(), "10.61.40.11").places[0].device
    'sail-loft'
    """
    word = wanted.strip()
    host = network.stations.hosts.get(word.casefold())
    if host is not None and isinstance(host.row, Host):
        return _host(network, host.row)
    device = network.names.device(word)
    if device is not None:
        return _device(network, device)
    renamed = find_old_name(network, word)
    if renamed is not None:
        return renamed
    heard = next((one for one in heard_of(network) if _is_called(one, word)), None)
    if heard is not None:
        return _heard(network, heard)
    try:
        text = str(address(word))
    except ValueError:
        pass
    else:
        return _address(network, text)
    try:
        mac = parse_mac(word)
    except ValueError:
        pass
    else:
        return _mac(network, mac, "MAC address")
    if "/" in word:
        with suppress(ValueError):
            return find_subnet(network, str(interface(word).network))
    if word.isdecimal() or not any((row.name or "").casefold() == word.casefold() for row in network.survey.vlans):
        found = find_numbered(network, word) if word.isdecimal() else find_described(network, word)
        if found is not None:
            return found
    return _vlan(network, word)


def _is_called(heard: Heard, word: str) -> bool:
    """Whether somebody means a device that was only heard of: by name, chassis identifier or management address."""
    own = {
        text.casefold()
        for _, row in heard.rows
        for text in (row.neighbor, row.neighbor_chassis, row.management)
        if text
    }
    with suppress(ValueError):
        return bool({word.casefold(), parse_mac(word)} & own)
    return word.casefold() in own


def _heard(network: Network, device: Heard) -> Found:
    """A device that was not surveyed, by those who heard it."""
    places = [
        Sighting(
            *spot(end, "heard", f"{end} hears it; it was not surveyed"),
            evidence=network.evidence(row, "neighbor", "neighbor_chassis", "neighbor_port", "management"),
        )
        for end, row in device.rows
    ]
    return Found(device.name, "device that was only heard of", tuple(places), (), ())


def _host(network: Network, row: Host) -> Found:
    station = network.stations.hosts[row.host.casefold()]
    places: list[Sighting] = []
    learned = _mac_places(network, row.mac) if row.mac else ([], [])
    if row.device and row.port and station.end is not None:
        says = f"{row.host} is plugged into {station.end}, as hosts.csv says"
        port = network.port(station.end)
        vid = port.pvid or None if port is not None and port.mode == "access" else None
        places.append(
            Sighting(*spot(station.end, "host", says), vid=vid, evidence=network.evidence(row, "device", "port"))
        )
    elif station.end is not None and not station.located_by:
        says = f"{station.end} names {row.host} in its description"
        evidence = network.evidence(network.port(station.end), "description")
        places.append(Sighting(*spot(station.end, "described", says), evidence=evidence))
    places += [place for place in learned[0] if all((p.device, p.port) != (place.device, place.port) for p in places)]
    if not places and not row.device:
        for end in network.stations.locating.named_by(row.host):
            says = f"{end} names {row.host} in its description; nothing else tells where it is"
            evidence = network.evidence(network.port(end), "description")
            places.append(Sighting(*spot(end, "named", says), evidence=evidence))
    return Found(row.host, "host", tuple(places), tuple(learned[1]), tuple(_conflicts(row.host, places)))


def _mac(network: Network, mac: str, kind: str, what: str | None = None) -> Found:
    for host in network.stations.hosts.values():
        if host.row.mac == mac and isinstance(host.row, Host):
            return _host(network, host.row)
    places, trail = _mac_places(network, mac)
    for row in network.survey.ports:
        if row.mac == mac:
            end = End(network.names.device(row.device) or row.device, row.port)
            says = f"it is the address of {end} itself"
            places.append(Sighting(*spot(end, "own", says), evidence=network.evidence(row, "mac")))
    for device in network.survey.devices:
        if device.chassis == mac:
            says = f"it is the chassis identifier of {device.device}"
            places.append(Sighting(device.device, "own", says, evidence=network.evidence(device, "chassis")))
    names = network.names
    for heard in network.survey.neighbors:
        for column, what_of in (("neighbor_chassis", "the chassis identifier of"), ("neighbor_port", "the port at")):
            if getattr(heard, column) == mac and not places:
                device_at = names.spelled[heard.device]
                end = End(device_at, names.port(device_at, heard.port) or heard.port)
                says = f"{end} hears it: it is {what_of} {heard.neighbor or heard.neighbor_chassis}"
                evidence = network.evidence(heard, column, "neighbor")
                places.append(Sighting(*spot(end, "heard", says), evidence=evidence))
    if not places and not trail:
        raise UnknownNameError(f"no table of this survey knows the {kind} {what or mac}")
    return Found(what or mac, kind, tuple(places), tuple(trail), tuple(_conflicts(what or mac, places)))


def _mac_places(network: Network, mac: str) -> tuple[list[Sighting], list[Evidence]]:
    """Where filtering databases have an address: the edge ports, or the ports towards devices that know no more."""
    linked = {end: adjacency for adjacency in network.adjacencies for end in (adjacency.a, adjacency.b)}
    entries: list[tuple[End, MacEntry]] = []
    for entry in network.survey.macs:
        if entry.mac == mac and entry.kind != "self" and entry.port:
            device = network.names.device(entry.device) or entry.device
            end = bundle(End(device, network.names.port(device, entry.port) or entry.port), network.names)
            entries.append((end, entry))
    knowing = {end.device for end, _ in entries}
    places, trail = [], []
    for end, entry in entries:
        trail += list(network.evidence(entry, "port"))
        evidence = network.evidence(entry, "port")
        vid = f" in VLAN {entry.vid}" if entry.vid else ""
        beyond = network.open_ends.get(end)
        if beyond is not None and end not in linked:
            what = f"behind {end}, beyond what was surveyed" + (f" ({beyond.name} is there)" if beyond.name else "")
            says = f"{end} has learned it{vid}: it is {what}"
            places.append(Sighting(*spot(end, "beyond", says), vid=entry.vid, evidence=evidence))
        elif end not in linked:
            says = f"{end} has learned it{vid}, and leads to no other device"
            places.append(Sighting(*spot(end, "learned", says), vid=entry.vid, evidence=evidence))
        elif linked[end].far(end).device not in knowing:
            far = linked[end].far(end)
            says = f"{end} has learned it{vid}; that leads to {far.device}, whose filtering database does not have it"
            places.append(Sighting(*spot(end, "towards", says), vid=entry.vid, evidence=evidence))
    places.sort(key=lambda place: place.how != "learned")
    return places, trail


def _conflicts(what: str, places: list[Sighting]) -> list[str]:
    edges = {(p.device, p.port) for p in places if p.how in EDGES}
    if len(edges) < 2:
        return []
    listed = " and ".join(sorted(f"{device} {port}" for device, port in edges))
    return [f"{what} was seen at {listed}: it has moved, an entry is old, or two stations have one address"]


def _address(network: Network, text: str) -> Found:
    stations = network.stations.by_address.of(text)
    hosts = [s for s in stations if isinstance(s.row, Host)]
    if len(hosts) == 1 and isinstance(hosts[0].row, Host) and len(stations) == 1:
        return _host(network, hosts[0].row)
    places: list[Sighting] = []
    for station in stations:
        row = station.row
        if isinstance(row, Gateway):
            says = f"{station.device} has it on its interface {row.interface}"
            if station in network.stations.managed:
                says = f"it is the management address of {station.device}"
            places.append(
                Sighting(
                    station.device,
                    "interface",
                    says,
                    row.port,
                    row.vid,
                    row.interface,
                    network.evidence(row, "address"),
                )
            )
        else:
            places += _host(network, row).places
    known = [entry for entry in network.survey.arp if entry.address == text and entry.mac]
    trail = [fact for entry in known for fact in network.evidence(entry, "mac")]
    macs = sorted({entry.mac for entry in known if entry.mac})
    if not places and macs:
        found = _mac(network, macs[0], "IP address", text)
        conflicts = [*found.conflicts]
        if len(macs) > 1:
            conflicts.append(f"{text} has several MAC addresses: {' '.join(macs)}")
        return Found(text, "IP address", found.places, (*trail, *found.trail), tuple(conflicts))
    if not places:
        raise UnknownNameError(f"no table of this survey knows the address {text}")
    conflicts = [f"{text} is the address of {len(stations)} stations"] if len(stations) > 1 else []
    return Found(text, "IP address", tuple(places), tuple(trail), tuple(conflicts))


def _device(network: Network, device: str) -> Found:
    places = []
    for link in network.links:
        for near, far, seen in ((link.a, link.b, link.seen_a), (link.b, link.a, link.seen_b)):
            if far.device == device and near.device != device:
                how = "learned" if seen else "described"
                says = f"its {far.port} is cabled to {near}"
                evidence = tuple(
                    fact for row in seen[:1] for fact in network.evidence(row, "neighbor", "neighbor_port")
                )
                places.append(Sighting(*spot(near, how, says), evidence=evidence))
    return Found(device, "device", tuple(places), (), ())


def _vlan(network: Network, word: str) -> Found:
    rows = [row for row in network.survey.vlans if (row.name or "").casefold() == word.casefold()]
    if not rows:
        names = {*network.stations.hosts, *network.names.devices}
        names |= {(row.name or "").casefold() for row in network.survey.vlans}
        close = get_close_matches(word.casefold(), names - {""}, 3, 0.6)
        hint = f"; did you mean {' or '.join(map(visible, close))}?" if close else ""
        says = f"nothing in this survey is called “{visible(word)}”, and it is no MAC or IP address{hint}"
        raise UnknownNameError(says)
    places = [
        Sighting(
            row.device,
            "member",
            f"{row.device} has it as VLAN {row.vid}",
            vid=row.vid,
            evidence=network.evidence(row, "name", "state"),
        )
        for row in rows
    ]
    vids = sorted({row.vid for row in rows})
    conflicts = [f"the name {word} stands for VLANs {' '.join(map(str, vids))}"] if len(vids) > 1 else []
    return Found(word, "VLAN", tuple(places), (), tuple(conflicts))
