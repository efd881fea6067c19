"""The VLANs that somebody wrote down on purpose, and who is in them."""

from __future__ import annotations

from collections import Counter
from functools import cached_property, reduce
from operator import or_

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.expected.named_vlans import NamedVlans, is_list
from crossthread.network.hosts.station import HostStation
from crossthread.network.topology.names import End
from crossthread.values import NO_VID, VlanSet


class ListedVlans(NamedVlans):
    """What lists say of VLANs, and who is in those: `context.once(ListedVlans)`."""

    def __init__(self, context: Context) -> None:
        super().__init__(context.network)
        self._context = context

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
        empty = self.in_lists & ~(self._context.lived_in.bits | 1 << 1)
        empty &= ~self._context.used_vlans.bits if empty else 0  # who should be where is dear to find out
        return VlanSet(empty and (empty & ~self.natives or empty & self._mostly_tagged or empty))

    def names(self, end: End, vid: int | None) -> bool:
        """Whether a trunk's own list names a VLAN, with few others."""
        row = self._context.port(end)
        held = row.allowed if row is not None and row.mode in ("trunk", "hybrid") else None
        return held is not None and vid in held and is_list(held.bits)

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
        for vid, held in zip(self._survey.column("ports", "pvid"), self.lists, strict=True):
            if held and is_list(held.bits):
                native[vid] += 1
                tagged.update(one for one in held if one != vid)
        return reduce(or_, (1 << vid for vid, count in tagged.items() if count > native[vid]), 0)
