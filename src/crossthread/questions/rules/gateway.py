"""Findings about gateways and routing: interfaces, tags, addresses, routes."""

from __future__ import annotations

from ipaddress import ip_interface, ip_network
from itertools import islice

from crossthread.network.names import End
from crossthread.network.stations import Station
from crossthread.questions.findings import Finding, Subject, at_port, at_station
from crossthread.questions.rules.link import like
from crossthread.questions.scene import Scene, set_gateway, set_port
from crossthread.survey.changes import Change
from crossthread.survey.tables import Gateway
from crossthread.values import NONE, Address, Interface, VlanSet


def _row(gateway: Station) -> Gateway:
    assert isinstance(gateway.row, Gateway)
    return gateway.row


def _called(gateway: Station) -> str:
    return f"{gateway.device} {gateway.name}"


def _rows_of(scene: Scene, gateway: Station) -> list[Station]:
    """All stations of one interface: it has one for each address."""
    return [s for s in scene.network.stations.on_device[gateway.device] if s.name == gateway.name]


def gateway_admin_down(scene: Scene, gateway: Station) -> Finding | None:
    """A gateway's interface has been shut.

    Matters: its subnet has no way out, and nobody outside has a way in. Confirm: look at the interface's configured
    state; ask who shut it and why.
    """
    if _row(gateway).admin != "down":
        return None
    changes = [set_gateway(s, admin="up", oper="up") for s in _rows_of(scene, gateway)]
    parent = scene.port(gateway.end) if gateway.end else None
    if gateway.end and parent is not None and "down" in (parent.admin, parent.oper):
        changes += scene.raise_link(gateway.end)
    return Finding(
        "gateway-admin-down",
        "breaks",
        (at_station(gateway),),
        f"{_called(gateway)} ({_row(gateway).address}) is shut by configuration.",
        scene.evidence(gateway.row, "admin", "oper") + scene.evidence(parent, "admin", "oper"),
        tuple(changes),
    )


def gateway_down(scene: Scene, gateway: Station) -> Finding | None:
    """A gateway's interface is down though nobody shut it.

    Matters: its subnet has no way out. An interface on a bridge goes down when no port carries its VLAN, one on a port
    when the port has no link. Confirm: look at the interface's state, its parent port and its VLAN.
    """
    row = _row(gateway)
    if row.admin == "down" or gateway.up is not False or (gateway.end and row.oper != "down"):
        return None
    return Finding(
        "gateway-down",
        "breaks",
        (at_station(gateway),),
        f"{_called(gateway)} ({row.address}) is down though it is not shut.",
        scene.evidence(row, "admin", "oper"),
        tuple(set_gateway(s, oper="up") for s in _rows_of(scene, gateway)),
    )


def gateway_vlan_wrong(scene: Scene, gateway: Station, vid: int | None = None) -> Finding | None:
    """A gateway's interface serves another VLAN than the one its subnet lives in.

    Matters: the hosts of its subnet do not find it, and those of the other VLAN may. Confirm: compare the interface's
    tag with the VLAN of the ports of its hosts.
    """
    row = _row(gateway)
    wanted = vid or scene.expected.vlan(gateway)
    if row.vid is None or wanted is None or row.vid == wanted or gateway.address is None:
        return None
    evidence = scene.evidence(row, "vid", "address")
    for other in scene.expected.near(gateway.address.ip):
        if other.is_host and other.end and scene.expected.current_vlan(other) == wanted and len(evidence) < 5:
            evidence += scene.evidence(scene.port(other.end), "pvid")
    changes = [set_gateway(s, vid=wanted) for s in _rows_of(scene, gateway)]
    says = f"{_called(gateway)} serves VLAN {row.vid}, but its subnet {gateway.address.network} lives in VLAN {wanted}"
    for holder in scene.network.stations.on_device[gateway.device]:
        due = scene.expected.vlan(holder)
        if holder.name != gateway.name and holder.end == gateway.end and holder.row.vid == wanted and due != wanted:
            says += f"; {_called(holder)}, which holds that tag now, belongs into VLAN {due}"
            evidence += scene.evidence(holder.row, "vid")
            changes += [set_gateway(s, vid=due) for s in _rows_of(scene, holder)] if due else []
            break
    return Finding("gateway-vlan-wrong", "breaks", (at_station(gateway),), f"{says}.", evidence, tuple(changes))


