"""A tree before and after some changes."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping, Sequence

import msgspec

from crossthread.answer import Answer
from crossthread.diagnosis.context import Context, context_of
from crossthread.network.given import of_network
from crossthread.network.hosts.hosts import Members
from crossthread.network.network import Network
from crossthread.network.routing.forwarding import Forwarding
from crossthread.network.three_valued import Truth
from crossthread.survey.changes import Change
from crossthread.views.tree import TreePortAnswer, tree


class MovedPort(msgspec.Struct, frozen=True):
    """A port whose role or state changes, and because of what."""

    device: str
    port: str
    before: str
    after: str
    because: str


class TreeChange(Answer, frozen=True):
    """What some changes do to a tree: the root, the ports that move, the hosts that lose or gain their gateway."""

    ROWS = "moved"
    instance: int
    root_before: str | None
    root_after: str | None
    moved: tuple[MovedPort, ...]
    cut: tuple[str, ...]
    mended: tuple[str, ...]


@of_network
def tree_change(network: Network, instance: int, changes: Sequence[Change]) -> TreeChange:
    """Compute an instance on a copy with some changes made, and compare.

    Parameters
    ----------
    network
        A network, a survey, or the place of one: a folder, or a `.json` or `.json.gz` file.
    instance
        The tree's number.
    changes
        The changes, in their order.

    Returns
    -------
    TreeChange
        The root before and after, the ports that move, and the hosts that lose or gain their gateway.

    Raises
    ------
    SurveyError
        For a change that the format does not know, or a place without a survey.

    Examples
    --------
    >>> from crossthread.demo import faulty, healthy
    >>> from crossthread import Change, tree_change
    >>> lower = Change("trees", {"device": "core-west", "instance": 0}, {"priority": 0})
    >>> tree_change(healthy(), 0, [lower]).root_after
    'core-west'
    """
    contexts = context_of(network), context_of(network.changed(changes))
    return compare_trees(*contexts, instance, hosts_cut(*contexts))


Cut = tuple[tuple[str, ...], tuple[str, ...]]
"""The hosts that lose their gateway, and those that gain it."""


def compare_trees(before: Context, after: Context, instance: int, cut: Cut) -> TreeChange:
    """Compare one instance in two networks; `cut` is the same for all instances."""
    trees = [context.tree(instance) for context in (before, after)]
    known, then = ({(p.device, p.port): p for p in answer.ports} for answer in trees)
    differ = [key for key in sorted({*known, *then}) if _does(known.get(key)) != _does(then.get(key))]
    said = {(p.device, p.port): p.because for p in tree(after.network, instance).ports} if differ else {}
    moved = [
        MovedPort(*key, _does(known.get(key)), _does(then.get(key)), said.get(key, "the link is gone"))
        for key in differ
    ]
    return TreeChange(instance, trees[0].root, trees[1].root, tuple(moved), *cut)


def _does(port: TreePortAnswer | None) -> str:
    return "none" if port is None else f"{port.role}, {port.state}"


def hosts_cut(before: Context, after: Context) -> Cut:
    """The hosts that lose their gateway from one network to another, and those that gain it."""
    heard: list[dict[Truth, list[Members]]] = []
    for context in (before, after):
        network, forwarding = context.network, Forwarding(context.network)
        found: dict[Truth, list[Members]] = defaultdict(list)
        for one in network.classes.all:
            gateway = next(iter(context.expected.gateways(one.hosts[0])), None)
            if gateway is not None:
                found[forwarding.resolves(one.hosts[0], gateway)].append(one.hosts)
        heard.append(found)
    return _from_true_to_false(*heard), _from_true_to_false(*reversed(heard))


def _from_true_to_false(
    first: Mapping[Truth, Sequence[Members]], second: Mapping[Truth, Sequence[Members]]
) -> tuple[str, ...]:
    """The hosts that hear their gateway in the first, and surely do not in the second, in the order of the first."""
    silent = {name for hosts in second.get(False, ()) for name in hosts.names}
    return tuple(name for hosts in first.get(True, ()) for name in hosts.names if name in silent) if silent else ()
