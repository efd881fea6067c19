"""What a visit keeps on disk, so that it can be killed at any moment and go on where it was.

The walk of each device stands in `SURVEY.visited/ADDRESS.walk` as soon as it is finished. What is not finished stands
in `SURVEY.visiting`: of each device the lines that it has told, and a journal of who was asked with which result. That
folder goes when the visit ends.
"""

from __future__ import annotations

import os
import shutil
from collections.abc import Sequence
from contextlib import suppress
from pathlib import Path
from typing import IO

import msgspec

from crossthread.errors import VisitError, visible
from crossthread.live.account import Visited
from crossthread.live.shell import is_complete, told_in_folder
from crossthread.sources.snmp.told import ToldDevice, told_in
from crossthread.survey.writing import replace_file

_JOURNAL, _LOCK = "visit.jsonl", "lock"
_ENDED = "# ended: "
_CUT = "# cut: "


def walks_beside(survey: str | Path) -> Path:
    """The folder of a survey's walks: beside it."""
    path = Path(survey).resolve()
    return path.parent / f"{path.name.partition('.json')[0]}.visited"


def read_before(walks: Path) -> int:
    """How many devices earlier visits have read in full."""
    kept = sum(_whole(path) for path in walks.glob("*.walk"))
    return kept + sum(is_complete(path) for path in walks.glob("*") if path.is_dir())


def _whole(walk: Path) -> bool:
    """Whether a walk is one of a visit, with nothing that was not read in full."""
    with open(walk, encoding="ascii", errors="replace") as lines:
        return next(lines, "").startswith("# asked at ") and not next(lines, "").startswith("# not read")


def is_interrupted(walks: Path) -> bool:
    """Whether a visit that kept its walks there was killed before its end."""
    return (_work_of(walks) / _JOURNAL).exists()


def _work_of(walks: Path) -> Path:
    return walks.with_name(f"{walks.name.removesuffix('.visited')}.visiting")


class Unfinished:
    """The lines of a device that is being asked: walk text, with remarks on which columns have ended."""

    def __init__(self, path: Path) -> None:
        self._path = path
        self.ended: set[str] = set()
        self.cut: dict[str, str] = {}
        self.lines: list[str] = []
        self._out: IO[str] | None = None
        if path.exists():
            text = path.read_text(encoding="ascii", errors="replace")
            whole = text[: text.rfind("\n") + 1]  # a line that was being written when the visit was killed is not whole
            self.lines = whole.splitlines()
            for line in self.lines:
                if line.startswith(_ENDED):
                    self.ended.add(line.removeprefix(_ENDED))
                elif line.startswith(_CUT):
                    column, _, why = line.removeprefix(_CUT).partition(" ")
                    self.cut[column] = why
            if whole != text:
                os.truncate(path, len(whole))

    def keep(self, lines: Sequence[str]) -> None:
        """Add lines of a walk."""
        if self._out is None:
            self._out = self._path.open("a", encoding="ascii")
        self._out.write("\n".join(lines) + "\n")
        self._out.flush()

    def end(self, column: str, cut: str | None = None) -> None:
        """Remark that a column was read to its end, or why not."""
        self.keep([f"{_CUT}{column} {cut}" if cut else _ENDED + column])

    def text(self) -> str:
        """The walk so far."""
        if self._out is not None:
            self._out.flush()
        if not self._path.exists():
            return ""
        lines = self._path.read_text(encoding="ascii", errors="replace").split("\n")
        return "\n".join(line for line in lines if not line.startswith("#"))

    def close(self) -> None:
        if self._out is not None:
            self._out.close()
            self._out = None

    def remove(self) -> None:
        self.close()
        self._path.unlink(missing_ok=True)


