"""The JSON of a Linux host, router or software switch: `ip -j addr/link/route/neigh`, `bridge -j vlan/link/fdb`."""

from __future__ import annotations

from msgspec.structs import replace

from crossthread.sources.listings import software_switch
from crossthread.sources.listings.flows import read_flows
from crossthread.sources.listings.linux_bridges import Bridges, find_bridges, port_cells, read_bridges
from crossthread.sources.listings.linux_links import (
    Links,
    bond_members,
    counters,
    is_bond,
    kept_apart,
    link_data,
    table_of,
)
from crossthread.sources.listings.linux_routing import Parts, listed, proxies_of, read_forwarding, read_routes
from crossthread.sources.listings.shapes import Entry
from crossthread.survey.records import ArpEntry, Gateway, Host, MacEntry, Port, Row, TreePort
from crossthread.values import NO_VID, NONE, VlanSet, address, interface, parse_mac


def links_of(parts: Parts) -> Links:
    """The interfaces by name, those that only loop back left out; what both listings say is put together."""
    found: Links = {}
    for entry in (*listed(parts, "ip-link"), *listed(parts, "ip-addr")):
        if isinstance(entry.get("ifname"), str) and entry.get("link_type") != "loopback":
            found[entry["ifname"]] = {**found.get(entry["ifname"], {}), **entry}
    return found


def _flags(link: Entry) -> set[str]:
    flags = link.get("flags")
    return {str(flag) for flag in flags} if isinstance(flags, list) else set()


def _oper(link: Entry) -> str:
    flags = _flags(link)
    return "up" if {"UP", "LOWER_UP"} <= flags and "NO-CARRIER" not in flags else "down"


def _addresses(link: Entry, local: bool = False) -> list[str]:
    """An interface's addresses, of IPv4 first; link-local ones only where it has no other of their version.

    With `local` those of IPv6 always, where there are others: hosts use them as their gateway.
    """
    told = link.get("addr_info")
    found = []
    for entry in told if isinstance(told, list) else ():
        if isinstance(entry, dict):
            try:
                found.append(interface(f"{entry.get('local')}/{entry.get('prefixlen')}"))
            except ValueError:
                continue
    real = {own.version for own in found if not own.is_link_local}
    kept = [own for own in found if not own.is_link_local or not real or (own.version == 6 and 6 in real and local)]
    return [str(own) for own in sorted(kept, key=lambda own: (own.version, own.is_link_local))]


def _mac(link: Entry) -> str | None:
    try:
        return parse_mac(str(link.get("address")))
    except ValueError:
        return None


def is_host(parts: Parts) -> bool:
    """Whether the listings are of a host: addresses on one interface, and nothing that bridges, routes or listens.

    A bond is one interface, whatever it has for members.
    """
    if set(parts) - _OF_HOSTS:
        return False
    return len(_in_use(parts)) == 1


_OF_HOSTS = {
    "ip-addr", "ip-link", "ip-route", "ip-route6", "ip-rule", "ip-neigh", "ip-netconf", "packet-filter", "empty",
}  # fmt: skip


def _in_use(parts: Parts) -> list[Entry]:
    """The interfaces that are not members of another."""
    links = links_of(parts)
    return [link for name, link in links.items() if name not in bond_members(links)]


def read_host(name: str, parts: Parts) -> list[Row]:
    """A host's row: its address settings as they are, and whether it has a link."""
    (link,) = _in_use(parts)
    source = parts["ip-addr"].path if "ip-addr" in parts else parts["ip-link"].path
    found = _addresses(link)
    routes = [*listed(parts, "ip-route"), *listed(parts, "ip-route6")]
    defaults = [hop for e in routes if e.get("dst") == "default" and (hop := _hop(e)) is not None]
    hops = {":" in hop: hop for hop in reversed(defaults)}
    up = _oper(link)
    known = ("ip-route" in parts or "empty" in parts) and up == "up"
    gateway = " ".join(hops[six] for six in sorted(hops)) or (NONE if known else None)
    own = (" ".join(found) or NONE) if "ip-addr" in parts else None
    return [Host(name, _mac(link), own, gateway, link=up, source=source)]


