"""What the map alone shows: one-way neighbours and why, stale and doubled entries, mixed software, the inventory."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Iterator

import msgspec

from crossthread.network.links import Link
from crossthread.network.names import End
from crossthread.network.network import Network
from crossthread.survey.tables import Neighbor
from crossthread.values import NONE

_HOLD = 4
"""How many intervals the hold time usually spans (msgTxHold, IEEE 802.1AB clause 9.2.5.6)."""
_PATIENCE = 1.5
"""An entry is stale if it was not refreshed for this many intervals."""


class Remark(msgspec.Struct, frozen=True, omit_defaults=True):
    """Something about neighbour discovery worth knowing; `rule` is the name of the finding that it would be."""

    rule: str
    says: str
    device: str | None = None
    port: str | None = None


class Known(msgspec.Struct, frozen=True, omit_defaults=True):
    """A device of the inventory, surveyed or only heard of."""

    device: str
    how: str
    capabilities: tuple[str, ...] = ()
    platform: str | None = None
    software: str | None = None
    management: str | None = None


class Inventory(msgspec.Struct, frozen=True):
    """Every device that the survey knows of, and what is remarkable."""

    devices: tuple[Known, ...]
    remarks: tuple[Remark, ...]


def remarks(network: Network) -> Iterator[Remark]:
    """What the neighbour tables show: one-way, stale, several on a port, without an address."""
    for link in network.links:
        if bool(link.seen_a) != bool(link.seen_b):
            yield _one_way(network, link)
    by_port: dict[End, list[Neighbor]] = defaultdict(list)
    for row in network.survey.neighbors:
        device = network.names.device(row.device) or row.device
        by_port[End(device, network.names.port(device, row.port) or row.port)].append(row)
    for end, rows in by_port.items():
        yield from _at_port(end, rows)


def _one_way(network: Network, link: Link) -> Remark:
    silent, heard = (link.b, link.a) if link.seen_a else (link.a, link.b)
    return Remark("neighbor-one-way", f"{silent} hears nothing of {heard}: {_reason(network, silent, heard)}", *silent)


def _reason(network: Network, silent: End, heard: End) -> str:
    """Why the one end does not hear the other."""
    devices = {network.names.device(row.device): row for row in network.survey.devices}
    ports = {end: network.names.ports.get(end.device, {}).get(end.port) for end in (silent, heard)}
    for end, deaf, word in (
        (silent, ("send", "off"), "does not listen"),
        (heard, ("receive", "off"), "does not speak"),
    ):
        row, port = devices.get(end.device), ports[end]
        if row is not None and row.discovery == "off":
            return f"neighbour discovery is off on {end.device}"
        if port is not None and port.discovery in deaf:
            return f"{end} {word} (discovery {port.discovery})"
    if not network.names.ports.get(silent.device):
        return f"{silent.device} was not surveyed"
    if not any(network.names.device(row.device) == silent.device for row in network.survey.neighbors):
        return f"no neighbour table of {silent.device} is in the survey"
    return "its neighbour table lacks it; ask again, or look for something in between"


def _at_port(end: End, rows: list[Neighbor]) -> Iterator[Remark]:
    who = {row.neighbor_chassis or row.neighbor or "?" for row in rows}
    if len(who) > 1:
        listed = " and ".join(sorted({row.neighbor or row.neighbor_chassis or "?" for row in rows}))
        yield Remark("neighbor-several", f"{end} hears {len(who)} neighbours: {listed}", *end)
    names: dict[str | None, set[str]] = defaultdict(set)
    for row in rows:
        if row.neighbor_chassis and row.neighbor:
            names[row.neighbor_chassis].add(row.neighbor)
    for chassis, called in names.items():
        if len(called) > 1:
            old = min((r for r in rows if r.neighbor_chassis == chassis), key=lambda r: r.remaining or 0)
            listed = " and ".join(sorted(called))
            yield Remark(
                "neighbor-stale", f"{end} hears {chassis} as {listed}: renamed; {old.neighbor} is ageing out", *end
            )
    for row in rows:
        name = row.neighbor or row.neighbor_chassis or "a neighbour"
        interval = row.interval or (row.ttl / _HOLD if row.ttl else None)
        if row.ttl is not None and row.remaining is not None and interval:
            silent_for = row.ttl - row.remaining
            if silent_for > _PATIENCE * interval:
                says = f"{end} has not heard {name} for {silent_for:g} s, though it speaks every {interval:g} s"
                yield Remark("neighbor-stale", f"{says}; {row.remaining:g} s of {row.ttl:g} s are left", *end)
        if row.management is None or row.management == NONE:
            yield Remark("neighbor-no-address", f"{name} at {end} gives no management address", *end)


def inventory(network: Network) -> Inventory:
    """Every device: those surveyed, and those that only their neighbours tell of."""
    found = {}
    for row in network.survey.devices:
        management = None if row.management == NONE else row.management
        found[row.device.casefold()] = Known(
            row.device, "surveyed", row.capabilities or (), row.platform, row.software, management
        )
    heard: dict[str, list[Neighbor]] = defaultdict(list)
    for entry in network.loose:
        name = entry.row.neighbor or entry.row.neighbor_chassis
        if entry.why == "unsurveyed" and name:
            heard[name].append(entry.row)
    for name, device in network.names.devices.items():
        if name not in found:
            found[name] = Known(device, "named in some table, without a row of its own")
    for name, rows in heard.items():
        first, at = rows[0], ", ".join(sorted({f"{row.device} {row.port}" for row in rows})[:3])
        management = next((r.management for r in rows if r.management and r.management != NONE), None)
        known = Known(name, f"heard at {at}", first.capabilities or (), first.platform, first.software, management)
        found.setdefault(name.casefold(), known)
    devices = tuple(found.values())
    return Inventory(devices, (*_mixed(devices), *remarks(network)))


def _mixed(devices: tuple[Known, ...]) -> Iterator[Remark]:
    """Devices of one platform on different software: the odd ones are named."""
    versions: dict[str, Counter[str]] = defaultdict(Counter)
    for device in devices:
        if device.platform and device.software:
            versions[device.platform][device.software] += 1
    for platform, counted in versions.items():
        if len(counted) < 2:
            continue
        usual = counted.most_common(1)[0][0]
        odd = [
            f"{d.device} ({d.software})" for d in devices if d.platform == platform and d.software not in (None, usual)
        ]
        yield Remark("software-mixed", f"most devices of {platform} run {usual}, but not {', '.join(odd)}")
