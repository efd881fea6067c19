"""The whole network against itself: every fault that the rules see, worst first."""

from __future__ import annotations

from collections.abc import Iterator

import msgspec

from crossthread.network.forwarding import Forwarding
from crossthread.network.names import End
from crossthread.network.network import Network
from crossthread.network.stations import Station
from crossthread.network.truth import all_of
from crossthread.questions.findings import SEVERITIES, Finding
from crossthread.questions.mended import Search
from crossthread.questions.rules import gateway as gateway_rules
from crossthread.questions.rules import gateway_address as address_rules
from crossthread.questions.rules import host as host_rules
from crossthread.questions.rules import link as link_rules
from crossthread.questions.rules import neighbor as neighbor_rules
from crossthread.questions.rules import port as port_rules
from crossthread.questions.rules import routing as routing_rules
from crossthread.questions.rules import wire as wire_rules
from crossthread.questions.scene import Scene
from crossthread.questions.stops import explain
from crossthread.values import NONE


class Check(msgspec.Struct, frozen=True):
    """The answer to "what is wrong here": the findings, worst first, and how many of each severity."""

    findings: tuple[Finding, ...]
    counts: dict[str, int]


def check(network: Network) -> Check:
    """Look at every host, port, link and gateway, and at the ways between them.

    A finding `breaks` if a host does not reach its gateway or its peers because of it, or one subnet another; what is
    inconsistent but stops nobody now is a `risks`.
    """
    scene = Scene(network)
    found: dict[tuple[str, frozenset[object]], Finding] = {}
    for finding in (*_ways(scene), *_hosts(scene), *_gateways(scene), *_ports(scene), *_links(scene)):
        subjects = finding.subjects
        if finding.rule == "port-vlan-missing":  # one for each device and VLAN, however many ports need it
            subjects = tuple(msgspec.structs.replace(subject, port=None) for subject in subjects)
        found.setdefault((finding.rule, frozenset(subjects)), finding)
    kept = [f for f in found.values() if not _told_already(f, list(found.values()))]
    kept.sort(key=lambda f: (SEVERITIES.index(f.severity), f.rule, str(f.subjects[0]) if f.subjects else ""))
    return Check(tuple(kept), {s: sum(f.severity == s for f in kept) for s in SEVERITIES})


def _ways(scene: Scene) -> Iterator[Finding]:
    """What stands between hosts and those they should reach: their gateway or a peer, then one subnet and another."""
    forwarding, search = Forwarding(scene.network), Search(scene)
    by_subnet: dict[object, list[Station]] = {}
    for host in scene.network.stations.hosts.values():
        subnet = scene.expected.subnet(host)
        if subnet is not None:
            by_subnet.setdefault(subnet.network, []).append(host)
    ready: dict[object, Station] = {}
    for network, hosts in by_subnet.items():
        for host in hosts:
            goals = scene.expected.gateways(host)[:1] or [other for other in hosts if other is not host][:1]
            heard = all_of(forwarding.resolves(host, goal) for goal in goals)
            if heard is False:
                way = search.between(host, goals[0])
                yield from way.findings if way is not None else ()
            elif host.up:
                ready.setdefault(network, host)
    for one in ready.values():
        for two in ready.values():
            if one is two or one.address is None or two.address is None or one.address.version != two.address.version:
                continue
            walk = forwarding.send(one, two)
            served = scene.expected.gateways(one) and scene.expected.gateways(two)
            if walk.arrives is False and walk.stop is not None and served:
                yield from explain(scene, walk.stop, two, False)


def _hosts(scene: Scene) -> Iterator[Finding]:
    for host in scene.network.stations.hosts.values():
        outside = host_rules.host_outside_subnet(scene, host)
        mask = host_rules.host_mask_differs(scene, host)
        rules = [
            host_rules.host_link_down(scene, host),
            host_rules.host_not_located(scene, host),
            host_rules.host_address_missing(scene, host),
            host_rules.host_address_duplicate(scene, host),
            outside,
            mask,
            host_rules.host_gateway_missing(scene, host),
            None if outside or mask else host_rules.host_gateway_outside_subnet(scene, host),
            None if _served_wrongly(scene, host) else host_rules.host_gateway_wrong(scene, host),
            None
            if outside or getattr(host.row, "gateway", NONE) == NONE
            else address_rules.gateway_missing(scene, host),
            None if outside else port_rules.port_vlan_wrong(scene, host),
            port_rules.port_mode_wrong(scene, host),
            port_rules.port_refuses_station(scene, host),
        ]
        yield from (finding for finding in rules if finding is not None)


