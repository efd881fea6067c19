"""Work for a second processor: a function's answer, found by a copy of this process while it goes on itself."""

from __future__ import annotations

import gc
import os
import pickle
import signal
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from functools import cache
from pathlib import Path
from typing import Any, NoReturn, TypeVar

_Answer = TypeVar("_Answer")


@contextmanager
def beside(work: Callable[[], _Answer], worth: bool = True) -> Iterator[Callable[[], _Answer | None]]:
    """Work something out in another process meanwhile.

    Parameters
    ----------
    work
        What to work out; it must not change anything, as nothing of it is seen here but its answer. It is not tried
        twice: should it fail, whoever wants the answer works it out again, and sees why.
    worth
        Whether it is so much that another process is worth it.

    Yields
    ------
    Callable
        Waits for the answer. None if there is none: the machine has no second processor, or does not let a
        process be copied, or this one has threads, which a copy would lack.
    """
    started = _start(work) if worth and _is_possible() else None
    if started is None:
        yield lambda: None
        return
    child, pipe = started
    with open(pipe, "rb") as answers:
        try:
            yield cache(lambda: _answer(answers.read()))
        finally:
            with suppress(ProcessLookupError):
                os.kill(child, signal.SIGKILL)  # it has answered, or nobody waits for it any more
            with suppress(ChildProcessError):
                os.waitpid(child, 0)


def _is_possible() -> bool:
    if sys.platform != "linux" or len(os.sched_getaffinity(0)) < 2:
        return False
    if signal.getsignal(signal.SIGCHLD) is signal.SIG_IGN:  # the number of an ended process may be another's then
        return False
    return _threads() == 1


def _threads() -> int:
    """How many threads this process has, those of libraries included; 0 if that cannot be known."""
    try:
        return len(list(Path("/proc/self/task").iterdir()))
    except OSError:
        return 0


def _start(work: Callable[[], object]) -> tuple[int, int] | None:
    receives, sends = os.pipe()
    try:
        child = os.fork()
    except OSError:
        os.close(receives)
        os.close(sends)
        return None
    if child == 0:
        os.close(receives)
        _work(work, sends)
    os.close(sends)
    return child, receives


def _work(work: Callable[[], object], sends: int) -> NoReturn:
    """End this copy with the answer sent, or without; in no case does it go on with what it is a copy of."""
    try:
        gc.disable()
        answer = pickle.dumps(work(), pickle.HIGHEST_PROTOCOL)
        with open(sends, "wb") as pipe:
            pipe.write(answer)
    finally:
        os._exit(0)


def _answer(sent: bytes) -> Any:
    """What was sent; None if that was nothing, or not all of it."""
    try:
        return pickle.loads(sent)
    except (EOFError, pickle.UnpicklingError):
        return None
