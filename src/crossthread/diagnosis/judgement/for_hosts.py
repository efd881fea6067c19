"""What speaks for a host's address and gateway."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import islice

from crossthread.diagnosis.expected.prefix_lengths import end_of
from crossthread.diagnosis.judgement import weights
from crossthread.diagnosis.judgement.for_lengths import for_length
from crossthread.diagnosis.judgement.hearing import Hearing
from crossthread.diagnosis.judgement.witness import Witness, agreeing
from crossthread.network.hosts.station import HostStation, Interface
from crossthread.network.topology.names import End
from crossthread.survey.changes import Change
from crossthread.survey.records import ArpEntry
from crossthread.values import NONE, PrefixedAddress, address, interface


def for_host(hearing: Hearing, change: Change, instead: Change) -> Iterator[Witness]:
    """What speaks for the address and the gateway that a change gives to a host, instead of others."""
    context = hearing.context
    host = context.network.stations.hosts.get(str(change.key["host"]).casefold())
    if host is None:
        return
    planned = context.plan.hosts.get(host.name.casefold())
    for column in ("address", "gateway"):
        if planned is not None and getattr(planned, column, None) == change.cells.get(column) is not None:
            yield Witness(weights.PLAN, f"the plan gives {host.name} the {column} {change.cells[column]}")
    text, other = (str(one.cells.get("address") or NONE) for one in (change, instead))
    moves = text != other and (NONE in (text, other) or interface(text).ip != interface(other).ip)
    hop = str(change.cells.get("gateway") or NONE)
    if hop != NONE and not moves:
        yield from _for_gateway(hearing, host, hop)
    if moves and text != NONE:
        yield from _for_place(hearing, host, interface(text), "gateway" in change.cells)
        heard = (row for row in context.remembered(host) if _had(hearing, host, row, interface(text)))
        for row in islice(heard, 1):
            yield Witness(weights.HEARD, f"{row.device} has heard {host.name} at {row.address}")
        if host.row.gateway == NONE and hop != NONE and (asking := _asking_beside(hearing, host)):
            says = f"{_count(asking, 'other host')} of its present subnet {'have' if asking > 1 else 'has'} a gateway"
            yield Witness(weights.INCOMPLETE, f"{says}, and it has none")
        if hop != NONE and (users := hearing.count_users(hop, host)):
            yield Witness(0.0, f"{_count(users, 'other host')} {'use' if users > 1 else 'uses'} {hop}")
    elif text != NONE:
        yield from _for_length(hearing, host, interface(text))


def _had(hearing: Hearing, host: HostStation, row: ArpEntry, own: PrefixedAddress) -> bool:
    """Whether an ARP entry of a host says that it had an address.

    With what it has now it is heard wherever it is: where its subnet is not, that says nothing, nor where an
    interface of that subnet is in its VLAN now.
    """
    if address(row.address) != own.ip or own.ip != host.ip:
        return address(row.address) == own.ip
    heard_by = [s for s in hearing.context.network.stations.on_device.get(row.device, ()) if s.name == row.interface]
    now = hearing.context.expected.current_vlan
    apart = (s for s in heard_by if None in (now(s), now(host)) or now(s) != now(host))
    return not heard_by or any(s.address is not None and own.ip in s.address.network for s in apart)


def _asking_beside(hearing: Hearing, host: HostStation) -> int:
    """How many others of a host's subnet have a gateway in it."""
    own = host.address
    near = hearing.near(own.ip, host) if own is not None else ()
    asking = ((one.number, one.station.row.gateway or NONE) for one in near if isinstance(one.station, HostStation))
    return sum(n for n, hop in asking if own is not None and hop != NONE and address(hop) in own.network)


def _count(number: int, noun: str) -> str:
    return f"one {noun}" if number == 1 else f"{number} {noun}s"


