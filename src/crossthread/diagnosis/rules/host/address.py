"""Findings about a host's address: none, or somebody else's too."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from itertools import compress, count
from operator import ne

from msgspec.structs import replace

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.edits import set_host
from crossthread.diagnosis.expected.asked_addresses import more_usual
from crossthread.diagnosis.expected.free_addresses import free_address
from crossthread.diagnosis.expected.voters import gateway_address
from crossthread.diagnosis.findings import Alternative, Finding, at_station
from crossthread.diagnosis.registry import About, rule
from crossthread.network.hosts.station import HostStation, Interface, Station
from crossthread.network.routing.unread_addresses import VIRTUAL_MAC
from crossthread.network.topology.names import End
from crossthread.survey.records import ArpEntry
from crossthread.values import NONE, Address, PrefixedAddress, address


def beside(context: Context, host: HostStation) -> list[Station]:
    """In whose subnets a host without an address may be: interfaces, and a host of each kind; the likeliest first.

    Where it has a gateway, that tells its subnet: better than an interface in its VLAN that has another.
    """
    return _in_vlan(context, host, context.expected.current_vlan(host))


def _in_vlan(context: Context, host: HostStation, vid: int | None) -> list[Station]:
    """The same of a host in some VLAN."""
    kept = _kept(host)
    used = [s for s in context.network.stations.by_address.of(kept or "") if isinstance(s, Interface)]
    here = context.expected.served(vid, host) if vid else []
    peers = [one for one in context.living_in(vid, host) if one.block is not None]
    peers.sort(key=lambda one: (context.expected.vlan(one.hosts[0]) != vid, -len(one.hosts), one.block))
    groups = [one.hosts[0] for one in peers] if vid else []
    return sorted([*here, *used, *groups], key=lambda s: not _has(context, s, kept))


def _kept(host: HostStation) -> str | None:
    return host.row.gateway if host.row.gateway != NONE else None


def _described_at(context: Context, host: HostStation) -> tuple[End, int] | None:
    """The one access port whose description names a host of which nothing else tells where it is, and its VLAN."""
    end = context.only_named_at(host)
    row = context.port(end) if end is not None else None
    return (end, row.pvid) if end is not None and row is not None and row.mode == "access" and row.pvid else None


def _subnets_for(context: Context, host: HostStation, vid: int | None) -> Iterator[tuple[dict[str, str], str]]:
    """What a host without an address may be given: its cells, and whose subnet they are of; the likeliest first."""
    kept = _kept(host)
    in_vlan = f"VLAN {vid}, which its port is in,"
    for station in _in_vlan(context, host, vid):
        subnet = context.expected.subnet(station)
        free = free_address(context, subnet, host) if subnet is not None else None
        if subnet is None or free is None:
            continue
        if isinstance(station, HostStation) and not kept and _disputed(context, station, subnet):
            return
        cells = {"address": f"{free}/{subnet.network.prefixlen}"}
        if isinstance(station, HostStation):
            whose = f"The others in {in_vlan} are in {subnet.network}"
        else:
            if not (kept and address(kept) in subnet.network and _stays(context, station, address(kept))):
                cells["gateway"] = str(gateway_address(station))
            whose = f"{'Its gateway' if str(station.ip) == kept else in_vlan} has the subnet {subnet.network}"
        yield cells, f"{whose}; {free} is free there."


def _disputed(context: Context, host: HostStation, subnet: PrefixedAddress) -> bool:
    """Whether as many hosts in its VLAN should have another prefix length as a subnet's, which no interface is in."""
    if any(own.address is not None for own in context.expected.interfaces_near(subnet.ip)):
        return False
    lengths = Counter[int]()
    for one in context.living_in(context.expected.current_vlan(host), host):
        own = context.expected.subnet(one.hosts[0])
        if own is not None and own.version == subnet.version and own.network.overlaps(subnet.network):
            lengths[own.network.prefixlen] += len(one.hosts)
    return 2 * lengths[subnet.network.prefixlen] <= lengths.total()


def _stays(context: Context, gateway: Station, hop: Address) -> bool:
    """Whether a host keeps its gateway: others have it too, or it is where gateways are, and the interface is not."""
    usual = isinstance(gateway, Interface) and gateway.address is not None and more_usual(context, gateway, hop)
    return usual or len(context.expected.users(hop)) > 1


def _has(context: Context, station: Station, hop: str | None) -> bool:
    """Whether an address is in a station's subnet, as that should be; without an address, whether any may be."""
    subnet = context.expected.subnet(station)
    return hop is None or (subnet is not None and address(hop) in subnet.network)


@rule("host-address-missing", "Host", About.HOST, reads="subnet current-vlan expected")
def host_address_missing(context: Context, host: HostStation) -> Finding | None:
    """The host was seen to have no IP address.

    Matters: it can neither send nor answer IP packets.
    Notice: the host reaches nothing; others do not find it.
    Confirm: list the addresses on the host; if it should get one by DHCP, look whether a server or relay serves its
    VLAN.
    Mend: give it a free address of its VLAN's subnet, or mend DHCP there.
    """
    return next(addresses_missing(context, host), None)


