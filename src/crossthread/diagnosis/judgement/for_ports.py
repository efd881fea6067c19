"""What speaks for a port's settings."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

from crossthread.diagnosis.expected.listed_vlans import ListedVlans
from crossthread.diagnosis.judgement import weights
from crossthread.diagnosis.judgement.hearing import Hearing
from crossthread.diagnosis.judgement.needs import across, native_lost, trunks_beside
from crossthread.diagnosis.judgement.witness import Witness
from crossthread.network.hosts.station import HostStation, Interface, Station
from crossthread.network.topology.adjacency import Adjacency
from crossthread.network.topology.names import End
from crossthread.survey.changes import Change
from crossthread.values import NO_VID, NONE, SOME_VID, VlanSet, address


def for_port(hearing: Hearing, change: Change, instead: Change) -> Iterator[Witness]:
    """What speaks for the mode, VLAN and allowed list that a change gives to a port, instead of another."""
    context, vid = hearing.context, change.cells.get("pvid")
    end = End(str(change.key["device"]), str(change.key["port"]))
    yield from _planned(hearing, end, change, instead)
    links = context.adjacencies_at.get(end, ())
    stations: list[Station] = [*(context.hosts_at(end) or context.behind(end))[:1]]
    stations += [g for link in links for g in context.network.gateways_at.get(link.far(end), ()) if not g.tag][:1]
    for link in links if not stations else ():
        yield from _for_far_end(hearing, link, end, change)
        yield from _for_need(hearing, link, end, change, instead)
    if isinstance(vid, int):
        for station in stations:
            yield from for_station(hearing, station, vid)
        yield from _named(hearing, end, vid)
    for station in stations if change.cells.get("mode") == "trunk" else ():
        if (
            isinstance(station, HostStation)
            and (tag := station.tag)
            and tag in VlanSet.parse(str(change.cells.get("allowed") or NONE))
        ):
            yield from for_station(hearing, station, tag)
    if not stations and links and vid is not None and _mode(hearing, end, change) != "access":
        yield from _native(hearing, end, vid)


def _mode(hearing: Hearing, end: End, change: Change) -> object:
    row = hearing.context.port(end)
    return change.cells.get("mode") or (row.mode if row is not None else None)


def _planned(hearing: Hearing, end: End, change: Change, instead: Change) -> Iterator[Witness]:
    """What the plan has of a port, by itself or for all trunks."""
    context, cells = hearing.context, change.cells
    entry = context.planned_port(end)
    mode, vid = _mode(hearing, end, change), cells.get("pvid")
    native = context.planned_native(end)
    if entry.mode is not None and cells.get("mode") == entry.mode:
        yield Witness(weights.PLAN, f"the plan has {end} in mode {mode}")
    if entry.vlan is not None and vid == entry.vlan:
        yield Witness(weights.PLAN, f"the plan has {end} in VLAN {vid}")
    if mode == "trunk" and native is not None and vid == (native or NONE):
        yield Witness(weights.PLAN, f"the plan has native VLAN {vid} at {end}")
    if entry.allowed is not None and cells.get("allowed"):
        now, then = (VlanSet.parse(str(one.cells.get("allowed") or NONE)) for one in (instead, change))
        if (then - now or now - then) and not then - now - entry.allowed and not (now - then) & entry.allowed:
            yield Witness(weights.PLAN, f"the plan lets {end} carry {entry.allowed}")


def _named(hearing: Hearing, end: End, vid: int) -> Iterator[Witness]:
    """What the port's description says, where VLANs have names."""
    row, name = hearing.context.port(end), hearing.context.vlan_names.get(vid)
    words = rf"(?<![^\W_]){re.escape(name or '')}(?![^\W_])"
    if row is not None and name and re.search(words, row.description or "", re.IGNORECASE):
        says = f"{end} is described as “{row.description}”, and VLAN {vid} is named {name}"
        yield Witness(weights.NAMED, says)


