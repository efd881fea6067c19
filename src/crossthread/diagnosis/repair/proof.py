"""What a repair comes to: carried out on a copy, in the order of its steps."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.findings import Finding
from crossthread.diagnosis.repair.harm.side_effects import Costs, Stopped
from crossthread.diagnosis.repair.work_order import WorkStep, worked
from crossthread.diagnosis.way.echo import walks
from crossthread.network.network import Network
from crossthread.network.routing.walks import Walk
from crossthread.survey.changes import Change, merge_changes
from crossthread.values import NONE


class Proof(NamedTuple):
    """What a repair comes to, carried out step by step on a copy."""

    repair: tuple[Change, ...]
    order: tuple[WorkStep, ...]
    after: Network
    walked: tuple[Walk, Walk]
    costs: Costs

    @property
    def proven(self) -> bool:
        """Whether the pair works then."""
        return bool(self.repair) and all(walk.arrives for walk in self.walked)


def prove(context: Context, findings: Sequence[Finding], pair: tuple[str, str], seat: str | None) -> Proof:
    """Carry out the mends of some findings on a copy, step by step, and let the pair talk again."""
    order, after = worked(context.network, findings, pair, seat)
    changes = merge_changes(change for finding in findings for change in finding.repair)
    return Proof(
        in_order(changes, order), order, after, walks(after, *pair), context.once(Stopped).by(changes, proposed=True)
    )


def in_order(changes: Sequence[Change], order: Sequence[WorkStep]) -> tuple[Change, ...]:
    """Changes in the order of the steps that make them; as the steps make them where a thing is edited twice.

    What one step clears and a later one sets must be told twice, or devices would refuse what comes between.
    """
    steps = [change for step in order for change in step.changes]
    cells = [(change.table, str(change.key), column) for change in steps for column in change.cells]
    cleared = any(change.table == "gateways" and change.cells.get("address") == NONE for change in steps)
    if len(set(cells)) < len(cells) or cleared:
        return tuple(steps)
    last = {(change.table, str(change.key)): at for at, change in enumerate(steps)}
    return tuple(sorted(changes, key=lambda change: last.get((change.table, str(change.key)), len(steps))))
