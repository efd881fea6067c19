"""At a desk, now: hear on an own interface which switch and port its cable leads to."""

from __future__ import annotations

import select
import time
from collections import Counter
from collections.abc import Callable
from pathlib import Path

import msgspec

from crossthread.errors import ListeningError
from crossthread.live.packet_socket import open_interface, receive, why_not
from crossthread.sources.desk import Desk, desk_of_capture
from crossthread.sources.frames.capture import CaptureReader, without_payload, write_capture
from crossthread.survey.writing import replace_file

LONG = 65.0
"""Seconds in which a switch that announces itself every 30 s (802.1AB 9.2.5.6) is heard twice."""
_STEP = 0.5
_ALIKE = 1_000
"""How many frames are kept that have kind and tag in common."""
_NO_SWITCH = {"station", "phone", "wlan", "repeater", "other"}


def listen(
    interface: str,
    seconds: float = LONG,
    first: bool = False,
    keep: str | Path | None = None,
    heard: Callable[[Desk], None] | None = None,
    progress: Callable[[float], None] | None = None,
) -> Desk:
    """Listen on an interface of this machine, and say where its cable leads. Nothing is sent.

    Parameters
    ----------
    interface
        Its name, as the operating system has it. Linux only; needs the right to capture.
    seconds
        For how long.
    first
        End as soon as a switch has said which port this is.
    keep
        A capture file to write what was heard into; of frames that tell nothing of the network their headers only.
    heard
        Called with the answer as it stands, each time that somebody new announced itself.
    progress
        Called with the seconds that have passed since it was called last.

    Raises
    ------
    ListeningError
        If the interface cannot be listened on; one sentence says why.
    OSError
        If the file cannot be written.
    """
    reader = CaptureReader()
    kept: list[tuple[float, bytes]] = []
    alike: Counter[bytes] = Counter()
    known = 0
    if keep is not None:  # before anything is heard that could be lost
        Path(keep).parent.mkdir(parents=True, exist_ok=True)
    with open_interface(interface) as hearing:
        now = began = time.monotonic()
        try:
            while now - began < seconds:
                ready, _, _ = select.select([hearing], [], [], min(_STEP, seconds - (now - began)))
                frame = receive(hearing) if ready else None
                if frame is not None:
                    at = time.time()
                    reader.take(at, frame)
                    alike[frame[12:18]] += 1
                    if keep is not None and alike[frame[12:18]] <= _ALIKE:
                        kept.append((at, without_payload(frame)))
                    if len(reader.units) > known:
                        known = len(reader.units)
                        answer = desk_of_capture(reader.capture(), interface)
                        if heard is not None:
                            heard(answer)
                        if first and any(_is_switch(socket.capabilities) for socket in answer.sockets):
                            break
                passed, now = time.monotonic() - now, time.monotonic()
                if progress is not None:
                    progress(passed)
        except KeyboardInterrupt:  # somebody has seen enough
            pass
        except OSError as error:
            raise ListeningError(why_not(interface, error)) from None
    answer = desk_of_capture(reader.capture(), interface)
    if keep is None or not kept:
        return answer
    replace_file(Path(keep), write_capture(kept))
    return msgspec.structs.replace(answer, kept=str(keep))


def _is_switch(capabilities: tuple[str, ...]) -> bool:
    """Whether it may be one: it says so, or it does not say what it is."""
    return not capabilities or not _NO_SWITCH.issuperset(capabilities)
