"""Which address of a subnet is free for a host that needs one."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import islice

from crossthread.diagnosis.context import Context
from crossthread.network.hosts.station import HostStation
from crossthread.values import NONE, Address, Prefix, PrefixedAddress, address


def free_address(context: Context, subnet: PrefixedAddress, host: HostStation | None = None) -> Address | None:
    """An address of a subnet that nobody is known to have, and that nothing in the survey speaks of as somebody's.

    What an ARP cache has at the host's MAC address, the host had before. The first and the last of more than two are
    left to gateways, which may be where nobody looked. No two hosts of a VLAN that need one are given the same.
    """
    taken = context.network.stations.by_address
    had = (address(row.address) for row in (context.remembered(host) if host is not None else ()))
    own = next((ip for ip in had if ip in subnet.network and str(ip) not in taken), None)
    if own is not None:
        return own
    before = context.once(_turns).get(host.name, 0) if host is not None else 0
    return context.once(_Free).after(subnet.network, before)


class _Free:
    """The free addresses of each subnet in their order, looked for once and as far as anybody asked."""

    def __init__(self, context: Context) -> None:
        self._taken, self._spoken = context.network.stations.by_address, context.spoken_addresses
        self._found: dict[Prefix, tuple[list[Address], Iterator[Address]]] = {}

    def after(self, subnet: Prefix, before: int) -> Address | None:
        """The free address that comes after so many others; None if there are no more."""
        if subnet not in self._found:
            self._found[subnet] = [], self._each(subnet)
        found, rest = self._found[subnet]
        found += islice(rest, max(0, before + 1 - len(found)))
        return found[before] if before < len(found) else None

    def _each(self, subnet: Prefix) -> Iterator[Address]:
        ends = {int(subnet.network_address) + 1, int(subnet.broadcast_address) - 1}
        if subnet.num_addresses <= _BETWEEN_TWO:
            ends = set()
        for ip in subnet.hosts():
            if int(ip) not in ends and (text := str(ip)) not in self._taken and text not in self._spoken:
                yield ip


_BETWEEN_TWO = 4
"""As many addresses has the subnet of a host and the router's port that it is plugged into, each of them an end."""


def _turns(context: Context) -> dict[str, int]:
    """For each host without an address, or with another one than most of its VLAN, how many such are before it."""
    found: dict[str, int] = {}
    for classes in context.classes_in.values():
        most = max((one for one in classes if one.block is not None), key=lambda one: len(one.hosts), default=None)
        lacking = [one for one in classes if one.block is None and one.hosts[0].row.address == NONE]
        apart = [one for one in classes if one.block is not None and most is not None and one.block != most.block]
        names = [host for held in (lacking, apart) for one in held for host in one.hosts.names]
        found.update({name: number for number, name in enumerate(names)})
    return found
