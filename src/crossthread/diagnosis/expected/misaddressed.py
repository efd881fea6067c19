"""Interfaces that were given the address of another one."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator

from crossthread.diagnosis.context import Context
from crossthread.network.hosts.station import HostStation, Interface, Station
from crossthread.values import address


def same_address(context: Context, gateway: Interface) -> list[Interface]:
    """The other interfaces that have an interface's address as their own, where both may be reached."""
    own = gateway.address
    holders = context.network.stations.by_address.of(str(own.ip)) if own is not None else ()
    return [s for s in _beside(context, gateway, holders) if own is not None and s.address and s.address.ip == own.ip]


def _beside(context: Context, gateway: Interface, stations: Iterable[Station]) -> Iterator[Interface]:
    """The interfaces among some stations that packets may be routed by as by an interface, which is none of them."""
    for other in stations:
        itself = (other.device, other.name) == (gateway.device, gateway.name)
        if isinstance(other, Interface) and not itself and other.row.table == gateway.row.table:
            yield from [other] if context.connected(other.device, gateway.device) else []


def misaddressed(context: Context, gateway: Interface) -> bool:
    """Whether an interface has the address of another one, or of its subnet, and that one has the better claim to it.

    So it is where fewer hosts of that subnet are than where the other one is, or where others live and none of them; or
    if its own device sends packets to that address. Of another address of the subnet, as two routers may have, only
    where hosts live that ask for a gateway which nobody has.
    """
    return gateway in context.once(_misaddressed)


def misaddressed_in(context: Context, vid: int | None, near: Station) -> list[Interface]:
    """Those interfaces in a VLAN, where a station is that may be in it."""
    found = (one for one in context.network.stations.gateways if context.network.one_lan(one, near))
    return [one for one in found if misaddressed(context, one) and context.expected.current_vlan(one) == vid]


def _misaddressed(context: Context) -> frozenset[Interface]:
    return frozenset(one for one in context.network.stations.gateways if _is_misaddressed(context, one))


def _is_misaddressed(context: Context, gateway: Interface) -> bool:
    own, here = gateway.address, context.expected.current_vlan(gateway)
    if own is None or not context.network.sees(own.version):
        return False
    if others := same_address(context, gateway):
        routes = context.network.routing.routes
        rivals = {one.device for one in (gateway, *others)}
        sending = {device for device in rivals if any(row.next_hop == str(own.ip) for row in routes(device))}
        if sending and sending != rivals:
            return gateway.device in sending
    if here is None:  # a host may be plugged into the router itself
        plugged = context.hosts_at(gateway.end) if gateway.end is not None else []
        faced = [link.far(gateway.end) for link in context.adjacencies_at.get(gateway.end, ())] if gateway.end else []
        peers = [s for end in faced for s in context.network.gateways_at.get(end, ()) if s.tag == gateway.tag]
        strangers = any(s.address and s.address.ip not in own.network for s in (*plugged, *peers))
        return strangers and bool(others)
    if not others and _asked_in_vain(context, gateway, here):
        others = [*_beside(context, gateway, context.expected.near(own.ip))]
    living = _hosts_of(context, gateway, gateway)[here] if others else 0
    there = (_hosts_of(context, gateway, other)[context.expected.current_vlan(other)] for other in others)
    return living < max(there, default=0) or (bool(others) and not living and context.expected.astray(gateway))


def _asked_in_vain(context: Context, gateway: Interface, vid: int) -> bool:
    """Whether hosts live in an interface's VLAN that no interface there serves and that ask for an address nobody has.

    And none of its own subnet, nor does another router send to its address. A gateway outside a host's own prefix is
    that host's fault, and no interface's.
    """
    near = (one.hosts[0] for one in context.living_in(vid, gateway) if one.block is not None)
    hosts = [(host, host.address) for host in near if host.address is not None]
    own = gateway.address.network if gateway.address is not None else None
    if own is None or any(at.ip in own for _, at in hosts):
        return False
    if any(device != gateway.device for device in context.routed_to.get(str(gateway.ip), ())):
        return False
    here = [one for one in context.network.stations.gateways if context.expected.current_vlan(one) == vid]
    served = [one.address.ip for one in here if one.address is not None and context.network.one_lan(one, gateway)]
    return any(
        context.is_lost(hop) and address(hop or "") in at.network
        for hop, at in ((host.row.gateway, at) for host, at in hosts)
        if not any(ip in at.network for ip in served)
    )


