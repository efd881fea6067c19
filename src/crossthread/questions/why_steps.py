"""The practitioner's ladder: which ping is the first that fails, from either end, one step further each time."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import msgspec

from crossthread.answer import Answer
from crossthread.network.given import of_network
from crossthread.network.hosts.ends import end_named, find_end
from crossthread.network.hosts.station import HostStation, Station
from crossthread.network.network import Network
from crossthread.network.routing.forwarding import Forwarding
from crossthread.network.three_valued import VERDICTS, Verdict
from crossthread.plan import Plan
from crossthread.questions.why import why
from crossthread.views.way import Hop


class Rung(msgspec.Struct, frozen=True):
    """One ping of the ladder.

    Attributes
    ----------
    what
        What it is to who pings: own gateway, its other leg, next device, far gateway, far end.
    name, address
        Who is pinged, and at which address.
    verdict
        Whether the answer comes.
    """

    what: str
    name: str
    address: str | None
    verdict: Verdict


class WhySteps(Answer, frozen=True, rename={"source": "from", "target": "to"}):
    """The ladder from each end to the other, nearest first.

    Attributes
    ----------
    there, back
        The rungs as seen from `source`, and from `target`.
    breaks, breaks_back
        The first rung from which no answer comes; None if all answer.
    """

    ROWS = "there"
    source: str
    target: str
    there: tuple[Rung, ...]
    back: tuple[Rung, ...]
    breaks: Rung | None = None
    breaks_back: Rung | None = None


@of_network
def why_steps(network: Network, source: str, target: str, plan: Plan | None = None) -> WhySteps:
    """Ping step by step from both ends: own gateway, its other leg, next device, far gateway, far end.

    Parameters
    ----------
    network
        A network, a survey, or the place of one: a folder, or a `.json` or `.json.gz` file.
    source, target
        Two different ones of what has an address; see `why`.
    plan
        What was intended: it decides which way is meant where that is broken.

    Returns
    -------
    WhySteps
        The rungs in both directions, and the first of each from which no answer comes.

    Raises
    ------
    SurveyError
        If a place was given and no survey can be read there.
    UnknownNameError
        If there is nothing of that name or address, or the two are one.

    Examples
    --------
    >>> from crossthread.demo import faulty, healthy
    >>> why_steps(faulty(), "ticket-desk-1", "camera-recorder").breaks.what
    'far gateway'
    """
    answer = why(network, source, target, plan=plan)
    there = tuple(_ladder(network, answer.source, answer.target, answer.path))
    back = tuple(_ladder(network, answer.target, answer.source, answer.path_back))
    first, last = (next((rung for rung in rungs if rung.verdict != "works"), None) for rungs in (there, back))
    return WhySteps(answer.source, answer.target, there, back, first, last)


def _ladder(network: Network, source: str, target: str, path: Sequence[Hop]) -> Iterator[Rung]:
    """The rungs along a way that leads to the end, whatever of it works now."""
    forwarding, one, two = Forwarding(network), end_named(network, source), end_named(network, target)
    legs = [hop for hop in path if hop.kind == "gateway" and f"{hop.name} {hop.interface}" not in (source, target)]
    own = next((hop.name for hop in legs), None)
    far = legs[-1].name if legs else None
    seen: set[str] = set()
    for number, hop in enumerate(legs):
        station = find_end(network, f"{hop.name} {hop.interface}")
        if not isinstance(station, Station) or f"{hop.name} {hop.interface}" in seen:
            continue
        seen.add(f"{hop.name} {hop.interface}")
        if not number:
            what = "own gateway"
        elif hop.name == own:
            what = "gateway's other leg"
        else:
            what = "far gateway" if hop.name == far else "next device"
        yield _rung(forwarding, what, f"{hop.name} {hop.interface}", one, station)
    yield _rung(forwarding, "far end", target, one, two)


def _rung(forwarding: Forwarding, what: str, name: str, one: Station, two: Station) -> Rung:
    own = two.address.ip if two.address is not None else None
    if isinstance(one, HostStation) and isinstance(two, HostStation):
        verdict = forwarding.echo(one, two)
    else:
        verdict = forwarding.echo_alone(one, two)
    return Rung(what, name, str(own) if own is not None else None, VERDICTS[verdict])
