"""Where an address that nobody has may belong: interfaces and ports that could be given it, the likeliest first."""

from __future__ import annotations

from collections.abc import Callable, Iterator

from crossthread.diagnosis.context import Context, unused
from crossthread.diagnosis.edits import in_its_table, raise_link, set_gateway, set_port
from crossthread.diagnosis.expected.led_to import routers_by_routes
from crossthread.diagnosis.expected.listed_vlans import ListedVlans
from crossthread.diagnosis.expected.misaddressed import misaddressed
from crossthread.network.hosts.station import HostStation, Interface
from crossthread.network.switching.nodes import Node
from crossthread.network.topology.names import End
from crossthread.survey.changes import Change
from crossthread.values import NONE, PrefixedAddress


def places_for(context: Context, own: PrefixedAddress, vid: int | None) -> Iterator[tuple[Change, ...]]:
    """Give an address to an interface of that VLAN that has none, or one that nobody uses, or add one at a router.

    The likeliest first.
    """
    network = context.network
    host = next((s for s in context.expected.near(own.ip) if isinstance(s, HostStation)), None)
    gateways = [g for g in network.stations.gateways if host is None or network.one_lan(g, host)]
    lan = network.lan(host) if host is not None else None
    serving = [g for g in gateways if g.row.vid == vid and vid]
    bare = [g for g in serving if g.row.address in (None, NONE)]
    asked = bool(context.expected.users(own.ip))  # else whoever uses the other address may be one of those not listed
    led, _ = routers_by_routes(context, own)
    spare = [g for g in serving if (asked or led.get(g.device, set()) - {g.device}) and unused(context, g)]
    spare += [g for g in gateways if vid and context.expected.current_vlan(g) == vid and misaddressed(context, g)]
    spare = [g for g in spare if g.address is not None and g.address.version == own.version]
    for gateway in bare[:1] or spare[:1]:
        yield (set_gateway(gateway, address=str(own)),)
    at_it = [host.end] if host is not None and host.end is not None and _is_idle(context, host.end) else []
    for end in (*at_it, *(end for end, home in idle_ports(context) if home == vid and leads_to(context, end, lan))):
        yield (_at_port(context, end, own), *raise_link(context, end))
    if vid:
        yield from _by_another_port(context, own, vid, lan)
    for gateway in sorted(gateways, key=_unfit(context, own, vid)):
        if vid is None or (gateway.end and gateway.tag == 0 and not _takes_tag(context, gateway.end, vid)):
            continue
        name = f"{gateway.end.port}.{vid}" if gateway.end else f"vlan{vid}"
        cells: dict[str, object] = {"vid": vid, "admin": "up", "oper": "up", "proxy_arp": "no"}
        cells |= in_its_table(context, gateway.device, name)
        if gateway.end:
            facing = [context.port(a.far(gateway.end)) for a in context.adjacencies_at.get(gateway.end, ())]
            tagged = any(beside.tag for beside in network.gateways_at.get(gateway.end, ()))
            native = any(p is not None and p.pvid == vid and not (tagged and p.mode == "access") for p in facing)
            cells |= {"port": gateway.end.port, "untagged": "yes" if native else "no"}
        yield (Change("gateways", {"device": gateway.device, "interface": name, "address": str(own)}, cells),)


def _at_port(context: Context, end: End, own: PrefixedAddress) -> Change:
    """Give an address to a router's port that has none."""
    cells: dict[str, object] = {"port": end.port, "untagged": "yes", "admin": "up", "oper": "up", "proxy_arp": "no"}
    key = {"device": end.device, "interface": end.port, "address": str(own)}
    return Change("gateways", key, cells | in_its_table(context, end.device, end.port))


def idle_ports(context: Context) -> Iterator[tuple[End, int]]:
    """The routers' ports that have no address, each with the VLAN of the access port that it is cabled to."""
    for end, faced in context.adjacencies_at.items():
        far = context.port(faced[0].far(end))
        if _is_idle(context, end) and far is not None and far.mode == "access" and far.pvid:
            yield end, far.pvid


def _is_idle(context: Context, end: End) -> bool:
    """Whether a port routes and has no address."""
    row = context.port(end)
    return row is not None and row.mode == "routed" and not context.network.gateways_at.get(end)


def _by_another_port(context: Context, own: PrefixedAddress, vid: int, lan: str | None) -> Iterator[tuple[Change, ...]]:
    """Give an address to a router's port that serves nobody, and put what it is cabled to into that VLAN."""
    for end, links in context.adjacencies_at.items():
        row, far = context.port(end), links[0].far(end)
        facing, held = context.port(far), context.network.gateways_at.get(end, ())
        if row is None or row.mode != "routed" or "down" in (row.admin, row.oper) or not leads_to(context, end, lan):
            continue
        if facing is None or facing.mode != "access" or facing.pvid == vid or len(held) > 1:
            continue
        if not held:
            yield (set_port(far, pvid=vid), _at_port(context, end, own))
        elif _may_give_up(context, held[0], own):
            yield (set_port(far, pvid=vid), set_gateway(held[0], address=str(own)))


def _may_give_up(context: Context, gateway: Interface, own: PrefixedAddress) -> bool:
    """Whether an interface that does not tag has an address that nobody uses, and hosts use the one it would get."""
    alike = gateway.address is not None and gateway.address.version == own.version
    return alike and gateway.tag == 0 and bool(context.expected.users(own.ip)) and unused(context, gateway)


def leads_to(context: Context, end: End, lan: str | None) -> bool:
    """Whether a router's port is cabled to the bridges where a subnet is."""
    far = {context.network.lan_at(link.far(end).device) for link in context.adjacencies_at.get(end, ())}
    return lan is None or lan in far


def _takes_tag(context: Context, end: End, vid: int) -> bool:
    """Whether what a router's port is cabled to carries a VLAN tagged, so that the port may have one more interface."""
    facing = (context.port(link.far(end)) for link in context.adjacencies_at.get(end, ()))
    return any(
        row is not None and row.mode in ("trunk", "hybrid") and row.pvid != vid and vid in (row.allowed or ())
        for row in facing
    )


def _unfit(context: Context, own: PrefixedAddress, vid: int | None) -> Callable[[Interface], tuple[bool, ...]]:
    """What speaks against the device of an interface as the one that had the address.

    It sends that very subnet's packets on to somebody else; what it is cabled to does not name the VLAN in a list; no
    route of others leads to it for that subnet; it does not route, which may be a fault of its own; the VLAN does not
    get there.
    """
    network, parts, listed = context.network, context.network.components, context.once(ListedVlans)
    led, passed = routers_by_routes(context, own)
    living = [s for s in context.expected.near(own.ip) if context.expected.current_vlan(s) == vid]
    homes = {parts.of(node) for s in living for tap in s.taps for node in tap.enter([vid or 0])} - {None}

    def unfit(gateway: Interface) -> tuple[bool, ...]:
        there = (parts.of(Node(tap.device, vid or 0)) for tap in gateway.taps if tap.device)
        led_here = bool(led.get(gateway.device, set()) - {gateway.device})
        off, elsewhere = network.routing.on(gateway.device) is False, gateway.device in passed
        facing = [link.far(gateway.end) for link in context.adjacencies_at.get(gateway.end, ())] if gateway.end else []
        named = any(listed.names(end, vid) for end in facing)
        return elsewhere, not named, not led_here, off, not any(part in homes for part in there)

    return unfit
