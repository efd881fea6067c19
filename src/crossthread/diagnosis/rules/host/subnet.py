"""Findings about a host whose address or prefix length does not fit its VLAN and its gateway."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec.structs import replace

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.edits import set_host, set_port
from crossthread.diagnosis.expected.asked_addresses import asked_for
from crossthread.diagnosis.expected.free_addresses import free_address
from crossthread.diagnosis.expected.listed_vlans import ListedVlans
from crossthread.diagnosis.expected.misaddressed import asks_for_another
from crossthread.diagnosis.expected.prefix_lengths import end_of
from crossthread.diagnosis.expected.voters import gateway_address
from crossthread.diagnosis.findings import Alternative, Finding, at_station
from crossthread.diagnosis.registry import About, rule
from crossthread.diagnosis.rules.gateway.address import gateway_address_wrong
from crossthread.diagnosis.rules.gateway.interface import called
from crossthread.network.hosts.station import HostStation, Interface, Station
from crossthread.values import NONE, Address, address


@rule(
    "host-outside-subnet",
    "Host",
    About.HOST,
    reads="subnet gateway current-vlan expected",
    follows_in_vlan="gateway-address-wrong",
)
def host_outside_subnet(context: Context, host: HostStation) -> Finding | None:
    """The host's address is not in the subnet that the gateway of its VLAN serves, though its gateway is.

    Matters: its neighbours and its gateway do not expect it there.
    Notice: the host reaches neither its gateway nor its neighbours.
    Confirm: compare the host's address with the gateway interface's of the VLAN that its port is in.
    Decide: ask where the host is meant to be: its owner, the list of addresses, or whoever changed the port or the
    host last.
    Mend: give it an address of its VLAN's subnet, or plug it into the VLAN of its address.
    """
    if host.address is None or (own := host.row).gateway in (None, NONE):
        return None
    vid = context.expected.current_vlan(host)
    hop = address(own.gateway or "")
    for gateway in context.expected.served(vid, host) if vid else ():
        subnet = context.expected.subnet(gateway)
        its_own = hop.is_link_local and _has(context, gateway, hop) and not _mates(context, host)
        if subnet is None or subnet.version != host.address.version or not (its_own or hop in subnet.network):
            continue
        if host.address.ip in subnet.network or context.expected.undecided(gateway):
            continue
        free = free_address(context, subnet, host)
        repair = (set_host(host, address=f"{free}/{subnet.network.prefixlen}"),) if free else ()
        return Finding(
            "host-outside-subnet",
            "breaks",
            (at_station(host),),
            f"{host.name} has the address {host.address}, but its VLAN {vid} and its gateway {hop} belong to "
            f"{subnet.network}.",
            context.evidence(host.row, "address", "gateway") + context.evidence(gateway.row, "address", "vid"),
            repair,
        )
    return None


def _has(context: Context, gateway: Interface, hop: Address) -> bool:
    """Whether an address is one of an interface, link-local or not."""
    holders = context.network.stations.by_address.of(str(hop))
    return any(isinstance(s, Interface) and (s.device, s.name) == (gateway.device, gateway.name) for s in holders)


def _mates(context: Context, host: HostStation) -> bool:
    """Whether another host has an address of a host's subnet and the same gateway."""
    near = context.expected.near(host.address.ip) if host.address is not None else ()
    return any(isinstance(s, HostStation) and s is not host and s.row.gateway == host.row.gateway for s in near)


@rule("host-outside-subnet", "Host")
def host_of_another_vlan(context: Context, host: HostStation) -> Finding | None:
    """The host's address and gateway are both of the subnet of another VLAN than the one that its port is in.

    Either the port is in the wrong VLAN, or the host has the settings of another; its port is the odd one of three.

    Matters: its neighbours and its gateway are not where the host is.
    Notice: the host reaches neither its gateway nor its neighbours.
    Confirm: ask where the host is meant to be; compare with the description of its port.
    Mend: put its port into the VLAN of its address, or give it an address and the gateway of its port's VLAN.
    """
    vid = context.expected.current_vlan(host) if not asks_for_another(context, host) else None
    for mate, hop in _living_in(context, vid, host) if vid and host.address is not None else ():
        subnet = context.expected.subnet(mate)
        if subnet is None or host.address is None or host.address.ip in subnet.network:
            continue
        free = free_address(context, subnet, host) if subnet.version == host.address.version else None
        if free is None:
            continue
        own, tag = host.row.gateway, ("vid",) if isinstance(mate, Interface) else ()
        kept = own == hop or (own not in (None, NONE) and address(own) in subnet.network)  # two of three agree
        cells = {"address": f"{free}/{subnet.network.prefixlen}"} | ({} if kept else {"gateway": hop})
        return Finding(
            "host-outside-subnet",
            "breaks",
            (at_station(host),),
            f"{host.name} has the address {host.address}, but its port is in VLAN {vid}, which has {subnet.network}.",
            context.evidence(host.row, "address", "gateway") + context.evidence(mate.row, "address", *tag),
            (set_host(host, **cells),),
        )
    return None


