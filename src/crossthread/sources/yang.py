"""YANG instance data in JSON (RFC 7951): what a device says of itself in standard and in openconfig models.

Read are ietf-interfaces with ietf-ip (RFC 8343, RFC 8344), ieee802-dot1ab-lldp, ieee802-dot1q-bridge, and the
openconfig models of interfaces, VLANs, LLDP and spanning tree.
"""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Callable, Iterator
from ipaddress import IPv4Address
from typing import Any

from msgspec.structs import replace

from crossthread.survey.tables import Device, Gateway, Neighbor, Port, Row, Tree, TreePort, Vlan
from crossthread.values import VlanSet, interface, parse_mac

Node = dict[str, Any]
_CAPABILITIES = {"bridge", "router", "station", "phone", "wlan", "repeater", "other"}
_OC_WORDS = {"mac_bridge": "bridge", "telephone": "phone", "wlan_access_point": "wlan"}
_SPEEDS = {"10MB": 10, "100MB": 100, "1GB": 1000, "2500MB": 2500, "5GB": 5000, "10GB": 10_000, "25GB": 25_000,
           "40GB": 40_000, "50GB": 50_000, "100GB": 100_000}  # fmt: skip


def is_yang(document: Node) -> bool:
    """Whether an object holds data of one of the modules that are read."""
    return any(key in _READERS for key in document)


def read_yang(device: str, document: Node, source: str) -> list[Row]:
    """The rows of everything in a document that a survey has a place for."""
    name = _system_name(document) or device
    rows: list[Row] = []
    for key, read in _READERS.items():
        if isinstance(document.get(key), dict):
            rows += read(name, _plain(document[key]), source)
    return rows


def _plain(value: Any) -> Any:
    """The same data without the module names in front of members (RFC 7951 section 4)."""
    if isinstance(value, dict):
        return {str(key).rpartition(":")[2]: _plain(part) for key, part in value.items()}
    return [_plain(part) for part in value] if isinstance(value, list) else value


def _each(node: Any, *path: str) -> Iterator[Node]:
    """The entries of a list that stands at a path."""
    found = _at(node, *path)
    for entry in found if isinstance(found, list) else []:
        if isinstance(entry, dict):
            yield entry


def _at(node: Any, *path: str) -> Any:
    for name in path:
        node = node.get(name) if isinstance(node, dict) else None
    return node


def _text(node: Any, *path: str) -> str | None:
    found = _at(node, *path)
    return str(found) if isinstance(found, str | int) and not isinstance(found, bool) and str(found) else None


def _number(node: Any, *path: str) -> int | None:
    """A number; 64-bit ones are strings in JSON (RFC 7951 section 6.1)."""
    found = _text(node, *path)
    return int(found) if found is not None and found.isdecimal() and len(found) < 20 else None


def _state(node: Node, name: str) -> Any:
    """A leaf as it is, else as it is configured: openconfig keeps the two apart."""
    found = _at(node, "state", name)
    return found if found is not None else _at(node, "config", name)


def _word(value: Any) -> str | None:
    return value if isinstance(value, str) and value else None


def _mac(text: str | None) -> str | None:
    try:
        return parse_mac(text) if text else None
    except ValueError:
        return None


def _vid(value: Any) -> int | None:
    number = int(value) if isinstance(value, str | int) and str(value).isdecimal() and len(str(value)) < 6 else 0
    return number if 1 <= number <= 4094 else None


def _up(value: Any) -> str | None:
    return {"up": "up", "down": "down", "lower-layer-down": "down", "lower_layer_down": "down", "not-present": "down",
            "not_present": "down"}.get(str(value).lower())  # fmt: skip


def _enabled(value: Any) -> str | None:
    return {True: "up", False: "down"}.get(value) if isinstance(value, bool) else None


def _system_name(document: Node) -> str | None:
    standard = _plain(document.get("ieee802-dot1ab-lldp:lldp", {}))
    other = _plain(document.get("openconfig-lldp:lldp", {}))
    return _text(standard, "local-system-data", "system-name") or _text(other, "state", "system-name")


