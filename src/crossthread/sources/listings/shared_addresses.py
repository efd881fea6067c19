"""The addresses that a daemon shares among routers (VRRP, RFC 9568), as it lists its instances in JSON."""

from __future__ import annotations

from collections.abc import Iterable

from msgspec.structs import replace

from crossthread.sources.listings.shapes import Entry
from crossthread.survey.records import Gateway, Row
from crossthread.values import NONE, address, interface

_STATES = {0: "down", 1: "backup", 2: "master", 3: "down"}


def is_shared(document: list[object]) -> bool:
    """Whether a document lists such instances."""
    return all(isinstance(_data(entry), dict) and {"vrid", "vips"} <= _data(entry).keys() for entry in document)


def _data(entry: object) -> Entry:
    data = entry.get("data") if isinstance(entry, dict) else None
    return data if isinstance(data, dict) else {}


def with_shared(rows: Iterable[Row], document: list[object]) -> list[Row]:
    """The rows of a device, its interfaces with the addresses that they share, and whether it holds them now.

    A shared address that the device holds is listed among its own by the operating system; it is none.
    """
    shared: dict[str, list[tuple[str, str | None]]] = {}
    for entry in map(_data, document):
        state = _STATES.get(entry["state"]) if isinstance(entry.get("state"), int) else None
        for told in entry["vips"] if isinstance(entry.get("vips"), list) else ():
            text = str(told).split(" ")[0].partition("/")[0]
            try:
                shared.setdefault(str(entry.get("ifp_ifname")), []).append((str(address(text)), state))
            except ValueError:
                continue
    found = []
    for row in rows:
        if not isinstance(row, Gateway) or row.interface not in shared or row.address in (None, "", NONE):
            found.append(row)
            continue
        own, held = interface(row.address or ""), dict(shared[row.interface])
        if str(own.ip) in held:
            continue
        near = next((one for one in held.items() if address(one[0]) in own.network), None)
        found.append(row if near is None else replace(row, virtual=near[0], virtual_state=near[1]))
    return found
