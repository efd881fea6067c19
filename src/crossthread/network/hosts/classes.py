"""Hosts that the network cannot tell apart, taken together: what holds for one of a class holds for all.

Two hosts are in one class if their frames join the same connected part, they have the same subnet and gateway, and no
prefix that any table speaks of contains the one address and not the other. A host that is special in any way (not
plainly on an access port that is up, sharing an address, used as a next hop) is a class of its own; those of which
nobody knows the place are alike, if they have the same subnet and gateway; so are those that are switched off, if they
are where they would hear each other, and there those without an address. A phone that tags its frames as its port tells
it is as plain as the desk behind it.
"""

from __future__ import annotations

from bisect import insort
from collections import Counter, defaultdict
from collections.abc import Iterable, Mapping, Sequence
from copy import copy
from functools import cached_property
from itertools import chain
from operator import is_not
from typing import NamedTuple

from crossthread.network.coverage import Covered
from crossthread.network.hosts.access import joined_at
from crossthread.network.hosts.blocks import Block, InnerBlocks, is_broadcast
from crossthread.network.hosts.hosts import Members
from crossthread.network.hosts.special import Special
from crossthread.network.hosts.station import Station, Tap
from crossthread.network.hosts.stations import Stations
from crossthread.network.switching.components import Components, Part
from crossthread.network.switching.nodes import Node
from crossthread.network.switching.segments import Fabric
from crossthread.network.three_valued import vids_in
from crossthread.network.topology.names import End, Names
from crossthread.survey import Survey
from crossthread.survey.records import Host
from crossthread.values import BARE, NO_VID, NONE


class HostClass(NamedTuple):
    """Some hosts that the network cannot tell apart."""

    hosts: Members
    block: Block | None
    """Their subnet by their own prefix length; None without an address."""
    vid: int | None
    """The VLAN that their frames join, if that is one and known."""
    gateway: str | None
    plain: bool
    """Whether they are plainly on access ports that are up, and not all of them beside others there."""
    devices: Mapping[str, int]
    """On which devices how many of them are plainly plugged in."""


_Key = tuple[Part, Block, str | None, tuple[Block, ...], int]
_Written = tuple[int, str, str | None, int]
"""What many hosts have in common: the VLAN that their frames surely join (negative: they would, if they were up), the
head of their address, their gateway, and the tag that they send."""


_Alike = tuple[int, Block, str | None, int]
"""The same with the subnet instead of the head of the address."""


class _Near(NamedTuple):
    """Groups of hosts that are alike, the same as one, and how many of them are on which device."""

    groups: list[list[int]]
    members: list[int]
    devices: Counter[str]


class ClassesBefore(NamedTuple):
    """The classes of a network of which this one is a changed copy, and what differs there."""

    classes: Classes
    hosts: frozenset[int]
    """The rows of hosts."""
    ports: set[End]
    trees: bool
    """Whether anything of a port in a tree does."""


