"""How sure each mend is that `check` tells, by what else may be meant and what it rests on."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Sequence
from itertools import chain, islice

import msgspec

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.expected.misaddressed import few_stay
from crossthread.diagnosis.findings import Finding
from crossthread.diagnosis.judgement import weights
from crossthread.diagnosis.judgement.confidence import beyond_doubt, confidence_of, kept_apart, left_out
from crossthread.diagnosis.judgement.hearing import Hearing
from crossthread.diagnosis.judgement.needs import across
from crossthread.diagnosis.repair.alternatives import alternatives
from crossthread.diagnosis.repair.doubts import PLACES
from crossthread.diagnosis.repair.harm.side_effects import Stopped
from crossthread.diagnosis.repair.hypotheses import rivals_of
from crossthread.diagnosis.repair.undecided import lost_hop, only_address
from crossthread.diagnosis.rules.link import both_trunks
from crossthread.diagnosis.rules.routing import OF_ROUTES
from crossthread.network.hosts.station import HostStation
from crossthread.network.topology.names import End
from crossthread.survey.changes import Change
from crossthread.survey.records import Gateway
from crossthread.values import NONE, VlanSet, interface

_JUDGED = frozenset({"pvid", "mode", "allowed", "address", "gateway", "vid"})
"""Columns of which the witnesses say what they should be."""

_MOST = 20
"""Where more mends than this are no more than likely, nobody reads what else each of them may be."""


def with_confidence(context: Context, findings: Iterable[Finding]) -> tuple[Finding, ...]:
    """The same findings, each with how sure its mend is, if it sets anything that is judged.

    What is needed for a host that may be elsewhere than where it is now is no surer than its own mend; nor is a host's
    gateway that an interface is to get, or a VLAN on a spare link of which it is undecided who belongs into it.
    """

    def told_of(finding: Finding) -> Finding:
        routes = finding.rule in OF_ROUTES
        if kept_apart(finding):
            return _less_sure(finding)
        judged = finding.rule == "gateway-missing" or any(_JUDGED & c.cells.keys() for c in finding.repair)
        if not finding.repair or not (routes or judged):
            return finding
        options = finding.alternatives or alternatives(context, finding, (), lambda _: True, lambda _: 0)
        if routes:
            return _less_sure(finding) if lost_hop(options) else finding
        found = msgspec.structs.replace(finding, alternatives=options)
        contested = _contested(context, finding) or _some_stay(context, finding) or _shown_by_nobody(context, finding)
        sure = confidence_of(found) == "sure" and (beyond_doubt(found) or not contested)
        return msgspec.structs.replace(finding, confidence="sure" if sure else "likely")

    told = tuple(map(told_of, findings))
    told = tuple(_less_sure(one) if _where_nobody_is(context, one, told) else one for one in told)
    doubted = [one for one in told if one.rule in PLACES and one.confidence != "sure"]
    unsure = {subject.host for one in doubted for subject in one.subjects if subject.host}
    disputed = {subject.vid for one in told if one.alternatives and not one.repair for subject in one.subjects}
    given = {ip for one in told if one.confidence == "likely" for ip in _given(one)}
    unsettled = {(s.device, s.interface) for one in doubted for s in one.subjects if s.interface}

    def depends(one: Finding) -> bool:
        asks = any(change.table == "hosts" and change.cells.get("gateway") in given for change in one.repair)
        of_host = one.rule.startswith("host-gateway") or one.rule == "port-mode-wrong"
        asks = asks or (of_host and any(s.host in unsure for s in one.subjects))
        asks = asks or (one.rule == "port-mode-wrong" and not unsettled.isdisjoint(_serving(context, one)))
        spare = one.rule == "link-vlan-missing" and one.severity == "risks"  # nobody uses that link now
        asks = asks or (spare and any(s.vid and s.vid in disputed for s in one.subjects))
        return asks or (bool(unsure) and _for_them_only(context, one, unsure))

    told = tuple(_less_sure(one) if one.repair and depends(one) else one for one in told)
    if sum(one.confidence == "likely" for one in told) > _MOST:
        return told
    return tuple(_with_reasons(context, one, told) for one in told)


def _given(finding: Finding) -> Iterator[str]:
    """The addresses that interfaces get by a mend: one in place of its own, or one that nobody has."""
    own = only_address(finding)
    yield from [str(own)] if own is not None else []
    anew = (c for c in finding.repair if c.table == "gateways" and finding.rule == "gateway-missing")
    values = (str(c.cells.get("address") or c.key["address"]) for c in anew)
    yield from (str(interface(value).ip) for value in values if value != NONE)


def _less_sure(finding: Finding) -> Finding:
    """The same finding as one for which something else may be meant."""
    return msgspec.structs.replace(finding, confidence="likely")


def _some_stay(context: Context, finding: Finding) -> bool:
    """Whether two interfaces are to exchange their addresses, though not only few hosts are where these belong now."""
    swapped = finding.rule == "gateway-address-wrong" and len({subject.interface for subject in finding.subjects}) > 1
    keys = [tuple(change.key.get(column) for column in Gateway.KEY) for change in finding.repair] if swapped else []
    own = (one for one in context.network.stations.gateways if keys)
    return not all(few_stay(context, one) for one in own if (one.device, one.name, one.row.address) in keys)


def _where_nobody_is(context: Context, finding: Finding, others: Iterable[Finding]) -> bool:
    """Whether a host's port is moved into a VLAN that both ends of a link leave out, which nobody else needs there."""
    hosts = {subject.host for subject in finding.subjects if subject.host}
    moved = finding.rule == "port-vlan-wrong" and finding.confidence == "sure" and bool(hosts)
    needed = [one for one in others if _for_them_only(context, one, hosts)] if moved else []
    return any(left_out([finding, one]) for one in needed)


