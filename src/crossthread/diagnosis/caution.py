"""What no mend may do because of what nobody read: a mend that does harm is worse than none.

A rule's finding goes through here before anybody sees it. It stays, but a mend that could cut off, take over from, or
answer in the place of something that was not surveyed is taken off it.
"""

from __future__ import annotations

from collections.abc import Iterator

import msgspec

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.expected.misaddressed import misaddressed, same_address
from crossthread.diagnosis.expected.unread_hosts import anybody_unread
from crossthread.diagnosis.findings import Finding
from crossthread.diagnosis.heard_elsewhere import heard_of, holders
from crossthread.network.hosts.blocks import Block
from crossthread.network.hosts.station import Interface
from crossthread.network.switching.nodes import Node
from crossthread.network.topology.adjacency import Adjacency, bundle
from crossthread.network.topology.graph import joined
from crossthread.network.topology.links import word_runs
from crossthread.network.topology.names import End
from crossthread.network.topology.open_ends import OUTSIDE, leads_on
from crossthread.survey.changes import Change
from crossthread.survey.records import MacEntry, Route
from crossthread.survey.survey import Evidence
from crossthread.values import NONE, VlanSet, interface


def cautious(context: Context, finding: Finding) -> Finding:
    """A finding without the mends that could do harm to something unknown, its own and others."""
    told = not finding.repair
    kept = tuple(one for one in finding.alternatives if not any(dares(context, change, told) for change in one.changes))
    repair = () if any(dares(context, change) for change in finding.repair) else finding.repair
    if repair == finding.repair and len(kept) == len(finding.alternatives):
        return finding
    left = msgspec.structs.replace(finding, repair=repair, alternatives=kept if repair or told else ())
    if repair or told:
        return left
    for change in finding.repair:
        for says, facts in _in_words(context, change):
            return msgspec.structs.replace(left, says=f"{finding.says} {says}", evidence=finding.evidence + facts)
    return left


def _in_words(context: Context, change: Change) -> Iterator[tuple[str, tuple[Evidence, ...]]]:
    """Whom a change would harm, as far as anybody was heard of, and what says so."""
    for one in holders(context, change):
        yield f"{one.name} has {one.ip} now.", ()
    for row in _tagged_at(context, change):
        says = (
            f"{row.device} has learned {row.mac} there in VLAN {row.vid}: that tags, and an access port would drop it."
        )
        yield says, context.evidence(row, "vid")
    for one in _rows_of(context, change) if change.table == "gateways" else ():
        if _is_routed_over(context, one, change):
            rows = [row for row in context.network.survey.routes if row.next_hop == str(one.ip)]
            yield f"{rows[0].device} sends to {one.ip}, which it has now.", context.evidence(rows[0], "next_hop")
    for entry in heard_of(context, change):
        says = f"{entry.device} has heard of {entry.address} at {entry.mac}: somebody else has it."
        yield says, context.evidence(entry, "mac")


def dares(context: Context, change: Change, told: bool = False) -> bool:
    """Whether a change could do harm to something that was not surveyed or not read.

    Of one that is only told, for whoever has seen what is there, a port leads to the host that its description names.
    """
    if any(heard_of(context, change)) or holders(context, change):
        return True
    if change.table == "ports":
        return _at_port(context, change, told)
    if change.table == "gateways":
        return _at_gateway(context, change)
    if change.table in ("trees", "tree_ports") and {"priority", "cost"} & set(change.cells):
        return bool(context.network.open_ends)  # beyond one may be the root of today, or a way that would close
    return False


