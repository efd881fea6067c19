"""What may be wrong with a host whose port, address and gateway do not agree: each way in which they could."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from itertools import islice
from operator import itemgetter

from crossthread.diagnosis.context import Context, unused
from crossthread.diagnosis.expected.asked_addresses import asked_for
from crossthread.diagnosis.expected.misaddressed import misaddressed_in
from crossthread.diagnosis.expected.prefix_lengths import end_of
from crossthread.diagnosis.expected.unread_hosts import anybody_unread
from crossthread.diagnosis.findings import Finding
from crossthread.diagnosis.judgement import weights
from crossthread.diagnosis.judgement.hearing import Hearing
from crossthread.diagnosis.judgement.weighing import accused, weight
from crossthread.diagnosis.repair.left_out import against_links
from crossthread.diagnosis.rules.gateway.address import gateway_address_wrong
from crossthread.diagnosis.rules.gateway.interface import gateway_vlan_wrong
from crossthread.diagnosis.rules.gateway.missing import gateway_missing, gateway_of_nobody
from crossthread.diagnosis.rules.gateway.places import idle_ports, leads_to
from crossthread.diagnosis.rules.gateway.port import gateway_port_vlan_wrong
from crossthread.diagnosis.rules.gateway.transit import transit_lost, transit_missing
from crossthread.diagnosis.rules.host.address import addresses_missing
from crossthread.diagnosis.rules.host.gateway import (
    host_gateway_outside_subnet,
    host_gateway_unlike_its_peers,
    host_gateway_wrong,
)
from crossthread.diagnosis.rules.host.prefix import host_mask_differs
from crossthread.diagnosis.rules.host.subnet import (
    host_of_another_vlan,
    host_of_its_gateway,
    host_outside_peers,
    host_outside_subnet,
)
from crossthread.diagnosis.rules.port.mode import port_mode_wrong
from crossthread.diagnosis.rules.port.vlan import port_vlan_of_nobody, port_vlan_wrong
from crossthread.network.hosts.station import HostStation
from crossthread.survey.changes import Change
from crossthread.values import NONE, Address, address, interface, resized

_LINK = 2
"""How many addresses there are on a link between two (RFC 3021, RFC 6164)."""
_HOMES = 2
"""Of a subnet that lives in more VLANs, only the first are tried."""


def hypotheses(context: Context, host: HostStation) -> Iterator[Finding]:
    """The findings any one of which would explain why a host's settings do not agree with each other, or its gateway's.

    Two of its three facts (the VLAN of its port, its address, its gateway) should agree; the odd one out is the fault.
    """
    yield from islice(addresses_missing(context, host), _HOMES)
    row = context.port(host.end) if host.end is not None else None
    if row is None or host.address is None or (row.mode == "access" and host.tag):
        return
    if row.mode != "access":
        told = port_mode_wrong(context, host)
        homes = sorted(Hearing(context).home(Hearing(context).kin(host))) if told is None else []
        yield from [told] if told is not None else []
        yield from (one for vid in homes[:_HOMES] if (one := port_mode_wrong(context, host, vid, True)) is not None)
    elif now := context.expected.current_vlan(host):
        yield from _of_two_vlans(context, host, now)
        yield from _of_its_gateway(context, host, now)
        scattered = port_vlan_of_nobody(context, host)
        yield from [scattered] if scattered is not None else []


def _of_two_vlans(context: Context, host: HostStation, now: int) -> Iterator[Finding]:
    """Its port is in one VLAN, and its subnet lives in another."""
    hearing = Hearing(context)
    homes = hearing.home(hearing.kin(host))
    if homes == {now}:
        return
    if not homes:  # the one interface of its subnet is where nobody believes it to be
        yield from _gateway_to(context, host, now)
        return
    usual = context.expected.vlan(host)
    for vid in sorted(homes - {now}, key=lambda vid: (vid != usual, vid))[:_HOMES]:
        moved = port_vlan_wrong(context, host, vid)
        yield from [moved] if moved is not None else []
    yield from _gateway_to(context, host, now)
    asked = (host_outside_subnet, host_of_another_vlan, host_outside_peers, host_of_its_gateway)
    renamed = next((told for rule in asked if (told := rule(context, host)) is not None), None)
    yield from [renamed] if renamed is not None else []


def serving_elsewhere(context: Context, host: HostStation) -> Iterator[Finding]:
    """The interface that serves a host's subnet is in another VLAN, where all of that subnet are in the host's."""
    row = context.port(host.end) if host.end is not None else None
    now = context.expected.current_vlan(host) if row is not None and row.mode == "access" and not host.tag else None
    hearing = Hearing(context)
    if now and host.address is not None and hearing.home(hearing.kin(host)) == {now}:
        yield from _gateway_to(context, host, now)


def _gateway_to(context: Context, host: HostStation, vid: int) -> Iterator[Finding]:
    """The gateway of its subnet belongs into the VLAN that the host is in."""
    for gateway in context.expected.gateways(host)[:2]:
        if context.network.unread.anywhere and context.expected.undecided(gateway):
            continue  # those of its subnet who were not read may all be where it is
        facing = [a.far(gateway.end) for a in context.adjacencies_at.get(gateway.end, ())] if gateway.end else []
        found = [gateway_vlan_wrong(context, gateway, vid)]
        found += [gateway_port_vlan_wrong(context, gateway, end, vid) for end in facing]
        yield from (told for told in found if told is not None)


def _of_its_gateway(context: Context, host: HostStation, now: int) -> Iterator[Finding]:
    """Nobody has the address that it uses as its gateway."""
    hop = host.row.gateway
    if hop in (None, NONE):
        return
    if host.address is not None and address(hop or "") not in host.address.network:
        yield from _that_others_ask(context, host, now)
        yield from _around_its_gateway(context, host, address(hop or ""))
        outside = host_gateway_outside_subnet(context, host)
        missing = gateway_missing(context, host, now) if hop not in context.network.stations.by_address else None
        yield from (told for told in (outside, missing) if told is not None)
        return
    if hop in context.network.stations.by_address:
        return
    near = context.expected.gateways(host)
    served = [*context.expected.served(now, host), *misaddressed_in(context, now, host)]
    found = [gateway_address_wrong(context, gateway, address(hop or "")) for gateway in near or served]
    if near:
        found += [host_gateway_wrong(context, host), *_of_who_lost_it(context, hop or "")]
    else:
        found += [host_of_another_vlan(context, host), host_gateway_unlike_its_peers(context, host)]
        if not served:
            found.append(gateway_missing(context, host, now))
        elif not context.once(anybody_unread):  # else somebody of its subnet may be where it is
            found.append(gateway_of_nobody(context, host))
        alone = host.address is not None and all(s is host for s in context.expected.near_in(host.address.ip, now))
        beside = [own for own in context.network.stations.gateways if context.network.one_lan(own, host)]
        lost = [own for own in beside if alone and unused(context, own)][:_HOMES]
        others = [one for one in context.expected.users(address(hop or "")) if one is not host]
        elsewhere = Counter(context.expected.current_vlan(own) for own in (*lost, *others))
        lan = context.network.lan(host)
        elsewhere.update(vid for end, vid in idle_ports(context) if alone and leads_to(context, end, lan))
        homes = [vid for vid, _ in elsewhere.most_common() if vid not in (None, now)]  # of those that ask for it, too
        found += [port_vlan_wrong(context, host, vid) for vid in homes[:_HOMES]]
    yield from (told for told in found if told is not None)


def _of_who_lost_it(context: Context, hop: str) -> Iterator[Finding]:
    """The router that had an address which others' routes lead to."""
    for device in [*context.network.stations.on_device] if hop in context.routed_to else ():
        told = transit_missing(context, device) or transit_lost(context, device)
        given = (str(c.key.get("address")) for c in told.repair if c.table == "gateways") if told is not None else ()
        if told is not None and any(text.partition("/")[0] == hop for text in given):
            yield told