def _for_far_end(hearing: Hearing, link: Adjacency, end: End, change: Change) -> Iterator[Witness]:
    """What the other end of the cable says of a port's new settings."""
    cells, other = change.cells, link.far(end)
    far = hearing.context.port(other)
    if far is None or far.mode == "routed":
        behind = hearing.context.network.gateways_at.get(other, ())
        tags = VlanSet.of(g.tag for g in behind if g.tag not in (NO_VID, SOME_VID) and hearing.hears(g))
        if tags and cells.get("mode") == "trunk":
            says = f"{other} at the other end tags its frames with VLAN{'s' * (len(tags) > 1)} {tags}"
            yield Witness(weights.NEEDED if len(tags) > 1 else weights.WANTED, says)
        return
    mode, vid = cells.get("mode"), cells.get("pvid")
    if mode is not None and mode == far.mode:
        yield Witness(weights.FAR_END, f"{other} at the other end is a{'n' * (mode == 'access')} {mode} port too")
    elif mode is None and vid is not None and (far.pvid or NONE) == vid:
        yield Witness(weights.FAR_END, f"{other} at the other end has {vid}")
    if cells.get("tagging") is not None and (far.tagging or "802.1Q") == cells["tagging"]:
        yield Witness(weights.FAR_END, f"{other} at the other end uses {cells['tagging']}")
    if str(cells.get("tagging") or "").casefold() == "802.1q":
        yield Witness(weights.USUAL, "802.1Q is the usual tag type")
    if mode is None and vid is None and cells.get("allowed") and VlanSet.parse(str(cells["allowed"])) == far.allowed:
        yield Witness(weights.CARRIED, f"{other} at the other end carries just these")
    carried = far.allowed is not None and isinstance(vid, int) and vid in far.allowed
    if carried and _mode(hearing, end, change) in ("trunk", "hybrid"):
        yield Witness(weights.CARRIED, "")


def _for_need(hearing: Hearing, link: Adjacency, end: End, change: Change, instead: Change) -> Iterator[Witness]:
    """What the stations on the two sides of a link need of it."""
    mode, vid = change.cells.get("mode"), change.cells.get("pvid")
    near, beyond = across(hearing.context, link, end)
    both = near & beyond
    if mode is None and change.cells.get("allowed"):
        before = VlanSet.parse(str(instead.cells.get("allowed") or NONE))
        if fresh := VlanSet.parse(str(change.cells["allowed"])) & both - before:
            yield Witness(weights.WANTED, f"stations of VLAN {fresh} are on both sides of the link")
    if mode == "trunk" and (usual := trunks_beside(hearing.context, link)) > 1:
        yield Witness(0.0, f"all {usual} other links between bridges are trunks")  # for whoever has to choose
    if mode == "trunk" and len(both) > 1:
        yield Witness(weights.NEEDED, f"stations of VLANs {both} are on both sides of the link")
    elif _mode(hearing, end, change) == "access" and any(len(side) == 1 and vid in side for side in (near, beyond)):
        yield Witness(weights.ONLY_ONE, f"the stations on one side of the link are of VLAN {vid} only")


def for_station(hearing: Hearing, station: Station, vid: int) -> Iterator[Witness]:
    """What a station that is plugged in says of its VLAN: where its subnet lives, and its gateway."""
    near = hearing.kin(station)
    hosts = [one for one in near if isinstance(one.station, HostStation)]
    mates = sum(one.number for one in hosts if hearing.vlan(one.station) == vid)
    stations = [one.station for one in near]
    serving = next((s for s in stations if isinstance(s, Interface) and hearing.vlan(s) == vid), None)
    yield from _of_vlan(hearing, vid, (station, *stations))
    if serving is not None and isinstance(station, HostStation) and hearing.in_transit(station):
        yield Witness(weights.TRANSIT, "")
    if serving is not None and serving.address is not None:
        yield Witness(weights.OWN, f"{serving.device} {serving.name} serves {serving.address.network} in VLAN {vid}")
    else:
        if hearing.strangers(vid, station):
            yield Witness(weights.STRANGERS, "")
        told = (s for s in stations if isinstance(s, Interface) and hearing.context.expected.told_vid(s) == vid)
        if (named := next(told, None)) is not None:
            yield Witness(weights.PEER, f"{named.device} {named.name} says that it serves VLAN {vid}")
    if (serving is not None or isinstance(station, Interface) or mates == 1) and hearing.others_served(vid, station):
        yield Witness(weights.SECOND, "")
    if mates:
        first = 0.0 if serving is not None else weights.OWN - weights.MATE
        every = sum(one.number for one in hosts)
        says = f"{mates} of {every} other hosts of its subnet are in VLAN {vid}"
        yield Witness(first + min(mates * weights.MATE, weights.MATES), says)
    if hearing.context.expected.planned(station) == vid:
        where = f"{station.device} " if isinstance(station, Interface) else ""
        yield Witness(weights.PLAN, f"the plan has {where}{station.name} in VLAN {vid}")
    if isinstance(station, Interface):
        if hearing.context.expected.named_vid(station) == vid:
            yield Witness(weights.NAMED, f"the interface is named {station.name}")
        elif station.tag == NO_VID and station.row.vid == vid:
            yield Witness(weights.NAMED, f"{station.device} {station.name} says that it serves VLAN {vid}")
    elif isinstance(station, HostStation) and station.row.gateway not in (None, NONE):
        hop = address(str(station.row.gateway))
        around = list(hearing.near(hop, station))
        if vid in hearing.home(around):
            around = [one for one in around if vid in hearing.home([one])]
            # Against nothing but one interface, what somebody typed into the host in one go counts once.
            alone = serving is not None and not mates and hearing.context.expected.named_vid(serving) != vid
            heard = mates and {id(one.those) for one in around} <= {id(one.those) for one in hosts}
            yield Witness(0.0 if alone or heard else weights.OWN, f"its gateway {hop} is of VLAN {vid}")


