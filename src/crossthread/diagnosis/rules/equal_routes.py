"""Findings about routes that are as good as each other (RFC 2992), where packets arrive by some of them only."""

from __future__ import annotations

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.findings import Finding, Subject
from crossthread.diagnosis.registry import rule
from crossthread.diagnosis.way.stops import told
from crossthread.network.routing.routes import Choice
from crossthread.network.routing.walks import Fork
from crossthread.survey.survey import Evidence


@rule("routes-uneven", "Gateway and routing")
def routes_uneven(context: Context, fork: Fork, back: bool = False) -> Finding:
    """A device has several routes to a subnet that are as good, and by one of them packets do not arrive.

    Matters: it chooses by sender and receiver, so that of two pairs one works and the other does not, or each by turns.
    Notice: some reach the subnet and others beside them do not; some connections to one server work, others do not.
    Confirm: look which next hops the device lists for the subnet; ping from it by each of them.
    Mend: mend the way of the one by which they do not arrive, or take that route away.
    """
    good, bad = fork.arriving, fork.failing
    stops = told(fork.stop, back)
    return Finding(
        "routes-uneven",
        "risks",
        (Subject(device=fork.station.device),),
        f"{fork.station.device} has {_ways(good, bad)} that are as good as each other: by {_by(good)} packets arrive, "
        f"by {_by(bad)} they do not" + (f" ({stops})." if stops else "."),
        tuple(fact for way in (good, bad) for fact in _evidence(context, way)),
    )


def _ways(good: Choice, bad: Choice) -> str:
    prefixes = dict.fromkeys(way.route.prefix for way in (good, bad) if way.route is not None)
    own = good.interface.address
    return (
        f"routes to {' and '.join(prefixes)}" if prefixes else f"interfaces in {own.network if own else 'one subnet'}"
    )


def _by(way: Choice) -> str:
    return str(way.next_hop) if way.next_hop is not None else way.interface.name


def _evidence(context: Context, way: Choice) -> tuple[Evidence, ...]:
    if way.route is None:
        return context.evidence(way.interface.row, "address", "vid")
    return context.evidence(way.route, "next_hop", "metric")
