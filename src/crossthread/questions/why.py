"""Why do two hosts not talk: the verdict, every fault on the way there and back, the mend, the way."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec

from crossthread.diagnosis.context import Context, context_of
from crossthread.diagnosis.expected.islands import apart
from crossthread.diagnosis.findings import Confidence, Finding
from crossthread.diagnosis.judgement.confidence import confidence, confidence_of, rivals
from crossthread.diagnosis.meanings import meaning
from crossthread.diagnosis.relevant_rows import focus
from crossthread.diagnosis.repair.answered_twice import answered_twice
from crossthread.diagnosis.repair.facts import told_apart
from crossthread.diagnosis.repair.harm.harmless import harmless
from crossthread.diagnosis.repair.mends import mend
from crossthread.diagnosis.repair.proof import Proof, prove
from crossthread.diagnosis.repair.together import changes_of
from crossthread.diagnosis.repair.unmended import without_orphans
from crossthread.diagnosis.repair.withheld import decided, told_only
from crossthread.diagnosis.repair.work_order import central
from crossthread.diagnosis.rules.host.place import learned_elsewhere
from crossthread.diagnosis.rules.routing import OF_ROUTES
from crossthread.diagnosis.unknown.likely import by_equal_routes, likely
from crossthread.diagnosis.unknown.looking import looks
from crossthread.diagnosis.unknown.missing import gaps
from crossthread.diagnosis.unknown.observations import fewest
from crossthread.diagnosis.unknown.outlook import how_far, how_it_turns, how_it_turns_beyond, how_it_turns_by_place
from crossthread.diagnosis.way.caveats import caveats
from crossthread.diagnosis.way.echo import luck, walks
from crossthread.diagnosis.way.faults import along, with_faults
from crossthread.diagnosis.way.stops import stopped, unproven
from crossthread.errors import SurveyError, UnknownNameError, visible
from crossthread.network.families import whole
from crossthread.network.given import of_network
from crossthread.network.hosts.ends import end_name, end_named, find_ends, is_nobody
from crossthread.network.hosts.station import HostStation, Station
from crossthread.network.network import Network
from crossthread.network.routing.walks import Walk
from crossthread.network.three_valued import VERDICTS, Truth, all_of
from crossthread.plan import Plan
from crossthread.questions.why_answer import Family, Why
from crossthread.survey.changes import Change, merge_changes
from crossthread.survey.survey import Evidence
from crossthread.views.way import path_of


@of_network
def why(network: Network, source: str, target: str, seat: str | None = None, plan: Plan | None = None) -> Why:
    """Walk an echo from one host to another and the reply back, and say what stands in the way.

    Where a walk is stopped, the fault is noted, mended on a copy of the survey, and the whole echo walked again, until
    it passes. What turned out not to be needed for that is left out of the answer.

    Parameters
    ----------
    network
        A network, a survey, or the place of one: a folder, or a `.json` or `.json.gz` file.
    source, target
        Two different ones of what has an address: hosts by name, IP address or MAC address; interfaces as
        `device interface` or by their address; devices by name; an address of a known subnet that nobody has.
    seat
        The device by which the engineer is connected, for the order of the work; the most central one if not given.
    plan
        What was intended: where several repairs are equally small, what it says comes first.

    Returns
    -------
    Why
        The verdict, every fault there and back, the repair in an order that works, and the way hop by hop.

    Raises
    ------
    SurveyError
        If a place was given and no survey can be read there.
    UnknownNameError
        If there is nothing of that name or address, or the two are one.

    Examples
    --------
    >>> from crossthread.demo import faulty, healthy
    >>> answer = why(faulty(), "archive-store", "camera-recorder")
    >>> answer.verdict, answer.repair_proven
    ('fails', True)
    """
    near = focused(network, source, target) if network.told is network.survey else network
    one, two = find_ends(near, source, target)
    pair, twin = (end_name(one), end_name(two)), network.twin
    if near is not network:
        return _answer(near, *pair, seat, plan)
    if twin is None or not (isinstance(one, HostStation) and isinstance(two, HostStation)) or is_nobody(two):
        return _by_one(network, *pair, seat, plan)
    common = network.versions(one.name) & network.versions(two.name)
    if common == {6}:
        return _by_one(twin, *pair, seat, plan)
    return _by_both(network, twin, pair, seat, plan) if len(common) == 2 else _by_one(network, *pair, seat, plan)


def _by_both(network: Network, twin: Network, pair: tuple[str, str], seat: str | None, plan: Plan | None) -> Why:
    """By IPv4 first, then by IPv6 with that mended; the pair's verdict is the worse of the two."""
    first = whole(_by_one(network, *pair, seat, plan), network.told)
    mended = network.mended(first.repair).twin if first.repair else twin
    assert mended is not None
    second = whole(_by_one(mended, *pair, seat, plan), mended.told)
    alone = _by_one(twin, *pair, seat, plan) if first.repair else second
    families = (Family(4, first.verdict, first.stopped), Family(6, alone.verdict, alone.stopped))
    order = ("fails", "unknown", "works")
    lead = min((first, second), key=lambda one: order.index(one.verdict))
    findings = {(f.identity, f.says): f for one in (first, second) for f in one.findings if one.verdict != "works"}
    return msgspec.structs.replace(
        lead,
        verdict=min((family.verdict for family in families), key=order.index),
        findings=tuple(findings.values()) or lead.findings,
        repair=_one_after_the_other(first.repair, second.repair),
        repair_proven=any(one.repair for one in (first, second))
        and all(one.repair_proven or one.verdict == "works" for one in (first, second)),
        order=(*first.order, *second.order),
        costs=tuple(dict.fromkeys((*first.costs, *second.costs))),
        luck=tuple(dict.fromkeys((*first.luck, *second.luck))),
        then=tuple({f.identity: f for one in (first, second) for f in one.then}.values()),
        doubtful=tuple(dict.fromkeys((*first.doubtful, *second.doubtful))),
        unsure=tuple(dict.fromkeys((*first.unsure, *second.unsure))),
        decide=tuple(dict.fromkeys((*first.decide, *second.decide))),
        stopped=first.stopped or alone.stopped,
        caveats=tuple(dict.fromkeys((*first.caveats, *second.caveats))),
        families=families,
    )


