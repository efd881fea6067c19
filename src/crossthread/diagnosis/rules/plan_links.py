"""Findings about documented cables: those that are missing, not documented, or lack a planned VLAN."""

from __future__ import annotations

from collections.abc import Iterator

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.edits import carry
from crossthread.diagnosis.findings import Finding, Subject, at_port
from crossthread.diagnosis.registry import About, rule
from crossthread.network.topology.names import End
from crossthread.plan.drawing import DrawnCable
from crossthread.plan.plan import PlannedLink
from crossthread.survey.survey import Evidence
from crossthread.views.drawing import compare_drawing


@rule("plan-link-missing", "Plan and inventory", About.CAMPUS, follows="port-admin-down port-down")
@rule("plan-link-extra", "Plan and inventory")
def plan_links(context: Context) -> Iterator[Finding]:
    """A documented cable was not found, or one was found that is not documented.

    Matters: whoever pulls or follows a cable by the drawing gets the wrong one.
    Notice: nothing, until then.
    Confirm: follow the cable; read the neighbour tables at both ends.
    Mend: correct the drawing, or move the cable back.
    """
    plan = context.plan
    if not plan.links:
        return
    entries = {DrawnCable(*entry.ends): entry for entry in plan.links}
    answer = compare_drawing(context.network, entries)
    left = dict(zip(map(_known_by, entries), entries.values(), strict=True))
    for cable in answer.missing:
        yield _missing(context, cable, left, None)
    for change in answer.moved:
        yield _missing(context, change.drawn, left, change.found)
        yield _extra(context, change.found)
    for cable in answer.extra:
        yield _extra(context, cable)


def _known_by(cable: DrawnCable) -> frozenset[tuple[str, str]]:
    return frozenset({(cable.device.casefold(), cable.port), (cable.far_device.casefold(), cable.far_port)})


def _missing(
    context: Context,
    cable: DrawnCable,
    entries: dict[frozenset[tuple[str, str]], PlannedLink],
    found: DrawnCable | None,
) -> Finding:
    subjects = (Subject(cable.device, cable.port), Subject(cable.far_device, cable.far_port))
    entry = entries.get(_known_by(cable))
    evidence = context.plan.evidence(entry, {"links": str(cable)}, "ends") if entry is not None else ()
    for end in (End(cable.device, cable.port), End(cable.far_device, cable.far_port)):
        evidence += context.evidence(context.port(end), "admin", "oper")
    says = f"The planned cable {cable} was not found" + (f"; there is {found} instead." if found else ".")
    return Finding("plan-link-missing", "risks", subjects, says, evidence)


def _extra(context: Context, cable: DrawnCable) -> Finding:
    ends = (End(cable.device, cable.port), End(cable.far_device, cable.far_port))
    evidence: tuple[Evidence, ...] = ()
    for link in context.network.links:
        if {link.a, link.b} == set(ends):
            for row in (*link.seen_a[:1], *link.seen_b[:1]):
                evidence += context.evidence(row, "neighbor", "neighbor_port")
    return Finding("plan-link-extra", "note", tuple(map(at_port, ends)), f"The cable {cable} is in no plan.", evidence)


@rule("link-vlan-missing", "Link", About.PLANNED_LINK)
def plan_carries(context: Context, entry: PlannedLink) -> Finding | None:
    """A documented link does not carry a VLAN that the plan wants on it.

    Matters: the VLAN has one way less, or none, between the two devices.
    Notice: nothing while another way is open.
    Confirm: compare the allowed lists of both ends with the plan.
    Mend: allow the VLAN at both ends.
    """
    if entry.carries is None:
        return None
    lacking, evidence, repair = [], context.plan.evidence(entry, {"links": " ".join(entry.ends)}, "carries"), []
    for device, port in (entry.ends[:2], entry.ends[2:]):
        known = context.network.names.device(device) or device
        end = End(known, context.network.names.port(known, port) or port)
        row = context.port(end)
        if row is None or row.allowed is None or row.mode not in ("trunk", "hybrid"):
            continue
        short = entry.carries - row.allowed
        if short:
            lacking.append((end, short))
            evidence += context.evidence(row, "allowed")
            repair.append(carry(context, end, short))
    if not lacking:
        return None
    parts = " and ".join(f"{end} does not allow VLAN {short}" for end, short in lacking)
    subjects = tuple(at_port(end, next(iter(short))) for end, short in lacking)
    return Finding("link-vlan-missing", "risks", subjects, f"By the plan, {parts}.", evidence, tuple(repair))
