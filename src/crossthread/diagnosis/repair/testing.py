"""Around a step of a repair: what to make sure of before it, how long to wait after it, and what to test."""

from __future__ import annotations

from crossthread.diagnosis.repair.steps import Draft
from crossthread.network.hosts.ends import end_named
from crossthread.network.hosts.station import HostStation, Station
from crossthread.network.network import Network
from crossthread.network.routing.forwarding import Forwarding
from crossthread.network.routing.walks import Walk
from crossthread.survey import Survey
from crossthread.survey.difference import difference
from crossthread.values import NONE, address

_FORWARD_DELAY = 15.0
"""Seconds, where none was observed (IEEE 802.1D-2004 table 17-1)."""
_ARP_AGEING = 60.0
"""Seconds, where none was observed (RFC 1122 section 2.3.2.1: on the order of a minute)."""


def to_make_sure(network: Network, draft: Draft) -> str | None:
    """That nobody has the address which a step gives to somebody: something that was not surveyed may have it."""
    for change in draft.changes:
        given = change.cells.get("address") or change.key.get("address")
        if change.table not in ("hosts", "gateways") or change.delete or draft.clears or given in (None, NONE):
            continue
        if (ip := bare(given)) not in network.stations.by_address:
            return f"ask for {ip} there: if anything answers, somebody who was not surveyed has it"
    return None


def waiting(before: Survey, after: Survey, draft: Draft) -> tuple[float, str | None]:
    """How long to wait before testing, and for what."""
    if any(change.table in ("trees", "tree_ports") for change in draft.changes) or _moves(before, after):
        delays = [row.forward_delay for row in before.trees if row.forward_delay]
        delay, known = max(delays, default=_FORWARD_DELAY), "observed" if delays else "the standard's"
        return 2 * delay, f"the spanning tree, twice its forward delay ({delay:g} s, {known})"
    if any("tagging" in change.cells for change in draft.changes):
        return 2 * _FORWARD_DELAY, "the spanning tree to hear the other end; if nothing comes, close and open the port"
    changed = [c.cells["address"] for c in draft.changes if "address" in c.cells and c.table in ("hosts", "gateways")]
    if changed and not draft.clears:
        ages = [row.arp_ageing for row in before.devices if row.arp_ageing]
        age, known = max(ages, default=_ARP_AGEING), "observed" if ages else "the usual"
        return age, f"old ARP entries to age ({age:g} s, {known}), or clear them where {bare(changed[0])} is asked for"
    return 0, None


def _moves(before: Survey, after: Survey) -> bool:
    """Whether some port's state in a tree is not what it was observed to be any more."""
    places = difference(before, after).rows.get("tree_ports", frozenset())
    if places is not None:
        pairs = [(before.tree_ports[n], after.tree_ports[n]) for n in places]
        return any(now.state is None and now.edge != "yes" and was.state is not None for was, now in pairs)
    old = {(row.device, row.port, row.instance): row.state for row in before.tree_ports}
    return any(
        row.state is None and row.edge != "yes" and old.get((row.device, row.port, row.instance)) is not None
        for row in after.tree_ports
    )


def progress_of(network: Network, pair: tuple[str, str]) -> tuple[Walk, Walk]:
    """How far an echo and its reply get."""
    forwarding = Forwarding(network)
    one, two = (end_named(network, name) for name in pair)
    return forwarding.send(one, two), forwarding.send(two, one, reply=True)


def test_of(before: tuple[Walk, Walk] | None, after: tuple[Walk, Walk], pair: tuple[str, str]) -> str | None:
    """What of the echo works now that did not before."""
    assert before is not None
    one, two = pair
    if all(walk.arrives for walk in after):
        return None if all(walk.arrives for walk in before) else f"{one} pings {two}: the answer comes"
    if after[0].arrives and not before[0].arrives:
        return f"an echo from {one} arrives at {two}; no answer comes back yet"
    for was, now in zip(before, after, strict=True):
        if len(now.legs) > len(was.legs):
            leg = now.legs[len(was.legs)]
            return f"{_name(leg.sender)} asks for {leg.target} and gets an answer"
    return None


def _name(station: Station) -> str:
    return station.name if isinstance(station, HostStation) else f"{station.device} ({station.name})"


def bare(value: object) -> str:
    """An address without its prefix length, in the usual form."""
    text = str(value).partition("/")[0]
    return text if text in ("", "none") else str(address(text))
