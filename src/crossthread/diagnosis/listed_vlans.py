"""The VLANs that somebody wrote down on purpose: in the lists of trunks, and as tags."""

from __future__ import annotations

from functools import cached_property, reduce
from operator import or_

from crossthread.diagnosis.context import Context
from crossthread.network.hosts.station import HostStation
from crossthread.network.three_valued import EVERY_VID
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

    def misses(self, vid: object) -> bool:
        """Whether lists name VLANs, and not this one."""
        return isinstance(vid, int) and bool(self.named) and vid not in self.named

    def of_nobody_known(self, vid: int) -> bool:
        """Whether trunks' lists name a VLAN that no interface is in: what serves it may be elsewhere, or lost."""
        expected = self._context.expected
        gateways = self._context.network.stations.gateways
        return bool(self._in_lists >> vid & 1) and not any(expected.current_vlan(one) == vid for one in gateways)

    @cached_property
    def empty(self) -> VlanSet:
        """The VLANs that trunks' lists name and in which nobody is; of natives only if there are no others."""
        empty = self._in_lists & ~(self._context.lived_in.bits | 1 << 1)
        empty &= ~self._context.used_vlans.bits if empty else 0  # who should be where is dear to find out
        return VlanSet(empty & ~self._natives or empty)

    def homes(self, host: HostStation) -> list[int]:
        """The VLANs that a host may belong in at a trunk without a native one: those it carries, and nobody is in."""
        row = self._context.port(host.end) if host.end is not None else None
        if host.end is None or row is None or row.pvid != NO_VID or row.allowed is None or host.row.vid:
            return []
        exists = self._context.network.fabric.exists(host.end.device)
        return [vid for vid in self.empty if vid in row.allowed and exists.has(vid) is not False]

    @cached_property
    def _in_lists(self) -> int:
        lists = {held.bits for held in self._survey.column("ports", "allowed") if held}
        named = (bits for bits in lists if 2 * bits.bit_count() < EVERY_VID.bit_count())  # not all but a few
        return reduce(or_, named, 0)

    @cached_property
    def _natives(self) -> int:
        ports = zip(self._survey.column("ports", "mode"), self._survey.column("ports", "pvid"), strict=True)
        return reduce(or_, {1 << vid for mode, vid in ports if vid and mode in ("trunk", "hybrid")}, 0)
