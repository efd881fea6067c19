"""Who else gains and loses by each step of a repair."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import msgspec

from crossthread.diagnosis.repair.work_order import WorkStep
from crossthread.network.network import Network
from crossthread.views.matrix import class_matrix, compare_classes


def with_touches(
    network: Network, steps: Sequence[WorkStep], progress: Callable[[], None] = lambda: None
) -> tuple[WorkStep, ...]:
    """The same steps, each with who of all hosts gains and loses by it."""
    found, now = [], network
    before = class_matrix(now)
    for step in steps:
        now = now.changed(step.changes)
        after = class_matrix(now)
        found.append(msgspec.structs.replace(step, touches=compare_classes(before, after)))
        before = after
        progress()
    return tuple(found)
