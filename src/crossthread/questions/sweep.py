"""Every rule over everything it speaks of, with a quick look first at what it can be about at all.

A campus has a hundred thousand ports, and nearly all are as they should be. So each sweep picks the few rows that a
rule could say something of by one test of a column, and only then asks the rule.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterable, Iterator, Sequence
from functools import partial
from itertools import compress, count
from operator import attrgetter

from crossthread.network.adjacency import Adjacency
from crossthread.network.names import End
from crossthread.network.segments import Node
from crossthread.network.station import Station
from crossthread.network.truth import vids_in
from crossthread.questions.findings import Finding
from crossthread.questions.rules import gateway as gateway_rules
from crossthread.questions.rules import gateway_address as address_rules
from crossthread.questions.rules import host as host_rules
from crossthread.questions.rules import link as link_rules
from crossthread.questions.rules import neighbor as neighbor_rules
from crossthread.questions.rules import plan as plan_rules
from crossthread.questions.rules import port as port_rules
from crossthread.questions.rules import routing as routing_rules
from crossthread.questions.rules import tree as tree_rules
from crossthread.questions.rules import vlan as vlan_rules
from crossthread.questions.rules import wire as wire_rules
from crossthread.questions.scene import Scene
from crossthread.survey.columns import runs
from crossthread.values import NONE

_MayBe = Finding | None


def sweep(scene: Scene, wires: Callable[[], Sequence[Finding] | None] = lambda: None) -> Iterator[Finding]:
    """Everything that the rules find, in the order of their families; some may be found more than once.

    `wires` gives what `sweep_wires` finds, or None if it has to be found here.
    """
    yield from _told(scene, _hosts, _links)
    found = wires()
    yield from found if found is not None else sweep_wires(scene)
    yield from _told(scene, tree_rules.tree_detour, _gateways, _plan)


def sweep_wires(scene: Scene) -> list[Finding]:
    """What the rules find at ports and in the trees: what can be told without sorting the hosts into classes."""
    return list(_told(scene, _ports, _neighbors, _vlans, _trees))


def _told(scene: Scene, *families: Callable[[Scene], Iterable[_MayBe]]) -> Iterator[Finding]:
    return (finding for family in families for finding in family(scene) if finding is not None)


def _hosts(scene: Scene) -> Iterator[_MayBe]:
    for one in scene.network.classes.all:
        found = list(_of_host(scene, one.hosts[0], one.plain))
        yield from found
        if any(found):
            for host in one.hosts[1:]:
                yield from _of_host(scene, host, one.plain)


def _of_host(scene: Scene, host: Station, plain: bool) -> Iterator[_MayBe]:
    """What the rules say of a host; one that is plainly on an access port that is up needs fewer questions."""
    outside = host_rules.host_outside_subnet(scene, host)
    mask = host_rules.host_mask_differs(scene, host)
    yield outside
    yield mask
    yield host_rules.host_gateway_missing(scene, host)
    if not outside and not mask:
        yield host_rules.host_gateway_outside_subnet(scene, host)
    if not _served_wrongly(scene, host):
        yield host_rules.host_gateway_wrong(scene, host)
    if not outside and getattr(host.row, "gateway", NONE) != NONE:
        yield address_rules.gateway_missing(scene, host)
    if not outside:
        yield port_rules.port_vlan_wrong(scene, host)
    if plain:
        return
    yield host_rules.host_link_down(scene, host)
    yield host_rules.host_not_located(scene, host)
    yield host_rules.host_address_missing(scene, host)
    yield host_rules.host_address_duplicate(scene, host)
    yield port_rules.port_mode_wrong(scene, host) or port_rules.port_mode_loose(scene, host)
    yield port_rules.port_refuses_station(scene, host)


def _served_wrongly(scene: Scene, host: Station) -> bool:
    """Whether it is the gateway's address that is wrong, and not the host's setting."""
    return any(address_rules.gateway_address_wrong(scene, gateway) for gateway in scene.expected.gateways(host))


def _ports(scene: Scene) -> Iterator[_MayBe]:
    survey, spelled = scene.network.survey, scene.network.names.spelled
    column = partial(survey.column, "ports")
    states = zip(column("admin"), column("oper"), strict=True)
    for row in [survey.ports[n] for n, state in enumerate(states) if "down" in state]:
        end = End(spelled[row.device], row.port)
        if end in scene.adjacencies_at or end in scene.host_ends:
            yield port_rules.port_admin_down(scene, end) or port_rules.port_down(scene, end)
    yield from _existing(scene)
    rules = (
        (port_rules.port_errors, ("in_errors", "crc_errors", "out_errors", "late_collisions")),
        (port_rules.port_slow, ("capable_speed",)),
        (port_rules.port_has_refused, ("violations",)),
    )
    for rule, columns in rules:
        told = {n for name in columns if any(column(name)) for n in compress(count(), column(name))}
        for row in map(survey.ports.__getitem__, sorted(told)):
            yield rule(scene, End(spelled[row.device], row.port))
    for cable in survey.cables:
        if cable.status not in (None, "ok", "unknown"):
            device = spelled[cable.device]
            yield port_rules.cable_fault(scene, End(device, scene.network.names.port(device, cable.port) or cable.port))


def _existing(scene: Scene) -> Iterator[_MayBe]:
    """Access ports in use whose VLAN does not exist on their device, or is suspended there."""
    column, spelled = partial(scene.network.survey.column, "ports"), scene.network.names.spelled
    modes, pvids, states = column("mode"), column("pvid"), column("admin")
    for written, run in runs(column("device")):
        device = spelled[written]
        if device not in scene.network.fabric.vlan_rows:
            continue
        active = scene.network.fabric.exists(device).possible
        if all(active >> vid & 1 for vid in set(pvids[run]) if vid):
            continue
        for port, mode, vid, admin in zip(column("port")[run], modes[run], pvids[run], states[run], strict=True):
            if vid and not active >> vid & 1 and mode == "access" and admin != "down":
                end = End(device, port)
                if end in scene.adjacencies_at or end in scene.host_ends:
                    yield port_rules.port_vlan_missing(scene, end, vid)
                    yield port_rules.vlan_suspended(scene, device, vid)


def _links(scene: Scene) -> Iterator[_MayBe]:
    rules: tuple[Callable[[Scene, Adjacency], _MayBe], ...] = (
        link_rules.link_mode_differs,
        link_rules.link_access_vlan_differs,
        link_rules.link_tagging_differs,
        link_rules.link_native_differs,
        link_rules.link_allowed_differs,
        link_rules.link_not_spare,
        link_rules.uplink_access,
        link_rules.link_subnet_differs,
        wire_rules.link_speed_differs,
        wire_rules.link_duplex_differs,
        wire_rules.link_mtu_differs,
        wire_rules.link_lag_differs,
        vlan_rules.vlan_leak,
    )
    for adjacency in scene.network.adjacencies:
        if _alike(scene, adjacency):
            yield link_rules.link_not_spare(scene, adjacency)
            continue
        for rule in rules:
            yield rule(scene, adjacency)
    for row in scene.network.survey.neighbors:
        if row.pvid is not None or row.mtu or row.duplex or row.speed or row.lag:
            yield from wire_rules.announced(scene, row)


_AT_BOTH_ENDS = attrgetter("mode", "pvid", "allowed", "untagged", "tagging", "speed", "duplex", "mtu", "lag")


def _alike(scene: Scene, adjacency: Adjacency) -> bool:
    """Whether both ends of a link are trunks with the same settings, and so are its cables: nothing differs then."""
    a, b = scene.port(adjacency.a), scene.port(adjacency.b)
    if a is None or b is None or a.mode not in ("trunk", "hybrid") or _AT_BOTH_ENDS(a) != _AT_BOTH_ENDS(b):
        return False
    return len(adjacency.links) == 1 and adjacency.a in (adjacency.links[0].a, adjacency.links[0].b)


def _neighbors(scene: Scene) -> Iterator[_MayBe]:
    for link in scene.network.links:
        yield neighbor_rules.neighbor_one_way(scene, link)
    yield from neighbor_rules.at_each_port(scene)
    for entry in scene.network.loose:
        yield neighbor_rules.neighbor_conflict(scene, entry)
        yield neighbor_rules.neighbor_unsurveyed(scene, entry)
    wanted = scene.plan.settings.discovery
    cabled = {end for link in scene.network.links for end in (link.a, link.b)}
    cabled |= {entry.end for entry in scene.network.loose}
    if wanted != "nowhere":
        for end in sorted(cabled):
            yield neighbor_rules.discovery_off(scene, end)
    if wanted != "everywhere":
        spelled = scene.network.names.spelled
        speaking: dict[str, list[End]] = defaultdict(list)
        columns = (scene.network.survey.column("ports", name) for name in ("device", "port", "discovery", "admin"))
        for device, port, discovery, admin in zip(*columns, strict=True):
            if discovery in ("both", "send") and admin != "down":
                end = End(spelled[device], port)
                if end not in cabled and (wanted == "nowhere" or end in scene.host_ends):
                    speaking[end.device].append(end)
        for ends in speaking.values():
            yield neighbor_rules.discovery_exposed(scene, ends)


def _vlans(scene: Scene) -> Iterator[_MayBe]:
    yield from vlan_rules.vlan_unused(scene)
    yield from vlan_rules.vlan_name_differs(scene)


def _trees(scene: Scene) -> Iterator[_MayBe]:
    network = scene.network
    instances = sorted({row.instance for rows in network.fabric.trees.bridges.values() for row in rows
                        if row.protocol != "off"})  # fmt: skip
    for instance in instances:
        answer = scene.tree(instance)
        yield from tree_rules.tree_root_by_default(scene, answer)
        yield from tree_rules.tree_disagrees(scene, answer)
    yield from tree_rules.tree_root_unplanned(scene)
    rows = [row for held in network.fabric.trees.bridges.values() for row in held]
    believed = {(row.instance, row.root_address) for row in rows if row.root_address}
    one_root = len(believed) == len({instance for instance, _ in believed})
    one_region = len({row.region for row in rows if row.region}) < 2
    for adjacency in network.adjacencies if not (one_root and one_region) else ():
        yield tree_rules.tree_roots_several(scene, adjacency)
        yield tree_rules.tree_region_differs(scene, adjacency)
    dropping = "drop" in network.survey.column("tree_ports", "bpdus")
    for adjacency in network.adjacencies if dropping else ():
        yield tree_rules.tree_off_at_port(scene, adjacency)
    for device in network.fabric.trees.bridges:
        if network.fabric.trees.off(device):
            yield tree_rules.tree_off_in_loop(scene, device)
    for end in scene.edge_rows:
        yield tree_rules.tree_edge_to_bridge(scene, end)


def _gateways(scene: Scene) -> Iterator[_MayBe]:
    stations = scene.network.stations
    up_on: dict[str, int] = {}
    for gateway in stations.gateways:
        yield gateway_rules.gateway_admin_down(scene, gateway)
        yield gateway_rules.gateway_down(scene, gateway)
        swapped = gateway_rules.gateway_vlan_wrong(scene, gateway)
        yield swapped
        yield address_rules.gateway_address_wrong(scene, gateway)
        yield address_rules.gateway_mask_differs(scene, gateway)
        yield address_rules.gateway_address_duplicate(scene, gateway)
        yield address_rules.gateway_tag_duplicate(scene, gateway)
        yield routing_rules.proxy_arp_on(scene, gateway)
        for adjacency in stations.facing(gateway):
            far = adjacency.far(gateway.end) if gateway.end else adjacency.a
            if swapped is None:
                yield gateway_rules.gateway_port_mode_wrong(scene, gateway, far)
            yield gateway_rules.gateway_port_vlan_wrong(scene, gateway, far)
        if gateway.end is None and gateway.row.vid and gateway.device not in up_on:
            up_on[gateway.device] = _fed(scene, gateway.device)
        yield gateway_rules.gateway_unreachable(scene, gateway, up_on.get(gateway.device, -1))
    for device in stations.on_device:
        yield routing_rules.routing_off(scene, device)


def _fed(scene: Scene, device: str) -> int:
    """The VIDs that some port of a device carries that may be up, as bits."""
    fabric, bits = scene.network.fabric, 0
    for port, row in scene.network.names.ports.get(device, {}).items():
        if row.admin != "down" and row.oper != "down" and row.lag in (None, NONE):
            bits |= fabric.carried(End(device, port)).possible & fabric.forwarding(End(device, port)).possible
    return bits if scene.network.names.ports.get(device) else -1


def _plan(scene: Scene) -> Iterator[_MayBe]:
    yield from plan_rules.software_mixed(scene)
    plan = scene.plan
    for port in plan.ports.values():
        yield plan_rules.plan_port(scene, port)
    for host in plan.hosts.values():
        yield plan_rules.plan_host(scene, host)
    yield from plan_rules.plan_vlans(scene)
    yield from plan_rules.plan_trees(scene)
    yield from plan_rules.plan_links(scene)
    for link in plan.links:
        yield plan_rules.plan_carries(scene, link)
    yield from _settings(scene)


def _settings(scene: Scene) -> Iterator[_MayBe]:
    settings = scene.plan.settings
    if settings.mtu is None and settings.speed is None and settings.native is None and settings.tagging is None:
        return
    between = {end for adjacency in scene.network.adjacencies for end in (adjacency.a, adjacency.b)}
    yield from plan_rules.plan_settings(
        scene,
        (
            (End(device, port), row, End(device, port) in between)
            for device, ports in scene.network.names.ports.items()
            for port, row in ports.items()
            if row.admin != "down"
        ),
    )


def split_vlans(scene: Scene) -> Iterator[tuple[int, list[list[Station]]]]:
    """Each VLAN that holds stations of one subnet in several pieces that surely do not hear each other."""
    parts: dict[tuple[int, object], dict[object, list[Station]]] = defaultdict(lambda: defaultdict(list))
    for station in _standing(scene):
        vid, subnet = scene.expected.vlan(station), scene.expected.subnet(station)
        if vid is None or subnet is None or station.up is False:
            continue
        for tap in station.taps:
            for joined in vids_in(tap.enters.sure):
                part = scene.network.components.of(Node(tap.device, joined))
                if joined == vid and part is not None:
                    parts[vid, subnet.network][part].append(station)
    done = set()
    for (vid, _), pieces in parts.items():
        if len(pieces) > 1 and vid not in done:
            groups = sorted(pieces.values(), key=len, reverse=True)
            if all(scene.network.stations.hears(groups[0][0], other[0]) is False for other in groups[1:]):
                done.add(vid)
                yield vid, groups


def _standing(scene: Scene) -> Iterable[Station]:
    """One host of each class, and every gateway interface."""
    yield from (one.hosts[0] for one in scene.network.classes.all)
    yield from scene.network.stations.gateways