def gateway_port_mode_wrong(scene: Scene, gateway: Station, far: End, vid: int | None = None) -> Finding | None:
    """The switch port towards a gateway that tags does not carry its tag.

    Matters: the gateway and its subnet do not hear each other. Confirm: look at the mode and allowed list of the switch
    port that the gateway is plugged into.
    """
    row, port = _row(gateway), scene.port(far)
    wanted = vid or row.vid
    if gateway.tag == 0 or port is None or wanted is None or port.mode in (None, "routed"):
        return None
    if port.mode != "access" and (port.allowed is None or wanted in port.allowed) and port.pvid != wanted:
        return None
    tags = VlanSet.of(
        s.row.vid for s in scene.gateways_at.get(gateway.end or far, ()) if isinstance(s.row, Gateway) and s.row.vid
    ) | VlanSet.of([wanted])
    if port.mode == "access":
        peers = [p for p in scene.network.survey.ports if p.mode == "trunk" and p.device == port.device]
        native = like(peers[0])["pvid"] if peers and peers[0].pvid and peers[0].pvid not in tags else NONE
        allowed = tags | (VlanSet.of([int(str(native))]) if str(native).isdecimal() else VlanSet())
        change = set_port(far, mode="trunk", pvid=native, allowed=allowed)
        says = f"is an access port (VLAN {port.pvid or NONE})"
    elif port.pvid == wanted:
        change = set_port(far, pvid=NONE)
        says = f"sends VLAN {wanted} without a tag (it is the native VLAN there)"
    else:
        change = set_port(far, allowed=(port.allowed or VlanSet()) | VlanSet.of([wanted]))
        says = f"does not allow VLAN {wanted}"
    return Finding(
        "gateway-port-mode-wrong",
        "breaks",
        (at_port(far, wanted), at_station(gateway)),
        f"{far} {says}, but {_called(gateway)} behind it expects VLAN {wanted} with its tag.",
        scene.evidence(port, "mode", "pvid", "allowed") + scene.evidence(row, "vid", "untagged"),
        (change,),
    )


def gateway_port_vlan_wrong(scene: Scene, gateway: Station, far: End, vid: int | None = None) -> Finding | None:
    """The switch port towards a gateway that does not tag is in another VLAN than the gateway's subnet.

    Matters: the gateway serves the wrong VLAN, and its own has none. Confirm: compare the port's VLAN with that of the
    hosts of the gateway's subnet.
    """
    port, wanted = scene.port(far), vid or scene.expected.vlan(gateway)
    if gateway.tag != 0 or port is None or port.pvid is None or wanted is None or gateway.address is None:
        return None
    if port.pvid == wanted or port.mode not in ("access", "trunk", "hybrid"):
        return None
    cells: dict[str, object] = {"pvid": wanted}
    if port.mode != "access" and port.allowed is not None and wanted not in port.allowed:
        cells["allowed"] = port.allowed | VlanSet.of([wanted])
    evidence = scene.evidence(port, "mode", "pvid") + scene.evidence(gateway.row, "address", "vid")
    for other in scene.expected.near(gateway.address.ip):
        if other.is_host and other.end and scene.expected.current_vlan(other) == wanted and len(evidence) < 7:
            evidence += scene.evidence(scene.port(other.end), "pvid")
    return Finding(
        "port-vlan-wrong" if port.mode == "access" else "gateway-port-mode-wrong",
        "breaks",
        (at_port(far, wanted), at_station(gateway)),
        f"{far} puts untagged frames into VLAN {port.pvid or NONE}, but {_called(gateway)} behind it serves "
        f"{gateway.address.network}, which lives in VLAN {wanted}.",
        evidence,
        (set_port(far, **cells),),
    )


