"""Where hosts and gateway interfaces are attached: by which port, in which VLAN, and who hears whom there."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Iterable, Mapping, Sequence, Set
from functools import cached_property, partial
from itertools import compress, count
from operator import is_not

from crossthread.network.hosts.access import joined, joined_at
from crossthread.network.hosts.address_holders import Holders
from crossthread.network.hosts.attachments import Attachments
from crossthread.network.hosts.hosts import Hosts
from crossthread.network.hosts.learned_tags import (
    Tags,
    learned_by,
    learned_tags,
    several_at_trunks,
    tag_of,
    telephones,
)
from crossthread.network.hosts.locating import Locating
from crossthread.network.hosts.station import Attachment, HostStation, Interface, Station, Tap
from crossthread.network.switching.segments import Fabric
from crossthread.network.three_valued import Truth, agreed
from crossthread.network.topology.adjacency import Adjacency, members_of_bundles
from crossthread.network.topology.links import Link
from crossthread.network.topology.names import End, Names
from crossthread.survey import Survey
from crossthread.survey.changes import Change
from crossthread.survey.records import Gateway, Host, MacEntry, Port
from crossthread.values import NO_VID, NONE, address


class Stations:
    """Every station of a survey, found by name, address and port.

    `before` are those of a network with the same ports and links, of which this one is a copy; `touched` the ports and
    hosts whose rows differ, if nothing does of what was learned where, and of whose each MAC address is.
    """

    def __init__(
        self,
        survey: Survey,
        names: Names,
        links: Sequence[Link],
        adjacencies_at: Mapping[End, list[Adjacency]],
        fabric: Fabric,
        before: Stations | None = None,
        touched: tuple[Set[End], Set[int]] | None = None,
    ) -> None:
        self._survey, self._names, self._fabric = survey, names, fabric
        self.attachments = Attachments(survey, names, adjacencies_at, fabric)
        linked = {end for link in links for end in (link.a, link.b)}
        self._before = before if before is not None and before._names.spelled is names.spelled else None
        self._touched = touched
        alike = before is not None and self._found_alike(before)
        self.locating: Locating
        found_before = before.locating if before is not None and alike else None
        cabled, beyond = self.attachments.far, self.attachments.beyond
        self.locating = Locating(survey, names, linked, cabled, beyond, bool(fabric.open_ends), found_before)
        if self._before is not None:
            self._keep(self._before, alike)
        self.gateways = [Interface(row, row.interface, self.attachments.interface) for row in survey.gateways]
        saying = {(s.device, s.name) for s in self.gateways if s.row.proxy_arp is not None}
        self.proxies = [
            s
            for s in self.gateways
            if s.row.proxy_arp == "yes" or (s.row.proxy_arp is None and (s.device, s.name) not in saying)
        ]
        """Interfaces that may answer for others; what one row of an interface says of that holds for all of them."""
        self.on_device: dict[str, list[Interface]] = defaultdict(list)
        for station in self.gateways:
            self.on_device[station.device].append(station)

    def _keep(self, before: Stations, found_alike: bool) -> None:
        """Take over what was made of columns that did not change: these are the very same objects then."""
        same = {
            column: self._survey.column("hosts", column) is before._survey.column("hosts", column)
            for column in ("device", "port", "address")
        }
        if same["device"] and same["port"]:
            self.pairs, self.plugged = before.pairs, before.plugged
            if not self.locating.astray or found_alike:
                self.places, self.taken = before.places, before.taken
            if found_alike:
                self.crowded = before.crowded
        if same["address"]:
            self.heads, self.ips = before.heads, before.ips
        elif len(told := self._survey.column("hosts", "address")) == len(before.heads):
            self.heads = before.heads.copy()
            for n in compress(count(), map(is_not, told, before._survey.column("hosts", "address"))):
                (self.heads[n],) = _heads([told[n]])

    def _found_alike(self, before: Stations) -> bool:
        """Whether hosts whose rows name no port are found by the very same facts as in another network."""
        survey, other = self._survey, before._survey
        columns = [("hosts", name) for name in ("host", "mac", "device", "port")]
        if before.locating.astray:
            columns += [("hosts", "link"), *(("ports", name) for name in ("admin", "oper", "lag_state"))]
        same = all(survey.column(*place) is other.column(*place) for place in columns)
        learned = survey.table("macs") is other.table("macs")
        bundled = survey.column("ports", "lag") is other.column("ports", "lag")
        cabled = self.attachments.far.keys() == before.attachments.far.keys()
        return same and learned and bundled and cabled and self._fabric.open_ends == before._fabric.open_ends

    @cached_property
    def ips(self) -> list[str]:
        """The address of each host, without its prefix length; empty where it has none."""
        told = self._survey.column("hosts", "address")
        return [text.partition("/")[0] if text and text != NONE else "" for text in told]

    @cached_property
    def hosts(self) -> Hosts:
        """The hosts by their names in lower case."""
        before = self._before
        return Hosts(self._survey, self._host, before.hosts if before is not None else None)

    @cached_property
    def pairs(self) -> list[tuple[str, str | None]]:
        """The device and port that each host's row names."""
        named = self._survey.column("hosts", "device")
        spelled = {name: self._names.spelled[name] if name else "" for name in self._survey.distinct("hosts", "device")}
        return list(zip(map(spelled.__getitem__, named), self._survey.column("hosts", "port"), strict=True))

    @cached_property
    def heads(self) -> list[str]:
        """Each host's address without its last part, with the prefix length; whole where that part may matter.

        Addresses that differ in nothing but their last part are in one subnet, if that is wide enough.
        """
        return _heads(self._survey.column("hosts", "address"))

    @cached_property
    def plugged(self) -> set[tuple[str, str | None]]:
        """The devices and ports that hosts' rows name."""
        return set(self.pairs)

    @cached_property
    def places(self) -> list[tuple[str, str | None]]:
        """The same as `pairs`, with the ports at which those hosts were found whose rows name none."""
        if not self.locating.astray:
            return self.pairs
        found = list(self.pairs)
        for n in self.locating.astray:
            end, _ = self.locating.place(self._survey.hosts[n])
            if end is not None:
                found[n] = end.device, end.port
        return found

    @cached_property
    def taken(self) -> set[tuple[str, str | None]]:
        """The devices and ports at which hosts are."""
        return set(self.places) if self.locating.astray else self.plugged

    @cached_property
    def learned(self) -> Tags:
        """The tags that hosts may send of which their rows do not say so, by the places of the rows."""
        rows = {n: self._names.row(End(device, port or "")) for n in self._told for device, port in [self.places[n]]}
        told = {n: tuple(dict.fromkeys(tag_of(row, vid) for vid in self._told[n])) for n, row in rows.items()}
        seen = learned_by(self._survey, self._names, self.places, told) if self._survey.macs else {}
        return {n: tags for n, tags in {**told, **self._learned, **seen}.items() if any(tags)}

    @cached_property
    def _told(self) -> Tags:
        """The hosts that may tag by what their ports are."""
        before, survey = self._before, self._survey
        columns = (
            ("ports", "mode"),
            ("ports", "voice"),
            ("gateways", "address"),
            ("gateways", "vid"),
            ("hosts", "vid"),
        )
        alike = before is not None and before.places is self.places and before.heads is self.heads
        if before is not None and alike and all(survey.column(*c) is before._survey.column(*c) for c in columns):
            return before._told
        phones = telephones(survey, self._names, self.places, self.heads)
        return phones | several_at_trunks(survey, self._names, self.places, self.crowded)

    @cached_property
    def _learned(self) -> Tags:
        """The tags that hosts send by what was learned of them at their ports."""
        survey, before = self._survey, self._before
        if not survey.macs:
            return {}
        if before is None or self._touched is None:
            return learned_tags(survey, self._names, self.places, self._joined)
        ports, hosts = self._touched
        beside = survey.table("hosts").positions("device")
        near = (n for device in {end.device for end in ports} for n in beside.get(device.casefold(), ()))
        again = {*hosts, *self.locating.astray}
        again |= {n for n in near if self.places[n] in ports}
        kept = {n: tags for n, tags in before._learned.items() if n not in again}
        return kept | learned_by(survey, self._names, self.places, sorted(again))

    @cached_property
    def _joined(self) -> list[int]:
        return joined(self._survey, self._names, self.places, self._survey.column("hosts", "vid"))

    @cached_property
    def joined(self) -> list[int]:
        """The VLAN that the frames of each host join, with the tags that they send; see `access`."""
        found = self._joined.copy() if self.learned else self._joined
        for n in self.learned:
            found[n] = joined_at(self._survey, self._names, self.places, self.tags, n)
        return found

    @cached_property
    def tags(self) -> Sequence[int | None]:
        """The tag that each host sends; None where it sends none. Of several that it may send, the first."""
        told = self._survey.column("hosts", "vid")
        if not self.learned:
            return told
        found = list(told)
        for n, tags in self.learned.items():
            found[n] = abs(tags[0]) or None
        return found

    @cached_property
    def unsettled(self) -> set[int]:
        """The places of the rows of hosts that may be at one of several ports, or send one of several tags."""
        several = {n for n, tags in self.learned.items() if len(tags) > 1}
        return several | set(map(self.hosts.number, self.locating.unsettled))

    @cached_property
    def crowded(self) -> frozenset[tuple[str, str | None]]:
        """The devices and ports at which several hosts are."""
        beside = {(end.device, end.port) for ends in self.locating.unsettled.values() for end in ends} & self.taken
        if len(self.taken) == len(self.places):
            return frozenset(beside)
        return frozenset(pair for pair, count in Counter(self.places).items() if count > 1 and pair[1]) | beside

    @cached_property
    def elsewhere(self) -> list[HostStation]:
        """The hosts whose rows name no port, or none that the survey lists, or a member of an aggregate."""
        ports, nothing, named_at = self._names.ports, dict[str, Port](), defaultdict[str, set[str | None]](set)
        for device, port in self.plugged:
            named_at[device].add(port)
        unlisted = ((device, held - ports.get(device, nothing).keys()) for device, held in named_at.items())
        lost = {(device, port) for device, left in unlisted for port in left}
        lost |= self.plugged & members_of_bundles(self._survey, self._names)
        named = zip(self.pairs, self.hosts, strict=True) if lost else ()
        return [self.hosts[name] for pair, name in named if pair in lost]

    @cached_property
    def by_address(self) -> Holders:
        """The stations that answer for each IP address, their own or a shared one."""
        before = self._before.__dict__.get("by_address") if self._before is not None else None
        return Holders(self.hosts, [*self.gateways, *self.managed], self.ips, before)

    @cached_property
    def managed(self) -> list[Interface]:
        """The management addresses of bridges, as interfaces in the VLAN that a gateway of their subnet serves.

        One that is an interface's own address is no other.
        """
        told = self._survey.column("devices", "management")
        if not any(at and at != NONE for at in told):
            return []
        own = {(s.device, str(s.address.ip)) for s in self.gateways if s.address is not None}
        serving: dict[tuple[int, int, int], Interface] = {}
        for station in self.gateways:
            if station.address is not None and station.row.vid:
                length, width = station.address.network.prefixlen, int(station.address.max_prefixlen)
                serving.setdefault((width, length, int(station.address.ip) >> width - length), station)
        lengths = sorted({key[:2] for key in serving}, reverse=True)
        found = []
        for row in self._survey.devices:
            at, device = row.management, self._names.spelled[row.device]
            if at is None or at == NONE or (device, at) in own or self.attachments.bridgeless(device):
                continue
            ip = address(at)
            for width, length in lengths:
                near = serving.get((width, length, int(ip) >> width - length)) if ip.max_prefixlen == width else None
                if near is not None:
                    told_of = Gateway(
                        row.device,
                        "management",
                        f"{ip}/{length}",
                        near.row.vid,
                        admin="up",
                        oper="up",
                        proxy_arp="no",
                        filter_in=NONE,
                        filter_out=NONE,
                    )
                    found.append(Interface(told_of, "management", self.attachments.interface))
                    break
        return found

    def _host(self, station: Station) -> Attachment:
        row = station.row
        assert isinstance(row, Host)
        end, entries = self.locating.place(row)
        n = self.hosts.number(row.host)
        tags = self.learned.get(n, (row.vid or NO_VID,))
        found = self._at(row, end, tags[0], tuple(entries))
        if n not in self.unsettled:
            return found
        learned = self.locating.unsettled.get(row.host, {})
        told = ((other, row.vid or tag_of(self._names.row(other), entry.vid)) for other, entry in learned.items())
        places = [*((end, tag) for tag in tags), *told]
        wherever = tuple(HostStation(row, row.host, partial(self._again, row, *place)) for place in places)
        return found._replace(join=partial(_joined_at_one, wherever), wherever=wherever)

    def _again(self, row: Host, end: End | None, tag: int, _: Station) -> Attachment:
        return self._at(row, end, tag, ())

    def _at(self, row: Host, end: End | None, tag: int, entries: tuple[MacEntry, ...]) -> Attachment:
        joins = partial(self.attachments.plugged, row, end, tag)
        return Attachment(end.device if end else "", end, abs(tag), entries, joins)


