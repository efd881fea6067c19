"""What nobody needs any more once the ports that are in a VLAN by mistake are moved: it is no fault of its own."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.findings import Finding
from crossthread.network.topology.names import End
from crossthread.survey.records import Port
from crossthread.values import NONE, interface

Need = tuple[object, ...]
"""A VLAN that must exist on a device, or a gateway that a subnet must have in a VLAN."""


def left_behind(context: Context, moving: Iterable[Finding]) -> dict[Need, Finding]:
    """What nobody else needs than the hosts at ports that some findings move, with that finding."""
    found: dict[Need, Finding] = {}
    moved: dict[str, Finding] = {}
    for finding in moving:
        moved.update({s.host: finding for s in finding.subjects if s.host and finding.repair})
        for change in finding.repair:
            end = End(str(change.key.get("device")), str(change.key.get("port")))
            row = context.port(end) if "pvid" in change.cells else None
            beside: Mapping[str, Port] = context.network.names.ports.get(end.device, {})
            if row and row.pvid and not any(beside[name].pvid == row.pvid for name in beside if name != end.port):
                found["exists", end.device, row.pvid] = finding
    needed: set[Need] = set()
    for one in context.network.classes.all if moved else ():
        host = one.hosts[0]
        need = "gateway", one.vid, host.address.network if host.address is not None else None
        if all(name in moved for name in one.hosts.names):
            found.setdefault(need, moved[host.name])
        else:
            needed.add(need)
    return {need: finding for need, finding in found.items() if need not in needed}


def needs(finding: Finding) -> Iterator[Need]:
    """What a finding says is missing."""
    vids = [subject for subject in finding.subjects if subject.vid is not None]
    if finding.rule == "port-vlan-missing":
        yield from (("exists", subject.device, subject.vid) for subject in vids)
    elif finding.rule == "gateway-missing":
        told = (fact.value for fact in finding.evidence if (fact.table, fact.column) == ("hosts", "address"))
        subnets = [interface(text).network for text in told if text not in (None, NONE)]
        yield from (("gateway", subject.vid, subnet) for subject in vids for subnet in subnets[:1])