def gateway_address_wrong(scene: Scene, gateway: Station) -> Finding | None:
    """The hosts of a VLAN use a gateway address that its gateway interface does not have.

    Matters: nobody answers for the address that the hosts ask for. Confirm: compare the interface's address with the
    gateway that several hosts of the VLAN have.
    """
    if gateway.address is None:
        return None
    vid = scene.expected.vlan(gateway)
    wanted: dict[Address, list[Station]] = {}
    for host in scene.network.stations.hosts.values():
        hop = getattr(host.row, "gateway", None)
        if hop in (None, NONE) or host.address is None or scene.expected.current_vlan(host) != vid:
            continue
        known = ip_interface(str(hop)).ip
        if known in host.address.network and known.version == gateway.address.version:
            wanted.setdefault(known, []).append(host)
    own = wanted.get(gateway.address.ip, [])
    best = max(wanted, key=lambda hop: len(wanted[hop]), default=None)
    if best is None or len(wanted[best]) <= len(own) or scene.network.stations.by_address.get(str(best)):
        return None
    inside = best in gateway.address.network
    if inside and len(wanted[best]) < 2:
        return None
    users = wanted[best]
    like_hosts = users[0].address or gateway.address
    length = (gateway.address if inside else like_hosts).network.prefixlen
    evidence = scene.evidence(gateway.row, "address")
    for host in users[:3]:
        evidence += scene.evidence(host.row, "gateway")
    listed = ", ".join(host.name for host in users[:3]) + (" and others" if len(users) > 3 else "")
    return Finding(
        "gateway-address-wrong",
        "breaks",
        (at_station(gateway),),
        f"{_called(gateway)} has the address {gateway.address}, but {listed} in its VLAN {vid} use {best} as gateway.",
        evidence,
        (set_gateway(gateway, address=f"{best}/{length}"),),
    )


def gateway_mask_differs(scene: Scene, gateway: Station) -> Finding | None:
    """A gateway's prefix length is not that of its hosts.

    Matters: with too long a prefix it does not know some of its hosts; with too short a one it looks on its own wire
    for hosts that are elsewhere. Confirm: compare the prefix length on the interface and on its hosts.
    """
    wanted = scene.expected.length(gateway)
    if gateway.address is None or wanted is None or wanted == gateway.address.network.prefixlen:
        return None
    subnet = ip_network(f"{gateway.address.ip}/{wanted}", strict=False)
    evidence = scene.evidence(gateway.row, "address")
    for other in scene.expected.near(gateway.address.ip):
        if other.is_host and other.address and other.address.network == subnet and len(evidence) < 4:
            evidence += scene.evidence(other.row, "address")
    return Finding(
        "gateway-mask-differs",
        "breaks",
        (at_station(gateway),),
        f"{_called(gateway)} has the prefix length {gateway.address.network.prefixlen}, where its hosts in {subnet} "
        f"have {wanted}.",
        evidence,
        (set_gateway(gateway, address=f"{gateway.address.ip}/{wanted}"),),
    )


def gateway_missing(scene: Scene, host: Station) -> Finding | None:
    """The hosts of a subnet have a gateway configured, but no interface has an address in their subnet.

    Matters: the subnet has no way out and none in. Confirm: look for the address on every device that routes; an
    interface may have lost it when its tag was changed.
    """
    subnet = scene.expected.subnet(host)
    hop = getattr(host.row, "gateway", None)
    if subnet is None or hop is None or scene.expected.gateways(host):
        return None
    users = [hop, *(getattr(other.row, "gateway", None) for other in scene.expected.near(subnet.ip))]
    known = [ip_interface(str(used)).ip for used in users if used not in (None, NONE)]
    taken = scene.network.stations.by_address
    free = [
        ip for ip in (*known, *islice(subnet.network.hosts(), 256)) if ip in subnet.network and str(ip) not in taken
    ]
    if not free:
        return None
    wanted = free[0]
    vid = scene.expected.vlan(host)
    length = subnet.network.prefixlen
    repair = _add_gateway(scene, ip_interface(f"{wanted}/{length}"), vid)
    where = f" VLAN {vid}" if vid else " its VLAN"
    return Finding(
        "gateway-missing",
        "breaks",
        (Subject(vid=vid), at_station(host)),
        f"No interface has an address in {subnet.network}, so{where} has no gateway; "
        + (f"{host.name} uses {hop}." if hop != NONE else f"{host.name} has none either."),
        scene.evidence(host.row, "address", "gateway"),
        repair,
    )


