"""Two matrices side by side: who reaches whom now that did not before, and the other way round."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from crossthread.answer import Answer
from crossthread.diagnosis.context import Context, context_of
from crossthread.diagnosis.repair.harm.side_effects import Pairs, changed_pairs
from crossthread.diagnosis.wanted_pairs import Share, shares
from crossthread.network.given import Given, network_of, of_network
from crossthread.network.network import Network
from crossthread.plan import Plan
from crossthread.survey.changes import Change
from crossthread.views.class_matrix import ClassMatrix, Echoes, class_matrix
from crossthread.views.matrix import matrix

_SMALL = 1000
"""Up to how many hosts every verdict is listed."""


class MatrixChange(Answer, frozen=True):
    """How a matrix changes.

    Attributes
    ----------
    hosts, reaches, ip_versions
        The matrix afterwards; without verdicts on a campus of more than 1,000 hosts.
    before
        The verdicts before, in the same form as `reaches`.
    gained, lost, unsure
        The ordered pairs that start to work, that stop, and that were or become unknown.
    steps
        How many of the wanted pairs work before, and after each step.
    """

    ROWS = "gained"
    COLUMNS = ("from", "to")
    hosts: tuple[str, ...]
    reaches: tuple[tuple[str, str, str], ...]
    ip_versions: tuple[int | None, ...]
    before: tuple[tuple[str, str, str], ...]
    gained: Pairs
    lost: Pairs
    unsure: Pairs
    steps: tuple[Share, ...]


@of_network
def matrix_before(network: Network, before: Given, plan: Plan | None = None) -> MatrixChange:
    """Compare a network with an earlier survey of it; what is wanted is decided by the later one.

    Parameters
    ----------
    network
        The later network, or a survey of it, or its place.
    before
        The earlier one.
    plan
        What was intended; None to compare the network with itself.

    Returns
    -------
    MatrixChange
        The pairs that work now and did not, those that worked and do not, and those of which less or more is known.

    Raises
    ------
    SurveyError
        If a place was given and no survey can be read there.

    Examples
    --------
    >>> from crossthread.demo import faulty, healthy
    >>> len(matrix_before(faulty(), healthy()).gained)
    0
    """
    earlier = network_of(before)
    return _change(earlier, network, context_of(network, plan), (class_matrix(earlier), class_matrix(network)))


@of_network
def matrix_after(
    network: Network,
    steps: Sequence[Sequence[Change]],
    plan: Plan | None = None,
    progress: Callable[[], None] = lambda: None,
) -> MatrixChange:
    """Compare a network with itself after some changes, which are made step by step.

    Parameters
    ----------
    network
        A network, a survey, or the place of one: a folder, or a `.json` or `.json.gz` file.
    steps
        The changes, step by step.
    plan
        What was intended; None to compare the network with itself.
    progress
        Called again and again while it works, for a progress bar.

    Returns
    -------
    MatrixChange
        The same for the network after all steps, with how many pairs work after each.

    Raises
    ------
    SurveyError
        For a change that the format does not know, or a place without a survey.

    Examples
    --------
    >>> from crossthread.demo import faulty, healthy
    >>> from crossthread import Change, matrix_after
    >>> shut = Change("ports", {"device": "galley", "port": "port1"}, {"admin": "down"})
    >>> len(matrix_after(healthy(), [[shut]]).gained)
    0
    """
    now, echoes = network, Echoes(network)
    matrices = [echoes.matrix]
    for now in network.after_each(steps):
        matrices.append(echoes.after(now).matrix)
        progress()
    return _change(network, now, context_of(network, plan), matrices)


def _change(before: Network, after: Network, context: Context, matrices: Sequence[ClassMatrix]) -> MatrixChange:
    gained, lost, unsure = changed_pairs(matrices[0], matrices[-1])
    hosts = after.stations.hosts.values()
    small = len(hosts) <= _SMALL
    old, new = (matrix(network).reaches if small else () for network in (before, after))
    versions = tuple(host.address.version if host.address else None for host in hosts)
    return MatrixChange(
        tuple(host.name for host in hosts), new, versions, old, gained, lost, unsure, shares(context, matrices)
    )
