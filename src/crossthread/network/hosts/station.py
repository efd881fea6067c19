"""What sends and answers at the edge of the bridges: a host, or an interface that routes."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from functools import cached_property
from typing import NamedTuple

import msgspec

from crossthread.network.switching.nodes import BEYOND, Node
from crossthread.network.three_valued import Bounds, Truth
from crossthread.network.topology.names import End
from crossthread.survey.records import Gateway, Host, MacEntry
from crossthread.values import NONE, Address, PrefixedAddress, interface


class Tap(msgspec.Struct, frozen=True):
    """Where a station's frames join the bridges: a device, by a port of it or (None) from inside.

    Without a device it is not known where that is; `beyond` if it is known to be beyond an open end.
    """

    device: str
    end: End | None
    enters: Bounds
    leaves: Bounds
    beyond: bool = False

    def enter(self, vids: Iterable[int]) -> list[Node]:
        """The nodes that its frames may join in some VLANs."""
        return [BEYOND] if self.beyond else [Node(self.device, vid) for vid in vids]


class Attachment(NamedTuple):
    """Where a station is plugged in, and what finds out whether it is up and how it joins the bridges."""

    device: str
    end: End | None
    tag: int
    located_by: tuple[MacEntry, ...]
    join: Callable[[], tuple[Truth, tuple[Tap, ...]]]
    wherever: tuple[Station, ...] = ()


class Station:
    """A host, or an interface that routes.

    What follows from its row is worked out when first asked for: a campus has many hosts, and most are never asked.

    Attributes
    ----------
    row
        The survey's row.
    name
        The host's name, or the interface's.
    """

    def __init__(self, row: Host | Gateway, name: str, attach: Callable[[Station], Attachment]) -> None:
        self.row, self.name, self._attach = row, name, attach

    @cached_property
    def address(self) -> PrefixedAddress | None:
        """Its address; None if it has none, or none was observed."""
        text = self.row.address
        return interface(text) if text and text != NONE else None

    @cached_property
    def ip(self) -> Address | None:
        """The same without its prefix length: one object, as it is looked at for every pair."""
        return self.address.ip if self.address is not None else None

    @cached_property
    def _attached(self) -> Attachment:
        return self._attach(self)

    @property
    def device(self) -> str:
        """The device that routes, or that the host is plugged into; empty if the host was not located."""
        return self._attached.device

    @property
    def end(self) -> End | None:
        """The port a host is plugged into, or the parent port of a gateway interface."""
        return self._attached.end

    @property
    def located_by(self) -> tuple[MacEntry, ...]:
        """The entries of filtering databases that told where it is."""
        return self._attached.located_by

    @property
    def wherever(self) -> tuple[Station, ...]:
        """The station itself; of a host that may be at one of several ports, it at each, first where its row has it."""
        return self._attached.wherever or (self,)

    @property
    def tag(self) -> int:
        """The VID that its frames carry; `NO_VID` for none."""
        return self._attached.tag

    @property
    def may_tag(self) -> bool:
        """Whether its frames carry a tag, as far as is known."""
        return any(place.tag for place in self.wherever)

    @cached_property
    def _joined(self) -> tuple[Truth, tuple[Tap, ...]]:
        return self._attached.join()

    @property
    def up(self) -> Truth:
        """Whether its link, or its interface, works."""
        return self._joined[0]

    @property
    def taps(self) -> tuple[Tap, ...]:
        """Where its frames join the bridges."""
        return self._joined[1]


class HostStation(Station):
    """A host."""

    row: Host


class Interface(Station):
    """An interface that routes; one with several addresses is several stations."""

    row: Gateway

    @cached_property
    def address(self) -> PrefixedAddress | None:
        """Its address; None if it has none, or none was observed, or only a link-local one, which makes no subnet."""
        text = self.row.address
        own = interface(text) if text and text != NONE else None
        return own if own is not None and not own.is_link_local else None

    def has(self, wanted: Address) -> bool:
        """Whether an address is its own, or one that it shares."""
        return str(wanted) in ((self.row.address or "").partition("/")[0], self.row.virtual)
