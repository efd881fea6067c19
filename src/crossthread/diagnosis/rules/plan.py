"""Findings about the plan and the inventory: what is not as intended, and what is not alike."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Iterator
from datetime import date
from ipaddress import ip_address, ip_network

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.edits import set_gateway, set_host
from crossthread.diagnosis.findings import Finding, Subject
from crossthread.diagnosis.registry import About, rule
from crossthread.network.hosts.station import HostStation
from crossthread.plan.plan import Accepted, PlannedHost, PlannedVlan
from crossthread.survey.changes import Change
from crossthread.survey.records import Device
from crossthread.survey.survey import Evidence
from crossthread.values import VlanSet

_MOST = 3
"""How many have to agree, at least, for it to be said of most."""


@rule("software-mixed", "Plan and inventory", About.CAMPUS)
def software_mixed(context: Context) -> Iterator[Finding]:
    """Devices of one platform run different software.

    Matters: they may behave differently, and a fault that was mended in one version is still in the other.
    Notice: nothing.
    Confirm: read the software version on the devices that are named.
    Mend: bring the odd ones to the version that the others run.
    """
    by_platform: dict[str, list[Device]] = defaultdict(list)
    for row in context.network.survey.devices:
        if row.platform and row.software:
            by_platform[row.platform].append(row)
    for platform, rows in by_platform.items():
        usual, many = Counter(row.software for row in rows).most_common(1)[0]
        odd = [row for row in rows if row.software != usual]
        if not odd:
            continue
        most = many >= _MOST and 2 * many > len(rows)
        odd = odd if most else rows
        listed = ", ".join(f"{row.device} ({row.software})" for row in odd[:5])
        more = f" and {len(odd) - 5} more" if len(odd) > 5 else ""
        says = f"Most devices of {platform} run {usual}, but not {listed}{more}."
        says = says if most else f"Devices of {platform} run different software: {listed}{more}."
        yield Finding(
            "software-mixed",
            "note",
            tuple(Subject(device=row.device) for row in odd),
            says,
            tuple(fact for row in odd[:5] for fact in context.evidence(row, "software")),
        )


@rule("plan-differs", "Plan and inventory", About.PLANNED_HOST)
def plan_host(context: Context, entry: PlannedHost) -> Finding | None:
    """A host's address or gateway is not as planned, or the host was not seen at all.

    Matters: whoever looks for it where the plan has it does not find it.
    Notice: the host is not reached at its planned address.
    Confirm: list the host's addresses and its default route.
    Mend: set the host as planned, or correct the plan.
    """
    host = context.network.stations.hosts.get(entry.host.casefold())
    key = {"hosts": entry.host}
    if host is None:
        says = f"{entry.host} is planned, but not in the survey."
        return Finding("plan-differs", "note", (Subject(host=entry.host),), says, context.plan.evidence(entry, key))
    cells: dict[str, object] = {}
    evidence: tuple[Evidence, ...] = ()
    for word in ("address", "gateway"):
        wanted, found = getattr(entry, word), getattr(host.row, word)
        if wanted is not None and found is not None and wanted != found:
            cells[word] = wanted
            evidence += context.evidence(host.row, word) + context.plan.evidence(entry, key, word)
    if not cells:
        return None
    parts = "; ".join(f"{word} {getattr(host.row, word)}, planned {wanted}" for word, wanted in cells.items())
    says = f"{host.name} is not as planned: {parts}."
    return Finding("plan-differs", "risks", (Subject(host=host.name),), says, evidence, (set_host(host, **cells),))


@rule("plan-differs", "Plan and inventory", About.CAMPUS)
def plan_vlans(context: Context) -> Iterator[Finding]:
    """A planned VLAN is nowhere, a VLAN in use is in no plan, or nobody has a planned gateway's address.

    Matters: the plan and the network speak of different things.
    Notice: depends on what differs.
    Confirm: list the VLANs and the gateways of the devices.
    Mend: make the VLAN or the gateway as planned, or correct the plan.
    """
    plan, used = context.plan, context.used_vlans
    known = VlanSet(context.network.fabric.known)
    for vid, entry in plan.vlans.items():
        key = {"vlans": vid}
        if vid not in known:
            says = f"VLAN {vid} is planned, but on no device, port or interface."
            yield Finding("plan-differs", "note", (Subject(vid=vid),), says, plan.evidence(entry, key))
        for own in entry.gateways or ():
            if not any(not isinstance(s, HostStation) for s in context.network.stations.by_address.of(own)):
                says = f"{own} is planned as a gateway of VLAN {vid}, but no interface has it."
                evidence, mend = plan.evidence(entry, key, "gateways"), _in_its_place(context, entry, own)
                yield Finding("gateway-missing", "risks", (Subject(vid=vid),), says, evidence, mend)
    if plan.vlans:
        for vid in used - VlanSet.of(plan.vlans):
            says = f"VLAN {vid} has hosts or gateways, but the plan does not know it."
            yield Finding("plan-differs", "note", (Subject(vid=vid),), says, ())


def _in_its_place(context: Context, entry: PlannedVlan, own: str) -> tuple[Change, ...]:
    """Give a planned address to the one interface in its planned subnet that has an address which is not planned."""
    subnet = next((subnet for subnet in map(ip_network, entry.subnets or ()) if ip_address(own) in subnet), None)
    if subnet is None or context.network.unread.anywhere:
        return ()
    there = [(s, str(s.address.ip)) for s in context.network.stations.gateways if s.address and s.address.ip in subnet]
    odd = [station for station, held in there if context.plan.served_at(held) is None]
    return (set_gateway(odd[0], address=f"{own}/{subnet.prefixlen}"),) if len(odd) == 1 else ()


@rule("plan-differs", "Plan and inventory", About.CAMPUS)
def plan_trees(context: Context) -> Iterator[Finding]:
    """A device runs another spanning-tree protocol than the plan has for all.

    Matters: protocols that do not understand each other fall back to the slowest, or do not see each other's loops.
    Notice: the network takes long to recover from a broken cable.
    Confirm: look at the device's spanning-tree protocol.
    Mend: set the planned protocol, at a quiet hour.
    """
    wanted = context.plan.settings.tree
    seen = set()
    for row in context.network.survey.trees:
        if wanted is None or row.protocol in (None, wanted) or row.device in seen:
            continue
        seen.add(row.device)
        evidence = context.evidence(row, "protocol") + context.plan.evidence(
            context.plan.settings, {"settings": "tree"}, "tree"
        )
        says = f"{row.device} runs the spanning-tree protocol {row.protocol}, where {wanted} is planned for all."
        yield Finding("plan-differs", "risks", (Subject(device=row.device),), says, evidence)


@rule("plan-differs", "Plan and inventory")
def plan_talk(context: Context, one: str, two: str, vids: tuple[int, int]) -> Finding:
    """Hosts of two VLANs reach each other though the plan says that they may not.

    Matters: what was to be kept apart is not.
    Notice: nothing.
    Confirm: send an echo from a host of the one VLAN to a host of the other.
    Mend: take away the route or the interface that joins them, or filter between them; or correct the plan.
    """
    says = f"{one} (VLAN {vids[0]}) reaches {two} (VLAN {vids[1]}), though the plan keeps these VLANs apart."
    entry = next(
        entry
        for entry in reversed(context.plan.talk)
        if (vids[0] in entry.vlans and vids[1] in entry.others) or (vids[1] in entry.vlans and vids[0] in entry.others)
    )
    evidence = context.plan.evidence(entry, {"talk": f"{entry.vlans} / {entry.others}"}, "may")
    return Finding("plan-differs", "risks", tuple(Subject(vid=vid) for vid in vids), says, evidence)


@rule("plan-differs", "Plan and inventory")
def acceptance_idle(context: Context, entry: Accepted, today: date) -> Finding:
    """The plan accepts a finding that is no longer there, or accepted it until a day that is past.

    Matters: a list of exceptions that nobody clears hides the next fault of the same kind.
    Notice: nothing.
    Confirm: look at the entry in the plan.
    Mend: remove the entry, or give it a new day.
    """
    what = f"{entry.rule}" + (f" at {entry.subject}" if entry.subject else "")
    late = entry.until is not None and entry.until < today
    says = f"The plan accepted {what} until {entry.until}." if late else f"The plan accepts {what}, which is not found."
    evidence = context.plan.evidence(entry, {"accept": what}, "reason", "until")
    return Finding("plan-differs", "note", (), says, evidence)
