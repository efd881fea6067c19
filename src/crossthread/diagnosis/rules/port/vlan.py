"""Findings about the VLAN of a port that leads to a host: wrong, missing on its device, or suspended."""

from __future__ import annotations

from collections import Counter, defaultdict

from msgspec.structs import replace

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.edits import set_port
from crossthread.diagnosis.expected.listed_vlans import ListedVlans
from crossthread.diagnosis.expected.misaddressed import asks_for_another
from crossthread.diagnosis.findings import Alternative, Finding, at_port, at_station
from crossthread.diagnosis.registry import About, rule
from crossthread.diagnosis.rules.host.subnet import host_outside_subnet
from crossthread.network.hosts.station import HostStation, Station
from crossthread.network.topology.adjacency import Adjacency, bundle
from crossthread.network.topology.names import End
from crossthread.survey.changes import Change
from crossthread.survey.records import MacEntry, Port
from crossthread.survey.survey import Evidence
from crossthread.values import NONE, PrefixedAddress


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
    Decide: ask which VLAN is meant for what is plugged in: its owner, the label of the socket, or whoever changed
    either last.
    Mend: put the port into the VLAN of the host's subnet.
    """
    wanted = vid or context.expected.vlan(host)
    if host.end is None or wanted is None or context.expected.planned(host) not in (None, wanted):
        return None
    row = context.port(host.end)
    if row is None or not _may_be_access(row) or row.pvid is None or row.pvid == wanted or host.may_tag:
        return None  # of one that tags it is told what its tag does there
    if asks_for_another(context, host):
        return None
    evidence = context.evidence(row, "mode", "pvid") + context.evidence(host.row, "address")
    evidence += vlan_witnesses(context, host, wanted)
    now = f"VLAN {row.pvid}" if row.pvid else "no VLAN"
    settled = wanted == context.expected.vlan(host) and host.address is not None
    blind = not settled and context.network.unread.anywhere and not context.expected.gateways(host)
    listed, lan = context.once(ListedVlans), context.network.lan(host)
    unlisted = blind and listed.misses(row.pvid, lan) and not listed.misses(wanted, lan)
    cut_off = unlisted and _is_cut_off(context, host, row.pvid)
    outvoted = unlisted and not cut_off and _is_outvoted(context, host, wanted)
    odd = blind and (cut_off or outvoted or context.expected.astray(host))
    odd = odd and _one_home(context, host, not (cut_off or outvoted)) == wanted
    belongs = f"belongs to {host.address.network}, which lives in" if settled and host.address else "would need"
    says = f"{host.end} is in {now}; {host.name} {belongs} VLAN {wanted}."
    if odd:
        why = f"where others live and none of the subnet of {host.name}; one of that subnet"
        if cut_off:
            why = f"which no other port of {host.end.device} carries; one of the subnet of {host.name}"
        says = f"{host.end} is in {now}, {why} is in VLAN {wanted}. Its gateway would decide, and nobody read that."
        if outvoted:
            others = f"all others of the subnet of {host.name} are in VLAN {wanted}"
            says = f"{host.end} is in {now}, which no trunk's list names; {others}."
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


@rule("port-vlan-wrong", "Port")
def port_vlan_of_nobody(context: Context, host: HostStation) -> Finding | None:
    """No two of a subnet are in one VLAN, and trunks name just one VLAN in which nobody is.

    Matters: the stations of the subnet do not hear each other.
    Notice: each of them is alone, or among the stations of another subnet.
    Confirm: ask which VLAN the subnet is meant to live in; look why the trunks carry one in which nobody is.
    Mend: put the ports of the subnet's stations into that VLAN.
    """
    row = context.port(host.end) if host.end is not None else None
    if host.address is None or host.end is None or row is None or row.mode != "access" or not row.pvid:
        return None
    homes = [group.vid for group in context.expected.groups(host.address.ip) for _ in group.stations[:2]]
    if len(homes) < 2 or len(set(homes)) < len(homes):
        return None
    listed = context.once(ListedVlans)
    empty = listed.empty
    if len(empty) != 1:
        return None
    lan = context.network.lan(host)
    if not all(vid and (listed.misses(vid, lan) or _has_strangers(context, vid, host, host.address)) for vid in homes):
        return None  # one of them is where it may well belong
    (vid,) = empty
    return Finding(
        "port-vlan-wrong",
        "breaks",
        (at_port(host.end, vid), at_station(host)),
        f"{host.end} is in VLAN {row.pvid}, and no two of {host.address.network} are in one VLAN; trunks name VLAN "
        f"{vid}, in which nobody is.",
        context.evidence(row, "mode", "pvid") + context.evidence(host.row, "address"),
        (set_port(host.end, pvid=vid),),
    )


@rule("port-vlan-wrong", "Port", About.LINK)
def shared_port_vlan_wrong(context: Context, adjacency: Adjacency, vid: int | None = None) -> Finding | None:
    """A port that leads to a bridge without regard to VLANs is in another VLAN than the subnet of the hosts behind.

    Matters: all that is plugged into that bridge talks to the wrong VLAN's stations.
    Notice: the hosts behind one small bridge have no network, or another one's.
    Confirm: compare the port's VLAN with the subnet of the hosts at the bridge behind it.
    Mend: put the port into the VLAN of those hosts, unless as many others there are in the right one.
    """
    for end in (adjacency.a, adjacency.b):
        row, hosts = context.port(end), context.behind(end)
        if row is None or not row.pvid or not _may_be_access(row) or not hosts:
            continue
        counts = Counter(found for host in hosts if (found := context.expected.vlan(host)))
        wanted = vid or next((found for found, _ in counts.most_common(1)), None)
        host = next((host for host in hosts if context.expected.vlan(host) == wanted), None)
        if wanted in (None, row.pvid) or host is None:
            continue
        says = f"{end} is in VLAN {row.pvid}; {host.name}, at {host.end or adjacency.far(end)} behind it, "
        says += f"belongs to VLAN {wanted}."
        evidence = context.evidence(row, "mode", "pvid") + context.evidence(host.row, "address")
        evidence += context.evidence(context.device(adjacency.far(end).device), "vlan_aware")
        told = Finding("port-vlan-wrong", "breaks", (at_port(end, wanted), at_station(host)), says, evidence)
        mend = (set_port(end, pvid=wanted),)
        if counts[row.pvid] < counts[wanted]:
            return replace(told, repair=mend)
        other = next(host for host in hosts if context.expected.vlan(host) == row.pvid)
        against = (f"{other.name}, at {other.end or adjacency.far(end)} behind it, belongs to VLAN {row.pvid}",)
        return replace(told, alternatives=(Alternative(mend, (), against=against),))
    return None


def _may_be_access(row: Port) -> bool:
    """Whether a port is an access port, or nobody read that, and no list of VLANs is set there as at a trunk."""
    return row.mode == "access" or (row.mode is None and row.allowed is None)


def _one_home(context: Context, host: HostStation, own: bool) -> int | None:
    """The one VLAN in which hosts of a host's subnet are and nobody else; None if there are several, or none.

    One that has another gateway is none of them: its own settings are in doubt. Its own VLAN counts only with `own`;
    then one whose VLAN nobody read may be there, too.
    """
    if host.address is None:
        return None
    hop = host.row.gateway
    alike = (one for one in context.expected.groups(host.address.ip) if str(one.gateway or NONE) == (hop or NONE))
    homes = {group.vid for group in alike if len(group.stations) > 1 or group.stations[0] is not host}
    homes |= {context.expected.current_vlan(host)} if own else set()
    alone = {vid for vid in homes - {None} if not _has_strangers(context, vid or 0, host, host.address)}
    return alone.pop() if len(alone) == 1 and not (own and None in homes) else None


def _is_cut_off(context: Context, host: HostStation, vid: int) -> bool:
    """Whether a VLAN surely is nowhere on a device but at a host's port, and nobody else was learned there.

    So nobody can work with the host where it is, and nobody moves along with it.
    """
    network, end = context.network, host.end
    if end is None or not network.covered.fully(end.device, "ports"):
        return False
    others = [End(end.device, port) for port in network.names.ports.get(end.device, {}) if port != end.port]
    whole = [one for one in others if bundle(one, network.names) == one]
    up = [one for one in whole if (row := context.port(one)) and "down" not in (row.admin, row.oper)]
    if any(network.fabric.carried(one).possible >> vid & 1 for one in up):
        return False
    device, own = context.device(end.device), network.stations.on_device.get(end.device, ())
    served = network.covered.fully(end.device, "gateways") or (device is not None and device.routing == "no")
    return _learned_at(context, end) <= {host.row.mac} and served and all(s.row.vid != vid or s.row.port for s in own)


def _learned_at(context: Context, end: End) -> set[str | None]:
    """The addresses that a filtering database has at a port."""
    rows, names = context.network.survey.rows(MacEntry), context.network.names
    entries = (rows[n] for n in rows.positions("device").get(end.device.casefold(), ()))
    return {entry.mac for entry in entries if entry.port and names.port(end.device, entry.port) == end.port}


def _is_outvoted(context: Context, host: HostStation, wanted: int) -> bool:
    """Whether several of a host's subnet are in another VLAN, and none in its own.

    It has no gateway, so it works with nobody else where it is, and nobody was learned there who would move along.
    """
    if host.row.gateway != NONE or (host.end is not None and not _learned_at(context, host.end) <= {host.row.mac}):
        return False
    groups = context.expected.groups(host.address.ip) if host.address is not None else []
    others = [group for group in groups for station in group.stations if station is not host]
    return sum(group.vid == wanted for group in others) > 1 and all(group.vid == wanted for group in others)


def _has_strangers(context: Context, vid: int, host: HostStation, own: PrefixedAddress) -> bool:
    """Whether hosts of another subnet are in a VLAN, other than those whose subnet lives elsewhere."""
    firsts = (one.hosts[0] for one in context.living_in(vid, host) if not context.expected.on_trunk(one.hosts[0]))
    others = (first.address for first in firsts if context.expected.vlan(first) in (None, vid))
    return any(ip is not None and ip.ip not in own.network and own.ip not in ip.network for ip in others)


def _either(
    context: Context, host: HostStation, now: int, wanted: int, move: tuple[Change, ...]
) -> tuple[Alternative, ...]:
    """The ways to bring a host and one of its subnet into one VLAN, where nothing says which is right."""
    assert host.end is not None
    mates: dict[int, list[End]] = defaultdict(list)
    for mate in context.expected.near(host.address.ip) if host.address is not None else ():
        row = context.port(mate.end) if isinstance(mate, HostStation) and mate.end is not None else None
        if row is None or row.mode != "access" or not row.pvid or mate.end in (None, host.end):
            continue
        if row.pvid == wanted or not context.expected.astray(mate):
            mates[row.pvid].append(End(row.device, row.port))
    there = mates.pop(wanted, [])
    if not there:
        return (Alternative(move, ()),)
    found = [Alternative(move, (f"{there[0]} is in VLAN {wanted}",))]
    own = host.address
    astray = context.expected.astray(host) and (
        own is None or (_has_strangers(context, now, host, own) and not _has_strangers(context, wanted, host, own))
    )
    if now and not astray:
        found.append(Alternative(tuple(set_port(end, pvid=now) for end in there), (f"{host.end} is in VLAN {now}",)))
    for vid, ends in mates.items():
        if vid != now:
            both = tuple(set_port(end, pvid=vid) for end in (host.end, *there))
            found.append(Alternative(both, (f"{ends[0]} is in VLAN {vid}",)))
    if (third := port_vlan_of_nobody(context, host)) is not None:
        both = (*third.repair, *(set_port(end, **third.repair[0].cells) for end in there))
        found.append(Alternative(both, (f"trunks name VLAN {third.subjects[0].vid}, in which nobody is",)))
    return tuple(found)


def vlan_witnesses(context: Context, station: Station, vid: int) -> tuple[Evidence, ...]:
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
            row = context.port(other.end)
            found += context.evidence(row, "pvid") if row is not None and row.pvid is not None else ()
    return found