def _own(address: str | None, length: int | None, mask: str | None = None) -> str | None:
    try:
        if length is None and mask is not None:
            length = int(IPv4Address(mask)).bit_count()
        return str(interface(f"{address}/{length}")) if address and length is not None else None
    except ValueError:
        return None


def _place(name: str) -> Node:
    """Where an interface that only a name tells of may sit: `port1.30` on port1 with tag 30, `vlan30` in VLAN 30."""
    tagged = re.fullmatch(r"(.+)\.(\d{1,4})", name)
    if tagged and _vid(tagged[2]):
        return {"port": tagged[1], "vid": _vid(tagged[2]), "untagged": "no"}
    inside = re.fullmatch(r"[a-z-]*vlan[^0-9]*(\d{1,4})", name.casefold())
    return {"vid": _vid(inside[1])} if inside and _vid(inside[1]) else {"port": name, "untagged": "yes"}


def _ietf_interfaces(device: str, root: Node, source: str) -> list[Row]:
    rows: list[Row] = []
    for entry in _each(root, "interface"):
        name = _text(entry, "name")
        if name is None or "softwareLoopback" in str(entry.get("type")):
            continue
        speed = _number(entry, "speed")
        admin = _up(entry.get("admin-status")) or _enabled(entry.get("enabled"))
        oper = _up(entry.get("oper-status"))
        if "ethernetCsmacd" in str(entry.get("type")) or "ieee8023adLag" in str(entry.get("type")):
            rows.append(
                Port(
                    device, name, description=_text(entry, "description"), mac=_mac(_text(entry, "phys-address")),
                    admin=admin, oper=oper, speed=speed // 1_000_000 if speed else None,
                    pvid=_vid(_at(entry, "bridge-port", "pvid")), source=source,
                )
            )  # fmt: skip
        for family in ("ipv4", "ipv6"):
            for own in _each(entry, family, "address"):
                text = _own(_text(own, "ip"), _number(own, "prefix-length"), _text(own, "netmask"))
                if text is not None:
                    rows.append(Gateway(device, name, text, admin=admin, oper=oper, source=source, **_place(name)))
    return rows


def _dot1ab_lldp(device: str, root: Node, source: str) -> list[Row]:
    own = _at(root, "local-system-data")
    rows: list[Row] = []
    if isinstance(own, dict):
        words = _words(own.get("system-capabilities-enabled"))
        chassis = _text(own, "chassis-id")
        rows.append(
            Device(
                device, _mac(chassis) or chassis, words, _text(own, "system-description"), discovery="on", source=source
            )
        )
    for port in _each(root, "port"):
        name = _text(port, "name")
        for far in _each(port, "remote-systems-data") if name else ():
            chassis, identifier = _text(far, "chassis-id"), _text(far, "port-id")
            addresses = [_text(a, "address") for a in _each(far, "management-address")]
            rows.append(
                Neighbor(
                    device, name or "", "lldp", _text(far, "system-name"), _mac(chassis) or chassis,
                    _mac(identifier) or identifier, _text(far, "port-desc"), next((a for a in addresses if a), None),
                    _words(far.get("system-capabilities-enabled")), _text(far, "system-description"), source=source,
                )
            )  # fmt: skip
    return rows


def _words(value: Any) -> tuple[str, ...] | None:
    """Capabilities: a bits leaf is words separated by blanks (RFC 7951 section 6.5)."""
    if not isinstance(value, str):
        return None
    words = [
        {"telephone": "phone", "wlan-access-point": "wlan", "station-only": "station"}.get(w, w) for w in value.split()
    ]
    return tuple(word for word in words if word in _CAPABILITIES)


