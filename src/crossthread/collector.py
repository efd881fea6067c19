"""The garbage collector, held still while many records are made that hold no cycles.

It would go through all of them again and again as they become more: for a large campus a fifth of all the time.
"""

from __future__ import annotations

import gc
from collections.abc import Callable, Iterator
from contextlib import contextmanager


@contextmanager
def held_still() -> Iterator[None]:
    """Collect no garbage meanwhile; afterwards everything is as it was."""
    was_on = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if was_on:
            gc.enable()


@contextmanager
def copies_let_go() -> Iterator[Callable[[], object]]:
    """What lets go of the copies of a network that were tried since, and of nothing older.

    A network and what is derived from it refer to each other, so that only the collector frees a copy. What was there
    before is set aside meanwhile: to look through a campus for every copy would cost more than to derive it.
    """
    gc.freeze()
    try:
        yield lambda: gc.collect(0)
    finally:
        gc.unfreeze()
