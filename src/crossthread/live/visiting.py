"""From one address to the whole campus: read a device, go on to its neighbours inside the scope, account for all."""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path

from crossthread.live.access import Access
from crossthread.live.account import Planned, Standing, Visit
from crossthread.live.going import Going
from crossthread.live.scope import Scope
from crossthread.live.snmp.datagrams import Place
from crossthread.live.visit_folder import VisitFolder, is_interrupted, read_before

AT_ONCE, PATIENCE, TRIES = 64, 2.0, 3


async def visit_async(
    start: Sequence[str],
    within: Sequence[str],
    access: Sequence[Access],
    folder: str | Path,
    *,
    also: Sequence[str] = (),
    hops: int | None = None,
    at_once: int = AT_ONCE,
    patience: float = PATIENCE,
    tries: int = TRIES,
    again: bool = False,
    places: Mapping[str, Place] | None = None,
    progress: Callable[[Standing], None] | None = None,
) -> Visit:
    """Read devices by SNMP, from some addresses on to their neighbours and the neighbours' neighbours. Nothing is set.

    Parameters
    ----------
    start
        The addresses to begin with.
    within
        Prefixes: no address outside of them is ever asked.
    access
        How devices may be read; see `read_access`. Entries that are for an address are tried in their order.
    folder
        Where the walk of each device is kept, for `gather`; one that is complete is not asked for again.
    also
        Prefixes of which every address is asked, named by somebody or not.
    hops
        How many devices to go on from the start; as far as it goes, if not given.
    at_once
        How many devices are asked at the same time.
    patience, tries
        The seconds to wait for an answer, and how often one question is asked.
    again
        Ask everybody afresh.
    places
        Where an address is reached in reality, if not there: an address and a port, as `agents` tells them.
    progress
        Called a few times a second.

    Raises
    ------
    VisitError
        If an address or prefix is none, a start lies outside, or what is told cannot be kept.
    """
    wanted = Scope(start, within, also, hops)
    kept = VisitFolder(Path(folder), again)
    going = Going(wanted, access, kept, at_once, patience, tries, places or {})
    finished = False
    try:
        answer = await going.run(progress)
        finished = True
        return answer
    finally:
        kept.close(finished)


def visit(
    start: Sequence[str],
    within: Sequence[str],
    access: Sequence[Access],
    folder: str | Path,
    *,
    also: Sequence[str] = (),
    hops: int | None = None,
    at_once: int = AT_ONCE,
    patience: float = PATIENCE,
    tries: int = TRIES,
    again: bool = False,
    places: Mapping[str, Place] | None = None,
    progress: Callable[[Standing], None] | None = None,
) -> Visit:
    """The same as `visit_async`, for programs that are not asynchronous.

    Examples
    --------
    >>> from tempfile import TemporaryDirectory
    >>> from crossthread import Access, agents, gather, visit
    >>> from crossthread.demo import healthy
    >>> with agents(healthy()) as running, TemporaryDirectory() as folder:
    ...     everywhere = [Access.by_community("public", within=["10.61.0.0/16"])]
    ...     answer = visit(["10.61.10.201"], ["10.61.0.0/16"], everywhere, folder, places=running.places)
    ...     len(answer.of("complete")), len(gather(answer.walks).survey.devices)
    (11, 11)
    """
    return asyncio.run(
        visit_async(
            start,
            within,
            access,
            folder,
            also=also,
            hops=hops,
            at_once=at_once,
            patience=patience,
            tries=tries,
            again=again,
            places=places,
            progress=progress,
        )
    )


def planned(
    start: Sequence[str],
    within: Sequence[str],
    access: Sequence[Access],
    folder: str | Path,
    *,
    also: Sequence[str] = (),
) -> Planned:
    """What `visit` would do with the same arguments; nobody is asked."""
    scope, walks = Scope(start, within, also), Path(folder)
    first = tuple((str(own), tuple(str(entry) for entry in access if entry.covers(own))) for own in scope.start)
    swept = sum(sum(1 for _ in prefix.hosts()) for prefix in scope.sweeps)
    return Planned(first, tuple(map(str, scope.within)), swept, read_before(walks), is_interrupted(walks))