def _around_its_gateway(context: Context, host: HostStation, hop: Address) -> Iterator[Finding]:
    """Its prefix is too long: a shorter one has its gateway at an end, where gateways mostly are, and nobody else's.

    A gateway that somebody has is told by its own prefix length, and so is a subnet that anything else lives in; a
    prefix of one or two addresses is meant so, as on a link between two.
    """
    own = host.address
    if own is None or own.version != hop.version or str(hop) in context.network.stations.by_address:
        return
    if own.network.num_addresses <= _LINK:
        return
    width = own.ip.max_prefixlen
    length = width - (int(own.ip) ^ int(hop)).bit_length()
    around = resized(own, length)
    others = (s.address for s in context.network.stations.gateways if s.address is not None)
    near = (s for s in context.expected.near(own.ip) if s is not host)
    known = any(ip.ip in around.network for ip in others) or any(True for _ in near)
    if length < own.network.prefixlen and end_of(hop, around) is not None and not known:
        told = host_mask_differs(context, host, length)
        yield from [told] if told is not None else []


def _that_others_ask(context: Context, host: HostStation, now: int) -> Iterator[Finding]:
    """The interface of its VLAN lacks the address that others of the host's subnet use."""
    for gateway in context.expected.served(now, host):
        for hop in asked_for(context, gateway, now):
            if host.address is not None and hop in host.address.network:
                told = gateway_address_wrong(context, gateway, hop)
                yield from [told] if told is not None else []