def _hop(route: Entry) -> str | None:
    try:
        return str(address(str(route["gateway"])))
    except (KeyError, ValueError):
        return None


def read_device(name: str, parts: Parts) -> list[Row]:
    """The rows of a device that bridges or routes."""
    links = links_of(parts)
    tables = {kind: software_switch.rows_of(parts[kind].data) for kind in _TABLES if kind in parts}
    switched, details = tables.get("ovs-port", {}), tables.get("ovs-interface", {})
    physical = {port for port, link in links.items() if _is_physical(port, link, links, details)}
    rows: list[Row] = []
    source = parts["ip-addr"].path if "ip-addr" in parts else (parts["ip-link"].path if "ip-link" in parts else "")
    bridges = find_bridges(links)
    bridged = {**_bridge_members(parts), **port_cells(bridges)}
    bundled = {member for held in software_switch.bundles(switched, details).values() for member in held}
    switching, bonded = _switching(parts), bond_members(links)
    for port in (name for name in links if name in physical):
        link = links[port]
        alias = link.get("ifalias")
        cells: Entry = bridged.get(port, bonded.get(port, {}))
        alone = not isinstance(link.get("master"), str) or table_of(link) is not None
        if port not in switched and port not in bundled and not cells and alone:
            cells = {"mode": "routed"}
        cells = {**cells, **switching.get(port, {}), **counters(link)}
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
        joined = {row.port: row for row in software_switch.read_bundles(name, switched, details, told)}
        members = {p: {"lag": joined[p].lag, "lag_state": joined[p].lag_state} for p in bundled & physical}
        rows = [
            replace(row, **members[row.port]) if isinstance(row, Port) and row.port in members else row for row in rows
        ]
        rows += [row for port, row in joined.items() if port not in physical]
        if "ovs-fdb" in parts:
            rows += software_switch.read_database(name, parts["ovs-fdb"].data, details, parts["ovs-fdb"].path)
        if "ovs-flows" in parts and len(tables.get("ovs-bridge", {})) < 2:  # of which one they are is not told
            numbers = {str(row.get("ofport")): port for port, row in details.items()}
            entering = sorted(((physical - bundled) & switched.keys()) | joined.keys() - bundled)
            rows += read_flows(name, parts["ovs-flows"].data, numbers, entering, parts["ovs-flows"].path)
        rows += software_switch.read_trees(name, tables.get("ovs-bridge", {}), switched, details, physical, told)
    taggers = set()
    proxies = proxies_of(parts)
    for label, link in links.items():
        place = _place(label, link, switched, details, physical)
        if label in bridges.vids:
            place = {"vid": bridges.vids[label]}
        elif link_data(links.get(str(link.get("link")), {}), "info", "bridge") is not None:
            place.pop("port", None)  # a tagged interface on a bridge, and not on a port
        for own in _addresses(link, local=True):
            state: Entry = {"admin": "up" if "UP" in _flags(link) else "down", "oper": _oper(link)}
            state["proxy_arp"] = proxies.get(label) if ":" not in own else None
            rows.append(Gateway(name, label, own, source=source, table=table_of(link), **state, **place))
            taggers |= {place["port"]} if place.get("port") in switched else set()
    rows = [_routed(row) if isinstance(row, Port) and row.port in taggers else row for row in rows]
    return (
        rows
        + read_forwarding(name, parts)
        + read_bridges(name, links, bridges, source)
        + _tree_ports(name, parts, bridges)
        + read_routes(name, parts, kept_apart(links))
        + _caches(name, parts, bridges)
    )


def _routed(row: Port) -> Port:
    return replace(row, mode="routed", pvid=None, allowed=None, untagged=None)