def _one_after_the_other(first: Sequence[Change], second: Sequence[Change]) -> tuple[Change, ...]:
    """Two repairs as one; what one of them clears and sets again later is told twice still."""
    both = (*first, *second)
    return both if any(len(merge_changes(one)) < len(one) for one in (first, second)) else merge_changes(both)


def _by_one(network: Network, source: str, target: str, seat: str | None, plan: Plan | None) -> Why:
    """The answer by one version of IP."""
    answer = _answer(focused(network, source, target), source, target, seat, plan)
    if answer.verdict != "fails" or answer.repair_proven or not _apart(context_of(network, plan), source, target):
        return answer
    routes = [finding for finding in answer.findings if finding.rule in OF_ROUTES and not finding.repair]
    says = f"nothing that was read joins the networks of {source} and {target}: no cable, subnet, gateway or route"
    return msgspec.structs.replace(
        answer, findings=tuple(finding for finding in answer.findings if finding not in routes), stopped=says
    )


def _apart(context: Context, source: str, target: str) -> bool:
    """Whether two are in networks that have nothing to do with each other."""
    one, two = (end_named(context.network, name) for name in (source, target))
    return not is_nobody(two) and apart(context, one, two)


def _answer(network: Network, source: str, target: str, seat: str | None, plan: Plan | None) -> Why:
    """The answer by what stands in one network, of one version of IP, which holds what matters to the two."""
    one, two = end_named(network, source), end_named(network, target)
    seat = _seat(network, seat) if seat is not None else None
    there, back = walks(network, source, target)
    verdict = all_of((there.arrives, back.arrives))
    context = context_of(network, plan)
    if verdict:
        path, path_back = path_of(network, one, there), path_of(network, two, back)
        found = luck(context, there, back, path, path_back)
        seen = caveats(context, (there, back), (path, path_back))
        return Why(source, target, "works", found, (), False, (), path, path_back, caveats=seen)
    if verdict is None:
        return _unknown(context, (one, two), (there, back), _seat(network, seat))
    findings = mend(context, source, target) if not is_nobody(two) else []
    if any(finding.rule == "survey-gap" for finding in findings):  # what it needs may be there, where nobody read
        findings = likely(context, source, target) or findings
    seat = _seat(network, seat)
    done, mended = prove(context, findings, (source, target), seat), findings
    costs, _, doubtful, _ = done.costs
    if doubtful or costs:  # a mend that does harm is worse than none
        findings = harmless(context, findings, told=done.proven and not doubtful)
    if done.costs.luck and any(walk.arrives is False for walk in done.walked):  # some would lose, and the two not gain
        findings = harmless(context, findings, told=True, luck=True)
    kept = decided(context, findings)
    if network.unread.anywhere or kept != findings:
        findings = harmless(context, kept, told=True)  # the rest by itself must not stop anybody, either
    findings = without_orphans(context, findings)
    if changes_of(findings) != changes_of(mended):
        done = prove(context, findings, (source, target), seat)
    final, (last_there, last_back) = done.after, done.walked
    observe = _to_observe(context_of(final, plan), (source, target), (last_there, last_back), seat)
    if doubtful:  # whether they work now decides
        observe = _to_observe(context, doubtful[0], walks(network, *doubtful[0]), seat) or observe
    lost, goal = (there, target) if there.arrives is False else (back, source)
    path, path_back = (
        path_of(final, end_named(final, name), walk) for name, walk in ((source, last_there), (target, last_back))
    )
    then = luck(context_of(final, plan), last_there, last_back, path, path_back) if done.proven else ()
    findings = along(findings, path, path_back)
    return Why(
        source=source,
        target=target,
        verdict=VERDICTS[verdict],
        findings=told_apart(network.survey, findings),
        repair=done.repair,
        repair_proven=done.proven,
        confidence="open" if costs else how_sure(findings, done),
        decide=_decide(findings),
        costs=costs,
        luck=done.costs.luck,
        then=then,
        doubtful=doubtful,
        unsure=done.costs.unsure,
        observe=observe,
        look=looks(context_of(final, plan), observe),
        path=with_faults(path, findings),
        path_back=with_faults(path_back, findings, back=True),
        stopped=stopped(network, lost, goal, lost is back, is_nobody(two)),
        order=done.order,
        seat=seat,
        caveats=caveats(context_of(final, plan), (last_there, last_back), (path, path_back)),
        unproven=unproven(final, (source, target), last_there, last_back),
    )