def judged(context: Context, host: HostStation) -> Finding | None:
    """The most likely of them, if more speaks for it than against it."""
    return context.once(_Judged).of(host)


def judged_by_links(context: Context, host: HostStation) -> Finding | None:
    """The same where links on the way to where its subnet lives decide that its port is not to be moved."""
    return context.once(_Judged).by_links(host)


def rivals_of(context: Context, host: HostStation, repair: Sequence[Change]) -> list[tuple[Finding, float]]:
    """The other hypotheses about a host than a mend of it, each with how much less it weighs, the heaviest first."""
    own = weight(Hearing(context, accused(context, repair)), repair)
    found = [(one, own - heavy) for one, heavy in context.once(_Judged).weighed(host) if one.repair != repair]
    return sorted(found, key=itemgetter(1))


class _Judged:
    """The same for each host, worked out once: many pairs fail because of one."""

    def __init__(self, context: Context) -> None:
        self._context = context
        self._known: dict[str, list[tuple[Finding, float]]] = {}
        self._by_links: dict[str, Finding | None] = {}

    def of(self, host: HostStation) -> Finding | None:
        """The most likely of the hypotheses about a host: that which links decide, if they do.

        One that sets a single fact of the host, with as much for as against it, is if more speaks against all others.
        """
        found = sorted(self.weighed(host), key=itemgetter(1), reverse=True)
        best, heavy = found[0] if found else (None, 0.0)
        alone = heavy == 0 and len(found) > 1 and found[1][1] <= -weights.ROW
        odd = best is not None and [(c.table, len(c.cells)) for c in best.repair] == [("hosts", 1)]
        return self.by_links(host) or (best if heavy > 0 or (alone and odd) else None)

    def by_links(self, host: HostStation) -> Finding | None:
        """The most likely one if links on the way speak against moving its port, and as much for that as against it.

        Not where anything is unread: then it is told that either may be meant. Nor an address of a subnet in which none
        but the host would be: the interface that serves it may be what is wrong.
        """
        if host.name not in self._by_links:
            unread = self._context.network.unread.anywhere
            self._by_links[host.name] = None if unread else self._find_by_links(host)
        return self._by_links[host.name]

    def _find_by_links(self, host: HostStation) -> Finding | None:
        told = [(one, heavy, against_links(self._context, host, one)) for one, heavy in self.weighed(host)]
        best, heavy, links = max(told, key=lambda one: one[1] + one[2], default=(None, 0.0, 0.0))
        decided = heavy >= 0 and not links and any(one[2] for one in told)
        return best if best is not None and decided and self._has_mates(host, best) else None

    def _has_mates(self, host: HostStation, finding: Finding) -> bool:
        """Whether others live in the subnet that a host would get an address of, if it would get any."""
        given = [str(c.cells["address"]) for c in finding.repair if c.table == "hosts" and "address" in c.cells]
        hearing, now = Hearing(self._context), self._context.expected.current_vlan(host)
        near = [one for text in given if text != NONE for one in hearing.near(interface(text).ip, host)]
        return not given or any(isinstance(s := one.station, HostStation) and hearing.vlan(s) == now for one in near)

    def weighed(self, host: HostStation) -> list[tuple[Finding, float]]:
        """All hypotheses about a host that can be mended, and what speaks for each by itself."""
        if host.name not in self._known:
            found = [finding for finding in hypotheses(self._context, host) if finding.repair]
            heavy = (weight(Hearing(self._context, accused(self._context, f.repair)), f.repair) for f in found)
            self._known[host.name] = list(zip(found, heavy, strict=True))
        return self._known[host.name]
