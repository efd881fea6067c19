"""Mends of which nothing that was read decides which is right: each is told as one that may be meant."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator, Sequence

import msgspec

from crossthread.diagnosis.caution import dares
from crossthread.diagnosis.context import Context
from crossthread.diagnosis.expected.prefix_lengths import end_of
from crossthread.diagnosis.findings import SEVERITIES, Alternative, Finding
from crossthread.diagnosis.judgement import weights
from crossthread.diagnosis.judgement.confidence import confidence_of
from crossthread.diagnosis.judgement.weighing import unplanned
from crossthread.diagnosis.repair.alternatives import alternatives
from crossthread.diagnosis.repair.doubts import PLACES
from crossthread.diagnosis.repair.facts import on_mends, without_lists_of
from crossthread.diagnosis.repair.hypotheses import hypotheses
from crossthread.diagnosis.repair.rival_explanations import speaks_for
from crossthread.diagnosis.repair.unmended import without_orphans
from crossthread.diagnosis.repair.withheld import bare, by_the_plan_alone, grounded, told_of_plan, told_only
from crossthread.diagnosis.rules.gateway.address import gateway_address_wrong
from crossthread.diagnosis.rules.gateway.missing import gateway_of_nobody
from crossthread.diagnosis.rules.host.gateway import host_gateway_wrong
from crossthread.diagnosis.rules.routing import OF_ROUTES
from crossthread.diagnosis.settled import interfaces_of, needs, settled
from crossthread.network.hosts.station import HostStation, Station
from crossthread.network.topology.names import End
from crossthread.survey.changes import Change
from crossthread.values import NO_VID, NONE, Address, Prefix, interface


def decided_mends(context: Context, findings: Iterable[Finding]) -> list[Finding]:
    """The same findings with those mends only for which enough speaks, and which contradict no other, and no plan."""
    planned = [_as_planned(context, finding) for finding in findings]
    decided = not_past_each_other(context, _after_addresses(weighed(context, grounded(context, planned))))
    return on_mends(context.network.survey, _without_idle(context, without_orphans(context, decided)))


def _as_planned(context: Context, finding: Finding) -> Finding:
    """The same finding; a host is given what the plan has for it, and what overturns the plan is only told."""
    if by_the_plan_alone(context, finding):
        return told_of_plan(finding)
    if finding.repair and unplanned(context, finding.repair):
        best = _options(context, finding)[0]
        decides = best.changes != finding.repair and best.weight >= weights.DECIDED
        return msgspec.structs.replace(finding, repair=best.changes) if decides else told_only(finding)
    repair = tuple(_planned_cells(context, change) for change in finding.repair)
    if repair != finding.repair and any(dares(context, change) for change in repair):
        return bare(finding)  # what is planned for it somebody else may have
    return finding if repair == finding.repair else msgspec.structs.replace(finding, repair=repair)


def _planned_cells(context: Context, change: Change) -> Change:
    """The same change of a host, with the address and the gateway that are planned for it."""
    entry = context.plan.hosts.get(str(change.key.get("host")).casefold()) if change.table == "hosts" else None
    planned = {column: getattr(entry, column, None) for column in ("address", "gateway") if column in change.cells}
    known = {column: value for column, value in planned.items() if value is not None}
    return msgspec.structs.replace(change, cells={**change.cells, **known}) if known else change


def weighed(context: Context, findings: Iterable[Finding]) -> list[Finding]:
    """The same findings, of which those are only told that have two explanations which are about as good.

    That are the ends of a link that have different native VLANs, if nothing decides between them, and two switch ports
    in different VLANs towards interfaces of a subnet without hosts; and the port and the address of a host that has no
    gateway, which would be the third witness, where nobody serves the VLAN of its port; and its gateway and address,
    where the port was not read; and a gateway that only one host asks for, in a VLAN where others have theirs, and that
    host's address; and two interfaces of a subnet for whose gateway hosts ask in vain, and an interface and the only
    host that asks for another address; and a next hop that a router beside may have lost.
    """

    def told(finding: Finding) -> Finding:
        if finding.rule == "link-native-differs" or _between_routers(context, finding):
            return _by_weight(finding, _options(context, finding))
        if finding.rule in OF_ROUTES and lost_hop(options := _options(context, finding)):
            return _by_weight(finding, options)
        if context.network.unread.anywhere and finding.repair and _guessed(context, finding):
            return told_only(finding)  # a gateway that nobody read would decide
        if finding.rule == "host-gateway-outside-subnet" and _port_would_decide(context, finding):
            return told_only(finding)
        others = _RIVALS[finding.rule](context, finding) if finding.rule in _RIVALS else ()
        either = tuple(Alternative(changes, ()) for changes in (finding.repair, *others))
        return msgspec.structs.replace(finding, repair=(), alternatives=either) if others else finding

    return [told(finding) if finding.repair else finding for finding in findings]


def _between_routers(context: Context, finding: Finding) -> bool:
    """Whether a finding is about a switch port towards an interface in whose subnet there are no hosts."""
    stations = interfaces_of(context, finding) if finding.rule == "port-vlan-wrong" else ()
    own = [station.address.ip for station in stations if station.address is not None]
    return bool(own) and not any(isinstance(s, HostStation) for ip in own for s in context.expected.near(ip))


def _after_addresses(findings: Sequence[Finding]) -> list[Finding]:
    """The same findings; the gateway of a host is only told where its address may be of another subnet as well."""
    open_ones = [one for one in findings if one.rule in PLACES and not one.repair and len(one.alternatives) > 1]
    either = [change for one in open_ones for other in one.alternatives for change in other.changes]
    hosts = {change.key["host"] for change in either if change.table == "hosts" and "address" in change.cells}

    def rests(finding: Finding) -> bool:
        asks = finding.rule.startswith("host-gateway") and bool(finding.repair)
        return asks and any(subject.host in hosts for subject in finding.subjects)

    return [told_only(finding) if rests(finding) else finding for finding in findings]


def lost_hop(options: Iterable[Alternative]) -> bool:
    """Whether the next hop of a route may as well be an address that a router beside has lost."""
    return any(change.table == "gateways" for option in options for change in option.changes)


def _options(context: Context, finding: Finding) -> tuple[Alternative, ...]:
    """The mend of a finding and those that would do as well, whichever pair is asked about."""
    return alternatives(context, finding, (), lambda _: True, lambda _: 0)


def _by_weight(finding: Finding, options: tuple[Alternative, ...]) -> Finding:
    """The finding with that mend of all for which more speaks, or with both."""
    found = msgspec.structs.replace(finding, repair=options[0].changes, alternatives=options)
    if confidence_of(found) == "open":
        return told_only(found)
    return msgspec.structs.replace(found, alternatives=())


def _port_would_decide(context: Context, finding: Finding) -> bool:
    """Whether a host has a gateway that is one, of another subnet, and nobody read which VLAN its port is in.

    Then its address may be the wrong one as well.
    """
    hosts = [context.network.stations.hosts[s.host.casefold()] for s in finding.subjects if s.host]
    held = context.network.stations.by_address
    return any(str(host.row.gateway) in held and context.expected.current_vlan(host) is None for host in hosts)


def _renumbered(context: Context, finding: Finding) -> list[tuple[Change, ...]]:
    """The address of the VLAN that a port is in for a host without a gateway, if nobody serves that VLAN.

    Not of VLAN 1, in which a port is if nobody set it.
    """
    hosts = [context.network.stations.hosts[s.host.casefold()] for s in finding.subjects if s.host]
    for host in hosts[:1]:
        now = context.expected.current_vlan(host)
        lone = host.row.gateway == NONE and now != 1 and not context.expected.served(now, host)
        if lone and context.expected.planned(host) is None:
            return _other_addresses(context, host)
    return []


def _asked_by_one(context: Context, finding: Finding) -> list[tuple[Change, ...]]:
    """The address of the VLAN that a host's port is in, if a gateway of another subnet is missing there for it only.

    Or a VLAN in which nobody is, for both.
    """
    given = [c.cells.get("address") or c.key.get("address") for c in finding.repair if c.table == "gateways"]
    asked = {interface(str(own)).ip for own in given if own not in (None, "", NONE)}
    users = {user for ip in asked for user in context.expected.users(ip)}
    host = users.pop() if len(users) == 1 else None
    if not isinstance(host, HostStation) or context.expected.planned(host) is not None:
        return []
    if not context.expected.served(context.expected.current_vlan(host), host):
        return []
    lost = gateway_of_nobody(context, host)
    others = [*_other_addresses(context, host), *([lost.repair] if lost is not None else [])]
    return [changes for changes in others if changes != finding.repair]


def _other_addresses(context: Context, host: HostStation) -> list[tuple[Change, ...]]:
    """What it takes for a host to have an address of the VLAN that its port is in."""
    return [told.repair for told in hypotheses(context, host) if told.rule == "host-outside-subnet" and told.repair]


def only_address(finding: Finding) -> Address | None:
    """The address that a mend gives to an interface, if that is all it does."""
    given = [str(c.cells.get("address") or NONE) for c in finding.repair if c.table == "gateways"]
    return interface(given[0]).ip if len(given) == len(finding.repair) == 1 and given[0] != NONE else None


def _another_holder(context: Context, finding: Finding) -> list[tuple[Change, ...]]:
    """The same address for another interface of the subnet, if about as much speaks against what that one has."""
    wanted = only_address(finding)
    near = context.expected.interfaces_near(wanted) if wanted is not None else ()
    told = [one for one in (gateway_address_wrong(context, near_by) for near_by in near) if one is not None]
    rivals = [one for one in told if one.identity != finding.identity and only_address(one) == wanted]
    return _as_likely(context, finding, [*rivals, *_of_its_only_user(context, finding)])


def _of_its_only_user(context: Context, finding: Finding) -> list[Finding]:
    """That the only host that asks for an address is wrong, where the interface has one as gateways mostly do."""
    wanted = only_address(finding)
    held = (s.address for s in interfaces_of(context, finding) if s.address is not None)
    if wanted is None or not any(end_of(own.ip, own) for own in held):
        return []
    asking = [user for user in context.expected.users(wanted) if isinstance(user, HostStation)]
    told = host_gateway_wrong(context, asking[0]) if len(asking) == 1 else None
    return [told] if told is not None else []


def _as_likely(context: Context, finding: Finding, rivals: Iterable[Finding]) -> list[tuple[Change, ...]]:
    """The mends of those for which about as much speaks as for a finding."""
    known = speaks_for(context, finding)
    return [one.repair for one in rivals if one.repair and known - speaks_for(context, one) < weights.OPEN]


_RIVALS = {
    "port-vlan-wrong": _renumbered,
    "gateway-missing": _asked_by_one,
    "gateway-address-wrong": _another_holder,
}
"""What may be wrong as well as what some findings say."""


def not_past_each_other(context: Context, findings: Sequence[Finding]) -> list[Finding]:
    """The same findings, of which no two put hosts of one subnet each into the VLAN that the other is in.

    What stops somebody stays, before what only may; then a port that is in the wrong mode, as it is wrong either way.
    Where nothing tells, both are told.
    """
    moves: dict[tuple[object, ...], list[tuple[Prefix, Finding]]] = defaultdict(list)
    against: dict[int, Finding] = {}
    for finding in findings:
        for subnet, now, then in _moved(context, finding):
            past = [one for other, one in moves[subnet.version, then, now] if subnet.overlaps(other)]
            against.update((id(one), finding) for one in past)
            against.update((id(finding), one) for one in past)
            moves[subnet.version, now, then].append((subnet, finding))

    def rank(finding: Finding) -> tuple[int, bool]:
        return SEVERITIES.index(finding.severity), finding.rule != "port-mode-wrong"

    lost = {n for finding in findings if (n := id(finding)) in against and rank(finding) >= rank(against[n])}
    return [told_only(finding) if id(finding) in lost else finding for finding in findings]


def _without_idle(context: Context, findings: Sequence[Finding]) -> list[Finding]:
    """The same findings, without the mends of what nobody needs any more with the mend of another."""
    by_rule: dict[str, list[Finding]] = defaultdict(list)
    for finding in findings:
        by_rule[finding.rule].append(finding)
    done = settled(context, by_rule)

    def idle(finding: Finding) -> bool:
        return any(done.get(need, finding) is not finding for need in needs(finding))

    gone = [finding for finding in findings if finding.repair and idle(finding)]
    known = {id(finding) for finding in gone}
    rest = iter(without_lists_of(context.network, gone, [one for one in findings if id(one) not in known]))
    return [bare(finding) if id(finding) in known else next(rest) for finding in findings]


def _moved(context: Context, finding: Finding) -> Iterator[tuple[Prefix, int | None, object]]:
    """The subnets of the hosts, and interfaces, that a mend puts into another VLAN, with the VLAN now and then."""
    network = context.network
    for change in finding.repair:
        moved, there = list[Station](), change.cells.get("pvid")
        if change.table == "ports" and there is not None:
            end = End(str(change.key["device"]), str(change.key["port"]))
            moved += context.hosts_at(end)
            facing = (link.far(end) for link in context.adjacencies_at.get(end, ()))
            moved += [s for far in facing for s in network.gateways_at.get(far, ()) if s.tag == NO_VID]
        elif change.table == "gateways" and (there := change.cells.get("vid")):
            on_device = network.stations.on_device.get(str(change.key["device"]), ())
            moved += [s for s in on_device if s.name == change.key["interface"]]
        for station in moved:
            now = context.expected.current_vlan(station)
            if station.address is not None and now != there:
                yield station.address.network, now, there


def _guessed(context: Context, finding: Finding) -> bool:
    """Whether a trunk is made an access port of the VLAN that is left, as nobody shows which one its host is of."""
    hosts = (context.network.stations.hosts[s.host.casefold()] for s in finding.subjects if s.host)
    return finding.rule == "port-mode-wrong" and any(context.expected.vlan(host) is None for host in hosts)