class Classes:
    """The classes of all hosts.

    Attributes
    ----------
    all
        Every class, in the order of its first host.
    """

    def __init__(
        self,
        survey: Survey,
        names: Names,
        fabric: Fabric,
        components: Components,
        stations: Stations,
        filtered: frozenset[End],
        covered: Covered,
        before: ClassesBefore | None = None,
    ) -> None:
        self._names, self._fabric, self._components, self._stations = names, fabric, components, stations
        same_trees = before.classes._special if before is not None and not before.trees else None
        self._special: Special = Special(survey, names, stations, filtered, same_trees)
        self._covered = covered
        self._keys: list[_Written] = []
        self._written: dict[_Written, list[int]] = {}
        self._near: dict[_Alike, _Near] = {}
        if before is None:
            self._write(survey)
        else:
            self._write_again(survey, before)
            if self._stations.places is before.classes._stations.places:
                self._near = dict(before.classes._near)
        self.all = [self._class(*group) for group in self._groups(survey)]

    @property
    def apart(self) -> set[int]:
        """The hosts, by their rows, that share an address with somebody, are a next hop, or may be at several ports."""
        return self._special.apart | self._special.unsettled

    def place(self, n: int) -> int:
        """The place among all of the class of a host, by its row."""
        return self._places[n]

    def of(self, host: str) -> HostClass:
        """The class of a host, by its name."""
        return self.all[self._places[self._stations.hosts.number(host)]]

    @cached_property
    def _places(self) -> list[int]:
        """The place of each host's class among all."""
        found = [0] * len(self._stations.hosts)
        for place, one in enumerate(self.all):
            for n in one.hosts.numbers:
                found[n] = place
        return found

    def divided(self, other: Classes) -> Classes:
        """The same divided further: alike are those that are so by addresses of the other version of IP, too."""
        place, pairs = other._places, self._stations.places
        found = []
        for one in self.all:
            parts: dict[int, list[int]] = defaultdict(list)
            for n in one.hosts.numbers:
                parts[place[n]].append(n)
            for numbers in parts.values():
                near = Counter(pairs[n][0] for n in numbers) if one.devices else one.devices
                found.append(one._replace(hosts=Members(numbers, self._stations.hosts), devices=near))
        copied = copy(self)
        copied.__dict__.pop("_places", None)
        copied.all = sorted(found, key=lambda one: one.hosts.numbers[0])
        return copied

    def _groups(self, survey: Survey) -> list[tuple[_Key | None, list[int], Counter[str]]]:
        """Hosts with what all of a class have in common, and on which devices they are; no key for each special one.

        First by what is the same for many. Most of these groups are one class each, without looking at every host.
        """
        alone: list[int] = []
        pairs, addresses = self._stations.places, survey.column("hosts", "address")
        gateways, links = (survey.column("hosts", name) for name in ("gateway", "link"))
        tags = self._stations.tags
        alike: dict[_Alike, list[list[int]]] = defaultdict(list)
        nameless: dict[object, list[int]] = defaultdict(list)
        made: set[Block] = set()
        for written, members in self._written.items():
            vid, _, gateway, tag = written
            address = addresses[members[0]]
            block = Block.of(address) if address and address != NONE else None
            made |= {block} if block else set()
            if vid and address and block and not is_broadcast(address, block):
                alike[vid, block, gateway, tag].append(members)
            elif vid and block is None:
                roots = self._components.roots(abs(vid))
                for n in members:
                    nameless[vid, roots.get(pairs[n][0], pairs[n][0]), addresses[n], gateway, tag].append(n)
            else:
                alone += members
        inner = InnerBlocks(
            made
            | {block for station in self._stations.gateways if (block := _block(station))}
            | {Block.of(row.prefix) for row in survey.routes}
            | {Block.of(prefix) for row in survey.filters for prefix in (row.source, row.destination) if prefix}
        )
        groups = self._located(survey, alike, inner, alone)
        single, lost = self._lost(alone, tags, links)
        single, looked_at = self._looked_at(survey, single, inner)
        found: list[tuple[list[int], _Key | None, Counter[str]]] = [([n], None, Counter()) for n in single]
        astray: dict[tuple[Block, str | None, tuple[Block, ...]], list[int]] = defaultdict(list)
        for n in lost:
            text = addresses[n] or ""
            block = Block.of(text)
            astray[block, gateways[n], inner.around(text, block)].append(n)
        found += [(sorted(members), None, Counter()) for members in (*astray.values(), *nameless.values(), *looked_at)]
        found += [(sorted(members), key, near) for key, (members, near) in groups.items()]
        found.sort(key=lambda group: group[0][0])
        return [(key, members, near) for members, key, near in found]

    def _located(
        self,
        survey: Survey,
        alike: Mapping[_Alike, list[list[int]]],
        inner: InnerBlocks,
        alone: list[int],
    ) -> dict[_Key, tuple[list[int], Counter[str]]]:
        """The same of hosts at access ports, divided by the part that they are in; `alone` gets the special ones."""
        pairs, addresses = self._stations.places, survey.column("hosts", "address")
        isolated, filters = self._special.isolated, self._special.filters
        apart = self._special.apart | self._special.unsettled
        special = apart | self._special.shut
        between = not self._stations.taken.issuperset(filters)
        groups: dict[_Key, tuple[list[int], Counter[str]]] = defaultdict(lambda: ([], Counter()))
        for (vid, block, gateway, tag), held_by in alike.items():
            _, members, near = self._of_alike((vid, block, gateway, tag), held_by)
            up, roots = vid > 0, self._components.roots(abs(vid))
            parts = set(map(roots.get, near))
            if None in parts:
                parts = {self._part(vid, device) for device in near}
            part = next(iter(parts))
            out = special if up else apart
            whole = len(parts) == 1 and not inner.divide(block) and out.isdisjoint(members)
            whole = whole and not (up and filters) and (not up or isolated.isdisjoint(members))
            shared = self._special.sharing.intersection(members) if up else set[int]()
            if part is not None and whole and (not shared or self._components.closed((vid, part))):
                held = groups[(vid, part), block, gateway, (), tag]
                held[0].extend(members)
                held[1].update(near)
                continue
            for n in members:
                part = self._part(vid, pairs[n][0])
                if part is None or n in out:
                    alone.append(n)
                    continue
                if n in shared and (n in isolated or filters or not self._components.closed((vid, part))):
                    alone.append(n)  # beside it is one that it hears otherwise than all others
                    continue
                if up and n in isolated:  # alike are those of one device, which do not hear each other
                    part = f"{part}, isolated at {pairs[n][0]}"
                if up and filters:
                    part = part + filters.get(pairs[n], f", at {pairs[n][0]}" if between else "")
                held = groups[(vid, part), block, gateway, inner.around(addresses[n] or "", block), tag]
                held[0].append(n)
                held[1][pairs[n][0]] += 1
        return groups

    def _part(self, vid: int, device: str) -> str | None:
        """The part of a VLAN that a device is in; None where the VLAN is not surely there, for hosts that are up.

        A link joins devices only in VLANs that they have. No tree blocks hosts, see `Special.shut`.
        """
        root = self._components.roots(abs(vid)).get(device)
        return root or (device if vid < 0 or self._fabric.exists(device).sure >> vid & 1 else None)

    def _of_alike(self, alike: _Alike, groups: list[list[int]]) -> _Near:
        """Some groups of hosts as one, and on which devices they are; counted again only where a group is another."""
        known = self._near.get(alike)
        if known is None or len(known.groups) != len(groups) or any(map(is_not, known.groups, groups)):
            members = list(chain.from_iterable(groups))
            pairs = self._stations.places
            known = self._near[alike] = _Near(groups, members, Counter([pairs[n][0] for n in members]))
        return known

    def _write(self, survey: Survey) -> None:
        """Sort the hosts by what many have in common."""
        sent = (tag or NO_VID for tag in self._stations.tags)
        self._keys = list(
            zip(self._stations.joined, self._stations.heads, survey.column("hosts", "gateway"), sent, strict=True)
        )
        written: dict[_Written, list[int]] = defaultdict(list)
        for n, key in enumerate(self._keys):
            written[key].append(n)
        self._written = dict(written)

    def _write_again(self, survey: Survey, before: ClassesBefore) -> None:
        """Take over how the hosts are sorted, but for those of which a row, or that of their port, differs."""
        self._keys, self._written = before.classes._keys.copy(), before.classes._written.copy()
        ports, pairs = {(end.device, end.port) for end in before.ports}, self._stations.places
        beside = survey.table("hosts").positions("device")
        near = (n for device in {device for device, _ in ports} for n in beside.get(device.casefold(), ()))
        gateways, tags, stations = survey.column("hosts", "gateway"), self._stations.tags, before.classes._stations
        fresh: set[_Written] = set()
        once, astray = stations.places, self._stations.locating.astray
        moved = {n for n in (*near, *astray) if pairs[n] in ports} | {n for n in astray if pairs[n] != once[n]}
        moved |= {n for n, _ in self._stations.learned.items() ^ stations.learned.items()}
        for n in sorted(moved | before.hosts):
            vid = joined_at(survey, self._names, pairs, tags, n)
            old, new = self._keys[n], (vid, self._stations.heads[n], gateways[n], tags[n] or NO_VID)
            self._keys[n] = new
            for key in {old, new} - fresh:
                self._written[key] = list(self._written.get(key, ()))
                fresh.add(key)
            self._written[old].remove(n)
            insort(self._written[new], n)
        self._written = {key: members for key, members in self._written.items() if members}

    def _lost(
        self, alone: list[int], tags: Sequence[int | None], links: Sequence[str | None]
    ) -> tuple[list[int], list[int]]:
        """Of some hosts those that are each a class, and those of which nobody knows the place, who are all alike."""
        single: list[int] = []
        lost: list[int] = []
        special = self._special.apart | self._special.shut | self._special.sharing
        for n in alone:
            host = self._stations.hosts.at(n)
            alike = n not in special and not tags[n] and links[n] != "down" and host.address is not None
            alike = alike and host.end is None and not is_broadcast(text := str(host.address), Block.of(text))
            (lost if alike else single).append(n)
        return single, lost

    def _looked_at(
        self, survey: Survey, single: list[int], inner: InnerBlocks
    ) -> tuple[list[int], Iterable[list[int]]]:
        """Of some hosts those that are each a class, and those that are alike when they are looked at one by one."""
        addresses = survey.column("hosts", "address")
        hosts = [(n, self._stations.hosts.at(n)) for n in single if n not in self._special.apart]
        rest = [n for n in single if n in self._special.apart]
        ends = Counter(place.end for _, host in hosts for place in host.wherever)
        found: dict[object, list[int]] = defaultdict(list)
        for n, host in hosts:
            text = addresses[n]
            block = Block.of(text) if text and text != NONE else None
            joins = []
            for place in host.wherever:
                moved = place.end in self._stations.taken and self._stations.places[n] != place.end
                beside = moved or ends[place.end] > 1 or n in self._special.sharing
                joins.append(self._joins(place, beside))
            if None in joins or (text and block and is_broadcast(text, block)):
                rest.append(n)
                continue
            port, around = self._names.row(host.end) if host.end else None, inner.around(text, block) if block else ()
            as_set = (port.mode, port.pvid) if port else None
            found[tuple(joins), block or text, around if block else (), host.row.gateway, host.tag, as_set].append(n)
        return rest, found.values()

    def _joins(self, host: Station, beside: bool) -> tuple[object, ...] | None:
        """How a host's frames join and leave the bridges, so that all that have the same are heard by the same.

        None if nobody else is like it; `beside`: others are at its port, whom it hears otherwise than all others.
        """
        port = self._names.row(host.end) if host.end is not None else None
        if host.end is None or len(host.taps) != 1 or self._special.filters or self._fabric.parting:
            return None
        if self._stations.attachments.far.get(host.end):  # a cable leads from its port to a bridge as well
            return None
        if port is not None and (port.mode == "tunnel" or port.lag not in (None, NONE) or port.isolated == "yes"):
            return None
        (tap,) = host.taps
        if host.up is False:
            vid = current_vlan(host, self._names)
            return False, vid, self._around(tap.device, vid)
        vids = {*tap.enters, *tap.leaves}
        if (host.up or beside) and len(vids) == 1 and (vid := _only(tap.enters.sure)) is not None:
            part = self._components.of(Node(tap.device, vid))
            return None if beside and (part is None or not self._components.closed(part)) else (host.up, vid, part)
        if beside:
            return None
        if not host.up or not tap.enters.sure or not tap.leaves.sure:  # nobody hears it for sure, and hears it surely
            fabric, groups = self._fabric, list[frozenset[int]]()
            for bits in (tap.enters.possible, tap.leaves.possible & self._fabric.vids):
                groups.append(frozenset(fabric.possibly.group(Node(tap.device, vid)) for vid in vids_in(bits)))
            # Its device may route, and hear what it does not bridge.
            routes = not self._covered.fully(tap.device, "gateways") and not all(groups)
            device = tap.device if routes else None
            return host.up, *groups, bool(tap.enters.sure), bool(tap.leaves.sure), device
        alone = {_only(tap.enters.possible), _only(tap.leaves.possible)}
        return host.up, tap.enters, tap.leaves, self._around(tap.device, alone.pop() if len(alone) == 1 else None)

    def _around(self, device: str, vid: int | None) -> Part | str:
        """Where frames of a VLAN are that are on a device: the part, or that device alone."""
        return (self._components.of(Node(device, vid)) if vid else None) or device

    def _class(self, key: _Key | None, numbers: list[int], devices: Mapping[str, int]) -> HostClass:
        hosts = Members(numbers, self._stations.hosts)
        if key is not None:
            (vid, _), block, gateway, _, _ = key
            plain = vid > 0 and not self._special.sharing.issuperset(numbers)
            return HostClass(hosts, block, abs(vid), gateway, plain, devices if vid > 0 else {})
        row = hosts[0].row
        assert isinstance(row, Host)
        alone = Block.of(row.address) if row.address and row.address != NONE else None
        return HostClass(hosts, alone, current_vlan(hosts[0], self._names), row.gateway, False, devices)


