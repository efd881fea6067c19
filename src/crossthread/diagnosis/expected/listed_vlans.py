"""The VLANs that somebody wrote down on purpose: in the lists of trunks, and as tags."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from functools import cached_property, reduce
from itertools import compress
from operator import or_

from crossthread.diagnosis.context import Context
from crossthread.network.hosts.station import HostStation
from crossthread.network.three_valued import EVERY_VID
from crossthread.network.topology.names import End
from crossthread.values import NO_VID, VlanSet


class ListedVlans:
    """What lists say of VLANs, whatever the stations are in: `context.once(ListedVlans)`."""

    def __init__(self, context: Context) -> None:
        self._context, self._survey = context, context.network.survey

    @cached_property
    def named(self) -> VlanSet:
        """The VLANs that trunks name in a list or as native, and interfaces as tags; none where no trunk has a list."""
        tags = {1 << vid for vid in self._survey.column("gateways", "vid") if vid}
        return VlanSet(reduce(or_, [self._in_lists, self._natives, *tags] if self._in_lists else [], 0))

    def misses(self, vid: object, lan: str | None = None) -> bool:
        """Whether lists name VLANs, and not this one; where bridges are joined that have no list, they say nothing."""
        if lan is not None and lan not in self._listing:
            return False
        return isinstance(vid, int) and bool(self.named) and vid not in self.named

    @cached_property
    def _listing(self) -> frozenset[str]:
        """A bridge for each group of joined ones of which any has a trunk with a list."""
        network = self._context.network
        listing = compress(self._survey.column("ports", "device"), self._lists)
        return frozenset(network.lan_at(network.names.spelled[device]) for device in set(listing))

    def on_trunks(self, vid: int) -> bool:
        """Whether a trunk's list names a VLAN."""
        return bool(self._in_lists >> vid & 1)

    def of_nobody_known(self, vid: int) -> bool:
        """Whether trunks' lists name a VLAN that no interface is in: what serves it may be elsewhere, or lost."""
        expected = self._context.expected
        gateways = self._context.network.stations.gateways
        return self.on_trunks(vid) and not any(expected.current_vlan(one) == vid for one in gateways)

    @cached_property
    def empty(self) -> VlanSet:
        """The VLANs that trunks' lists name and in which nobody is.

        Of natives only if there are no others, and then rather those that more trunks carry with a tag.
        """
        empty = self._in_lists & ~(self._context.lived_in.bits | 1 << 1)
        empty &= ~self._context.used_vlans.bits if empty else 0  # who should be where is dear to find out
        return VlanSet(empty and (empty & ~self._natives or empty & self._mostly_tagged or empty))

    def names(self, end: End, vid: int | None) -> bool:
        """Whether a trunk's own list names a VLAN, with few others."""
        row = self._context.port(end)
        held = row.allowed if row is not None and row.mode in ("trunk", "hybrid") else None
        return held is not None and vid in held and _is_list(held.bits)

    def homes(self, host: HostStation) -> list[int]:
        """The VLANs that a host may belong in at a trunk without a native one: those it carries, and nobody is in."""
        row = self._context.port(host.end) if host.end is not None else None
        if host.end is None or row is None or row.pvid != NO_VID or row.allowed is None or host.tag:
            return []
        exists = self._context.network.fabric.exists(host.end.device)
        return [vid for vid in self.empty if vid in row.allowed and exists.has(vid) is not False]

    @cached_property
    def _mostly_tagged(self) -> int:
        """The VLANs that more trunks name in a list, without having them as native, than have them as native."""
        native, tagged = Counter[int | None](), Counter[int]()
        for vid, held in zip(self._survey.column("ports", "pvid"), self._lists, strict=True):
            if held and _is_list(held.bits):
                native[vid] += 1
                tagged.update(one for one in held if one != vid)
        return reduce(or_, (1 << vid for vid, count in tagged.items() if count > native[vid]), 0)

    @cached_property
    def _lists(self) -> Sequence[VlanSet | None]:
        """Of each port the VLANs that it may carry with a tag: an access port's row may name its own, which is none."""
        modes, held = (self._survey.column("ports", name) for name in ("mode", "allowed"))
        if "access" not in modes:
            return held
        return [None if mode == "access" else vids for mode, vids in zip(modes, held, strict=True)]

    @cached_property
    def _in_lists(self) -> int:
        lists = {held.bits for held in self._lists if held}
        return reduce(or_, filter(_is_list, lists), 0)

    @cached_property
    def _natives(self) -> int:
        ports = zip(self._survey.column("ports", "mode"), self._survey.column("ports", "pvid"), strict=True)
        return reduce(or_, {1 << vid for mode, vid in ports if vid and mode in ("trunk", "hybrid")}, 0)


def _is_list(bits: int) -> bool:
    """Whether a set of VLANs was written down one by one, and is not all but a few."""
    return 2 * bits.bit_count() < EVERY_VID.bit_count()
