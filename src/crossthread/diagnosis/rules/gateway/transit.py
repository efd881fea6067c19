"""Findings about an interface towards another router that a device has lost."""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Collection, Mapping, Sequence

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.edits import in_its_table
from crossthread.diagnosis.expected.free_addresses import free_address
from crossthread.diagnosis.findings import Finding, Subject
from crossthread.diagnosis.registry import About, rule
from crossthread.diagnosis.rules.gateway.address import transit_address_wrong
from crossthread.diagnosis.rules.gateway.places import idle_ports, places_for
from crossthread.network.hosts.station import Interface
from crossthread.survey.changes import Change
from crossthread.survey.records import Route
from crossthread.values import NONE, Address, PrefixedAddress, address, interface, prefix


@rule("gateway-missing", "Gateway and routing", About.DEVICE)
def transit_missing(context: Context, device: str, target: Address | None = None) -> Finding | None:
    """A device's routes lead to another router, but it has no address in that one's subnet.

    Matters: neither of the two reaches the other, and nobody gets from the subnets behind the one to those behind the
    other.
    Notice: a whole part of the campus is not reached, though the routes look right.
    Confirm: list the addresses of the interface that the route names; ask the other router which next hop it uses.
    Mend: give the interface the address that the other router's routes lead to.
    """
    network = context.network
    for row, hop, peers in context.once(_FarHops).of(device):
        if target is not None and target not in prefix(row.prefix):
            continue
        here = network.stations.on_device.get(device, ())
        if any(s.name == row.interface and transit_address_wrong(context, s) is not None for s in here):
            continue  # it has one that is wrong, which is told of that
        wanted = _asked_of(context, peers[0])
        if wanted is None and (told := shared_by_one(context, device, hop)) is not None:
            return told
        subnet = peers[0].address.network if peers[0].address else None
        if subnet is None or (wanted is None and any(_meets(context, s) for s in here if s.name == row.interface)):
            continue  # nobody asks for it there, and the interface meets a router elsewhere: so the next hop is wrong
        evidence = context.evidence(row, "next_hop", "interface") + context.evidence(peers[0].row, "address")
        says = (
            f"{device} routes {row.prefix} by {hop} ({peers[0].device} {peers[0].name}), but has no address in {subnet}"
        )
        repair: tuple[Change, ...] = ()
        if wanted is not None:
            says += f"; {peers[0].device} sends what is meant for it to {wanted}"
            repair = _with_address(context, device, row.interface, f"{wanted}/{subnet.prefixlen}")
        return Finding(
            "gateway-missing",
            "breaks",
            (Subject(device=device, interface=row.interface),),
            f"{says}.",
            evidence,
            repair,
        )
    return None


@rule("gateway-missing", "Gateway and routing", About.DEVICE, unless=(transit_missing,))
def transit_lost(context: Context, device: str, target: Address | None = None) -> Finding | None:
    """Another router sends what is for a device's subnets to an address that nobody has.

    Matters: nobody gets from the subnets behind the one to those behind the other.
    Notice: a whole part of the campus is not reached, and the device's own routes to there are gone with the interface.
    Confirm: ask the other router who answered for that next hop; look at an earlier configuration of the device.
    Mend: give the device that address again, in the VLAN of the other router's interface.
    """
    for peer, hop, rows in context.once(_lost_hops).get(device, ()):
        if peer.address is None or not (target is None or any(target in prefix(row.prefix) for row in rows)):
            continue
        if any(transit_address_wrong(context, mine) for mine in context.network.stations.on_device.get(device, ())):
            continue  # it has one that is wrong, which is told of that
        own = interface(f"{hop}/{peer.address.network.prefixlen}")
        places = places_for(context, own, context.expected.current_vlan(peer))
        here = (one for one in places if all(c.key["device"] == device for c in one if c.table == "gateways"))
        return Finding(
            "gateway-missing",
            "breaks",
            (Subject(device=device),),
            f"{device} has no address in {own.network}, though {peer.device} sends what is for its subnets to {hop}.",
            context.evidence(rows[0], "next_hop") + context.evidence(peer.row, "address", "vid"),
            next(here, ()),
        )
    return None


