"""Other repairs that are as small: what else would mend a fault, and which evidence speaks for each.

The plan counts most, then the far end of the cable, the gateway's subnet, the name of a port or VLAN, and what most
peers do.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Sequence

from crossthread.diagnosis.caution import dares
from crossthread.diagnosis.context import Context
from crossthread.diagnosis.edits import set_gateway, set_host, set_port
from crossthread.diagnosis.expectations import gateway_address
from crossthread.diagnosis.findings import Alternative, Finding, Subject
from crossthread.diagnosis.rules.host import free_address
from crossthread.network.hosts.station import HostStation
from crossthread.network.topology.names import End
from crossthread.survey.changes import Change
from crossthread.survey.records import Port
from crossthread.values import NONE, VlanSet, address

_PLAN, _FAR, _SUBNET, _NAME, _PEERS = range(5)
_Reason = tuple[int, int, str]
"""The kind of evidence, how many witnesses it has (negative, so that more come first), and what it says."""


Way = tuple[tuple[Change, ...], str]
"""Changes elsewhere that would do as well, and what happens then."""


def alternatives(
    context: Context, finding: Finding, works: Callable[[Sequence[Change]], bool], ways: Iterable[Way] = ()
) -> tuple[Alternative, ...]:
    """The repair of a finding and others that are no larger, ranked by what speaks for them.

    Parameters
    ----------
    context
        The network as it is.
    finding
        What is to be mended.
    works
        Whether the pair that was asked about works with these changes in place of the finding's own.
    ways
        Other ways that packets may be let go.
    """
    chosen = tuple(finding.repair)
    if not chosen:
        return ()
    found = {_key(chosen): chosen}
    elsewhere = list(ways)
    then = {_key(changes): says for changes, says in elsewhere}
    for other in (*_others(context, finding), *(changes for changes, _ in elsewhere)):
        if len({(c.table, str(c.key)) for c in other}) <= len({(c.table, str(c.key)) for c in chosen}):
            key = _key(other)
            if key not in found and works(other) and not any(dares(context, change) for change in other):
                found[key] = other
    ranked = [(sorted(_reasons(context, changes)), number, changes) for number, changes in enumerate(found.values())]
    ranked.sort(key=lambda entry: _rank(entry[0], entry[1]))
    return tuple(
        Alternative(changes, tuple(filter(None, dict.fromkeys([then.get(_key(changes)), *(r[2] for r in reasons)]))))
        for reasons, _, changes in ranked
    )


def _rank(reasons: Sequence[_Reason], number: int) -> tuple[bool, bool, int, int, int]:
    """Planned first, then what the rule proposes (number 0), then by the best evidence."""
    kind, witnesses, _ = min(reasons, default=(_PEERS + 1, 0, ""))
    return kind != _PLAN, number != 0, kind, witnesses, number


def _key(changes: Sequence[Change]) -> frozenset[str]:
    return frozenset(str(change) for change in changes)


def _others(context: Context, finding: Finding) -> Iterator[tuple[Change, ...]]:
    """What else might mend a finding, by its rule."""
    ends = [End(s.device, s.port) for s in finding.subjects if s.device and s.port]
    rows = [row for row in map(context.port, ends) if row is not None]
    hosts = [host for s in finding.subjects for host in _host(context, s)]
    if finding.rule in ("link-native-differs", "link-access-vlan-differs") and len(rows) == len(ends) == 2:
        yield from ((set_port(ends[n], pvid=rows[1 - n].pvid or NONE),) for n in (0, 1))
    elif finding.rule == "link-tagging-differs" and len(rows) == len(ends) == 2:
        yield from ((set_port(ends[n], tagging=rows[1 - n].tagging or "802.1Q"),) for n in (0, 1))
    elif finding.rule == "link-mode-differs" and len(rows) == len(ends) == 2:
        for n in (0, 1):
            if rows[n].mode == "access":
                yield (set_port(ends[1 - n], mode="access", pvid=rows[n].pvid or NONE, allowed=""),)
    elif finding.rule == "port-vlan-wrong" and ends:
        for host in context.hosts_at(ends[0])[:1]:
            yield from _into_vlan(context, host)
    elif finding.rule == "host-outside-subnet":
        for host in hosts:
            yield from _into_subnet(context, host)
    elif finding.rule in ("host-mask-differs", "gateway-mask-differs"):
        yield from _lengths(context, finding, hosts)
    elif finding.rule in ("host-gateway-wrong", "host-gateway-missing", "host-gateway-outside-subnet"):
        for host in hosts:
            for gateway in context.expected.gateways(host):
                yield (set_host(host, gateway=str(gateway_address(gateway))),)


def _host(context: Context, subject: Subject) -> list[HostStation]:
    found = context.network.stations.hosts.get((subject.host or "").casefold())
    return [found] if found is not None else []


def _into_vlan(context: Context, host: HostStation) -> Iterator[tuple[Change, ...]]:
    """Give a host an address of the subnet of the VLAN that it is in."""
    vid = context.expected.current_vlan(host)
    for gateway in context.expected.served(vid) if vid else ():
        subnet = context.expected.subnet(gateway)
        free = free_address(context, subnet) if subnet is not None else None
        if subnet is not None and free is not None:
            cells = {"address": f"{free}/{subnet.network.prefixlen}", "gateway": str(gateway_address(gateway))}
            yield (set_host(host, **cells),)


def _into_subnet(context: Context, host: HostStation) -> Iterator[tuple[Change, ...]]:
    """Put a host's port into the VLAN that its address lives in."""
    row = context.port(host.end) if host.end is not None else None
    for gateway in context.network.stations.gateways:
        subnet = context.expected.subnet(gateway)
        inside = subnet is not None and host.address is not None and host.address.ip in subnet.network
        vid = context.expected.vlan(gateway)
        if inside and vid and row is not None and row.mode == "access" and host.end is not None and row.pvid != vid:
            yield (set_port(host.end, pvid=vid),)


