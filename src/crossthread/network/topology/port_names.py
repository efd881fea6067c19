"""Which port is meant by a name: matched by numbers and initial letters, never by lists of makers."""

from __future__ import annotations

import re
from collections.abc import Iterable

_CHUNKS = re.compile(r"\d+|[^\d\s]+")


def short_form(short: str, long: str) -> bool:
    """Whether one port name is a short form of the other: the same numbers, and each word an initial piece.

    `por1/2` is a short form of `port1/2`; `port1/2` is none of `port1/20`, and bare numbers are a short form of
    nothing. No list of makers is asked: the numbers and the first letters are the evidence.
    """
    ours, theirs = _CHUNKS.findall(short.casefold()), _CHUNKS.findall(long.casefold())
    if len(ours) != len(theirs) or not ours or not ours[0][0].isalpha():
        return False
    return all(
        (a.isdecimal() and b.isdecimal() and a.lstrip("0") == b.lstrip("0")) or (not a.isdecimal() and b.startswith(a))
        for a, b in zip(ours, theirs, strict=True)
    )


def match_port(name: str, known: Iterable[tuple[str, Iterable[str]]], whole: bool = True) -> str | None:
    """Which of a device's ports somebody means by `name`.

    Parameters
    ----------
    name
        As a neighbour or a table spells it.
    known
        The device's ports: how it spells each, and that port's aliases and MAC address.
    whole
        Whether these may be all of its ports: else a short form may be the name of one that was not read.

    Returns
    -------
    str or None
        The port's own spelling: by the exact name, else an alias, else a short form that fits one port only. Where the
        device has ports of the very words of the name, it is one of these, which was not read, and no short form.
    """
    ports = [(port, {alias.casefold() for alias in aliases}) for port, aliases in known]
    wanted = name.strip().casefold()
    for port, _ in ports:
        if port.casefold() == wanted:
            return port
    by_alias = [port for port, aliases in ports if wanted in aliases]
    short = (port for port, _ in ports if whole and (short_form(name, port) or short_form(port, name)))
    fits = by_alias or list(short)
    if not by_alias and len(fits) == 1 and any(_words(port) == _words(name) != _words(fits[0]) for port, _ in ports):
        return None
    return fits[0] if len(fits) == 1 else None


def _words(name: str) -> list[str]:
    """What stands between the numbers of a port's name."""
    return [chunk for chunk in _CHUNKS.findall(name.casefold()) if not chunk.isdecimal()]
