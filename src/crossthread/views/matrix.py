"""Who reaches whom: every ordered pair of hosts."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from itertools import permutations

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
            echoes[one, two], echoes[two, one] = both(network, forwarding, source, hosts[two])
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


def both(network: Network, forwarding: Forwarding, one: Station, two: Station) -> tuple[Truth, Truth]:
    """Whether an echo of one host to another and its reply arrive, and the other way round."""
    there = forwarding.echo(one, two)
    return there, forwarding.echo(two, one) if network.filters.used else there