def _dot1q_bridges(device: str, root: Node, source: str) -> list[Row]:
    rows: list[Row] = []
    egress: dict[str, int] = defaultdict(int)
    bare: dict[str, int] = defaultdict(int)
    for bridge in _each(root, "bridge"):
        for component in _each(bridge, "component"):
            for vlan in _each(component, "bridge-vlan", "vlan"):
                vid = _vid(vlan.get("vid"))
                if vid is None:
                    continue
                rows.append(Vlan(device, vid, _text(vlan, "name"), "active", source=source))
                for names, members in (("egress-ports", egress), ("untagged-ports", bare)):
                    for port in vlan.get(names) if isinstance(vlan.get(names), list) else ():  # type: ignore[union-attr]
                        members[str(port)] |= 1 << vid
    for port in sorted(egress.keys() | bare.keys()):
        carried = VlanSet(egress[port] | bare[port])
        rows.append(Port(device, port, mode="hybrid", allowed=carried, untagged=VlanSet(bare[port]), source=source))
    return rows


def _oc_interfaces(device: str, root: Node, source: str) -> list[Row]:
    rows: list[Row] = []
    for entry in _each(root, "interface"):
        name = _text(entry, "name")
        if name is None or "softwareLoopback" in str(_state(entry, "type")):
            continue
        ethernet = _at(entry, "ethernet")
        admin = _up(_state(entry, "admin-status")) or _enabled(_state(entry, "enabled"))
        oper = _up(_state(entry, "oper-status"))
        if isinstance(ethernet, dict):
            speed = str(_state(ethernet, "port-speed") or "").rpartition("_")[2]
            duplex = str(_state(ethernet, "negotiated-duplex-mode") or _state(ethernet, "duplex-mode") or "").lower()
            mtu = _state(entry, "mtu")
            rows.append(
                Port(
                    device, name, description=_word(_state(entry, "description")), admin=admin, oper=oper,
                    mac=_mac(_word(_state(ethernet, "mac-address"))),
                    speed=_SPEEDS.get(speed) if oper == "up" else None,
                    duplex=duplex if duplex in ("full", "half") else None, mtu=mtu if isinstance(mtu, int) else None,
                    lag=_word(_state(ethernet, "aggregate-id")), source=source, **_switched(ethernet),
                )
            )  # fmt: skip
        state: Node = {"admin": admin, "oper": oper, "source": source}
        routed = _at(entry, "routed-vlan")
        if isinstance(routed, dict):
            vid = _vid(_state(routed, "vlan"))
            rows += [Gateway(device, name, own, vid, **state) for own in _oc_addresses(routed)]
        for part in _each(entry, "subinterfaces", "subinterface"):
            index = _number(part, "index") or 0
            tag = _vid(_state(_at(part, "vlan") or {}, "vlan-id"))
            tag = tag or _vid(_state(_at(part, "vlan", "match", "single-tagged") or {}, "vlan-id"))
            label = f"{name}.{index}" if index else name
            where: Node = {"vid": tag, "port": name, "untagged": "no" if tag else "yes"}
            rows += [Gateway(device, label, own, **where, **state) for own in _oc_addresses(part)]
    return rows


def _switched(ethernet: Node) -> Node:
    vlan = _at(ethernet, "switched-vlan")
    mode = str(_state(vlan, "interface-mode")).upper() if isinstance(vlan, dict) else ""
    if mode == "ACCESS":
        return {"mode": "access", "pvid": _vid(_state(vlan, "access-vlan"))}
    if mode != "TRUNK":
        return {}
    native, listed = _vid(_state(vlan, "native-vlan")), _state(vlan, "trunk-vlans")
    members = VlanSet.of([native]) if native else VlanSet()
    for part in listed if isinstance(listed, list) else ():
        try:
            members = members | VlanSet.parse(str(part).replace("..", "-"))
        except ValueError:
            continue
    return {"mode": "trunk", "pvid": native, "allowed": members if isinstance(listed, list) else VlanSet.all()}


