"""Findings about what stands between two hosts: filters, routes that discard, isolation, addresses that nobody gave."""

from __future__ import annotations

from msgspec import structs

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.edits import set_port
from crossthread.diagnosis.findings import Alternative, Finding, Severity, Subject, at_port, at_station
from crossthread.diagnosis.registry import About, rule
from crossthread.network.hosts.station import HostStation, Interface, Station
from crossthread.network.routing.routes import Choice
from crossthread.network.topology.names import End
from crossthread.survey.changes import Change, merge_changes
from crossthread.survey.records import Filter
from crossthread.values import NONE

_BUSY = 1000
"""From how many packets on it tells something that none of them arrived."""


@rule("filter-drops", "What stands between")
def filter_drops(context: Context, place: Station | End, entry: Filter, reply: bool) -> Finding | None:
    """A packet filter drops the echo, or its reply.

    Matters: what the filter drops gets nowhere, however sound everything else is; it was written for a reason.
    Notice: some destinations, or some programs, are not reached; others behind the same gateway are.
    Confirm: count the entry's hits while somebody pings; ask who wrote the filter, and for whom.
    Mend: if the two are meant to talk, put an entry that accepts their packets before the one that drops them.
    """
    which = "entry " + str(entry.number) if entry.number is not None else "what happens to all else"
    what = "reply" if reply else "echo"
    row = context.port(place) if isinstance(place, End) else place.row
    columns = [c for c in ("filter_in", "filter_out") if getattr(row, c, None) == entry.filter]
    way = "in" if columns[:1] == ["filter_in"] else "out"
    where, subject = (
        (str(place), at_port(place)) if isinstance(place, End) else (f"{place.device} {place.name}", at_station(place))
    )
    says = f"The filter {entry.filter} at {where} ({way}) drops the {what}: {which}."
    told = context.evidence(entry, "action", "protocol", "source", "destination", "state", "otherwise")
    seen = tuple(fact for fact in told if fact.value is not None)
    return Finding("filter-drops", "breaks", (subject,), says, context.evidence(row, *columns) + seen)


@rule("route-discards", "What stands between")
def route_discards(context: Context, gateway: Interface, choice: Choice) -> Finding | None:
    """A device has a route that drops what it matches.

    Matters: packets for that prefix end there, whatever other ways there are.
    Notice: one destination is not reached; perhaps the device says that it is not to be reached.
    Confirm: look the destination up in the device's routing table, with the kind of the route.
    Mend: if nobody meant to keep the destination from being reached, take the route away; let one that has a next hop
    pass on what it matches.
    """
    row = choice.route
    if row is None or not choice.discards:
        return None
    key = {"device": gateway.device, "prefix": row.prefix} | ({"next_hop": row.next_hop} if row.next_hop else {})
    leads = row.next_hop not in (None, NONE)
    return Finding(
        "route-discards",
        "breaks",
        (Subject(device=gateway.device),),
        f"{gateway.device} drops what is for {row.prefix}: its route there is {row.kind}.",
        context.evidence(row, "prefix", "next_hop", "kind") if leads else context.evidence(row, "prefix", "kind"),
        (Change("routes", key, {"kind": "unicast"}) if leads else Change("routes", key, delete=True),),
    )


def discards_together(one: Finding, other: Finding) -> Finding:
    """Two findings of a device that drops what is for several prefixes, as one."""
    evidence = (*one.evidence, *(fact for fact in other.evidence if fact not in one.evidence))
    told = dict.fromkeys(f"{fact.key['prefix']}" for fact in evidence)
    says = f"{one.subjects[0].device} drops what is for {' and '.join(told)}: so do its routes there."
    return structs.replace(one, says=says, evidence=evidence, repair=merge_changes([*one.repair, *other.repair]))