def _only(bits: int) -> int | None:
    """The one VID of a set; None if that is not one, or the frames are of a bridge without regard to VLANs."""
    return bits.bit_length() - 1 if bits.bit_count() == 1 and bits != 1 << BARE else None


def _block(station: Station) -> Block | None:
    return Block.of(str(station.address)) if station.address is not None else None


def vlan_was_read(station: Station, tap: Tap, names: Names) -> bool:
    """Whether a station's frames can join one VLAN only, by what was read; not as no other exists there."""
    port = names.row(tap.end) if tap.end is not None else None
    read = station.row.vid is not None if port is None else port.pvid is not None
    return tap.enters.possible.bit_count() == 1 and (bool(tap.enters.sure) or station.tag > 0 or read)


def current_vlan(station: Station, names: Names) -> int | None:
    """The VLAN that a station's frames join, or would join if its link were up, if that is one and known."""
    for tap in station.taps:
        if vlan_was_read(station, tap, names):
            vid = tap.enters.possible.bit_length() - 1
            return vid if vid != BARE else None
    if not isinstance(station.row, Host):
        far = [names.row(tap.end) for tap in station.taps if tap.end is not None and station.tag == NO_VID]
        plugged = [port.pvid for port in far if port is not None and port.mode == "access" and port.pvid]
        return station.row.vid or next(iter(plugged), None)
    port = names.row(station.end) if station.end else None
    return (port.pvid or None) if port else None
