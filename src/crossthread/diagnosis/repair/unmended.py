"""What is told of a pair that no mend makes work: where it stops, what may be meant, and what is wrong besides."""

from __future__ import annotations

from collections.abc import Sequence

from crossthread.diagnosis.all_rules import standing
from crossthread.diagnosis.context import Context
from crossthread.diagnosis.findings import Finding
from crossthread.diagnosis.repair.rival_explanations import speaks_for
from crossthread.diagnosis.repair.together import (
    Named,
    addresses_given,
    adds_interface,
    changes_of,
    interfaces_named,
    named_by,
    refused,
    try_out,
)
from crossthread.diagnosis.repair.withheld import bare, told_only
from crossthread.diagnosis.rules.vlan_subnet import subnet_unrouted
from crossthread.diagnosis.way.echo import walks
from crossthread.diagnosis.way.explanations import at_its_end
from crossthread.network.hosts.ends import end_named
from crossthread.network.hosts.station import HostStation
from crossthread.survey.changes import Change, merge_changes
from crossthread.values import NONE, interface


def stops(context: Context, source: str, target: str) -> list[Finding]:
    """Where the packet stops, if nothing is known that would mend it."""
    there, back = walks(context.network, source, target)
    failed, goal = (there, target) if there.arrives is False else (back, source)
    return [at_its_end(context, failed.stop, end_named(context.network, goal))] if failed.stop is not None else []


def by_design(context: Context, findings: Sequence[Finding], pair: tuple[str, str]) -> list[Finding]:
    """What is left of an explanation that would open a subnet which nobody is known to want routed: that, and the rest.

    The rest is what is wrong as things are; what the opening would take besides is not.
    """
    hosts = [one for one in (end_named(context.network, name) for name in pair) if isinstance(one, HostStation)]
    given = [c.key if adds_interface(c) else c.cells for c in changes_of(findings) if c.table == "gateways"]
    anew = [interface(text) for cells in given if (text := str(cells.get("address") or NONE)) != NONE]
    served = [h for h in hosts if any(h.address is not None and h.address.ip in own.network for own in anew)]
    told = [unrouted for host in served if (unrouted := subnet_unrouted(context, host)) is not None]
    if not told:
        return []
    known = standing(context, findings)
    return [*(finding for finding in findings if finding.identity in known), *told]


def kept_to_itself(context: Context, pair: tuple[str, str]) -> bool:
    """Whether one of a pair is in a subnet which nobody is known to want routed: they talk only within one subnet."""
    hosts = (end_named(context.network, name) for name in pair)
    return any(isinstance(one, HostStation) and subnet_unrouted(context, one) is not None for one in hosts)


def possible(context: Context, findings: Sequence[Finding]) -> list[Finding]:
    """The same findings, without the mends that cannot be made after those before them.

    They were only noted on the way, and not weighed against others, as no way was found to its end. So if anything is
    unread, those for which little speaks are only told.
    """
    found, made = [], list[Change]()
    for finding in findings:
        together = merge_changes([*made, *finding.repair])
        after = try_out(context.network, together)
        fits = after is not None and not refused(context.network, after, together)
        doubtful = bool(finding.repair) and context.network.unread.anywhere and speaks_for(context, finding) <= 0
        made += finding.repair if fits and not doubtful else ()
        found.append(bare(finding) if not fits else told_only(finding) if doubtful else finding)
    return found


def without_orphans(context: Context, findings: Sequence[Finding]) -> list[Finding]:
    """The same findings; what names an interface by an address that no mend gives it any more is told only.

    It was found once another mend was made, which is not proposed now: by itself it would add an interface.
    """
    network, added = context.network, {named_by(change) for change in changes_of(findings) if adds_interface(change)}
    given = addresses_given(findings) | added

    def stands(named: Named) -> bool:
        device, name, address = named
        there = [s for s in network.stations.on_device.get(network.names.spelled[device], ()) if s.name == name]
        return named in given or any(s.row.address in (address, None, NONE) for s in there)

    return [one if all(map(stands, interfaces_named([one]))) else told_only(one) for one in findings]
