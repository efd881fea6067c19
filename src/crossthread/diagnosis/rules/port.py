"""Findings about a single port: its state, its VLAN, whom it admits, how it runs."""

from __future__ import annotations

from collections import Counter

from crossthread.diagnosis.context import Context, in_use
from crossthread.diagnosis.edits import closed_itself, raise_link, set_port
from crossthread.diagnosis.findings import Alternative, Finding, Subject, at_port, at_station
from crossthread.diagnosis.registry import About, rule
from crossthread.diagnosis.rules.host import host_outside_subnet
from crossthread.network.hosts.station import HostStation, Station
from crossthread.network.hosts.stations import admits
from crossthread.network.topology.names import End
from crossthread.survey.changes import Change
from crossthread.survey.records import Host, Port
from crossthread.survey.survey import Evidence
from crossthread.values import NO_VID


def _users(context: Context, end: End) -> str:
    hosts = [host.name for host in context.hosts_at(end)]
    faces = [str(a.far(end)) for a in context.adjacencies_at.get(end, ())]
    return " and ".join(hosts + faces) or "nothing known"


@rule("port-admin-down", "Port", About.PORT, needs="ports.admin=down", where=in_use, cuts=True)
def port_admin_down(context: Context, end: End) -> Finding | None:
    """A port that something is plugged into has been shut.

    Matters: nothing behind it sends or hears anything.
    Notice: what hangs on it has no network.
    Confirm: look at the port's configured state, and ask who shut it and why before opening it.
    Mend: open the port, once it is known why it was shut.
    """
    row = context.port(end)
    if row is None or row.admin != "down":
        return None
    return Finding(
        "port-admin-down",
        "breaks",
        (at_port(end),),
        f"{end} is shut by configuration; it leads to {_users(context, end)}.",
        context.evidence(row, "admin", "oper", "description"),
        raise_link(context, end),
    )


@rule(
    "port-down",
    "Port",
    About.PORT,
    needs="ports.oper=down",
    where=in_use,
    unless=(port_admin_down,),
    cuts=True,
    follows="port-admin-down host-link-down cable-fault",
)
def port_down(context: Context, end: End) -> Finding | None:
    """A port that something is plugged into has no link though nobody shut either end.

    Matters: nothing behind it sends or hears anything.
    Notice: what hangs on it has no network.
    Confirm: look at both ends' link lamps; test or swap the cable.
    Mend: plug in or replace the cable; look at the device at the other end.
    """
    row = context.port(end)
    if row is None or row.oper != "down" or row.admin == "down" or closed_itself(row):
        return None
    far = [context.port(a.far(end)) for a in context.adjacencies_at.get(end, ())]
    if any(other is not None and other.admin == "down" for other in far):
        return None
    if any(host.row.link == "down" for host in context.hosts_at(end)):
        return None
    return Finding(
        "port-down",
        "breaks",
        (at_port(end),),
        f"{end} is open but has no link; it leads to {_users(context, end)}.",
        context.evidence(row, "admin", "oper"),
        raise_link(context, end),
    )


