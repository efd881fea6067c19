"""From files and folders to one survey: recognise, read, merge, and say what was taken from where."""

from __future__ import annotations

import os
import re
from collections import defaultdict
from collections.abc import Callable, Collection, Sequence
from datetime import UTC, datetime
from pathlib import Path

import msgspec

from crossthread.answer import Answer
from crossthread.errors import UnreadableError
from crossthread.sources.covering import by_chance, of_listings
from crossthread.sources.documents import Document, recognise
from crossthread.sources.frames import capture
from crossthread.sources.listings import discovery_daemon as daemon
from crossthread.sources.listings import linux, packet_filter, shared_addresses
from crossthread.sources.listings.linux_links import all_routes_told
from crossthread.sources.listings.linux_routing import listed
from crossthread.sources.listings.shapes import damaged
from crossthread.sources.merging import Difference, Told, merge, writable
from crossthread.sources.snmp.cabling import cabled
from crossthread.sources.snmp.device import read_walk
from crossthread.sources.table_mapping import TableMapping, mapping_for, read_mapped
from crossthread.sources.yang.ietf import read_yang
from crossthread.survey import Survey, SurveyError
from crossthread.survey.records import TABLES, Coverage, Device, Gateway, Host, Port, Row
from crossthread.values import NONE


class Taken(msgspec.Struct, frozen=True):
    """What became of one file: its format and what was taken from it, or why nothing was, with every problem."""

    path: str
    kind: str | None
    rows: int
    says: str
    problems: tuple[str, ...] = ()


class Summary(Answer, frozen=True):
    """What a gathering did, as plain data.

    `rows` gives for each table how many rows the survey had before and has now; `kept` is where the survey as it was
    before has been kept.
    """

    ROWS = "files"
    files: tuple[Taken, ...]
    rows: dict[str, tuple[int, int]]
    differences: tuple[Difference, ...]
    gone: int
    changed: bool
    written: bool
    kept: str | None = None


class Gathered(msgspec.Struct, frozen=True):
    """The outcome of a gathering."""

    survey: Survey
    files: tuple[Taken, ...]
    differences: tuple[Difference, ...]
    gone: int

    def summary(self, base: Survey | None, dry_run: bool = False, kept: str | None = None) -> Summary:
        """The outcome beside the survey that was there before."""
        before = base or Survey()
        rows = {name: (len(before.table(name)), len(self.survey.table(name))) for name in TABLES}
        used = {name: counts for name, counts in rows.items() if any(counts)}
        changed = self.survey != before
        return Summary(self.files, used, self.differences, self.gone, changed, changed and not dry_run, kept)