@rule("gateway-missing", "Gateway and routing")
def shared_by_one(context: Context, device: str, target: Address) -> Finding | None:
    """Two routers share addresses of several subnets, and in that of a destination only one of them has an interface.

    Matters: what comes to the other router for that subnet has no way, and nobody stands in for the first one.
    Notice: some are not reached from those subnets for which the other router is in charge now.
    Confirm: compare the interfaces of both, and who hears whose announcements in that VLAN (RFC 9568).
    Decide: ask whether the subnet is meant to have both routers: the list of addresses has one for each of them then.
    Mend: give the other router its interface in that VLAN again.
    """
    stations = context.network.stations
    mine = [s for s in stations.on_device.get(device, ()) if s.address is not None]
    shared = {s.row.virtual for s in mine} - {None, NONE}
    for other in stations.gateways:
        own, vid = other.address, context.expected.current_vlan(other)
        if own is None or target not in own.network or not vid or other.device == device:
            continue
        theirs = {s.row.virtual for s in stations.on_device[other.device]} & shared
        there = any(context.expected.current_vlan(s) == vid for s in mine)
        if other.row.virtual in (None, NONE) or not theirs or there or context.network.unread.anywhere:
            continue
        place = _place(context, device, other, vid)
        free = _at_its_place(context, [s for s in mine if s.row.virtual in theirs], own)
        state = "backup" if other.row.virtual_state == "master" else "master"  # else nobody would hold it
        cells = {**place, "virtual": other.row.virtual, "virtual_state": state, "admin": "up", "oper": "up"}
        name = str(cells.get("port") or f"vlan{vid}")
        cells |= in_its_table(context, device, name)
        key = {"device": device, "interface": name, "address": f"{free}/{own.network.prefixlen}"}
        return Finding(
            "gateway-missing",
            "breaks",
            (Subject(device=device, vid=vid),),
            f"{device} has no interface in VLAN {vid}, where {other.device} {other.name} has the address "
            f"{other.row.virtual} to share, as the two share {', '.join(sorted(filter(None, theirs)))}.",
            context.evidence(other.row, "virtual", "vid"),
            (Change("gateways", key, {**cells, "proxy_arp": "no"}),) if free is not None and place else (),
        )
    return None


def _place(context: Context, device: str, other: Interface, vid: int) -> dict[str, object]:
    """Where a router may have an interface in a VLAN, as another one has: on its bridge, or at a port that is idle."""
    if other.end is None:
        return {"vid": vid} if context.network.fabric.exists(device).has(vid) else {}
    ends = (end for end, home in idle_ports(context) if end.device == device and home == vid)
    return next(({"port": end.port, "untagged": "yes"} for end in ends), {})


def _at_its_place(context: Context, mine: Sequence[Interface], own: PrefixedAddress) -> Address | None:
    """The address at the same place in a subnet as a router's others have in theirs, or any that is free."""
    places = {int(s.address.ip) - int(s.address.network.network_address) for s in mine if s.address is not None}
    place = places.pop() if len(places) == 1 else own.network.num_addresses
    wanted = own.network[place] if place < own.network.num_addresses - 1 else None
    taken = wanted is None or str(wanted) in context.network.stations.by_address
    return free_address(context, own) if taken else wanted


