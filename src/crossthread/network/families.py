"""IPv4 and IPv6 side by side: hosts that have addresses of both, seen with one of them at a time.

Whatever forwards packets does so for each version by itself. So a network is one of the survey's hosts with one address
each, of IPv4 where they have one; its *twin* is the same network with their addresses of IPv6.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TypeVar, cast

import msgspec

from crossthread.survey import Survey
from crossthread.survey.changes import Change
from crossthread.survey.survey import replaced_hosts
from crossthread.values import NONE, address, interface

_Told = TypeVar("_Told")


def several(survey: Survey) -> bool:
    """Whether any host has more than one address, or gateway."""
    columns = (filter(None, survey.column("hosts", column)) for column in ("address", "gateway"))
    return any(" " in "\n".join(texts) for texts in columns)


def one_family(survey: Survey, version: int) -> Survey:
    """The survey with one address for each host: of a version of IP where it has one, else of the other."""
    if not several(survey):
        return survey
    addresses, gateways = survey.column("hosts", "address"), survey.column("hosts", "gateway")
    chosen = [pick(text, version) for text in addresses]
    return replaced_hosts(survey, chosen, [_gateway(*pair, version) for pair in zip(gateways, chosen, strict=True)])


def pick(text: str | None, version: int) -> str | None:
    """Of several addresses the one that counts: of the version, if there is one; a link-local one only if alone."""
    if text is None or " " not in text:
        return text
    return min(text.split(), key=lambda word: (interface(word).is_link_local, interface(word).version != version))


def _gateway(text: str | None, own: str | None, version: int) -> str | None:
    """Of several gateways the one of a host's own address; without an address, that of the version."""
    bare = own in (None, NONE)
    if text is None or (bare and " " not in text):
        return text
    words = [word for word in text.split() if word != NONE]
    return next((word for word in words if address(word).version == (version if bare else _version(own))), NONE)


def _version(text: str | None) -> int:
    return 6 if text and ":" in text else 4


def versions(text: str | None) -> frozenset[int]:
    """The versions of IP of some addresses; link-local ones count only where there is no other."""
    if text is None or text == NONE:
        return frozenset()
    words = text.split()
    real = [word for word in words if not interface(word).is_link_local]
    return frozenset(_version(word) for word in real or words)


def narrowed(changes: Sequence[Change], version: int) -> list[Change]:
    """Changes of hosts' cells with several addresses, as they are in a network of one version."""
    return [_narrowed(change, version) for change in changes]


def _narrowed(change: Change, version: int) -> Change:
    cells = change.cells
    if change.table != "hosts" or not any(" " in str(cells.get(column) or "") for column in ("address", "gateway")):
        return change
    fresh = dict(cells)
    try:
        fresh["address"] = pick(str(cells["address"]) if cells.get("address") else None, version)
        if cells.get("gateway"):
            words = str(cells["gateway"]).split()
            fresh["gateway"] = next((w for w in words if w != NONE and address(w).version == version), NONE)
    except ValueError:
        return change  # which is told when it is made
    return msgspec.structs.replace(change, cells={k: v for k, v in fresh.items() if k in cells})


def whole(answer: _Told, told: Survey) -> _Told:
    """An answer about a network of one version, with what its changes set put among hosts' other addresses."""
    found: object = answer
    if isinstance(answer, Change):
        found = _whole(answer, told)
    elif isinstance(answer, tuple) and answer and not hasattr(answer, "_fields"):
        parts = tuple(whole(part, told) for part in answer)
        found = parts if any(a is not b for a, b in zip(parts, answer, strict=True)) else answer
    elif isinstance(answer, msgspec.Struct):
        fields = {name: getattr(answer, name) for name in answer.__struct_fields__}
        fresh = {name: whole(value, told) for name, value in fields.items()}
        differ = {name: value for name, value in fresh.items() if value is not fields[name]}
        found = msgspec.structs.replace(answer, **differ) if differ else answer
    return cast(_Told, found)


def whole_changes(changes: Sequence[Change], told: Survey) -> list[Change]:
    """Changes with what they set put among hosts' other addresses, those that changes before set included."""
    now: dict[tuple[str, str], str] = {}
    found = []
    for change in changes:
        fresh = _whole(change, told, now)
        if change.table == "hosts":
            texts = ((column, fresh.cells.get(column)) for column in ("address", "gateway"))
            now |= {(str(change.key.get("host")).casefold(), column): str(text) for column, text in texts if text}
        found.append(fresh)
    return found


def _whole(change: Change, told: Survey, now: Mapping[tuple[str, str], str] | None = None) -> Change:
    """The same change; `now` has what is there already of the hosts' addresses and gateways, if that is not as told."""
    if change.table != "hosts" or change.delete:
        return change
    name = str(change.key.get("host", "")).casefold()
    places, held = told.table("hosts").positions("host").get(name, ()), now or {}
    cells = dict(change.cells)
    meant = str(cells.get("address") or "")
    for n in places:
        row = told.hosts[n]
        for column in ("address", "gateway"):
            value, before = cells.get(column), held.get((name, column), getattr(row, column))
            if value and before and " " not in str(value) and (" " in before or " " in (row.address or "")):
                cells[column] = _among(str(value), before, meant)
    return change if cells == change.cells else msgspec.structs.replace(change, cells=cells)


def _among(value: str, before: str, meant: str) -> str:
    """A host's addresses with one of them changed: what is of the other version, or link-local, stays.

    That a host has no gateway is meant for the version of the address that it gets.
    """
    if value == NONE:
        others = [w for w in before.split() if w != NONE and meant and _version(w) != _version(meant)]
        return " ".join(others) or value
    words = [word for word in before.split() if word != NONE]
    kept = [w for w in words if _version(w) != _version(value) or (interface(w).is_link_local and "/" in w)]
    return " ".join(sorted([value, *kept], key=_version))
