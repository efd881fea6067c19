"""Who reaches whom: every ordered pair of hosts."""

from __future__ import annotations

from collections.abc import Callable

import msgspec

from crossthread.network.forwarding import Forwarding
from crossthread.network.network import Network
from crossthread.network.stations import Station
from crossthread.network.truth import Truth, all_of
from crossthread.questions.why import VERDICTS


class Matrix(msgspec.Struct, frozen=True):
    """The verdict on every ordered pair of hosts: `works`, `fails` or `unknown`."""

    hosts: tuple[str, ...]
    reaches: tuple[tuple[str, str, str], ...]
    ip_versions: tuple[int | None, ...]
    """Of each host's address; hosts of different versions have no kind of address in common."""


def matrix(network: Network, progress: Callable[[], None] | None = None) -> Matrix:
    """Decide every ordered pair of hosts.

    Parameters
    ----------
    network
        The network as it is.
    progress
        Called once for each host done.

    Notes
    -----
    An echo from A to B and one from B to A need the same two packets, so each packet is walked once.
    """
    forwarding = Forwarding(network)
    hosts: list[Station] = list(network.stations.hosts.values())
    arrives: dict[tuple[int, int], Truth] = {}
    for one, source in enumerate(hosts):
        for two, target in enumerate(hosts):
            if one != two:
                arrives[one, two] = forwarding.send(source, target).arrives
        if progress is not None:
            progress()
    reaches = []
    for (one, two), there in arrives.items():
        verdict = VERDICTS[all_of((there, arrives[two, one]))]
        reaches.append((hosts[one].name, hosts[two].name, verdict))
    versions = tuple(host.address.version if host.address else None for host in hosts)
    return Matrix(tuple(host.name for host in hosts), tuple(reaches), versions)


class ClassMatrix(msgspec.Struct, frozen=True):
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

    classes: tuple[tuple[str, ...], ...]
    reaches: tuple[tuple[int, int, str], ...]
    pairs: dict[str, int]


def class_matrix(network: Network, progress: Callable[[], None] | None = None) -> ClassMatrix:
    """Decide every ordered pair of classes: the whole matrix in compact form, quick for a campus of many hosts.

    Parameters
    ----------
    network
        The network as it is.
    progress
        Called once for each class done.
    """
    forwarding = Forwarding(network)
    classes = network.classes.all
    arrives: dict[tuple[int, int], Truth] = {}
    for one, near in enumerate(classes):
        for two, far in enumerate(classes):
            if one != two:
                arrives[one, two] = forwarding.send(near.hosts[0], far.hosts[0]).arrives
            elif len(near.hosts) > 1:
                first, second = near.hosts[:2]
                arrives[one, one] = all_of(
                    (forwarding.send(a, b).arrives for a, b in ((first, second), (second, first)))
                )
        if progress is not None:
            progress()
    reaches = []
    pairs = dict.fromkeys(VERDICTS.values(), 0)
    for (one, two), there in arrives.items():
        verdict = VERDICTS[all_of((there, arrives[two, one]))]
        reaches.append((one, two, verdict))
        count = len(classes[one].hosts)
        pairs[verdict] += count * (len(classes[two].hosts) - (one == two))
    names = tuple(tuple(host.name for host in one.hosts) for one in classes)
    return ClassMatrix(names, tuple(reaches), pairs)