def _served_wrongly(scene: Scene, host: Station) -> bool:
    """Whether it is the gateway's address that is wrong, and not the host's setting."""
    return any(address_rules.gateway_address_wrong(scene, gateway) for gateway in scene.expected.gateways(host))


def _gateways(scene: Scene) -> Iterator[Finding]:
    stations = scene.network.stations
    for gateway in stations.gateways:
        rules = [
            gateway_rules.gateway_admin_down(scene, gateway),
            gateway_rules.gateway_down(scene, gateway),
            gateway_rules.gateway_vlan_wrong(scene, gateway),
            address_rules.gateway_address_wrong(scene, gateway),
            address_rules.gateway_mask_differs(scene, gateway),
            address_rules.gateway_address_duplicate(scene, gateway),
            address_rules.gateway_tag_duplicate(scene, gateway),
        ]
        for adjacency in stations.facing(gateway):
            far = adjacency.far(gateway.end) if gateway.end else adjacency.a
            if gateway_rules.gateway_vlan_wrong(scene, gateway) is None:
                rules.append(gateway_rules.gateway_port_mode_wrong(scene, gateway, far))
            rules.append(gateway_rules.gateway_port_vlan_wrong(scene, gateway, far))
        yield from (finding for finding in rules if finding is not None)
    for device in stations.on_device:
        finding = routing_rules.routing_off(scene, device)
        if finding is not None:
            yield finding


def _ports(scene: Scene) -> Iterator[Finding]:
    used = {**scene.hosts_at, **scene.adjacencies_at}
    for device, ports in scene.network.names.ports.items():
        for port, row in ports.items():
            end = End(device, port)
            if end in used:
                stops = port_rules.port_admin_down(scene, end) or port_rules.port_down(scene, end)
                if stops is not None:
                    yield _softened(stops) if not scene.hosts_at.get(end) else stops
                if row.mode == "access" and row.pvid:
                    told = port_rules.port_vlan_missing(scene, end, row.pvid) or port_rules.vlan_suspended(
                        scene, device, row.pvid
                    )
                    if told is not None:
                        yield told
    yield from _running(scene)


def _running(scene: Scene) -> Iterator[Finding]:
    for device, ports in scene.network.names.ports.items():
        for port in ports:
            for rule in (port_rules.port_errors, port_rules.port_slow):
                finding = rule(scene, End(device, port))
                if finding is not None:
                    yield finding
    for row in scene.network.survey.cables:
        device = scene.network.names.device(row.device) or row.device
        finding = port_rules.cable_fault(scene, End(device, row.port))
        if finding is not None:
            yield finding


def _links(scene: Scene) -> Iterator[Finding]:
    breaking = (
        link_rules.link_mode_differs,
        link_rules.link_access_vlan_differs,
        link_rules.link_tagging_differs,
        link_rules.link_native_differs,
    )
    fragile = (
        link_rules.link_allowed_differs,
        wire_rules.link_speed_differs,
        wire_rules.link_duplex_differs,
        wire_rules.link_mtu_differs,
        wire_rules.link_lag_differs,
    )
    for adjacency in scene.network.adjacencies:
        for rule in breaking:
            finding = rule(scene, adjacency)
            if finding is not None:
                yield _softened(finding)
        for other in fragile:
            finding = other(scene, adjacency)
            if finding is not None:
                yield finding
    for entry in scene.network.loose:
        finding = neighbor_rules.neighbor_conflict(scene, entry)
        if finding is not None:
            yield finding


def _softened(finding: Finding) -> Finding:
    """The same finding where nobody was found to be stopped by it."""
    return msgspec.structs.replace(finding, severity="risks") if finding.severity == "breaks" else finding


def _told_already(finding: Finding, others: list[Finding]) -> bool:
    """Whether a finding only repeats in general what another says in particular, at the same ports."""
    covered = {
        "link-allowed-differs": {"link-vlan-missing"},
        "host-gateway-outside-subnet": {"host-mask-differs", "host-outside-subnet"},
        "port-down": {"port-admin-down", "host-link-down"},
    }.get(finding.rule, set())
    places = {(s.device, s.port) for s in finding.subjects if s.port}
    return any(
        other.rule in covered and places & {(s.device, s.port) for s in other.subjects if s.port} for other in others
    )
