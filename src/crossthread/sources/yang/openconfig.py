"""The openconfig models of interfaces with VLANs and addresses, of VLANs, LLDP and spanning tree."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec.structs import replace

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
    state_of,
    up_or_down,
    vid_of,
    word_of,
)
from crossthread.survey.records import Device, Gateway, Neighbor, Port, Row, Tree, TreePort, Vlan
from crossthread.values import VlanSet

_WORDS = {"mac_bridge": "bridge", "telephone": "phone", "wlan_access_point": "wlan"}
_SPEEDS = {"10MB": 10, "100MB": 100, "1GB": 1000, "2500MB": 2500, "5GB": 5000, "10GB": 10_000, "25GB": 25_000,
           "40GB": 40_000, "50GB": 50_000, "100GB": 100_000}  # fmt: skip


def read_interfaces(device: str, root: Node, source: str) -> list[Row]:
    """Read openconfig-interfaces, with Ethernet, VLANs and addresses."""
    rows: list[Row] = []
    for entry in each(root, "interface"):
        name = leaf(entry, "name")
        if name is None or "softwareLoopback" in str(state_of(entry, "type")):
            continue
        ethernet = at(entry, "ethernet")
        admin = up_or_down(state_of(entry, "admin-status")) or enabled_state(state_of(entry, "enabled"))
        oper = up_or_down(state_of(entry, "oper-status"))
        if isinstance(ethernet, dict):
            speed = str(state_of(ethernet, "port-speed") or "").rpartition("_")[2]
            duplex = str(
                state_of(ethernet, "negotiated-duplex-mode") or state_of(ethernet, "duplex-mode") or ""
            ).lower()
            mtu = state_of(entry, "mtu")
            rows.append(
                Port(
                    device,
                    name,
                    description=word_of(state_of(entry, "description")),
                    admin=admin,
                    oper=oper,
                    mac=mac_of(word_of(state_of(ethernet, "mac-address"))),
                    speed=_SPEEDS.get(speed) if oper == "up" else None,
                    duplex=duplex if duplex in ("full", "half") else None,
                    mtu=mtu if isinstance(mtu, int) else None,
                    lag=word_of(state_of(ethernet, "aggregate-id")),
                    source=source,
                    **_switched(ethernet),
                )
            )
        state: Node = {"admin": admin, "oper": oper, "source": source}
        routed = at(entry, "routed-vlan")
        if isinstance(routed, dict):
            vid = vid_of(state_of(routed, "vlan"))
            rows += [Gateway(device, name, own, vid, **state) for own in _addresses(routed)]
        for part in each(entry, "subinterfaces", "subinterface"):
            index = number_at(part, "index") or 0
            tag = vid_of(state_of(at(part, "vlan") or {}, "vlan-id"))
            tag = tag or vid_of(state_of(at(part, "vlan", "match", "single-tagged") or {}, "vlan-id"))
            label = f"{name}.{index}" if index else name
            where: Node = {"vid": tag, "port": name, "untagged": "no" if tag else "yes"}
            rows += [Gateway(device, label, own, **where, **state) for own in _addresses(part)]
    return rows


def _switched(ethernet: Node) -> Node:
    vlan = at(ethernet, "switched-vlan")
    mode = str(state_of(vlan, "interface-mode")).upper() if isinstance(vlan, dict) else ""
    if mode == "ACCESS":
        return {"mode": "access", "pvid": vid_of(state_of(vlan, "access-vlan"))}
    if mode != "TRUNK":
        return {}
    native, listed = vid_of(state_of(vlan, "native-vlan")), state_of(vlan, "trunk-vlans")
    members = VlanSet.of([native]) if native else VlanSet()
    for part in listed if isinstance(listed, list) else ():
        try:
            members = members | VlanSet.parse(str(part).replace("..", "-"))
        except ValueError:
            continue
    return {"mode": "trunk", "pvid": native, "allowed": members if isinstance(listed, list) else VlanSet.all()}


def _addresses(node: Node) -> Iterator[str]:
    for family in ("ipv4", "ipv6"):
        for entry in each(node, family, "addresses", "address"):
            length = state_of(entry, "prefix-length")
            own = own_address(leaf(entry, "ip"), length if isinstance(length, int) else None)
            if own is not None:
                yield own


def read_vlans(device: str, root: Node, source: str) -> list[Row]:
    """Read openconfig-vlan."""
    rows: list[Row] = []
    for entry in each(root, "vlan"):
        vid = vid_of(entry.get("vlan-id"))
        status = {"ACTIVE": "active", "SUSPENDED": "suspended"}.get(str(state_of(entry, "status")).upper())
        if vid is not None:
            rows.append(Vlan(device, vid, word_of(state_of(entry, "name")), status, source=source))
    return rows


def read_lldp(device: str, root: Node, source: str) -> list[Row]:
    """Read openconfig-lldp."""
    chassis = leaf(root, "state", "chassis-id")
    rows: list[Row] = []
    if chassis is not None:
        rows.append(Device(device, mac_of(chassis) or chassis, discovery="on", source=source))
    for port in each(root, "interfaces", "interface"):
        for entry in each(port, "neighbors", "neighbor"):
            enabled = [w for w in each(entry, "capabilities", "capability") if state_of(w, "enabled") is True]
            words = [_WORDS.get(w, w) for w in (str(e.get("name")).rpartition(":")[2].lower() for e in enabled)]
            far, identifier = leaf(entry, "state", "chassis-id"), leaf(entry, "state", "port-id")
            rows.append(
                Neighbor(
                    device,
                    leaf(port, "name") or "?",
                    "lldp",
                    leaf(entry, "state", "system-name"),
                    mac_of(far) or far,
                    mac_of(identifier) or identifier,
                    leaf(entry, "state", "port-description"),
                    leaf(entry, "state", "management-address"),
                    tuple(w for w in words if w in CAPABILITIES) or None,
                    leaf(entry, "state", "system-description"),
                    ttl=number_at(entry, "state", "ttl"),
                    source=source,
                )
            )
    return rows


def read_tree(device: str, root: Node, source: str) -> list[Row]:
    """Read openconfig-spanning-tree: the rapid tree."""
    tree = at(root, "rstp")
    if not isinstance(tree, dict):
        return []
    root_port = state_of(tree, "root-port")
    rows: list[Row] = [
        Tree(
            device,
            0,
            protocol="rstp",
            priority=number_at(tree, "state", "bridge-priority"),
            address=mac_of(leaf(tree, "state", "bridge-address")),
            root_priority=number_at(tree, "state", "designated-root-priority"),
            root_address=mac_of(leaf(tree, "state", "designated-root-address")),
            root_cost=number_at(tree, "state", "root-cost"),
            source=source,
        )
    ]
    for port in each(tree, "interfaces", "interface"):
        name, state = leaf(port, "name"), str(state_of(port, "port-state")).rpartition(":")[2].lower()
        role = str(state_of(port, "role")).rpartition(":")[2].lower()
        if name is None:
            continue
        state = {"blocking": "discarding", "listening": "discarding"}.get(state, state)
        number = number_at(port, "state", "port-num")
        rows.append(
            TreePort(
                device,
                name,
                0,
                role=role if role in ("root", "designated", "alternate", "backup") else None,
                state=state if state in ("forwarding", "learning", "discarding") else None,
                cost=number_at(port, "state", "cost"),
                priority=number_at(port, "state", "port-priority"),
                number=number,
                source=source,
            )
        )
        if root_port is not None and number == root_port:
            assert isinstance(rows[0], Tree)
            rows[0] = replace(rows[0], root_port=name)
    return rows