def _for_gateway(hearing: Hearing, host: HostStation, hop: str) -> Iterator[Witness]:
    """What other hosts, and interfaces, say of the address of a gateway."""
    own, served = host.address, hearing.context.plan.served_at(hop)
    there = hearing.context.expected.planned(host) in (None, served)
    if served is not None and there and own is not None and address(hop) in own.network:
        yield Witness(weights.PLAN, f"the plan has the gateway {hop} for VLAN {served}")
    network, vid = hearing.context.network, hearing.context.expected.current_vlan(host)
    holders = [s for s in network.stations.by_address.of(hop) if isinstance(s, Interface)]
    inside = own is not None and (address(hop) in own.network or address(hop).is_link_local)
    here = (s for s in holders if hearing.context.expected.current_vlan(s) == vid and network.one_lan(s, host))
    if holders and not inside and not any(here):
        return  # it is neither in its prefix nor where it is, whoever uses it elsewhere
    users = hearing.count_users(hop, host)
    yield from agreeing(users, f"{_count(users, 'other host')} {'use' if users > 1 else 'uses'} {hop}")
    if holders and inside:
        yield Witness(weights.IN_USE, "")  # one outside its own prefix is no gateway
    now = host.row.gateway
    inside = host.address is not None and now not in (None, NONE) and address(now or "") in host.address.network
    if inside and any(_at_end(holder, host) for holder in holders):
        yield Witness(weights.AT_END, "")
    if any(looks_changed(hearing, host, hop)):
        yield Witness(weights.DOUBTFUL, "")


def looks_changed(hearing: Hearing, host: HostStation, hop: str) -> Iterator[str]:
    """Why the interface that has an address, which no other host uses, may have another one than it should.

    Other hosts of the subnet use one that nobody has, which stands at an end of the subnet if the interface's does; or
    all other gateways that hosts use are at an end of their subnets.
    """
    stations, expected = hearing.context.network.stations, hearing.context.expected
    holders = (s for s in stations.by_address.of(hop) if isinstance(s, Interface) and s.address is not None)
    if host.address is None or hearing.count_users(hop, host):
        return
    near = [one.station for one in hearing.near(host.address.ip, host) if isinstance(one.station, HostStation)]
    hops = dict.fromkeys(s.row.gateway for s in near if s.row.gateway not in (None, NONE))
    for holder in holders:
        assert holder.address is not None
        lost = [ip for used in hops if (ip := address(used or "")) in holder.address.network]
        lost = [ip for ip in lost if str(ip) not in stations.by_address]
        if odd := next((ip for ip in lost if not _at_end(holder, host) or end_of(ip, holder.address)), None):
            yield f"others of its subnet use {odd}, which nobody has, and nobody else uses {hop}"
        used = [s for s in stations.gateways if s is not holder and s.address and expected.users(s.address.ip)]
        ends = {end_of(own.ip, own) for s in used if (own := expected.subnet(s)) is not None}
        if ends and None not in ends and not _at_end(holder, host):
            yield f"nobody else uses {hop}, which is at no end of its subnet, as the other gateways are"


def _at_end(interface: Interface, host: HostStation) -> bool:
    """Whether an interface has the first or last address of its subnet, as gateways mostly have.

    Where a host's prefix length is another one, either may be right.
    """
    own = interface.address
    lengths = [length for length in (own, host.address) if length is not None]
    return own is not None and any(end_of(own.ip, length) is not None for length in lengths)


