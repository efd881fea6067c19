"""The database listing of Open vSwitch in JSON: ports with their VLANs, bridges with their spanning tree."""

from __future__ import annotations

import contextlib
from typing import Any

from crossthread.sources.listings.shapes import Entry
from crossthread.survey.records import MacEntry, Port, Tree, TreePort
from crossthread.values import NO_VID, VlanSet, parse_mac

Listing = dict[str, Entry]
_NOTHING = 4095
"""A trunk whose list holds only this reserved VID carries nothing."""


def rows_of(document: Entry) -> Listing:
    """The rows of a table by name, with sets as lists and maps as dictionaries."""
    headings = [str(column) for column in document["headings"]]
    found = {}
    for row in document["data"]:
        if isinstance(row, list) and len(row) == len(headings):
            values = {column: _plain(value) for column, value in zip(headings, row, strict=True)}
            if isinstance(values.get("name"), str):
                found[values["name"]] = values
    return found


def _plain(value: object) -> Any:
    if isinstance(value, list) and len(value) == 2:
        if value[0] == "set" and isinstance(value[1], list):
            return [_plain(part) for part in value[1]]
        if value[0] == "map" and isinstance(value[1], list):
            return {str(pair[0]): _plain(pair[1]) for pair in value[1] if isinstance(pair, list) and len(pair) == 2}
        if value[0] == "uuid":
            return value[1]
    return value


def tag_of(row: Entry) -> int | None:
    """The `tag` of a port, if it has one."""
    tag = row.get("tag")
    return tag if isinstance(tag, int) and not isinstance(tag, bool) and 1 <= tag <= 4094 else None


def vlan_cells(row: Entry) -> Entry:
    """The VLAN columns of a port, in the words of the survey; empty where the mode is none that it has words for."""
    tag, mode = tag_of(row), row.get("vlan_mode")
    listed = row.get("trunks")
    trunks = [vid for vid in (listed if isinstance(listed, list) else [listed]) if isinstance(vid, int)]
    members = VlanSet.of(vid for vid in trunks if 1 <= vid <= 4094) if trunks else VlanSet.all()
    if mode == "access" or (not mode and tag is not None):
        return {"mode": "access", "pvid": tag if tag is not None else NO_VID}
    if mode == "dot1q-tunnel" and tag is not None:
        return {"mode": "tunnel", "pvid": tag}
    if mode == "native-untagged" and tag is not None:
        return {"mode": "trunk", "pvid": tag, "allowed": members | VlanSet.of([tag])}
    if mode == "native-tagged" and tag is not None:
        carried = members | VlanSet.of([tag])
        return {"mode": "hybrid", "pvid": tag, "allowed": carried, "untagged": VlanSet()}
    if mode == "trunk" or not mode:
        return {"mode": "trunk", "pvid": NO_VID, "allowed": members}
    return {}


def read_ports(device: str, ports: Listing, interfaces: Listing, names: set[str], source: str) -> list[Port]:
    """A row for each of the named ports."""
    found = []
    for name, row in ports.items():
        if name not in names:
            continue
        link = interfaces.get(name, {})
        speed = link.get("link_speed")
        running = isinstance(speed, int) and speed > 0 and link.get("link_state") == "up"
        duplex = link.get("duplex")
        found.append(
            Port(
                device,
                name,
                speed=speed // 1_000_000 if running and isinstance(speed, int) else None,
                duplex=duplex if running and duplex in ("full", "half") else None,
                isolated="yes" if row.get("protected") is True else None,
                source=source,
                **vlan_cells(row),
            )
        )
    return found


def bundles(ports: Listing, interfaces: Listing) -> dict[str, list[str]]:
    """The ports that bundle several interfaces, with these."""
    names = {str(row.get("_uuid")): name for name, row in interfaces.items()}
    held = {port: row.get("interfaces") for port, row in ports.items()}
    listed = {
        port: sorted(names[str(uuid)] for uuid in uuids if str(uuid) in names)
        for port, uuids in held.items()
        if isinstance(uuids, list)
    }
    return {port: members for port, members in listed.items() if len(members) > 1}


def read_bundles(device: str, ports: Listing, interfaces: Listing, source: str) -> list[Port]:
    """A row for each port that bundles several interfaces, and what each of these has to do with it (IEEE 802.1AX)."""
    found = []
    for name, members in bundles(ports, interfaces).items():
        row, up = ports[name], False
        for member in members:
            link = interfaces[member]
            lit = link.get("link_state") == "up"
            state: str | None = "attached" if lit else None
            if row.get("lacp") in ("active", "passive") and lit:
                state = "attached" if link.get("lacp_current") is True else "detached"
            up = up or state == "attached"
            found.append(Port(device, member, lag=name, lag_state=state, source=source))
        isolated = "yes" if row.get("protected") is True else None
        oper = "up" if up else "down"
        found.append(Port(device, name, admin="up", oper=oper, isolated=isolated, source=source, **vlan_cells(row)))
    return found


