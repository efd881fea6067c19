"""What speaks for the tag and the address of an interface that routes."""

from __future__ import annotations

from collections.abc import Iterator

from crossthread.diagnosis.context import unused
from crossthread.diagnosis.expected.led_to import routers_by_routes
from crossthread.diagnosis.expected.listed_vlans import ListedVlans
from crossthread.diagnosis.expected.misaddressed import misaddressed, swapped_with
from crossthread.diagnosis.expected.prefix_lengths import end_of
from crossthread.diagnosis.judgement import weights
from crossthread.diagnosis.judgement.for_lengths import for_length
from crossthread.diagnosis.judgement.hearing import Hearing
from crossthread.diagnosis.judgement.witness import Witness, agreeing
from crossthread.network.hosts.station import HostStation, Interface
from crossthread.survey.changes import Change
from crossthread.values import NONE, PrefixedAddress, interface


def for_interface(hearing: Hearing, change: Change, instead: Change) -> Iterator[Witness]:
    """What speaks for the tag and the address that a change gives to an interface, instead of others."""
    context = hearing.context
    device, name = str(change.key["device"]), str(change.key["interface"])
    rows = [s for s in context.network.stations.on_device.get(device, ()) if s.name == name]
    seen = [s for s in rows if s.address is not None and context.network.sees(s.address.version)]
    first = next(iter(seen or [s for s in rows if s.address is not None]), None)
    tag, text = change.cells.get("vid"), str(change.cells.get("address") or "")
    added = str(change.key.get("address") or NONE)
    own = next((s for s in rows if s.row.address == added), first)
    if own is not None and (new := {tag, instead.cells.get("vid")} - {own.row.vid}):
        first = next((s for s in seen if s.row.vid not in new), first)  # that which is changed speaks for all
    if not text and added != NONE and all(s.row.address != added for s in rows):
        if own is None:  # else it may be there because of another mend
            yield from _planned(hearing, interface(added), tag)
            yield from _routed(hearing, device, interface(added))
        yield from _for_another(hearing, own, interface(added), tag)
        return
    if text not in ("", NONE):
        vid = tag if tag is not None or own is None else context.expected.current_vlan(own)
        yield from _planned(hearing, interface(text), vid)
        yield from _for_address(hearing, own, interface(text), str(instead.cells.get("address") or ""))
    if not isinstance(tag, int):
        return
    if own is None or own.address is None or own not in (first, *seen):
        return
    named = context.expected.named_vid(own) if own is first else None  # it has one name, however many addresses
    if named == tag:
        yield Witness(weights.NAMED, f"the interface is named {name}")
        if (other := context.expected.crossed(own)) is not None:
            yield Witness(weights.CROSSED, f"{other.name} has that tag, and is named after the one of {name}")
    elif named is not None:
        yield Witness(-weights.NAMED, "")  # it is named after another
    hosts = [one for one in hearing.kin(own) if isinstance(one.station, HostStation)]
    there = sum(one.number for one in hosts if hearing.vlan(one.station) == tag)
    subnet = "its subnet" if own is first else own.address.network
    says = f"{there} of {sum(one.number for one in hosts)} hosts of {subnet} are in VLAN {tag}"
    yield from agreeing(there, says, weights.OWN, weights.SEVERAL)
    if own is first and hearing.strangers(tag, own):
        yield Witness(weights.STRANGERS, "")
    if context.expected.planned(own) == tag:
        yield Witness(weights.PLAN, f"the plan has {own.address.network} in VLAN {tag}")


def _planned(hearing: Hearing, wanted: PrefixedAddress, vid: object) -> Iterator[Witness]:
    """Whether the plan has a gateway with that address in the VLAN that it will be in."""
    planned = hearing.context.plan.served_at(str(wanted.ip))
    if planned is not None and planned == vid:
        yield Witness(weights.PLAN, f"the plan has a gateway {wanted.ip} in VLAN {vid}")


def _routed(hearing: Hearing, device: str, wanted: PrefixedAddress) -> Iterator[Witness]:
    """What routes for the very subnet of an interface say of the device that is to have it."""
    led, passed = routers_by_routes(hearing.context, wanted)
    if device in passed:
        yield Witness(-weights.ROUTED, "")
    elif others := sorted(led.get(device, set()) & passed):
        yield Witness(weights.ROUTED, f"{others[0]} sends what is for {wanted.network} to {device}")


