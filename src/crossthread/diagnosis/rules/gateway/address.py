"""Findings about gateway addresses: wrong, or another interface's, too; and about tags that two have."""

from __future__ import annotations

from collections import Counter
from itertools import islice

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.edits import set_gateway
from crossthread.diagnosis.expected.asked_addresses import asked_for, end_if_as_large, more_usual
from crossthread.diagnosis.expected.misaddressed import misaddressed, same_address, swapped_with
from crossthread.diagnosis.findings import Finding, at_station
from crossthread.diagnosis.registry import About, rule
from crossthread.diagnosis.rules.gateway.interface import called
from crossthread.network.hosts.classes import HostClass
from crossthread.network.hosts.station import HostStation, Interface
from crossthread.survey.records import Gateway, Route
from crossthread.values import NONE, Address, PrefixedAddress, address, interface, resized


@rule("gateway-address-wrong", "Gateway and routing", About.GATEWAY)
def gateway_address_wrong(context: Context, gateway: Interface, asked: Address | None = None) -> Finding | None:
    """The hosts of a VLAN use a gateway address that its gateway interface does not have.

    Matters: nobody answers for the address that the hosts ask for.
    Notice: a whole subnet has no way out.
    Confirm: compare the interface's address with the gateway that several hosts of the VLAN have.
    Decide: ask which address the gateway is meant to have: the list of addresses names it, or the server that hands
    out addresses.
    Mend: give the interface the address that its hosts use.
    """
    if gateway.address is None or context.expected.only_managed(gateway):
        return None
    astray = misaddressed(context, gateway)
    vid = context.expected.current_vlan(gateway) if astray else context.expected.vlan(gateway)
    wanted = asked_for(context, gateway, vid, living_there=astray)
    best = asked or _most_asked(context, gateway, wanted)
    if best not in wanted or not context.is_lost(str(best)) or context.network.unread.anywhere:
        return None  # somebody has it; or another gateway of that VLAN may be where nobody looked
    if by_another_address(context, gateway, best):
        return None  # that one is meant
    count = sum(len(one.hosts) for one in wanted[best])
    users = [host for one in wanted[best] for host in one.hosts[:3]][:3]
    length = gateway.address.network.prefixlen
    if best not in gateway.address.network:
        # What is wrong with its address need not be wrong with its prefix; but another's is neither its own.
        lengths = Counter({length: int(not astray)})
        for group in context.expected.groups(best):
            if isinstance(group.stations[0], HostStation):
                lengths[group.block.length] += len(group.stations)
        held = {n: all(_holds(one, best, n) for one in wanted[best]) for n in lengths}
        length = max(lengths, key=lambda n: (held[n], lengths[n], n == length))
    evidence = context.evidence(gateway.row, "address")
    for host in users:
        evidence += context.evidence(host.row, "gateway")
    listed = ", ".join(host.name for host in users) + (" and others" if count > 3 else "")
    listed += f" in its VLAN {vid}" if vid else " behind it"
    return Finding(
        "gateway-address-wrong",
        "breaks",
        (at_station(gateway),),
        f"{called(gateway)} has the address {gateway.address}, but {listed} {'use' if count > 1 else 'uses'} {best} as "
        "gateway.",
        evidence,
        (set_gateway(gateway, address=f"{best}/{length}"),),
    )


@rule("gateway-address-wrong", "Gateway and routing", About.GATEWAY)
def gateway_addresses_swapped(context: Context, gateway: Interface) -> Finding | None:
    """Two interfaces of a device have each other's address.

    Matters: the hosts of both subnets ask for a gateway that is not in their VLAN.
    Notice: two subnets have no way out, from one moment to the next.
    Confirm: compare the address of each interface with the gateway that the hosts of its VLAN have.
    Mend: give each interface the address of the other; clear one of them first.
    """
    other = swapped_with(context, gateway)
    if other is None or context.network.unread.anywhere:
        return None
    one, two = sorted((gateway, other), key=lambda s: s.name)
    return Finding(
        "gateway-address-wrong",
        "breaks",
        (at_station(one), at_station(two)),
        f"{called(one)} has the address {one.address}, which is of VLAN {two.row.vid}, and {called(two)} has "
        f"{two.address}, which is of VLAN {one.row.vid}: each has the other's.",
        context.evidence(one.row, "address", "vid") + context.evidence(two.row, "address", "vid"),
        (set_gateway(one, address=two.row.address), set_gateway(two, address=one.row.address)),
    )


