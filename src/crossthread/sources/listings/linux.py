"""The JSON of a Linux host, router or software switch: `ip -j addr/link/route/neigh`, `bridge -j vlan/link/fdb`."""

from __future__ import annotations

from typing import Any

from msgspec.structs import replace

from crossthread.sources.documents import Document
from crossthread.sources.listings import software_switch
from crossthread.survey.records import ArpEntry, Gateway, Host, MacEntry, Port, Route, Row, TreePort
from crossthread.values import NO_VID, NONE, VlanSet, address, interface, parse_mac

Parts = dict[str, Document]
Links = dict[str, dict[str, Any]]


def _listed(parts: Parts, *kinds: str) -> list[dict[str, Any]]:
    for kind in kinds:
        if kind in parts:
            return [entry for entry in parts[kind].data if isinstance(entry, dict)]
    return []


def _links(parts: Parts) -> Links:
    """The interfaces by name, those that only loop back left out; what both listings say is put together."""
    found: Links = {}
    for entry in (*_listed(parts, "ip-link"), *_listed(parts, "ip-addr")):
        if isinstance(entry.get("ifname"), str) and entry.get("link_type") != "loopback":
            found[entry["ifname"]] = {**found.get(entry["ifname"], {}), **entry}
    return found


def _flags(link: dict[str, Any]) -> set[str]:
    flags = link.get("flags")
    return {str(flag) for flag in flags} if isinstance(flags, list) else set()


def _oper(link: dict[str, Any]) -> str:
    flags = _flags(link)
    return "up" if {"UP", "LOWER_UP"} <= flags and "NO-CARRIER" not in flags else "down"


def _addresses(link: dict[str, Any]) -> list[str]:
    found = []
    for entry in link.get("addr_info") if isinstance(link.get("addr_info"), list) else ():  # type: ignore[union-attr]
        if isinstance(entry, dict) and entry.get("scope") != "link":
            try:
                found.append(str(interface(f"{entry.get('local')}/{entry.get('prefixlen')}")))
            except ValueError:
                continue
    return found


def _mac(link: dict[str, Any]) -> str | None:
    try:
        return parse_mac(str(link.get("address")))
    except ValueError:
        return None


def is_host(parts: Parts) -> bool:
    """Whether the listings are of a host: addresses on one interface, and nothing that bridges, routes or listens."""
    if set(parts) - {"ip-addr", "ip-link", "ip-route", "ip-neigh", "empty"}:
        return False
    return len(_links(parts)) == 1


def read_host(name: str, parts: Parts) -> list[Row]:
    """A host's row: its address settings as they are, and whether it has a link."""
    (link,) = _links(parts).values()
    source = parts["ip-addr"].path if "ip-addr" in parts else parts["ip-link"].path
    found = _addresses(link)
    defaults = [e.get("gateway") for e in _listed(parts, "ip-route") if e.get("dst") == "default" and e.get("gateway")]
    up = _oper(link)
    known = ("ip-route" in parts or "empty" in parts) and up == "up"
    gateway = str(defaults[0]) if defaults else (NONE if known else None)
    own = (found[0] if found else NONE) if "ip-addr" in parts else None
    return [Host(name, _mac(link), own, gateway, link=up, source=source)]


def read_device(name: str, parts: Parts) -> list[Row]:
    """The rows of a device that bridges or routes."""
    links = _links(parts)
    tables = {kind: software_switch.rows_of(parts[kind].data) for kind in parts if kind.startswith("ovs-")}
    switched, details = tables.get("ovs-port", {}), tables.get("ovs-interface", {})
    physical = {port for port, link in links.items() if _is_physical(port, link, links, details)}
    rows: list[Row] = []
    source = parts["ip-addr"].path if "ip-addr" in parts else (parts["ip-link"].path if "ip-link" in parts else "")
    bridged = _bridge_members(parts)
    for port in physical:
        link = links[port]
        alias = link.get("ifalias")
        cells: dict[str, Any] = bridged.get(port, {})
        if port not in switched and not cells and not isinstance(link.get("master"), str):
            cells = {"mode": "routed"}
        mtu = link.get("mtu")
        rows.append(
            Port(
                name,
                port,
                aliases=tuple(dict.fromkeys(str(a) for a in link.get("altnames", ()))) or None,
                description=alias if isinstance(alias, str) and alias else None,
                mac=_mac(link),
                admin="up" if "UP" in _flags(link) else "down",
                oper=_oper(link),
                mtu=mtu if isinstance(mtu, int) else None,
                source=source,
                **cells,
            )
        )
    if switched:
        told = parts["ovs-port"].path
        rows += software_switch.read_ports(name, switched, details, physical, told)
        bridges = tables.get("ovs-bridge", {})
        rows += software_switch.read_trees(name, bridges, switched, details, physical, told)
    taggers = set()
    for label, link in links.items():
        place = _place(label, link, switched, details, physical)
        for own in _addresses(link):
            state: dict[str, Any] = {"admin": "up" if "UP" in _flags(link) else "down", "oper": _oper(link)}
            rows.append(Gateway(name, label, own, source=source, **state, **place))
            taggers |= {place["port"]} if place.get("port") in switched else set()
    rows = [_routed(row) if isinstance(row, Port) and row.port in taggers else row for row in rows]
    return rows + _tree_ports(name, parts) + _routes(name, parts) + _caches(name, parts)


def _routed(row: Port) -> Port:
    return replace(row, mode="routed", pvid=None, allowed=None, untagged=None)


