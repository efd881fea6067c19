"""The part of a large survey that a question about two hosts can turn on.

Left out are hosts that live in other subnets and VLANs than the two, their gateways and the routers between them, and
the access ports of such hosts. Everything that carries frames or packets stays: devices, links, trunks, trees,
gateways, routes, VLANs.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import replace
from itertools import compress
from operator import not_

from crossthread.network.hosts.blocks import Block, number_of
from crossthread.network.topology.open_ends import FACES_BRIDGES, FEW_STATIONS
from crossthread.survey import Survey
from crossthread.survey.records import Gateway, Host
from crossthread.values import NONE, address, interface

_Place = tuple[str, str]
_LARGE = 3000
"""How many hosts make it worth while to leave some out."""


def focus(survey: Survey, pair: Sequence[Host], large: int = _LARGE) -> Survey:
    """The rows of a survey that matter to two hosts; the survey itself if it is small, or if a host is not located.

    Parameters
    ----------
    survey
        The whole survey.
    pair
        The hosts' rows.
    large
        From how many hosts on anything is left out.
    """
    if len(survey.hosts) < large or not all(host.device and host.port for host in pair):
        return survey
    devices, lags = survey.column("ports", "device"), survey.column("ports", "lag")
    spelled = {name.casefold(): name for name in dict.fromkeys(devices)}
    claimed = {(row.device, row.port) for row in survey.neighbors}
    claimed |= {(spelled.get((r.neighbor or "").casefold(), ""), r.neighbor_port or "") for r in survey.neighbors}
    claimed |= {(row.device, row.port) for row in survey.gateways if row.port}
    own = {(spelled.get((host.device or "").casefold(), ""), host.port or "") for host in pair}
    macs = {host.mac for host in pair if host.mac}
    own |= set(compress(_places(survey, "macs"), map(macs.__contains__, survey.column("macs", "mac"))))
    vids, targets, blocks = _concern(survey, pair, own, claimed)
    told = zip(survey.column("arp", "address"), survey.column("arp", "mac"), strict=True)
    macs |= {mac for ip, mac in told if ip in targets and mac}  # whoever had an address that packets go to
    claimed |= _towards_bridges(survey)
    claimed |= own | {(device, lag) for device, lag in zip(devices, lags, strict=True) if lag and lag != NONE}
    near = _addressed_near(survey, targets, blocks)
    living = set(compress(_places(survey, "hosts"), near))  # where a subnet lives says which VLAN it belongs to
    at_those = compress(survey.column("ports", "pvid"), map(living.__contains__, _places(survey, "ports")))
    keep_port = _ports_that_matter(survey, vids | set(filter(None, at_those)), claimed | living)
    dropped = set(compress(_places(survey, "ports"), map(not_, keep_port)))
    named = zip(_places(survey, "ports"), survey.column("ports", "aliases"), keep_port, strict=True)
    unheard = {(d.casefold(), name) for (d, port), more, kept in named if not kept for name in (port, *(more or ()))}
    keep = {
        "ports": keep_port,
        "hosts": [
            here or mac in macs or not text or text == NONE or place not in dropped
            for here, text, mac, place in zip(
                near,
                survey.column("hosts", "address"),
                survey.column("hosts", "mac"),
                _places(survey, "hosts"),
                strict=True,
            )
        ],
        "tree_ports": [place not in dropped for place in _places(survey, "tree_ports")],
        "macs": [(device.casefold(), port) not in unheard for device, port in _places(survey, "macs")],
    }
    tables = {name: survey.table(name).kept(kept) for name, kept in keep.items()}
    return replace(survey, **tables)  # type: ignore[arg-type]


def _towards_bridges(survey: Survey) -> set[_Place]:
    """The ports that may lead on to something that nobody surveyed, whatever their mode: those may be open ends."""
    told = zip(
        _places(survey, "tree_ports"),
        survey.column("tree_ports", "role"),
        survey.column("tree_ports", "edge"),
        strict=True,
    )
    found = {place for place, role, edge in told if role in FACES_BRIDGES or (role == "designated" and edge == "no")}
    learned = Counter(_places(survey, "macs"))
    return found | {place for place, count in learned.items() if count > FEW_STATIONS}


def _places(survey: Survey, table: str) -> Iterator[_Place]:
    """The device and port that each row of a table is about."""
    return zip(survey.column(table, "device"), survey.column(table, "port"), strict=True)


def _concern(
    survey: Survey, pair: Sequence[Host], own: set[_Place], links: set[_Place]
) -> tuple[set[int], set[str], set[Block]]:
    """The VLANs, addresses and subnets that matter: of the hosts, of what serves them, and between routers.

    Also the VLANs of untagged frames on links, into which others may leak.
    """
    at_ends = map((own | links).__contains__, _places(survey, "ports"))
    joined = {*(host.vid for host in pair), *compress(survey.column("ports", "pvid"), at_ends)}
    vids: set[int] = {vid for vid in joined if vid}
    targets = {host.address.partition("/")[0] for host in pair if host.address and host.address != NONE}
    blocks = {Block.of(host.address) for host in pair if host.address and host.address != NONE}
    targets |= {host.gateway for host in pair if host.gateway and host.gateway != NONE}
    targets |= {row.next_hop for row in survey.routes if row.next_hop and row.next_hop != NONE}
    told = [row for row in survey.gateways if row.address and row.address != NONE]
    rows = [row for row in told if row.address and not interface(row.address).is_link_local]
    subnets = {id(row): Block.of(row.address) for row in rows if row.address}
    grown = True
    while grown:
        before = len(vids) + len(blocks) + len(targets)
        for row in rows:
            if _serves(row, subnets[id(row)], vids, targets, blocks):
                blocks.add(subnets[id(row)])
                targets |= {text.partition("/")[0] for text in (row.address, row.virtual) if text and text != NONE}
                vids |= {row.vid} if row.vid else set()
        grown = len(vids) + len(blocks) + len(targets) > before
    return vids, targets, blocks


def _serves(row: Gateway, block: Block, vids: set[int], targets: set[str], blocks: set[Block]) -> bool:
    """Whether an interface is in a VLAN or subnet that matters."""
    if (row.vid and row.vid in vids) or block in blocks:
        return True
    return any(map(block.meets, blocks)) or any(block.holds(*number_of(text)) for text in targets)


def _ports_that_matter(survey: Survey, vids: set[int], claimed: set[_Place]) -> list[bool]:
    """The ports that may carry anything between the two hosts.

    The first host of each VLAN on each device stays too, as its witness: who is on which side of a link is evidence.
    """
    plugged = set(_places(survey, "hosts"))
    seen: set[tuple[str, int]] = set()
    found = []
    told = (survey.column("ports", name) for name in ("mode", "pvid", "lag", "description", "aliases"))
    for place, mode, vid, lag, description, aliases in zip(_places(survey, "ports"), *told, strict=True):
        keep = mode != "access" or place in claimed or lag not in (None, NONE)
        if not keep and place in plugged:
            keep = not vid or vid in vids
        elif not keep:
            keep = bool(description or aliases)
        if vid and place in plugged and (place[0], vid) not in seen:
            keep = True
            seen.add((place[0], vid))
        found.append(keep)
    return found


def _addressed_near(survey: Survey, targets: set[str], blocks: Iterable[Block]) -> list[bool]:
    """The hosts in a subnet that matters, or that take an address that matters for a neighbour's."""
    others = [*(Block.of(f"{text}/{address(text).max_prefixlen}") for text in targets), *blocks]
    near: dict[str, bool] = {}
    known: dict[Block, bool] = {}
    found = []
    for text in survey.column("hosts", "address"):
        if text is None or text == NONE:
            found.append(False)
            continue
        ip, _, length = text.rpartition("/")
        # Addresses that differ in their last number only are in one subnet, if that is no smaller.
        last, wide = (":", 96) if ":" in ip else (".", 24)
        key = f"{ip.rpartition(last)[0]}{last}/{length}" if int(length) <= wide else text
        if key not in near:
            block = Block.of(text)
            if block not in known:
                known[block] = any(block.meets(other) for other in others)
            near[key] = known[block]
        found.append(near[key])
    return found
