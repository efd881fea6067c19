"""Findings about the mode of a port that leads to a host."""

from __future__ import annotations

from collections import Counter

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.edits import set_port
from crossthread.diagnosis.expected.listed_vlans import ListedVlans
from crossthread.diagnosis.expected.misaddressed import asks_for_another
from crossthread.diagnosis.findings import Alternative, Finding, at_port, at_station
from crossthread.diagnosis.registry import About, rule
from crossthread.diagnosis.rules.port.vlan import vlan_witnesses
from crossthread.network.hosts.station import HostStation
from crossthread.network.topology.names import End
from crossthread.survey.changes import Change
from crossthread.survey.records import Port
from crossthread.values import NO_VID, VlanSet


@rule(
    "port-mode-wrong",
    "Port",
    About.HOST,
    reads="subnet port-vlan place tag expected",
    unless=(asks_for_another,),
    cuts=True,
    follows="gateway-port-mode-wrong link-mode-differs port-mode-wrong",
)
def port_mode_wrong(context: Context, host: HostStation, vid: int | None = None, tried: bool = False) -> Finding | None:
    """A host that does not tag is plugged into a trunk that does not carry its VLAN untagged.

    Matters: its frames join the trunk's native VLAN or are dropped, and it does not understand the tags it hears.
    Notice: the host has no network, or that of the native VLAN.
    Confirm: look at the port's mode and at what is really plugged in.
    Mend: make it an access port of the host's VLAN; where others there tag, the VLAN for untagged frames.
    """
    if host.end is None or host.tag or (host.may_tag and len(context.hosts_at(host.end)) > 1):
        return None
    row, wanted = context.port(host.end), vid or context.expected.vlan(host)
    if row is None or row.mode not in ("trunk", "hybrid") or wanted is None:
        return None
    if row.pvid == wanted and context.network.fabric.leaves(host.end, NO_VID).has(wanted) is not False:
        return None
    possible = [wanted, *(() if tried else _as_likely(context, host, wanted))]  # tried: whoever asks weighs them
    moves = [(_without_tag(context, host, row, one),) for one in possible]
    undecided = len(possible) > 1
    belongs = " or ".join(map(str, possible)) + "; nothing that was read decides which" * undecided
    return Finding(
        "port-mode-wrong",
        "breaks",
        (at_port(host.end, wanted), at_station(host)),
        f"{host.end} is a {row.mode} ({_native(row)}), but {host.name} does not tag and belongs to VLAN {belongs}.",
        context.evidence(row, "mode", "pvid", "allowed") + vlan_witnesses(context, host, wanted),
        () if undecided else moves[0],
        tuple(Alternative(move, ()) for move in moves) if undecided else (),
    )


def _native(row: Port) -> str:
    return f"native VLAN {row.pvid}" if row.pvid else ("no native VLAN" if row.pvid == 0 else "native VLAN unknown")


def _without_tag(context: Context, host: HostStation, row: Port, vid: int) -> Change:
    """Let a port take what has no tag into a VLAN: as an access port, unless others tag there, as beside a phone."""
    end = End(row.device, row.port)
    tags = [tag for s in context.hosts_at(host.end or end) if (tag := s.tag) > NO_VID and s is not host]
    if not tags:
        return set_port(host.end or end, mode="access", pvid=vid, allowed="", untagged="")
    cells: dict[str, object] = {"untagged": VlanSet.of([vid])} if row.mode == "hybrid" else {}
    carried = (row.allowed or VlanSet()) | VlanSet.of([vid, *tags])
    return set_port(host.end or end, pvid=vid, allowed=carried, **cells)


def _as_likely(context: Context, host: HostStation, wanted: int) -> list[int]:
    """The other VLANs in which as many hosts of a host's subnet are, if no gateway of it is known to decide."""
    if host.address is None or context.expected.gateways(host) or context.expected.planned(host) is not None:
        return []
    mates = [s for s in context.expected.near(host.address.ip) if isinstance(s, HostStation) and s is not host]
    counts = Counter(vid for s in mates if (vid := context.expected.current_vlan(s)))
    return [vid for vid, count in counts.items() if vid != wanted and count >= counts[wanted] > 0]


@rule("port-mode-wrong", "Port", About.HOST, reads="subnet port-vlan place tag expected", unless=(port_mode_wrong,))
def port_without_native(context: Context, host: HostStation, vid: int | None = None) -> Finding | None:
    """A host that does not tag is plugged into a trunk without a native VLAN, and nobody shows which VLAN is its own.

    Matters: all that it sends is dropped, and it does not understand the tags it hears.
    Notice: the host has no network at all.
    Confirm: look at the port's mode and at what is really plugged in.
    Decide: ask which VLAN the host's subnet is meant to live in; one that trunks carry and nobody is in may be left.
    Mend: make it an access port of the host's VLAN.
    """
    row = context.port(host.end) if host.end is not None else None
    if row is None or host.end is None or row.pvid != NO_VID or row.mode not in ("trunk", "hybrid"):
        return None
    if host.tag or context.expected.vlan(host) is not None or context.adjacencies_at.get(host.end):
        return None
    mates = context.expected.near(host.address.ip) if host.address is not None else ()
    homes = [one for one in context.once(ListedVlans).homes(host) if vid in (None, one)]
    if any(map(context.expected.current_vlan, mates)) or (vid is not None and not homes):
        return None
    moves = [(set_port(host.end, mode="access", pvid=vid, allowed="", untagged=""),) for vid in homes[:_HOMES]]
    says = f"{host.end} is a {row.mode} (no native VLAN), but {host.name} does not tag; "
    says += (
        f"of the VLANs it carries, nobody is in {' or '.join(map(str, homes))}." if homes else "nobody shows its VLAN."
    )
    decided = len(homes) == 1 and (vid is not None or not context.network.unread.anywhere)
    return Finding(
        "port-mode-wrong",
        "breaks",
        (at_port(host.end, homes[0] if len(homes) == 1 else None), at_station(host)),
        says,
        context.evidence(row, "mode", "pvid", "allowed") + context.evidence(host.row, "address"),
        moves[0] if decided else (),
        () if decided else tuple(Alternative(move, ()) for move in moves),
    )


