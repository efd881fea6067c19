"""The part of a large survey that a question about two hosts can turn on.

Left out are hosts that live in other subnets and VLANs than the two, their gateways and the routers between them, and
the access ports of such hosts. Everything that carries frames or packets stays: devices, links, trunks, trees,
gateways, routes, VLANs.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import replace
from itertools import compress

from crossthread.network.classes import Block, number_of, placed
from crossthread.survey import Survey
from crossthread.survey.survey import Places
from crossthread.survey.tables import Gateway, Host, Port, Row
from crossthread.values import NONE, address

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
    claimed = {(row.device, row.port) for row in survey.neighbors}
    claimed |= {((row.neighbor or "").casefold(), row.neighbor_port or "") for row in survey.neighbors}
    claimed |= {(row.device, row.port) for row in survey.gateways if row.port}
    vids, targets, blocks = _concern(survey, pair, claimed)
    claimed |= {(host.device, host.port or "") for host in pair if host.device}
    plugged = {(row.device, row.port) for row in survey.hosts}
    bundles = {(row.device, row.lag) for row in survey.ports if row.lag and row.lag != NONE}
    seen: set[int] = set()
    keep_port = [_matters(row, vids, claimed, plugged, bundles, seen) for row in survey.ports]
    dropped = {(row.device, row.port) for row, keep in zip(survey.ports, keep_port, strict=True) if not keep}
    keep_host = _hosts_that_matter(survey.hosts, dropped, targets, blocks)
    macs = {row.mac for row in compress(survey.hosts, keep_host)}
    keep = {
        "ports": keep_port,
        "hosts": keep_host,
        "tree_ports": [(row.device, row.port) not in dropped for row in survey.tree_ports],
        "macs": [row.mac in macs for row in survey.macs],
        "arp": [row.mac in macs for row in survey.arp],
    }
    tables: dict[str, tuple[Row, ...]] = {
        name: tuple(compress(survey.table(name), kept)) for name, kept in keep.items()
    }
    places = dict(survey.places)
    for name, kept in keep.items():
        if name in places:
            places[name] = Places(places[name].file, list(compress(places[name].lines, kept)))
    return replace(survey, **tables, places=places)  # type: ignore[arg-type]


def _concern(
    survey: Survey, pair: Sequence[Host], links: set[tuple[str, str]]
) -> tuple[set[int], set[str], set[Block]]:
    """The VLANs, addresses and subnets that matter: of the hosts, of what serves them, and between routers.

    Also the VLANs of untagged frames on links, into which others may leak.
    """
    vids = {host.vid for host in pair if host.vid}
    at = {((host.device or "").casefold(), host.port) for host in pair}
    vids |= {row.pvid for row in survey.ports if (row.device.casefold(), row.port) in at and row.pvid}
    vids |= {row.pvid for row in survey.ports if row.pvid and (row.device, row.port) in links}
    targets = {host.address.partition("/")[0] for host in pair if host.address and host.address != NONE}
    blocks = {Block.of(host.address) for host in pair if host.address and host.address != NONE}
    targets |= {host.gateway for host in pair if host.gateway and host.gateway != NONE}
    targets |= {row.next_hop for row in survey.routes if row.next_hop and row.next_hop != NONE}
    rows = [row for row in survey.gateways if row.address and row.address != NONE]
    own = {id(row): Block.of(row.address) for row in rows if row.address}
    grown = True
    while grown:
        before = len(vids) + len(blocks) + len(targets)
        for row in rows:
            if _serves(row, own[id(row)], vids, targets, blocks):
                blocks.add(own[id(row)])
                targets |= {text.partition("/")[0] for text in (row.address, row.virtual) if text and text != NONE}
                vids |= {row.vid} if row.vid else set()
        grown = len(vids) + len(blocks) + len(targets) > before
    return {vid for vid in vids if vid}, targets, blocks


def _serves(row: Gateway, block: Block, vids: set[int], targets: set[str], blocks: set[Block]) -> bool:
    """Whether an interface is in a VLAN or subnet that matters."""
    if (row.vid and row.vid in vids) or block in blocks:
        return True
    return any(map(block.meets, blocks)) or any(block.holds(*number_of(text)) for text in targets)


def _matters(
    row: Port,
    vids: set[int],
    claimed: set[tuple[str, str]],
    plugged: set[tuple[str | None, str | None]],
    bundles: set[tuple[str, str]],
    seen: set[int],
) -> bool:
    """Whether a port may carry anything between the two hosts; the first of each VLAN stays as its witness."""
    if row.mode != "access" or not row.pvid or row.pvid in vids or row.lag not in (None, NONE):
        return True
    if row.pvid not in seen:
        seen.add(row.pvid)
        return True
    place = (row.device, row.port)
    if place in claimed or (row.device.casefold(), row.port) in claimed or place in bundles:
        return True
    return bool(row.description or row.aliases) and place not in plugged


def _hosts_that_matter(
    hosts: Sequence[Host], dropped: set[tuple[str, str]], targets: set[str], blocks: Iterable[Block]
) -> list[bool]:
    """Those on ports that stay, in a subnet that matters, or that take an address that matters for a neighbour's."""
    goals = [Block.of(f"{text}/{address(text).max_prefixlen}") for text in targets]
    near: dict[Block, bool] = {}
    found = []
    for row, place in zip(hosts, placed(row.address for row in hosts), strict=True):
        if place is None or (row.device, row.port) not in dropped:
            found.append(True)
            continue
        block = place[2]
        if block not in near:
            near[block] = any(block.meets(other) for other in (*goals, *blocks))
        found.append(near[block])
    return found