def _at_port(context: Context, change: Change, told: bool) -> bool:
    device, port = str(change.key.get("device", "")), str(change.key.get("port", ""))
    end = End(context.network.names.spelled[device], port)
    row, cells = context.port(end), change.cells
    named = told and end in context.named_ends and end not in context.heard_at
    open_end = context.network.stations.attachments.open(end) and not named
    leads_on = open_end or (not named and _leads_on(context, end)) or _hears_phone(context, end)
    if cells.get("mode") == "access" and leads_on:
        return True
    if any(_tagged_at(context, change)):
        return True
    if open_end and "pvid" in cells and (row is None or row.pvid != cells["pvid"]):
        return True
    served = any(context.network.gateways_at.get(link.far(end)) for link in context.adjacencies_at.get(end, ()))
    moves = served and row is not None and cells.get("pvid", row.pvid) != row.pvid
    vid = row.pvid if moves and row is not None else None
    if vid and (_leaves_unread(context, end.device, vid) or _leaves_unknown(context, end.device, vid, end)):
        return True
    if open_end and cells.get("allowed") and row is not None and row.allowed is not None:
        return bool(row.allowed.bits & ~VlanSet.parse(str(cells["allowed"])).bits)
    if cells.get("admin") != "up" or end in context.host_ends or end in context.named_ends:
        return False
    links = context.adjacencies_at.get(bundle(end, context.network.names), ())
    return not links or any(link.up is False and _turns_a_tree(context, link) for link in links)


def _leaves_unknown(context: Context, device: str, vid: int, but: End | None = None) -> bool:
    """Whether something that nobody surveyed may be in a VLAN at a device, beyond another port than one, and served."""
    network = context.network
    part = network.components.of(Node(device, vid))
    others = (end for end in network.open_ends if end != but and network.components.of(Node(end.device, vid)) == part)
    members = (network.fabric.member(end) for end in others) if part is not None else ()
    return any(one.tagged.has(vid) is not False or one.untagged.has(vid) is not False for one in members)


def _leaves_unread(context: Context, device: str, vid: int) -> bool:
    """Whether a device that may route, and of which nobody read that, is in a VLAN with another."""
    network = context.network
    here = network.components.of(Node(device, vid))
    return here is not None and any(network.components.of(Node(one, vid)) == here for one in network.unread.devices)


def _turns_a_tree(context: Context, link: Adjacency) -> bool:
    """Whether a link would come into a tree that is not known, and may then turn out otherwise than it is.

    So it may wherever there is a loop, and of some bridge in it nobody read the tree, or nobody surveyed what joins it.
    """
    if not all(context.network.fabric.member(end).bridged for end in (link.a, link.b)):
        return False
    links, part_of = context.once(_bridged_links)
    parts = {part_of.get(end.device, end.device) for end in (link.a, link.b)}
    inside = {device for device, part in part_of.items() if part in parts} | {link.a.device, link.b.device}
    loops = sum(one in inside for one, _ in links) + 1 >= len(inside)
    covered = context.network.covered
    return loops and not all(covered.fully(device, table) for device in inside for table in ("trees", "tree_ports"))


def _bridged_links(context: Context) -> tuple[list[tuple[str, str]], dict[str, str]]:
    """The links between bridges, open ends as well, that are not down; and for each bridge one for all of its part."""
    network = context.network
    links = [(link.a, link.b) for link in network.adjacencies if link.up is not False]
    links += [(end, OUTSIDE) for end in network.open_ends]
    bridged = network.fabric.member
    found = [(a.device, b.device) for a, b in links if bridged(a).bridged and (b == OUTSIDE or bridged(b).bridged)]
    return found, joined(found)


def _leads_on(context: Context, end: End) -> bool:
    """Whether a port hears, faces or carries a bridge or a router; or may hear one, as nobody read whom it hears."""
    network = context.network
    heard = any(leads_on(row.capabilities) for row in context.heard_at.get(end, ()))
    unread = not network.covered.fully(end.device, "neighbors") and not _to_hosts(context, end)
    return heard or unread or end in network.cabled or end in network.gateways_at


def _to_hosts(context: Context, end: End) -> bool:
    """Whether a port says that it leads to a host: its description names one there, or it never heard a bridge."""
    row, trees = context.port(end), context.network.fabric.trees
    words = {words.casefold() for words in word_runs((row and row.description) or "")}
    rows = (trees.ports.get((*end, instance)) for instance in trees.instances(end.device))
    return any(host.name.casefold() in words for host in context.hosts_at(end)) or any(
        r and r.edge == "yes" for r in rows
    )


