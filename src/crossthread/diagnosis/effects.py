"""What faults do: for every class of hosts whom it should reach and does not, and the faults that stand in the way.

Faults hide behind each other. So what is found is mended on a copy, and those pairs that still fail are asked again,
until nothing fails or nothing more is found.
"""

from __future__ import annotations

from collections.abc import Callable, Container, Iterable, Iterator, Mapping
from typing import NamedTuple

import msgspec

from crossthread.diagnosis.asked_pairs import Asker, as_judged
from crossthread.diagnosis.context import Context
from crossthread.diagnosis.findings import Finding
from crossthread.diagnosis.repair.doubts import PLACES
from crossthread.diagnosis.repair.harm.harmless import each_harmless
from crossthread.diagnosis.repair.mends import mend
from crossthread.diagnosis.repair.together import Cell, leads_to_any, made_of, mended_by, moved_within, takes_back
from crossthread.diagnosis.repair.withheld import grounded, told_only
from crossthread.diagnosis.rules.between_hosts import discards_together
from crossthread.diagnosis.rules.routing import OF_ROUTES, routes_missing
from crossthread.diagnosis.unknown.missing import first_gap
from crossthread.diagnosis.wants import Want, find_wants, rank
from crossthread.network.hosts.classes import HostClass
from crossthread.network.hosts.station import HostStation
from crossthread.network.routing.forwarding import Forwarding
from crossthread.survey.survey import Evidence
from crossthread.values import NONE

_ROUNDS = 8
_TOGETHER = {**dict.fromkeys(OF_ROUTES, routes_missing), "route-discards": discards_together}
"""What makes one finding of several of a rule that are about one device."""


class Effect:
    """A finding, the classes of hosts that lose by it, and the first pair that showed it."""

    def __init__(self, finding: Finding, want: Want, example: tuple[str, str]) -> None:
        self.finding, self.want, self.example = finding, want, example
        self._classes: dict[tuple[str, int], HostClass] = {}

    def add(self, losers: Iterable[HostClass]) -> None:
        """Count some more classes among those that lose."""
        self._classes.update(((one.hosts[0].name, len(one.hosts)), one) for one in losers)

    def told(self) -> Finding:
        """The finding with what it affects."""
        names = dict.fromkeys(host.name for one in self._classes.values() for host in one.hosts[:_NAMED])
        count = len(set[int]().union(*(one.hosts.numbers for one in self._classes.values())))
        return msgspec.structs.replace(
            self.finding, severity="breaks", affected=count, affects=tuple(names)[:_NAMED], example=self.example
        )


_NAMED = 50


class Effects(NamedTuple):
    """Faults in the way of some pair, observations that some verdict turned on, and pairs that should not reach."""

    effects: list[Effect]
    gaps: list[tuple[Evidence, tuple[str, str]]]
    forbidden: list[tuple[str, str, tuple[int, int]]]
    uneven: list[Finding]
    """What stands in the way by one of several routes that are as good."""
    mended: Context
    """The network with everything that is mended."""


def find_effects(context: Context, progress: Callable[[], None] = lambda: None) -> Effects:
    """Ask of every class of hosts whether it reaches peers, gateway and other subnets, and explain what fails."""
    wants = list(find_wants(context))
    found: dict[object, Effect] = {}
    unsettled: dict[tuple[str, str, str], tuple[Evidence, tuple[str, str]]] = {}
    mended: dict[Cell, object] = {}
    uneven: list[Finding] = []
    now, waiting, made = context, dict[object, Finding](), set[object]()
    for number in range(_ROUNDS):
        failing, fresh = list[Want](), list[Finding]()
        asker = Asker(now, context)
        for want in wants:
            progress()
            verdict, walks = asker.ask(want)
            if verdict is None and not number:
                uneven += asker.uneven(want, walks)
                fact = first_gap(now, walks)
                if fact is not None and (fact.value is None or fact.table != "hosts"):  # else it is a finding by itself
                    unsettled.setdefault((fact.table, str(fact.key), fact.column), (fact, asker.example(want)))
            if verdict is not False:
                continue
            failing.append(want)
            for single, told in asker.explained(want, walks):
                finding = as_judged(context, told, now)
                _give_up(told, finding, made, found, waiting)
                if finding.identity not in found and takes_back(finding, mended):
                    fresh += _as_trunk(found, finding)
                    continue  # else it would take back what mended another fault
                known = found.get(finding.identity)
                if known is None:
                    found[finding.identity] = Effect(finding, single, asker.example(single))
                    fresh.append(finding)
                elif finding.rule in _TOGETHER and not set(map(str, finding.repair)) <= set(
                    map(str, known.finding.repair)
                ):
                    known.finding = _TOGETHER[finding.rule](known.finding, finding)
                    fresh.append(finding)
                elif waiting.get(finding.identity, finding).repair != finding.repair or _is_answered(known, finding):
                    known.finding = finding  # such as another address
                    fresh.append(finding)
                found[finding.identity].add(single.losers)
        resting = grounded(now, fresh)
        sound = each_harmless(now, resting)  # nothing more is told because of a mend that does harm
        harmful = [one for one, kept in zip(resting, sound, strict=True) if one.repair and not kept.repair]
        sound += [finding for one in harmful for finding in _instead(now, found, found[one.identity])]
        waiting |= {finding.identity: finding for finding in sound if finding.repair}
        if not waiting:
            break
        gone = moved_within(waiting.values())  # who is to use such an address is told another one once it has moved
        network, done = mended_by(now.network, [one for one in waiting.values() if not leads_to_any(one, gone)])
        for finding in done:
            del waiting[finding.identity]
            made.add(finding.identity)
        if not done:
            break
        mended |= made_of(done)
        now = Context(network, context.plan)
        wants = list(_of_each_kind(now, _still_wanted(now, failing, done), done))
    for identity in waiting:  # what cannot be made beside the others is only told
        found[identity].finding = told_only(found[identity].finding)
    needed = _not_idle(Asker(now, context), found, made)
    return Effects(needed, list(unsettled.values()), list(_forbidden(context)), uneven, now)


