"""How an answer gets out: printed, drawn, exported, written into a file."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

from crossthread.cli.options import usage_error
from crossthread.errors import visible

if TYPE_CHECKING:
    from crossthread.faces.pictures.overlay import Overlay
    from crossthread.sources.gathering import Summary
    from crossthread.sources.table_mapping import TableMapping
    from crossthread.views.map import Map

_Answer = TypeVar("_Answer")


def draw(answer: Map, path: str, title: str | None, overlay: Overlay | None = None) -> None:
    """Draw a map into a file, or end with status 2 and why it cannot be."""
    from crossthread.faces.pictures.map_figure import draw_map

    try:
        draw_map(answer, Path(path), title, overlay)
    except ValueError as error:
        usage_error(f"expected {error}")
    except OSError as error:
        usage_error(f"the figure cannot be written to {visible(path, 200)}: {error.strerror}")


def write_export(answer: Map, path: str) -> None:
    """Write a map for another program, in the format that the file's name tells."""
    from crossthread.answer import json_of as as_json
    from crossthread.faces.documents.exports import as_dot, as_graphml

    forms = {".graphml": as_graphml, ".dot": as_dot, ".json": as_json}
    form = forms.get(Path(path).suffix.lower())
    if form is None:
        usage_error(f"expected a file name that ends in {', '.join(forms)} instead of “{visible(path, 200)}”")
    write_text(path, form(answer))


def write_text(path: str, text: str) -> None:
    """Write a file whole, or end with status 2 and why it cannot be."""
    from crossthread.survey.writing import replace_file

    try:
        replace_file(Path(path), text.encode())
    except OSError as error:
        usage_error(f"{visible(path, 200)} cannot be written: {error.strerror}")


def add_to_survey(
    sources: Sequence[str],
    into: str,
    tables: Sequence[TableMapping] = (),
    dry_run: bool = False,
    keep: bool | None = None,
) -> Summary:
    """Gather files into a survey and write it, or end with a status and why it cannot be."""
    from crossthread.cli.input import any_survey, load
    from crossthread.cli.progress import progress
    from crossthread.sources.gathering import gather, octets_of
    from crossthread.survey import Survey, write_survey
    from crossthread.survey.writing import keep_copy

    base = load(into) if Path(into).exists() and any_survey(into) else None
    try:
        with progress("gathering", octets_of(sources), many=20_000_000) as advance:
            answer = gather(sources, base, advance, tables, Path(into).resolve().parent)
    except FileNotFoundError as error:
        usage_error(f"there is no such file or folder: {visible(str(error), 200)}")
    kept: str | None = None
    if not dry_run and answer.survey != (base or Survey()):
        try:
            if base is not None and (answer.gone > 0 if keep is None else keep):
                kept = str(keep_copy(into, datetime.now(UTC)))
            write_survey(answer.survey, into)
        except OSError as error:
            usage_error(f"the survey cannot be written to {visible(into, 200)}: {error.strerror}")
    return answer.summary(base, dry_run, kept)


def emit(answer: _Answer, face: Callable[[_Answer, Any], None], json: bool) -> None:
    """Print an answer: as JSON, or by its face."""
    if json:
        from crossthread.answer import json_of as as_json

        print(as_json(answer))
        return
    from crossthread.faces.terminal.console import console

    face(answer, console())
