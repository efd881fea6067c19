"""The VLANs that somebody wrote down on purpose, as lists and tags have them, whatever anybody is in."""

from __future__ import annotations

from collections.abc import Sequence
from functools import cached_property, reduce
from itertools import compress
from operator import or_

from crossthread.network.network import Network
from crossthread.network.three_valued import EVERY_VID
from crossthread.values import VlanSet


class NamedVlans:
    """The VLANs that the lists of trunks, their native VLANs and the tags of interfaces name."""

    def __init__(self, network: Network) -> None:
        self._network, self._survey = network, network.survey

    @cached_property
    def named(self) -> VlanSet:
        """The VLANs that trunks name in a list or as native, and interfaces as tags; none where no trunk has a list."""
        tags = {1 << vid for vid in self._survey.column("gateways", "vid") if vid}
        return VlanSet(reduce(or_, [self.in_lists, self.natives, *tags] if self.in_lists else [], 0))

    def misses(self, vid: object, lan: str | None = None) -> bool:
        """Whether lists name VLANs, and not this one; where bridges are joined that have no list, they say nothing."""
        if lan is not None and lan not in self._listing:
            return False
        return isinstance(vid, int) and bool(self.named) and vid not in self.named

    @cached_property
    def _listing(self) -> frozenset[str]:
        """A bridge for each group of joined ones of which any has a trunk with a list."""
        listing = compress(self._survey.column("ports", "device"), self.lists)
        return frozenset(self._network.lan_at(self._network.names.spelled[device]) for device in set(listing))

    def on_trunks(self, vid: int) -> bool:
        """Whether a trunk's list names a VLAN."""
        return bool(self.in_lists >> vid & 1)

    @cached_property
    def lists(self) -> Sequence[VlanSet | None]:
        """Of each port the VLANs that it may carry with a tag: an access port's row may name its own, which is none."""
        modes, held = (self._survey.column("ports", name) for name in ("mode", "allowed"))
        if "access" not in modes:
            return held
        return [None if mode == "access" else vids for mode, vids in zip(modes, held, strict=True)]

    @cached_property
    def in_lists(self) -> int:
        """The VLANs that trunks name one by one, as bits."""
        lists = {held.bits for held in self.lists if held}
        return reduce(or_, filter(is_list, lists), 0)

    @cached_property
    def natives(self) -> int:
        """The native VLANs of trunks, as bits."""
        ports = zip(self._survey.column("ports", "mode"), self._survey.column("ports", "pvid"), strict=True)
        return reduce(or_, {1 << vid for mode, vid in ports if vid and mode in ("trunk", "hybrid")}, 0)


def is_list(bits: int) -> bool:
    """Whether a set of VLANs was written down one by one, and is not all but a few."""
    return 2 * bits.bit_count() < EVERY_VID.bit_count()