def _for_another(hearing: Hearing, own: Interface | None, wanted: PrefixedAddress, vid: object) -> Iterator[Witness]:
    """What speaks for one more address of an interface, or for an interface that is not there."""
    yield from _for_address(hearing, None, wanted, "")
    if hearing.context.once(ListedVlans).misses(vid):
        yield Witness(weights.UNLISTED, "")
    near = [s.row.gateway for s in hearing.context.expected.near(wanted.ip) if isinstance(s, HostStation)]
    if near and set(near) == {NONE} and str(wanted.ip) not in hearing.context.routed_to:
        yield Witness(weights.UNASKED, "")
    other = own.address if own is not None and own.address is not None else wanted
    around = hearing.context.expected.near(other.ip) if other.network != wanted.network else ()
    if any(station is not own for station in around):
        yield Witness(weights.SECOND, "")


def _for_address(hearing: Hearing, own: Interface | None, wanted: PrefixedAddress, instead: str) -> Iterator[Witness]:
    """What hosts and routes say of an interface's address, or of its prefix length if only that changes."""
    near = hearing.near(wanted.ip, own) if own is not None else iter(())
    if instead not in ("", NONE) and interface(instead).ip == wanted.ip:
        yield from for_length(hearing, wanted, near, "hosts")
        return
    if own is not None and (other := swapped_with(hearing.context, own)) is not None:
        if own.address is not None and own.address.ip == wanted.ip:
            return
        yield Witness(weights.UNUSED, f"{other.device} {other.name} has it, and serves the hosts of {own.ip}")
    elif own is not None and misaddressed(hearing.context, own):
        if own.address is not None and own.address.ip == wanted.ip:
            return  # whoever uses it means the other
        yield Witness(weights.UNUSED, f"another interface serves the hosts of {own.address and own.address.network}")
    elif own is not None and own.address is not None and own.address.ip != wanted.ip and unused(hearing.context, own):
        yield Witness(weights.UNUSED, f"nobody uses {own.address.ip}, and nobody is in its subnet")
    users = hearing.users(str(wanted.ip))
    count = sum(one.number for one in users)
    says = f"{users[0].station.name} uses {wanted.ip}" if count == 1 else f"{count} hosts use {wanted.ip}"
    yield from agreeing(count, says, weights.OWN, weights.SEVERAL)
    near_routers = [s for s in hearing.context.expected.interfaces_near(wanted.ip) if s is not own]
    kept = own if own is not None and own.address is not None and own.address.ip == wanted.ip else None
    beside = (s for s in near_routers if kept is not None and s.device != kept.device)
    for mate in [s for s in beside if kept is not None and hearing.context.network.one_lan(s, kept)][:1]:
        yield Witness(weights.PEER, f"{mate.device} {mate.name} beside it is in that subnet")
    if all(s.address is None or end_of(s.address.ip, s.address) is None for s in near_routers):
        yield from _at_an_end(hearing, own, wanted, instead)  # of several routers one is there
    if (
        own is not None
        and _tells_vid(own.row.vid, wanted)
        and any(_tells_vid(s.row.vid, s.address) for s in hearing.context.network.stations.gateways if s is not own)
    ):
        yield Witness(weights.USUAL, "as with others, the VID is a part of the address")
    routers = hearing.context.routed_to.get(str(wanted.ip), ())
    leading = sum(own is None or device != own.device for device in routers)
    if leading < len(routers):
        yield Witness(weights.ITSELF, "")
    if leading == 1 and kept is None:
        yield Witness(weights.ONE_ROUTE, f"a route leads to {wanted.ip}")
    else:
        yield from agreeing(leading, f"{leading} routes lead to {wanted.ip}")


def _at_an_end(hearing: Hearing, own: Interface | None, wanted: PrefixedAddress, instead: str) -> Iterator[Witness]:
    """Whether an address is the first or last of its subnet, and whether gateways mostly are there at this site."""
    held = hearing.context.network.stations.gateways
    others = [at for s in held if (at := s.address) is not None and s is not own]
    used = [at for at in others if hearing.context.expected.users(at.ip)]  # between routers there is no such habit
    ends = [end_of(at.ip, at) for at in used or others]
    end = end_of(wanted.ip, wanted)
    if end is None:
        if ends and None not in ends:
            yield Witness(-weights.USUAL * len(ends) / (len(ends) + 1), "")  # all others are at an end
    elif 2 * ends.count(end) >= len(ends) > 0:  # what fewer have is no habit of the site
        yield Witness(weights.USUAL, f"other gateways too have the {end} address of their subnets")
        if len(used) > 1 and {*ends} == {end} and _at_no_end(instead):
            yield Witness(weights.ALL_OTHERS, "")
    else:
        yield Witness(weights.AT_END, f"{wanted.ip} is the {end} address of its subnet, as gateways mostly are")


def _at_no_end(text: str) -> bool:
    return text not in ("", NONE) and end_of(interface(text).ip, interface(text)) is None


def _tells_vid(vid: int | None, own: PrefixedAddress | None) -> bool:
    """Whether the VLAN's number is a part of an address, as many sites have it."""
    return own is not None and bool(vid) and str(vid) in str(own.ip).split(".")[1:3]
