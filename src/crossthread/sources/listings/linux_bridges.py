"""The bridges of a Linux device that filter no VLANs: one that passes all on as it comes, or one for each VLAN.

A bridge whose ports are tagged interfaces (`up1.30`) takes the tags off: it is a VLAN, and each port below such an
interface a trunk. Several bridges in one device that have no tagged port are kept apart by what no table has a place
for: of their ports no VLAN is known.
"""

from __future__ import annotations

from typing import NamedTuple

from crossthread.sources.listings.linux_links import Links, link_data
from crossthread.sources.listings.shapes import Entry
from crossthread.survey.records import Device, Row, Tree
from crossthread.values import NO_VID, VlanSet, parse_mac


class Member(NamedTuple):
    """Where an interface that is in a bridge sends its frames: by which port, and with which tag."""

    port: str
    vid: int
    """The VLAN of the bridge; `NO_VID` where it is none."""
    tagged: bool


class Bridges(NamedTuple):
    """What the bridges of a device that filter no VLANs say.

    Attributes
    ----------
    aware
        False for a device whose one bridge passes frames on whatever tag they have.
    vids
        The VLAN that each bridge is.
    members
        Of each interface in a bridge its port and tag.
    """

    aware: bool
    vids: dict[str, int]
    members: dict[str, Member]


def find_bridges(links: Links) -> Bridges:
    """The bridges of a device, if none of them filters VLANs; of others the listings say what their ports do."""
    bridges = {name: data for name, link in links.items() if (data := link_data(link, "info", "bridge")) is not None}
    if not bridges or any(data.get("vlan_filtering") != 0 for data in bridges.values()):
        return Bridges(True, {}, {})
    tags = {name: _tag(link, links) for name, link in links.items() if link.get("master") in bridges}
    held = {bridge: {n: t for n, t in tags.items() if links[n]["master"] == bridge} for bridge in bridges}
    if len(bridges) == 1 and all(tag is None for tag in tags.values()):
        return Bridges(False, {}, {})
    seen = {bridge: {tag[1] for tag in members.values() if tag is not None} for bridge, members in held.items()}
    alone = {bridge: next(iter(vids)) for bridge, vids in seen.items() if len(vids) == 1}
    vids = {bridge: vid for bridge, vid in alone.items() if list(alone.values()).count(vid) == 1}
    members = {
        name: Member(name, vid, False) if tag is None else Member(tag[0], vid, True)
        for bridge, vid in vids.items()
        for name, tag in held[bridge].items()
    }
    return Bridges(True, vids, members)


def _tag(link: Entry, links: Links) -> tuple[str, int] | None:
    """The port below a tagged interface, and the tag; None for one that has no tag."""
    data, below = link_data(link, "info", "vlan"), link.get("link")
    vid = data.get("id") if data is not None else None
    return (below, vid) if isinstance(below, str) and isinstance(vid, int) and below in links else None


def port_cells(bridges: Bridges) -> dict[str, Entry]:
    """The VLAN columns of the ports of bridges that are each a VLAN."""
    tagged, bare = dict[str, VlanSet](), dict[str, int]()
    for member in bridges.members.values():
        if member.tagged:
            tagged[member.port] = tagged.get(member.port, VlanSet()) | VlanSet.of([member.vid])
        else:
            bare[member.port] = member.vid
    found: dict[str, Entry] = {port: {"mode": "access", "pvid": vid} for port, vid in bare.items()}
    for port, vids in tagged.items():
        own = bare.get(port, NO_VID)
        carried = vids | (VlanSet.of([own]) if own else VlanSet())
        found[port] = {"mode": "trunk", "pvid": own, "allowed": carried}
    return found


def read_bridges(name: str, links: Links, bridges: Bridges, source: str) -> list[Row]:
    """The device's row, if it knows no VLANs, and what each bridge says of its spanning tree."""
    found: list[Row] = [] if bridges.aware else [Device(name, vlan_aware="no", source=source)]
    for bridge, link in links.items():
        data = link_data(link, "info", "bridge")
        vid = bridges.vids.get(bridge)
        if data is None or (vid is None and bridges.aware):
            continue
        if data.get("stp_state") == 0:
            found += [] if vid else [Tree(name, 0, protocol="off", bpdus="pass", source=source)]
            continue
        if data.get("stp_state") != 1:
            continue  # a program outside the kernel runs it, and says more than the kernel
        own, root = _identifier(data.get("bridge_id")), _identifier(data.get("root_id"))
        cost, number = data.get("root_path_cost"), data.get("root_port")
        ports = {_number(entry): port for port, entry in links.items() if entry.get("master") == bridge}
        held = ports.get(number) if number else None
        member = bridges.members.get(held or "")
        found.append(
            Tree(
                name,
                vid or 0,
                protocol="per-vlan" if vid else "stp",
                priority=own[0],
                address=own[1],
                root_priority=root[0],
                root_address=root[1],
                root_cost=cost if isinstance(cost, int) else None,
                root_port=member.port if member is not None else held,
                source=source,
            )
        )
    if bridges.vids and not any(isinstance(row, Tree) for row in found):
        found.append(Tree(name, 0, protocol="off", bpdus="pass", source=source))
    return found


def _number(link: Entry) -> int | None:
    """The number of a port in its bridge."""
    text = str((link_data(link, "info_slave", "bridge") or {}).get("no"))
    try:
        return int(text, 16)
    except ValueError:
        return None


def _identifier(text: object) -> tuple[int | None, str | None]:
    """The priority and MAC address of a bridge identifier as `8000.2:7:ff:0:0:1` (IEEE 802.1D clause 9.2.5)."""
    priority, _, tail = str(text).partition(".")
    try:
        return int(priority, 16) & 0xF000, parse_mac(":".join(part.zfill(2) for part in tail.split(":")))
    except ValueError:
        return None, None