def _hears_phone(context: Context, end: End) -> bool:
    """Whether a phone is at a port that is no access port: it tags its VLAN, which an access port would drop."""
    row = context.port(end)
    phones = any("phone" in (heard.capabilities or ()) for heard in context.heard_at.get(end, ()))
    return phones and row is not None and row.mode in ("trunk", "hybrid") and not row.voice


def _tagged_at(context: Context, change: Change) -> Iterator[MacEntry]:
    """Who was learned at a trunk that is to be an access port, in a VLAN that comes in there with its tag only."""
    if change.table != "ports" or change.cells.get("mode") != "access":
        return
    names, rows = context.network.names, context.network.survey.rows(MacEntry)
    end = End(names.spelled[str(change.key["device"])], str(change.key["port"]))
    row = context.port(end)
    if row is None or row.mode not in ("trunk", "hybrid") or row.pvid is None:
        return
    for n in rows.positions("device").get(end.device.casefold(), ()):
        entry = rows[n]
        if entry.kind != "self" and entry.vid not in (None, row.pvid) and entry.port:
            yield from [entry] if names.port(end.device, entry.port) == end.port else []


def _at_gateway(context: Context, change: Change) -> bool:
    """Whether an interface would get an address, or be brought up with one, that something unread may have."""
    if change.delete:
        return False
    device, own = str(change.key.get("device", "")), _rows_of(context, change)
    rows = [station.row for station in own]
    known = next((row for row in rows if row.address == change.key.get("address")), None)
    address = change.cells.get("address") or (change.key.get("address") if known is None else None)
    opens = change.cells.get("admin") == "up" and known is not None and known.admin == "down"
    ip = str(address or "").partition("/")[0]
    moved = [(tap, vid) for s in own if (vid := s.row.vid) for tap in s.taps if tap.device]
    named = any(context.expected.named_vid(s) == change.cells.get("vid") for s in own)
    if change.cells.get("vid") and not named and any(_leaves_unknown(context, tap.device, vid) for tap, vid in moved):
        return True
    if any(_is_routed_over(context, one, change) for one in own):
        return True
    fresh = bool(ip) and ip != NONE and ip not in {str(row.address).partition("/")[0] for row in rows}
    if not context.network.unread.anywhere or not (fresh or opens):
        return False
    return fresh or _may_take_over(context, change, context.network.names.spelled[device])


def _rows_of(context: Context, change: Change) -> list[Interface]:
    """The addresses of the interface that a change is about."""
    own = context.network.stations.on_device.get(context.network.names.spelled[str(change.key.get("device", ""))], ())
    return [station for station in own if station.name == change.key.get("interface")]


def _is_routed_over(context: Context, own: Interface, change: Change) -> bool:
    """Whether others' routes lead to an interface that would get an address elsewhere, and hosts were not read.

    They may be reached over it, and stop.
    """
    given = str(change.cells.get("address") or NONE).partition(" ")[0]
    if own.address is None or own.row.address != change.key.get("address") or given == NONE:
        return False
    if interface(given).ip in own.address.network:
        return False
    routers = context.routed_to.get(str(own.ip), ())
    leaves = any(device != own.device for device in routers) and not misaddressed(context, own)
    return leaves and not same_address(context, own) and context.once(anybody_unread)


def _may_take_over(context: Context, change: Change, device: str) -> bool:
    """Whether an interface that is brought up may take something over that nobody read.

    That hears it or is heard by it, or to which a route for its subnet leads by and by that the device has or may have.
    Where its port is down as well, nobody knows who hears it then.
    """
    network = context.network
    if network.unread.routes_of(device):
        return True
    made = network.mended([change])
    opened = [s for s in made.stations.on_device[device] if s.name == change.key.get("interface")]
    if any(not one.up or made.unread.hears(one) or made.unread.heard_by(one) for one in opened):
        return True
    blocks = [Block.of(str(one.address)) for one in opened if one.address is not None]
    rows = network.survey.rows(Route)
    own = (rows[n] for n in rows.positions("device").get(device.casefold(), ()))
    led = (row for row in own if row.next_hop not in (None, NONE))
    return any(Block.of(row.prefix).meets(block) for row in led for block in blocks)
