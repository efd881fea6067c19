"""Every rule over everything it speaks of, with a quick look first at what it can be about at all.

A campus has a hundred thousand ports, and nearly all are as they should be. So each sweep picks the few rows that a
rule could say something of by one test of a column, and only then asks the rule.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterable, Iterator
from functools import partial
from itertools import compress, count
from operator import attrgetter

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.findings import Finding
from crossthread.diagnosis.rules import cable as wire_rules
from crossthread.diagnosis.rules import gateway as gateway_rules
from crossthread.diagnosis.rules import gateway_address as address_rules
from crossthread.diagnosis.rules import host as host_rules
from crossthread.diagnosis.rules import link as link_rules
from crossthread.diagnosis.rules import neighbor as neighbor_rules
from crossthread.diagnosis.rules import plan as plan_rules
from crossthread.diagnosis.rules import port as port_rules
from crossthread.diagnosis.rules import routing as routing_rules
from crossthread.diagnosis.rules import tree as tree_rules
from crossthread.diagnosis.rules import vlan as vlan_rules
from crossthread.network.hosts.station import Station
from crossthread.network.switching.segments import Node
from crossthread.network.three_valued import vids_in
from crossthread.network.topology.adjacency import Adjacency
from crossthread.network.topology.names import End
from crossthread.survey.table import runs
from crossthread.values import NONE

_MayBe = Finding | None


def sweep(context: Context) -> Iterator[Finding]:
    """Everything that the rules find, in the order of their families; some may be found more than once."""
    yield from _told(
        context, _hosts, _links, _ports, _neighbors, _vlans, _trees, tree_rules.tree_detour, _gateways, _plan
    )


def _told(context: Context, *families: Callable[[Context], Iterable[_MayBe]]) -> Iterator[Finding]:
    return (finding for family in families for finding in family(context) if finding is not None)


def _hosts(context: Context) -> Iterator[_MayBe]:
    for one in context.network.classes.all:
        found = list(_of_host(context, one.hosts[0], one.plain))
        yield from found
        if any(found):
            for host in one.hosts[1:]:
                yield from _of_host(context, host, one.plain)


def _of_host(context: Context, host: Station, plain: bool) -> Iterator[_MayBe]:
    """What the rules say of a host; one that is plainly on an access port that is up needs fewer questions."""
    outside = host_rules.host_outside_subnet(context, host)
    mask = host_rules.host_mask_differs(context, host)
    yield outside
    yield mask
    yield host_rules.host_gateway_missing(context, host)
    if not outside and not mask:
        yield host_rules.host_gateway_outside_subnet(context, host)
    if not _served_wrongly(context, host):
        yield host_rules.host_gateway_wrong(context, host)
    if not outside and getattr(host.row, "gateway", NONE) != NONE:
        yield address_rules.gateway_missing(context, host)
    if not outside:
        yield port_rules.port_vlan_wrong(context, host)
    if plain:
        return
    yield host_rules.host_link_down(context, host)
    yield host_rules.host_not_located(context, host)
    yield host_rules.host_address_missing(context, host)
    yield host_rules.host_address_duplicate(context, host)
    yield port_rules.port_mode_wrong(context, host) or port_rules.port_mode_loose(context, host)
    yield port_rules.port_refuses_station(context, host)


def _served_wrongly(context: Context, host: Station) -> bool:
    """Whether it is the gateway's address that is wrong, and not the host's setting."""
    return any(address_rules.gateway_address_wrong(context, gateway) for gateway in context.expected.gateways(host))


def _ports(context: Context) -> Iterator[_MayBe]:
    survey, spelled = context.network.survey, context.network.names.spelled
    column = partial(survey.column, "ports")
    states = zip(column("admin"), column("oper"), strict=True)
    for row in [survey.ports[n] for n, state in enumerate(states) if "down" in state]:
        end = End(spelled[row.device], row.port)
        if end in context.adjacencies_at or end in context.host_ends:
            yield port_rules.port_admin_down(context, end) or port_rules.port_down(context, end)
    yield from _existing(context)
    rules = (
        (port_rules.port_errors, ("in_errors", "crc_errors", "out_errors", "late_collisions")),
        (port_rules.port_slow, ("capable_speed",)),
        (port_rules.port_has_refused, ("violations",)),
    )
    for rule, columns in rules:
        told = {n for name in columns if any(column(name)) for n in compress(count(), column(name))}
        for row in map(survey.ports.__getitem__, sorted(told)):
            yield rule(context, End(spelled[row.device], row.port))
    for cable in survey.cables:
        if cable.status not in (None, "ok", "unknown"):
            device = spelled[cable.device]
            yield port_rules.cable_fault(
                context, End(device, context.network.names.port(device, cable.port) or cable.port)
            )


def _existing(context: Context) -> Iterator[_MayBe]:
    """Access ports in use whose VLAN does not exist on their device, or is suspended there."""
    column, spelled = partial(context.network.survey.column, "ports"), context.network.names.spelled
    modes, pvids, states = column("mode"), column("pvid"), column("admin")
    for written, run in runs(column("device")):
        device = spelled[written]
        if device not in context.network.fabric.vlan_rows:
            continue
        active = context.network.fabric.exists(device).possible
        if all(active >> vid & 1 for vid in set(pvids[run]) if vid):
            continue
        for port, mode, vid, admin in zip(column("port")[run], modes[run], pvids[run], states[run], strict=True):
            if vid and not active >> vid & 1 and mode == "access" and admin != "down":
                end = End(device, port)
                if end in context.adjacencies_at or end in context.host_ends:
                    yield port_rules.port_vlan_missing(context, end, vid)
                    yield port_rules.vlan_suspended(context, device, vid)


def _links(context: Context) -> Iterator[_MayBe]:
    rules: tuple[Callable[[Context, Adjacency], _MayBe], ...] = (
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
    for adjacency in context.network.adjacencies:
        if _alike(context, adjacency):
            yield link_rules.link_not_spare(context, adjacency)
            continue
        for rule in rules:
            yield rule(context, adjacency)
    for row in context.network.survey.neighbors:
        if row.pvid is not None or row.mtu or row.duplex or row.speed or row.lag:
            yield from wire_rules.announced(context, row)


_AT_BOTH_ENDS = attrgetter("mode", "pvid", "allowed", "untagged", "tagging", "speed", "duplex", "mtu", "lag")


def _alike(context: Context, adjacency: Adjacency) -> bool:
    """Whether both ends of a link are trunks with the same settings, and so are its cables: nothing differs then."""
    a, b = context.port(adjacency.a), context.port(adjacency.b)
    if a is None or b is None or a.mode not in ("trunk", "hybrid") or _AT_BOTH_ENDS(a) != _AT_BOTH_ENDS(b):
        return False
    return len(adjacency.links) == 1 and adjacency.a in (adjacency.links[0].a, adjacency.links[0].b)


def _neighbors(context: Context) -> Iterator[_MayBe]:
    for link in context.network.links:
        yield neighbor_rules.neighbor_one_way(context, link)
    yield from neighbor_rules.at_each_port(context)
    for entry in context.network.loose:
        yield neighbor_rules.neighbor_conflict(context, entry)
        yield neighbor_rules.neighbor_unsurveyed(context, entry)
    wanted = context.plan.settings.discovery
    cabled = {end for link in context.network.links for end in (link.a, link.b)}
    cabled |= {entry.end for entry in context.network.loose}
    if wanted != "nowhere":
        for end in sorted(cabled):
            yield neighbor_rules.discovery_off(context, end)
    if wanted != "everywhere":
        spelled = context.network.names.spelled
        speaking: dict[str, list[End]] = defaultdict(list)
        columns = (context.network.survey.column("ports", name) for name in ("device", "port", "discovery", "admin"))
        for device, port, discovery, admin in zip(*columns, strict=True):
            if discovery in ("both", "send") and admin != "down":
                end = End(spelled[device], port)
                if end not in cabled and (wanted == "nowhere" or end in context.host_ends):
                    speaking[end.device].append(end)
        for ends in speaking.values():
            yield neighbor_rules.discovery_exposed(context, ends)


def _vlans(context: Context) -> Iterator[_MayBe]:
    yield from vlan_rules.vlan_unused(context)
    yield from vlan_rules.vlan_name_differs(context)


def _trees(context: Context) -> Iterator[_MayBe]:
    network = context.network
    instances = sorted({row.instance for rows in network.fabric.trees.bridges.values() for row in rows
                        if row.protocol != "off"})  # fmt: skip
    for instance in instances:
        answer = context.tree(instance)
        yield from tree_rules.tree_root_by_default(context, answer)
        yield from tree_rules.tree_disagrees(context, answer)
    yield from tree_rules.tree_root_unplanned(context)
    rows = [row for held in network.fabric.trees.bridges.values() for row in held]
    believed = {(row.instance, row.root_address) for row in rows if row.root_address}
    one_root = len(believed) == len({instance for instance, _ in believed})
    one_region = len({row.region for row in rows if row.region}) < 2
    for adjacency in network.adjacencies if not (one_root and one_region) else ():
        yield tree_rules.tree_roots_several(context, adjacency)
        yield tree_rules.tree_region_differs(context, adjacency)
    dropping = "drop" in network.survey.column("tree_ports", "bpdus")
    for adjacency in network.adjacencies if dropping else ():
        yield tree_rules.tree_off_at_port(context, adjacency)
    for device in network.fabric.trees.bridges:
        if network.fabric.trees.off(device):
            yield tree_rules.tree_off_in_loop(context, device)
    for end in context.edge_rows:
        yield tree_rules.tree_edge_to_bridge(context, end)


def _gateways(context: Context) -> Iterator[_MayBe]:
    stations = context.network.stations
    up_on: dict[str, int] = {}
    for gateway in stations.gateways:
        yield gateway_rules.gateway_admin_down(context, gateway)
        yield gateway_rules.gateway_down(context, gateway)
        swapped = gateway_rules.gateway_vlan_wrong(context, gateway)
        yield swapped
        yield address_rules.gateway_address_wrong(context, gateway)
        yield address_rules.gateway_mask_differs(context, gateway)
        yield address_rules.gateway_address_duplicate(context, gateway)
        yield address_rules.gateway_tag_duplicate(context, gateway)
        yield routing_rules.proxy_arp_on(context, gateway)
        for adjacency in stations.facing(gateway):
            far = adjacency.far(gateway.end) if gateway.end else adjacency.a
            if swapped is None:
                yield gateway_rules.gateway_port_mode_wrong(context, gateway, far)
            yield gateway_rules.gateway_port_vlan_wrong(context, gateway, far)
        if gateway.end is None and gateway.row.vid and gateway.device not in up_on:
            up_on[gateway.device] = _fed(context, gateway.device)
        yield gateway_rules.gateway_unreachable(context, gateway, up_on.get(gateway.device, -1))
    for device in stations.on_device:
        yield routing_rules.routing_off(context, device)


def _fed(context: Context, device: str) -> int:
    """The VIDs that some port of a device carries that may be up, as bits."""
    fabric, bits = context.network.fabric, 0
    for port, row in context.network.names.ports.get(device, {}).items():
        if row.admin != "down" and row.oper != "down" and row.lag in (None, NONE):
            bits |= fabric.carried(End(device, port)).possible & fabric.forwarding(End(device, port)).possible
    return bits if context.network.names.ports.get(device) else -1


def _plan(context: Context) -> Iterator[_MayBe]:
    yield from plan_rules.software_mixed(context)
    plan = context.plan
    for port in plan.ports.values():
        yield plan_rules.plan_port(context, port)
    for host in plan.hosts.values():
        yield plan_rules.plan_host(context, host)
    yield from plan_rules.plan_vlans(context)
    yield from plan_rules.plan_trees(context)
    yield from plan_rules.plan_links(context)
    for link in plan.links:
        yield plan_rules.plan_carries(context, link)
    yield from _settings(context)


def _settings(context: Context) -> Iterator[_MayBe]:
    settings = context.plan.settings
    if settings.mtu is None and settings.speed is None and settings.native is None and settings.tagging is None:
        return
    between = {end for adjacency in context.network.adjacencies for end in (adjacency.a, adjacency.b)}
    yield from plan_rules.plan_settings(
        context,
        (
            (End(device, port), row, End(device, port) in between)
            for device, ports in context.network.names.ports.items()
            for port, row in ports.items()
            if row.admin != "down"
        ),
    )


def split_vlans(context: Context) -> Iterator[tuple[int, list[list[Station]]]]:
    """Each VLAN that holds stations of one subnet in several pieces that surely do not hear each other."""
    parts: dict[tuple[int, object], dict[object, list[Station]]] = defaultdict(lambda: defaultdict(list))
    for station in _standing(context):
        vid, subnet = context.expected.vlan(station), context.expected.subnet(station)
        if vid is None or subnet is None or station.up is False:
            continue
        for tap in station.taps:
            for joined in vids_in(tap.enters.sure):
                part = context.network.components.of(Node(tap.device, joined))
                if joined == vid and part is not None:
                    parts[vid, subnet.network][part].append(station)
    done = set()
    for (vid, _), pieces in parts.items():
        if len(pieces) > 1 and vid not in done:
            groups = sorted(pieces.values(), key=len, reverse=True)
            if all(context.network.stations.hears(groups[0][0], other[0]) is False for other in groups[1:]):
                done.add(vid)
                yield vid, groups


def _standing(context: Context) -> Iterable[Station]:
    """One host of each class, and every gateway interface."""
    yield from (one.hosts[0] for one in context.network.classes.all)
    yield from context.network.stations.gateways
