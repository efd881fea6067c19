"""Which finding stands under which: by place, by VLAN, and by what a mend changes."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Container, Iterable, Iterator, Mapping

import msgspec

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.findings import SEVERITIES, Finding, Identity, Subject
from crossthread.diagnosis.registry import cutting, parents, parents_in_vlan
from crossthread.diagnosis.settled import needs, settled
from crossthread.network.topology.names import End
from crossthread.survey.changes import Change
from crossthread.survey.records import Port
from crossthread.values import VlanSet

_Place = tuple[object, ...]
_Cell = tuple[str, str, str]


def nested(
    context: Context,
    findings: list[Finding],
    causes: Mapping[Identity, set[Identity]],
    own: Container[Identity] = (),
) -> list[Finding]:
    """The findings with those that seem to follow from another put under it.

    Parameters
    ----------
    context, findings
        What was found where.
    causes
        By the identity of a finding the identities of those that were found to cause it, where that was worked out.
    own
        The identities of those that follow from nothing.
    """
    # Findings are told apart as objects here: they hold dictionaries, and two may say the same.
    order = sorted(findings, key=lambda f: (_badness(f), -f.affected))
    places = {id(finding): dict.fromkeys(_places(context, finding)) for finding in order}  # in a fixed order
    by_place: dict[_Place, list[Finding]] = defaultdict(list)
    by_rule: dict[str, list[Finding]] = defaultdict(list)
    by_mend: dict[object, list[Finding]] = defaultdict(list)
    by_cell: dict[_Cell, list[Finding]] = defaultdict(list)
    same_mend = _first_of_each_mend(order)
    for finding in order:
        for cell in _set_by(finding):
            by_cell[cell].append(finding)
        by_rule[finding.rule].append(finding)
        by_mend[_at_port(finding)].append(finding)
        for place in places[id(finding)]:
            by_place[place].append(finding)
    done = settled(context, by_rule)
    above: dict[int, Finding] = {}
    rank = {id(finding): number for number, finding in enumerate(order)}
    for finding in order:
        if finding.identity in own:
            continue
        above_it = parents().get(finding.rule, ())
        held = (place for place in places[id(finding)] if place[0] != "device" or finding.rule == "vlan-unused")
        near = (other for place in held for other in by_place[place]) if above_it else iter(())
        cause = next((o for o in near if o.rule in above_it and _may_lead(rank, above, finding, o)), None)
        known = causes.get(finding.identity)
        if known:
            cause = next((o for o in order if o.identity in known), None)
        if cause is None:
            cause = _by_vlan(context, finding, by_rule, above)
        if cause is None:
            cause = next((done[n] for n in needs(finding) if n in done and _leads(above, finding, done[n])), None)
        if cause is None and _at_port(finding) is not None:
            cause = next((o for o in by_mend[_at_port(finding)] if _may_lead(rank, above, finding, o)), None)
        if cause is None and not finding.repair:
            changing = {rank[id(o)]: o for cell in _ground(finding) for o in by_cell.get(cell, ())}
            cause = next((o for o in _as_bad(finding, changing) if _leads(above, finding, o)), None)
        if cause is None and id(finding) in same_mend and _leads(above, finding, same_mend[id(finding)]):
            cause = same_mend[id(finding)]
        if cause is not None:
            above[id(finding)] = cause
    under: dict[int, list[Finding]] = defaultdict(list)
    for finding in order:
        if id(finding) in above:
            under[id(above[id(finding)])].append(finding)
    return [_built(finding, under) for finding in order if id(finding) not in above]


def _first_of_each_mend(findings: Iterable[Finding]) -> dict[int, Finding]:
    """Of findings with one mend, as of the way there and the way back, the first, for each of the others.

    So of those with the same explanations, of which none is proposed.
    """
    first: dict[frozenset[str], Finding] = {}
    found = {}
    for finding in findings:
        mends = [finding.repair] if finding.repair else [one.changes for one in finding.alternatives]
        if mends:
            key = frozenset(" ".join(sorted(map(_in_order, changes))) for changes in mends)
            found[id(finding)] = first.setdefault(key, finding)
    return {known: one for known, one in found.items() if known != id(one)}


def _in_order(change: Change) -> str:
    """A change as text that is the same in whatever order its cells were written."""
    return f"{change.table} {sorted(change.key.items())} {sorted(change.cells.items())} {change.delete}"


def _as_bad(finding: Finding, others: Mapping[int, Finding]) -> Iterator[Finding]:
    """Of others by their rank those that are at least as bad as a finding, the first ones first."""
    return (others[n] for n in sorted(others) if _badness(others[n]) <= _badness(finding))


def _built(finding: Finding, under: dict[int, list[Finding]]) -> Finding:
    below = under.get(id(finding))
    if not below:
        return finding
    same = [other for other in below if _at_port(other) == _at_port(finding) is not None]
    repair = tuple(_with_lists(n, finding, same) for n in range(len(finding.repair)))
    follows = tuple(_built(other, under) for other in below)
    return _as_bad_as(finding, min(follows, key=_badness), repair=repair, follows=follows)


def _badness(finding: Finding) -> int:
    return SEVERITIES.index(finding.severity)


def _as_bad_as(finding: Finding, other: Finding, **cells: object) -> Finding:
    """A finding that stands for another one, and does whatever that does."""
    worse = _badness(other) < _badness(finding)
    held = {name: getattr(other, name) for name in ("severity", "affected", "affects", "example")} if worse else {}
    return msgspec.structs.replace(finding, **cells, **held)


def _with_lists(n: int, finding: Finding, same: list[Finding]) -> Change:
    """A change of a port's list that also lets through what others of the same kind at that port need."""
    change = finding.repair[n]
    lists = [str(one.repair[n].cells["allowed"]) for one in (finding, *same) if one.repair[n].cells.get("allowed")]
    if len(set(lists)) < 2:
        return change
    allowed = VlanSet.parse(lists[0])
    for text in lists[1:]:
        allowed |= VlanSet.parse(text)
    return msgspec.structs.replace(change, cells={**change.cells, "allowed": allowed})