@rule("port-isolated", "What stands between")
def port_isolated(context: Context, one: Station, two: Station) -> Finding | None:
    """Two hosts are plugged into isolated ports of one device, which passes no frames between such ports.

    Matters: the two never hear each other there; that is what isolation is for, so it may well be meant.
    Notice: neighbours in one room do not reach each other, though both reach their gateway.
    Confirm: look at the isolation of both ports, and ask whether the two are meant to talk.
    Mend: if they are, take one of the two ports out of the isolation.
    """
    fabric = context.network.fabric
    if one.end is None or two.end is None or one.end.device != two.end.device or one.end == two.end:
        return None
    if not (isinstance(one, HostStation) and isinstance(two, HostStation)):
        return None
    if not (fabric.isolated(one.end) and fabric.isolated(two.end)):
        return None
    ways = tuple(
        Alternative((set_port(end, isolated="no"),), ("it may be meant: ask whether the two shall talk",))
        for end in (two.end, one.end)
    )
    says = f"{one.end} ({one.name}) and {two.end} ({two.name}) are isolated from each other, which may be meant."
    evidence = context.evidence(context.port(one.end), "isolated") + context.evidence(context.port(two.end), "isolated")
    subjects = (at_port(one.end), at_port(two.end))
    return Finding("port-isolated", "breaks", subjects, says, evidence, ways[0].changes, alternatives=ways)


@rule("host-address-automatic", "What stands between", About.HOST, reads="subnet current-vlan expected")
def host_address_automatic(context: Context, host: HostStation) -> Finding | None:
    """A host has only an address that it gave itself, as it got none (169.254.0.0/16, RFC 3927; fe80::/10, RFC 4291).

    Matters: with such an address it reaches at most its own segment.
    Notice: no network beyond the room; the address begins with 169.254.
    Confirm: let the host ask again, and look whether a server of its VLAN, or a relay, hears it and answers.
    Mend: mend the way to the server, or the server; nothing at the host itself.
    """
    if host.address is None or not host.address.is_link_local:
        return None
    vid = context.expected.current_vlan(host)
    served = context.expected.served(vid, host) if vid else []
    where = f" It is in VLAN {vid}" if vid else ""
    if served:
        heard = all(context.network.hearing.hears(*pair) for pair in ((host, served[0]), (served[0], host)))
        reach = "which it reaches: look at the server or relay" if heard else "which it does not reach"
        where += f", served by {served[0].device} {served[0].name}, {reach}."
    elif where:
        where += ", which no gateway that was read serves."
    return Finding(
        "host-address-automatic",
        "breaks",
        (at_station(host),),
        f"{host.name} gave itself the address {host.address.ip}: it asked for one and got none.{where}",
        context.evidence(host.row, "address"),
    )


@rule(
    "gateway-shared-state",
    "What stands between",
    About.GATEWAY,
    follows="gateway-admin-down gateway-down",
    follows_in_vlan="gateway-missing link-vlan-missing link-mode-differs port-admin-down port-down",
)
def gateway_shared_state(context: Context, gateway: Interface) -> Finding | None:
    """An address that several gateways share is held by two of them, or by none.

    Matters: held by two, hosts reach now one and now the other; held by none, their subnet has no way out (RFC 9568).
    Notice: breaks every few seconds; or no way out though both routers are up.
    Confirm: look at the state of both, and whether each hears the other's announcements in that VLAN.
    Mend: mend the way between the two in their VLAN; then one of them steps back by itself.
    """
    shared = gateway.row.virtual
    if not shared or shared == NONE:
        return None
    sharing = [s for s in context.network.stations.gateways if s.row.virtual == shared]
    if sharing[0] is not gateway or any(s.row.virtual_state is None for s in sharing):
        return None
    holders = [s for s in sharing if s.row.virtual_state == "master" and s.up is not False]
    if len(holders) == 1:
        return None
    called = " and ".join(f"{s.device} {s.name}" for s in holders or sharing)
    says = (
        f"{called} both hold the shared address {shared}."
        if holders
        else f"Nobody holds {shared}, which {called} share."
    )
    if len(sharing) == 1 and not holders:
        says = f"{called} has the shared address {shared} and does not hold it, nor does anybody else that was read."
        if context.network.unread.anywhere:
            return None
    evidence = tuple(fact for s in sharing for fact in context.evidence(s.row, "virtual", "virtual_state"))
    severity: Severity = "risks" if holders else "breaks"
    return Finding("gateway-shared-state", severity, tuple(map(at_station, sharing)), says, evidence)