@rule("host-outside-subnet", "Host")
def host_of_its_gateway(context: Context, host: HostStation) -> Finding | None:
    """The host's gateway is of another subnet than its address, and nobody else is in the VLAN of its port.

    Matters: the host cannot ask for its gateway, as that is not in its own subnet.
    Notice: the host reaches nobody beyond its VLAN.
    Confirm: ask where the host is meant to be; find out which VLAN the interface with that address serves.
    Mend: give it an address of its gateway's subnet, or the gateway of the subnet of its address.
    """
    vid = context.expected.current_vlan(host)
    hop = host.row.gateway
    if host.address is None or hop in (None, NONE) or address(hop or "") in host.address.network:
        return None
    if vid is None or any(one.hosts[0] is not host for one in context.living_in(vid, host)):
        return None
    for gateway in context.network.stations.by_address.of(hop or ""):
        subnet = context.expected.subnet(gateway) if isinstance(gateway, Interface) else None
        free = (
            free_address(context, subnet, host)
            if subnet is not None and subnet.version == host.address.version
            else None
        )
        if subnet is None or free is None or host.address.ip in subnet.network:
            continue
        return Finding(
            "host-outside-subnet",
            "breaks",
            (at_station(host),),
            f"{host.name} has the address {host.address}, but its gateway {hop} is of {subnet.network}.",
            context.evidence(host.row, "address", "gateway") + context.evidence(gateway.row, "address"),
            (set_host(host, address=f"{free}/{subnet.network.prefixlen}"),),
        )
    return None


def _living_in(context: Context, vid: int, but: HostStation) -> Iterator[tuple[Station, str]]:
    """The gateways of a VLAN, or else hosts in it, each with the gateway to use there.

    Hosts first where they use an address that nobody has, and nobody uses the interface's: that has a wrong one.
    """
    for gateway in context.expected.served(vid, but):
        hop = gateway_address(gateway)
        asked = asked_for(context, gateway, vid) if hop is not None and not context.expected.users(hop) else {}
        for lost in (one for one in asked if str(one) not in context.network.stations.by_address):
            if not _is_better_placed(gateway, lost) or gateway_address_wrong(context, gateway) is not None:
                yield from ((one.hosts[0], str(lost)) for one in asked[lost] if one.hosts[0] is not but)
        yield gateway, str(hop)
    mates = (one for one in context.living_in(vid, but) if one.block is not None and one.hosts[0] is not but)
    for one in sorted(mates, key=lambda one: -len(one.hosts)):
        # Where somebody uses a gateway that nobody read, that would decide: no reason to renumber a host.
        if not context.network.unread.anywhere or but.row.gateway == one.gateway == NONE:
            yield one.hosts[0], one.gateway or NONE


def _is_better_placed(gateway: Interface, other: Address) -> bool:
    """Whether an interface has the first or last address of its subnet, as gateways mostly have, and another is not."""
    own = gateway.address
    return own is not None and end_of(own.ip, own) is not None and end_of(other, own) is None