def _is_physical(port: str, link: Entry, links: Links, details: software_switch.Listing) -> bool:
    """Whether an interface is a port that a cable may be plugged into."""
    info = link.get("linkinfo")
    kind = info.get("info_kind") if isinstance(info, dict) else None
    inner = kind == "veth" and "link_netnsid" not in link  # both ends in this one device
    return (
        link.get("link_type") == "ether"
        and not inner
        and (
            (kind in (None, "veth") or is_bond(link))
            and details.get(port, {}).get("type") != "internal"
            and port not in _own_bridges(details)
        )
    )


def _own_bridges(details: software_switch.Listing) -> set[str]:
    return {name for name, row in details.items() if row.get("type") == "internal"}


def _place(
    label: str,
    link: Entry,
    switched: software_switch.Listing,
    details: software_switch.Listing,
    physical: set[str],
) -> Entry:
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


def _bridge_members(parts: Parts) -> dict[str, Entry]:
    """The VLAN columns of the ports of a Linux bridge that filters VLANs."""
    found: dict[str, Entry] = {}
    for entry in listed(parts, "bridge-vlan"):
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


_TABLES = ("ovs-port", "ovs-interface", "ovs-bridge")


def _switching(parts: Parts) -> dict[str, Entry]:
    """Which ports of a Linux bridge are isolated from each other."""
    told = ((entry.get("ifname"), entry.get("isolated")) for entry in listed(parts, "bridge-link"))
    words = {True: "yes", False: "no"}
    return {str(name): {"isolated": words[says]} for name, says in told if isinstance(says, bool)}


def _guard(entry: Entry) -> str | None:
    """What holds a port of a Linux bridge closed if the spanning tree is heard there, or a better root; `none`."""
    if not isinstance(entry.get("guard"), bool):
        return None
    held = [name for key, name in (("guard", "bpdu"), ("root_block", "root")) if entry.get(key) is True]
    return " ".join(held) or NONE


def _tree_ports(name: str, parts: Parts, bridges: Bridges) -> list[Row]:
    """The spanning-tree states of a Linux bridge's ports."""
    states = {"blocking": "discarding", "listening": "discarding", "learning": "learning", "forwarding": "forwarding"}
    found: list[Row] = []
    for entry in listed(parts, "bridge-link"):
        state, cost, priority = states.get(str(entry.get("state"))), entry.get("cost"), entry.get("priority")
        port = entry.get("ifname")
        if isinstance(port, str) and (state or entry.get("state") == "disabled"):
            member = bridges.members.get(str(port))
            found.append(
                TreePort(
                    name,
                    member.port if member else port,
                    member.vid if member else 0,
                    role=None if state else "disabled",
                    state=state,
                    cost=cost if isinstance(cost, int) else None,
                    priority=4 * priority if isinstance(priority, int) else None,
                    guard=_guard(entry),
                    source=parts["bridge-link"].path,
                )
            )
    return found


def _caches(name: str, parts: Parts, bridges: Bridges) -> list[Row]:
    """ARP and neighbour caches, and a Linux bridge's filtering database."""
    found: list[Row] = []
    for entry in listed(parts, "ip-neigh"):
        try:
            own, known = parse_mac(str(entry["lladdr"])), str(address(str(entry["dst"])))
        except (KeyError, ValueError):
            continue
        found.append(ArpEntry(name, entry.get("dev"), known, own, source=parts["ip-neigh"].path))
    for entry in listed(parts, "bridge-fdb"):
        flags = entry.get("flags") or ()
        try:
            own = parse_mac(str(entry.get("mac")))
        except ValueError:
            continue
        if int(own[:2], 16) & 1 or "self" in flags:
            continue
        vid, port = entry.get("vlan"), entry.get("ifname")
        member = bridges.members.get(str(port))
        port, vid = (member.port, member.vid) if member is not None else (port, vid)
        kind = "self" if entry.get("state") == "permanent" else "static" if "static" in flags else "learned"
        found.append(
            MacEntry(name, vid if isinstance(vid, int) else None, own, port, kind, source=parts["bridge-fdb"].path)
        )
    return found