def _joined_at_one(wherever: Sequence[Station]) -> tuple[Truth, tuple[Tap, ...]]:
    """How a host joins the bridges that is at one of several ports: as its row has it; and whether it is up at each."""
    return agreed(one.up for one in wherever), wherever[0].taps


_WIDE = {"": set[str](), ".": set(map(str, range(25))), ":": set(map(str, range(97)))}
"""The prefix lengths that say nothing of the last part of an address, by what stands before that part."""


def still_sent(before: Stations, after: Stations, changes: Iterable[Change]) -> list[Change]:
    """The tags that hosts send, or none, where it would not be known any more with some changes made."""
    was, now, names = before.learned, after.learned, before.hosts.names
    if was == now or after.hosts.names != names:
        return []
    changed = {str(change.key.get("host")).casefold() for change in changes if change.table == "hosts"}
    told = {n: was.get(n, (NO_VID,)) for n in was.keys() | now.keys() if was.get(n) != now.get(n)}
    known = ((names[n], *tags) for n, tags in told.items() if len(tags) == 1 and names[n] not in changed)
    return [Change("hosts", {"host": name}, {"vid": tag or NONE}) for name, tag in known if tag >= 0]


def _heads(addresses: Iterable[str | None]) -> list[str]:
    """The addresses without their last parts, with the prefix lengths; whole where such a part may matter."""
    ends: dict[str, str | None] = {}
    """What stays of a last part, which many addresses share; None where the address stays whole."""
    found = []
    for told in addresses:
        text = told or NONE
        separator = ":" if ":" in text else "."
        head, point, tail = text.rpartition(separator)
        end = point + tail
        if end not in ends:
            last, _, length = tail.partition("/")
            ends[end] = None if last == "255" or length not in _WIDE[point] else f"{point}/{length}"
        rest = ends[end]
        found.append(text if rest is None else head + rest)
    return found
