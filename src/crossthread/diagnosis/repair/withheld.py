"""Mends that are found, and not proposed, as too little speaks for them: only told, or left out."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Collection, Iterable, Iterator, Sequence

import msgspec

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.findings import Alternative, Finding
from crossthread.diagnosis.judgement import weights
from crossthread.diagnosis.judgement.confidence import confidence_of
from crossthread.diagnosis.repair.doubts import (
    PLACES,
    as_many_unread,
    doubtful,
    may_have_mates,
    may_leave_out,
    may_work_here,
    on_one_other,
)
from crossthread.diagnosis.repair.facts import resting_on
from crossthread.diagnosis.repair.harm.side_effects import Stopped
from crossthread.diagnosis.repair.hypotheses import rivals_of
from crossthread.diagnosis.repair.rival_explanations import speaks_for
from crossthread.diagnosis.rules.host.place import learned_elsewhere
from crossthread.network.hosts.station import Station
from crossthread.network.topology.names import End
from crossthread.survey.changes import Change
from crossthread.values import NONE, VlanSet, interface


def decided(context: Context, findings: Sequence[Finding]) -> list[Finding]:
    """The same findings without the mends of which nothing that was read decides, or only the plan; those are told.

    And those of a host that may be at another port, after that.
    """
    unread = context.network.unread.anywhere  # that may decide between two explanations, and one of them do harm

    def told(finding: Finding) -> Finding:
        if by_the_plan_alone(context, finding):
            return told_of_plan(finding)
        if not finding.repair:
            return finding
        alone = _of_one_host(context, finding) and on_one_other(context, finding)
        hosts = (context.network.stations.hosts[s.host.casefold()] for s in finding.subjects if s.host)
        unsure = confidence_of(finding) == "open" and (unread or any(may_have_mates(context, one) for one in hosts))
        rests = unsure or (unread and alone)
        return told_only(finding) if rests or _rests_unread(context, finding) else finding

    names = {s.host for finding in findings if is_elsewhere(context, finding) for s in finding.subjects if s.host}
    away = [one for one in learned_elsewhere(context) if one.subjects[0].host in names] if names else []
    kept = [*map(told, findings)]
    while resting := resting_on((one for one, now in zip(findings, kept, strict=True) if not now.repair), kept):
        kept = [told_only(one) if one in resting else one for one in kept]
    return [*away, *kept]


def _rests_unread(context: Context, finding: Finding) -> bool:
    """Whether a mend is no more than told because of what nobody read, however much speaks for it."""
    doubts = (is_elsewhere, as_many_unread, may_leave_out, may_work_here)
    return any(doubt(context, finding) for doubt in doubts)


def is_elsewhere(context: Context, finding: Finding) -> bool:
    """Whether a mend puts a host, or its port, elsewhere that is not where its row has it, by a filtering database."""
    away = context.network.stations.locating.unsettled
    return any(s.host in away for s in finding.subjects) and bool(finding.repair) and moves(context, finding)


def by_the_plan_alone(context: Context, finding: Finding) -> bool:
    """Whether a host's port, or an interface, is to be moved as the plan has it elsewhere, and nothing else says so.

    By all that was read it is where it belongs: the plan may be older than the network.
    """
    for change in finding.repair:
        for station, planned in _moved_by(context, change):
            now = context.observed.current_vlan(station)
            elsewhere = {context.expected.planned(station), planned} - {None, now}
            if elsewhere and now is not None and context.observed.vlan(station) == now:
                return True
    return False


def _moved_by(context: Context, change: Change) -> Iterator[tuple[Station, int | None]]:
    """The hosts and interfaces that a change puts into another VLAN, each with the one that is planned for the port."""
    device = str(change.key.get("device"))
    if change.table == "ports" and {"pvid", "mode"} & set(change.cells):
        end = End(device, str(change.key["port"]))
        yield from ((host, context.planned_port(end).vlan) for host in context.hosts_at(end))
    if change.table == "gateways" and "vid" in change.cells:
        interfaces = context.network.stations.on_device.get(device, ())
        yield from ((one, None) for one in interfaces if one.name == change.key["interface"])


def seen_without_plan(
    context: Context, findings: Sequence[Finding], observed: Callable[[], Iterable[Finding]], unread: bool
) -> list[Finding]:
    """The same findings, of which those are only told that set what nothing but the plan calls wrong.

    The plan may be older than the network. `observed` is what is found without it: where that has any mend, the plan
    decides which; and a trunk may carry more. All else is mended only if nothing is `unread` that may stop by it.
    """

    def sets(finding: Finding, known: Collection[object] = ()) -> bool:
        places = ((_set_at(change), change) for change in finding.repair)
        return any(at and at not in known and not _adds(context, change) for at, change in places)

    def may_stop(finding: Finding) -> bool:
        costs = context.once(Stopped).by(finding.repair, proposed=True)
        return bool(unread or costs.stops or costs.doubtful or costs.unsure)

    if not any(map(sets, findings)):
        return [*findings]
    accused = {
        _set_at(change)
        for one in observed()
        for changes in (one.repair, *(other.changes for other in one.alternatives))
        for change in changes
    }
    return [told_of_plan(one) if sets(one, accused) and may_stop(one) else one for one in findings]


def _set_at(change: Change) -> tuple[object, ...] | None:
    """The port, host or interface of which a change sets anything by which packets find their way."""
    known = change.table in ("ports", "hosts", "gateways") and (change.delete or not set(change.cells) <= ONLY_TOLD)
    return (change.table, *map(change.key.get, ("device", "port", "interface", "host"))) if known else None


def _adds(context: Context, change: Change) -> bool:
    """Whether a change does nothing but let a trunk carry more."""
    row = context.port(End(str(change.key["device"]), str(change.key["port"]))) if change.table == "ports" else None
    if row is None or row.allowed is None or set(change.cells) != {"allowed"}:
        return False
    return not row.allowed - VlanSet.parse(str(change.cells["allowed"]))


def grounded(context: Context, findings: Iterable[Finding]) -> list[Finding]:
    """The same findings; no host, and no interface, is put elsewhere if more speaks against that than for it.

    Nor, where anything is unread, because of no more than one other host: the rest of its subnet may be just where it
    is. Measured, one in ten of those was right. Else hosts that were moved along with it are no witnesses against that.
    """
    unread = context.network.unread.anywhere
    least = weights.MATE if unread else -weights.MATE
    found = list(findings)
    together: dict[tuple[object, ...], list[Change]] = defaultdict(list)
    for finding in found:
        for move in _moves_of(context, finding):
            together[move] += finding.repair

    def rests(finding: Finding) -> bool:
        if unread and doubtful(context, finding):
            return True
        return speaks_for(context, finding) <= least and (unread or not moved_along(finding))

    def moved_along(finding: Finding) -> bool:
        beside = [change for move in _moves_of(context, finding) for change in together[move]]
        hosts = [context.network.stations.hosts[s.host.casefold()] for s in finding.subjects if s.host]
        rivals = [less for host in hosts for _, less in rivals_of(context, host, finding.repair)]
        alone = any(less < weights.OPEN for less in rivals)
        return len(beside) > len(finding.repair) and not alone and speaks_for(context, finding, beside) > least

    def moves_one(finding: Finding) -> bool:
        return _of_one_host(context, finding) or (finding.rule == "gateway-vlan-wrong" and bool(finding.repair))

    def told(finding: Finding) -> bool:
        rest = moves_one(finding) and rests(finding)
        return rest or _rests_unread(context, finding)

    return [told_only(one) if told(one) else one for one in found]


def _moves_of(context: Context, finding: Finding) -> Iterator[tuple[object, ...]]:
    """The subnets of hosts that a mend puts into the VLAN where they live by their ports, with the VLAN of now."""
    for change in finding.repair if finding.rule == "port-vlan-wrong" else ():
        end = End(str(change.key.get("device")), str(change.key.get("port")))
        for host in context.hosts_at(end):
            if host.address is not None and context.expected.vlan(host) == change.cells.get("pvid"):
                yield host.address.network, context.expected.current_vlan(host)


def _of_one_host(context: Context, finding: Finding) -> bool:
    """Whether a mend puts a single host elsewhere, and not all that are behind one port."""
    ends = [End(str(c.key["device"]), str(c.key["port"])) for c in finding.repair if c.table == "ports"]
    placed = finding.rule in PLACES or (finding.rule == "port-mode-wrong" and _leaves_its_vlan(context, finding))
    return placed and bool(finding.repair) and moves(context, finding) and all(context.hosts_at(end) for end in ends)


def _leaves_its_vlan(context: Context, finding: Finding) -> bool:
    """Whether a port gets another VLAN for untagged frames, where its host may work with the one that it has."""
    if not context.network.unread.anywhere:
        return False
    told = [
        (c, context.port(End(str(c.key["device"]), str(c.key["port"])))) for c in finding.repair if "pvid" in c.cells
    ]
    return any(row is not None and row.pvid and row.pvid != change.cells["pvid"] for change, row in told)


ONLY_TOLD = frozenset({"discovery", "description", "speed", "duplex", "ttl", "edge", "guard"})
"""Columns on which no way of a packet depends."""


def told_only(finding: Finding) -> Finding:
    """The same finding, whose mend is told as one that may be meant."""
    known = finding.alternatives or (Alternative(finding.repair, ()),)
    return msgspec.structs.replace(finding, repair=(), alternatives=known)


def told_of_plan(finding: Finding) -> Finding:
    """The same for a mend for which nothing speaks but the plan."""
    says = f"{finding.says} Nothing that was read says that it is wrong: the plan may be out of date."
    return msgspec.structs.replace(told_only(finding), says=says)


def moves(context: Context, finding: Finding) -> bool:
    """Whether a mend puts a host, or an interface, elsewhere: into another VLAN, or to another address.

    Another address of the subnet that a host is in already is not elsewhere.
    """
    at_host = any(subject.host or subject.interface for subject in finding.subjects)
    return at_host and any({"pvid", "vid"} & set(c.cells) or _readdresses(context, c) for c in finding.repair)


def _readdresses(context: Context, change: Change) -> bool:
    text = str(change.cells.get("address") or NONE)
    if text == NONE or text.partition("/")[0] in context.network.stations.by_address:
        return False
    host = context.network.stations.hosts.get(str(change.key.get("host") or "").casefold())
    return host is None or host.address is None or host.address.network != interface(text.partition(" ")[0]).network


def bare(finding: Finding) -> Finding:
    """The same finding without any mend."""
    return msgspec.structs.replace(finding, repair=(), alternatives=())
