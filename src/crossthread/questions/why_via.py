"""Why do two hosts not talk by way of a certain device, and what would make them."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec

from crossthread.diagnosis.context import context_of
from crossthread.diagnosis.repair.facts import told_apart
from crossthread.diagnosis.repair.harm.harmless import harmless
from crossthread.diagnosis.repair.proof import prove
from crossthread.diagnosis.repair.tree_costs import opened
from crossthread.diagnosis.search.cheapest_way import Search
from crossthread.diagnosis.way.echo import luck, walks
from crossthread.diagnosis.way.faults import with_faults
from crossthread.errors import UnknownNameError, visible
from crossthread.network.given import of_network
from crossthread.network.hosts.ends import end_named
from crossthread.network.network import Network
from crossthread.network.routing.walks import Leg
from crossthread.plan import Plan
from crossthread.questions.why import focused, how_sure, why
from crossthread.questions.why_answer import Why
from crossthread.views.way import Hop, path_of


@of_network
def why_via(
    network: Network, source: str, target: str, device: str, seat: str | None = None, plan: Plan | None = None
) -> Why:
    """The same as `why`, for packets that are to pass `device` on their way there and back.

    Parameters
    ----------
    network
        A network, a survey, or the place of one: a folder, or a `.json` or `.json.gz` file.
    source, target
        Two different hosts.
    device
        What the packets are to pass, on their way there and back.
    seat, plan
        As for `why`.

    Returns
    -------
    Why
        As for `why`, with what would let the packets go that way.

    Raises
    ------
    SurveyError
        If a place was given and no survey can be read there.
    UnknownNameError
        If there is no such host or device.

    Examples
    --------
    >>> from crossthread.demo import faulty, healthy
    >>> why_via(healthy(), "plank-saw", "camera-recorder", "core-east").via
    'core-east'
    """
    wanted = network.names.device(device)
    if wanted is None:
        raise UnknownNameError(f"there is no device “{visible(device)}” in this survey")
    answer = why(network, source, target, seat, plan)
    if answer.verdict == "unknown" or (_passes(answer.path, wanted) and _passes(answer.path_back, wanted)):
        return msgspec.structs.replace(answer, via=wanted)
    network = focused(network, answer.source, answer.target)
    mended = network.mended(answer.repair)
    context = context_of(mended, plan)
    there, back = walks(mended, answer.source, answer.target)
    ways = [
        way for leg in there.legs if (way := context.once(Search).through(leg.sender, leg.receiver, wanted)) is not None
    ]
    found = list(min(ways, key=lambda way: way.cost).findings) if ways else []
    extra = [opened(context, finding) for finding in found]
    whole, pair, seat = context_of(network, plan), (answer.source, answer.target), answer.seat or seat
    findings = [*answer.findings, *extra]
    done = prove(whole, findings, pair, seat)
    costs, doubtful = done.costs.stops, done.costs.doubtful
    if costs or doubtful:
        findings = harmless(whole, findings, told=True)
        done = prove(whole, findings, pair, seat)
    final, (there, back) = done.after, done.walked
    path = with_faults(path_of(final, end_named(final, answer.source), there), findings)
    path_back = with_faults(path_of(final, end_named(final, answer.target), back), findings, back=True)
    now = ", ".join(_by(leg) for leg in there.legs)
    return msgspec.structs.replace(
        answer,
        verdict="fails",
        findings=told_apart(network.survey, findings),
        repair=done.repair,
        repair_proven=done.proven and _passes(path, wanted) and _passes(path_back, wanted),
        confidence="open" if costs else how_sure(findings, done),
        costs=costs,
        luck=done.costs.luck,
        then=luck(context_of(final, plan), there, back, path, path_back) if done.proven else (),
        doubtful=doubtful,
        unsure=done.costs.unsure,
        path=path,
        path_back=path_back,
        stopped=answer.stopped or f"packets go another way than by {wanted}" + (f": {now}" if not done.order else ""),
        order=done.order,
        via=wanted,
    )


def _passes(path: Sequence[Hop], device: str) -> bool:
    return any(hop.name == device and hop.kind != "host" for hop in path)


def _by(leg: Leg) -> str:
    return f"{leg.sender.name} to {leg.receiver.name}"
