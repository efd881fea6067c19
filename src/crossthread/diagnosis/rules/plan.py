"""Findings about the plan and the inventory: what is not as intended, and what is not alike."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Iterator
from datetime import date

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.edits import set_host, set_port
from crossthread.diagnosis.findings import Finding, Subject, at_port
from crossthread.diagnosis.registry import About, rule
from crossthread.network.hosts.station import HostStation
from crossthread.network.topology.names import End
from crossthread.plan.plan import Accepted, PlannedHost, PlannedPort
from crossthread.survey.records import Device, Port
from crossthread.survey.survey import Evidence
from crossthread.values import NONE, VlanSet

_AS_WELL = (
    "port-vlan-wrong port-mode-wrong link-mode-differs link-access-vlan-differs link-native-differs link-mtu-differs "
    "link-tagging-differs link-vlan-missing link-speed-differs host-gateway-wrong host-gateway-missing "
    "host-mask-differs host-outside-subnet host-gateway-outside-subnet host-address-missing"
)
"""What says of the same cell that it is wrong."""


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
    cells: dict[str, object] = {}
    evidence: tuple[Evidence, ...] = ()
    parts = []
    for word, column, wanted in (
        ("mode", "mode", entry.mode),
        ("vlan", "pvid", entry.vlan),
        ("native", "pvid", entry.native),
        ("allowed", "allowed", entry.allowed),
    ):
        found = getattr(row, column)
        if wanted is None or found is None or found == wanted:
            continue
        cells[column] = NONE if wanted == 0 else wanted
        parts.append(f"{word} {found if found != 0 else NONE}, planned {wanted if wanted != 0 else NONE}")
        evidence += context.evidence(row, column) + context.plan.evidence(entry, key, word)
    if not cells:
        return None
    rule = "plan-differs"
    if "mode" in cells:
        rule = "port-mode-wrong"
    elif entry.vlan is not None and "pvid" in cells:
        rule = "port-vlan-wrong"
    end = End(device, name)
    subjects = (at_port(end, entry.vlan),) if rule == "port-vlan-wrong" else (at_port(end),)
    says = f"{end} is not as planned: {'; '.join(parts)}."
    return Finding(rule, "risks", subjects, says, evidence, (set_port(end, **cells),))


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
                yield Finding(
                    "gateway-missing", "risks", (Subject(vid=vid),), says, plan.evidence(entry, key, "gateways")
                )
    if plan.vlans:
        for vid in used - VlanSet.of(plan.vlans):
            says = f"VLAN {vid} has hosts or gateways, but the plan does not know it."
            yield Finding("plan-differs", "note", (Subject(vid=vid),), says, ())


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
    alike: dict[tuple[str, str, str], list[tuple[End, Port]]] = defaultdict(list)
    for end, row in _open_ports(context):
        between = end in context.adjacencies_at
        checks: list[tuple[str, str, int | str | None]] = [("mtu", "mtu", settings.mtu)]
        if between and row.mode in ("trunk", "hybrid"):
            checks += [("native", "pvid", settings.native), ("tagging", "tagging", settings.tagging)]
        for word, column, wanted in checks:
            found = getattr(row, column)
            if found is not None and wanted is not None and found != wanted:
                alike[word, column, str(found or NONE)].append((end, row))
        slow = row.speed is not None and settings.speed is not None and row.speed < settings.speed
        if between and slow and row.oper == "up":
            alike["speed", "speed", str(row.speed)].append((end, row))
    for (word, column, found), ends in alike.items():
        wanted = getattr(settings, word) or NONE
        listed = ", ".join(str(end) for end, _ in ends[:3]) + (f" and {len(ends) - 3} more" if len(ends) > 3 else "")
        has = "has" if len(ends) == 1 else "have"
        evidence = tuple(fact for _, row in ends[:5] for fact in context.evidence(row, column))
        yield Finding(
            "plan-differs",
            "risks",
            tuple(at_port(end) for end, _ in ends),
            f"{listed} {has} {word} {found}, where {wanted} is planned for all.",
            evidence + context.plan.evidence(settings, {"settings": word}, word),
            tuple(set_port(end, **{column: wanted}) for end, _ in ends) if word != "speed" else (),
        )


def _open_ports(context: Context) -> Iterator[tuple[End, Port]]:
    for device, ports in context.network.names.ports.items():
        yield from ((End(device, port), row) for port, row in ports.items() if row.admin != "down")


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
