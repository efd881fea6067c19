"""Findings about a host that tags its frames: with a VLAN that its port does not take, or that is not its own."""

from __future__ import annotations

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.edits import carry, set_host, set_port
from crossthread.diagnosis.expected.misaddressed import asks_for_another
from crossthread.diagnosis.findings import Finding, at_port, at_station
from crossthread.diagnosis.registry import About, rule
from crossthread.diagnosis.rules.port.vlan import vlan_witnesses
from crossthread.network.hosts.learned_tags import may_be_told
from crossthread.network.hosts.station import HostStation
from crossthread.survey.changes import Change
from crossthread.survey.records import MacEntry, Port
from crossthread.values import NO_VID, NONE, VlanSet

Option = tuple[Change, ...]


@rule(
    "host-tag-wrong",
    "Host",
    About.HOST,
    reads="subnet tag port-vlan place expected",
    needs="hosts.vid",
    unless=(asks_for_another,),
    follows="port-mode-wrong",
    cuts=True,
)
def host_tag_wrong(context: Context, host: HostStation) -> Finding | None:
    """The host tags its frames with a VLAN that its port does not take, or that is not the VLAN of its subnet.

    Matters: its frames are dropped at the port, or join other stations than those that it belongs to.
    Notice: the host has no network, or that of another VLAN, though its port and its address look right.
    Confirm: look at the VLAN that is set on the host's own interface; capture at the port whether frames have a tag.
    Mend: let the host send without a tag where its port is an access port of its VLAN, or with that VLAN's tag where
    its port takes it; else let the port carry it.
    """
    row = context.port(host.end) if host.end is not None else None
    own, wanted = host.tag, context.expected.vlan(host)
    if len({one.tag for one in host.wherever}) > 1:
        return None  # it is not known
    if row is None or not own or wanted is None or row.mode not in ("access", "trunk", "hybrid"):
        return None
    takes = row.voice == own if row.mode == "access" else row.allowed is None or own in row.allowed
    takes = takes or may_be_told(row, own) or any(tap.enters.sure >> own & 1 for tap in host.taps)
    if takes and own == wanted:
        return None
    why = f"which {host.end} does not take{_is(row)}" if not takes else f"but belongs to VLAN {wanted}"
    seen = ("mode", "pvid") if row.mode == "access" else ("mode", "pvid", "allowed")
    told = [fact for entry in _learned(context, host) for fact in context.evidence(entry, "vid")]
    evidence = (*(told or context.evidence(host.row, "vid")), *context.evidence(host.row, "address"))
    evidence += context.evidence(row, *seen)
    return Finding(
        "host-tag-wrong",
        "breaks",
        (at_station(host), *([at_port(host.end, wanted)] if host.end is not None else [])),
        f"{host.name} tags its frames with VLAN {own}, {why}."
        f"{' Its own settings say nothing of a tag; something between it and the port may put it there.' * bool(told)}",
        evidence + vlan_witnesses(context, host, wanted),
        next(iter(tag_mends(context, host)), ()),
    )


def _learned(context: Context, host: HostStation) -> list[MacEntry]:
    """What tells that a host tags its frames, if its row does not: the filtering database of the bridge it is at."""
    entries = context.network.survey.rows(MacEntry)
    numbers = entries.positions("mac").get(host.row.mac, ()) if not host.row.vid else ()
    known = [entries[n] for n in numbers if entries[n].vid == host.tag]
    names = context.network.names
    return [entry for entry in known if host.end is not None and names.spelled[entry.device] == host.end.device]


def _is(row: Port) -> str:
    if row.mode == "access":
        return f": it is an access port of VLAN {row.pvid}" if row.pvid else ": it is an access port"
    return f": it carries VLAN {row.allowed}" if row.allowed is not None else ""


def tag_mends(context: Context, host: HostStation) -> list[Option]:
    """What would make a host's tag and its port agree, the smallest first: at the host, at the port, or at both."""
    row, wanted = context.port(host.end) if host.end is not None else None, context.expected.vlan(host)
    if host.end is None or row is None or wanted is None:
        return []
    retag: Option = (set_host(host, vid=wanted),) if host.tag != wanted else ()
    bare = (set_host(host, vid=NONE),)
    if row.mode == "access":
        tagged: Option = (set_port(host.end, mode="trunk", pvid=NONE, allowed=str(wanted)), *retag)
        return [bare, tagged] if row.pvid == wanted else [tagged, (set_port(host.end, pvid=wanted), *bare)]
    if row.allowed is not None and wanted not in row.allowed:
        return [(carry(context, host.end, VlanSet.of([wanted])), *retag)]
    untagged = row.pvid == wanted and context.network.fabric.leaves(host.end, NO_VID).has(wanted) is not False
    return [bare] if untagged else [retag] if retag else []