def how_sure(findings: Sequence[Finding], done: Proof) -> Confidence:
    """How sure a repair is that may cost somebody."""
    found = confidence(findings, done.proven)
    return "likely" if found == "sure" and done.costs.unsure else found


def _unknown(context: Context, pair: tuple[Station, Station], walked: tuple[Walk, Walk], seat: str | None) -> Why:
    """What helps where the verdict is not known."""
    (one, two), (there, back), network = pair, walked, context.network
    names = end_name(one), end_name(two)
    away = [found for found in learned_elsewhere(context) if found.subjects[0].host in names]
    by_one = [told_only(one) if one.repair else one for one in by_equal_routes(context, pair, walked)]
    findings = [*away, *answered_twice(context, walked), *by_one, *likely(context, *names)]
    observe = _to_observe(context, names, walked, seat)
    open_walk, first, answers = (there, one, False) if there.arrives is None else (back, two, True)
    paths = path_of(network, one, there), path_of(network, two, back)
    return Why(
        source=names[0],
        target=names[1],
        verdict="unknown",
        findings=told_apart(network.survey, {finding.identity: finding for finding in findings}.values()),
        repair=(),
        repair_proven=False,
        observe=observe,
        path=paths[0],
        path_back=paths[1],
        confidence="likely" if any(f.severity != "note" for f in findings) else "open",
        surely=how_far(context, first, open_walk, answers),
        look=looks(context, observe, [one.beyond.end for one in network.unread.exits(first)]),
        turns=how_it_turns_by_place(context, one, two)
        or how_it_turns_beyond(context, one, two)
        or how_it_turns(context, open_walk, observe, paths[answers]),
    )


def _decide(findings: Sequence[Finding]) -> tuple[str, ...]:
    """What tells the explanations of those findings apart that are open: whom to ask, or how each is confirmed.

    Where one explanation would do without several findings, whoever can be asked about one of them decides for all.
    """
    open_ones = [f for f in findings if confidence_of(f) == "open" and f.rule != "survey-gap"]  # that says what to read
    means = [(finding, told) for finding in open_ones if (told := meaning(finding.rule)) is not None]
    asked = [other.changes for finding, told in means if told.decide for other in rivals(finding)]
    left = [told for f, told in means if told.decide or any(other.changes not in asked for other in rivals(f))]
    return tuple(dict.fromkeys(told.decide or told.confirm for told in left))


def _to_observe(
    context: Context, pair: tuple[str, str], walked: tuple[Walk, Walk], seat: str | None
) -> tuple[Evidence, ...]:
    def verdict(changes: Sequence[Change]) -> Truth:
        try:
            return all_of(walk.arrives for walk in walks(context.network.mended(changes), *pair))
        except SurveyError:
            return None  # a row of which even the key was not observed

    return fewest(context, gaps(context, walked), verdict, seat)


def _seat(network: Network, wanted: str | None) -> str | None:
    if wanted is None:
        return central(network)
    found = network.names.device(wanted)
    if found is None:
        raise UnknownNameError(f"there is no device “{visible(wanted)}” in this survey")
    return found


def focused(network: Network, source: str, target: str) -> Network:
    """The part of a large network that matters to two hosts that are given by name."""
    names = {source.strip().casefold(), target.strip().casefold()}
    rows = [row for row in network.survey.hosts if row.host.casefold() in names]
    if len(rows) != 2:
        return network
    survey = focus(network.survey, rows)
    return network if survey is network.survey else Network(survey)