def rests_on(finding: Finding, other: Finding) -> bool:
    """Whether a mend of another finding changes what a finding rests on: who is accused is no witness."""
    return not _set_by(other).isdisjoint(_ground(finding))


def _set_by(finding: Finding) -> set[_Cell]:
    """The cells that a finding's mend sets."""
    return {(change.table, str(change.key), column) for change in finding.repair for column in change.cells}


def _ground(finding: Finding) -> Iterator[_Cell]:
    """The cells that a finding rests on."""
    return ((fact.table, str(fact.key), fact.column) for fact in finding.evidence)


def _may_lead(rank: dict[int, int], above: dict[int, Finding], finding: Finding, cause: Finding) -> bool:
    """Whether a finding may be put under another; of two of one rule the worse leads."""
    if cause is finding or (cause.rule == finding.rule and rank[id(cause)] > rank[id(finding)]):
        return False
    return _leads(above, finding, cause)


def _leads(above: dict[int, Finding], finding: Finding, cause: Finding) -> bool:
    """Whether a finding may be put under a cause: not if the cause stands under it already."""
    at: Finding | None = cause
    while at is not None:
        if at is finding:
            return False
        at = above.get(id(at))
    return True


def _at_port(finding: Finding) -> tuple[str, ...] | None:
    """What is the same of findings of one rule that are mended at ports in one go, as for two VLANs of an uplink."""
    if {change.table for change in finding.repair} != {"ports"}:
        return None
    others = ({c: v for c, v in change.cells.items() if c != "allowed"} for change in finding.repair)
    return finding.rule, *(f"{change.key} {cells}" for change, cells in zip(finding.repair, others, strict=True))


def _by_vlan(
    context: Context, finding: Finding, by_rule: dict[str, list[Finding]], above: dict[int, Finding]
) -> Finding | None:
    vids = _vids(context, finding)
    hosts = {subject.host for subject in finding.subjects if subject.host}
    for rule in parents_in_vlan().get(finding.rule, ()):
        for other in by_rule.get(rule, ()):
            if other is finding or not _leads(above, finding, other):
                continue
            if hosts & set(other.affects) or (vids & _vids(context, other) and _may_meet(context, finding, other)):
                return other
    return None


def _may_meet(context: Context, one: Finding, other: Finding) -> bool:
    """Whether two findings may be about one VLAN if they are about one VID: bridges join where they are."""
    lans = _lans(context, one), _lans(context, other)
    return not all(lans) or not lans[0].isdisjoint(lans[1])


