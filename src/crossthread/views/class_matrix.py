"""Who reaches whom, by classes of hosts that the network cannot tell apart; and again after changes."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterator
from itertools import islice

import msgspec

from crossthread.answer import Answer
from crossthread.network.given import of_network
from crossthread.network.hosts.classes import HostClass
from crossthread.network.network import Network
from crossthread.network.routing.forwarding import Forwarding
from crossthread.network.three_valued import VERDICTS, Truth, Verdict
from crossthread.views.matrix import both


class ClassMatrix(Answer, frozen=True):
    """The verdicts between classes of hosts that the network cannot tell apart.

    Attributes
    ----------
    classes
        The hosts of each class.
    reaches
        From a class, to a class, by their numbers from 0, and the verdict; from a class to itself if it has several
        hosts.
    pairs
        How many ordered pairs of hosts have each verdict.
    """

    ROWS = "reaches"
    COLUMNS = ("from", "to", "verdict")
    classes: tuple[tuple[str, ...], ...]
    reaches: tuple[tuple[int, int, Verdict], ...]
    pairs: dict[Verdict, int]


@of_network
def class_matrix(network: Network, progress: Callable[[], None] | None = None) -> ClassMatrix:
    """Decide every ordered pair of classes: the whole matrix in compact form, quick for a campus of many hosts.

    Parameters
    ----------
    network
        A network, a survey, or the place of one: a folder, or a `.json` or `.json.gz` file.
    progress
        Called again and again while it works, for a progress bar.

    Returns
    -------
    ClassMatrix
        The classes of hosts, and a verdict for every ordered pair of them.

    Raises
    ------
    SurveyError
        If a place was given and no survey can be read there.

    Examples
    --------
    >>> from crossthread.demo import faulty, healthy
    >>> class_matrix(healthy()).pairs["works"]
    508
    """
    return Echoes(network, progress).matrix


class Echoes:
    """Whether classes of hosts reach each other, kept so that for a changed copy only what may differ is asked again.

    Parameters
    ----------
    network
        The network.
    progress
        Called again and again while it works.
    before
        The same of the network that this one may be a copy of.
    """

    def __init__(
        self, network: Network, progress: Callable[[], None] | None = None, before: Echoes | None = None
    ) -> None:
        self._network = network
        self._found: dict[tuple[int, int], Truth] = {}
        self._take_over(before)
        forwarding: Forwarding | None = None
        classes = network.classes.all
        for one, near in enumerate(classes):
            for two in range(one):
                if (one, two) not in self._found:
                    forwarding = forwarding or Forwarding(network)
                    far = classes[two].hosts[0]
                    self._found[one, two], self._found[two, one] = both(network, forwarding, near.hosts[0], far)
            if len(near.hosts) > 1 and (one, one) not in self._found:
                forwarding = forwarding or Forwarding(network)
                self._found[one, one] = forwarding.echo(*near.hosts[:2])
            if progress is not None:
                progress()
        self.matrix = self._matrix(before)

    def after(self, copy: Network) -> Echoes:
        """The same of a network with some changes."""
        return Echoes(copy, before=self)

    def _take_over(self, before: Echoes | None) -> None:
        """Two hosts of which neither was moved reach each other if they did before, and so do their classes."""
        moved = self._network.moved if before is not None else None
        if before is None or moved is None or moved[0] is not before._network:
            return
        known, old = before._found, before._network.classes
        unmoved: list[list[int]] = []
        """Of each class the classes that two of its hosts were in, of those that were not moved."""
        for one in self._network.classes.all:
            stayed = islice((n for n in one.hosts.numbers if n not in moved[1]), 2)
            unmoved.append([old.place(n) for n in stayed])
        for here, near in enumerate(unmoved):
            for there, far in enumerate(unmoved):
                if near and far and (here != there or len(near) > 1):
                    self._found[here, there] = known[near[0], far[-1] if here == there else far[0]]

    def _matrix(self, before: Echoes | None) -> ClassMatrix:
        classes = self._network.classes.all
        reaches = []
        pairs = dict.fromkeys(VERDICTS.values(), 0)
        places = range(len(classes))
        for one, two in ((a, b) for a in places for b in places if (a, b) in self._found):
            verdict = VERDICTS[self._found[one, two]]
            reaches.append((one, two, verdict))
            count = len(classes[one].hosts)
            pairs[verdict] += count * (len(classes[two].hosts) - (one == two))
        return ClassMatrix(tuple(self._names(before)), tuple(reaches), pairs)

    def _names(self, before: Echoes | None) -> Iterator[tuple[str, ...]]:
        """The names of each class's hosts: the very same ones as before, if they are."""
        hosts = self._network.stations.hosts
        known: dict[int, tuple[HostClass, tuple[str, ...]]] = {}
        if before is not None and before._network.stations.hosts.spelled is hosts.spelled:
            pairs = zip(before._network.classes.all, before.matrix.classes, strict=True)
            known = {one.hosts.numbers[0]: (one, names) for one, names in pairs}
        for one in self._network.classes.all:
            old, names = known.get(one.hosts.numbers[0], (None, ()))
            yield names if old is not None and old.hosts.numbers == one.hosts.numbers else one.hosts.names


class Touch(msgspec.Struct, frozen=True):
    """What a step does to everybody: how many ordered pairs of hosts start to work and stop to, and which hosts."""

    gain: int
    lose: int
    gaining: tuple[str, ...]
    losing: tuple[str, ...]


def compare_classes(before: ClassMatrix, after: ClassMatrix) -> Touch:
    """Compare two matrices by classes; the classes of either are divided by the other's."""
    places = [{name: n for n, names in enumerate(m.classes) for name in names} for m in (before, after)]
    parts: dict[tuple[int, int], list[str]] = defaultdict(list)
    for name, n in places[0].items():
        if name in places[1]:
            parts[n, places[1][name]].append(name)
    works = [{(a, b) for a, b, verdict in m.reaches if verdict == "works"} for m in (before, after)]
    counts, names = [0, 0], (dict[str, None](), dict[str, None]())
    for (old, new), members in parts.items():
        for (far_old, far_new), others in parts.items():
            had, has = (old, far_old) in works[0], (new, far_new) in works[1]
            if had != has:
                pairs = len(members) * (len(others) - ((old, new) == (far_old, far_new)))
                counts[had] += pairs
                if pairs:
                    names[had].update(dict.fromkeys((*members, *others)))
    return Touch(counts[0], counts[1], tuple(names[0]), tuple(names[1]))