def _oc_addresses(node: Node) -> Iterator[str]:
    for family in ("ipv4", "ipv6"):
        for entry in _each(node, family, "addresses", "address"):
            length = _state(entry, "prefix-length")
            own = _own(_text(entry, "ip"), length if isinstance(length, int) else None)
            if own is not None:
                yield own


def _oc_vlans(device: str, root: Node, source: str) -> list[Row]:
    rows: list[Row] = []
    for entry in _each(root, "vlan"):
        vid = _vid(entry.get("vlan-id"))
        status = {"ACTIVE": "active", "SUSPENDED": "suspended"}.get(str(_state(entry, "status")).upper())
        if vid is not None:
            rows.append(Vlan(device, vid, _word(_state(entry, "name")), status, source=source))
    return rows


def _oc_lldp(device: str, root: Node, source: str) -> list[Row]:
    chassis = _text(root, "state", "chassis-id")
    rows: list[Row] = []
    if chassis is not None:
        rows.append(Device(device, _mac(chassis) or chassis, discovery="on", source=source))
    for port in _each(root, "interfaces", "interface"):
        for entry in _each(port, "neighbors", "neighbor"):
            enabled = [w for w in _each(entry, "capabilities", "capability") if _state(w, "enabled") is True]
            words = [_OC_WORDS.get(w, w) for w in (str(e.get("name")).rpartition(":")[2].lower() for e in enabled)]
            far, identifier = _text(entry, "state", "chassis-id"), _text(entry, "state", "port-id")
            rows.append(
                Neighbor(
                    device, _text(port, "name") or "?", "lldp", _text(entry, "state", "system-name"), _mac(far) or far,
                    _mac(identifier) or identifier, _text(entry, "state", "port-description"),
                    _text(entry, "state", "management-address"), tuple(w for w in words if w in _CAPABILITIES) or None,
                    _text(entry, "state", "system-description"), ttl=_number(entry, "state", "ttl"), source=source,
                )
            )  # fmt: skip
    return rows


def _oc_tree(device: str, root: Node, source: str) -> list[Row]:
    tree = _at(root, "rstp")
    if not isinstance(tree, dict):
        return []
    root_port = _state(tree, "root-port")
    rows: list[Row] = [
        Tree(
            device, 0, protocol="rstp", priority=_number(tree, "state", "bridge-priority"),
            address=_mac(_text(tree, "state", "bridge-address")),
            root_priority=_number(tree, "state", "designated-root-priority"),
            root_address=_mac(_text(tree, "state", "designated-root-address")),
            root_cost=_number(tree, "state", "root-cost"), source=source,
        )
    ]  # fmt: skip
    for port in _each(tree, "interfaces", "interface"):
        name, state = _text(port, "name"), str(_state(port, "port-state")).rpartition(":")[2].lower()
        role = str(_state(port, "role")).rpartition(":")[2].lower()
        if name is None:
            continue
        state = {"blocking": "discarding", "listening": "discarding"}.get(state, state)
        number = _number(port, "state", "port-num")
        rows.append(
            TreePort(
                device, name, 0, role=role if role in ("root", "designated", "alternate", "backup") else None,
                state=state if state in ("forwarding", "learning", "discarding") else None,
                cost=_number(port, "state", "cost"), priority=_number(port, "state", "port-priority"), number=number,
                source=source,
            )
        )  # fmt: skip
        if root_port is not None and number == root_port:
            assert isinstance(rows[0], Tree)
            rows[0] = replace(rows[0], root_port=name)
    return rows


_READERS: dict[str, Callable[[str, Node, str], list[Row]]] = {
    "ietf-interfaces:interfaces": _ietf_interfaces,
    "ieee802-dot1ab-lldp:lldp": _dot1ab_lldp,
    "ieee802-dot1q-bridge:bridges": _dot1q_bridges,
    "openconfig-interfaces:interfaces": _oc_interfaces,
    "openconfig-vlan:vlans": _oc_vlans,
    "openconfig-lldp:lldp": _oc_lldp,
    "openconfig-spanning-tree:stp": _oc_tree,
}
