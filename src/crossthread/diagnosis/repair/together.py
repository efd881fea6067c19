"""Mends made together: what devices refuse of them, and what one of them takes back of another."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Container, Iterable, Mapping, Sequence

import msgspec

from crossthread.diagnosis.findings import Finding
from crossthread.errors import SurveyError
from crossthread.network.network import Network
from crossthread.survey.changes import Change, merge_changes
from crossthread.values import NONE, VlanSet, interface

Cell = tuple[str, str, str]
"""A table, the key of a row, and a column."""


def try_out(network: Network, changes: Sequence[Change]) -> Network | None:
    """A copy with some changes made; None if that cannot be done, such as an address that the interface has already."""
    try:
        return network.mended(changes)
    except SurveyError:
        return None


def changes_of(findings: Iterable[Finding]) -> tuple[Change, ...]:
    """What the mends of some findings change together."""
    return merge_changes(change for finding in findings for change in finding.repair)


def one_tag_twice(before: Network, after: Network, changes: Sequence[Change]) -> bool:
    """Whether an interface would get a tag that another one of its parent has then, which devices refuse."""
    devices = {str(change.key["device"]) for change in changes if change.table == "gateways" and "vid" in change.cells}

    def holders(network: Network) -> dict[tuple[str, str | None, int], set[str]]:
        names: dict[tuple[str, str | None, int], set[str]] = defaultdict(set)
        for row in network.survey.gateways if devices else ():
            if row.device in devices and row.vid:
                names[row.device, row.port or None, row.vid].add(row.interface)
        return names

    now = holders(before)
    return any(len(held) > 1 and held - now[place] for place, held in holders(after).items())


def one_address_twice(after: Network, changes: Sequence[Change]) -> bool:
    """Whether a host or an interface would get an address that another station has then, too."""
    for change in changes:
        new, old = (str(cells.get("address") or NONE) for cells in (change.cells, change.key))
        if adds_interface(change):
            new, old = old, NONE
        if new == NONE or " " in new or new.partition("/")[0] == old.partition("/")[0]:
            continue
        ip = interface(new).ip
        holders = {(s.device, s.name) for s in after.stations.by_address.of(str(ip)) if s.ip == ip}
        if len(holders) > 1 and not ip.is_link_local:
            return True
    return False


def refused(before: Network, after: Network, changes: Sequence[Change]) -> bool:
    """Whether changes leave what devices refuse, and did not have before: one tag, or one address, twice."""
    return one_tag_twice(before, after, changes) or one_address_twice(after, changes)


def given_back(findings: Iterable[Finding]) -> bool:
    """Whether one mend takes an address from an interface, and another gives it back: they do not mean one network."""
    changes = [change for finding in findings for change in finding.repair if change.table == "gateways"]
    taken = {str(change.key) for change in changes if "address" in change.cells or change.delete}
    return any(str(change.key) in taken for change in changes if adds_interface(change))


def moved_within(findings: Iterable[Finding]) -> set[str]:
    """The addresses instead of which some mends give an interface another one of the very subnet that it is in."""
    changes = [change for finding in findings for change in finding.repair if change.table == "gateways"]
    pairs = [tuple(str(cells.get("address") or NONE) for cells in (change.key, change.cells)) for change in changes]
    within = [pair for pair in pairs if NONE not in pair and " " not in pair[1]]
    held = {interface(new).ip for _, new in within}
    moves = [(interface(old), interface(new)) for old, new in within]
    return {str(old.ip) for old, new in moves if old.network == new.network and old.ip not in held}


def leads_to_any(finding: Finding, addresses: Container[str]) -> bool:
    """Whether a mend lets a host, or a route, lead to one of some addresses."""
    hops = (
        c.cells.get("gateway") if c.table == "hosts" else c.key.get("next_hop") for c in finding.repair if not c.delete
    )
    return any(str(hop) in addresses for hop in hops if hop)


def adds_interface(change: Change) -> bool:
    """Whether a change gives somebody an address: that is one row more, told with all its cells."""
    return change.table == "gateways" and "proxy_arp" in change.cells and "address" not in change.cells


def made_of(findings: Iterable[Finding]) -> dict[Cell, object]:
    """The cells that the mends of some findings set, and to what."""
    return {
        (change.table, str(change.key), column): value
        for change in changes_of(carrying_all([*findings]))
        for column, value in change.cells.items()
    }


def takes_back(finding: Finding, made: Mapping[Cell, object]) -> bool:
    """Whether a mend sets anew what others have set; a list of VLANs that only grows takes back nothing."""

    def grows(cell: Cell, value: object) -> bool:
        return cell[2] == "allowed" and not VlanSet.parse(str(made[cell])) - VlanSet.parse(str(value))

    return any(cell in made and not grows(cell, value) for cell, value in made_of([finding]).items())


def carrying_all(findings: Sequence[Finding]) -> list[Finding]:
    """The same findings; where several let one port carry some VLANs, each lets it carry those of all."""
    carried: dict[str, VlanSet] = defaultdict(VlanSet)
    for change in (change for finding in findings for change in finding.repair if _carries(change)):
        carried[str(change.key)] |= VlanSet.parse(str(change.cells["allowed"]))

    def all_of(change: Change) -> Change:
        cells = {**change.cells, "allowed": str(carried[str(change.key)])} if _carries(change) else change.cells
        return msgspec.structs.replace(change, cells=cells)

    return [msgspec.structs.replace(one, repair=tuple(map(all_of, one.repair))) for one in findings]


def _carries(change: Change) -> bool:
    return change.table == "ports" and bool(change.cells.get("allowed"))


def _waiting(network: Network, finding: Finding) -> int | None:
    """How many hosts of its subnet are in the VLAN in which a mend adds an interface; None if it adds none."""
    added = [change for change in finding.repair if adds_interface(change)]
    if not added:
        return None
    nets = {change.cells.get("vid"): interface(str(change.key["address"])).network for change in added}
    classes = (one for one in network.classes.all if one.vid in nets)
    return sum(len(one.hosts) for one in classes if (ip := one.hosts[0].ip) is not None and ip in nets[one.vid])


def mended_by(network: Network, findings: Sequence[Finding]) -> tuple[Network, list[Finding]]:
    """A copy with the mends of some findings made, and those that were.

    Two may want one thing, such as an address, and what devices refuse cannot be made; but perhaps after another. What
    is there is set before anything is added, and that first for which more hosts are where it would be.
    """
    done, left = list[Finding](), carrying_all(findings)
    changes = changes_of(left)
    made = try_out(network, changes)
    if made is not None and not refused(network, made, changes):
        return made, left
    waiting = {id(one): _waiting(network, one) for one in left}
    left.sort(key=lambda one: (waiting[id(one)] is not None, -(waiting[id(one)] or 0)))
    tried = 0
    while tried != len(left):
        tried = len(left)
        for finding in [*left]:
            made = try_out(network, finding.repair)
            if made is not None and not refused(network, made, finding.repair):
                network, left = made, [one for one in left if one is not finding]
                done.append(finding)
    return network, done


def namers_last(findings: Sequence[Finding]) -> list[Finding]:
    """The same findings; what names an interface by an address comes after what gives it that one."""
    given, found = {named: one for one in findings for named in addresses_given([one])}, list(findings)
    for finding in findings:
        givers = [given[one] for one in interfaces_named([finding]) if given.get(one, finding) is not finding]
        last = max((found.index(giver) for giver in givers), default=-1)
        if found.index(finding) < last:
            found.remove(finding)
            found.insert(last, finding)
    return found


def addresses_given(findings: Iterable[Finding]) -> set[Named]:
    """The interfaces that some mends set an address of, each with the address that it gets."""
    changes = (change for change in changes_of(findings) if change.table == "gateways" and change.cells.get("address"))
    return {(*named_by(change)[:2], str(change.cells["address"])) for change in changes}


def interfaces_named(findings: Iterable[Finding]) -> list[Named]:
    """The interfaces that some mends are about and take nothing from, each with the address by which it is named."""
    changes = (change for change in changes_of(findings) if change.table == "gateways" and not change.delete)
    return [named_by(change) for change in changes]


def named_by(change: Change) -> Named:
    """The interface that a change is about, with the address by which it is named."""
    return str(change.key["device"]), str(change.key["interface"]), str(change.key.get("address"))


Named = tuple[str, str, str]
"""An interface as a change names it: its device, its own name, and an address that it has."""
