"""With which tag hosts send of which no row says it: by what their ports learned, and what they tell telephones.

A row without a VID is that of a host that does not tag. But a bridge that learned it at its port in a VLAN which is not
the port's own took a tag off its frames: a telephone put it there, or a machine or an access point that has several
stations behind it. Where the row has it at a trunk itself, it may also be that the port was an access port when that
was learned. A host with an address of the VLAN that its port tells telephones to tag may be one.
"""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Collection, Sequence, Set
from itertools import compress, count
from operator import ne

from crossthread.network.hosts.blocks import Block
from crossthread.network.topology.names import End, Names
from crossthread.survey import Survey
from crossthread.survey.records import Port
from crossthread.values import NO_VID, NONE

Place = tuple[str, str | None]
Tags = dict[int, tuple[int, ...]]
"""The tags that hosts may send, by the places of their rows; `NO_VID` for none, negative those that their ports take by
what was learned only."""


def tag_of(port: Port | None, vid: int | None) -> int:
    """The tag of the frames that a port takes into a VLAN; `NO_VID` if they have none, or it takes none into that."""
    if port is None or not vid or vid == port.pvid:
        return NO_VID
    if port.mode == "access":
        return vid if port.voice == vid else NO_VID
    takes = port.mode in ("trunk", "hybrid", None) and (port.allowed is None or vid in (*port.allowed, port.voice))
    return vid if takes and port.pvid is not None and vid not in (port.untagged or ()) else NO_VID


def may_be_told(port: Port | None, tag: int) -> bool:
    """Whether an access port may take frames with a tag that is not its own VLAN's: nobody read its voice VLAN."""
    if port is None or port.mode != "access" or port.voice is not None or port.frames == "untagged":
        return False
    return port.pvid != tag


def learned_tags(survey: Survey, names: Names, places: Sequence[Place], joined: Sequence[int]) -> Tags:
    """The tags that hosts send by what their ports learned, of those whose rows name none; none of what is as expected.

    `joined` is the VLAN that frames without a tag join, or would, for the place where each host is: nearly all were
    learned in that one.
    """
    own = dict(zip(survey.column("hosts", "mac"), map(abs, joined), strict=True))
    own.pop(None, None)
    macs, vids = survey.column("macs", "mac"), survey.column("macs", "vid")
    odd = {macs[at] for at in compress(count(), map(ne, vids, map(own.get, macs)))} & own.keys()
    hosts = survey.table("hosts").positions("mac") if odd else {}
    return learned_by(survey, names, places, [hosts[mac][0] for mac in sorted(odd)])


def learned_by(survey: Survey, names: Names, places: Sequence[Place], wanted: Collection[int]) -> Tags:
    """The same of some hosts, by the places of their rows."""
    if not wanted:
        return {}
    told, owned = survey.column("hosts", "vid"), survey.column("hosts", "mac")
    devices, ports, vids, kinds = (survey.column("macs", name) for name in ("device", "port", "vid", "kind"))
    homes, sockets = survey.column("hosts", "device"), survey.column("hosts", "port")
    owners, learned = survey.table("hosts").positions("mac"), survey.table("macs").positions("mac")
    found: dict[int, set[int]] = defaultdict(set)
    for n in wanted:
        device, own = places[n]
        entries = learned.get(owned[n], ()) if told[n] is None and own and len(owners[owned[n]]) == 1 else ()
        for at in entries:
            port = ports[at]
            here = port and names.spelled[devices[at]] == device and own in (port, names.port(device, port))
            row = names.row(End(device, own)) if own and here and kinds[at] != "self" else None
            if row is not None:
                found[n].add(-vids[at] if _beside_others(survey, row, at) else tag_of(row, vids[at]))
                found[n] |= {NO_VID} if row.mode != "access" and homes[n] and sockets[n] else set()
    return {n: tuple(sorted(tags, key=abs)) for n, tags in found.items()}


def _beside_others(survey: Survey, port: Port, at: int) -> bool:
    """Whether an access port learned one station in another VLAN and one in its own: it takes what a telephone tags.

    So it may be where its voice VLAN was not read. The place of the entry of the former is given.
    """
    devices, ports, vids, kinds = (survey.column("macs", name) for name in ("device", "port", "vid", "kind"))
    if port.mode != "access" or port.voice is not None or not port.pvid or vids[at] in (None, port.pvid):
        return False
    near = survey.table("macs").positions("device").get(devices[at].casefold(), ())
    return any(ports[n] == ports[at] and vids[n] == port.pvid and kinds[n] != "self" for n in near)


def telephones(survey: Survey, names: Names, places: Sequence[Place], heads: Sequence[str]) -> Tags:
    """The hosts with an address of the subnet of the VLAN that their port tells telephones to tag: they may do so.

    `heads` are the hosts' addresses without their last part, where that does not matter.
    """
    told = compress(count(), survey.column("ports", "voice"))
    rows = (survey.ports[n] for n in told)
    voices: dict[Place, int | None] = {(names.spelled[row.device], row.port): row.voice for row in rows}
    served = _served(survey) if voices else {}
    if not served:
        return {}
    addresses, vids = survey.column("hosts", "address"), survey.column("hosts", "vid")
    keys = [(head, voices.get(place)) for head, place in zip(heads, places, strict=True)]
    first = dict(zip(reversed(keys), reversed(range(len(keys))), strict=True))
    fits = {
        key
        for key, n in first.items()
        if key[1] in served and (text := addresses[n]) and text != NONE and Block.of(text) in served[key[1]]
    }
    return {n: (NO_VID, key[1]) for n, key in enumerate(keys) if fits and key in fits and key[1] and vids[n] is None}


def several_at_trunks(survey: Survey, names: Names, places: Sequence[Place], crowded: Set[Place]) -> Tags:
    """The hosts of which there are several at one trunk: something is between, and may tag with their subnet's VLAN.

    `crowded` are the places of several hosts.
    """
    if not crowded:
        return {}
    taking = (mode in ("trunk", "hybrid") for mode in survey.column("ports", "mode"))
    rows = compress(zip(survey.column("ports", "device"), survey.column("ports", "port"), strict=True), taking)
    trunks = crowded & {(names.spelled[device], port) for device, port in rows}
    there = [*compress(count(), map(trunks.__contains__, places))]
    number, vids = Counter(places[n] for n in there), survey.column("hosts", "vid")
    beside = [n for n in there if number[places[n]] > 1 and vids[n] is None]
    addresses, served = survey.column("hosts", "address"), _served(survey) if beside else {}
    homes: dict[Block, list[int]] = defaultdict(list)
    for vid in sorted(served):
        for block in served[vid]:
            homes[block].append(vid)
    known = ((n, text) for n in beside if (text := addresses[n]) and text != NONE)
    return {n: (NO_VID, *served_in) for n, text in known if (served_in := homes.get(Block.of(text)))}


def _served(survey: Survey) -> dict[int, set[Block]]:
    """The subnets that interfaces serve in each VLAN."""
    found: dict[int, set[Block]] = defaultdict(set)
    for row in survey.gateways:
        if row.vid and row.address and row.address != NONE:
            found[row.vid].add(Block.of(row.address))
    return found
