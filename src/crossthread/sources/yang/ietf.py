"""YANG instance data in JSON (RFC 7951): what a device says of itself in standard and in openconfig models.

Read are ietf-interfaces with ietf-ip (RFC 8343, RFC 8344), ieee802-dot1ab-lldp, ieee802-dot1q-bridge, and the
openconfig models of interfaces, VLANs, LLDP and spanning tree.
"""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Callable

from crossthread.sources.covering import in_full
from crossthread.sources.yang import openconfig
from crossthread.sources.yang.instance_data import (
    CAPABILITIES,
    Node,
    at,
    each,
    enabled_state,
    leaf,
    mac_of,
    number_at,
    own_address,
    plain,
    up_or_down,
    vid_of,
)
from crossthread.survey.records import Device, Gateway, Neighbor, Port, Row, Vlan
from crossthread.values import VlanSet


def is_yang(document: Node) -> bool:
    """Whether an object holds data of one of the modules that are read."""
    return any(key in _READERS for key in document)


def read_yang(device: str, document: Node, source: str) -> list[Row]:
    """The rows of everything in a document that a survey has a place for."""
    name = _system_name(document) or device
    rows: list[Row] = []
    for key, read in _READERS.items():
        if isinstance(document.get(key), dict):
            rows += read(name, plain(document[key]), source)
    return rows + in_full(name, {table for key in document for table in _COVERED.get(key, ())}, source)


def _system_name(document: Node) -> str | None:
    standard = plain(document.get("ieee802-dot1ab-lldp:lldp", {}))
    other = plain(document.get("openconfig-lldp:lldp", {}))
    return leaf(standard, "local-system-data", "system-name") or leaf(other, "state", "system-name")


def _place(name: str) -> Node:
    """Where an interface that only a name tells of may sit: `port1.30` on port1 with tag 30, `vlan30` in VLAN 30."""
    tagged = re.fullmatch(r"(.+)\.(\d{1,4})", name)
    if tagged and vid_of(tagged[2]):
        return {"port": tagged[1], "vid": vid_of(tagged[2]), "untagged": "no"}
    inside = re.fullmatch(r"[a-z-]*vlan[^0-9]*(\d{1,4})", name.casefold())
    return {"vid": vid_of(inside[1])} if inside and vid_of(inside[1]) else {"port": name, "untagged": "yes"}


def _ietf_interfaces(device: str, root: Node, source: str) -> list[Row]:
    rows: list[Row] = []
    for entry in each(root, "interface"):
        name = leaf(entry, "name")
        if name is None or "softwareLoopback" in str(entry.get("type")):
            continue
        speed = number_at(entry, "speed")
        admin = up_or_down(entry.get("admin-status")) or enabled_state(entry.get("enabled"))
        oper = up_or_down(entry.get("oper-status"))
        if "ethernetCsmacd" in str(entry.get("type")) or "ieee8023adLag" in str(entry.get("type")):
            rows.append(
                Port(
                    device,
                    name,
                    description=leaf(entry, "description"),
                    mac=mac_of(leaf(entry, "phys-address")),
                    admin=admin,
                    oper=oper,
                    speed=speed // 1_000_000 if speed else None,
                    pvid=vid_of(at(entry, "bridge-port", "pvid")),
                    source=source,
                )
            )
        for family in ("ipv4", "ipv6"):
            for own in each(entry, family, "address"):
                text = own_address(leaf(own, "ip"), number_at(own, "prefix-length"), leaf(own, "netmask"))
                if text is not None:
                    rows.append(Gateway(device, name, text, admin=admin, oper=oper, source=source, **_place(name)))
    return rows


def _dot1ab_lldp(device: str, root: Node, source: str) -> list[Row]:
    own = at(root, "local-system-data")
    rows: list[Row] = []
    if isinstance(own, dict):
        words = _words(own.get("system-capabilities-enabled"))
        chassis = leaf(own, "chassis-id")
        rows.append(
            Device(
                device,
                mac_of(chassis) or chassis,
                words,
                leaf(own, "system-description"),
                discovery="on",
                source=source,
            )
        )
    for port in each(root, "port"):
        name = leaf(port, "name")
        for far in each(port, "remote-systems-data") if name else ():
            chassis, identifier = leaf(far, "chassis-id"), leaf(far, "port-id")
            addresses = [leaf(a, "address") for a in each(far, "management-address")]
            rows.append(
                Neighbor(
                    device,
                    name or "",
                    "lldp",
                    leaf(far, "system-name"),
                    mac_of(chassis) or chassis,
                    mac_of(identifier) or identifier,
                    leaf(far, "port-desc"),
                    next((a for a in addresses if a), None),
                    _words(far.get("system-capabilities-enabled")),
                    leaf(far, "system-description"),
                    source=source,
                )
            )
    return rows


def _words(value: object) -> tuple[str, ...] | None:
    """Capabilities: a bits leaf is words separated by blanks (RFC 7951 section 6.5)."""
    if not isinstance(value, str):
        return None
    words = [
        {"telephone": "phone", "wlan-access-point": "wlan", "station-only": "station"}.get(w, w) for w in value.split()
    ]
    return tuple(word for word in words if word in CAPABILITIES)


def _dot1q_bridges(device: str, root: Node, source: str) -> list[Row]:
    rows: list[Row] = []
    egress: dict[str, int] = defaultdict(int)
    bare: dict[str, int] = defaultdict(int)
    for bridge in each(root, "bridge"):
        for component in each(bridge, "component"):
            for vlan in each(component, "bridge-vlan", "vlan"):
                vid = vid_of(vlan.get("vid"))
                if vid is None:
                    continue
                rows.append(Vlan(device, vid, leaf(vlan, "name"), "active", source=source))
                for names, members in (("egress-ports", egress), ("untagged-ports", bare)):
                    for port in vlan.get(names) if isinstance(vlan.get(names), list) else ():  # type: ignore[union-attr]
                        members[str(port)] |= 1 << vid
    for port in sorted(egress.keys() | bare.keys()):
        carried = VlanSet(egress[port] | bare[port])
        rows.append(Port(device, port, mode="hybrid", allowed=carried, untagged=VlanSet(bare[port]), source=source))
    return rows


_READERS: dict[str, Callable[[str, Node, str], list[Row]]] = {
    "ietf-interfaces:interfaces": _ietf_interfaces,
    "ieee802-dot1ab-lldp:lldp": _dot1ab_lldp,
    "ieee802-dot1q-bridge:bridges": _dot1q_bridges,
    "openconfig-interfaces:interfaces": openconfig.read_interfaces,
    "openconfig-vlan:vlans": openconfig.read_vlans,
    "openconfig-lldp:lldp": openconfig.read_lldp,
    "openconfig-spanning-tree:stp": openconfig.read_tree,
}

_COVERED = {
    "ietf-interfaces:interfaces": ("ports", "gateways"),
    "ieee802-dot1ab-lldp:lldp": ("neighbors",),
    "openconfig-interfaces:interfaces": ("ports", "gateways"),
    "openconfig-lldp:lldp": ("neighbors",),
    "openconfig-spanning-tree:stp": ("trees", "tree_ports"),
}
"""The tables that a module has in full."""
