"""Reading columns of one device, whatever its agent gets wrong: what was read in full, what was not, and why."""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Iterable, Sequence
from time import monotonic

from crossthread.live.snmp.messages import (
    DENIED,
    END,
    ERRORS,
    NO_ACCESS,
    NO_INSTANCE,
    NO_NAME,
    NO_OBJECT,
    TOO_BIG,
    Entry,
    Oid,
)
from crossthread.live.snmp.session import Reply, Request, Session
from crossthread.live.snmp.walk_text import line_of

LARGEST_COLUMN, LARGEST_DEVICE = 50_000, 400_000
"""How many objects of a column, of a device, are read: more than a campus core's filtering database, which tells two
columns of each of its stations; a table that has more is taken for one without an end."""
_WIDE = 24
"""How many columns are asked for at once while it is not known which of them are empty."""
_ROOM, _OCTETS = 48, 1200
"""How many objects an answer may have at most, and about how many octets: more is cut to pieces on the way, and where
one piece is lost all are."""
_QUICK = 0.25
"""Seconds that one waits at least."""
_LEAST_PAUSE, _LONGEST_PAUSE, _SLOWER, _CALMER = 0.02, 1.0, 1.5, 0.8
"""Seconds between questions once answers were lost: longer with each loss, shorter with each answer; where every third
answer is lost by chance it stays short, and where a device answers only so often it comes to that."""


class BrokenOffError(Exception):
    """The device answers no more, or not in a way that can be used; the message says what came instead."""


class UnusableError(BrokenOffError):
    """What comes is no answer to what was asked."""


class Column:
    """A column, or a single value: how far it was read."""

    __slots__ = ("at", "cut", "ended", "identifier", "rows", "single", "touched")

    def __init__(self, identifier: Oid, single: bool = False) -> None:
        self.identifier = self.at = identifier
        self.single = single
        self.rows = 0
        self.touched = self.ended = False
        self.cut: str | None = None

    @property
    def open(self) -> bool:
        return not self.ended and self.cut is None


