"""What a cell of a survey may hold: one `Kind` for each sort of fact, text in and text out."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from datetime import date, datetime
from typing import Any

from crossthread.values import NO_VID, NONE, ExpectedError, VlanSet, address, interface, parse_mac, parse_vid

_FIRST = 16
"""How many cells tell whether those of a column differ from each other."""


class Kind:
    """How cells of one sort are read and written.

    Parameters
    ----------
    expected
        Completes the sentence "expected …".
    read
        Text that is not blank to a value; raises `ValueError` (its message says what was expected, or is empty).
    show
        The value back to text; `read(show(value)) == value`.
    plain
        Says of many cells whether all of them are values as they stand. Asking this of a whole column at once is
        what makes reading fast.
    """

    def __init__(
        self,
        expected: str,
        read: Callable[[str], object],
        show: Callable[[Any], str] = str,
        plain: Callable[[Sequence[str]], bool] | None = None,
    ) -> None:
        self.expected, self.read, self.show, self.plain = expected, read, show, plain

    def column(self, cells: Sequence[str], known: dict[str, object]) -> tuple[Sequence[object], dict[str, str]]:
        """Read some cells of a column.

        Parameters
        ----------
        cells
            The texts.
        known
            Texts of this column that were read before, and their values; kept up by this call.

        Returns
        -------
        tuple
            The values (None where blank), and for every bad text what was expected.
        """
        first = cells[:_FIRST]
        if self.plain is not None and len(set(first)) == len(first) and self.plain(cells):
            return cells, {}  # where cells differ, there is no use in knowing which stand there twice
        bad: dict[str, str] = {}
        distinct = set(cells)
        fresh = list(distinct.difference(known))
        if self.plain is not None and fresh and self.plain(fresh):
            known.update(zip(fresh, fresh, strict=True))
            fresh = []
        for cell in fresh:
            try:
                known[cell] = self.read(cell) if cell.strip() else None
            except ExpectedError as error:
                bad[cell] = f"expected {error}"
            except ValueError:
                bad[cell] = f"expected {self.expected}"
        if bad:
            return [known.get(cell) for cell in cells], bad
        if len(distinct) == 1:
            return [known[cells[0]]] * len(cells), {}
        return list(map(known.__getitem__, cells)), bad


class Plain(Kind):
    """Text as it stands: nothing to read, only blank cells to see.

    Names are kept once each, however often they stand there: most tables repeat those of their devices and ports.
    """

    def __init__(self, expected: str, repeats: bool = False) -> None:
        super().__init__(expected, str)
        self._repeats = repeats

    def column(self, cells: Sequence[str], known: dict[str, Any]) -> tuple[Sequence[object], dict[str, str]]:
        if self._repeats:
            cells = list(map(known.setdefault, cells, cells))
        return (cells if "" not in cells else [cell or None for cell in cells]), {}


def _macs_as_written(cells: Sequence[str]) -> bool:
    """Whether all cells are MAC addresses in lower case with colons.

    Asked of all of them as one text: each is 17 characters and a line feed, so that the colons and the line feeds stand
    at every 18th place; the digits between are what is left when these are taken out.
    """
    text, count = "\n".join(cells), len(cells)
    if len(text) != 18 * count - 1 or not text.isascii() or text.count("\n") != count - 1:
        return False
    if text[17::18] != "\n" * (count - 1) or text.count(":") != 5 * count:
        return False
    colons = ":" * count
    return all(text[n::18] == colons for n in range(2, 17, 3)) and not text.encode().translate(
        None, b"0123456789abcdef:\n"
    )


def _all_match(pattern: re.Pattern[str]) -> Callable[[Sequence[str]], bool]:
    """Whether each of some cells matches, asked once for all of them with line feeds between."""
    many = re.compile(rf"(?:{pattern.pattern})(?>\n(?:{pattern.pattern}))*+")

    def all_match(cells: Sequence[str]) -> bool:
        text = "\n".join(cells)
        return text.count("\n") == len(cells) - 1 and many.fullmatch(text) is not None

    return all_match


def choice(*words: str, **synonyms: str) -> Kind:
    """One of some words, in any case; a synonym is read as its word."""
    known = {word: word for word in words} | synonyms

    def read(text: str) -> str:
        try:
            return known[text.strip().lower()]
        except KeyError:
            raise ValueError from None

    return Kind(f"one of {', '.join(words)}", read)


def _or_none(read: Callable[[str], object], absent: object = NONE) -> Callable[[str], object]:
    return lambda text: absent if text.strip().lower() == NONE else read(text)


def _words(text: str) -> tuple[str, ...]:
    return () if text.strip().lower() == NONE else tuple(text.split())


def _capabilities(text: str) -> tuple[str, ...]:
    words = _words(text.lower())
    if set(words) - {"bridge", "router", "station", "phone", "wlan", "repeater", "other"}:
        raise ValueError
    return words


def _macs(text: str) -> tuple[str, ...]:
    return tuple(parse_mac(word) for word in _words(text))


def _chassis(text: str) -> str:
    try:
        return parse_mac(text)
    except ValueError:
        return text


def _address(text: str) -> str:
    return str(address(text.strip()))


def _interface(text: str) -> str:
    if "/" not in text:
        raise ValueError
    return str(interface(text.strip()))


def _prefix(text: str) -> str:
    if "/" not in text:
        raise ValueError
    found = interface(text.strip())
    if found.ip != found.network.network_address:
        raise ExpectedError(f"a prefix without host bits, here {found.network}")
    return str(found.network)


def _each(read: Callable[[str], str]) -> Callable[[str], str]:
    """Several words of one sort, kept as one text with a blank between."""
    return lambda text: " ".join(map(read, text.split()))


def _match(text: str) -> str:
    return _prefix(text if "/" in text else str(interface(text.strip())))


def _states(text: str) -> tuple[str, ...]:
    words = tuple(text.lower().split())
    if set(words) - {"new", "established"}:
        raise ValueError
    return words


def _count(text: str) -> int:
    if not text.strip().isdecimal() or len(text.strip()) > 20:
        raise ValueError
    return int(text)


def _number(text: str) -> float:
    if not re.fullmatch(r"\s*\d{1,15}(?:\.\d{1,9})?\s*", text):
        raise ValueError
    return float(text) if "." in text else int(text)


def _time(text: str) -> str:
    return datetime.fromisoformat(text.strip()).isoformat()


def _show_words(words: tuple[str, ...]) -> str:
    return " ".join(words) or NONE


def _show_pvid(vid: int) -> str:
    return str(vid) if vid else NONE


_OCTET = "(?>25[0-5]|2[0-4][0-9]|1[0-9]{2}|[1-9]?[0-9])"
_V4 = rf"{_OCTET}(?:\.{_OCTET}){{3}}"
_HEX = "[1-9a-f][0-9a-f]{0,3}"
_RUN = f"{_HEX}(?::(?:0:)?{_HEX})*"
_V6 = f"(?!(?:[0-9a-f]*:){{7}}){_RUN}::(?:{_RUN})?"
"""Most IPv6 addresses as RFC 5952 writes them; the others are read one by one."""
_ADDRESSES = _all_match(re.compile(f"{_V4}|{_V6}"))
_INTERFACES = _all_match(re.compile(f"{_V4}/(?:3[0-2]|[12]?[0-9])|{_V6}/(?:12[0-8]|1[01][0-9]|[1-9]?[0-9])"))

TEXT = Plain("text")
NAME = Plain("a name")
REPEATED = Plain("a name", repeats=True)
WORDS = Kind("words separated by blanks", _words, _show_words)
CAPABILITIES = Kind("words of bridge router station phone wlan repeater other", _capabilities, _show_words)
MAC = Kind("a MAC address such as 02:1b:e2:00:4d:8e", parse_mac, plain=_macs_as_written)
MACS = Kind("MAC addresses separated by blanks, or none", _macs, _show_words)
CHASSIS = Kind("a MAC address or another chassis identifier", _chassis, plain=_macs_as_written)
VID = Kind("a VLAN identifier from 1 to 4094", parse_vid)
PVID = Kind("a VLAN identifier from 1 to 4094, or none", _or_none(parse_vid, NO_VID), _show_pvid)
VIDS = Kind("a VLAN set such as 1 10-19 30, all or none", VlanSet.parse)
ADDRESS = Kind("an IP address such as 10.4.30.1", _address, plain=_ADDRESSES)
ADDRESS_OR_NONE = Kind("an IP address such as 10.4.30.1, or none", _or_none(_address), plain=_ADDRESSES)
INTERFACE = Kind(
    "an IP address with its prefix length such as 10.4.30.7/24, or none",
    _or_none(_interface),
    plain=_INTERFACES,
)
ADDRESSES = Kind(
    "an IP address such as 10.4.30.1 (several with blanks between), or none",
    _or_none(_each(_address)),
    plain=_ADDRESSES,
)
INTERFACES = Kind(
    "an IP address with its prefix length such as 10.4.30.7/24 (several with blanks between), or none",
    _or_none(_each(_interface)),
    plain=_INTERFACES,
)
MATCH = Kind("an IP address or prefix such as 10.4.30.0/24", _match)
STATES = Kind("new, established, or both", _states, _show_words)
PREFIX = Kind("an IP prefix such as 10.4.30.0/24", _prefix)
NAME_OR_NONE = Kind("a name, or none", _or_none(str))
YES = choice("yes", "no")
UP = choice("up", "down")
ON = choice("on", "off")
DUPLEX = choice("full", "half")
COUNT = Kind("a whole number, 0 or more", _count)
NUMBER = Kind("a number, 0 or more", _number)
TIME = Kind("a date and time such as 2026-05-04T06:00:00Z", _time)
DAY = Kind("a day such as 2026-12-31", date.fromisoformat)