@rule(
    "port-vlan-wrong",
    "Port",
    About.HOST,
    reads="subnet port-vlan place expected",
    unless=(host_outside_subnet,),
    follows="link-mode-differs gateway-vlan-wrong port-vlan-wrong",
)
def port_vlan_wrong(context: Context, host: HostStation, vid: int | None = None) -> Finding | None:
    """A host's port is in another VLAN than the host's subnet.

    Matters: the host talks to the wrong VLAN's stations and not to its own.
    Notice: the host gets no address or one of another network, and reaches the wrong neighbours.
    Confirm: compare the port's VLAN with that of the host's neighbours, and with the tag of the gateway of the host's
    subnet.
    Mend: put the port into the VLAN of the host's subnet.
    """
    wanted = vid or context.expected.vlan(host)
    if host.end is None or wanted is None:
        return None
    row = context.port(host.end)
    if row is None or row.mode not in (None, "access") or row.pvid is None or row.pvid == wanted:
        return None
    evidence = context.evidence(row, "mode", "pvid") + context.evidence(host.row, "address")
    evidence += _vlan_witnesses(context, host, wanted)
    now = f"VLAN {row.pvid}" if row.pvid else "no VLAN"
    settled = wanted == context.expected.vlan(host) and host.address is not None
    blind = not settled and context.network.unread.anywhere and not context.expected.gateways(host)
    mates = [s for s in context.expected.near_in(host.address.ip, wanted) if s is not host] if host.address else []
    odd = blind and context.expected.astray(host) and not any(context.expected.astray(mate) for mate in mates)
    belongs = f"belongs to {host.address.network}, which lives in" if settled and host.address else "would need"
    says = f"{host.end} is in {now}; {host.name} {belongs} VLAN {wanted}."
    if odd:
        says = f"{host.end} is in {now}, where others live and none of the subnet of {host.name}; one of that subnet "
        says += f"is in VLAN {wanted}. Its gateway would decide, and nobody read that."
    elif blind:
        says = f"{host.end} is in {now}, and one of the same subnet in VLAN {wanted}; which of the two is right, its "
        says += "gateway would say, and nobody read that."
    move = (set_port(host.end, pvid=wanted),)
    return Finding(
        "port-vlan-wrong",
        "breaks",
        (at_port(host.end, wanted), at_station(host)),
        says,
        evidence,
        move if odd or not blind else (),
        _either(context, host, row.pvid, wanted, move) if blind and not odd else (),
    )


def _either(
    context: Context, host: HostStation, now: int, wanted: int, move: tuple[Change, ...]
) -> tuple[Alternative, ...]:
    """Both ways to bring a host and the others of its subnet into one VLAN, where nothing says which is right."""
    there = context.expected.near_in(host.address.ip, wanted) if host.address is not None else iter(())
    ports = [s.end for s in there if isinstance(s, HostStation) and s.end is not None and s is not host]
    rows = [(end, row) for end in ports if (row := context.port(end)) is not None and row.mode == "access"]
    found = [Alternative(move, tuple(f"{end} is in VLAN {wanted}" for end, _ in rows[:1]))]
    if rows and now:
        others = tuple(set_port(end, pvid=now) for end, _ in rows)
        found.append(Alternative(others, (f"{host.end} is in VLAN {now}",)))
    return tuple(found)


def _vlan_witnesses(context: Context, station: Station, vid: int) -> tuple[Evidence, ...]:
    """Up to three facts that say a station's subnet lives in a VLAN."""
    if station.address is None:
        return ()
    found: tuple[Evidence, ...] = ()
    for other in context.expected.near_in(station.address.ip, vid):
        if len(found) >= 3:
            break
        if other is station:
            continue
        if not isinstance(other, HostStation) and getattr(other.row, "vid", None):
            found += context.evidence(other.row, "vid")
        elif other.end is not None and isinstance(other, HostStation):
            found += context.evidence(context.port(other.end), "pvid")
    return found


@rule("port-vlan-missing", "Port", About.LOST_VLAN, cuts=True)
def port_vlan_missing(context: Context, end: End, vid: int) -> Finding | None:
    """The VLAN of a port does not exist on its device.

    Matters: the device drops the frames of a VLAN that it does not have, without a word.
    Notice: hosts on that port have no network, though the port is up.
    Confirm: list the device's VLANs and look for this one.
    Mend: make the VLAN on that device.
    """
    rows = context.network.fabric.vlan_rows.get(end.device)
    if not rows or vid in rows:
        return None
    cells = {"state": "active", **({"name": context.vlan_names[vid]} if vid in context.vlan_names else {})}
    return Finding(
        "port-vlan-missing",
        "breaks",
        (at_port(end, vid),),
        f"VLAN {vid} does not exist on {end.device}, whose ports drop its frames ({end.port} is one that needs it).",
        context.evidence(context.port(end), "mode", "pvid", "allowed")
        + context.evidence(next(iter(rows.values())), "vid"),
        (Change("vlans", {"device": end.device, "vid": vid}, cells),),
    )


