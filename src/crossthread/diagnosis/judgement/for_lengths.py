"""What speaks for a prefix length."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from crossthread.diagnosis.judgement import weights
from crossthread.diagnosis.judgement.hearing import Alike, Hearing
from crossthread.diagnosis.judgement.witness import Witness, agreeing
from crossthread.network.hosts.station import HostStation
from crossthread.values import PrefixedAddress


def for_length(hearing: Hearing, own: PrefixedAddress, near: Iterable[Alike], which: str) -> Iterator[Witness]:
    """What the hosts of a subnet, and routes to it, say of the length of its prefix."""
    length = own.network.prefixlen
    hosts = [(one.number, one.station.address) for one in near if isinstance(one.station, HostStation)]
    same = sum(count for count, held in hosts if held is not None and held.network.prefixlen == length)
    yield from agreeing(same, f"{same} of {sum(count for count, _ in hosts)} {which} of its subnet have /{length}")
    if length in hearing.context.expected.routed_lengths(own.ip):
        yield Witness(weights.PEER, f"a route leads to {own.network}")