def is_database(data: bytes) -> bool:
    """Whether a text lists a filtering database: port numbers, VLANs, addresses, ages."""
    return data[:200].split(b"\n", 1)[0].split() == [b"port", b"VLAN", b"MAC", b"Age"]


def read_database(device: str, text: str, interfaces: Listing, source: str) -> list[MacEntry]:
    """The entries of a filtering database, whose ports are numbers that the interfaces' listing has as `ofport`."""
    names = {str(row.get("ofport")): name for name, row in interfaces.items()}
    found = []
    for line in text.splitlines()[1:]:
        words = line.split()
        with contextlib.suppress(ValueError):
            if len(words) == 4 and words[0] in names and words[1].isdecimal() and int(words[1]) <= 4094:
                kind = "static" if words[3] == "static" else "learned"
                mac = parse_mac(words[2])
                found.append(MacEntry(device, int(words[1]) or None, mac, names[words[0]], kind, source=source))
    return found


def read_trees(
    device: str, bridges: Listing, ports: Listing, interfaces: Listing, names: set[str], source: str
) -> list[Tree | TreePort]:
    """What the bridge says of its spanning tree, and the part of each named port."""
    found: list[Tree | TreePort] = []
    for bridge in bridges.values():
        if bridge.get("rstp_enable") is not True:
            if bridge.get("stp_enable") is not True:
                found.append(Tree(device, 0, protocol="off", source=source))
            continue
        status = bridge.get("rstp_status")
        status = status if isinstance(status, dict) else {}
        own, root = _bridge_id(status.get("rstp_bridge_id")), _bridge_id(status.get("rstp_root_id"))
        cost = str(status.get("rstp_root_path_cost", ""))
        roles = {
            name: _tree_port(device, name, ports[name], interfaces.get(name, {}), source)
            for name in names & ports.keys()
        }
        root_port = next((name for name, row in roles.items() if row is not None and row.role == "root"), None)
        found.append(
            Tree(
                device,
                0,
                protocol="rstp",
                priority=own[0],
                address=own[1],
                root_priority=root[0],
                root_address=root[1],
                root_cost=int(cost) if cost.isdecimal() else None,
                root_port=root_port,
                forward_delay=_timer(bridge, "rstp-forward-delay"),
                max_age=_timer(bridge, "rstp-max-age"),
                source=source,
            )
        )
        found += [row for row in roles.values() if row is not None]
    return found


def _timer(bridge: Entry, name: str) -> float | None:
    """A timer in seconds, if it was set."""
    config = bridge.get("other_config")
    text = str(config.get(name, "")) if isinstance(config, dict) else ""
    return float(text) if text.isdecimal() else None


def _bridge_id(text: object) -> tuple[int | None, str | None]:
    """`8.000.0261…`: the priority's upper four bits, the system-ID extension, the MAC address."""
    parts = str(text).split(".")
    with contextlib.suppress(ValueError):
        if len(parts) == 3:
            return int(parts[0], 16) * 4096, parse_mac(parts[2])
    return None, None


def _tree_port(device: str, name: str, row: Entry, link: Entry, source: str) -> TreePort | None:
    status, config = row.get("rstp_status"), row.get("other_config")
    status = status if isinstance(status, dict) else {}
    config = config if isinstance(config, dict) else {}
    role, state = str(status.get("rstp_port_role", "")).lower(), str(status.get("rstp_port_state", "")).lower()
    if role not in ("root", "designated", "alternate", "backup", "disabled"):
        return None
    try:
        identifier = int(str(status.get("rstp_port_id")), 16)
    except ValueError:
        return None
    cost = str(config.get("rstp-path-cost", ""))
    speed = link.get("link_speed")
    usual = max(1, 20_000_000_000_000 // speed) if isinstance(speed, int) and speed > 0 else None
    return TreePort(
        device,
        name,
        0,
        role=role,
        state=state if state in ("forwarding", "learning", "discarding") else None,
        cost=int(cost) if cost.isdecimal() else usual,
        priority=identifier >> 12 << 4,
        number=identifier & 0xFFF,
        edge="yes" if config.get("rstp-port-admin-edge") == "true" else None,
        source=source,
    )