def _lengths(context: Context, finding: Finding, hosts: Sequence[HostStation]) -> Iterator[tuple[Change, ...]]:
    """Give the gateway the host's prefix length, or the hosts' to the gateway."""
    for host in hosts:
        for gateway in context.expected.gateways(host)[:1]:
            if host.address is not None and gateway.address is not None:
                yield (set_gateway(gateway, address=f"{gateway.address.ip}/{host.address.network.prefixlen}"),)
    for subject in finding.subjects:
        for gateway in context.network.stations.on_device.get(subject.device or "", ()):
            if gateway.name == subject.interface and gateway.address is not None:
                yield from (
                    (set_host(host, address=f"{host.address.ip}/{gateway.address.network.prefixlen}"),)
                    for host in context.expected.near(gateway.address.ip)
                    if isinstance(host, HostStation)
                    and host.address is not None
                    and host.address.network != gateway.address.network
                )


def _reasons(context: Context, changes: Sequence[Change]) -> Iterator[_Reason]:
    """What speaks for the values that some changes set."""
    for change in changes:
        if change.table == "ports":
            yield from _for_port(context, End(str(change.key["device"]), str(change.key["port"])), change)
        elif change.table == "hosts":
            for host in _host(context, Subject(host=str(change.key["host"]))):
                yield from _for_host(context, host, change)
        elif change.table == "gateways":
            yield from _for_gateway(context, change)


def _for_port(context: Context, end: End, change: Change) -> Iterator[_Reason]:
    row = context.port(end)
    vid = change.cells.get("pvid")
    planned = context.plan.ports.get((end.device.casefold(), end.port))
    if planned is not None and vid is not None and planned.vlan == vid:
        yield _PLAN, 0, f"the plan has {end} in VLAN {vid}"
    far = [
        (a.far(end), held)
        for a in context.adjacencies_at.get(end, ())
        if (held := context.port(a.far(end))) is not None
    ]
    for other, held in far:
        yield from _for_far_end(other, held, change)
    hosts = context.hosts_at(end)
    for host in hosts[:1]:
        for gateway in context.expected.gateways(host)[:1]:
            if context.expected.current_vlan(gateway) == vid and gateway.address is not None:
                yield _SUBNET, 0, f"{gateway.device} {gateway.name} serves {gateway.address.network} in VLAN {vid}"
        yield from _peers_in(context, host, vid)
    name = context.vlan_names.get(vid) if isinstance(vid, int) else None
    if name and row is not None and row.description and name.casefold() in row.description.casefold():
        yield _NAME, 0, f"{end} is described as “{row.description}”, and VLAN {vid} is named {name}"
    if not hosts and far and vid is not None:
        natives = Counter(
            held.pvid for a in context.network.adjacencies for e in (a.a, a.b) if e != end
            and (held := context.port(e)) is not None and held.pvid is not None
        )  # fmt: skip
        same = natives[0 if vid == NONE else vid]
        if same:
            yield _PEERS, -same, f"{same} of {sum(natives.values())} other ends of links have it so"