@rule("gateway-address-wrong", "Gateway and routing", About.GATEWAY)
def transit_address_wrong(context: Context, gateway: Interface) -> Finding | None:
    """Another router's routes lead to an address that nobody has, and an interface beside it has one that nobody uses.

    Matters: neither of the two routers reaches the other.
    Notice: a whole part of the campus is not reached, though the routes look right.
    Confirm: list the addresses of both interfaces; ask for the next hop by ARP.
    Mend: give the interface the address that the other router's routes lead to.
    """
    own, stations = gateway.address, context.network.stations
    if own is None or context.network.unread.anywhere or context.expected.only_managed(gateway):
        return None
    near = [*islice((other for other in context.expected.near(own.ip) if other is not gateway), 2)]  # no more matter
    astray = misaddressed(context, gateway)
    if (str(own.ip) in context.next_hops or context.expected.users(own.ip) or len(near) > 1) and not astray:
        return None
    holders = same_address(context, gateway)
    idle = f"as {called(holders[0])} has" if holders else "which nobody uses"
    for peer in stations.gateways:
        if peer.address is None or not _is_beside(context, peer, gateway) or not (astray or near in ([], [peer])):
            continue
        rows = _lost_routes(context, peer)
        lost = {row.next_hop for row in rows}
        if len(lost) == 1 and (astray or peer not in near or len(rows) > 1):  # of a single route that may be the slip
            (hop,) = lost
            if by_another_address(context, gateway, address(hop or "")):
                continue  # the route is the slip
            says = f"{called(gateway)} has the address {own}, {idle}, but {peer.device} {peer.name} beside it"
            evidence = context.evidence(gateway.row, "address", *(["vid"] if gateway.row.vid else []))
            # What is wrong with its address need not be wrong with its prefix, if the other is in that as well.
            kept = interface(f"{hop}/{own.network.prefixlen}")
            given = kept if peer.ip in kept.network else interface(f"{hop}/{peer.address.network.prefixlen}")
            return Finding(
                "gateway-address-wrong",
                "breaks",
                (at_station(gateway),),
                f"{says} routes to {hop}, which nobody has.",
                evidence + tuple(fact for row in rows[:3] for fact in context.evidence(row, "next_hop")),
                (set_gateway(gateway, address=str(given)),),
            )
    return None


def by_another_address(context: Context, gateway: Interface, hop: Address) -> bool:
    """Whether an interface is in the subnet of an address by another address than the one that is looked at."""
    own = (s for s in context.network.stations.on_device[gateway.device] if s.name == gateway.name and s is not gateway)
    return any(s.address is not None and hop in s.address.network for s in own)


def _is_beside(context: Context, peer: Interface, gateway: Interface) -> bool:
    """Whether an interface of another device is in the VLAN of one, or cabled to it, and has the same version of IP."""
    if peer.device == gateway.device or peer.address is None or gateway.address is None:
        return False
    faced = (link.far(gateway.end) for link in context.adjacencies_at.get(gateway.end, ())) if gateway.end else ()
    cabled = peer.end is not None and peer.end in faced and peer.tag == gateway.tag
    near = cabled or bool(_vids(context, peer) & _vids(context, gateway))
    return near and peer.address.version == gateway.address.version


def _lost_routes(context: Context, peer: Interface) -> list[Route]:
    """The routes by an interface to addresses that nobody has."""
    rows = context.network.routing.routes(peer.device)
    told = [(row, row.next_hop) for row in rows if row.next_hop not in (None, NONE)]
    lost = [(row, hop) for row, hop in told if hop and context.is_lost(hop, peer.device)]
    return [row for row, hop in lost if peer.address is not None and address(hop) in peer.address.network]