_HOMES = 3
"""Of how many VLANs that a host may belong in all are told."""


@rule("port-mode-wrong", "Port", About.HOST, reads="subnet place tag expected")
def port_mode_where_named(context: Context, host: HostStation) -> Finding | None:
    """The description of a trunk tells where a host is that does not tag, and the trunk does not let it into its VLAN.

    Matters: if the host is there, all that it sends is dropped, or joins another VLAN than its own.
    Notice: the host has no network, and no switch has learned it in its VLAN.
    Confirm: look what is plugged in there, and at the port's mode; read the neighbours of its device.
    Decide: see whether the host is plugged in there, and nothing else.
    Mend: if so, make it an access port of the host's VLAN. It is proposed once that was read.
    """
    end = context.only_named_at(host)
    row = context.port(end) if end is not None else None
    if end is None or row is None or host.may_tag or row.mode not in ("trunk", "hybrid") or context.heard_at.get(end):
        return None
    wanted = context.closed.expected.vlan(context.closed.network.stations.hosts[host.name.casefold()])
    beyond = context.network.open_ends.get(end)
    if wanted is None or row.pvid in (None, wanted) or row.oper == "down" or (beyond and beyond.why == "stations"):
        return None
    told = f"only the description of {end} tells where it may be"
    if end in context.learned_at_open_ends(host):
        told = f"{end}, whose description names it, has learned it"
    return Finding(
        "port-mode-wrong",
        "breaks",
        (at_port(end, wanted), at_station(host)),
        f"{host.name} does not tag and belongs to VLAN {wanted}, and {told}: that is a {row.mode} ({_native(row)}).",
        context.evidence(row, "description", "mode", "pvid", "allowed") + vlan_witnesses(context, host, wanted),
        alternatives=(Alternative((set_port(end, mode="access", pvid=wanted, allowed="", untagged=""),), ()),),
    )


@rule("port-mode-wrong", "Port", About.HOST, reads="port-vlan place tag", unless=(port_mode_wrong,))
def port_mode_loose(context: Context, host: HostStation) -> Finding | None:
    """A host that does not tag is plugged into a trunk, and works because its VLAN is the native one there.

    Matters: it hears the broadcasts of every VLAN that the trunk carries, and could send into them; and whoever changes
    the native VLAN cuts it off.
    Notice: nothing.
    Confirm: look at the port's mode and at what is really plugged in.
    Mend: make it an access port of the host's VLAN.
    """
    row = context.port(host.end) if host.end else None
    if row is None or host.end is None or row.mode != "trunk" or host.may_tag or not row.pvid:
        return None
    if row.allowed is None or len(row.allowed) < 2 or context.adjacencies_at.get(host.end):
        return None
    return Finding(
        "port-mode-wrong",
        "risks",
        (at_port(host.end), at_station(host)),
        f"{host.end} is a trunk for VLAN {row.allowed}, but leads to {host.name}, which does not tag.",
        context.evidence(row, "mode", "pvid", "allowed"),
        (set_port(host.end, mode="access", pvid=row.pvid, allowed="", untagged=""),),
    )


@rule("port-mode-wrong", "Port", About.HOST, reads="subnet port-vlan place tag expected")
def port_mode_routed(context: Context, host: HostStation) -> Finding | None:
    """A host is plugged into a port that routes, and no interface with an address is there.

    Matters: the port belongs to no VLAN; nobody hears the host.
    Notice: the host has no network at all.
    Confirm: look at the port's mode, and whether the device has an address on it.
    Mend: make it an access port of the host's VLAN.
    """
    row, wanted = context.port(host.end) if host.end else None, context.expected.vlan(host)
    if row is None or host.end is None or row.mode != "routed" or wanted is None or host.tag:
        return None
    covered = context.network.covered.fully(host.end.device, "gateways")
    if context.network.gateways_at.get(host.end) or not covered:
        return None
    return Finding(
        "port-mode-wrong",
        "breaks",
        (at_port(host.end, wanted), at_station(host)),
        f"{host.end} routes and has no address, but leads to {host.name}, which belongs to VLAN {wanted}.",
        context.evidence(row, "mode") + vlan_witnesses(context, host, wanted),
        (set_port(host.end, mode="access", pvid=wanted),),
    )
