"""The inventory: every device, surveyed or only heard of, and what is odd about its neighbours and its software."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Mapping

import msgspec

from crossthread.answer import Answer
from crossthread.diagnosis.all_rules import ask_everywhere
from crossthread.diagnosis.context import Context, context_of
from crossthread.diagnosis.findings import Finding
from crossthread.diagnosis.registry import named
from crossthread.network.given import of_network
from crossthread.network.network import Network
from crossthread.values import NONE
from crossthread.views.coverage import not_read
from crossthread.views.heard import heard_of


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
    for name, named_device in network.names.devices.items():
        if name not in found:
            found[name] = Known(named_device, "named in some table, without a row of its own")
    for device in heard_of(network):
        places = sorted({str(end) for end, _ in device.rows})
        at = places[0] + (f" and {len(places) - 1} more" if len(places) > 1 else "")
        told = (device.first("platform"), device.first("software"), device.first("management"))
        found.setdefault(device.name.casefold(), Known(device.name, f"heard at {at}", device.capabilities, *told))
    missed: dict[str, list[str]] = defaultdict(list)
    for lack in not_read(network):
        for lacking in lack.devices if lack.table else ():
            missed[lacking].append(lack.table or "")
    entries = tuple(_with_coverage(network, entry, missed) for entry in found.values())
    return Inventory(entries, tuple(_remarks(context_of(network))))


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
