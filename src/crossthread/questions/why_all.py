"""Why do any of the pairs that should work not: the smallest set of repairs that mends them all."""

from __future__ import annotations

from collections.abc import Callable
from itertools import islice

import msgspec

from crossthread.answer import Answer
from crossthread.collector import copies_let_go, held_still
from crossthread.diagnosis.context import Context, context_of
from crossthread.diagnosis.effects import find_effects
from crossthread.diagnosis.expected.unread_hosts import anybody_unread
from crossthread.diagnosis.findings import Finding, Identity
from crossthread.diagnosis.repair.both_versions import merge_versions
from crossthread.diagnosis.repair.confidences import with_confidence
from crossthread.diagnosis.repair.facts import told_apart
from crossthread.diagnosis.repair.harm.harmless import together_harmless
from crossthread.diagnosis.repair.mends import under_causes
from crossthread.diagnosis.repair.proof import in_order
from crossthread.diagnosis.repair.steps import wakes
from crossthread.diagnosis.repair.together import carrying_all, made_of, mended_by, namers_last, takes_back
from crossthread.diagnosis.repair.undecided import decided_mends
from crossthread.diagnosis.repair.unmended import without_orphans
from crossthread.diagnosis.repair.withheld import grounded
from crossthread.diagnosis.repair.work_order import WorkStep, central, work_order
from crossthread.diagnosis.rules.plan import plan_host
from crossthread.diagnosis.wanted_pairs import Share, Tally, Wanted
from crossthread.network.given import of_network
from crossthread.network.hosts.station import HostStation
from crossthread.network.network import Network
from crossthread.network.topology.names import End
from crossthread.plan import Plan
from crossthread.survey.changes import Change, merge_changes
from crossthread.values import NONE
from crossthread.views.class_matrix import Echoes


class Mend(msgspec.Struct, frozen=True):
    """A repair that is needed.

    Attributes
    ----------
    finding
        What it mends.
    pairs
        How many more of the wanted pairs fail, or are not known to work, if all is mended but this.
    after
        How many work once this and all mends before it are done.
    """

    finding: Finding
    pairs: int
    after: Share


class WhyAll(Answer, frozen=True):
    """What stands in the way of all pairs that should work.

    Attributes
    ----------
    now, then
        How many of the wanted pairs work, and how many would.
    mends
        The repairs, those that hold up most pairs first.
    unmended
        Faults for which no repair can be worked out.
    repair, order
        The changes of all mends, and the same as a work order.
    seat
        The device by which the engineer is connected.
    """

    ROWS = "mends"
    now: Share
    then: Share
    mends: tuple[Mend, ...]
    unmended: tuple[Finding, ...]
    repair: tuple[Change, ...]
    order: tuple[WorkStep, ...]
    seat: str | None = None


@of_network
def why_all(
    network: Network, plan: Plan | None = None, seat: str | None = None, progress: Callable[[], None] = lambda: None
) -> WhyAll:
    """Ask for all pairs that should work at once, and keep only the repairs without which some would still fail.

    Parameters
    ----------
    network
        A network, a survey, or the place of one: a folder, or a `.json` or `.json.gz` file.
    plan
        What was intended; without it, hosts of one subnet should reach each other, and hosts of subnets that have
        gateways.
    seat
        The device by which the engineer is connected, for the order of the work.
    progress
        Called again and again while it works, for a progress bar.

    Returns
    -------
    WhyAll
        How many pairs work and would work, the repairs that are needed, and the work.

    Raises
    ------
    SurveyError
        If a place was given and no survey can be read there.

    Examples
    --------
    >>> from crossthread.demo import faulty, healthy
    >>> why_all(faulty()).then.part
    1.0
    """
    context = context_of(network, plan)
    with held_still():
        found = _by_each_version(context, lambda one: [e.finding for e in find_effects(one, progress).effects])
        with copies_let_go() as let_go:

            def tried() -> None:
                progress()
                let_go()

            return _every(context, found, seat, tried)