@rule("host-outside-subnet", "Host", About.HOST, reads="subnet current-vlan expected")
def host_outside_served(context: Context, host: HostStation) -> Finding | None:
    """The host is alone with its subnet and has no gateway, in a VLAN in which interfaces serve another subnet.

    Matters: nobody there takes it for a neighbour, and nobody elsewhere is of its subnet.
    Notice: the host reaches nobody.
    Confirm: compare its address with the gateway interface's of the VLAN that its port is in.
    Decide: ask where the host is meant to be: its owner, the list of addresses, or whoever changed the port last.
    Mend: put its port into the VLAN that trunks name and nobody is in; or give it an address of the subnet there.
    """
    vid = context.expected.current_vlan(host)
    if host.address is None or vid is None or host.row.gateway != NONE or context.network.unread.anywhere:
        return None
    if host.address.is_link_local or any(station is not host for station in context.expected.near(host.address.ip)):
        return None
    served = ((one, context.expected.subnet(one)) for one in context.expected.served(vid, host))
    known = [(one, own) for one, own in served if own is not None and own.version == host.address.version]
    networks = {own.network for _, own in known}
    if len(networks) != 1 or any(network.overlaps(host.address.network) for network in networks):
        return None
    gateway, subnet = known[0]
    either = [_left_for(context, host)]
    if free := free_address(context, subnet, host):
        cells = {"address": f"{free}/{subnet.network.prefixlen}", "gateway": str(gateway_address(gateway))}
        says = f"{called(gateway)} serves {subnet.network} in VLAN {vid}"
        either.append(Alternative((set_host(host, **cells),), (says,)))
    return Finding(
        "host-outside-subnet",
        "breaks",
        (at_station(host),),
        f"{host.name} has the address {host.address} and no gateway, and nobody else is of that subnet; its VLAN {vid} "
        f"has {subnet.network}.",
        context.evidence(host.row, "address", "gateway") + context.evidence(gateway.row, "address"),
        alternatives=tuple(one for one in either if one is not None),
    )


@rule("host-outside-subnet", "Host", About.HOST, reads="subnet current-vlan expected", unless=(host_outside_subnet,))
def host_outside_peers(context: Context, host: HostStation, paired: bool = False) -> Finding | None:
    """The host is alone with its subnet, in a VLAN in which all others are of one other subnet.

    Asked about a pair, it is enough that the host's subnet lives in another VLAN, and one other in this.

    Matters: nobody there takes it for a neighbour, and nobody elsewhere is of its subnet.
    Notice: the host reaches nobody.
    Confirm: compare its address with those of the other hosts in its VLAN.
    Mend: give it an address of the subnet of its VLAN; or put its port into the VLAN that trunks name and nobody is in.
    """
    vid = context.expected.current_vlan(host)
    if host.address is None or vid is None or host.row.gateway != NONE:
        return None  # a gateway of its own would speak for its address
    mates = [one for one in context.living_in(vid, host) if one.block is not None and one.hosts[0] is not host]
    blocks = {one.block for one in mates}
    if len(blocks) != 1 or sum(len(one.hosts) for one in mates) < (1 if paired else _SEVERAL):
        return None
    other = mates[0].hosts[0]
    near = (
        one for one in context.expected.groups(host.address.ip) if len(one.stations) > 1 or one.stations[0] is not host
    )
    if any(group.vid in (vid, None) for group in near) if paired else any(near):  # or it may be here
        return None
    if other.address is None:
        return None
    elsewhere = any(group.vid != vid for group in context.expected.groups(other.address.ip))
    if elsewhere or context.expected.gateways(host) or context.expected.served(vid, host):
        return None
    if other.address.version != host.address.version:
        return None
    free = free_address(context, other.address, host)
    hop = other.row.gateway
    cells = {"address": f"{free}/{other.address.network.prefixlen}"} | (
        {"gateway": hop} if hop not in (None, NONE) else {}
    )
    mend = (set_host(host, **cells),) if free else ()
    told = Finding(
        "host-outside-subnet",
        "breaks",
        (at_station(host),),
        f"{host.name} has the address {host.address}, of a subnet that nobody else in its VLAN {vid} has; the others "
        f"there are in {other.address.network}.",
        context.evidence(host.row, "address") + context.evidence(other.row, "address"),
        mend,
    )
    left = None if paired else _left_for(context, host)
    if left is None:
        return told
    count = sum(len(one.hosts) for one in mates)
    either = Alternative(mend, (f"{count} other hosts in VLAN {vid} are of that subnet",))
    return replace(told, repair=(), alternatives=(left, either) if mend else (left,))


def _left_for(context: Context, host: HostStation) -> Alternative | None:
    """The port of a host that is alone with its subnet in the one VLAN that trunks name and nobody is in."""
    row, empty = context.port(host.end) if host.end is not None else None, context.once(ListedVlans).empty
    if host.end is None or row is None or row.mode != "access" or not row.pvid or len(empty) != 1:
        return None
    (vid,) = empty
    return Alternative((set_port(host.end, pvid=vid),), (f"trunks name VLAN {vid}, in which nobody is",))


_SEVERAL = 2
"""How many others have to agree."""
