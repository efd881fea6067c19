"""A plan drafted from what is there: what most do, to be corrected by hand."""

from __future__ import annotations

import re
from collections import Counter, defaultdict
from collections.abc import Iterable, Iterator

import msgspec

from crossthread.diagnosis.context import Context, context_of
from crossthread.errors import visible
from crossthread.network.given import of_network
from crossthread.network.network import Network
from crossthread.network.topology.names import End
from crossthread.values import NONE
from crossthread.views.vlan import roots_of

_HEAD = (
    "A plan drafted from a survey: what was observed, and where that disagrees, what most of it says.",
    "Correct it by hand. A comment after a line says what is a guess; what you do not care about, delete.",
)


@of_network
def draft_plan(network: Network) -> str:
    """Write a plan's text.

    Parameters
    ----------
    network
        A network, a survey, or the place of one: a folder, or a `.json` or `.json.gz` file.

    Returns
    -------
    str
        TOML with comments, as `read_plan` reads it. Settings are those of the majority; a subnet's VLAN is the one
        that most of its hosts, gateways and interface names tell.

    Raises
    ------
    SurveyError
        If a place was given and no survey can be read there.

    Examples
    --------
    >>> from crossthread.demo import faulty, healthy
    >>> "[vlans]" in draft_plan(healthy())
    True
    """
    context = context_of(network)
    lines = [f"# {words}" for words in _HEAD] + ["format = 1"]
    if network.survey.info.title:
        lines.append(f"title = {_value(network.survey.info.title)}")
    for name, entries in (("settings", _settings(context)), ("vlans", _vlans(context))):
        lines += _table(name, entries)
    for device, ports in _ports(context):
        lines += _table(f"ports.{_key(device)}", ports)
    lines += _table("hosts", _hosts(context))
    for link in network.links:
        lines += ["", "[[links]]", f"ends = {_value([*link.a, *link.b])}"]
    return "\n".join(lines) + "\n"


_Line = tuple[str, object, str]
"""A key, its value, and a comment; none if that is empty."""


def _table(name: str, entries: Iterable[_Line]) -> list[str]:
    told = [
        f"{_key(key)} = {_value(value)}" + (f" # {visible(says, 500)}" if says else "") for key, value, says in entries
    ]
    return ["", f"[{name}]", *told] if told else []


_BARE = re.compile("[A-Za-z0-9_-]+")


def _key(text: str) -> str:
    return text if _BARE.fullmatch(text) else _value(text)


def _value(value: object) -> str:
    """A value as TOML 1.0 writes it: what JSON writes, but for tables and the character DEL."""
    if isinstance(value, dict):
        return "{" + ", ".join([f"{word} = {_value(held)}" for word, held in value.items()]) + "}"
    if isinstance(value, list):
        return "[" + ", ".join(map(_value, value)) + "]"
    return msgspec.json.encode(value).decode().replace("\x7f", "\\u007f")


def _majority(word: str, values: Iterable[object], of: str) -> Iterator[_Line]:
    """What most have, with a comment on how many."""
    counted = Counter(value for value in values if value is not None)
    if counted:
        value, most = counted.most_common(1)[0]
        total = sum(counted.values())
        yield (
            word,
            NONE if value == 0 else value,
            f"all {total} {of}" if most == total else f"guess: {most} of {total} {of}",
        )


def _settings(context: Context) -> Iterator[_Line]:
    survey = context.network.survey
    between = {end for a in context.network.adjacencies for end in (a.a, a.b)}
    rows = [row for end in sorted(between) if (row := context.port(end)) is not None]
    trunks = [row for row in rows if row.mode in ("trunk", "hybrid")]
    yield from _majority("native", (row.pvid for row in trunks), "trunks between devices")
    yield from _majority("mtu", (row.mtu for row in survey.ports if row.oper == "up"), "ports that are up")
    yield from _majority("tree", (row.protocol for row in survey.trees), "devices")
    speaking = [row for row in survey.ports if row.discovery in ("both", "send")]
    if speaking:
        yield "discovery", "between-devices", "guess: ports towards hosts should not speak"


