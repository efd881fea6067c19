"""Where routes lead for a subnet: who of the routers has it, and who has not."""

from __future__ import annotations

from collections import defaultdict

from crossthread.diagnosis.context import Context
from crossthread.values import NONE, PrefixedAddress, prefix


def routers_by_routes(context: Context, own: PrefixedAddress) -> tuple[dict[str, set[str]], set[str]]:
    """Where routes lead for an address, each with who sends there; and who sends its very subnet on."""
    network, led, passed = context.network, defaultdict[str, set[str]](set), set[str]()
    for route in network.survey.routes:
        if route.next_hop not in (None, NONE) and own.ip in prefix(route.prefix):
            passed |= {network.names.spelled[route.device]} if own.network == prefix(route.prefix) else set()
            for holder in network.stations.by_address.of(route.next_hop or ""):
                led[holder.device].add(network.names.spelled[route.device])
    return led, passed