def _contested(context: Context, finding: Finding) -> bool:
    """Whether it may as well be something else about a host that makes its port, address and gateway disagree.

    Of such mends that outweighed the best other hypothesis by less than 2, 10 of 22 were right.
    """
    return any(less < weights.SURE for _, less in _rivals(context, finding))


def _rivals(context: Context, finding: Finding) -> list[tuple[Finding, float]]:
    """What else may be wrong with the one host that a finding would put elsewhere, and how much less each weighs."""
    hosts = _hosts(context, finding) if finding.rule in (*PLACES, "host-gateway-outside-subnet") else []
    return rivals_of(context, hosts[0], finding.repair) if len(hosts) == 1 else []


def _with_reasons(context: Context, finding: Finding, others: Sequence[Finding]) -> Finding:
    """The same finding, if it is no more than likely, with what speaks against its mend, and what else may be meant.

    That is the best other explanation of the same host's settings, or a link as a trunk, if it stops nobody and edits
    nothing that the mend of another finding does.
    """
    if finding.confidence != "likely" or finding.alternatives:
        return finding
    settled = {(c.table, str(c.key)) for one in others if one is not finding for c in one.repair}
    rivals = [(one, less) for one, less in _rivals(context, finding) if less < weights.SURE]
    own = ((one.repair, less, 0) for one, less in rivals if all(c.table in ("hosts", "ports") for c in one.repair))
    links = ((changes, weights.SURE, 0) for changes in _as_trunk(context, finding) if changes != finding.repair)
    free = (one for one in chain(own, links) if settled.isdisjoint((c.table, str(c.key)) for c in one[0]))
    stopped = context.once(Stopped)
    other = list(islice((one for one in free if not stopped.by(one[0], proposed=True).stops), 1))
    found = alternatives(context, finding, (), lambda _: False, lambda _: 0, (), other)
    found = tuple(sorted(found, key=lambda one: one.changes != finding.repair))
    return msgspec.structs.replace(finding, alternatives=found) if other or found[0].against else finding


def _as_trunk(context: Context, finding: Finding) -> Iterator[tuple[Change, ...]]:
    """What makes a link of two access ports in different VLANs a trunk."""
    for subject in finding.subjects[:1] if finding.rule == "link-access-vlan-differs" else ():
        links = context.adjacencies_at.get(End(subject.device or "", subject.port or ""), ())
        yield from (both_trunks(context, link) for link in links[:1])


def _hosts(context: Context, finding: Finding) -> list[HostStation]:
    """The hosts that a finding is about."""
    return [context.network.stations.hosts[s.host.casefold()] for s in finding.subjects if s.host]


def _serving(context: Context, finding: Finding) -> set[tuple[str | None, str | None]]:
    """The interfaces of the subnets of the hosts that a finding is about."""
    return {(one.device, one.name) for host in _hosts(context, finding) for one in context.expected.gateways(host)}


def _shown_by_nobody(context: Context, finding: Finding) -> bool:
    """Whether a trunk becomes a host's access port, of a VLAN in which nobody of its subnet is to show it."""
    vids = {change.cells.get("pvid") for change in finding.repair}
    hearing = Hearing(context)
    alone = (vids.isdisjoint(hearing.home(hearing.kin(host))) for host in _hosts(context, finding))
    return finding.rule == "port-mode-wrong" and any(alone)


def _for_them_only(context: Context, finding: Finding, hosts: Collection[str]) -> bool:
    """Whether a link is to carry a VLAN that only some hosts need there."""
    lacking = finding.severity == "breaks" and finding.confidence == "sure"
    wanted = _lacking(context, finding) if lacking else VlanSet()
    for subject in finding.subjects if wanted else ():
        end = End(subject.device or "", subject.port or "")
        for link in context.adjacencies_at.get(end, ()):
            near, beyond = across(context, link, end, hosts)
            return bool(wanted - (near & beyond))
    return False


def _lacking(context: Context, finding: Finding) -> VlanSet:
    """The VLANs that a finding says a link is to carry; of one with an end in access mode, those its trunk lacks."""
    if finding.rule in ("link-vlan-missing", "port-mode-wrong"):
        return VlanSet.of(subject.vid for subject in finding.subjects if subject.vid)
    found = VlanSet()
    for change in finding.repair if finding.rule == "link-mode-differs" else ():
        row = context.port(End(str(change.key["device"]), str(change.key["port"])))
        if row is not None and "mode" not in change.cells and row.allowed is not None and change.cells.get("allowed"):
            found |= VlanSet.parse(str(change.cells["allowed"])) - row.allowed
    return found