def swapped_with(context: Context, gateway: Interface) -> Interface | None:
    """The interface of the same device that has the address of an interface's VLAN, which has that of the other's.

    Their tags may be what was swapped as well: only where a name, or another address that its hosts use, says that a
    tag is right.
    """
    return context.once(_swapped).get(gateway)


def asks_for_another(context: Context, host: HostStation) -> bool:
    """Whether the interface of a host's subnet was given its address in exchange for that of the host's VLAN.

    A host that is not where its subnet lives is in the wrong place all the same.
    """
    others = (swapped_with(context, gateway) for gateway in context.expected.gateways(host))
    now = context.expected.current_vlan(host)
    return any(other is not None and now in (None, other.row.vid) for other in others)


def beside_swapped(context: Context, gateway: Interface, *_: object) -> bool:
    """Whether another interface of an interface's subnet was given its address in exchange for that of another VLAN."""
    near = context.expected.interfaces_near(gateway.address.ip) if gateway.address is not None else ()
    return any(s is not gateway and swapped_with(context, s) is not None for s in near)


def _swapped(context: Context) -> dict[Interface, Interface]:
    homes: dict[tuple[object, ...], tuple[Interface, int]] = {}
    for one in context.network.stations.gateways:
        around = _hosts_of(context, one) + _routers_of(context, one) if one.row.vid else Counter()
        living = Counter({vid: count for vid, count in around.items() if vid is not None})
        for home, count in living.most_common(1):
            if one.address is not None and home != one.row.vid and 2 * count > living.total():
                homes[one.device, one.end, one.address.version, one.row.vid, home] = one, count
    found = {}
    for (*place, vid, at), (one, count) in homes.items():
        other, more = homes.get((*place, at, vid), (None, 0))
        if other is not None and count + more > _FEW and _tags_are_right(context, (one, other)):
            found[one] = other
    return found


def few_stay(context: Context, gateway: Interface) -> bool:
    """Whether hardly any hosts of an interface's subnet live in the VLAN of its tag."""
    living = _hosts_of(context, gateway)
    return 4 * living[gateway.row.vid] <= living.total()


_FEW = 2
"""If no more hosts of both subnets are there it may as well be that each was plugged in at the other's port."""


def _hosts_of(context: Context, gateway: Interface, near: Station | None = None) -> Counter[int | None]:
    """How many hosts of an interface's subnet are in which VLAN, and devices that are managed there.

    With a station only those who may be where it is: elsewhere the same numbers may be other VLANs.
    """
    living: Counter[int | None] = Counter()
    for group in context.expected.groups(gateway.address.ip) if gateway.address is not None else ():
        first = group.stations[0]
        away = near is not None and not context.network.one_lan(first, near)
        if not away and (isinstance(first, HostStation) or context.expected.only_managed(first)):
            living[group.vid] += len(group.stations)
    return living


def _routers_of(context: Context, gateway: Interface) -> Counter[int | None]:
    """How much the interfaces of other routers in its subnet say of its VLAN: each as much as a few hosts."""
    near = context.expected.interfaces_near(gateway.address.ip) if gateway.address is not None else ()
    routing = (s for s in near if s.device != gateway.device and not context.expected.only_managed(s))
    return Counter({vid: _FEW * n for vid, n in Counter(map(context.expected.current_vlan, routing)).items()})


def _tags_are_right(context: Context, pair: tuple[Interface, Interface]) -> bool:
    """Whether something says of one of two interfaces that its tag is right, and nothing of either that it is wrong."""
    told = [(named, one.row.vid) for one in pair if (named := context.expected.named_vid(one)) is not None]
    rows = (other for one in pair for other in context.network.stations.on_device[one.device] if other.name == one.name)
    serving = any(serves_here(context, other) for other in rows if other not in pair)
    return all(named == vid for named, vid in told) and (bool(told) or serving)


def serves_here(context: Context, gateway: Interface) -> bool:
    """Whether most hosts of an interface's subnet, of those whose VLAN is known, are in the VLAN of its tag."""
    vid, own = gateway.row.vid, gateway.address
    living = _hosts_of(context, gateway) if vid and own is not None and not own.ip.is_link_local else Counter()
    return living[vid] > sum(count for home, count in living.items() if home not in (None, vid))
