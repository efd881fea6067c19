"""Progress bars."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterator
from contextlib import ExitStack, contextmanager
from time import monotonic

_MANY = 200
_REDRAWN = 0.1
"""After how many seconds a progress bar is drawn again."""


@contextmanager
def progress(what: str, total: int | Callable[[], int], many: int = _MANY) -> Iterator[Callable[..., None]]:
    """A progress bar on standard error for long work, if that is a terminal.

    A total that takes work to know is asked for with the first step; only if `many` is 0 the bar is there before it.
    """
    if not sys.stderr.isatty():
        yield lambda _=1: None
        return
    with ExitStack() as shown:
        draw = shown.enter_context(_bar(what)) if not many else None
        done, known = 0, None if callable(total) else total

        def advance(steps: int = 1) -> None:
            nonlocal draw, done, known
            if known is None:
                known = total() if callable(total) else total
            if draw is None and known >= many:
                draw = shown.enter_context(_bar(what))
            done += steps
            if draw is not None:
                draw(done, known)

        yield advance


@contextmanager
def _bar(what: str) -> Iterator[Callable[[int, int], None]]:
    """A bar that is drawn by what it counts, and by no thread: a process with threads is not copied."""
    from rich.console import Console
    from rich.progress import Progress

    with Progress(console=Console(stderr=True), transient=True, auto_refresh=False) as bar:
        task, drawn = bar.add_task(what, total=None), 0.0
        bar.refresh()

        def draw(done: int, total: int) -> None:
            nonlocal drawn
            if monotonic() - drawn > _REDRAWN:
                bar.update(task, completed=done, total=total, refresh=True)
                drawn = monotonic()

        yield draw
