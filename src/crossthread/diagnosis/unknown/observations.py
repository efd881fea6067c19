"""What to look at next: the fewest observations that would settle a verdict, nearest first."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.repair.work_order import central
from crossthread.network.three_valued import Truth
from crossthread.network.topology.graph import distances
from crossthread.network.topology.names import End
from crossthread.survey.changes import Change
from crossthread.survey.survey import Evidence
from crossthread.values import NONE, VlanSet

_MANY = 40
"""With more candidates than these, all are named: leaving each out in turn would take too long."""
_GOOD = {"oper": "up", "admin": "up", "link": "up", "proxy_arp": "no", "routing": "yes", "untagged": "yes"}


def fewest(
    context: Context, facts: Sequence[Evidence], verdict: Callable[[Sequence[Change]], Truth], seat: str | None = None
) -> tuple[Evidence, ...]:
    """Keep the observations without which the verdict stays unknown, in the order in which to make them.

    Each is taken to turn out as it most likely will. One that can be left out so that the others still settle the
    verdict is left out; that a bridge has no regard to VLANs stays beside the modes that its ports may have none of.
    The order is by how many links lead there from where one is connected, then that of the way;
    last comes whether gateways answer for others, or bridges have no regard to VLANs, as with hardly any.

    Parameters
    ----------
    context
        The network as it is.
    facts
        Everything that was not observed on the way.
    verdict
        What it would be with these changes made.
    seat
        The device by which one is connected; the most central one if not given.
    """
    guesses = {number: change for number, fact in enumerate(facts) if (change := _likely(context, fact)) is not None}
    needed = list(range(len(facts)))
    if 1 < len(facts) <= _MANY and verdict([guesses[n] for n in guesses]) is not None:
        for number in reversed(range(len(facts))):
            rest = [n for n in needed if n != number]
            if facts[number].column != "vlan_aware" and verdict([guesses[n] for n in rest if n in guesses]) is not None:
                needed = rest
    about = {str(facts[n].key.get("device")) for n in needed if facts[n].table == "ports"}
    needed = [n for n in needed if facts[n].column != "vlan_aware" or str(facts[n].key.get("device")) in about]
    far = _distances(context, seat or central(context.network))
    last = len(far)

    def rank(number: int) -> tuple[bool, int, int]:
        fact = facts[number]
        return fact.column in ("proxy_arp", "vlan_aware"), far.get(str(fact.key.get("device", "")), last), number

    return tuple(facts[n] for n in sorted(needed, key=rank))


def _likely(context: Context, fact: Evidence) -> Change | None:
    """What an observation will most likely say, as a change."""
    if fact.table == "hosts" and fact.column == "port" and fact.value is not None:
        (end, *_) = context.network.stations.locating.unsettled[str(fact.key["host"])]
        return Change("hosts", dict(fact.key), {"device": end.device, "port": end.port})
    value: object | None = _GOOD.get(fact.column)
    if fact.table == "vlans":
        value = "active" if fact.column == "state" else None
    elif fact.table == "tree_ports":
        value = "forwarding" if fact.column == "state" else None
        return Change(fact.table, {"instance": 0, **fact.key}, {fact.column: value}) if value else None
    elif fact.table == "ports" and fact.column in ("mode", "pvid", "allowed", "untagged"):
        value = _vlan_cell(context, End(str(fact.key["device"]), str(fact.key["port"])), fact.column)
    elif fact.table == "hosts" and fact.column == "vid":
        host = context.network.stations.hosts.get(str(fact.key["host"]).casefold())
        home = context.expected.vlan(host) if host is not None else None
        value = home if host is not None and home in [one.tag for one in host.wherever] else NONE
    elif fact.table == "hosts" and fact.column == "gateway":
        host = context.network.stations.hosts.get(str(fact.key["host"]).casefold())
        served = context.expected.gateways(host) if host is not None else []
        value = str(served[0].address.ip) if served and served[0].address else NONE
    elif fact.table == "gateways" and fact.column == "vid":
        own = context.network.stations.on_device.get(str(fact.key["device"]), ())
        value = next((context.expected.vlan(s) for s in own if s.name == fact.key.get("interface")), None)
    return Change(fact.table, dict(fact.key), {fact.column: value}) if value is not None else None


def _vlan_cell(context: Context, end: End, column: str) -> object | None:
    """A port's VLAN setting by its host, or by the far end of its cable."""
    hosts = context.hosts_at(end)
    if hosts:
        return {"mode": "access", "pvid": context.expected.vlan(hosts[0]), "allowed": NONE}.get(column)
    far = [row for a in context.adjacencies_at.get(end, ()) if (row := context.port(a.far(end))) is not None]
    for row in far:
        known = getattr(row, column)
        if known is not None:
            return str(known) if isinstance(known, VlanSet) else known or NONE
    return {"mode": "trunk", "pvid": NONE, "allowed": "all"}.get(column)


def _distances(context: Context, seat: str | None) -> dict[str, int]:
    """How many links lead to each device from one."""
    around: dict[str, list[str]] = {}
    for adjacency in context.network.adjacencies:
        around.setdefault(adjacency.a.device, []).append(adjacency.b.device)
        around.setdefault(adjacency.b.device, []).append(adjacency.a.device)
    return distances([seat] if seat else [], around)