class _FarHops:
    """For each device its routes to other routers that it is in no subnet with; with the next hop, and who has it."""

    def __init__(self, context: Context) -> None:
        self._network = context.network
        self._known: dict[str, list[tuple[Route, Address, list[Interface]]]] = {}

    def of(self, device: str) -> list[tuple[Route, Address, list[Interface]]]:
        """Those of one device."""
        if device not in self._known:
            own = [s.address for s in self._network.stations.on_device.get(device, ()) if s.address is not None]
            rows = [row for row in self._network.routing.routes(device) if row.next_hop not in (None, NONE)]
            hops = {text: self._holders(device, text, own) for text in {row.next_hop or "" for row in rows}}
            far = ((row, address(row.next_hop or ""), hops[row.next_hop or ""]) for row in rows)
            self._known[device] = [
                (row, hop, peers)
                for row, hop, peers in far
                if peers and not self._network.routing.resolves(device, row)  # other routes may lead to the next hop
            ]
        return self._known[device]

    def _holders(self, device: str, text: str, own: Sequence[PrefixedAddress]) -> list[Interface]:
        """The interface that has a next hop, or those that share it, if a device has no address in its subnet."""
        held = self._network.stations.by_address.of(text)
        peers = [s for s in held if isinstance(s, Interface) and s.address]
        shared = len(peers) > 1 and all(s.row.virtual == text for s in peers)
        if not (len(peers) == 1 or shared) or peers[0].device == device:
            return []
        near = any(address(text) in mine.network for mine in own)
        beside = any(peers[0].address and mine.ip in peers[0].address.network for mine in own)  # by another length
        return [] if near or beside else peers


def _lost_hops(context: Context) -> Mapping[str, list[tuple[Interface, Address, list[Route]]]]:
    """By device the next hops that it must have had: the interface of who sends there, the address, the routes.

    Nobody has the address, no third router is in that subnet, and of all who are read the device alone has what the
    routes lead to. Nothing where anything is unread, which may be where they lead.
    """
    network, found = context.network, defaultdict[str, list[tuple[Interface, Address, list[Route]]]](list)
    stations = network.stations
    for peer in stations.gateways if not network.unread.anywhere else ():
        own = peer.address
        lost: dict[str, list[Route]] = defaultdict(list)
        for row in network.routing.routes(peer.device) if own is not None else ():
            hop = row.next_hop or NONE
            if own is not None and context.is_lost(hop, peer.device) and address(hop) in own.network:
                lost[hop].append(row)
        for hop, rows in lost.items():
            goals = [prefix(row.prefix) for row in rows]
            there = [s for s in stations.gateways if s.address is not None and s.device != peer.device]
            holders = {s.device for s in there for goal in goals if s.address and s.address.ip in goal}
            others = [s for s in there if s.row.virtual in (None, NONE) or s.row.virtual != peer.row.virtual]
            beside = any(own is not None and s.address and s.address.ip in own.network for s in others)
            if len(holders) == 1 and not beside:
                found[holders.pop()].append((peer, address(hop), rows))
    return found


def _meets(context: Context, gateway: Interface) -> bool:
    """Whether another router has an address in an interface's subnet."""
    near = context.expected.interfaces_near(gateway.address.ip) if gateway.address is not None else ()
    return any(other.device != gateway.device for other in near)


def _asked_of(context: Context, peer: Interface) -> Address | None:
    """The one address in a router's subnet to which its routes lead and that nobody has."""
    assert peer.address is not None
    hops = {row.next_hop for row in context.network.routing.routes(peer.device) if row.next_hop not in (None, NONE)}
    lost = {address(hop) for hop in hops if hop and context.is_lost(hop, peer.device)}
    lost = {hop for hop in lost if hop in peer.address.network}
    return lost.pop() if len(lost) == 1 else None


def _with_address(context: Context, device: str, interface: str | None, own: str) -> tuple[Change, ...]:
    """Give an interface an address: a port that routes, or one in a VLAN of the device's own bridge."""
    if interface is None or context.network.unread.anywhere:
        return ()
    cells: dict[str, object] = {"admin": "up", "oper": "up", "proxy_arp": "no"}
    cells |= in_its_table(context, device, interface)
    parent, _, tag = interface.rpartition(".")
    ports: Collection[str] = context.network.names.ports.get(device, ())
    if interface in ports:
        cells |= {"port": interface, "untagged": "yes"}
    elif parent in ports and tag.isdecimal():
        cells |= {"port": parent, "vid": int(tag), "untagged": "no"}
    elif digits := re.search(r"vlan[^0-9]*(\d{1,4})$", interface.casefold()):
        cells |= {"vid": int(digits[1])}
    else:
        return ()
    return (Change("gateways", {"device": device, "interface": interface, "address": own}, cells),)