class Reading:
    """One device, column by column.

    Parameters
    ----------
    session
        The way to ask it.
    keep
        Called with lines of walk text, as answers come in.
    patience, tries
        The seconds to wait for an answer at most, and how often one question is asked.
    ended
        Called with a column that was read to its end, or cannot be.
    """

    def __init__(
        self,
        session: Session,
        keep: Callable[[Sequence[str]], None],
        patience: float,
        tries: int,
        ended: Callable[[Column], None],
    ) -> None:
        self._session, self._keep, self._ended = session, keep, ended
        self._patience, self._tries = patience, tries
        self._room = self._most = _ROOM
        self._bulk, self._many, self._proven = False, True, False
        self._usual = patience / 8
        self._pause = 0.0
        self.objects = 0
        self.answers = 0

    async def read(self, columns: Iterable[Column], many: bool = True) -> None:
        """Read columns to their ends, as far as that can be done; a column that cannot be read says why.

        With `many` false only by GETNEXT, which every agent knows: before it is known whether anybody answers.

        Raises
        ------
        BrokenOffError
            If the device answers no more; what was read until then is kept, and the columns know how far it was.
        RefusedError, CredentialsError
            If it does not answer at all.
        """
        wanted = [column for column in columns if column.open]
        self._bulk = many and self._many
        while wanted:
            batch, rows = self._next(wanted)
            self._take(*await self._answer(batch, rows))
            wanted = [column for column in wanted if column.open]
            if self.objects > LARGEST_DEVICE:
                raise BrokenOffError(f"its tables have no end: stopped after {self.objects:,} objects")

    def _next(self, wanted: list[Column]) -> tuple[list[Column], int]:
        """The columns to ask for next, and how many rows of them: first one row of all, to see which are empty."""
        fresh = [column for column in wanted if not column.touched]
        if fresh:
            return fresh[: min(_WIDE, self._room)], 1
        if not self._bulk:
            return wanted[: min(_WIDE, self._room)], 1
        table = wanted[0].identifier[:-1]
        batch = [column for column in wanted if column.identifier[:-1] == table][: self._room]
        batch = batch if len(batch) > 2 else wanted[: min(6, self._room)]
        return batch, max(1, self._room // len(batch))

    async def _answer(self, batch: list[Column], rows: int) -> tuple[list[Column], int, Reply]:
        """Ask until there is an answer: longer waits, fewer objects, and by GETNEXT if GETBULK never had one."""
        asked: dict[Request, tuple[list[Column], int]] = {}
        wait = min(self._patience, max(_QUICK, 8 * self._usual))
        left = self._tries
        while left:
            if self._pause:
                await asyncio.sleep(self._pause)
            request = Request(tuple(column.at for column in batch), rows if self._bulk else 0)
            asked[request] = batch, rows
            began = monotonic()
            reply = await self._session.ask(request, wait)
            if reply is not None and (reply.entries or reply.status):
                self._usual += (monotonic() - began - self._usual) / 4
                self._pause = self._pause * _CALMER if self._pause > _LEAST_PAUSE / 2 else 0.0
                self.answers += 1
                self._proven = self._proven or bool(reply.request.repetitions)
                return *asked[reply.request], reply
            if reply is not None:
                self._session.oddities["its answers are empty"] += 1
            left -= 1
            wait = min(self._patience, 2 * wait)
            if self.answers:  # perhaps it wants to be asked less often
                self._pause = min(_LONGEST_PAUSE, max(_LEAST_PAUSE, _SLOWER * self._pause))
            if self.answers and left < self._tries - 1:  # perhaps what it answers is too large for the way
                self._room = max(1, self._room // 2)
                batch = batch[: self._room]
                rows = max(1, min(rows, self._room // len(batch)))
            if not left and self._bulk and not self._proven:
                self._bulk = self._many = False
                left, wait = self._tries, min(self._patience, max(_QUICK, 8 * self._usual))
                batch, rows = batch[:1], 1
        odd = self._session.oddities.most_common(1)
        if odd:
            raise UnusableError(odd[0][0])
        raise BrokenOffError("no answer any more" if self.answers else "no answer")

    def _take(self, batch: list[Column], rows: int, reply: Reply) -> None:
        """Bring columns forward by an answer."""
        if reply.status:
            self._failed(batch, rows, reply)
            return
        many = len(batch)
        lines: list[str] = []
        for at, entry in enumerate(reply.entries[: many * max(rows, 1)]):
            column = batch[at % many]
            if column.open:
                self._bring(column, entry, lines)
        if lines:
            self.objects += len(lines)
            self._keep(lines)
        for column in batch:  # only now: what a column has told is kept before it is said to have ended
            if not column.open:
                self._ended(column)
        self._room = max(1, min(self._most, self._room + 4, _OCTETS * len(reply.entries) // reply.size or 1))

    def _bring(self, column: Column, entry: Entry, lines: list[str]) -> None:
        identifier = entry.identifier
        own = column.identifier
        column.touched = True
        if entry.tag in (END, NO_OBJECT, NO_INSTANCE) or identifier[: len(own)] != own:
            if entry.tag not in (END, NO_OBJECT, NO_INSTANCE) and identifier <= column.at:
                column.cut = "its identifiers do not increase"
                return
            column.ended = True
            return
        if identifier <= column.at:
            column.cut = "its identifiers do not increase"
            return
        column.at = identifier
        column.rows += 1
        lines.append(line_of(entry))
        if column.single:
            column.ended = True
        elif column.rows >= LARGEST_COLUMN:
            column.cut = f"it has no end: stopped after {column.rows:,} objects"

    def _failed(self, batch: list[Column], rows: int, reply: Reply) -> None:
        """Ask for less where an answer would be too big, and pass over the one column that cannot be told."""
        status = reply.status
        if not reply.request.repetitions and status == NO_NAME and 1 <= reply.position <= len(batch):
            batch[reply.position - 1].ended = True  # as version 1 says that nothing follows
            self._ended(batch[reply.position - 1])
        elif len(batch) * rows > 1 and (status == TOO_BIG or rows > 1 or not 1 <= reply.position <= len(batch)):
            self._room = max(1, len(batch) * rows // 2)
            self._most = self._room if status == TOO_BIG else self._most
        else:
            name = ERRORS.get(status, f"error {status}")
            denied = "; it does not let us see it" if status in (NO_ACCESS, DENIED) else ""
            column = batch[reply.position - 1] if 1 <= reply.position <= len(batch) else batch[0]
            column.touched = True
            column.cut = "it does not fit into an answer" if status == TOO_BIG else f"it answers with {name}{denied}"
            self._ended(column)