def addresses_missing(context: Context, host: HostStation) -> Iterator[Finding]:
    """The same with each address that a host without one may be given, one a subnet; the likeliest first."""
    if host.row.address != NONE:
        return
    says = f"{host.name} has no IP address."
    found = Finding("host-address-missing", "breaks", (at_station(host),), says, context.evidence(host.row, "address"))
    described = _described_at(context, host)
    vid = described[1] if described is not None else context.expected.current_vlan(host)
    subnets, told = list(_subnets_for(context, host, vid)), set[str]()
    for cells, hint in subnets:
        if described is not None:  # whether it is there nobody read
            end = described[0]
            facts = context.evidence(context.port(end), "description", "pvid")
            says = f"{says} Only the description of {end} tells where it may be, in VLAN {vid}."
            maybe = (Alternative((set_host(host, **cells),), (f"{end} names it in its description",)),)
            yield replace(found, says=says, evidence=found.evidence + facts, alternatives=maybe)
            return
        if cells["address"] not in told:
            told.add(cells["address"])
            yield replace(found, says=f"{says} {hint}", repair=(set_host(host, **cells),))
    yield from [] if subnets else [found]


@rule("host-address-duplicate", "Host", About.HOST, reads="holders")
def host_address_duplicate(context: Context, host: HostStation) -> Finding | None:
    """Another host, or a gateway, has the same address.

    Matters: whoever asks for the address gets one answer or the other, and it changes from minute to minute.
    Notice: sessions break off; the host is reached now and then.
    Confirm: ask for the address by ARP from a third host and count the MAC addresses that answer.
    Decide: ask which of the two was given the address, and when.
    Mend: give one of the two another address; of a host and the gateway of others, the host.
    """
    if host.address is None:
        return None
    others = [s for s in context.network.stations.by_address.of(str(host.address.ip)) if s is not host]
    if not others:
        return None
    listed = ", ".join(s.name if isinstance(s, HostStation) else f"{s.device} {s.name}" for s in others)
    evidence = context.evidence(host.row, "address", "mac")
    for other in others:
        evidence += context.evidence(other.row, "address")
    either = list(other_addresses(context, host.address, [host, *others]))
    one = len(either) == 1
    return Finding(
        "host-address-duplicate",
        "breaks",
        (at_station(host), *map(at_station, others)),
        f"{host.name} has the address {host.address.ip}, and so has {listed}."
        + "".join(f" {says}." for told in either if one for says in told.because),
        evidence,
        either[0].changes if one else (),
        alternatives=() if one else tuple(either),
    )


def other_addresses(context: Context, shared: PrefixedAddress, holders: Sequence[Station]) -> Iterator[Alternative]:
    """Another address for whichever of two has one that is not its own; none unless both are known to be on one wire.

    A host that was heard at another address had that, and an interface that hosts use has its own.
    """
    hosts = [one for one in holders if isinstance(one, HostStation)]
    vids, ends = {context.expected.current_vlan(one) for one in holders}, {one.end for one in holders}
    if holders[2:] or len(vids) > 1 or (None in vids and (len(ends) > 1 or None in ends)):
        return
    if len(hosts) < len(holders) and not context.expected.users(shared.ip):
        return
    before = {
        one.name: row
        for one in hosts
        for row in context.remembered(one)
        if address(row.address) != shared.ip and address(row.address) in shared.network
    }
    for host in [one for one in hosts if one.name in before] or hosts:
        free, row = free_address(context, shared, host), before.get(host.name)
        if free is not None:
            known = row is not None and address(row.address) == free
            heard = (f"{row.device} has heard {host.name} at {free}",) if row is not None and known else ()
            yield Alternative((set_host(host, address=f"{free}/{shared.network.prefixlen}"),), heard)


@rule("host-address-duplicate", "Host", About.CAMPUS)
def address_at_another_mac(context: Context) -> Iterator[Finding]:
    """An ARP cache has a host's address at a MAC address that is not the host's, nor that of any device.

    Matters: somebody else answers for the address, or did; who asked then reaches that one, and not the host.
    Notice: the host is reached from some places and not from others; sessions break off.
    Confirm: ask for the address by ARP and count the MAC addresses that answer; look where the other one is learned.
    Mend: give one of the two another address; if only one answers, clear the cache.
    """
    survey, stations = context.network.survey, context.network.stations
    own = dict(zip(stations.ips, survey.column("hosts", "mac"), strict=True))
    heard, macs = survey.column("arp", "address"), survey.column("arp", "mac")
    odd = compress(count(), map(ne, map(own.get, heard), macs))  # nearly none, mostly
    others = [n for n in odd if macs[n] and own.get(heard[n]) is not None]
    devices = {*survey.column("ports", "mac"), *survey.column("devices", "chassis")} if others else set()
    told = set[str]()
    for n in others:
        ip, mac = heard[n], macs[n]
        if ip in told or mac in devices or mac.startswith(VIRTUAL_MAC):
            continue
        row, holders = survey.rows(ArpEntry)[n], stations.by_address.of(ip)
        askers = stations.on_device.get(context.network.names.spelled[row.device], ())
        nets = [s.address.network for s in askers if s.name == row.interface and s.address is not None]
        on_wire = any(address(ip) in net for net in nets)  # by no proxy, then
        if len(holders) != 1 or not isinstance(holders[0], HostStation) or not on_wire:
            continue
        told.add(ip)
        yield Finding(
            "host-address-duplicate",
            "risks",
            (at_station(holders[0]),),
            f"{row.device} has {ip} at {mac}, but {holders[0].name}, whose address it is, has {own[ip]}: somebody else "
            "answers for it, or did.",
            context.evidence(holders[0].row, "address", "mac") + context.evidence(row, "mac"),
        )
