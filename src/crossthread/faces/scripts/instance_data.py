"""A repair as YANG instance data in JSON (RFC 7951), where the standard modules have a place for it.

Modules: ieee802-dot1q-bridge (IEEE 802.1Q-2018 clause 48), ietf-interfaces (RFC 8343), ietf-ip (RFC 8344). A bridge and
its component are called as the device is.
"""

from __future__ import annotations

from collections.abc import Sequence
from ipaddress import ip_interface
from typing import Any

import msgspec

from crossthread.diagnosis.repair.together import adds_interface
from crossthread.network.network import Network
from crossthread.network.topology.names import End
from crossthread.survey.changes import Change
from crossthread.values import NO_VID, NONE, VlanSet

Node = dict[str, Any]
"""One node of instance data (RFC 7951)."""
_BRIDGES, _INTERFACES = "ieee802-dot1q-bridge:bridges", "ietf-interfaces:interfaces"
_SEEN = {"oper", "link"}


def as_instance_data(network: Network, repair: Sequence[Change]) -> Node:
    """The data of each device that is to be merged into its configuration, and the changes that have no place there.

    Returns
    -------
    dict
        `devices`: by name, the documents; `elsewhere`: the changes, or what is left of them, as a survey has them.
    """
    documents: dict[str, Node] = {}
    elsewhere = []
    for change in repair:
        device = str(change.key.get("device", ""))
        rest = change
        if device and not change.delete:
            rest = _placed(network, documents.setdefault(device, {}), change)
        if rest.delete or set(rest.cells) - _SEEN:
            elsewhere.append(rest)
    return {"devices": {name: found for name, found in documents.items() if found}, "elsewhere": elsewhere}


def _placed(network: Network, document: Node, change: Change) -> Change:
    """Put a change into a document; what is left of it."""
    key = {column: str(value) for column, value in change.key.items()}
    cells = dict(change.cells)
    if change.table == "ports":
        _port(network, document, key, cells)
    elif change.table == "vlans" and cells.get("state", "active") == "active":
        cells.pop("state", None)
        entry: Node = {"vid": int(key["vid"])}
        if cells.get("name"):
            entry["name"] = str(cells.pop("name"))
        _component(document, key["device"]).setdefault("bridge-vlan", {}).setdefault("vlan", []).append(entry)
    elif change.table == "gateways":
        if adds_interface(change):
            _address(document, key, {"address": key["address"]})
        _address(document, key, cells)
    elif change.table == "devices" and cells.pop("routing", None) == "yes":
        for row in network.survey.gateways:
            if row.device == key["device"]:
                for family in ("ipv4", "ipv6"):
                    _interface(document, row.interface).setdefault(f"ietf-ip:{family}", {})["forwarding"] = True
    return msgspec.structs.replace(change, cells=cells)


def _port(network: Network, document: Node, key: dict[str, str], cells: Node) -> None:
    row = network.port(End(key["device"], key["port"]))
    mode = cells.get("mode") or (row.mode if row is not None else None)
    if cells.get("admin"):
        _interface(document, key["port"])["enabled"] = cells.pop("admin") == "up"
    if "pvid" in cells:
        vid = cells.pop("pvid")
        bridge_port = _interface(document, key["port"]).setdefault("ieee802-dot1q-bridge:bridge-port", {})
        if vid in (NONE, NO_VID):
            bridge_port["acceptable-frame"] = "admit-only-VLAN-tagged-frames"
        else:
            bridge_port["pvid"] = int(str(vid))
    numbers = {(t.device, t.port): t.number for t in network.survey.tree_ports if t.number is not None}
    number = numbers.get((key["device"], key["port"]))
    if cells.get("allowed") and number is not None and row is not None and mode in ("trunk", "hybrid"):
        wanted = VlanSet.parse(str(cells.pop("allowed")))
        had = row.allowed if row.allowed is not None and row.mode != "access" else VlanSet()
        cells.pop("mode", None)
        for vids, control in ((wanted - had, "fixed-new-ignored"), (had - wanted, "forbidden")):
            if vids:
                how = {"registrar-admin-control": control, "vlan-transmitted": "tagged"}
                entry = {
                    "database-id": 0,
                    "vids": str(vids).replace(" ", ","),
                    "entry-type": "static",
                    "port-map": [{"port-ref": number, "static-vlan-registration-entries": how}],
                }
                base = _component(document, key["device"]).setdefault("filtering-database", {})
                base.setdefault("vlan-registration-entry", []).append(entry)
    elif mode == "access":
        cells.pop("allowed", None) if not cells.get("allowed") else None
        cells.pop("mode", None)  # a port that registers no VLAN but its own


def _address(document: Node, key: dict[str, str], cells: Node) -> None:
    if cells.get("admin"):
        _interface(document, key["interface"])["enabled"] = cells.pop("admin") == "up"
    if cells.get("address") and cells["address"] != NONE:
        own = ip_interface(str(cells.pop("address")))
        family = _interface(document, key["interface"]).setdefault(f"ietf-ip:ipv{own.version}", {})
        family.setdefault("address", []).append({"ip": str(own.ip), "prefix-length": own.network.prefixlen})


def _interface(document: Node, name: str) -> Node:
    listed: list[Node] = document.setdefault(_INTERFACES, {}).setdefault("interface", [])
    for entry in listed:
        if entry["name"] == name:
            return entry
    listed.append({"name": name})
    return listed[-1]


def _component(document: Node, device: str) -> Node:
    bridges: list[Node] = document.setdefault(_BRIDGES, {}).setdefault("bridge", [])
    if not bridges:
        bridges.append({"name": device, "component": [{"name": device}]})
    component: Node = bridges[0]["component"][0]
    return component