def _lans(context: Context, finding: Finding) -> set[str]:
    """The bridges that stand for all that those are joined to at which a finding is; none if it may be anywhere."""
    network, found = context.network, set[str | None]()
    for subject in finding.subjects:
        device = subject.device or ""
        if subject.host:
            found.add(network.lan(network.stations.hosts[subject.host.casefold()]))
        elif subject.interface:
            own = network.stations.on_device.get(device, ())
            found |= {network.lan(station) for station in own if station.name == subject.interface}
        elif device:
            end = End(device, subject.port or "")
            ends = [end, *(link.far(end) for link in context.adjacencies_at.get(end, ()))]
            found |= {network.lan_at(one.device) for one in ends}
    return {lan for lan in found if lan is not None} if None not in found else set()


def _vids(context: Context, finding: Finding) -> set[int]:
    """The VLANs that a finding is about; for one about a link as such, those that its mend would let across.

    An interface that does not tag is in the VLAN of the port that it is plugged into.
    """
    found = {subject.vid for subject in finding.subjects if subject.vid is not None}
    for subject in finding.subjects if not found else ():
        own = context.network.stations.on_device.get(subject.device or "", ()) if subject.interface else ()
        found |= {vid for s in own if s.name == subject.interface and (vid := context.expected.current_vlan(s))}
    if not found and finding.rule in cutting():
        for change in finding.repair:
            allowed = change.cells.get("allowed")
            found |= set(VlanSet.parse(str(allowed))) if allowed else set()
    return found


def _places(context: Context, finding: Finding) -> Iterator[_Place]:
    for change in finding.repair:
        key = " ".join(sorted(str(part) for part in change.key.values()))
        yield from (("cell", change.table, key, column) for column in change.cells)
    if finding.rule == "plan-differs":  # follows only from what is wrong with the very same cell
        return
    for subject in finding.subjects:
        yield from _of_subject(context, finding, subject)
    for fact in finding.evidence:
        told = fact.key.get("address") if finding.rule == "survey-gap" else fact.value
        if told and (fact.column == "address" or fact.table == "arp"):
            yield ("address", str(told).partition("/")[0])


def _of_subject(context: Context, finding: Finding, subject: Subject) -> Iterator[_Place]:
    if subject.host is not None:
        yield ("host", subject.host)
        host = context.network.stations.hosts.get(subject.host.casefold())
        if host is not None and host.end is not None:
            yield ("port", *host.end)
    if subject.interface is not None:
        yield ("interface", subject.device, subject.interface)
    if finding.rule == "vlan-unused" and len(finding.subjects) == 1:
        yield ("device", subject.device)
    if subject.device is not None and subject.vid is not None and subject.port is None:
        yield ("vlan", subject.device, subject.vid)
    if subject.device is not None and subject.port is not None:
        end = End(subject.device, subject.port)
        yield ("port", *end)
        if finding.rule.endswith(("mode-differs", "mode-wrong")) and subject == finding.subjects[0]:
            yield ("device", subject.device)
        for adjacency in context.adjacencies_at.get(end, ()):
            yield ("port", *adjacency.far(end))
            yield from (("port", *e) for link in adjacency.links for e in (link.a, link.b))
        for host in context.hosts_at(end):
            yield ("host", host.name)
        if finding.rule in ("port-admin-down", "port-down"):
            yield from (("vlan", end.device, vid) for vid in _lost_with(context, end))
    elif subject.device is not None and subject.vid is None and finding.rule == "discovery-off":
        yield from (("port", *end) for end in context.adjacencies_at if end.device == subject.device)


def _lost_with(context: Context, end: End) -> Iterator[int]:
    """The VLANs of its device's own interfaces that no port carries which is up, and this one would."""
    ports: Mapping[str, Port] = context.network.names.ports.get(end.device, {})
    own = {s.row.vid for s in context.network.stations.on_device.get(end.device, ()) if s.row.vid and not s.row.port}

    def carries(name: str, vid: int) -> bool:
        row = ports[name]
        return vid in row.allowed if row.allowed else row.pvid == vid

    for vid in sorted(own) if end.port in ports else ():
        if carries(end.port, vid) and not any(ports[name].oper == "up" and carries(name, vid) for name in ports):
            yield vid