def gather(
    sources: Sequence[str | Path],
    base: Survey | None = None,
    progress: Callable[[int], None] | None = None,
    mappings: Sequence[TableMapping] = (),
    relative_to: Path | None = None,
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
    relative_to
        The folder from which sources are named, best the one that the survey is in: a file is known again by its name.

    Raises
    ------
    FileNotFoundError
        If a source does not exist.
    """
    taken: list[Taken] = []
    told: list[Told] = []
    folders: dict[Path, list[tuple[Document, float]]] = defaultdict(list)
    for label, path in _files(sources, relative_to):
        try:
            opened = _open(label, path, mappings)
        except SurveyError as error:
            listed = tuple(map(str, error.problems))
            says = f"{len(listed)} problems" if len(listed) > 1 else listed[0]
            taken.append(Taken(label, None, 0, says, listed))
        except UnreadableError as error:
            taken.append(Taken(label, None, 0, str(error)))
        except OSError as error:
            taken.append(Taken(label, None, 0, f"cannot be read: {error.strerror}"))
        else:
            if isinstance(opened, Document):
                folders[path.parent].append((opened, path.stat().st_mtime))
            else:
                taken.append(Taken(label, "table", sum(not isinstance(row, Coverage) for row in opened), ""))
                told += [Told(row, path.stat().st_mtime) for row in opened]
        if progress is not None:
            progress(path.stat().st_size)
    for documents in folders.values():
        for rows, entries in (_alone(documents), _together(documents)):
            told += rows
            taken += entries
    read = {entry.path for entry in taken if entry.kind is not None}
    survey, differences, gone = merge(base or Survey(), writable(map(_dated, told)), read)
    return Gathered(survey, tuple(sorted(taken, key=lambda entry: entry.path)), tuple(differences), gone)


def _dated(entry: Told) -> Told:
    """The same; what was read in full was so when its file was written."""
    row = entry.row
    if not isinstance(row, Coverage) or row.taken_at or not entry.time:
        return entry
    at = datetime.fromtimestamp(entry.time, UTC).isoformat(timespec="seconds")
    return msgspec.structs.replace(entry, row=msgspec.structs.replace(row, taken_at=at))


def _open(label: str, path: Path, mappings: Sequence[TableMapping]) -> Document | list[Row]:
    """A file's contents by its format; the rows of a table that there is a mapping for."""
    data = path.read_bytes()
    tables = mapping_for(path.name, mappings)
    if tables:
        return [row for mapping in tables for row in read_mapped(data, label, mapping)]
    found = recognise(data)
    if found is None:
        raise UnreadableError("of no format that is known")
    return Document(label, path.parent.name, *found)


_SYSTEM_NAME = re.compile(r"(?m)^\s*\.?(?:1|iso)\.3\.6\.1\.2\.1\.1\.5\.0 = ")
_ALONE = ("capture", "walk", "yang")
"""Formats of which each file speaks for itself; all others are read together, folder by folder."""


def _alone(documents: list[tuple[Document, float]]) -> tuple[list[Told], list[Taken]]:
    """What captures, walks and YANG data say."""
    told: list[Told] = []
    taken = []
    documents = _joined(documents)
    walks = _walks([document for document, _ in documents if document.kind == "walk" and document.data])
    for document, time in documents:
        if document.kind not in _ALONE:
            continue
        says = ""
        rows: list[Row] = []
        if document.kind == "yang":
            rows = read_yang(document.device, document.data, document.path)
        elif document.kind == "walk" and not document.data:
            taken.append(Taken(document.path, "walk", 0, "read together with the walk of its folder that has the name"))
            continue
        elif document.kind == "walk":
            rows = walks[document.path]
        else:
            try:
                heard = capture.read_capture(document.data)
            except UnreadableError as error:
                taken.append(Taken(document.path, None, 0, str(error)))
                continue
            rows, says = capture.read_rows(heard, document.path), capture.told(heard)
            rows += by_chance(rows, document.path)
        told += [Told(row, time) for row in rows]
        taken.append(Taken(document.path, document.kind, len(rows), says))
    return told, taken


def _walks(documents: list[Document]) -> dict[str, list[Row]]:
    """The rows of each walk. Two devices that go by one name stay two: each is then called by its place as well."""
    found = {one.path: read_walk(one.data, _stem(one.path), one.path) for one in documents}
    chassis: dict[str, set[str]] = defaultdict(set)
    own = {path: row for path, rows in found.items() for row in rows[:1] if isinstance(row, Device) and row.chassis}
    for row in own.values():
        chassis[row.device.casefold()].add(row.chassis or "")
    for one in documents:
        twin = own.get(one.path)
        if twin is not None and len(chassis[twin.device.casefold()]) > 1:
            found[one.path] = read_walk(one.data, "", one.path, called=f"{twin.device} ({_stem(one.path)})")
    return cabled(found)


def _joined(documents: list[tuple[Document, float]]) -> list[tuple[Document, float]]:
    """The documents, with walks of single subtrees added to the one walk of their folder that names its device."""
    walks = [
        (document, time)
        for document, time in documents
        if document.kind == "walk" and not document.data.startswith("#")
    ]
    named = [entry for entry in walks if _SYSTEM_NAME.search(entry[0].data)]
    if len(named) != 1 or len(walks) < 2:
        return documents
    (first, time), rest = named[0], [entry for entry in walks if entry is not named[0]]
    whole = "\n".join(document.data for document, _ in (named[0], *rest))
    others = [(msgspec.structs.replace(document, data=""), at) for document, at in rest]
    kept = [entry for entry in documents if entry not in walks]
    newest = max([time, *(at for _, at in rest)])
    return [*kept, (msgspec.structs.replace(first, data=whole), newest), *others]


def _together(documents: list[tuple[Document, float]]) -> tuple[list[Told], list[Taken]]:
    """What the listings of one folder say of its device; of two of one format the newer one is read."""
    newest: dict[str, tuple[Document, float]] = {}
    taken = []
    for document, time in sorted(documents, key=lambda entry: entry[1]):
        if document.kind in _ALONE:
            continue
        older = newest.get(document.kind)
        if older is not None and document.kind != "empty":
            says = f"the folder has a newer {document.kind}, {document.path}; keep each device in a folder of its own"
            taken.append(Taken(older[0].path, None, 0, says))
        elif document.kind == "empty" and older is not None:
            taken.append(Taken(document.path, "empty", 0, ""))
            continue
        newest[document.kind] = (document, time)
    chosen = list(newest.values())
    problems = {document.kind: wrong for document, _ in chosen if (wrong := damaged(document.kind, document.data))}
    told = _device(chosen[0][0].device, chosen, problems) if chosen else []
    for document, _ in chosen:
        count = sum(getattr(entry.row, "source", None) == document.path for entry in told)
        wrong = problems.get(document.kind, [])
        says = "" if count else "read together with the others of its folder"
        says = f"read but for {len(wrong)} damaged entries" if len(wrong) > 1 else wrong[0] if wrong else says
        taken.append(Taken(document.path, document.kind, count, says, tuple(wrong)))
    return told, taken


def _half_read(row: Host, damaged: Collection[str]) -> Host:
    """A host of whose listings some entries could not be read: what it is said not to have, it may have."""
    address = None if row.address == NONE and "ip-addr" in damaged else row.address
    gateway = None if row.gateway == NONE and {"ip-route", "ip-route6"} & set(damaged) else row.gateway
    return msgspec.structs.replace(row, address=address, gateway=gateway)


def _asked_at(row: Device, address: str) -> Device:
    """A device that does not announce an address can be managed where it was asked."""
    return row if row.management not in (None, NONE) else msgspec.structs.replace(row, management=address)


def _stem(path: str) -> str:
    """A file's name without its ending; all of an address that it is named after."""
    name = Path(path).name
    return name.removesuffix(".walk") if name.endswith(".walk") else name.partition(".")[0]


def octets_of(sources: Sequence[str | Path]) -> int:
    """How much `gather` would read, in octets; 0 where a source does not exist."""
    found = [path for source in sources if Path(source).exists() for _, path in _files([source], None)]
    return sum(path.stat().st_size for path in found)


def _files(sources: Sequence[str | Path], relative_to: Path | None) -> list[tuple[str, Path]]:
    """The files of some sources, each once, with the names that they go by."""
    start = (relative_to or Path()).resolve()
    found: dict[Path, str] = {}
    for source in map(Path, sources):
        if not source.exists():
            raise FileNotFoundError(str(source))
        root = source.resolve()
        for path in sorted(path for path in root.rglob("*") if path.is_file()) if root.is_dir() else [root]:
            found[path] = Path(os.path.relpath(path, start)).as_posix()
    return [(label, path) for path, label in found.items()]


def _device(folder: str, documents: list[tuple[Document, float]], problems: Collection[str]) -> list[Told]:
    """All that the files of one folder say of its device, or of a host."""
    parts = {document.kind: document for document, _ in documents}
    times = {document.path: time for document, time in documents}
    asked = parts.pop("asked").data if "asked" in parts else {}
    name = folder = str(asked.get("device") or folder)
    rows: list[Row] = []
    if "lldp-chassis" in parts:
        own = daemon.read_chassis(folder, parts["lldp-chassis"].data, parts["lldp-chassis"].path)
        if "ip-netconf" in parts:  # whether it routes, its kernel knows better than what it announces
            own = [msgspec.structs.replace(row, routing=None) if isinstance(row, Device) else row for row in own]
        rows += own
        name = own[0].device if own else folder
    if "lldp-neighbors" in parts:
        rows += daemon.read_neighbors(name, parts["lldp-neighbors"].data, parts["lldp-neighbors"].path)
    if {"ip-addr", "ip-link"} & set(parts):
        host = linux.is_host(parts)
        rows += linux.read_host(name, parts) if host else linux.read_device(name, parts)
        if not host and not any(isinstance(row, Device) for row in rows):
            bridges = ("bridge",) if parts.keys() & {"ovs-bridge", "ovs-port", "bridge-link"} else None
            rows.append(Device(name, capabilities=bridges, source=documents[0][0].path))
        if "packet-filter" in parts and not host:
            gateways = [row for row in rows if isinstance(row, Gateway)]
            rows = [row for row in rows if not isinstance(row, Gateway)]
            rows += packet_filter.read_filters(name, parts["packet-filter"].data, gateways)
        if "shared-addresses" in parts and not host:
            rows = shared_addresses.with_shared(rows, parts["shared-addresses"].data)
        if "lldp-ports" in parts and not host:
            held = [row for row in rows if isinstance(row, Port)]
            rows += daemon.read_own_ports(name, parts["lldp-ports"].data, held, parts["lldp-ports"].path)
        if host:
            rows = [_half_read(row, problems) if isinstance(row, Host) else row for row in rows]
            parts = {}
    if asked and parts:
        rows = [_asked_at(row, str(asked["asked_at"])) if isinstance(row, Device) else row for row in rows]
    told = all_routes_told(linux.links_of(parts), listed(parts, "ip-route"), parts.get("ip-rule"))
    rows += of_listings(name, {kind: document.path for kind, document in parts.items()}, rows, told, problems)
    return [Told(row, times.get(getattr(row, "source", None) or "", 0.0)) for row in rows]
