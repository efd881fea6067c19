"""Findings about ports that are not as planned, by themselves or as the plan has it for all."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.edits import set_port
from crossthread.diagnosis.findings import Alternative, Finding, Subject, at_port
from crossthread.diagnosis.registry import About, rule
from crossthread.network.topology.names import End
from crossthread.plan.plan import PlannedPort
from crossthread.survey.changes import Change
from crossthread.survey.records import Port
from crossthread.survey.survey import Evidence
from crossthread.values import NONE

_AS_WELL = (
    "port-vlan-wrong port-mode-wrong link-mode-differs link-access-vlan-differs link-native-differs link-mtu-differs "
    "link-tagging-differs link-vlan-missing link-speed-differs host-gateway-wrong host-gateway-missing "
    "host-mask-differs host-outside-subnet host-gateway-outside-subnet host-address-missing"
)
"""What says of the same cell that it is wrong."""


@rule("plan-differs", "Plan and inventory", About.PLANNED_PORT, follows=_AS_WELL)
def plan_port(context: Context, entry: PlannedPort) -> Finding | None:
    """A port's mode, VLAN, allowed list or native VLAN is not as planned.

    Matters: somebody changed it, or it was never set; what hangs on it may be in the wrong VLAN or cut off.
    Notice: depends on what differs; look whether a host behind it has trouble.
    Confirm: compare the port's settings with the plan's entry.
    Mend: set the port as planned, or correct the plan.
    """
    device = context.network.names.device(entry.device)
    name = context.network.names.port(device, entry.port) if device else None
    row = context.port(End(device, name)) if device and name else None
    key = {"ports": f"{entry.device} {entry.port}"}
    if device is None or name is None or row is None:
        what = "the device" if device is None else "the port"
        subject = Subject(device=device or entry.device, port=entry.port)
        says = f"{entry.device} {entry.port} is planned, but {what} is not in the survey."
        return Finding("plan-differs", "note", (subject,), says, context.plan.evidence(entry, key))
    cells = _as_planned(entry, row)
    if not cells:
        return None
    evidence: tuple[Evidence, ...] = ()
    parts = []
    for word, column, wanted in _wanted(entry):
        found = getattr(row, column)
        if column in cells and found is not None:
            parts.append(f"{word} {found or NONE}, planned {wanted or NONE}")
            evidence += context.evidence(row, column) + context.plan.evidence(entry, key, word)
    rule = "plan-differs"
    if "mode" in cells:
        rule = "port-mode-wrong"
    elif entry.vlan is not None and "pvid" in cells:
        rule = "port-vlan-wrong"
    end = End(device, name)
    subjects = (at_port(end, entry.vlan),) if rule == "port-vlan-wrong" else (at_port(end),)
    says = f"{end} is not as planned: {'; '.join(parts)}."
    mend, fits = _at_both_ends(context, end, cells)
    told = () if fits else (Alternative(mend, ()),)
    return Finding(rule, "risks", subjects, says, evidence, mend if fits else (), told)


def _wanted(entry: PlannedPort) -> tuple[tuple[str, str, object], ...]:
    """The words of a port's entry, each with its column and what it says."""
    vlan = ("vlan", "pvid", entry.vlan) if entry.vlan is not None else ("native", "pvid", entry.native)
    return (("mode", "mode", entry.mode), vlan, ("allowed", "allowed", entry.allowed))


def _as_planned(entry: PlannedPort, row: Port) -> dict[str, object]:
    """The cells of a port that are not as planned, as they should be; a trunk is told what it allows in any case."""
    cells = {
        column: NONE if wanted == 0 else wanted
        for _, column, wanted in _wanted(entry)
        if wanted is not None and getattr(row, column) not in (None, wanted)
    }
    return cells | ({"allowed": entry.allowed} if "mode" in cells and entry.allowed is not None else {})


