"""Why wanted pairs fail: each asked once, and what stands in the way, as far as can be seen from there."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.findings import Finding
from crossthread.diagnosis.judgement.confidence import left_out
from crossthread.diagnosis.repair.doubts import PLACES
from crossthread.diagnosis.repair.hypotheses import judged, judged_by_links
from crossthread.diagnosis.repair.rival_explanations import speaks_for
from crossthread.diagnosis.rules.gateway.address import gateway_address_wrong, gateway_addresses_swapped
from crossthread.diagnosis.rules.gateway.port import gateway_port_vlan_wrong
from crossthread.diagnosis.search.cheapest_way import Search
from crossthread.diagnosis.settled import asking_there, interfaces_of
from crossthread.diagnosis.unknown.likely import by_equal_routes
from crossthread.diagnosis.wants import Want
from crossthread.diagnosis.way.explanations import explain
from crossthread.network.hosts.classes import HostClass
from crossthread.network.hosts.station import HostStation, Interface, Station
from crossthread.network.routing.forwarding import Forwarding
from crossthread.network.routing.walks import Walk
from crossthread.network.three_valued import Truth, all_of


class Asker:
    """Walks the wanted pairs of one network, each question once; of hosts it is judged as they were at first."""

    def __init__(self, context: Context, first: Context) -> None:
        self._context, self._first = context, first
        self._forwarding = Forwarding(context.network)
        self._search = context.once(Search)
        self._down: set[str] = set()
        """Hosts without a link of which that was told: what else is in their way is seen once they have one."""

    def _host(self, name: str) -> HostStation:
        return self._context.network.stations.hosts[name.casefold()]

    def _gateway(self, host: Station) -> Interface | None:
        return next(iter(self._context.expected.gateways(host)), None)

    def example(self, want: Want) -> tuple[str, str]:
        """The two by their names."""
        if want.other is not None:
            return want.one, want.other
        gateway = self._gateway(self._host(want.one))
        return want.one, f"{gateway.device} {gateway.name}" if gateway is not None else "its gateway"

    def ask(self, want: Want) -> tuple[Truth, list[Walk]]:
        """Whether they reach each other, and the two walks if both are hosts."""
        one = self._host(want.one)
        if want.other is None:
            gateway = self._gateway(one)
            return (None if gateway is None else self._forwarding.resolves(one, gateway)), []
        two = self._host(want.other)
        walks = [self._forwarding.send(one, two), self._forwarding.send(two, one, reply=True)]
        return all_of(walk.arrives for walk in walks), walks

    def explained(self, want: Want, walks: list[Walk]) -> Iterator[tuple[Want, Finding]]:
        """What stands in the way of a pair; where that is a host's own fault, of each host of its class by itself."""
        found = list(self.why_not(want, walks))
        faulty = [one for one in self._ends(want) if any(_is_own(finding, one) for finding in found)]
        if len(want.losers) == 1 and len(want.losers[0].hosts) > 1 and self._host(want.one) in faulty:
            yield from self._each(want.losers[0], want.other)
            return
        yield from ((want, finding) for finding in found)
        for one in faulty if len(want.losers) > 1 else ():  # two subnets, each of which one host stands for
            alike = self._context.network.classes.of(one.name)
            yield from self._each(alike, want.other if one.name == want.one else want.one, besides=one)

    def _ends(self, want: Want) -> list[HostStation]:
        return [self._host(name) for name in (want.one, want.other) if name is not None]

    def _each(
        self, members: HostClass, other: str | None, besides: HostStation | None = None
    ) -> Iterator[tuple[Want, Finding]]:
        """What stands in the way of each host of a class, besides one, to another host or to its gateway."""
        for n, member in enumerate(members.hosts):
            if member is besides:
                continue
            alone = Want(member.name, other, (members._replace(hosts=members.hosts.part(n, n + 1)),))
            if member.up is False:
                if member.name in self._down:
                    continue
                self._down.add(member.name)
            if member.name != other:
                yield from ((alone, finding) for finding in self.why_not(alone, self.ask(alone)[1]))

    def uneven(self, want: Want, walks: list[Walk]) -> list[Finding]:
        """What stands in their way by one of several routes that are as good; else that one of these fails."""
        found = list(by_equal_routes(self._context, self._ends(want), walks))
        return [one for one in found if one.rule != "routes-uneven"] or found

    def why_not(self, want: Want, walks: list[Walk]) -> Iterator[Finding]:
        """What stands in their way, as far as can be seen from here."""
        return _without_links_for(self._first, list(self._standing(want, walks)))

    def _standing(self, want: Want, walks: list[Walk]) -> Iterator[Finding]:
        """The same, with what else a port would need in another VLAN."""
        one = self._host(want.one)
        if want.other is None:
            own = judged_by_links(self._first, one)
            wrong_tag = own is not None and own.rule == "gateway-vlan-wrong" and self._context is self._first
            if own is not None and (wrong_tag or own.rule == "host-outside-subnet"):
                yield own  # it is another gateway that it is to reach, or one that is to come to where it is
                return
            gateway = self._gateway(one)
            swapped = gateway_addresses_swapped(self._context, gateway) if gateway is not None else None
            way = self._search.between(one, gateway) if gateway is not None and swapped is None else None
            yield from [swapped] if swapped is not None else way.findings if way is not None else ()
            return
        two = self._host(want.other)
        for walk, goal, back in zip(walks, (two, one), (False, True), strict=True):
            if walk.arrives is False and walk.stop is not None:
                yield from explain(self._context, walk.stop, goal, back)