def _add_gateway(scene: Scene, own: Interface, vid: int | None) -> tuple[Change, ...]:
    """Give the address to an interface of that VLAN that has none, or add one where the other gateways are."""
    gateways = scene.network.stations.gateways
    bare = [g for g in gateways if g.address is None and g.row.vid == vid and vid]
    if bare:
        return (set_gateway(bare[0], address=str(own)),)
    idle = [
        end
        for end, faced in scene.adjacencies_at.items()
        if (row := scene.port(end)) is not None and row.mode == "routed" and not scene.gateways_at.get(end)
        for far in [scene.port(faced[0].far(end))]
        if far is not None and far.mode == "access" and far.pvid == vid
    ]
    for end in idle:
        cells = {"port": end.port, "untagged": "yes", "admin": "up", "oper": "up", "proxy_arp": "no"}
        key = {"device": end.device, "interface": end.port, "address": str(own)}
        return (Change("gateways", key, cells), *scene.raise_link(end))
    for gateway in gateways:
        if scene.network.routing.on(gateway.device) is False or vid is None or (gateway.end and gateway.tag == 0):
            continue
        name = f"{gateway.end.port}.{vid}" if gateway.end else f"vlan{vid}"
        cells2: dict[str, object] = {"vid": vid, "admin": "up", "oper": "up", "proxy_arp": "no"}
        if gateway.end:
            facing = [scene.port(a.far(gateway.end)) for a in scene.adjacencies_at.get(gateway.end, ())]
            native = any(port is not None and port.pvid == vid for port in facing)
            cells2 |= {"port": gateway.end.port, "untagged": "yes" if native else "no"}
        return (Change("gateways", {"device": gateway.device, "interface": name, "address": str(own)}, cells2),)
    return ()


def gateway_address_duplicate(scene: Scene, gateway: Station) -> Finding | None:
    """Two interfaces have the same address, and it is not meant to be shared.

    Matters: hosts reach now the one and now the other. Confirm: ask for the address by ARP and count who answers.
    """
    if gateway.address is None:
        return None
    others = [
        s
        for s in scene.network.stations.by_address[str(gateway.address.ip)]
        if s is not gateway and not s.is_host and s.address and s.address.ip == gateway.address.ip
        and s.row.table == gateway.row.table  # type: ignore[union-attr]
    ]  # fmt: skip
    if not others:
        return None
    evidence = tuple(fact for s in (gateway, *others) for fact in scene.evidence(s.row, "address"))
    listed = ", ".join(map(_called, others))
    return Finding(
        "gateway-address-duplicate",
        "breaks",
        (at_station(gateway), *map(at_station, others)),
        f"{_called(gateway)} has the address {gateway.address.ip}, and so has {listed}.",
        evidence,
    )


def gateway_tag_duplicate(scene: Scene, gateway: Station) -> Finding | None:
    """Two interfaces on one parent have the same tag.

    Matters: most devices refuse the second; where not, only one of them gets the frames. Confirm: list the interfaces
    on that parent with their tags.
    """
    row = _row(gateway)
    others = [
        s
        for s in scene.network.stations.on_device[gateway.device]
        if s.name != gateway.name and s.end == gateway.end and s.row.vid == row.vid and row.vid and s.tag == gateway.tag
    ]
    if not others:
        return None
    evidence = tuple(fact for s in (gateway, *others) for fact in scene.evidence(s.row, "vid"))
    return Finding(
        "gateway-tag-duplicate",
        "risks",
        (at_station(gateway), *map(at_station, others)),
        f"{_called(gateway)} serves VLAN {row.vid}, and so does {', '.join(map(_called, others))}.",
        evidence,
    )
