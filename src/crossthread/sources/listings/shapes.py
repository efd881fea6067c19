"""What the entries of listings look like: what is damaged is told, and the listing was not read in full.

Only what is read of an entry is looked at: other programs and later versions may list more.
"""

from __future__ import annotations

from typing import Annotated, Any

import msgspec
from msgspec import UNSET, Meta, Struct, UnsetType

from crossthread.errors import visible
from crossthread.values import address, interface, parse_mac

Entry = dict[str, Any]
"""One object of a listing, as the program wrote it: checked by its shape before anything of it is read."""
_MOST = 20
"""How many damaged entries of one listing are told; of more only their number."""

_Vid = Annotated[int, Meta(ge=0, le=4095)]
_Number = Annotated[int, Meta(ge=0)]


class Ip(str):
    """An IP address."""


class Prefix(str):
    """An IP address, with its prefix length or without; or `default`."""


class Mac(str):
    """A MAC address."""


def _checked(kind: type, value: object) -> object:
    text = str(value)
    try:
        if kind is Ip:
            address(text)
        elif kind is Mac:
            parse_mac(text)
        elif kind is Prefix and text != "default":
            interface(text)
    except ValueError:
        wanted = "an IP address" if kind is Ip else "a MAC address" if kind is Mac else "an IP prefix"
        raise ValueError(f"Expected {wanted} instead of “{visible(text, 60)}”") from None
    return kind(text)


class _Own(Struct):
    local: Ip | UnsetType = UNSET
    prefixlen: Annotated[int, Meta(ge=0, le=128)] | UnsetType = UNSET


class _Link(Struct):
    ifname: str | UnsetType = UNSET  # of what was not asked for the listing has empty objects
    flags: list[str] | UnsetType = UNSET
    link: str | UnsetType | None = UNSET
    master: str | UnsetType = UNSET
    mtu: _Number | UnsetType = UNSET
    linkinfo: dict[str, Any] | UnsetType = UNSET
    addr_info: list[_Own] | UnsetType = UNSET


class _Route(Struct):
    dst: Prefix
    gateway: Ip | UnsetType = UNSET
    dev: str | UnsetType = UNSET
    metric: int | UnsetType = UNSET
    type: str | UnsetType = UNSET
    table: str | int | UnsetType = UNSET


class _Neighbour(Struct):
    dst: Ip
    dev: str
    lladdr: Mac | UnsetType = UNSET


class _Settings(Struct):
    family: str
    interface: str
    forwarding: bool | UnsetType = UNSET
    proxy_neigh: bool | UnsetType = UNSET


class _Carried(Struct):
    vlan: _Vid
    vlanEnd: _Vid | UnsetType = UNSET  # noqa: N815 -- as it is listed
    flags: list[str] | UnsetType = UNSET


class _BridgeVlans(Struct):
    ifname: str
    vlans: list[_Carried]


class _BridgePort(Struct):
    ifname: str
    master: str | UnsetType = UNSET
    state: str | UnsetType = UNSET
    cost: _Number | UnsetType = UNSET
    priority: _Number | UnsetType = UNSET


class _Learned(Struct):
    mac: Mac
    ifname: str
    vlan: _Vid | UnsetType = UNSET
    flags: list[str] | UnsetType = UNSET


class _Shared(Struct):
    vips: list[str]
    state: int
    ifp_ifname: str


class _Instance(Struct):
    data: _Shared


_SHAPES: dict[str, type[Struct]] = {
    "ip-addr": _Link, "ip-link": _Link, "ip-route": _Route, "ip-route6": _Route, "ip-neigh": _Neighbour,
    "ip-netconf": _Settings, "bridge-vlan": _BridgeVlans, "bridge-link": _BridgePort, "bridge-fdb": _Learned,
    "shared-addresses": _Instance,
}  # fmt: skip


def damaged(kind: str, document: object) -> list[str]:
    """What is wrong with the entries of a listing, each with its number, what was expected and where.

    Examples
    --------
    >>> damaged("ip-neigh", [{"dst": "10.61.10.300", "dev": "e1"}])
    ['entry 1: Expected an IP address instead of “10.61.10.300” - at `$.dst`']
    """
    shape = _SHAPES.get(kind)
    if shape is None or not isinstance(document, list):
        return []
    found = []
    for number, entry in enumerate(document, 1):
        try:
            msgspec.convert(entry, shape, dec_hook=_checked)
        except msgspec.ValidationError as error:
            found.append(f"entry {number}: {visible(str(error), 200)}")
    rest = len(found) - _MOST
    return found if rest <= 0 else [*found[:_MOST], f"{rest} more entries are damaged"]
