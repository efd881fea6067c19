"""Some changes tried out on a copy: what they mend, what they break, which findings go and come, which trees move."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence

import msgspec

from crossthread.answer import Answer
from crossthread.collector import held_still
from crossthread.diagnosis.context import context_of
from crossthread.diagnosis.findings import Finding
from crossthread.diagnosis.repair.harm.management import parted
from crossthread.diagnosis.repair.harm.side_effects import changed_pairs, echoes
from crossthread.diagnosis.wanted_pairs import Share, shares
from crossthread.network.given import of_network
from crossthread.network.network import Network
from crossthread.plan import Plan
from crossthread.questions.check import faults, told
from crossthread.questions.tree_change import TreeChange, compare_trees, hosts_cut
from crossthread.survey.changes import Change


class Rehearsal(Answer, frozen=True):
    """What some changes would do.

    Attributes
    ----------
    fixed, broken
        The ordered pairs of hosts that would reach each other and do not now; and the other way round.
    unsure
        The pairs of which it would not be known any more, or would be known at last.
    findings_gone, findings_new
        By `check`, what follows from another included.
    unmanaged
        The devices that would get no more from the address by which they are managed to the gateway of its subnet, each
        with that gateway: whoever mends them by the network would lose them.
    trees
        The spanning trees that form anew.
    steps
        How many of the wanted pairs work now, and after each of the changes.
    """

    ROWS = "findings_new"
    fixed: tuple[tuple[str, str], ...]
    broken: tuple[tuple[str, str], ...]
    unsure: tuple[tuple[str, str], ...]
    unmanaged: tuple[tuple[str, str], ...]
    findings_gone: tuple[Finding, ...]
    findings_new: tuple[Finding, ...]
    trees: tuple[TreeChange, ...]
    steps: tuple[Share, ...]


@of_network
def rehearse(
    network: Network, changes: Sequence[Change], plan: Plan | None = None, progress: Callable[[], None] = lambda: None
) -> Rehearsal:
    """Make some changes to a copy, and compare everything.

    Parameters
    ----------
    network
        A network, a survey, or the place of one: a folder, or a `.json` or `.json.gz` file.
    changes
        The changes, in their order.
    plan
        What was intended; None to compare the network with itself.
    progress
        Called again and again while it works, for a progress bar.

    Returns
    -------
    Rehearsal
        Pairs mended and broken, findings gone and new, trees that form anew, and how many wanted pairs work after each
        change.

    Raises
    ------
    SurveyError
        For a change that the format does not know, or a place without a survey.

    Examples
    --------
    >>> from crossthread.demo import faulty, healthy
    >>> from crossthread import Change
    >>> mend = Change("hosts", {"host": "archive-store"}, {"gateway": "10.61.10.1"})
    >>> rehearse(faulty(), [mend]).broken
    ()
    """
    with held_still():
        return _rehearse(network, changes, plan, progress)


def _rehearse(
    network: Network, changes: Sequence[Change], plan: Plan | None, progress: Callable[[], None]
) -> Rehearsal:
    before, after = context_of(network, plan), network
    reached = then_reached = before.once(echoes)
    matrices = [reached.matrix]
    for after in network.after_each([[change] for change in changes]):
        then_reached = reached.after(after)
        matrices.append(then_reached.matrix)
        progress()
    gained, lost, unsure = changed_pairs(matrices[0], matrices[-1])
    contexts = before, context_of(after, plan)
    contexts[1].once(lambda _: then_reached, kept_as=echoes)
    found = [faults(context) for context in contexts]
    known, then = ({f.identity for one in each for f in one.kept} for each in found)
    before_found, after_found = (list(_all(told(each, known & then).findings)) for each in found)
    instances = sorted({row.instance for rows in after.fabric.trees.bridges.values() for row in rows})
    cut = hosts_cut(*contexts) if instances else ((), ())
    trees = [compare_trees(*contexts, instance, cut) for instance in instances]
    return Rehearsal(
        gained,
        lost,
        unsure,
        parted(before, after),
        tuple(f for f in before_found if f.identity not in then),
        tuple(f for f in after_found if f.identity not in known),
        tuple(tree for tree in trees if tree.moved or tree.root_before != tree.root_after),
        shares(contexts[0], matrices),
    )


def _all(findings: Sequence[Finding]) -> Iterator[Finding]:
    for finding in findings:
        yield msgspec.structs.replace(finding, follows=())
        yield from _all(finding.follows)