_ROUNDS, _FEW = 3, 20
"""How often it is looked again what is wrong once the rest is mended, and of how many hosts that are not as planned."""


def _every(context: Context, found: list[Finding], seat: str | None, tried: Callable[[], None]) -> WhyAll:
    network = context.network
    told_only = [finding for finding in found if not finding.repair]
    unread = network.unread.anywhere or context.once(anybody_unread)
    doubted = {finding.identity for finding in told_only if unread}  # whoever was not read decides it then as well
    for _ in range(_ROUNDS):
        trial = _Trial(context, found, tried)
        kept, weight, best = trial.needed()
        seen = _seen_then(context, kept) if best.works + best.unknown < best.wanted else {}
        sound = grounded(context, seen.values()) if unread else seen.values()
        fresh = {one.identity: one for one in sound if one.repair and one.identity not in doubted}
        if not fresh:
            break
        found = [*(one for one in found if one.identity not in fresh), *fresh.values()]
    withheld = [one for one in together_harmless(context, kept) if not one.repair]
    kept = [one for one in kept if all(one.identity != other.identity for other in withheld)]
    kept = [one for one in without_orphans(context, kept) if one.repair]
    kept = namers_last(sorted(kept, key=lambda finding: -weight[id(finding)]))
    mends, now = [], trial.share([])
    sure = carrying_all(kept) if network.twin is not None else with_confidence(context, carrying_all(kept))
    named = told_apart(network.survey, sure)
    for number, (finding, told) in enumerate(zip(kept, named, strict=True), 1):
        mends.append(Mend(told, weight[id(finding)], trial.share(kept[:number])))
    kept = carrying_all(kept)
    order = work_order(network, kept, None, seat)
    repair = in_order(merge_changes(change for finding in kept for change in finding.repair), order)
    after = mends[-1].after if mends else now
    mended = {finding.identity for finding in kept}  # one that was only told may be plain once the rest is mended
    left = [one for one in told_only if one.identity not in mended and after.works < after.wanted]
    unmended = told_apart(network.survey, (*left, *withheld))
    return WhyAll(now, after, tuple(mends), unmended, repair, order, seat or central(network))


def _by_each_version(context: Context, seen: Callable[[Context], list[Finding]]) -> list[Finding]:
    """What is seen of a network, with the mends that are decided; of IPv6 as well, if any host has addresses of both.

    How sure each mend is only its own version tells.
    """

    def decided(one: Context) -> list[Finding]:
        return under_causes(one, decided_mends(one, seen(one)))

    if (twin := context.network.twin) is None or context.network.version == 6:
        return decided(context)
    both = (with_confidence(one, decided(one)) for one in (context, context_of(twin, context.plan)))
    return merge_versions(*both)


def _seen_then(context: Context, mended: list[Finding]) -> dict[Identity, Finding]:
    """What is found once some findings are mended, and can be without taking that back.

    What could not be told from anything else before may be plain then: others that were wrong speak for nothing more.
    """
    done, known = made_of(mended), {one.identity for one in mended}

    def seen(near: Context) -> list[Finding]:
        planned = (plan_host(near, entry) for entry in near.plan.hosts.values())
        otherwise = islice((one for one in planned if one is not None and one.repair), _FEW)
        return [*(effect.finding for effect in find_effects(near).effects), *otherwise]

    found = _by_each_version(context_of(mended_by(context.network, mended)[0], context.plan), seen)
    return {
        one.identity: one for one in found if one.repair and one.identity not in known and not takes_back(one, done)
    }


