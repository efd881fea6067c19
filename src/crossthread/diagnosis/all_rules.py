"""Every rule asked about everything it speaks of, without asking where its own declaration says that it has no answer.

A campus has a hundred thousand ports and hosts, and nearly all are as they should be. Two things are skipped, both by
what a rule declares (see `registry.Rule`):

- subjects that lack what the rule `needs`, told by one look through a column, and links whose ends do not `differ` in
  what it compares;
- hosts that the network cannot tell apart, for a rule that `reads` nothing in which such hosts differ: one is asked for
  all of its class, and the others only if something is found there.

`ask_about_all` skips nothing. A law says that both find the same.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from itertools import compress, count

from crossthread.diagnosis.context import Context, in_use
from crossthread.diagnosis.findings import Finding
from crossthread.diagnosis.registry import About, Rule, named, rules
from crossthread.network.hosts.station import HostStation, Station
from crossthread.network.topology.names import End
from crossthread.survey.records import Port
from crossthread.survey.table import runs
from crossthread.values import NO_VID

ALIKE = frozenset({"subnet", "gateway", "tag", "place", "port-vlan", "current-vlan", "holders", "expected"})
"""Facts in which hosts of one class do not differ: the subnet of their address, their gateway, the tag they send,
whether they were located, mode and VLAN of their port (if it is an access port and they do not tag), the VLAN that
their frames join, whether anybody else has their address, and what is expected of them (if the plan has them in one
VLAN)."""

_Asked = tuple[object, ...]


def sweep(context: Context) -> Iterator[Finding]:
    """Everything that the rules find, in the order of the rules; some may be found more than once."""
    for rule in rules():
        yield from ask_everywhere(context, rule)


def ask_everywhere(context: Context, rule: Rule) -> Iterator[Finding]:
    """What one rule finds; nothing for one that only a question about two hosts asks."""
    if rule.about is About.HOST and not rule.needs and rule.reads and rule.reads <= ALIKE:
        yield from _by_classes(context, rule)
    elif rule.about is not None:
        for asked in _needed(context, rule):
            yield from ask(context, rule, *asked)


def standing(context: Context, suspected: Iterable[Finding]) -> dict[tuple[object, ...], Finding]:
    """By identity, what the rules of some findings say of everything: what is not among it has no ground."""
    asked = (declared for name in {finding.rule for finding in suspected} for declared in named(name))
    known = (finding for declared in asked for finding in ask_everywhere(context, declared))
    return {finding.identity: finding for finding in known if finding.severity != "note"}


def ask_about_all(context: Context) -> Iterator[Finding]:
    """The same by asking every rule about everything of its kind."""
    for rule in rules():
        for asked in _SUBJECTS[rule.about](context) if rule.about is not None else ():
            yield from ask(context, rule, *asked)


def ask(context: Context, rule: Rule, *asked: object) -> Iterable[Finding]:
    """What a rule says of one subject, if it is to be asked about it."""
    if rule.where is not None and not rule.where(context, *asked):
        return ()
    found = rule.function(context, *asked)
    if found is None:
        return ()
    told = (found,) if isinstance(found, Finding) else tuple(found)
    # Nearly nothing is found: whether another rule speaks of it already is asked last.
    return () if told and any(other(context, *asked) for other in rule.unless) else told


def _by_classes(context: Context, rule: Rule) -> Iterator[Finding]:
    for one in context.network.classes.all:
        found = list(ask(context, rule, one.hosts[0]))
        yield from found
        apart = "port-vlan" in rule.reads and _as_set_apart(context, one.hosts[0])
        apart = apart or ("expected" in rule.reads and not context.expected.alike(one))
        for host in one.hosts[1:] if found or apart else ():
            yield from ask(context, rule, host)


def _as_set_apart(context: Context, host: HostStation) -> bool:
    """Whether the ports of hosts that are like one may be set otherwise: they tag, or are at trunks."""
    row = context.port(host.end) if host.end is not None else None
    return host.tag != NO_VID or (row is not None and row.mode != "access")


def _needed(context: Context, rule: Rule) -> Iterable[_Asked]:
    """What a rule is to be asked about: all of its kind, or those that have what it needs."""
    if rule.differ:
        return [(link,) for link in context.network.adjacencies if not rule.differ.isdisjoint(context.differing(link))]
    if not rule.needs or rule.about not in (About.HOST, About.PORT, About.NEIGHBOR):
        return _SUBJECTS[rule.about](context) if rule.about is not None else ()
    if rule.about is About.NEIGHBOR:
        rows = context.network.survey.neighbors
        columns = [need.partition(".")[2] for need in rule.needs]
        heard = {n for column in columns for n in _places(context, "neighbors", column)}
        return [(rows[n],) for n in sorted(heard)]
    ends: dict[End, None] = {}
    hosts: dict[str, None] = {}
    for need in sorted(rule.needs):
        column, _, values = need.partition("=")
        table, _, column = column.partition(".")
        places = _places(context, table, column, values.split(",") if values else None)
        if table == "hosts":
            names = context.network.survey.column("hosts", "host")
            hosts.update((names[n].casefold(), None) for n in places)
        else:
            ends.update((end, None) for end in _ends(context, table, places, rule.where is in_use))
    if rule.about is About.PORT:
        return ((end,) for end in ends)
    stations = context.network.stations.hosts
    return [*((stations[name],) for name in hosts), *((host,) for end in ends for host in context.hosts_at(end))]


def _places(context: Context, table: str, column: str, values: list[str] | None = None) -> Iterable[int]:
    """The rows in which a column is there, and not 0 or empty; or has one of some values."""
    if (table, column) == ("hosts", "vid"):  # with those that were learned to tag
        return compress(count(), context.network.stations.tags)
    held = context.network.survey.column(table, column)
    return compress(count(), held if values is None else map(values.__contains__, held))


def _ends(context: Context, table: str, places: Iterable[int], used: bool) -> Iterator[End]:
    """The ports that some rows are about; with `used` none to which nothing is known to be plugged in."""
    names, rows = context.network.names, list(places)
    if used and table == "ports":
        rows = list(filter(context.taken_rows.__getitem__, rows))
    devices, ports = (map(context.network.survey.column(table, name).__getitem__, rows) for name in ("device", "port"))
    # As they are written: an end is made only of one that is asked about.
    written: Iterable[tuple[str, str]] = zip(map(names.spelled.__getitem__, devices), ports, strict=True)
    if used and table != "ports":
        listed, nothing = names.ports, dict[str, Port]()
        written = (e for e in written if e in context.taken_ends or e[1] not in listed.get(e[0], nothing))
    for device, port in written:
        yield End(device, port if table == "ports" else names.port(device, port) or port)


def _hosts(context: Context) -> Iterator[tuple[Station]]:
    return ((host,) for host in context.network.stations.hosts.values())


def _ports(context: Context) -> Iterator[tuple[End]]:
    ports = context.network.names.ports
    return ((End(device, port),) for device, rows in ports.items() for port in rows)


def _lost_vlans(context: Context) -> Iterator[tuple[End, int]]:
    """Open access ports that lead to something and whose VLAN is not active on their device; the first of each VLAN."""
    survey, network = context.network.survey, context.network
    names, modes, vids, states = (survey.column("ports", column) for column in ("port", "mode", "pvid", "admin"))
    for written, run in runs(survey.column("ports", "device")):
        device = network.names.spelled[written]
        active = network.fabric.exists(device).possible
        lost = {vid for vid in set(vids[run]) if vid and not active >> vid & 1}
        for n in range(run.start, run.stop) if lost else ():
            end = End(device, names[n])
            if vids[n] in lost and modes[n] == "access" and states[n] != "down" and in_use(context, end):
                lost.discard(vids[n])
                yield end, vids[n]


def _gateway_ports(context: Context) -> Iterator[tuple[Station, End]]:
    for gateway in context.network.stations.gateways:
        if gateway.end is not None:
            yield from ((gateway, link.far(gateway.end)) for link in context.adjacencies_at.get(gateway.end, ()))


def _trees(context: Context) -> Iterator[_Asked]:
    rows = [row for held in context.network.fabric.trees.bridges.values() for row in held]
    return ((context.tree(instance),) for instance in sorted({row.instance for row in rows if row.protocol != "off"}))


def _each(things: Callable[[Context], Iterable[object]]) -> Callable[[Context], Iterator[_Asked]]:
    return lambda context: ((thing,) for thing in things(context))


_SUBJECTS: dict[About, Callable[[Context], Iterable[_Asked]]] = {
    About.HOST: _hosts,
    About.PORT: _ports,
    About.LOST_VLAN: _lost_vlans,
    About.LINK: _each(lambda context: context.network.adjacencies),
    About.CABLE: _each(lambda context: context.network.links),
    About.CABLED_PORT: _each(lambda context: sorted(context.heard_ends)),
    About.LOOSE: _each(lambda context: context.network.loose),
    About.HEARING: lambda context: context.heard_at.items(),
    About.NEIGHBOR: _each(lambda context: context.network.survey.neighbors),
    About.TREE: _trees,
    About.GATEWAY: _each(lambda context: context.network.stations.gateways),
    About.GATEWAY_PORT: _gateway_ports,
    About.DEVICE: _each(lambda context: context.network.names.devices.values()),
    About.PLANNED_PORT: _each(lambda context: context.plan.ports.values()),
    About.PLANNED_HOST: _each(lambda context: context.plan.hosts.values()),
    About.PLANNED_LINK: _each(lambda context: context.plan.links),
    About.CAMPUS: lambda _: ((),),
}
"""All of each kind: the arguments with which a rule is asked."""