def _of_vlan(hearing: Hearing, vid: int, stations: Sequence[Station]) -> Iterator[Witness]:
    """What makes a VLAN an unlikely one for some stations, whoever they are."""
    tagged = (s for s in stations if isinstance(s, Interface) and s.row.vid == 1)
    if vid == 1 and not any(tagged) and not hearing.context.expected.meant(1, stations):
        yield Witness(weights.FORGOTTEN, "")
    listed = hearing.context.once(ListedVlans)
    if listed.misses(vid, hearing.context.network.lan(stations[0])):
        yield Witness(weights.UNLISTED, "")
    elif isinstance(stations[0], HostStation) and vid in listed.homes(stations[0]):
        yield Witness(weights.PEER, f"{stations[0].end} carries VLAN {vid}, and nobody is in it")
    elif vid in listed.empty:
        yield Witness(weights.NOBODY, "")


def _native(hearing: Hearing, end: End, vid: object) -> Iterator[Witness]:
    """What the site's other links, and its stations, say of a trunk's native VLAN."""
    context = hearing.context
    natives: list[set[int]] = []
    for link in context.network.adjacencies:
        rows = [] if end in (link.a, link.b) else [context.port(link.a), context.port(link.b)]
        bridged = [row for row in rows if row is not None and row.mode in ("trunk", "hybrid")]
        told = {row.pvid for row in bridged if row.pvid is not None}
        natives += [told] if len(told) == 1 else []  # two ends that differ are accused themselves
    native = vid if isinstance(vid, int) else NO_VID
    same, count = sum(native in told for told in natives), len(natives)
    if same > 1 and 2 * same > count:  # what fewer links have, or just one, is no habit of the site
        yield Witness(weights.USUAL * (same - 1) / count, f"{same} of {count} other links have it so")
    own, fars = context.port(end), [context.port(link.far(end)) for link in context.adjacencies_at.get(end, ())]
    if own is not None and any(far is not None and far.pvid == vid and native_lost(own, far) for far in fars):
        yield Witness(weights.TAKEN_AWAY, f"its list lacks VLAN {vid}, too, as if both were taken away at once")
    if vid == NONE:
        yield Witness(weights.FREE_NATIVE, "")
    elif vid not in context.used_around(end.device) and (same or vid == 1 or _listed(hearing, end, vid)):
        # One that only one end names is more like a slip.
        yield Witness(weights.FREE_NATIVE, f"no station is in VLAN {vid}")


def _listed(hearing: Hearing, end: End, vid: object) -> bool:
    """Whether the two ends of a link, and no others, name a VLAN in lists of the VLANs that they carry."""
    context = hearing.context
    ends = {end, *(link.far(end) for link in context.adjacencies_at.get(end, ()))}
    trunks = {one for link in context.network.adjacencies for one in (link.a, link.b)} | ends
    rows = {one: row.allowed for one in trunks if (row := context.port(one)) is not None and row.allowed is not None}
    naming = {one for one, held in rows.items() if vid in held and not held - context.once(ListedVlans).named}
    return naming == ends
