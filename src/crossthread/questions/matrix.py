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
