"""A plan drafted from what is there: what most do, to be corrected by hand."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Iterable
from typing import Any

import tomlkit
from tomlkit.items import InlineTable, Table

from crossthread.diagnosis.context import Context
from crossthread.network.network import Network
from crossthread.network.topology.names import End
from crossthread.values import NONE
from crossthread.views.vlan import roots_of

_HEAD = (
    "A plan drafted from a survey: what was observed, and where that disagrees, what most of it says.",
    "Correct it by hand. A comment after a line says what is a guess; what you do not care about, delete.",
)


def draft_plan(network: Network) -> str:
    """Write a plan's text.

    Returns
    -------
    str
        TOML with comments, as `read_plan` reads it. Settings are those of the majority; a subnet's VLAN is the one
        that most of its hosts, gateways and interface names tell.
    """
    context = Context(network)
    document = tomlkit.document()
    for words in _HEAD:
        document.add(tomlkit.comment(words))
    document.add("format", tomlkit.item(1))
    if network.survey.info.title:
        document.add("title", tomlkit.item(network.survey.info.title))
    document.add("settings", _settings(context))
    vlans = _vlans(context)
    if vlans:
        document.add("vlans", vlans)
    ports = _ports(context)
    if ports:
        document.add("ports", ports)
    hosts = _hosts(context)
    if hosts:
        document.add("hosts", hosts)
    links = tomlkit.aot()
    for link in network.links:
        entry = tomlkit.table()
        entry.add("ends", [*link.a, *link.b])
        links.append(entry)
    if len(links):
        document.add("links", links)
    return tomlkit.dumps(document)


def _majority(table: Table, word: str, values: Iterable[Any], of: str) -> None:
    """Add what most have, with a comment on how many."""
    counted = Counter(value for value in values if value is not None)
    if not counted:
        return
    value, most = counted.most_common(1)[0]
    total = sum(counted.values())
    item = tomlkit.item(NONE if value == 0 else value)
    item.comment(f"all {total} {of}" if most == total else f"guess: {most} of {total} {of}")
    table.add(word, item)


def _settings(context: Context) -> Table:
    survey = context.network.survey
    between = {end for a in context.network.adjacencies for end in (a.a, a.b)}
    rows = [row for end in sorted(between) if (row := context.port(end)) is not None]
    trunks = [row for row in rows if row.mode in ("trunk", "hybrid")]
    table = tomlkit.table()
    _majority(table, "native", (row.pvid for row in trunks), "trunks between devices")
    _majority(table, "mtu", (row.mtu for row in survey.ports if row.oper == "up"), "ports that are up")
    _majority(table, "tree", (row.protocol for row in survey.trees), "devices")
    speaking = [row for row in survey.ports if row.discovery in ("both", "send")]
    if speaking:
        item = tomlkit.item("between-devices")
        item.comment("guess: ports towards hosts should not speak")
        table.add("discovery", item)
    return table


def _vlans(context: Context) -> Table:
    network = context.network
    table = tomlkit.table()
    names: dict[int, Counter[str]] = defaultdict(Counter)
    for rows in network.fabric.vlan_rows.values():
        for vid, row in rows.items():
            if row.name:
                names[vid][row.name] += 1
    subnets: dict[int, dict[str, list[str]]] = defaultdict(dict)
    doubts: dict[int, list[str]] = defaultdict(list)
    for gateway in network.stations.gateways:
        wanted, subnet = context.expected.vlan(gateway), context.expected.subnet(gateway)
        if wanted is None or subnet is None or gateway.address is None:
            continue
        subnets[wanted].setdefault(str(subnet.network), []).append(str(gateway.address.ip))
        if gateway.row.vid not in (None, wanted):
            doubts[wanted].append(
                f"most of the subnet says so, but {gateway.device} {gateway.name} is in VLAN {gateway.row.vid}"
            )
    used = {vid for vid in (*names, *subnets, *context.used_vlans) if vid}
    for vid in sorted(used):
        entry = tomlkit.inline_table()
        if names[vid]:
            entry.append("name", names[vid].most_common(1)[0][0])
        if subnets[vid]:
            entry.append("subnets", list(subnets[vid]))
            entry.append("gateways", list(dict.fromkeys(ip for ips in subnets[vid].values() for ip in ips)))
        roots = roots_of(network, vid)
        if len(roots) == 1:
            entry.append("root", roots[0])
        _with(table, str(vid), entry, doubts[vid])
    return table


def _with(table: Table, key: str, entry: InlineTable, doubts: list[str]) -> None:
    if doubts:
        entry.comment("guess: " + "; ".join(dict.fromkeys(doubts)))
    table.add(key, entry)


def _ports(context: Context) -> Table:
    """The ports that lead somewhere: each link's settings, and each host's VLAN."""
    table = tomlkit.table(is_super_table=True)
    for device, rows in context.network.names.ports.items():
        own = tomlkit.table()
        for port, row in rows.items():
            end = End(device, port)
            hosts = context.hosts_at(end)
            if row.mode is None or (end not in context.adjacencies_at and not hosts):
                continue
            entry = tomlkit.inline_table()
            doubts: list[str] = []
            faced = context.adjacencies_at.get(end, ())
            far = context.port(faced[0].far(end)) if faced else None
            if far is not None and row.mode == "access" and far.mode in ("trunk", "hybrid"):
                doubts.append(
                    f"like {far.device} {far.port} at the other end; it is an access port in {row.pvid or NONE}"
                )
                row = far  # noqa: PLW2901
            entry.append("mode", str(row.mode))
            if row.mode == "access":
                wanted = next((vid for host in hosts if (vid := context.expected.vlan(host))), None) or row.pvid
                if wanted:
                    entry.append("vlan", wanted)
                if hosts and wanted != row.pvid:
                    doubts.append(f"the VLAN of {next(iter(hosts)).name}; the port is in {row.pvid or NONE}")
            elif row.mode in ("trunk", "hybrid"):
                allowed = row.allowed
                if allowed is not None and far is not None and far.allowed is not None and far.allowed != allowed:
                    lacking = far.allowed - allowed
                    allowed = allowed | far.allowed
                    doubts += [f"the other end allows {lacking} as well"] if lacking else []
                if allowed is not None:
                    entry.append("allowed", str(allowed))
                if row.pvid is not None:
                    entry.append("native", row.pvid or NONE)
            _with(own, port, entry, doubts)
        if own:
            table.add(device, own)
    return table


def _hosts(context: Context) -> Table:
    table = tomlkit.table()
    for host in context.network.stations.hosts.values():
        entry = tomlkit.inline_table()
        doubts: list[str] = []
        wanted, subnet = context.expected.vlan(host), context.expected.subnet(host)
        if wanted is not None:
            entry.append("vlan", wanted)
        if subnet is not None:
            entry.append("address", str(subnet))
            if subnet != host.address:
                doubts.append(f"the prefix length of its neighbours; it has {host.address}")
        gateway = getattr(host.row, "gateway", None)
        best = context.expected.gateways(host)[:1]
        usual = str(best[0].address.ip) if best and best[0].address is not None else gateway
        if usual is not None:
            entry.append("gateway", usual)
            if usual != gateway:
                doubts.append(f"what serves its subnet; it has {gateway or 'not been asked'}")
        _with(table, host.name, entry, doubts)
    return table
