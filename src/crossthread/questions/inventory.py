"""The inventory: every device, surveyed or only heard of, and what is odd about its neighbours and its software."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Mapping

import msgspec

from crossthread.answer import Answer
from crossthread.diagnosis.all_rules import ask_everywhere
from crossthread.diagnosis.context import Context
from crossthread.diagnosis.findings import Finding
from crossthread.diagnosis.registry import named
from crossthread.network.given import of_network
from crossthread.network.network import Network
from crossthread.survey.records import Neighbor
from crossthread.values import NONE
from crossthread.views.coverage import not_read


class Known(msgspec.Struct, frozen=True, omit_defaults=True):
    """A device of the inventory, surveyed or only heard of."""

    device: str
    how: str
    capabilities: tuple[str, ...] = ()
    platform: str | None = None
    software: str | None = None
    management: str | None = None
    read: tuple[str, ...] = ()
    """The tables that were read in full of it."""
    unread: tuple[str, ...] = ()
    """Those of which it is not known what they would say."""


class Inventory(Answer, frozen=True):
    """Every device that the survey knows of, and what is remarkable."""

    ROWS = "devices"
    devices: tuple[Known, ...]
    remarks: tuple[Finding, ...]


@of_network
def inventory(network: Network) -> Inventory:
    """Every device: those surveyed, and those that only their neighbours tell of.

    Parameters
    ----------
    network
        A network, a survey, or the place of one: a folder, or a `.json` or `.json.gz` file.

    Returns
    -------
    Inventory
        The devices and how each is known, and what is odd about neighbours and software.

    Raises
    ------
    SurveyError
        If a place was given and no survey can be read there.

    Examples
    --------
    >>> from crossthread.demo import faulty, healthy
    >>> inventory(healthy()).devices[0].how
    'surveyed'
    """
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
        first, places = rows[0], sorted({f"{row.device} {row.port}" for row in rows})
        at = places[0] + (f" and {len(places) - 1} more" if len(places) > 1 else "")
        management = next((r.management for r in rows if r.management and r.management != NONE), None)
        known = Known(name, f"heard at {at}", first.capabilities or (), first.platform, first.software, management)
        found.setdefault(name.casefold(), known)
    missed: dict[str, list[str]] = defaultdict(list)
    for lack in not_read(network):
        for device in lack.devices if lack.table else ():
            missed[device].append(lack.table or "")
    entries = tuple(_with_coverage(network, entry, missed) for entry in found.values())
    return Inventory(entries, tuple(_remarks(Context(network))))


_ASKED = ("ports", "neighbors", "gateways", "routes", "trees", "tree_ports")


def _with_coverage(network: Network, entry: Known, missed: Mapping[str, list[str]]) -> Known:
    """The entry with what was read of the device, as far as verdicts turn on it."""
    device = network.names.device(entry.device)
    if device is None:
        return entry
    read = tuple(table for table in _ASKED if network.covered.fully(device, table))
    return msgspec.structs.replace(entry, read=read, unread=tuple(missed.get(device, ())))


_REMARKABLE = ("software-mixed", "neighbor-one-way", "neighbor-several", "neighbor-stale", "neighbor-no-address")


def _remarks(context: Context) -> Iterator[Finding]:
    for name in _REMARKABLE:
        for rule in named(name):
            yield from ask_everywhere(context, rule)
