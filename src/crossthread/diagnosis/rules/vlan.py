"""Findings about VLANs as such: unused, split, leaking, named differently."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Iterator, Sequence
from functools import partial

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.findings import Finding, Subject, at_port
from crossthread.diagnosis.registry import About, rule
from crossthread.network.hosts.station import HostStation, Station
from crossthread.network.switching.nodes import Node
from crossthread.network.three_valued import vids_in
from crossthread.network.topology.adjacency import Adjacency
from crossthread.network.topology.names import End
from crossthread.survey.records import Vlan
from crossthread.survey.table import runs
from crossthread.values import VlanSet


def carried_by_ports(context: Context) -> dict[str, int]:
    """For each device whose ports were listed the VIDs that any port or interface is in, up or not, as bits."""
    found: dict[str, int] = defaultdict(int)
    column = partial(context.network.survey.column, "ports")
    settings = list(zip(column("mode"), column("pvid"), column("allowed"), column("lag"), strict=True))
    for device, run in runs(column("device")):
        bits = 0
        for mode, pvid, allowed, lag in set(settings[run]):
            if pvid:
                bits |= 1 << pvid
            if allowed is not None and mode != "access":
                bits |= allowed.bits
            elif mode in (None, "trunk", "hybrid"):
                bits |= -1 if lag is None else 0  # nobody looked what it carries
        found[context.network.names.spelled[device]] |= bits
    for gateway in context.network.stations.gateways:
        if gateway.row.vid and gateway.end is None and gateway.device in found:
            found[gateway.device] |= 1 << gateway.row.vid
    return found


@rule("vlan-unused", "VLAN", About.CAMPUS, follows="link-mode-differs port-mode-wrong")
def vlan_unused(context: Context) -> Iterator[Finding]:
    """A VLAN exists on a device, but on no port of it.

    Matters: it does nothing there; often a trunk's allowed list was forgotten, or the VLAN is left over.
    Notice: nothing.
    Confirm: list the ports that carry the VLAN on that device.
    Mend: allow it on the trunk that it was meant for, or remove it.
    """
    used = carried_by_ports(context)
    where: dict[int, list[str]] = defaultdict(list)
    listed: dict[tuple[int, ...], int] = {}
    for device, rows in context.network.fabric.vlan_rows.items():
        known = tuple(rows)
        if known not in listed:  # many devices have the same VLANs
            listed[known] = sum(1 << vid for vid in known)
        for vid in vids_in(listed[known] & ~used.get(device, -1) & ~2):
            where[vid].append(device)
    alike: dict[tuple[str, ...], list[int]] = defaultdict(list)
    for vid, devices in sorted(where.items()):
        alike[tuple(devices)].append(vid)
    for holders, vids in alike.items():
        one = len(vids) == 1
        says = f"VLAN {VlanSet.of(vids)} {'exists' if one else 'exist'} on {_listed(holders)}, on no port."
        subjects = tuple(Subject(device=device, vid=vids[0] if one else None) for device in holders[:20])
        rows_of = [context.network.fabric.vlan_rows[holders[0]][vid] for vid in vids[:3]]
        evidence = tuple(fact for row in rows_of for fact in context.evidence(row, "vid"))
        yield Finding("vlan-unused", "note", subjects, says, evidence)


@rule("vlan-name-differs", "VLAN", About.CAMPUS)
def vlan_name_differs(context: Context) -> Iterator[Finding]:
    """One VLAN has different names on different devices.

    Matters: two people may mean different VLANs by one number.
    Notice: nothing, until somebody works by name.
    Confirm: list the VLANs of the devices that are named.
    Mend: agree on one name.
    """
    survey = context.network.survey
    told = set(zip(survey.column("vlans", "vid"), survey.column("vlans", "name"), strict=True))
    given = Counter(vid for vid, name in told if name)
    doubtful = {vid for vid, count in given.items() if count > 1 or vid in context.plan.vlans}
    names: dict[tuple[int, str], dict[str, list[Vlan]]] = defaultdict(dict)
    for device, rows in context.network.fabric.vlan_rows.items() if doubtful else ():
        for vid in doubtful.intersection(rows):
            if name := rows[vid].name:
                names[vid, context.islands.get(device, device)].setdefault(name, []).append(rows[vid])
    for (vid, _), called in sorted(names.items()):
        if vid == 1 and vid not in context.plan.vlans:
            continue  # its names are the makers'
        planned = context.plan.vlans.get(vid)
        usual = planned.name if planned is not None and planned.name else max(called, key=lambda n: len(called[n]))
        odd = {name: rows for name, rows in called.items() if name != usual}
        if not odd:
            continue
        listed = ", ".join(f"“{name}” on {_listed([row.device for row in rows])}" for name, rows in odd.items())
        whose = "in the plan" if planned is not None and planned.name else "on most devices"
        subjects = tuple(Subject(device=row.device, vid=vid) for rows in odd.values() for row in rows[:9])
        evidence = tuple(fact for rows in odd.values() for fact in context.evidence(rows[0], "name"))
        says = f"VLAN {vid} is named “{usual}” {whose}, but {listed}."
        yield Finding("vlan-name-differs", "note", subjects, says, evidence)


Leak = tuple[End, int, End, int]
"""What leaves the first port untagged in one VLAN arrives at the second port in another."""


def leaks(context: Context, adjacency: Adjacency) -> list[Leak]:
    """The ways by which a link joins two different VLANs."""
    if adjacency.up is False:
        return []
    fabric = context.network.fabric
    found = []
    for near, far in ((adjacency.a, adjacency.b), (adjacency.b, adjacency.a)):
        pvid = fabric.member(far).pvid
        if fabric.unaware(near.device) or fabric.unaware(far.device):
            continue  # there it is in no VLAN
        if not pvid or not (fabric.member(far).joins.sure & fabric.forwarding(far).sure) >> pvid & 1:
            continue
        for vid in vids_in(fabric.member(near).untagged.sure & fabric.forwarding(near).sure & ~(1 << pvid)):
            found.append((near, vid, far, pvid))
    return found


def leaks_in_words(context: Context, found: Sequence[Leak]) -> str:
    """What leaks into what, with the hosts concerned."""
    parts = []
    for near, vid, far, pvid in found:
        here, there = hosts_of(context, near.device, vid), hosts_of(context, far.device, pvid)
        whose = f" of {_listed(here)}" if here else ""
        whom = f", to {_listed(there)}" if there else ""
        parts.append(f"frames of VLAN {vid} at {near}{whose} come out in VLAN {pvid} at {far}{whom}")
    return "; ".join(parts)


def hosts_of(context: Context, device: str, vid: int) -> list[str]:
    """The hosts in the connected part that a VLAN on a device belongs to."""
    part = context.network.components.of(Node(device, vid))
    if part is None:
        return []
    found = []
    for one in context.network.classes.all:
        first = one.hosts[0]
        if one.vid == vid and first.end and context.network.components.of(Node(first.end.device, vid)) == part:
            found += [host.name for host in one.hosts]
    return found


@rule(
    "vlan-leak",
    "VLAN",
    About.LINK,
    follows="link-native-differs link-access-vlan-differs link-mode-differs port-vlan-wrong",
)
def vlan_leak(context: Context, adjacency: Adjacency) -> Finding | None:
    """A link joins two VLANs into one broadcast domain.

    Matters: hosts that were to be kept apart hear each other, and each may take the other's gateway or addresses.
    Notice: hosts get addresses of another network, or reach what they should not.
    Confirm: compare the untagged VLAN (PVID) at both ends; listen for foreign broadcasts.
    Mend: make the untagged VLAN of both ends the same.
    """
    found = leaks(context, adjacency)
    rows = [context.port(end) for end in (adjacency.a, adjacency.b)]
    if not found or any(row is not None and row.mode == "tunnel" for row in rows):
        return None
    return Finding(
        "vlan-leak",
        "risks",
        (at_port(adjacency.a), at_port(adjacency.b)),
        f"On this link {leaks_in_words(context, found)}.",
        tuple(fact for row in rows for fact in context.evidence(row, "mode", "pvid")),
    )


@rule("vlan-leak", "VLAN", About.DEVICE, needs="devices.vlan_aware=no")
def vlan_leak_inside(context: Context, device: str) -> Finding | None:
    """Bridges without regard to VLANs face ports that are in different ones, and so join them.

    Matters: hosts that were to be kept apart hear each other, and each may take the other's gateway or addresses.
    Notice: hosts get addresses of another network, or reach what they should not.
    Confirm: compare the untagged VLANs of the ports that the bridge is cabled to.
    Mend: put all of them into one VLAN, or take out the cables that are of another.
    """
    around = context.unaware_around(device)
    if around[:1] != [device]:
        return None  # it is told of the first of them
    facing = [
        end for end, links in context.adjacencies_at.items() if any(link.far(end).device in around for link in links)
    ]
    rows = {end: row for end in facing if (row := context.port(end)) is not None and row.mode == "access" and row.pvid}
    if len({row.pvid for row in rows.values()}) < 2:
        return None
    join = " and ".join(f"VLAN {row.pvid} of {end}" for end, row in sorted(rows.items()))
    evidence = tuple(fact for one in around for fact in context.evidence(context.device(one), "vlan_aware"))
    evidence += tuple(fact for row in rows.values() for fact in context.evidence(row, "mode", "pvid"))
    knows, joins = ("knows", "joins") if len(around) == 1 else ("know", "join")
    return Finding(
        "vlan-leak",
        "risks",
        (Subject(device=device), *map(at_port, rows)),
        f"{' and '.join(around)} {knows} no VLANs, and {joins} {join}.",
        evidence,
    )


@rule("vlan-split", "VLAN")
def vlan_split(context: Context, vid: int, pieces: Sequence[Sequence[Station]]) -> Finding:
    """One VLAN is in several unconnected pieces, which hold stations of one subnet.

    Matters: the stations of the pieces do not hear each other, though their addresses say that they should.
    Notice: some hosts of a subnet reach the gateway, others do not.
    Confirm: follow the VLAN from switch to switch; look where it is allowed at one end only, or not at all.
    Mend: allow the VLAN on the links between the pieces.
    """
    sizes = ", ".join(f"one with {_listed([_called(s) for s in piece])}" for piece in pieces)
    evidence = tuple(
        fact
        for piece in pieces
        for station in piece[:1]
        for row, column in [(context.port(station.end), "pvid") if station.end else (station.row, "vid")]
        for fact in context.evidence(row, column)
    )
    return Finding(
        "vlan-split",
        "risks",
        (Subject(vid=vid),),
        f"VLAN {vid} is in {len(pieces)} unconnected pieces: {sizes}.",
        evidence,
    )


def _called(station: Station) -> str:
    return station.name if isinstance(station, HostStation) else f"{station.device} {station.name}"


def _listed(names: Sequence[str]) -> str:
    """Up to three names, and how many more there are."""
    kept = list(Counter(names))
    more = f" and {len(kept) - 3} more" if len(kept) > 3 else ""
    return ", ".join(kept[:3]) + more
