"""Two surveys of one campus, before and after: what is new, gone and changed, and whether it is better now."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from typing import Literal

import msgspec

from crossthread.answer import Answer
from crossthread.collector import held_still
from crossthread.diagnosis.context import context_of
from crossthread.diagnosis.findings import Finding
from crossthread.diagnosis.repair.harm.side_effects import Pairs, changed_pairs
from crossthread.diagnosis.wanted_pairs import Share, Wanted
from crossthread.network.given import Given, network_of, of_network
from crossthread.network.network import Network
from crossthread.plan import Plan
from crossthread.questions.check import check
from crossthread.survey.carried_out import Done, carried_out
from crossthread.survey.changes import Change
from crossthread.views.class_matrix import class_matrix
from crossthread.views.differences import Part, Rose, cables, counters, hosts, part_of, trees

_TABLES = ("devices", "ports", "vlans", "gateways", "routes", "filters")
Outcome = Literal["better", "worse", "same", "different"]


class Progress(msgspec.Struct, frozen=True):
    """A change that was planned, and whether it was made: in part, or otherwise than planned."""

    change: Change
    done: Done


class FoundAgain(msgspec.Struct, frozen=True):
    """The findings that are gone, new, and left."""

    gone: tuple[Finding, ...]
    new: tuple[Finding, ...]
    left: tuple[Finding, ...]


class PairsChanged(msgspec.Struct, frozen=True):
    """The ordered pairs of hosts that start to work, that stop, and of which what is known changes."""

    fixed: Pairs
    broken: Pairs
    unsure: Pairs


class Comparison(Answer, frozen=True):
    """What differs between two surveys.

    Attributes
    ----------
    outcome, because
        Whether it is better, worse, the same, or only different, and why.
    devices, links, ports, vlans, trees, gateways, routes, filters, hosts
        What is new, gone and changed. A link that has another end is changed, a host that has another name and the
        same MAC address, too; of trees, whose root moved and which ports changed their part.
    counters
        What was counted more since.
    findings, pairs
        By `check`, and by who reaches whom.
    wanted
        How many of the pairs that should work do, before and after.
    repair
        Of a planned repair, what was made of it.
    """

    ROWS = "repair"
    outcome: Outcome
    because: str
    devices: Part
    links: Part
    ports: Part
    vlans: Part
    trees: Part
    gateways: Part
    routes: Part
    filters: Part
    hosts: Part
    counters: tuple[Rose, ...]
    findings: FoundAgain
    pairs: PairsChanged
    wanted: tuple[Share, Share]
    repair: tuple[Progress, ...] = ()

    @property
    def differs(self) -> bool:
        """Whether anything is otherwise than before."""
        return any(
            (
                self.devices,
                self.links,
                self.ports,
                self.vlans,
                self.trees,
                self.gateways,
                self.routes,
                self.filters,
                self.hosts,
                self.findings.gone,
                self.findings.new,
            )
        )


@of_network
def compare(before: Network, after: Given, plan: Plan | None = None, repair: Sequence[Change] = ()) -> Comparison:
    """Compare a survey with a later one of the same campus.

    Parameters
    ----------
    before, after
        Networks, surveys, or the places of such: folders, or `.json` or `.json.gz` files.
    plan
        What was intended; None to compare each with itself.
    repair
        The changes that were planned, to see which were made.

    Returns
    -------
    Comparison
        What is new, gone and changed, findings and pairs among it, and whether it is better now.

    Raises
    ------
    SurveyError
        If a place was given and no survey can be read there.

    Examples
    --------
    >>> from crossthread.demo import faulty, healthy
    >>> compare(faulty(), healthy()).outcome
    'better'
    """
    with held_still():
        return _compare(before, network_of(after), plan, repair)


def _compare(before: Network, after: Network, plan: Plan | None, repair: Sequence[Change]) -> Comparison:
    parts = {table: part_of(before.told, after.told, table) for table in _TABLES}
    first, then = (list(_all(check(network, plan).findings)) for network in (before, after))
    known, now = ({finding.identity for finding in found} for found in (first, then))
    findings = FoundAgain(
        tuple(f for f in first if f.identity not in now),
        tuple(f for f in then if f.identity not in known),
        tuple(f for f in then if f.identity in known),
    )
    matrices = class_matrix(before), class_matrix(after)
    gained, lost, unsure = changed_pairs(*matrices)
    wanted = Wanted(context_of(before, plan))
    shares = wanted.share(matrices[0]), wanted.share(matrices[1])
    outcome, because = _outcome(findings, gained, lost, shares, any(parts.values()))
    return Comparison(
        outcome=outcome,
        because=because,
        links=cables(before, after),
        trees=trees(before, after),
        hosts=hosts(before.told, after.told),
        counters=tuple(counters(before.told, after.told)),
        findings=findings,
        pairs=PairsChanged(gained, lost, unsure),
        wanted=shares,
        repair=tuple(Progress(change, carried_out(change, before.told, after.told)) for change in repair),
        **parts,
    )


def _outcome(
    findings: FoundAgain, gained: Pairs, lost: Pairs, shares: tuple[Share, Share], moved: bool
) -> tuple[Outcome, str]:
    """Better or worse: first by the pairs, then by what breaks and what is at risk."""
    told = [
        f"{len(gained)} pairs of hosts work that did not" if len(gained) != 1 else "1 pair of hosts works that did not"
    ]
    told = told if gained else []
    told += [f"{len(lost)} that did work no more" if len(lost) != 1 else "1 that did works no more"] if lost else []
    heavy = [sum(f.severity != "note" for f in found) for found in (findings.gone, findings.new)]
    told += [f"{heavy[0]} findings are gone" if heavy[0] != 1 else "1 finding is gone"] if heavy[0] else []
    told += [f"{heavy[1]} are new" if heavy[1] != 1 else "1 is new"] if heavy[1] else []
    balance = (shares[1].works - shares[0].works, len(gained) - len(lost), heavy[0] - heavy[1])
    if any(balance):
        sign = next(number for number in balance if number)
        return ("better" if sign > 0 else "worse"), "; ".join(told)
    if gained or lost or findings.gone or findings.new or moved:
        return "different", "; ".join(told) or "no pair of hosts and no finding changed"
    return "same", "nothing that was read differs"


def _all(findings: Iterable[Finding]) -> Iterator[Finding]:
    for finding in findings:
        yield msgspec.structs.replace(finding, follows=())
        yield from _all(finding.follows)