def _at_both_ends(context: Context, end: End, cells: dict[str, object]) -> tuple[tuple[Change, ...], bool]:
    """The mend of a port, with that of the far end of its link; and whether the two agree then, as far as is known."""
    changes, fits, near = [set_port(end, **cells)], True, context.port(end)
    tunnel = near is not None and near.mode == "tunnel" and "mode" not in cells  # its VLAN never leaves by it
    for link in context.adjacencies_at.get(end, ()) if {"mode", "pvid"} & set(cells) and not tunnel else ():
        far = link.far(end)
        row = context.port(far)
        if near is None or row is None:
            fits = False  # what hangs on the far end nobody knows
        elif row.mode != "routed":
            other = _as_planned(context.planned_port(far), row)
            changes += [set_port(far, **other)] if {"mode", "pvid"} & set(other) else []
            fits = fits and all(cells.get(c, _cell(near, c)) == other.get(c, _cell(row, c)) for c in ("mode", "pvid"))
    return tuple(changes), fits


def _cell(row: Port, column: str) -> object:
    value = getattr(row, column)
    return NONE if value == 0 else value


@rule("plan-differs", "Plan and inventory", About.CAMPUS)
def plan_settings(context: Context) -> Iterator[Finding]:
    """Ports do not have the settings that the plan has for all of them.

    Matters: what is set differently in one place is forgotten there.
    Notice: depends on what differs; large packets get lost where the frame size is too small.
    Confirm: compare the ports' settings with the plan's.
    Mend: set the ports as planned, or accept the difference in the plan.
    """
    settings = context.plan.settings
    if settings.mtu is None and settings.speed is None and settings.native is None and settings.tagging is None:
        return
    alike: dict[tuple[str, str, str, bool], list[tuple[End, Port]]] = defaultdict(list)
    for end, row in _open_ports(context):
        between = end in context.adjacencies_at
        checks: list[tuple[str, str, int | str | None]] = [("mtu", "mtu", settings.mtu)]
        if between and row.mode in ("trunk", "hybrid"):
            own = context.planned_port(end).native  # what is planned for the port itself counts
            checks += [
                ("native", "pvid", settings.native if own is None else None),
                ("tagging", "tagging", settings.tagging),
            ]
        for word, column, wanted in checks:
            found = getattr(row, column)
            if found is not None and wanted is not None and found != wanted:
                fits = word != "native" or _fits(context, end, settings.native)
                alike[word, column, str(found or NONE), fits].append((end, row))
        slow = row.speed is not None and settings.speed is not None and row.speed < settings.speed
        if between and slow and row.oper == "up":
            alike["speed", "speed", str(row.speed), False].append((end, row))
    for (word, column, found, fits), ends in alike.items():
        wanted = getattr(settings, word) or NONE
        listed = ", ".join(str(end) for end, _ in ends[:3]) + (f" and {len(ends) - 3} more" if len(ends) > 3 else "")
        has = "has" if len(ends) == 1 else "have"
        evidence = tuple(fact for _, row in ends[:5] for fact in context.evidence(row, column))
        mend = tuple(set_port(end, **{column: wanted}) for end, _ in ends) if word != "speed" else ()
        yield Finding(
            "plan-differs",
            "risks",
            tuple(at_port(end) for end, _ in ends),
            f"{listed} {has} {word} {found}, where {wanted} is planned for all.",
            evidence + context.plan.evidence(settings, {"settings": word}, word),
            mend if fits else (),
            (Alternative(mend, ()),) if mend and not fits else (),
        )


def _fits(context: Context, end: End, native: int | None) -> bool:
    """Whether the far end of a trunk has the native VLAN that is planned for all as well, or is to get it."""
    fars = [link.far(end) for link in context.adjacencies_at.get(end, ())]
    rows = [(context.port(far), context.planned_native(far)) for far in fars]
    return all(
        row is not None
        and (row.mode == "routed" or row.pvid == native or (row.mode in ("trunk", "hybrid") and planned == native))
        for row, planned in rows
    )


def _open_ports(context: Context) -> Iterator[tuple[End, Port]]:
    for device, ports in context.network.names.ports.items():
        yield from ((End(device, port), row) for port, row in ports.items() if row.admin != "down")
