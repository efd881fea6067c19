"""Who reaches whom: every ordered pair of hosts."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Sequence
from itertools import permutations

import msgspec

from crossthread.answer import Answer
from crossthread.network.given import of_network
from crossthread.network.hosts.ends import find_end, find_ends
from crossthread.network.hosts.station import HostStation, Station
from crossthread.network.network import Network
from crossthread.network.routing.forwarding import Forwarding
from crossthread.network.three_valued import VERDICTS, Truth, Verdict


class Matrix(Answer, frozen=True):
    """The verdict on every ordered pair of hosts: `works`, `fails` or `unknown`."""

    ROWS = "reaches"
    COLUMNS = ("from", "to", "verdict")
    hosts: tuple[str, ...]
    reaches: tuple[tuple[str, str, Verdict], ...]
    ip_versions: tuple[int | None, ...]
    """Of each host's address; hosts of different versions have no kind of address in common."""


@of_network
def matrix(network: Network, progress: Callable[[], None] | None = None) -> Matrix:
    """Decide every ordered pair of hosts.

    Parameters
    ----------
    network
        A network, a survey, or the place of one: a folder, or a `.json` or `.json.gz` file.
    progress
        Called again and again while it works, for a progress bar.

    Returns
    -------
    Matrix
        A verdict for every ordered pair: `works`, `fails` or `unknown`.

    Raises
    ------
    SurveyError
        If a place was given and no survey can be read there.

    Notes
    -----
    An echo from A to B and one from B to A need the same two packets, so each pair is walked once; unless packet
    filters tell an echo from a reply.

    Examples
    --------
    >>> from crossthread.demo import faulty, healthy
    >>> matrix(healthy()).reaches[0]
    ('ticket-desk-1', 'ticket-desk-2', 'works')
    """
    forwarding = Forwarding(network)
    hosts: list[Station] = list(network.stations.hosts.values())
    echoes: dict[tuple[int, int], Truth] = {}
    for one, source in enumerate(hosts):
        for two in range(one):
            echoes[one, two], echoes[two, one] = _both(network, forwarding, source, hosts[two])
        if progress is not None:
            progress()
    places = range(len(hosts))
    reaches = [(hosts[a].name, hosts[b].name, VERDICTS[echoes[a, b]]) for a in places for b in places if a != b]
    versions = tuple(host.address.version if host.address else None for host in hosts)
    return Matrix(tuple(host.name for host in hosts), tuple(reaches), versions)


@of_network
def matrix_among(network: Network, things: Sequence[str]) -> Matrix:
    """Decide every ordered pair of some things that have an address.

    Parameters
    ----------
    network
        A network, a survey, or the place of one: a folder, or a `.json` or `.json.gz` file.
    things
        Hosts, interfaces, devices or addresses; see `why`.

    Returns
    -------
    Matrix
        A verdict for every ordered pair; a device sends from the interface that is nearest to the other.

    Raises
    ------
    SurveyError
        If a place was given and no survey can be read there.
    UnknownNameError
        If there is nothing of a name or address, or two are one.

    Examples
    --------
    >>> from crossthread.demo import healthy
    >>> matrix_among(healthy(), ["core-east", "galley", "shop-till"]).reaches[0]
    ('core-east', 'galley', 'works')
    """
    forwarding = Forwarding(network)
    reaches = []
    for one, two in permutations(things, 2):
        source, target = find_ends(network, one, two)
        hosts = isinstance(source, HostStation) and isinstance(target, HostStation)
        found = (forwarding.echo if hosts else forwarding.echo_alone)(source, target)
        reaches.append((one, two, VERDICTS[found]))
    found_ends = [find_end(network, thing) for thing in things]
    addresses = [end.address if isinstance(end, Station) else None for end in found_ends]
    return Matrix(tuple(things), tuple(reaches), tuple(ip.version if ip else None for ip in addresses))


def _both(network: Network, forwarding: Forwarding, one: Station, two: Station) -> tuple[Truth, Truth]:
    """Whether an echo of one host to another and its reply arrive, and the other way round."""
    there = forwarding.echo(one, two)
    return there, forwarding.echo(two, one) if network.filters.used else there


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
    forwarding = Forwarding(network)
    classes = network.classes.all
    echoes: dict[tuple[int, int], Truth] = {}
    firsts = [one.hosts[0] for one in classes]
    for one, near in enumerate(classes):
        for two in range(one):
            echoes[one, two], echoes[two, one] = _both(network, forwarding, firsts[one], firsts[two])
        if len(near.hosts) > 1:
            echoes[one, one] = forwarding.echo(*near.hosts[:2])
        if progress is not None:
            progress()
    reaches = []
    pairs = dict.fromkeys(VERDICTS.values(), 0)
    places = range(len(classes))
    for one, two in ((a, b) for a in places for b in places if (a, b) in echoes):
        verdict = VERDICTS[echoes[one, two]]
        reaches.append((one, two, verdict))
        count = len(classes[one].hosts)
        pairs[verdict] += count * (len(classes[two].hosts) - (one == two))
    names = tuple(one.hosts.names for one in classes)
    return ClassMatrix(names, tuple(reaches), pairs)


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