def _vlans(context: Context) -> Iterator[_Line]:
    network = context.network
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
        entry: dict[str, object] = {}
        if names[vid]:
            entry["name"] = names[vid].most_common(1)[0][0]
        if subnets[vid]:
            entry["subnets"] = list(subnets[vid])
            entry["gateways"] = list(dict.fromkeys(ip for ips in subnets[vid].values() for ip in ips))
        roots = roots_of(network, vid)
        if len(roots) == 1:
            entry["root"] = roots[0]
        yield str(vid), entry, _guess(doubts[vid])


def _guess(doubts: Iterable[str]) -> str:
    said = "; ".join(dict.fromkeys(doubts))
    return f"guess: {said}" if said else ""


def _ports(context: Context) -> Iterator[tuple[str, list[_Line]]]:
    """The ports that lead somewhere: each link's settings, and each host's VLAN."""
    for device, rows in context.network.names.ports.items():
        own: list[_Line] = []
        for port, row in rows.items():
            end = End(device, port)
            hosts = context.hosts_at(end)
            if row.mode is None or (end not in context.adjacencies_at and not hosts):
                continue
            entry: dict[str, object] = {}
            doubts: list[str] = []
            faced = context.adjacencies_at.get(end, ())
            far = context.port(faced[0].far(end)) if faced else None
            if far is not None and row.mode == "access" and far.mode in ("trunk", "hybrid"):
                doubts.append(
                    f"like {far.device} {far.port} at the other end; it is an access port in {row.pvid or NONE}"
                )
                row = far  # noqa: PLW2901
            entry["mode"] = str(row.mode)
            if row.mode == "access":
                wanted = next((vid for host in hosts if (vid := context.expected.vlan(host))), None) or row.pvid
                if wanted:
                    entry["vlan"] = wanted
                if hosts and wanted != row.pvid:
                    doubts.append(f"the VLAN of {next(iter(hosts)).name}; the port is in {row.pvid or NONE}")
            elif row.mode == "tunnel" and row.pvid:
                entry["vlan"] = row.pvid
            elif row.mode in ("trunk", "hybrid"):
                allowed = row.allowed
                if allowed is not None and far is not None and far.allowed is not None and far.allowed != allowed:
                    lacking = far.allowed - allowed
                    allowed = allowed | far.allowed
                    doubts += [f"the other end allows {lacking} as well"] if lacking else []
                if allowed is not None:
                    entry["allowed"] = str(allowed)
                if row.pvid is not None:
                    entry["native"] = row.pvid or NONE
            own.append((port, entry, _guess(doubts)))
        yield device, own


def _hosts(context: Context) -> Iterator[_Line]:
    classes, expected = context.network.classes, context.expected
    known: dict[int, tuple[int | None, int | None, str | None]] = {}  # of a class, by the row of its first host
    for host in context.network.stations.hosts.values():
        entry: dict[str, object] = {}
        doubts: list[str] = []
        first = classes.of(host.name).hosts.numbers[0]
        if first not in known:
            best = expected.gateways(host)[:1]
            serving = str(best[0].address.ip) if best and best[0].address is not None else None
            known[first] = expected.vlan(host), expected.length(host), serving
        wanted, length, serving = known[first]
        own, gateway = host.row.address, host.row.gateway
        if wanted is not None:
            entry["vlan"] = wanted
        if own not in (None, NONE):
            entry["address"] = f"{str(own).partition('/')[0]}/{length}"
            if entry["address"] != own:
                doubts.append(f"the prefix length of its neighbours; it has {own}")
        usual = serving or gateway
        if usual is not None:
            entry["gateway"] = usual
            if usual != gateway:
                doubts.append(f"what serves its subnet; it has {gateway or 'not been asked'}")
        yield host.name, entry, _guess(doubts)