def _vids(context: Context, gateway: Interface) -> set[int]:
    """The VLAN that an interface is in as things are, and the one that its tag names: the port beside may be wrong."""
    return {vid for vid in (context.expected.current_vlan(gateway), gateway.row.vid) if vid}


def _most_asked(context: Context, gateway: Interface, wanted: dict[Address, list[HostClass]]) -> Address | None:
    """The address that most of an interface's hosts use, if that is not its own and enough speaks for it."""
    assert gateway.address is not None
    own = gateway.address
    counts = {hop: sum(len(one.hosts) for one in users) for hop, users in wanted.items()}
    best = max(counts, key=lambda hop: (counts[hop], end_if_as_large(hop, own) is not None), default=None)
    used = counts.get(own.ip, 0)
    if best is None or counts[best] <= used:
        return None
    theirs = any(host.address and host.address.ip == own.ip for one in wanted[best] for host in one.hosts[:1])
    enough = counts[best] > 1 or theirs or (not used and more_usual(context, gateway, best))
    if best in own.network or all(_holds(one, own.ip) for one in wanted[best]):
        return best if enough else None
    mates = (len(one.hosts) for users in wanted.values() for one in users if _is_in(one, own))
    return best if counts[best] > sum(mates) else None  # as many of its own subnet say that its address is right


def _holds(one: HostClass, ip: Address, length: int | None = None) -> bool:
    """Whether an address is in the subnet of the hosts of a class, by their own prefix length or another."""
    at = one.hosts[0].address
    return at is not None and at.version == ip.version and ip in (at if length is None else resized(at, length)).network


def _is_in(one: HostClass, own: PrefixedAddress) -> bool:
    """Whether the hosts of a class are in an interface's subnet."""
    at = one.hosts[0].address
    return at is not None and at.ip in own.network


@rule("gateway-address-duplicate", "Gateway and routing", About.GATEWAY, follows="gateway-address-wrong")
def gateway_address_duplicate(context: Context, gateway: Interface) -> Finding | None:
    """Two interfaces have the same address, and it is not meant to be shared.

    Matters: hosts reach now the one and now the other.
    Notice: the subnet's way out works now and then.
    Confirm: ask for the address by ARP and count who answers.
    Mend: take the address from the one that was not meant to have it; for a shared address, say that it is one.
    """
    if gateway.address is None:
        return None
    others = same_address(context, gateway)
    if not others:
        return None
    evidence = tuple(fact for s in (gateway, *others) for fact in context.evidence(s.row, "address"))
    listed = ", ".join(dict.fromkeys(map(called, others)))
    return Finding(
        "gateway-address-duplicate",
        "breaks",
        (at_station(gateway), *map(at_station, others)),
        f"{called(gateway)} has the address {gateway.address.ip}, and so has {listed}.",
        evidence,
    )


@rule("gateway-tag-duplicate", "Gateway and routing", About.GATEWAY, follows="gateway-vlan-wrong")
def gateway_tag_duplicate(context: Context, gateway: Interface) -> Finding | None:
    """Two interfaces on one parent have the same tag.

    Matters: most devices refuse the second; where not, only one of them gets the frames.
    Notice: one of the two subnets has no way out.
    Confirm: list the interfaces on that parent with their tags.
    Mend: give each interface the tag of its own VLAN.
    """
    row = gateway.row
    assert isinstance(row, Gateway)
    others = [
        s
        for s in context.network.stations.on_device[gateway.device]
        if s.name != gateway.name and s.end == gateway.end and s.row.vid == row.vid and row.vid and s.tag == gateway.tag
    ]
    if not others:
        return None
    evidence = tuple(fact for s in (gateway, *others) for fact in context.evidence(s.row, "vid"))
    return Finding(
        "gateway-tag-duplicate",
        "risks",
        (at_station(gateway), *map(at_station, others)),
        f"{called(gateway)} serves VLAN {row.vid}, and so does {', '.join(map(called, others))}.",
        evidence,
    )