def _for_place(hearing: Hearing, host: HostStation, own: PrefixedAddress, both: bool) -> Iterator[Witness]:
    """What its port and its gateway say of the subnet that an address is in."""
    vid = hearing.context.expected.current_vlan(host)
    here = [one for one in hearing.near(own.ip, host) if vid in hearing.home([one])]
    serving = next((s for s, *_ in here if isinstance(s, Interface) and s.address is not None), None)
    mates = sum(one.number for one in here if isinstance(one.station, HostStation))
    if serving is not None and serving.address is not None:
        now = "serves" if hearing.vlan(serving) == vid else "is by its name to serve"
        says = f"{serving.device} {serving.name} {now} {serving.address.network} in VLAN {vid}"
        yield Witness(weights.PORT, says)
        if (
            both
            and vid
            and _is_free(hearing, own, vid, host)
            and _is_at_home_elsewhere(hearing, host, vid)
            and _is_last(hearing, host, vid)
        ):
            yield Witness(weights.EMPTIED, f"{host.end} is the only port in VLAN {vid}")
    elif mates:
        yield Witness(
            weights.PORT, f"{_count(mates, 'other host')} in VLAN {vid} {'are' if mates > 1 else 'is'} of that subnet"
        )
    stays = host.address is not None and own.ip == host.address.ip
    if hearing.in_transit(host) if stays else hearing.in_transit(host, own):
        yield Witness(weights.TRANSIT, "")
    row = host.row
    if not both and row.gateway not in (None, NONE) and address(row.gateway or "") in own.network:
        yield Witness(weights.OWN, f"its gateway {row.gateway} is in that subnet")
        near = hearing.near(host.address.ip, host) if host.address is not None else ()
        if serving is not None and all(hearing.vlan(one.station) != vid for one in near):
            yield Witness(weights.TWO_OF_THREE, "")


def _is_free(hearing: Hearing, own: PrefixedAddress, vid: int, host: HostStation) -> bool:
    """Whether a subnet is for hosts, and none of it lives anywhere: one device serves it, and no other is there.

    A host whose port and gateway are both elsewhere has only a wrong address there.
    """
    known = [group.stations[0] for group in hearing.context.expected.groups(own.ip)]
    living = [
        one
        for one in known
        if isinstance(one, HostStation)
        and (hearing.vlan(one) == vid or one.row.gateway in (None, NONE) or address(one.row.gateway) in own.network)
    ]
    serving = [*(one for one in known if isinstance(one, Interface)), *hearing.context.expected.served(vid, host)]
    return not living and len({one.device for one in serving}) == 1


def _is_at_home_elsewhere(hearing: Hearing, host: HostStation, vid: int) -> bool:
    """Whether an interface and other hosts show that the subnet of a host's address lives in another VLAN."""
    near = [*hearing.near(host.address.ip, host)] if host.address is not None else []
    away = [one.station for one in near if hearing.home([one]) - {vid}]
    return len({isinstance(s, Interface) for s in away}) > 1 and len(away) == len(near)


def _is_last(hearing: Hearing, host: HostStation, vid: int) -> bool:
    """Whether a host's port is surely the only access port in a VLAN, those apart that lead to other devices."""
    network, lan = hearing.context.network, hearing.context.network.lan(host)
    if network.open_ends or not all(network.covered.fully(name, "ports") for name in network.names.devices.values()):
        return False
    rows = network.survey.ports
    numbers = (n for n, pvid in enumerate(network.survey.column("ports", "pvid")) if pvid == vid)
    others = (row for n in numbers if (row := rows[n]).mode == "access" and row.admin != "down")
    ends = {End(network.names.spelled[row.device], row.port) for row in others}
    ends = {end for end in ends if lan in (None, network.lan_at(end.device))}
    return not ends - {host.end} - hearing.context.adjacencies_at.keys()


def _for_length(hearing: Hearing, host: HostStation, own: PrefixedAddress) -> Iterator[Witness]:
    """What its gateway and its neighbours say of a prefix length."""
    near = list(hearing.near(own.ip, host))
    for gateway in (one.station for one in near if isinstance(one.station, Interface)):
        if gateway.address is not None and gateway.address.network == own.network:
            yield Witness(weights.SERVES, f"{gateway.device} {gateway.name} has {gateway.address}")
            break
    yield from for_length(hearing, own, near, "other hosts")
    hop = address(host.row.gateway) if host.row.gateway not in (None, NONE) else None
    outside = hop is not None and host.address is not None and hop not in host.address.network
    lost = outside and str(hop) not in hearing.context.network.stations.by_address
    if hop is not None and lost and hop in own.network and end_of(hop, own) is not None:
        says = f"its gateway {hop} is the {end_of(hop, own)} address of that subnet"
        yield Witness(weights.OWN + weights.AT_END, says)
