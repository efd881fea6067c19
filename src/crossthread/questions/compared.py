"""Two matrices side by side: who reaches whom now that did not before, and the other way round."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import msgspec

from crossthread.network.network import Network
from crossthread.plan import Plan
from crossthread.questions.matrix import Matrix, matrix
from crossthread.questions.scene import Scene
from crossthread.questions.wanted import Share, Wanted, shares
from crossthread.survey.changes import Change


class MatrixChange(msgspec.Struct, frozen=True):
    """How a matrix changes.

    Attributes
    ----------
    hosts, reaches, ip_versions
        The matrix afterwards.
    before
        The verdicts before, in the same form as `reaches`.
    gained, lost, unsure
        The ordered pairs that start to work, that stop, and that were or become unknown.
    steps
        How many of the wanted pairs work before, and after each step.
    """

    hosts: tuple[str, ...]
    reaches: tuple[tuple[str, str, str], ...]
    ip_versions: tuple[int | None, ...]
    before: tuple[tuple[str, str, str], ...]
    gained: tuple[tuple[str, str], ...]
    lost: tuple[tuple[str, str], ...]
    unsure: tuple[tuple[str, str], ...]
    steps: tuple[Share, ...]


def matrix_before(before: Network, network: Network, plan: Plan | None = None) -> MatrixChange:
    """Compare a network with an earlier survey of it; what is wanted is decided by the later one."""
    wanted = Wanted(Scene(network, plan))
    return _change(matrix(before), matrix(network), (wanted.share(before), wanted.share(network)))


def matrix_after(
    network: Network,
    steps: Sequence[Sequence[Change]],
    plan: Plan | None = None,
    progress: Callable[[], None] = lambda: None,
) -> MatrixChange:
    """Compare a network with itself after some changes, which are made step by step.

    Raises
    ------
    SurveyError
        For a change that the format does not know.
    """
    after = network.changed([change for changes in steps for change in changes])
    return _change(matrix(network), matrix(after), shares(Scene(network, plan), steps, progress))


def _change(old: Matrix, new: Matrix, steps: tuple[Share, ...]) -> MatrixChange:
    was = {(a, b): verdict for a, b, verdict in old.reaches}
    now = {(a, b): verdict for a, b, verdict in new.reaches}
    both = {pair: (was.get(pair, "fails"), now.get(pair, "fails")) for pair in {**was, **now}}
    return MatrixChange(
        new.hosts,
        new.reaches,
        new.ip_versions,
        old.reaches,
        tuple(pair for pair, verdicts in both.items() if verdicts == ("fails", "works")),
        tuple(pair for pair, verdicts in both.items() if verdicts == ("works", "fails")),
        tuple(pair for pair, (one, two) in both.items() if one != two and "unknown" in (one, two)),
        steps,
    )
