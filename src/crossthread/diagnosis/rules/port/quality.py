"""Findings about how well a port runs: damaged frames, its speed, its cable."""

from __future__ import annotations

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.edits import raise_link
from crossthread.diagnosis.findings import Finding, at_port
from crossthread.diagnosis.registry import About, rule
from crossthread.network.topology.names import End
from crossthread.survey.records import Port


@rule(
    "port-errors",
    "Port",
    About.PORT,
    needs="ports.in_errors ports.crc_errors ports.out_errors ports.late_collisions",
    follows="link-duplex-differs cable-fault",
)
def port_errors(context: Context, end: End) -> Finding | None:
    """A port has counted damaged frames.

    Matters: frames get lost, and everything above is slow.
    Notice: slowness, broken-off transfers.
    Confirm: read the counters twice some minutes apart; if they grow, test the cable and compare duplex at both ends.
    Mend: make duplex the same at both ends; replace the cable; clear the counters and look again.
    """
    row = context.port(end)
    bad = [c for c, packets in _COUNTERS.items() if row is not None and _too_many(row, c, packets)]
    if row is None or not bad:
        return None
    known = list(dict.fromkeys(_COUNTERS[c] for c in bad if getattr(row, _COUNTERS[c])))
    listed = ", ".join(f"{c.replace('_', ' ')} {getattr(row, c)}" for c in bad)
    of = ", of " + " and ".join(f"{getattr(row, c)} packets {c.partition('_')[0]}" for c in known) if known else ""
    days = f" in {row.counted_for / _DAY:.1f} days" if row.counted_for and not known else ""
    says = f"{end} has counted {listed}{of}{days}."
    known += ["counted_for"] if days else []
    return Finding("port-errors", "risks", (at_port(end),), says, context.evidence(row, *bad, *known))


_COUNTERS = {
    "in_errors": "in_packets", "crc_errors": "in_packets", "out_errors": "out_packets",
    "late_collisions": "out_packets",
}  # fmt: skip
"""The counters of damaged frames, and that of the packets beside which each is judged."""
_RATE, _HANDFUL = 1e-5, 100
"""One damaged frame in 100,000 is ten times what a link at its worst allowed bit error rate of 1e-10 loses (IEEE
802.3); where packets were not counted, fewer than a hundred are a handful that any plug in and out leaves, and so are
as many a week where the device says for how long it has counted."""
_DAY = 86_400


def _too_many(row: Port, counter: str, packets: str) -> bool:
    """Whether damaged frames are more than a sound link has."""
    bad, good = getattr(row, counter) or 0, getattr(row, packets)
    weeks = max(1.0, (row.counted_for or 0) / (7 * _DAY))
    return bad > 0 and (bad >= _RATE * (good + bad) if good else bad >= _HANDFUL * weeks)


@rule("port-slow", "Port", About.PORT, needs="ports.capable_speed", follows="cable-fault link-speed-differs")
def port_slow(context: Context, end: End) -> Finding | None:
    """A link runs below what both its ends can.

    Matters: a wire that has lost a pair, or a wrong setting, makes it the bottleneck.
    Notice: slowness under load.
    Confirm: compare speed and highest speed at both ends; test the cable.
    Mend: replace the cable; let both ends negotiate.
    """
    row = context.port(end)
    if row is None or row.speed is None or row.capable_speed is None or row.oper == "down":
        return None
    can = [row.capable_speed]
    evidence = context.evidence(row, "speed", "capable_speed")
    for adjacency in context.adjacencies_at.get(end, ()):
        far = context.port(adjacency.far(end))
        if far is None or far.capable_speed is None:
            return None
        can.append(far.capable_speed)
        evidence += context.evidence(far, "capable_speed")
    if row.speed >= min(can):
        return None
    says = f"{end} runs at {row.speed} Mb/s, where {min(can)} Mb/s would be possible."
    return Finding("port-slow", "risks", (at_port(end),), says, evidence)


@rule("cable-fault", "Port", About.PORT, needs="cables.status=open,short,crosstalk,mismatch")
def cable_fault(context: Context, end: End) -> Finding | None:
    """A cable test found a pair that is not sound.

    Matters: the link may be down, or up at a lower speed on the pairs that are left.
    Notice: a link that is down, or slow, or comes and goes.
    Confirm: repeat the test; look at the distance it gives.
    Mend: replace the cable, or mend it at the distance given.
    """
    names = context.network.names
    bad = [
        row
        for row in context.network.survey.cables
        if row.status not in (None, "ok", "unknown") and names.device(row.device) == end.device and row.port == end.port
    ]
    if not bad:
        return None
    listed = ", ".join(
        f"pair {row.pair} {row.status}" + (f" at {row.length:g} m" if row.length is not None else "") for row in bad
    )
    evidence = tuple(fact for row in bad for fact in context.evidence(row, "status", "length"))
    port, slower = context.port(end), ""
    if port is not None and port.oper == "up" and port.speed and port.capable_speed and port.speed < port.capable_speed:
        slower = f" The link is up at {port.speed} Mb/s instead of {port.capable_speed}, which may be because of it."
        evidence += context.evidence(port, "speed", "capable_speed")
    elif port is not None and port.oper == "up":
        slower = " The link is up on the pairs that are left, perhaps at a lower speed."
    dark = port is not None and port.oper == "down" and port.admin != "down"
    evidence += context.evidence(port, "oper") if dark else ()
    says = f"The cable at {end} tested: {listed}.{' The link is down.' if dark else slower}"
    repair = raise_link(context, end) if dark else ()
    return Finding("cable-fault", "breaks" if dark else "risks", (at_port(end),), says, evidence, repair)
