"""What may be wrong with a host whose port, address and gateway do not agree: each way in which they could."""

from __future__ import annotations

from collections.abc import Iterator

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.findings import Finding
from crossthread.diagnosis.judgement.hearing import Hearing
from crossthread.diagnosis.judgement.weighing import accused, weight
from crossthread.diagnosis.repair.candidates import gateway_to
from crossthread.diagnosis.rules.host import host_of_another_vlan, host_outside_peers, host_outside_subnet
from crossthread.diagnosis.rules.port import port_mode_wrong, port_vlan_wrong
from crossthread.network.hosts.station import HostStation

_HOMES = 2
"""Of a subnet that lives in more VLANs, only the first are tried."""


def hypotheses(context: Context, host: HostStation) -> Iterator[Finding]:
    """The findings any one of which would explain why a host's port and its address are of different VLANs.

    Two of its three facts (the VLAN of its port, its address, its gateway) should agree; the odd one out is the fault.
    None if nothing else is known to live in the host's subnet, or it lives in the VLAN of the host's port.
    """
    now, own = context.expected.current_vlan(host), host.address
    row = context.port(host.end) if host.end is not None else None
    if row is not None and row.mode in ("trunk", "hybrid") and (told := port_mode_wrong(context, host)) is not None:
        yield told
    if now is None or own is None or row is None or row.mode != "access":
        return
    hearing = Hearing(context)
    homes = hearing.home(hearing.kin(host))
    if not homes or homes == {now}:
        return
    usual = context.expected.vlan(host)
    for vid in sorted(homes - {now}, key=lambda vid: (vid != usual, vid))[:_HOMES]:
        moved = port_vlan_wrong(context, host, vid)
        if moved is not None:
            yield moved
    yield from gateway_to(context, host)
    asked = (host_outside_subnet, host_of_another_vlan, host_outside_peers)
    renamed = next((told for rule in asked if (told := rule(context, host)) is not None), None)
    if renamed is not None:
        yield renamed


def judged(context: Context, host: HostStation) -> Finding | None:
    """The most likely of them, if more speaks for it than against it."""
    found = [finding for finding in hypotheses(context, host) if finding.repair]
    heavy = [weight(Hearing(context, accused([finding])), finding.repair) for finding in found]
    best = max(range(len(found)), key=heavy.__getitem__, default=None)
    return found[best] if best is not None and heavy[best] > 0 else None