def _as_trunk(found: Mapping[object, Effect], needed: Finding) -> Iterator[Finding]:
    """The finding that gave the access ports of a link one VLAN, with a trunk, now that others turn out to need it."""
    ends = {str(change.key) for change in needed.repair if change.cells.get("mode") == "trunk"}
    for effect in found.values():
        aligned = effect.finding.rule == "link-access-vlan-differs" and effect.finding.repair
        if aligned and ends.issuperset(str(change.key) for change in aligned):
            effect.finding = msgspec.structs.replace(effect.finding, repair=needed.repair)
            yield effect.finding


def _is_answered(known: Effect, finding: Finding) -> bool:
    """Whether what nothing was known to mend is mended somehow, now that something else is."""
    return bool(finding.repair) and not known.finding.repair and not known.finding.alternatives


def _give_up(
    told: Finding, finding: Finding, made: set[object], found: dict[object, Effect], waiting: dict[object, Finding]
) -> None:
    """Forget what was found before and not mended yet, if by what is mended since another explanation is likelier."""
    if finding.identity != told.identity and told.identity not in made:
        found.pop(told.identity, None)
        waiting.pop(told.identity, None)


def _instead(context: Context, found: dict[object, Effect], harmful: Effect) -> list[Finding]:
    """What lets a pair talk whose mend would stop others: the best explanation as a whole, if that stops nobody."""
    mends = mend(context, *harmful.example) if harmful.finding.rule not in PLACES else []
    told = each_harmless(context, grounded(context, mends))
    if any(not one.repair or one.repair == harmful.finding.repair for one in told):
        return []
    fresh = [
        finding for finding in told if finding.identity not in found or finding.identity == harmful.finding.identity
    ]
    for finding in fresh:
        effect = found.setdefault(finding.identity, Effect(finding, harmful.want, harmful.example))
        effect.finding = finding
        effect.add(harmful.want.losers)
    return fresh


def _not_idle(asker: Asker, found: Mapping[object, Effect], made: Container[object]) -> list[Effect]:
    """Those that are mended, and of the others those whose pair does not work by the mends of all that are.

    What such a pair was to be mended by was only one way round what is wrong.
    """
    return [
        one
        for identity, one in found.items()
        if identity in made or not one.finding.repair or asker.ask(one.want)[0] is not True
    ]


def _of_each_kind(context: Context, wants: Iterable[Want], mended: Iterable[Finding]) -> Iterator[Want]:
    """The same, for a host of each class that one falls into with what was mended, as of a VLAN that was nowhere."""
    divided = any(change.table == "vlans" for finding in mended for change in finding.repair)
    for want in wants:
        yield want
        if not divided:
            continue
        classes = context.network.classes
        names = want.losers[0].hosts.names if len(want.losers) == 1 else ()
        kinds = {id(classes.of(name)): name for name in reversed(names)} if len(names) > 1 else {}
        kinds.pop(id(classes.of(want.one)), None)
        yield from (Want(name, want.other, want.losers) for name in kinds.values() if name != want.other)


def _still_wanted(context: Context, failing: list[Want], mended: Iterable[Finding]) -> list[Want]:
    """What failed, without hosts that were to reach each other only by an address that one of them has no longer."""
    moved = {
        str(change.key["host"]).casefold()
        for finding in mended
        for change in finding.repair
        if change.table == "hosts" and "address" in change.cells
    }
    hosts, expected = context.network.stations.hosts, context.expected

    def routed(host: HostStation) -> bool:
        return bool(expected.gateways(host)) or host.row.gateway not in (None, NONE)

    def apart(want: Want) -> bool:
        if want.other is None or moved.isdisjoint({want.one.casefold(), want.other.casefold()}):
            return False
        pair = hosts[want.one.casefold()], hosts[want.other.casefold()]
        one, two = (subnet.network if (subnet := expected.subnet(host)) is not None else None for host in pair)
        return one != two and not all(map(routed, pair))

    return [want for want in failing if not apart(want)] if moved else failing


def _forbidden(context: Context) -> Iterator[tuple[str, str, tuple[int, int]]]:
    """Pairs of hosts that reach each other though the plan keeps their VLANs apart."""
    if not context.plan.talk:
        return
    forwarding = Forwarding(context.network)
    mains: dict[int, HostClass] = {}
    for one in context.network.classes.all:
        vid = context.expected.vlan(one.hosts[0])
        if vid is not None and one.block is not None and (vid not in mains or rank(one) > rank(mains[vid])):
            mains[vid] = one
    for one_vid, one in mains.items():
        for two_vid, two in mains.items():
            apart = one_vid < two_vid and not context.plan.may_talk(one_vid, two_vid)
            if apart and forwarding.echo(one.hosts[0], two.hosts[0]):
                yield one.hosts[0].name, two.hosts[0].name, (one_vid, two_vid)
