"""Writing a survey so that a reader finds the old one or the new one, and never half of either.

A folder is replaced in two phases. Every new file is first written beside its old one as `NAME.next`; then
`survey.commit`, which lists them, is put in place by one rename: from that moment on the new survey holds. The
renames that follow only tidy up. `committed` tells a reader which file to take, and the next writer finishes what an
interrupted one left.
"""

from __future__ import annotations

import csv
import gzip
import io
import os
import shutil
from collections.abc import Sequence
from datetime import UTC, datetime
from pathlib import Path

from crossthread.survey.records import TABLES, Row, columns_of
from crossthread.survey.survey import FORMAT, Info, Survey

COMMIT = "survey.commit"
_NEXT = ".next"


def write_survey(survey: Survey, path: str | Path) -> None:
    """Write a survey into a folder, or into a `.json` or `.json.gz` file, replacing the one that is there.

    Files of the folder that are no part of a survey stay as they are.

    Raises
    ------
    OSError
        If it cannot be written; the old survey then still holds.
    """
    path = Path(path)
    if path.name.endswith((".json", ".json.gz")):
        _write_single(survey, path)
    else:
        _write_folder(survey, path)


def keep_copy(path: str | Path, at: datetime) -> Path:
    """Keep a survey as it is under its name with a date: beside it, as `campus.20261125T061500Z`.

    Raises
    ------
    OSError
        If it cannot be copied; what was copied is then gone again.
    """
    path = Path(path)
    stem, dot, ending = path.name.partition(".json")
    kept = path.with_name(f"{stem}.{at.astimezone(UTC):%Y%m%dT%H%M%SZ}{dot}{ending}")
    fresh = kept.with_name(kept.name + _NEXT)
    if path.is_dir():
        shutil.rmtree(fresh, ignore_errors=True)
        fresh.mkdir()
        for name, file in committed(path).items():
            if _is_ours(name):
                shutil.copy2(file, fresh / name)
    else:
        shutil.copy2(path, fresh)
    os.replace(fresh, kept)
    return kept


def committed(folder: Path) -> dict[str, Path]:
    """The files of a survey folder that hold, by their names: after an interrupted write, its finished part."""
    names = {entry.name for entry in folder.iterdir() if entry.is_file()}
    files = {name: folder / name for name in names if not name.endswith(_NEXT) and name != COMMIT}
    if COMMIT in names:
        listed = (folder / COMMIT).read_text(encoding="utf-8").split()
        files = {name: file for name, file in files.items() if not _is_ours(name) or name in listed}
        for name in listed:
            if name + _NEXT in names:
                files[name] = folder / (name + _NEXT)
    return files


def _is_ours(name: str) -> bool:
    return name == "survey.toml" or (name.endswith(".csv") and name[:-4] in TABLES)


def _write_folder(survey: Survey, folder: Path) -> None:
    folder.mkdir(parents=True, exist_ok=True)
    _settle(folder)
    texts = {"survey.toml": _info_text(survey.info)}
    for name, record in TABLES.items():
        rows = survey.table(name)
        if rows:
            texts[f"{name}.csv"] = _table_text(record, rows)
    for name, text in texts.items():
        _write_safely(folder / (name + _NEXT), text.encode("utf-8"))
    replace_file(folder / COMMIT, "\n".join(texts).encode("utf-8"))
    _settle(folder)


def _settle(folder: Path) -> None:
    """Finish a committed write; drop what an uncommitted one left."""
    commit = folder / COMMIT
    if commit.exists():
        files = committed(folder)
        for name in sorted(entry.name for entry in folder.iterdir()):
            if _is_ours(name) and name not in files:
                (folder / name).unlink()
        for name, file in files.items():
            if file.name != name:
                os.replace(file, folder / name)
        commit.unlink()
        _flush_folder(folder)
    for stray in folder.glob("*" + _NEXT):
        if _is_ours(stray.name.removesuffix(_NEXT)) or stray.name == COMMIT + _NEXT:
            stray.unlink()


def replace_file(path: Path, data: bytes) -> None:
    """Write a file so that a reader finds the old contents or the new ones."""
    fresh = path.with_name(path.name + _NEXT)
    _write_safely(fresh, data)
    os.replace(fresh, path)
    _flush_folder(path.parent)


def _write_safely(path: Path, data: bytes) -> None:
    with open(path, "wb") as out:
        out.write(data)
        out.flush()
        os.fsync(out.fileno())


def _flush_folder(folder: Path) -> None:
    handle = os.open(folder, os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)


def _info_text(info: Info) -> str:
    import tomlkit

    document = tomlkit.document()
    document["format"] = FORMAT
    for name in ("title", "taken_at", "site", "notes"):
        value = getattr(info, name)
        if value is not None:
            document[name] = value
    if info.complete:
        document["complete"] = list(info.complete)
    for name, value in info.extra:
        document[name] = value
    return tomlkit.dumps(document)


def _cells(record: type[Row], rows: Sequence[Row]) -> tuple[list[str], list[list[str]]]:
    """The header, and the cells of each row: the key columns and those in which anything was observed."""
    columns = columns_of(record)
    used = [n for n in columns if n in record.KEY or any(getattr(row, n) is not None for row in rows)]
    extra = list(dict.fromkeys(name for row in rows for name, _ in getattr(row, "extra", ())))
    body = []
    for row in rows:
        line = []
        for name in used:
            value = getattr(row, name)
            line.append("" if value is None else columns[name][0].show(value))
        own = dict(getattr(row, "extra", ()))
        body.append(line + [own.get(name, "") for name in extra])
    return used + extra, body


def _table_text(record: type[Row], rows: Sequence[Row]) -> str:
    header, body = _cells(record, rows)
    # A carriage return is only quoted by the csv module where it is part of the line ending.
    ending = "\r\n" if any("\r" in cell for line in body for cell in line) else "\n"
    out = io.StringIO(newline="")
    writer = csv.writer(out, lineterminator=ending)
    writer.writerow(header)
    writer.writerows(body)
    return out.getvalue()


def _write_single(survey: Survey, path: Path) -> None:
    import msgspec

    head: dict[str, object] = {"format": FORMAT}
    for name in ("title", "taken_at", "site", "notes"):
        if getattr(survey.info, name) is not None:
            head[name] = getattr(survey.info, name)
    if survey.info.complete:
        head["complete"] = list(survey.info.complete)
    head.update(survey.info.extra)
    document: dict[str, object] = {"survey": head}
    for name, record in TABLES.items():
        rows = survey.table(name)
        if rows:
            header, body = _cells(record, rows)
            document[name] = [
                {column: cell for column, cell in zip(header, line, strict=True) if cell} for line in body
            ]
    data = msgspec.json.format(msgspec.json.encode(document), indent=1) + b"\n"
    if path.name.endswith(".gz"):
        data = gzip.compress(data, mtime=0)
    path.parent.mkdir(parents=True, exist_ok=True)
    replace_file(path, data)