class _Trial:
    """What works with some of the findings mended, each set tried once."""

    def __init__(self, context: Context, found: list[Finding], tried: Callable[[], None]) -> None:
        self._network, self._found, self._tried = context.network, found, tried
        self._mends = [finding for finding in found if finding.repair]
        self._wanted = Wanted(_settled(context, self._mends))
        self._woken = _woken(context, self._mends)
        self._echoes, self._known = Echoes(context.network), dict[frozenset[int], Tally]()

    def share(self, mended: list[Finding]) -> Share:
        """What works with some findings mended; the network without those that only wake hosts is tried once."""
        woken = self._woken
        key = frozenset(id(one) for one in mended if id(one) not in woken)
        if key not in self._known:
            done = [one for one in self._found if id(one) in key or id(one) in woken]
            self._known[key] = self._tally(done)
            self._tried()  # by now nothing holds the copy any more, so that it can be let go
        return self._known[key].share({name for one in woken.keys() - set(map(id, mended)) for name in woken[one]})

    def _tally(self, done: list[Finding]) -> Tally:
        echoes = self._echoes.after(mended_by(self._network, done)[0]) if done else self._echoes
        return self._wanted.tally(echoes.matrix)

    def needed(self) -> tuple[list[Finding], dict[int, int], Share]:
        """The findings of which none can be left unmended, how many pairs each holds up, and what works then."""
        kept, weight = list(self._mends), dict[int, int]()
        best = self.share(kept)
        for finding in self._mends:
            rest = [other for other in kept if other is not finding]
            without = self.share(rest)
            if _is_as_good(without, best):
                kept, best = rest, without
            else:
                fail, failed = (share.wanted - share.works - share.unknown for share in (without, best))
                weight[id(finding)] = max(best.works - without.works, fail - failed)
        return kept, weight, best


def _settled(context: Context, mends: list[Finding]) -> Context:
    """The network in which every host is where it belongs: whoever has a wrong address is to reach others than now."""
    changes = (change for finding in mends for change in finding.repair)
    if not any(change.table == "hosts" and "address" in change.cells for change in changes):
        return context
    return context_of(mended_by(context.network, mends)[0], context.plan)


def _is_as_good(one: Share, other: Share) -> bool:
    """Whether more pairs work, or as many and no more fail: a mend may bring some just so far that nobody knows it."""
    return (one.works, one.works + one.unknown) >= (other.works, other.works + other.unknown)


def _woken(context: Context, findings: list[Finding]) -> dict[int, list[str]]:
    """The hosts that a mend only switches on, plugs in, lets in or gives an address, by the finding.

    Such a host reaches nobody as things are, and who else reaches whom does not depend on it: so it need not be tried
    with each other mend whether it is needed.
    """
    stations, found = context.network.stations, dict[int, list[str]]()
    if context.network.twin is not None:  # it may be heard by its other address
        return found
    shared, taken = stations.by_address.shared, set[str]()
    for finding in findings:
        ends = [End(str(c.key["device"]), str(c.key["port"])) for c in finding.repair if c.table == "ports"]
        given = {str(c.key["host"]).casefold(): _address(c) for c in finding.repair if c.table == "hosts"}
        hosts = {name: stations.hosts[name] for name in given}
        hosts |= {host.name.casefold(): host for end in ends for host in context.hosts_at(end)}
        plain = all(map(context.at_edge, ends)) and all(wakes(c) or _address(c) for c in finding.repair)
        new = {ip for ip in given.values() if ip}
        own = {str(host.ip) for name, host in hosts.items() if not given.get(name)}
        alone = not new & taken and not any(ip in stations.by_address for ip in new) and not own & shared
        if plain and alone and hosts and all(_silent(host, given.get(name)) for name, host in hosts.items()):
            found[id(finding)] = [host.name for host in hosts.values()]
            taken |= new
    return found


def _address(change: Change) -> str | None:
    """The address that a change gives to a host, if it gives no more than that and a gateway."""
    if change.table != "hosts" or change.delete or not set(change.cells) <= {"address", "gateway"}:
        return None
    return str(change.cells.get("address") or "").partition("/")[0] or None


def _silent(host: HostStation, given: str | None) -> bool:
    """Whether nobody hears a host, nor can: it has no link, its port lets nothing in, or it has no address yet."""
    if given is not None:
        return host.row.address == NONE
    shut = host.up is False or not any(tap.enters.possible or tap.beyond or not tap.device for tap in host.taps)
    return shut and host.ip is not None
