"""From files and folders to one survey: recognise, read, merge, and say what was taken from where."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Sequence
from pathlib import Path

import msgspec

from crossthread.sources import capture, daemon, linux, snmp, yang
from crossthread.sources.documents import Document, UnreadableError, recognise
from crossthread.sources.mapped import TableMapping, mapping_for, read_mapped
from crossthread.sources.merging import Difference, Told, merge, writable
from crossthread.survey import Survey, SurveyError
from crossthread.survey.tables import TABLES, Row


class Taken(msgspec.Struct, frozen=True):
    """What became of one file: its format and what was taken from it, or why nothing was."""

    path: str
    kind: str | None
    rows: int
    says: str


class Summary(msgspec.Struct, frozen=True):
    """What a gathering did, as plain data.

    `rows` gives for each table how many rows the survey had before and has now.
    """

    files: tuple[Taken, ...]
    rows: dict[str, tuple[int, int]]
    differences: tuple[Difference, ...]
    gone: int
    changed: bool
    written: bool


class Gathered(msgspec.Struct, frozen=True):
    """The outcome of a gathering."""

    survey: Survey
    files: tuple[Taken, ...]
    differences: tuple[Difference, ...]
    gone: int

    def summary(self, base: Survey | None, dry_run: bool = False) -> Summary:
        """The outcome beside the survey that was there before."""
        before = base or Survey()
        rows = {name: (len(before.table(name)), len(self.survey.table(name))) for name in TABLES}
        used = {name: counts for name, counts in rows.items() if any(counts)}
        changed = self.survey != before
        return Summary(self.files, used, self.differences, self.gone, changed, changed and not dry_run)


def gather(
    sources: Sequence[str | Path],
    base: Survey | None = None,
    progress: Callable[[int], None] | None = None,
    mappings: Sequence[TableMapping] = (),
) -> Gathered:
    """Read files and folders of any format that is known, and merge what they say into a survey.

    A file belongs to the device that its folder is named after, if it does not say itself whose it is.

    Parameters
    ----------
    sources
        Files, and folders that are read with all below them.
    base
        The survey to add to.
    progress
        Called with the size of each file, in octets, once it was read.
    mappings
        What the columns of tables mean that are of no format of their own.

    Raises
    ------
    FileNotFoundError
        If a source does not exist.
    """
    taken: list[Taken] = []
    typed: list[Told] = []
    by_device: dict[str, list[tuple[Document, float]]] = defaultdict(list)
    for label, path in _files(sources):
        try:
            data = path.read_bytes()
            tables = mapping_for(path.name, mappings)
            if tables:
                rows = [row for mapping in tables for row in read_mapped(data, label, mapping)]
                typed += [Told(row, path.stat().st_mtime) for row in rows]
                taken.append(Taken(label, "table", len(rows), ""))
                continue
            found = recognise(data)
        except SurveyError as error:
            listed = "; ".join(str(problem) for problem in error.problems[:5])
            taken.append(Taken(label, None, 0, f"{len(error.problems)} problems: {listed}"))
        except UnreadableError as error:
            taken.append(Taken(label, None, 0, str(error)))
        except OSError as error:
            taken.append(Taken(label, None, 0, f"cannot be read: {error.strerror}"))
        else:
            if found is None:
                taken.append(Taken(label, None, 0, "of no format that is known"))
            else:
                document = Document(label, path.parent.name, *found)
                by_device[document.device].append((document, path.stat().st_mtime))
        finally:
            if progress is not None:
                progress(path.stat().st_size)
    told: list[Told] = []
    words: dict[str, str] = {}
    for device, documents in by_device.items():
        told += _device(device, [entry for entry in documents if entry[0].kind not in ("capture", "walk", "yang")])
        for document, time in documents:
            if document.kind == "yang":
                told += [Told(row, time) for row in yang.read_yang(device, document.data, document.path)]
            if document.kind == "walk":
                told += [Told(row, time) for row in snmp.read_walk(document.data, _stem(document.path), document.path)]
            if document.kind == "capture":
                try:
                    heard = capture.read_capture(document.data)
                except UnreadableError as error:
                    words[document.path] = str(error)
                else:
                    told += [Told(row, time) for row in capture.read_rows(heard, document.path)]
                    words[document.path] = capture.told(heard)
    counts: dict[str, int] = defaultdict(int)
    for entry in told:
        counts[getattr(entry.row, "source", None) or ""] += 1
    for documents in by_device.values():
        for document, _ in documents:
            says = words.get(document.path, "")
            if not says and not counts[document.path]:
                says = "read together with the others of its folder"
            taken.append(Taken(document.path, document.kind, counts[document.path], says))
    read = {entry.path for entry in taken} | {getattr(entry.row, "source", None) or "" for entry in typed}
    sound = list(writable(told))
    survey, differences, gone = merge(base or Survey(), [*sound, *typed], read)
    return Gathered(survey, tuple(sorted(taken, key=lambda entry: entry.path)), tuple(differences), gone)


def _stem(path: str) -> str:
    return Path(path).name.partition(".")[0]


def octets_of(sources: Sequence[str | Path]) -> int:
    """How much `gather` would read, in octets; 0 where a source does not exist."""
    found = [path for source in sources if Path(source).exists() for _, path in _files([source])]
    return sum(path.stat().st_size for path in found)


def _files(sources: Sequence[str | Path]) -> list[tuple[str, Path]]:
    found = []
    for source in map(Path, sources):
        if not source.exists():
            raise FileNotFoundError(str(source))
        root = source.resolve()
        inside = sorted(path for path in root.rglob("*") if path.is_file()) if root.is_dir() else [root]
        found += [(str(path.relative_to(root.parent)), path) for path in inside]
    return found


def _device(folder: str, documents: list[tuple[Document, float]]) -> list[Told]:
    """All that the files of one folder say of its device, or of a host."""
    parts = {document.kind: document for document, _ in documents}
    times = {document.path: time for document, time in documents}
    name = folder
    rows: list[Row] = []
    if "lldp-chassis" in parts:
        own = daemon.read_chassis(folder, parts["lldp-chassis"].data, parts["lldp-chassis"].path)
        rows += own
        name = own[0].device if own else folder
    if "lldp-neighbors" in parts:
        rows += daemon.read_neighbors(name, parts["lldp-neighbors"].data, parts["lldp-neighbors"].path)
    if {"ip-addr", "ip-link"} & set(parts):
        rows += linux.read_host(name, parts) if linux.is_host(parts) else linux.read_device(name, parts)
    return [Told(row, times.get(getattr(row, "source", None) or "", 0.0)) for row in rows]