@rule("port-vlan-missing", "Port")
def gateway_vlan_lost(context: Context, gateway: Station, vid: int) -> Finding | None:
    """A gateway interface sits on a device on which its VLAN does not exist, or is suspended.

    Matters: the interface hears nothing of its VLAN.
    Notice: the subnet has no way out.
    Confirm: list the device's VLANs with their states.
    Mend: make the VLAN on that device, or activate it.
    """
    end = End(gateway.device, gateway.name)
    return port_vlan_missing(context, end, vid) or vlan_suspended(context, end, vid)


@rule("vlan-suspended", "Port", About.LOST_VLAN, cuts=True)
def vlan_suspended(context: Context, end: End, vid: int) -> Finding | None:
    """A VLAN exists on a device but has been suspended there.

    Matters: the device forwards none of its frames.
    Notice: the VLAN is cut at that device.
    Confirm: list the device's VLANs with their states.
    Mend: activate the VLAN there.
    """
    row = context.network.fabric.vlan_row(end.device, vid)
    if row is None or row.state != "suspended":
        return None
    return Finding(
        "vlan-suspended",
        "breaks",
        (Subject(device=end.device, vid=vid),),
        f"VLAN {vid} is suspended on {end.device}.",
        context.evidence(row, "state"),
        (Change("vlans", {"device": end.device, "vid": vid}, {"state": "active"}),),
    )


@rule(
    "port-mode-wrong",
    "Port",
    About.HOST,
    reads="subnet port-vlan place tag expected",
    cuts=True,
    follows="gateway-port-mode-wrong link-mode-differs port-mode-wrong",
)
def port_mode_wrong(context: Context, host: HostStation, vid: int | None = None) -> Finding | None:
    """A host that does not tag is plugged into a trunk that does not carry its VLAN untagged.

    Matters: its frames join the trunk's native VLAN or are dropped, and it does not understand the tags it hears.
    Notice: the host has no network, or that of the native VLAN.
    Confirm: look at the port's mode and at what is really plugged in.
    Mend: make it an access port of the host's VLAN.
    """
    if host.end is None or (isinstance(host.row, Host) and host.row.vid):
        return None
    row, wanted = context.port(host.end), vid or context.expected.vlan(host)
    if row is None or row.mode not in ("trunk", "hybrid") or wanted is None:
        return None
    if row.pvid == wanted and context.network.fabric.leaves(host.end, NO_VID).has(wanted) is not False:
        return None
    native = f"native VLAN {row.pvid}" if row.pvid else ("no native VLAN" if row.pvid == 0 else "native VLAN unknown")
    possible = [wanted, *_as_likely(context, host, wanted)]
    moves = [(set_port(host.end, mode="access", pvid=one, allowed="", untagged=""),) for one in possible]
    undecided = len(possible) > 1
    belongs = " or ".join(map(str, possible)) + "; nothing that was read decides which" * undecided
    return Finding(
        "port-mode-wrong",
        "breaks",
        (at_port(host.end, wanted), at_station(host)),
        f"{host.end} is a {row.mode} ({native}), but {host.name} does not tag and belongs to VLAN {belongs}.",
        context.evidence(row, "mode", "pvid", "allowed") + _vlan_witnesses(context, host, wanted),
        () if undecided else moves[0],
        tuple(Alternative(move, ()) for move in moves) if undecided else (),
    )


def _as_likely(context: Context, host: HostStation, wanted: int) -> list[int]:
    """The other VLANs in which as many hosts of a host's subnet are, if no gateway of it is known to decide."""
    if host.address is None or context.expected.gateways(host) or context.expected.planned(host) is not None:
        return []
    mates = [s for s in context.expected.near(host.address.ip) if isinstance(s, HostStation) and s is not host]
    counts = Counter(vid for s in mates if (vid := context.expected.current_vlan(s)))
    return [vid for vid, count in counts.items() if vid != wanted and count >= counts[wanted] > 0]


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
    if row is None or host.end is None or row.mode != "trunk" or host.row.vid or not row.pvid:
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


