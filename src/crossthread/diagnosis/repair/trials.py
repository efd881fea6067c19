"""Trying mends on a copy: walk, note what stops the packet, mend it, and walk again; and what can be left out again."""

from __future__ import annotations

from collections.abc import Sequence

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.findings import Finding
from crossthread.diagnosis.repair.together import (
    addresses_given,
    adds_interface,
    changes_of,
    interfaces_named,
    refused,
    try_out,
)
from crossthread.diagnosis.repair.tree_costs import opened
from crossthread.diagnosis.way.echo import walks
from crossthread.diagnosis.way.explanations import at_its_end, explain
from crossthread.network.hosts.ends import end_named
from crossthread.network.network import Network
from crossthread.network.three_valued import Truth, all_of
from crossthread.plan import Plan

_ROUNDS = 30


def collect(
    network: Network, source: str, target: str, plan: Plan, known: Sequence[Finding]
) -> tuple[list[Finding], Network | None]:
    """Walk, note what stops the packet, mend it on a copy, and walk again; the copy is None if that gets nowhere.

    Or if the mends of what is known cannot be made together, as two of them give one thing two values.
    """
    findings = list(known)
    made = try_out(network, [change for finding in known for change in finding.repair])
    if made is None:
        return findings, None
    now = made
    for _ in range(_ROUNDS):
        there, back = walks(now, source, target)
        if there.arrives is not False and back.arrives is not False:
            return findings, now
        after, told = None, False
        for failed, goal in ((there, target), (back, source)):
            if failed.arrives is not False or failed.stop is None:
                continue
            near = Context(now, plan)
            found = explain(near, failed.stop, end_named(now, goal), failed is back)
            if not found and not findings:
                found = [at_its_end(near, failed.stop, end_named(now, goal))]
            found = [opened(near, finding) for finding in found]
            found = [finding for finding in found if not _reverts(findings, finding)]
            fresh = [f for f in found if (f.rule, f.subjects) not in {(g.rule, g.subjects) for g in findings}]
            changes = [change for finding in fresh for change in finding.repair]
            after = try_out(now, changes) if changes else None
            if after is not None or not told:
                findings += fresh
            if after is not None:
                break  # where the way there cannot be mended any further, the way back may be what is broken
            told = told or bool(fresh)
        if after is None:
            break
        now = after
    return findings, None


_ONE_VALUE = {"pvid", "vid", "mode", "gateway", "interface", "tagging"}
"""The columns that a mend sets once: one that sets another value later takes back what was mended before."""


def _reverts(findings: Sequence[Finding], later: Finding) -> bool:
    """Whether a mend sets again what another one has set, so that the two go round in a circle."""
    made = {str(change.key) for change in changes_of(findings) if adds_interface(change)}
    if any(
        change.table == "gateways" and "address" in change.cells and str(change.key) in made for change in later.repair
    ):
        return True
    told = {
        (change.table, str(change.key), column): value
        for finding in findings
        for change in finding.repair
        for column, value in change.cells.items()
        if column in _ONE_VALUE
    }
    return any(
        told.get((change.table, str(change.key), column), value) != value
        for change in later.repair
        for column, value in change.cells.items()
    )


class Outcomes:
    """What becomes of pairs once some findings are mended: `context.once(Outcomes)`, each set of changes tried once.

    Explanations have most of their faults in common, so the same few are tried again and again.
    """

    def __init__(self, context: Context) -> None:
        self._network = context.network
        self._known: dict[tuple[str, ...], Truth] = {}

    def of(self, findings: Sequence[Finding], source: str, target: str) -> Truth:
        """Whether two hosts reach each other then; they do not if the mends cannot be made, or devices refuse them."""
        changes = changes_of(findings)
        key = (source, target, *sorted(map(str, changes)))
        if key not in self._known:
            trial = try_out(self._network, changes)
            walked = walks(trial, source, target) if trial and not refused(self._network, trial, changes) else ()
            self._known[key] = all_of(walk.arrives for walk in walked) if walked else False
        return self._known[key]

    def works(self, findings: Sequence[Finding], source: str, target: str) -> bool:
        """Whether nothing that is known stops them then."""
        return self.of(findings, source, target) is not False


def only_needed(context: Context, source: str, target: str, findings: list[Finding]) -> list[Finding]:
    """Leave out each finding without whose mend the pair works just as well.

    Not if another mend then speaks of an address that only this one gives: it would add an interface nobody meant.
    """
    if len(findings) < 2:
        return findings
    outcome = context.once(Outcomes).of
    kept, most = list(findings), _interfaces(context, findings)
    as_good = {True, outcome(findings, source, target)}
    left_out = set[tuple[str, ...]]()
    for again in (False, True):  # what only takes back another mend is not needed once that is left out
        for finding in reversed(findings):
            rest, cells = [other for other in kept if other is not finding], _cells(finding)
            if len(rest) == len(kept) or (again and cells.isdisjoint(left_out)):
                continue
            if outcome(rest, source, target) in as_good and _interfaces(context, rest) <= most:
                kept = rest
                left_out |= cells
    return kept


def _cells(finding: Finding) -> set[tuple[str, ...]]:
    """What a mend sets: of which port, host or interface, whatever its address is, which column."""
    found = set[tuple[str, ...]]()
    for change in finding.repair:
        key = {column: str(value) for column, value in change.key.items() if column != "address"}
        found |= {(change.table, *key.values(), column) for column in change.cells}
    return found


def _interfaces(context: Context, findings: Sequence[Finding]) -> int:
    """How many rows of interfaces there are more once some findings are mended.

    What is set of an interface by an address that it has not, and that none of the mends gives it, is one more row.
    """
    named, stations = interfaces_named(findings), context.network.stations.on_device
    devices = {device: context.network.names.spelled[device] for device, _, _ in named}
    held = {(d, s.name, str(s.row.address)) for d, own in devices.items() for s in stations.get(own, ())}
    gone = sum(change.table == "gateways" and change.delete for change in changes_of(findings))
    return sum(one not in held | addresses_given(findings) for one in named) - gone