class VisitFolder:
    """The two folders of a visit.

    Parameters
    ----------
    walks
        Where finished walks are kept.
    again
        Whether everything is asked afresh, even if an earlier visit has it.

    Raises
    ------
    VisitError
        If another visit is using them, or they cannot be written.
    """

    def __init__(self, walks: Path, again: bool) -> None:
        self.walks = walks
        self._work = _work_of(walks)
        self._lock: IO[bytes] | None = None
        try:
            self._work.mkdir(parents=True, exist_ok=True)
            self._lock = (self._work / _LOCK).open("wb")
            _lock(self._lock, walks)
            self.results: dict[str, Visited] = {}
            """What this visit found before it was killed, by address."""
            told = self._journal()
            self.resumed = bool(told)
            self.again = again or (bool(told) and told[0] == b'{"again":true}')
            if again:
                self._clear()
            self._out = (self._work / _JOURNAL).open("ab")
            if not self.resumed or again:
                self._note(b'{"again":true}' if self.again else b'{"again":false}')
        except VisitError:
            self._unlock()
            raise
        except OSError as error:
            self._unlock()
            where = visible(str(error.filename or walks), 200)
            raise VisitError(f"the walks cannot be kept: {where}: {error.strerror}") from None
        if self.resumed and not again:
            for line in told[1:]:
                with suppress(msgspec.MsgspecError):
                    result = msgspec.json.decode(line, type=Visited)
                    self.results[result.address] = result

    def _journal(self) -> list[bytes]:
        path = self._work / _JOURNAL
        data = path.read_bytes() if path.exists() else b""
        if not data.endswith(b"\n") and data:
            data = data[: data.rfind(b"\n") + 1]
            os.truncate(path, len(data))
        return data.splitlines()

    def _clear(self) -> None:
        for path in self._work.glob("*"):
            if path.is_dir():
                shutil.rmtree(path)
            elif path.name != _LOCK:
                path.unlink()
        self.resumed = False

    def _note(self, line: bytes) -> None:
        self._out.write(line + b"\n")
        self._out.flush()

    def unfinished(self, address: str) -> Unfinished:
        """The lines of a device that is being asked."""
        return Unfinished(self._work / f"{_file_name(address)}.part")

    def told(self, address: str) -> ToldDevice | None:
        """What is kept of an address tells of the device, if anything is kept."""
        path = self.path(address)
        if path.exists():
            return told_in(path.read_text(encoding="ascii", errors="replace"))
        return told_in_folder(self.listings(address)) if self.listings(address).exists() else None

    def path(self, address: str) -> Path:
        """The walk of an address."""
        return self.walks / f"{_file_name(address)}.walk"

    def listings(self, address: str) -> Path:
        """The folder of the listings of an address that was asked over SSH."""
        return self.walks / _file_name(address)

    def unfinished_listings(self, address: str) -> Path:
        """Where listings are kept until all are there."""
        return self._work / _file_name(address)

    def everything(self) -> tuple[str, ...]:
        """All that is kept, for `gather`."""
        return tuple(sorted(str(path) for path in self.walks.glob("*") if path.suffix == ".walk" or path.is_dir()))

    def complete(self, address: str) -> bool:
        """Whether an earlier visit has read all of it."""
        path = self.path(address)
        return _whole(path) if path.exists() else is_complete(self.listings(address))

    def finish(self, part: Unfinished, result: Visited, remark: str) -> None:
        """Keep a device's walk, and in it what was not read in full; one that is complete is not replaced by less."""
        lacking = [
            f"# not read in full: {entry.identifier} {entry.column}: {visible(entry.why, 200)}"
            for entry in result.not_in_full
        ]
        if not (lacking and self.complete(result.address)):
            self.walks.mkdir(parents=True, exist_ok=True)
            text = "\n".join([f"# asked at {result.address} {remark}", *lacking, part.text()])
            replace_file(self.path(result.address), text.encode("ascii", "replace"))
        self.result(result)
        part.remove()

    def finish_listings(self, result: Visited) -> None:
        """Keep a device's listings; those of an earlier visit go."""
        fresh, kept = self.unfinished_listings(result.address), self.listings(result.address)
        if not (result.not_in_full and is_complete(kept)):
            self.walks.mkdir(parents=True, exist_ok=True)
            shutil.rmtree(kept, ignore_errors=True)
            os.replace(fresh, kept)
        self.result(result)
        shutil.rmtree(fresh, ignore_errors=True)

    def result(self, result: Visited) -> None:
        """Note what became of an address."""
        self.results[result.address] = result
        self._note(msgspec.json.encode(result))

    def close(self, finished: bool) -> None:
        """End: what is unfinished is only removed if the visit is finished."""
        self._out.close()
        if finished:
            shutil.rmtree(self._work, ignore_errors=True)
        self._unlock()

    def _unlock(self) -> None:
        if self._lock is not None:
            self._lock.close()


def _lock(file: IO[bytes], walks: Path) -> None:
    try:
        import fcntl
    except ImportError:  # not a POSIX system: two visits at once are then not noticed
        return
    try:
        fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        raise VisitError(f"another visit is writing to {visible(str(walks), 200)}; wait until it ends") from None


def _file_name(address: str) -> str:
    return address.replace(":", "-")