def _for_far_end(other: End, held: Port, change: Change) -> Iterator[_Reason]:
    """What the other end of the cable says of a port's new settings."""
    cells = change.cells
    if cells.get("mode") is not None and cells["mode"] == held.mode:
        yield _FAR, 0, f"{other} at the other end is {'an' if held.mode == 'access' else 'a'} {held.mode} port too"
    elif cells.get("pvid") is not None and (held.pvid or NONE) == cells["pvid"]:
        yield _FAR, 0, f"{other} at the other end has {cells['pvid']}"
    elif cells.get("tagging") is not None and (held.tagging or "802.1Q") == cells["tagging"]:
        yield _FAR, 0, f"{other} at the other end uses {cells['tagging']}"
    elif cells.get("allowed") and held.allowed is not None and VlanSet.parse(str(cells["allowed"])) == held.allowed:
        yield _FAR, 0, f"{other} at the other end carries just these"


def _peers_in(context: Context, host: HostStation, vid: object) -> Iterator[_Reason]:
    peers = (
        [s for s in context.expected.near(host.address.ip) if isinstance(s, HostStation) and s is not host]
        if host.address
        else []
    )
    there = sum(context.expected.current_vlan(s) == vid for s in peers)
    if there:
        yield _PEERS, -there, f"{there} of {len(peers)} other hosts of its subnet are in VLAN {vid}"


def _for_host(context: Context, host: HostStation, change: Change) -> Iterator[_Reason]:
    planned = context.plan.hosts.get(host.name.casefold())
    for column in ("address", "gateway"):
        if planned is not None and getattr(planned, column, None) == change.cells.get(column) is not None:
            yield _PLAN, 0, f"the plan gives {host.name} the {column} {change.cells[column]}"
    hop = change.cells.get("gateway")
    users = [one for one in context.network.classes.all if hop and one.gateway == hop]
    count = sum(len(one.hosts) for one in users) - (host.row.gateway == hop)
    if count > 0:
        yield _PEERS, -count, f"{count} other hosts use {hop}" if count > 1 else f"one other host uses {hop}"
    text = str(change.cells.get("address") or "")
    length = int(text.rpartition("/")[2]) if "/" in text else None
    if length is None or host.address is None:
        return
    moved = address(text.partition("/")[0])
    if moved != host.address.ip:
        for gateway in context.expected.served(context.expected.current_vlan(host)):
            if gateway.address is not None and moved in gateway.address.network:
                vid = context.expected.current_vlan(host)
                yield _SUBNET, 0, f"{gateway.device} {gateway.name} serves {gateway.address.network} in VLAN {vid}"
        return
    for gateway in context.expected.gateways(host)[:1]:
        if gateway.address is not None and gateway.address.network.prefixlen == length:
            yield _SUBNET, 0, f"{gateway.device} {gateway.name} has {gateway.address}"
    alike = [s for s in context.expected.near(host.address.ip) if isinstance(s, HostStation) and s is not host]
    same = sum(s.address is not None and s.address.network.prefixlen == length for s in alike)
    if same:
        yield _PEERS, -same, f"{same} of {len(alike)} other hosts of its subnet have /{length}"


def _for_gateway(context: Context, change: Change) -> Iterator[_Reason]:
    text, tag = str(change.cells.get("address") or ""), change.cells.get("vid")
    own = [s for s in context.network.stations.on_device.get(str(change.key["device"]), ())
           if s.name == change.key["interface"] and s.address is not None]  # fmt: skip
    for gateway in own[:1]:
        assert gateway.address is not None
        hosts = [
            s for s in context.expected.near(gateway.address.ip) if isinstance(s, HostStation) and s.address is not None
        ]
        if "/" in text:
            length = int(text.rpartition("/")[2])
            same = sum(s.address is not None and s.address.network.prefixlen == length for s in hosts)
            if same:
                yield _PEERS, -same, f"{same} of {len(hosts)} hosts of its subnet have /{length}"
        if tag:
            there = sum(context.expected.current_vlan(s) == tag for s in hosts)
            if str(tag) in gateway.name.replace("vlan", ".").split("."):
                yield _NAME, 0, f"the interface is named {gateway.name}"
            if there:
                yield _PEERS, -there, f"{there} of {len(hosts)} hosts of its subnet are in VLAN {tag}"