def _without_links_for(context: Context, findings: Sequence[Finding]) -> Iterator[Finding]:
    """The same findings without links that would be opened only to a port which stays in its VLAN after all."""
    stays = [finding for finding in findings if finding.rule == "port-vlan-wrong" and _stays(context, finding)]
    return (finding for finding in findings if not any(left_out([one, finding]) for one in stays if one is not finding))


def _stays(context: Context, finding: Finding) -> bool:
    """Whether links decide that not a host's port is wrong, but something else about it."""
    hosts = (context.network.stations.hosts[s.host.casefold()] for s in finding.subjects if s.host)
    return any(judged_by_links(context, host) is not None for host in hosts)


def as_judged(context: Context, finding: Finding, now: Context) -> Finding:
    """The same; of a host whose port and address disagree, what is wrong is the same whichever pair is asked about.

    Else one pair would have its port moved, and another its address, after which it is in the wrong place again. So it
    is of two switch ports towards the interfaces of a subnet, which are judged as they are `now`, once others are
    mended: a host as it was at first.
    """
    if finding.rule == "gateway-address-wrong" and len(finding.subjects) == 1:  # else two that were swapped
        told = _as_most_ask(context, finding)
        return _of_its_one_user(context, told) or told
    if finding.rule == "port-vlan-wrong" and any(subject.interface for subject in finding.subjects):
        either = _of_either(now, finding)
        return max(either, key=lambda told: speaks_for(now, told))
    names = {subject.host for subject in finding.subjects if subject.host}
    host = context.network.stations.hosts.get(names.pop().casefold()) if len(names) == 1 else None
    best = judged(context, host) if host is not None and finding.rule in PLACES and finding.repair else None
    return best if best is not None and best.rule in PLACES and best.rule != finding.rule else finding


def _of_either(context: Context, finding: Finding) -> list[Finding]:
    """The same of an interface at a switch port, and of each other of its subnet at one in another VLAN."""
    found = {str(finding.repair): finding}
    own = [(one, one.address.ip) for one in interfaces_of(context, finding) if one.address is not None]
    for one, ip in own:
        for other in context.expected.interfaces_near(ip):
            if other is one or (end := other.end) is None:
                continue
            for link in context.adjacencies_at.get(end, ()):
                told = gateway_port_vlan_wrong(context, other, link.far(end), context.expected.current_vlan(one))
                if told is not None and told.rule == finding.rule and told.repair:
                    found[str(told.repair)] = told
    return [found[key] for key in sorted(found)]


def _of_its_one_user(context: Context, finding: Finding) -> Finding | None:
    """That the port of the only host there that asks an interface by another address is in the wrong VLAN, if it is."""
    here = asking_there(context, finding)
    best = judged(context, here[0]) if len(here) == 1 else None
    return best if best is not None and best.rule == "port-vlan-wrong" else None


def _as_most_ask(context: Context, finding: Finding) -> Finding:
    """The same; of an interface that hosts ask by several addresses that for which most speaks."""
    others = (gateway_address_wrong(context, s) for s in interfaces_of(context, finding))
    return max([finding, *filter(None, others)], key=lambda one: speaks_for(context, one))


def _is_own(finding: Finding, host: Station) -> bool:
    """Whether a finding is about a host or its own port."""
    return any(
        subject.host == host.name or (subject.port and (subject.device, subject.port) == host.end)
        for subject in finding.subjects
    )