@rule("port-refuses-station", "Port", About.HOST, needs="ports.allowed_macs")
def port_refuses_station(context: Context, host: HostStation) -> Finding | None:
    """The port admits only certain stations, and this host is none of them.

    Matters: its frames are dropped, or the port shuts itself.
    Notice: the host has no network at this socket, and does at others.
    Confirm: compare the host's MAC address with the port's list, and look at the port's count of refusals.
    Mend: admit the host's MAC address, or plug in the host that was meant.
    """
    row = context.port(host.end) if host.end else None
    if host.end is None or row is None or admits(row, host.row.mac):
        return None
    admitted, own = list(row.allowed_macs or ()), str(host.row.mac)
    there = {other.row.mac for other in context.hosts_at(host.end)}
    listed = [*admitted, own]
    if row.mac_limit is not None and len(listed) > row.mac_limit:  # those that are not there give way
        listed = [mac for mac in listed if mac in there][-row.mac_limit :] if row.mac_limit else []
    closed = closed_itself(row)
    says = f"{host.end} admits only {' '.join(admitted)}; {host.name} has {own}."
    says += " It closed itself, and stays closed until somebody opens it again." if closed else ""
    return Finding(
        "port-refuses-station",
        "breaks",
        (at_port(host.end), at_station(host)),
        says,
        context.evidence(row, "allowed_macs", "mac_limit", "violation", "violations", *(["oper"] if closed else []))
        + context.evidence(host.row, "mac"),
        (set_port(host.end, allowed_macs=" ".join(listed)), *(raise_link(context, host.end) if closed else ())),
    )


@rule("port-refuses-station", "Port", About.PORT, needs="ports.violations")
def port_has_refused(context: Context, end: End) -> Finding | None:
    """A port has refused stations that it does not admit.

    Matters: somebody plugged in something else there, or a host got a new interface.
    Notice: a host without any network at that socket.
    Confirm: look at the port's list of stations and at what is plugged in now.
    Mend: admit the station, or unplug it; then clear the count, and open the port if it closed itself.
    """
    row = context.port(end)
    if row is None or not row.violations:
        return None
    if any(not admits(row, host.row.mac) for host in context.hosts_at(end)):
        return None  # told of the host itself
    then = {"shutdown": ", and shuts itself when it does", "drop": ", whose frames it drops"}.get(
        row.violation or "", ""
    )
    closed = closed_itself(row)
    says = f"{end} has refused stations {row.violations} times{then}."
    says += " It is closed now, and stays so until somebody opens it again." if closed else ""
    return Finding(
        "port-refuses-station",
        "breaks" if closed else "risks",
        (at_port(end),),
        says,
        context.evidence(row, "violations", "violation", "allowed_macs", "mac_limit"),
        raise_link(context, end) if closed else (),
    )


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
    says = f"{end} has counted {listed}{of}."
    return Finding("port-errors", "risks", (at_port(end),), says, context.evidence(row, *bad, *known))


_COUNTERS = {
    "in_errors": "in_packets", "crc_errors": "in_packets", "out_errors": "out_packets",
    "late_collisions": "out_packets",
}  # fmt: skip
"""The counters of damaged frames, and that of the packets beside which each is judged."""
_RATE, _HANDFUL = 1e-5, 100
"""One damaged frame in 100,000 is ten times what a link at its worst allowed bit error rate of 1e-10 loses (IEEE
802.3); where packets were not counted, fewer than a hundred are a handful that any plug in and out leaves."""


def _too_many(row: Port, counter: str, packets: str) -> bool:
    """Whether damaged frames are more than a sound link has."""
    bad, good = getattr(row, counter) or 0, getattr(row, packets)
    return bad > 0 and (bad >= _RATE * (good + bad) if good else bad >= _HANDFUL)


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