def _is_physical(port: str, link: dict[str, Any], links: Links, details: software_switch.Listing) -> bool:
    """Whether an interface is a port that a cable may be plugged into."""
    info = link.get("linkinfo")
    kind = info.get("info_kind") if isinstance(info, dict) else None
    inner = kind == "veth" and "link_netnsid" not in link  # both ends in this one device
    return (
        link.get("link_type") == "ether"
        and not inner
        and (
            kind in (None, "veth")
            and details.get(port, {}).get("type") != "internal"
            and port not in _own_bridges(details)
        )
    )


def _own_bridges(details: software_switch.Listing) -> set[str]:
    return {name for name, row in details.items() if row.get("type") == "internal"}


def _place(
    label: str,
    link: dict[str, Any],
    switched: software_switch.Listing,
    details: software_switch.Listing,
    physical: set[str],
) -> dict[str, Any]:
    """Where an interface with an address sits: in a VLAN of the bridge, tagged on a port, or on the port itself."""
    info = link.get("linkinfo")
    info = info if isinstance(info, dict) else {}
    data = info.get("info_data")
    if info.get("info_kind") == "vlan" and isinstance(data, dict) and isinstance(link.get("link"), str):
        return {"vid": data.get("id"), "port": link["link"], "untagged": "no"}
    peer = link.get("link") if info.get("info_kind") == "veth" else None
    member = switched.get(label) or (switched.get(peer) if isinstance(peer, str) else None)
    if member is not None:
        vid = software_switch.tag_of(member)
        outside = sorted(physical & switched.keys())
        if (
            details.get(label, {}).get("type") == "internal" and len(outside) == 1
        ):  # a bridge with one way out: a tagger
            native = software_switch.vlan_cells(switched[outside[0]]).get("pvid")
            return {"vid": vid, "port": outside[0], "untagged": "yes" if native == vid else "no"}
        return {"vid": vid}
    return {"port": label, "untagged": "yes"} if label in physical else {}


def _bridge_members(parts: Parts) -> dict[str, dict[str, Any]]:
    """The VLAN columns of the ports of a Linux bridge that filters VLANs."""
    found: dict[str, dict[str, Any]] = {}
    for entry in _listed(parts, "bridge-vlan"):
        members = VlanSet()
        untagged = VlanSet()
        pvid = NO_VID
        for vlan in entry.get("vlans") if isinstance(entry.get("vlans"), list) else ():  # type: ignore[union-attr]
            low = vlan.get("vlan") if isinstance(vlan, dict) else None
            if not isinstance(low, int) or not 1 <= low <= 4094:
                continue
            high = vlan.get("vlanEnd", low)
            these = VlanSet.parse(f"{low}-{high}")
            members = members | these
            flags = vlan.get("flags") or ()
            untagged = untagged | (these if "Egress Untagged" in flags else VlanSet())
            pvid = low if "PVID" in flags else pvid
        if isinstance(entry.get("ifname"), str):
            found[entry["ifname"]] = {"mode": "hybrid", "pvid": pvid, "allowed": members, "untagged": untagged}
    return found


def _tree_ports(name: str, parts: Parts) -> list[Row]:
    """The spanning-tree states of a Linux bridge's ports."""
    states = {"blocking": "discarding", "listening": "discarding", "learning": "learning", "forwarding": "forwarding"}
    found: list[Row] = []
    for entry in _listed(parts, "bridge-link"):
        state, cost, priority = states.get(str(entry.get("state"))), entry.get("cost"), entry.get("priority")
        if isinstance(entry.get("ifname"), str) and (state or entry.get("state") == "disabled"):
            found.append(
                TreePort(
                    name, entry["ifname"], 0, role=None if state else "disabled", state=state,
                    cost=cost if isinstance(cost, int) else None,
                    priority=4 * priority if isinstance(priority, int) else None, source=parts["bridge-link"].path,
                )
            )  # fmt: skip
    return found


def _routes(name: str, parts: Parts) -> list[Row]:
    found: list[Row] = []
    for entry in _listed(parts, "ip-route"):
        dst, hop = str(entry.get("dst")), entry.get("gateway")
        if entry.get("protocol") == "kernel" or not isinstance(hop, str):
            continue
        six = ":" in hop
        prefix = (
            ("::/0" if six else "0.0.0.0/0")
            if dst == "default"
            else (dst if "/" in dst else f"{dst}/{128 if six else 32}")
        )
        try:
            target, via = str(interface(prefix).network), str(address(hop))
        except ValueError:
            continue
        metric = entry.get("metric")
        found.append(
            Route(
                name, target, via, interface=entry.get("dev"), origin=str(entry.get("protocol", "static")),
                metric=metric if isinstance(metric, int) else None, source=parts["ip-route"].path,
            )
        )  # fmt: skip
    return found


def _caches(name: str, parts: Parts) -> list[Row]:
    """ARP and neighbour caches, and a Linux bridge's filtering database."""
    found: list[Row] = []
    for entry in _listed(parts, "ip-neigh"):
        try:
            own, known = parse_mac(str(entry["lladdr"])), str(address(str(entry["dst"])))
        except (KeyError, ValueError):
            continue
        found.append(ArpEntry(name, entry.get("dev"), known, own, source=parts["ip-neigh"].path))
    for entry in _listed(parts, "bridge-fdb"):
        flags = entry.get("flags") or ()
        try:
            own = parse_mac(str(entry.get("mac")))
        except ValueError:
            continue
        if int(own[:2], 16) & 1 or "self" in flags:
            continue
        vid = entry.get("vlan")
        kind = "self" if entry.get("state") == "permanent" else "static" if "static" in flags else "learned"
        found.append(
            MacEntry(name, vid if isinstance(vid, int) else None, own, entry.get("ifname"), kind,
                     source=parts["bridge-fdb"].path)
        )  # fmt: skip
    return found
