"""Links out of neighbour rows: told from both ends where both speak, and never made up where they disagree."""

from __future__ import annotations

from bisect import bisect_left
from collections import defaultdict
from collections.abc import Container, Iterable, Iterator, Sequence
from itertools import compress, count
from typing import Literal

import msgspec

from crossthread.network.three_valued import Truth
from crossthread.network.topology.names import End, Names
from crossthread.survey import Survey
from crossthread.survey.records import Neighbor, Port


class Link(msgspec.Struct, frozen=True):
    """One cable between two ports.

    `seen_a` are the rows in which end a heard end b, `seen_b` the other way round. Both are empty for a cable that
    only the descriptions of both its ports tell of, each naming the other: a cable that is down is not heard.
    """

    a: End
    b: End
    seen_a: tuple[Neighbor, ...]
    seen_b: tuple[Neighbor, ...]
    up: Truth

    def far(self, end: End) -> End:
        """The other end."""
        return self.b if end == self.a else self.a


class Loose(msgspec.Struct, frozen=True):
    """A neighbour that was heard and that no link could be made of, and why."""

    end: End
    row: Neighbor
    why: Literal["unsurveyed", "port", "conflict"]
    """`unsurveyed`, `port` (the far port is not known) or `conflict` (the far end says otherwise)."""
    claims: End | None = None


def port_up(row: Port | None) -> Truth:
    """Whether a port works: down if it is down by configuration or in fact; up only if it was seen up.

    A member that takes part in its aggregate collects and distributes frames, and so is up (IEEE 802.1AX clause 6.4).
    """
    if row is None:
        return None
    if row.admin == "down" or row.oper == "down":
        return False
    return True if row.oper == "up" or row.lag_state == "attached" else None


def cable_up(ends: Iterable[Truth]) -> Truth:
    """Whether a cable carries frames.

    Down if an end is down. Otherwise one end seen up is enough: a link comes up at both ends or at none.
    """
    seen = list(ends)
    if False in seen:
        return False
    return True if True in seen else None


def find_links(survey: Survey, names: Names) -> tuple[list[Link], list[Loose]]:
    """All links that the neighbour rows tell of, and the rows that no link could be made of."""
    claims: dict[End, dict[End, list[Neighbor]]] = defaultdict(dict)
    loose: list[Loose] = []
    mutual = _only_ports(survey, names)
    for row in survey.neighbors:
        device = names.devices[row.device.casefold()]
        near = End(device, names.port(device, row.port) or row.port)
        far_device = names.neighbor_device(row)
        if far_device is None:
            loose.append(Loose(near, row, "unsurveyed"))
            continue
        far_port = names.neighbor_port(far_device, row)
        if far_port is None and not names.ports[far_device]:
            # Nothing is known of that device's ports but what neighbours say, and where it hears them itself.
            far_port = mutual.get((device, far_device)) or row.neighbor_port
        if far_port is None:
            loose.append(Loose(near, row, "port"))
        else:
            claims[near].setdefault(End(far_device, far_port), []).append(row)
    links: list[Link] = []
    done: set[frozenset[End]] = set()
    for near, heard in claims.items():
        for far, rows in heard.items():
            answers = claims.get(far, {})
            if near not in answers and answers:
                loose += [Loose(near, row, "conflict", far) for row in rows]
                continue
            pair = frozenset((near, far))
            if pair in done:
                continue
            done.add(pair)
            states = [port_up(names.row(end)) for end in (near, far)]
            links.append(Link(near, far, tuple(rows), tuple(answers.get(near, ())), cable_up(states)))
    heard_at = {end for link in links for end in (link.a, link.b)} | {entry.end for entry in loose}
    return links + _described(survey, names, heard_at), loose


def _only_ports(survey: Survey, names: Names) -> dict[tuple[str, str], str]:
    """By two devices the port at which the second hears the first, where each hears the other at one port only.

    There is one cable between them then, by whatever names the two call its ends.
    """
    hears: dict[tuple[str, str], set[str]] = defaultdict(set)
    unread = {device for device, rows in names.ports.items() if not rows}
    for row in survey.neighbors if unread else ():
        device, far = names.devices[row.device.casefold()], names.neighbor_device(row)
        if far is not None:
            hears[device, far].add(row.port)
    return {
        (far, device): next(iter(ports))
        for (device, far), ports in hears.items()
        if device in unread and len(ports) == 1 and len(hears.get((far, device), ())) == 1
    }


def links_again(links: Iterable[Link], names: Names, touched: Container[End]) -> list[Link]:
    """Links between the same ports, of which those that end on some ports are asked again whether they are up."""
    return [_again(link, names) if link.a in touched or link.b in touched else link for link in links]


def _again(link: Link, names: Names) -> Link:
    up = cable_up([port_up(names.row(end)) for end in (link.a, link.b)])
    return link if up is link.up else msgspec.structs.replace(link, up=up)


def _described(survey: Survey, names: Names, heard_at: set[End]) -> list[Link]:
    """The cables that only descriptions tell of: two silent ports that name each other."""
    named: dict[End, End] = {}
    begins = {word for name in names.devices for word in _pieces(name)[:1]}
    written, ports, descriptions = (survey.column("ports", name) for name in ("device", "port", "description"))
    ends = zip(map(names.spelled.__getitem__, written), ports, strict=True)
    silent = [n for n, end in enumerate(ends) if descriptions[n] and end not in heard_at]
    for n in map(silent.__getitem__, _telling([descriptions[n] for n in silent], begins)):
        end = End(names.spelled[written[n]], ports[n])
        far = _far_end(descriptions[n], names)
        if far is not None and far != end and far not in heard_at:
            named[end] = far
    links = []
    for end, far in named.items():
        if named.get(far) == end and end < far:
            states = [port_up(names.row(e)) for e in (end, far)]
            links.append(Link(end, far, (), (), cable_up(states)))
    return links


def _telling(texts: Sequence[str], begins: set[str]) -> Iterator[int]:
    """Which of some descriptions hold any of these words.

    All of them are looked at as one text, in which a NUL stands between two of them.
    """
    joined = "\0".join(texts)
    if joined.count("\0") >= len(texts):  # one of them holds a NUL itself
        joined = "\0".join([text.replace("\0", " ") for text in texts])
    plain = _plain(joined)
    if begins.isdisjoint(plain.replace("\0", " ").split()):
        return
    words = plain.replace("\0", " \0 ").split()
    ends = list(compress(count(), map("\0".__eq__, words)))
    hits = compress(count(), map(begins.__contains__, words))
    yield from dict.fromkeys(bisect_left(ends, at) for at in hits)


_BLANKS = str.maketrans(dict.fromkeys(",;:()[]", " "))


def _plain(text: str) -> str:
    """A text without punctuation, in lower case."""
    return text.translate(_BLANKS).casefold()


def _pieces(text: str) -> list[str]:
    return _plain(text).split()


def _far_end(description: str, names: Names) -> End | None:
    """The device and its port that a description names, as in "to sw-a port5"; names may have up to four words."""
    words = set(word_runs(description))
    for part in word_runs(description):
        device = names.device(part)
        if device is not None:
            ports = [port for port in names.ports[device] if port in words and port != part]
            return End(device, ports[0]) if len(ports) == 1 else None
    return None


def word_runs(text: str) -> Iterator[str]:
    """The runs of one to four words of a text, without punctuation around them, the longest first."""
    words = [word.strip(",;:()[]") for word in text.split()]
    for length in range(min(4, len(words)), 0, -1):
        for at in range(len(words) - length + 1):
            yield " ".join(words[at : at + length])
