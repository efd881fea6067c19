"""The way frames really go: detours that the tree makes, links that nothing uses, and what fails if one thing does."""

from __future__ import annotations

from collections.abc import Callable

from crossthread.answer import Answer
from crossthread.diagnosis.context import context_of
from crossthread.diagnosis.detours import Detour, bridge_links, find_detours
from crossthread.diagnosis.failures import Failures, Loss
from crossthread.errors import UnknownNameError, visible
from crossthread.network.given import of_network
from crossthread.network.network import Network
from crossthread.network.topology.adjacency import Adjacency
from crossthread.network.topology.names import End


class TreeFailure(Answer, frozen=True):
    """What is lost if a link or a device fails: VLANs that fall apart, hosts that lose their gateway or their peers."""

    what: str
    kind: str
    vlans: tuple[int, ...]
    hosts: tuple[str, ...]
    moved: int
    """How many ports of other bridges change between forwarding and discarding."""
    reformed: tuple[str, ...] = ()
    """How the trees form anew, port by port, where that was asked for."""


class TreeWays(Answer, frozen=True):
    """Detours, links that carry no VLAN's data at all, and single points of failure, the worst first."""

    ROWS = "failures"
    detours: tuple[Detour, ...]
    idle: tuple[str, ...]
    failures: tuple[TreeFailure, ...]


@of_network
def tree_ways(network: Network, progress: Callable[[], None] = lambda: None, failing: bool = True) -> TreeWays:
    """Look at the way of every VLAN's hosts to their gateway, and let each link and each device fail in turn.

    Parameters
    ----------
    network
        A network, a survey, or the place of one: a folder, or a `.json` or `.json.gz` file.
    progress
        Called again and again while it works, for a progress bar.
    failing
        Whether to let each link and device fail in turn, which takes longest.

    Returns
    -------
    TreeWays
        Detours, links that carry nothing, and what is lost if one thing fails, the worst first.

    Raises
    ------
    SurveyError
        If a place was given and no survey can be read there.

    Examples
    --------
    >>> from crossthread.demo import faulty, healthy
    >>> tree_ways(healthy(), failing=False).failures
    ()
    """
    context = context_of(network)
    detours = tuple(sorted(find_detours(context), key=lambda d: (-d.hosts * (d.hops - d.shortest), d.vid, d.device)))
    idle = tuple(_name(a) for a in bridge_links(network) if a.up is not False and not network.components.carried(a))
    failures: list[TreeFailure] = []
    if failing:
        trial = Failures(context)
        for adjacency in network.adjacencies:
            if adjacency.up is not False:
                failures.append(_failure(_name(adjacency), "link", trial.without([adjacency])))
                progress()
        for device in sorted({a.a.device for a in network.adjacencies} | {a.b.device for a in network.adjacencies}):
            failures.append(_failure(device, "device", trial.without(trial.at[device], device)))
            progress()
    lost = [failure for failure in failures if failure.hosts or failure.vlans]
    return TreeWays(detours, idle, tuple(sorted(lost, key=lambda f: (-len(f.hosts), -len(f.vlans), f.kind, f.what))))


def _name(adjacency: Adjacency) -> str:
    return f"{adjacency.a} – {adjacency.b}"


def _failure(what: str, kind: str, loss: Loss) -> TreeFailure:
    return TreeFailure(what, kind, *loss)


@of_network
def failure_of(network: Network, text: str) -> TreeFailure:
    """What is lost without one thing: a device by its name, or the link at DEVICE:PORT.

    Parameters
    ----------
    network
        A network, a survey, or the place of one: a folder, or a `.json` or `.json.gz` file.
    text
        A device by its name, or a link as `DEVICE:PORT`.

    Returns
    -------
    TreeFailure
        The VLANs that fall apart, and the hosts that lose their gateway or their peers.

    Raises
    ------
    SurveyError
        If a place was given and no survey can be read there.
    UnknownNameError
        If there is no such device or link.

    Examples
    --------
    >>> from crossthread.demo import faulty, healthy
    >>> from crossthread import tree_without
    >>> "foghorn-exhibit" in tree_without(healthy(), "ropehall").hosts
    True
    """
    context = context_of(network)
    trial = Failures(context)
    device = network.names.device(text)
    if device is not None:
        return _failure(device, "device", trial.without(trial.at[device], device))
    name, _, port = text.partition(":")
    known = network.names.device(name)
    end = End(known, network.names.port(known, port) or port) if known else None
    faced = [a for a in network.adjacencies if end in (a.a, a.b) or any(end in (k.a, k.b) for k in a.links)]
    if end is None or not faced:
        raise UnknownNameError(f"there is no device and no link “{visible(text)}”; expected DEVICE or DEVICE:PORT")
    return _failure(_name(faced[0]), "link", trial.without(faced[:1]))
