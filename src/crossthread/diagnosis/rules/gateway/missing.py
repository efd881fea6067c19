"""Findings about a gateway that nobody has: towards the hosts of a subnet, or towards another router."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Iterator
from itertools import chain, islice

from msgspec.structs import replace

from crossthread.diagnosis.context import Context, unused
from crossthread.diagnosis.edits import set_gateway, set_port
from crossthread.diagnosis.expected.led_to import routers_by_routes
from crossthread.diagnosis.expected.listed_vlans import ListedVlans
from crossthread.diagnosis.expected.misaddressed import misaddressed
from crossthread.diagnosis.expected.prefix_lengths import end_of
from crossthread.diagnosis.findings import Finding, Subject, at_station
from crossthread.diagnosis.heard_elsewhere import heard_of
from crossthread.diagnosis.registry import About, rule
from crossthread.diagnosis.rules.gateway.interface import called
from crossthread.diagnosis.rules.gateway.places import places_for
from crossthread.diagnosis.rules.host.subnet import host_outside_subnet
from crossthread.network.hosts.station import HostStation, Interface
from crossthread.survey.changes import Change
from crossthread.values import NONE, Address, PrefixedAddress, address, interface


def _has_none(_: Context, host: HostStation) -> bool:
    """Whether a host has no gateway set, so that it is no witness of one that is missing."""
    return host.row.gateway == NONE


@rule(
    "gateway-missing",
    "Gateway and routing",
    About.HOST,
    reads="subnet gateway expected",
    unless=(host_outside_subnet, _has_none),
    follows_in_vlan="gateway-address-wrong gateway-missing",
)
def gateway_missing(context: Context, host: HostStation, vid: int | None = None) -> Finding | None:
    """The hosts of a subnet have a gateway configured, but no interface has an address in their subnet.

    Matters: the subnet has no way out and none in.
    Notice: a whole subnet reaches itself and nothing else.
    Confirm: look for the address on every device that routes; an interface may have lost it when its tag was changed.
    Decide: ask which device had the address: an earlier configuration of each tells it.
    Mend: give an interface in that VLAN the address that the hosts use.
    """
    subnet = context.expected.subnet(host)
    hop = host.row.gateway
    if subnet is None or hop is None or subnet.is_link_local or context.expected.gateways(host):
        return None
    if context.may_be_answered(hop) and address(hop) in subnet.network:
        return None  # by somebody whom nobody read
    known = _asked_for(context, hop, subnet)
    taken = context.network.stations.by_address
    free = [
        ip
        for ip in (*known, *_usual(context, subnet), *islice(subnet.network.hosts(), 256))
        if ip in subnet.network and str(ip) not in taken
    ]
    if not free:
        return None
    wanted = interface(f"{free[0]}/{subnet.network.prefixlen}")
    vid = _home(context, subnet, vid or context.expected.vlan(host))
    own = next(_by_its_own(context, hop, wanted, vid), ())
    places = chain([own] if own else [], places_for(context, wanted, vid))
    first = next(places, ())
    told = (one for one in chain((first,), places) if not any(row for c in one for row in heard_of(context, c)))
    repair = next(told, first)  # ARP caches may tell who had it
    elsewhere = known and not any(ip in subnet.network for ip in known) and repair != own
    if elsewhere and not _is_routed_to(context, repair, wanted):
        repair = ()  # whoever is there asks for an address elsewhere, and for none that one could think of
    if _is_refused(context, repair, wanted):
        repair = ()  # the hosts' prefix is too long
    where = f" VLAN {vid}" if vid else " its VLAN"
    if context.network.unread.anywhere:
        return None  # what has the address may be where nobody looked
    managed = any(context.expected.interfaces_near(subnet.ip))  # else it would be a gateway
    who = "device that routes" if managed else "interface"
    says = f"No {who} has an address in {subnet.network}, so{where} has no gateway; "
    says += f"{host.name} uses {hop}." if hop != NONE else f"{host.name} has none either."
    evidence = context.evidence(host.row, "address", "gateway")
    anew = [c.key for c in repair if c.table == "gateways" and "address" in c.cells]
    here = ((key, s) for key in anew for s in context.network.stations.on_device.get(str(key["device"]), ()))
    for key, other in here:
        if other.address is not None and (other.name, other.row.address) == (key["interface"], key["address"]):
            beside = "another interface serves" if misaddressed(context, other) else "nobody else is in"
            says += f" {called(other)} has {other.address}, and {beside} that subnet."
            evidence += context.evidence(other.row, "address", "vid")
    return Finding(
        "gateway-missing", "breaks", (_at(context, host, vid) if vid else at_station(host),), says, evidence, repair
    )


def gateway_of_nobody(context: Context, host: HostStation) -> Finding | None:
    """The same of a host alone with its subnet, among others in its VLAN, where lists name one VLAN in which nobody is.

    Both may be lost together: the VLAN's interface, and the port's place in it.
    """
    row = context.port(host.end) if host.end is not None else None
    empty, now = context.once(ListedVlans).empty, context.expected.current_vlan(host)
    if host.end is None or host.address is None or row is None or row.mode != "access" or len(empty) != 1:
        return None
    if len([*islice(context.expected.near(host.address.ip), 2)]) > 1 or not context.expected.served(now, host):
        return None
    (vid,) = empty
    told = gateway_missing(context, host, vid)
    if told is None or not told.repair or not all(change.cells.get("vid") == vid for change in told.repair):
        return None
    return replace(told, repair=(set_port(host.end, pvid=vid), *told.repair))


def _home(context: Context, subnet: PrefixedAddress, own: int | None) -> int | None:
    """A VLAN, or another one with as many hosts of a subnet in it, in which an interface lacks the subnet's address.

    So an interface does that has one of the other version of IP, and none of this one.
    """
    expected = context.expected
    living = Counter(expected.current_vlan(s) for s in expected.near(subnet.ip) if isinstance(s, HostStation))
    held = [s for s in context.network.stations.gateways if s.address is not None]
    alike = {(s.device, s.name) for s in held if s.address is not None and s.address.version == subnet.version}
    lacking = {expected.current_vlan(s) for s in held if (s.device, s.name) not in alike}
    likely = [vid for vid in lacking & living.keys() if vid and living[vid] >= living[own]]
    return likely[0] if len(likely) == 1 else own


def _by_its_own(context: Context, hop: str, wanted: PrefixedAddress, vid: int | None) -> Iterator[tuple[Change, ...]]:
    """Give an address to the interface whose link-local address the hosts use: they have it as their router.

    Instead of one that nobody uses, if it has such a one, with the same interface identifier (RFC 4291, 2.5.1).
    """
    holders = context.network.stations.by_address.of(hop) if hop != NONE and address(hop).is_link_local else ()
    for gateway in holders:
        if not isinstance(gateway, Interface) or vid is None or context.expected.current_vlan(gateway) != vid:
            continue
        rows = [s for s in context.network.stations.on_device[gateway.device] if s.name == gateway.name]
        held = [s for s in rows if s.address is not None and s.address.version == wanted.version]
        idle = next((s for s in held if unused(context, s)), None)
        if idle is not None and idle.address is not None:
            ip = wanted.network[int(idle.address.ip) - int(idle.address.network.network_address)]
            yield (set_gateway(idle, address=f"{ip}/{wanted.network.prefixlen}"),)
        key = {"device": gateway.device, "interface": gateway.name, "address": str(wanted)}
        alike = {column: getattr(gateway.row, column, None) for column in ("vid", "port", "untagged", "table")}
        cells = {column: value for column, value in alike.items() if value is not None}
        yield (Change("gateways", key, {**cells, "admin": "up", "oper": "up", "proxy_arp": "no"}),)


def _at(context: Context, host: HostStation, vid: int) -> Subject:
    """A VLAN; where others that have nothing to do with it have its number, with a bridge that it is at."""
    lans = {context.network.lan(one.hosts[0]) for one in context.classes_in.get(vid, ())} - {None}
    return Subject(context.network.lan(host) if len(lans) > 1 else None, vid=vid)


def _asked_for(context: Context, hop: str, subnet: PrefixedAddress) -> list[Address]:
    """The gateways that hosts have who are in a subnet, and a certain one: first what most use.

    Of as many first that at an end of the subnet, if the site's gateways are; else the certain one.
    """
    users = Counter[Address]({address(used): 0 for used in [hop] if used != NONE})
    for group in context.expected.groups(subnet.ip):
        if group.gateway is not None:
            users[group.gateway] += len(group.stations)
    held = [s.address for s in context.network.stations.gateways if s.address is not None]
    usual = len(held) > 1 and all(end_of(own.ip, own) for own in held)
    return sorted(users, key=lambda ip: (-users[ip], usual and end_of(ip, subnet) is None))


def _is_routed_to(context: Context, changes: Collection[Change], wanted: PrefixedAddress) -> bool:
    """Whether a change sets an address of an interface anew, at a device to which others' routes lead for it."""
    led, _ = routers_by_routes(context, wanted)
    anew = [str(c.key["device"]) for c in changes if c.table == "gateways" and "address" in c.cells]
    return any(led.get(device, set()) - {device} for device in anew)


def _is_refused(context: Context, changes: Collection[Change], wanted: PrefixedAddress) -> bool:
    """Whether a device would get a subnet that holds one of its others, or is in it, as hardly any lets one do."""
    given = {(c.key["device"], c.key["interface"]) for c in changes if c.table == "gateways"}
    beside = (s for device, _ in given for s in context.network.stations.on_device.get(str(device), ()))
    others = (context.expected.subnet(s) for s in beside if (s.device, s.name) not in given)
    return any(
        own is not None and own.network != wanted.network and own.network.overlaps(wanted.network) for own in others
    )


def _usual(context: Context, subnet: PrefixedAddress) -> list[Address]:
    """The first and the last address of a subnet, as most gateways have it; of one address, there is neither."""
    if subnet.network.num_addresses < _SOME:
        return []
    ends = Counter(end_of(s.address.ip, s.address) for s in context.network.stations.gateways if s.address is not None)
    first, last = subnet.network[1], subnet.network[-2]
    return [last, first] if ends["last"] > ends["first"] else [first, last]


_SOME = 4
"""A subnet of fewer addresses has no first and last one besides a network's and a broadcast's."""
