"""Everything that is found wrong in a network, before it is asked of any mend whether it would stop somebody."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterator, Sequence
from datetime import date
from functools import partial
from typing import NamedTuple

import msgspec

from crossthread.diagnosis.all_rules import sweep
from crossthread.diagnosis.context import Context, context_of
from crossthread.diagnosis.effects import find_effects
from crossthread.diagnosis.expected.unread_hosts import anybody_unread
from crossthread.diagnosis.findings import SEVERITIES, Finding, Identity
from crossthread.diagnosis.repair.hypotheses import judged
from crossthread.diagnosis.repair.rival_explanations import speaks_for
from crossthread.diagnosis.repair.together import leads_to_any, moved_within
from crossthread.diagnosis.repair.undecided import decided_mends, only_address
from crossthread.diagnosis.repair.withheld import seen_without_plan
from crossthread.diagnosis.rules import plan as plan_rules
from crossthread.diagnosis.rules import vlan as vlan_rules
from crossthread.diagnosis.rules.link_vlan import blocked_between, link_not_spare
from crossthread.diagnosis.rules.survey import survey_gap
from crossthread.diagnosis.search.cheapest_way import Search
from crossthread.diagnosis.vlan_pieces import split_vlans
from crossthread.network.topology.names import End
from crossthread.plan import Plan
from crossthread.plan.plan import Accepted
from crossthread.survey.survey import Evidence


class Faults(NamedTuple):
    """What was found of one context, each by itself."""

    context: Context
    kept: list[Finding]
    """What the plan does not accept, and what it accepts in vain."""
    accepted: list[Finding]
    causes: dict[Identity, set[Identity]]
    """Of some findings those that were found to cause them."""


def find_faults(context: Context, today: date, progress: Callable[[], None] = lambda: None) -> Faults:
    """Look for everything: what keeps two from each other that should reach each other, and what the rules find."""
    effects = find_effects(context, progress)
    found: dict[Identity, Finding] = {e.finding.identity: _if_meant(e.told()) for e in effects.effects}
    gone = moved_within(found.values())
    for finding in sweep(context):
        if (known := found.get(finding.identity)) is None:
            found[finding.identity] = _softened(finding)
        elif known.repair and finding.repair and known.repair != finding.repair and not leads_to_any(finding, gone):
            found[finding.identity] = _likelier(context, known, finding)
    for told in (*effects.uneven, *_spare_once_mended(effects.mended, list(found.values()))):
        found.setdefault(told.identity, _softened(told))
    by_column: dict[tuple[str, str], list[tuple[Evidence, tuple[str, str]]]] = defaultdict(list)
    for gap in effects.gaps:
        by_column[gap[0].table, gap[0].column].append(gap)
    for gaps in by_column.values():
        told = survey_gap(context, [fact for fact, _ in gaps], gaps[0][1])
        found.setdefault(told.identity, told)
    for one, two, vids in effects.forbidden:
        told = plan_rules.plan_talk(context, one, two, vids)
        found.setdefault(told.identity, told)
    found = _one_holder(context, _without_accused(_one_a_host(context, found)))
    causes: dict[Identity, set[Identity]] = {}
    search = context.once(Search)
    for vid, pieces in split_vlans(context):
        way = search.between(pieces[0][0], pieces[1][0])
        above = {finding.identity for finding in way.findings} if way is not None else set[Identity]()
        for told in (vlan_rules.vlan_split(context, vid, pieces), *blocked_between(context, vid, pieces)):
            found.setdefault(told.identity, told)
            causes[told.identity] = above - {told.identity}
    kept, accepted, idle = _accepted(context, list(found.values()), today)
    mended = decided_mends(context, kept)
    if context.plan != Plan():
        unread = bool(effects.gaps) or context.network.unread.anywhere or context.once(anybody_unread)
        without = partial(find_faults, context_of(context.network), today, progress)
        mended = seen_without_plan(context, mended, lambda: without().kept, unread)
    return Faults(context, [*mended, *idle], accepted, causes)


def _spare_once_mended(mended: Context, known: Sequence[Finding]) -> Iterator[Finding]:
    """What links lack that can stand in for others once the links of the same devices are mended, and not now."""
    ports = (c.key for one in known if one.severity == "breaks" for c in one.repair if c.table == "ports")
    ends = (End(str(key["device"]), str(key["port"])) for key in ports)
    devices = {end.device for end in ends if mended.adjacencies_at.get(end)}
    told = {(s.device, s.port) for one in known if one.rule == "link-vlan-missing" for s in one.subjects}
    for link in mended.network.adjacencies if devices else ():
        if not devices.isdisjoint((link.a.device, link.b.device)) and link.a not in told:
            found = link_not_spare(mended, link)
            yield from [found] if found is not None else []


def _likelier(context: Context, stopping: Finding, alone: Finding) -> Finding:
    """A finding that stops somebody, as one pair asks to mend it, or as its rule does, if more speaks for that."""
    if speaks_for(context, alone) <= speaks_for(context, stopping):
        return stopping
    return msgspec.structs.replace(alone, **_hits(stopping))


_EITHER = ("host-outside-subnet", "port-vlan-wrong")
"""Two explanations of one disagreement: a host's address and its port's VLAN."""


def _one_a_host(context: Context, found: dict[Identity, Finding]) -> dict[Identity, Finding]:
    """The same findings; of a host of which both its address and its port were told, the likelier, and as bad."""
    of_host: dict[str, dict[str, tuple[Identity, Finding]]] = defaultdict(dict)
    for identity, finding in found.items():
        for name in [s.host for s in finding.subjects if s.host] if finding.rule in _EITHER else ():
            of_host[name][finding.rule] = identity, finding
    kept = dict(found)
    for name, told in of_host.items():
        if len(told) < len(_EITHER):
            continue
        best = judged(context, context.network.stations.hosts[name.casefold()])
        right = best.rule if best is not None and best.rule in told else _EITHER[0]
        worst = min((f.severity for _, f in told.values()), key=SEVERITIES.index)
        for rule, (identity, finding) in told.items():
            if rule == right:
                kept[identity] = msgspec.structs.replace(finding, severity=worst)
            else:
                kept.pop(identity, None)
    return kept


def _without_accused(found: dict[Identity, Finding]) -> dict[Identity, Finding]:
    """The same findings without interfaces that serve another VLAN only by hosts whose own address is called wrong."""
    wrong = (f for f in found.values() if f.rule == "host-outside-subnet" and f.severity == "breaks")
    accused = {s.host for finding in wrong for s in finding.subjects if s.host}
    return {
        identity: finding
        for identity, finding in found.items()
        if finding.rule != "gateway-vlan-wrong" or not finding.affects or not accused.issuperset(finding.affects)
    }


def _one_holder(context: Context, found: dict[Identity, Finding]) -> dict[Identity, Finding]:
    """The same findings; of several interfaces that would get one address the one for which most speaks, and as bad."""
    given: dict[object, list[Finding]] = defaultdict(list)
    for finding in found.values():
        if finding.rule == "gateway-address-wrong" and (address := only_address(finding)) is not None:
            given[address].append(finding)
    for rivals in given.values():
        first = min(rivals, key=lambda one: SEVERITIES.index(one.severity))
        heavy = {one.identity: speaks_for(context, one) for one in rivals} if len(rivals) > 1 else {}
        best = max((first, *rivals), key=lambda one: heavy.get(one.identity, 0.0))
        told = msgspec.structs.replace(best, **_hits(first))
        gone = {one.identity for one in rivals if one is not best}
        found = {key: told if key == told.identity else one for key, one in found.items() if key not in gone}
    return found


def _hits(finding: Finding) -> dict[str, object]:
    """How bad a finding is, and for whom."""
    return {name: getattr(finding, name) for name in ("severity", "affected", "affects", "example")}


_MEANT = ("filter-drops", "port-isolated", "routing-tables-apart")
"""What keeps two apart because somebody wanted it: worth knowing, and a fault only if they were to talk."""


def _if_meant(finding: Finding) -> Finding:
    return msgspec.structs.replace(finding, severity="note") if finding.rule in _MEANT else finding


def _softened(finding: Finding) -> Finding:
    """The same finding where nobody was found to be stopped by it."""
    return msgspec.structs.replace(finding, severity="risks") if finding.severity == "breaks" else finding


def _accepted(
    context: Context, findings: list[Finding], today: date
) -> tuple[list[Finding], list[Finding], list[Finding]]:
    """What the plan does not accept, what it does, and what it accepts in vain."""
    by_rule: dict[str, list[Accepted]] = defaultdict(list)
    for entry in context.plan.accept:
        by_rule[entry.rule].append(entry)
    kept: list[Finding] = []
    accepted: list[Finding] = []
    used: set[int] = set()
    for finding in findings:
        entries = [entry for entry in by_rule.get(finding.rule, ()) if _fits(entry, finding)]
        used |= {id(entry) for entry in entries}  # of the plan, which holds them
        good = any(entry.until is None or entry.until >= today for entry in entries)
        (accepted if good else kept).append(finding)
    idle = [
        plan_rules.acceptance_idle(context, entry, today)
        for entry in context.plan.accept
        if id(entry) not in used or (entry.until is not None and entry.until < today)
    ]
    return kept, accepted, idle


def _fits(entry: Accepted, finding: Finding) -> bool:
    """Whether an acceptance means a finding: its subject is one of the finding's, or stands for all of the rule."""
    if entry.subject is None:
        return True
    wanted = entry.subject.casefold()
    return any(
        wanted in (str(s).casefold(), str(msgspec.structs.replace(s, vid=None)).casefold()) for s in finding.subjects
    )
