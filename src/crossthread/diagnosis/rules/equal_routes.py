"""Findings about routes that are as good as each other (RFC 2992), where packets arrive by some of them only."""

from __future__ import annotations

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.findings import Finding, Subject
from crossthread.diagnosis.registry import rule
from crossthread.diagnosis.way.stops import told
from crossthread.network.routing.walks import Fork
from crossthread.survey.records import Route
from crossthread.values import NONE


@rule("routes-uneven", "Gateway and routing")
def routes_uneven(context: Context, fork: Fork, back: bool = False) -> Finding | None:
    """A device has several routes to a subnet that are as good, and by one of them packets do not arrive.

    Matters: it chooses by sender and receiver, so that of two pairs one works and the other does not, or each by turns.
    Notice: some reach the subnet and others beside them do not; some connections to one server work, others do not.
    Confirm: look which next hops the device lists for the subnet; ping from it by each of them.
    Mend: mend the way of the one by which they do not arrive, or take that route away.
    """
    good, bad = fork.arriving.route, fork.failing.route
    if good is None or bad is None:
        return None
    stops = told(fork.stop, back)
    return Finding(
        "routes-uneven",
        "risks",
        (Subject(device=fork.station.device),),
        f"{fork.station.device} has routes to {_places(good, bad)} that are as good as each other: by {_by(good)} "
        f"packets arrive, by {_by(bad)} they do not" + (f" ({stops})." if stops else "."),
        context.evidence(good, "next_hop", "metric") + context.evidence(bad, "next_hop", "metric"),
    )


def _places(good: Route, bad: Route) -> str:
    return good.prefix if good.prefix == bad.prefix else f"{good.prefix} and {bad.prefix}"


def _by(row: Route) -> str:
    return row.next_hop if row.next_hop and row.next_hop != NONE else str(row.interface)
