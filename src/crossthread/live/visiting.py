"""From one address to the whole campus: read a device, go on to its neighbours inside the scope, account for all."""

from __future__ import annotations

import asyncio
from collections import deque
from collections.abc import Callable, Iterable, Mapping, Sequence
from datetime import UTC, datetime
from ipaddress import ip_address, ip_network
from pathlib import Path
from time import monotonic

import msgspec

from crossthread.errors import VisitError, visible
from crossthread.live.access import Access, Prefix
from crossthread.live.account import NotAsked, NotInFull, Planned, Status, Visit, Visited
from crossthread.live.shell import read_by_shell
from crossthread.live.snmp.community import CommunitySession
from crossthread.live.snmp.datagrams import Datagrams, Place
from crossthread.live.snmp.messages import Oid
from crossthread.live.snmp.reading import BrokenOffError, Column, Reading, UnusableError
from crossthread.live.snmp.session import CredentialsError, RefusedError, Session
from crossthread.live.snmp.user_security import UserEngine
from crossthread.live.snmp.walk_text import dotted, oid
from crossthread.live.visit_folder import Unfinished, VisitFolder, is_interrupted
from crossthread.sources.snmp.mib import COLUMNS, SINGLE
from crossthread.sources.snmp.told import ToldDevice, ToldNeighbor, told_in
from crossthread.values import Address

AT_ONCE, PATIENCE, TRIES = 64, 2.0, 3
_SELF = ("name", "lldp_chassis", "bridge_address", "engine", "description", "location", "lldp_enabled")
_EARLY = (
    "rem_chassis_kind", "rem_chassis", "rem_port_kind", "rem_port", "rem_port_descr", "rem_name", "rem_descr",
    "rem_enabled", "rem_management", "lldp_port_id", "lldp_port_descr", "lldp_management", "if_name", "if_descr",
    "if_alias", "if_mac", "base_port",
)  # fmt: skip
"""What neighbours are and at which ports: read early, so that what breaks later hides no neighbour."""
_WORST_FIRST: tuple[Status, ...] = (
    "wrong credentials", "unusable", "silent", "refused", "no access", "in part", "complete", "same device",
)  # fmt: skip
"""In which order an account lists what became of devices."""
_LARGEST_SWEEP = 65_536
_TICK = 0.2


class Standing(msgspec.Struct):
    """How a visit stands: devices read or given up, waiting, being asked, silent; and values read."""

    done: int = 0
    waiting: int = 0
    asking: int = 0
    silent: int = 0
    objects: int = 0


class _Target:
    """An address to ask."""

    def __init__(self, address: Address, hops: int, others: Sequence[Address] = ()) -> None:
        self.address, self.hops, self.others = address, hops, list(others)
        self.named_by: list[str] = []
        self.called: str | None = None
        self.swept = False
        self.second = False


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
    wanted = _Scope(start, within, also, hops)
    kept = VisitFolder(Path(folder), again)
    asking = _Asking(wanted, access, kept, at_once, patience, tries, places or {})
    finished = False
    try:
        answer = await asking.run(progress)
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
            start, within, access, folder, also=also, hops=hops, at_once=at_once, patience=patience, tries=tries,
            again=again, places=places, progress=progress,
        )
    )  # fmt: skip


def planned(
    start: Sequence[str],
    within: Sequence[str],
    access: Sequence[Access],
    folder: str | Path,
    *,
    also: Sequence[str] = (),
) -> Planned:
    """What `visit` would do with the same arguments; nobody is asked."""
    scope, walks = _Scope(start, within, also, None), Path(folder)
    first = tuple((str(own), tuple(str(entry) for entry in access if entry.covers(own))) for own in scope.start)
    swept = sum(sum(1 for _ in prefix.hosts()) for prefix in scope.sweeps)
    kept = len(list(walks.glob("*.walk")))
    return Planned(first, tuple(map(str, scope.within)), swept, kept, is_interrupted(walks))


class _Scope:
    """Whom a visit may ask."""

    def __init__(self, start: Sequence[str], within: Sequence[str], also: Sequence[str], hops: int | None) -> None:
        self.within = [_prefix(text) for text in within]
        self.hops = hops
        self.start = [_address(text) for text in start]
        self.sweeps = [_prefix(text) for text in also]
        for own in self.start:
            if not self.covers(own):
                raise VisitError(f"{own} lies outside of {_listed(self.within)}; nothing outside is asked")
        for prefix in self.sweeps:
            if not any(prefix.version == own.version and prefix.subnet_of(own) for own in self.within):  # type: ignore[arg-type]
                raise VisitError(f"{prefix} lies outside of {_listed(self.within)}; nothing outside is asked")
            if prefix.num_addresses > _LARGEST_SWEEP:
                raise VisitError(f"{prefix} has too many addresses to ask all; expected at most {_LARGEST_SWEEP:,}")

    def covers(self, address: Address) -> bool:
        return any(address.version == prefix.version and address in prefix for prefix in self.within)


def _only_near(address: Address) -> bool:
    """Whether an address is of use on its own link only, or nobody's."""
    return address.is_link_local or address.is_multicast or address.is_unspecified


def _listed(prefixes: Sequence[Prefix]) -> str:
    return ", ".join(map(str, prefixes)) or "no prefix at all"


def _prefix(text: str) -> Prefix:
    try:
        return ip_network(text)
    except ValueError as error:
        raise VisitError(f"expected a prefix such as 10.61.0.0/16 instead of “{visible(text)}” ({error})") from None


def _address(text: str) -> Address:
    try:
        return ip_address(text)
    except ValueError:
        raise VisitError(f"expected an address such as 10.61.10.201 instead of “{visible(text)}”") from None


class _Asking:
    """One visit while it runs."""

    def __init__(
        self,
        scope: _Scope,
        access: Sequence[Access],
        kept: VisitFolder,
        at_once: int,
        patience: float,
        tries: int,
        places: Mapping[str, Place],
    ) -> None:
        self._scope, self._access, self._kept, self._places = scope, access, kept, places
        self._at_once, self._patience, self._tries = at_once, patience, tries
        self._datagrams = Datagrams()
        self._targets: dict[Address, _Target] = {}
        self._pending: deque[_Target] = deque()
        self._later: list[_Target] = []
        self._met: dict[str, Address] = {}
        self._engines: dict[Access, UserEngine] = {}
        self._not_asked: dict[tuple[str, tuple[str, ...], str], list[str]] = {}
        self._standing = Standing()
        self._earlier: dict[str, Visited] = dict(kept.results)

    async def run(self, progress: Callable[[Standing], None] | None) -> Visit:
        began = monotonic()
        for address in self._scope.start:
            self._name(address, 0, "given")
        for prefix in self._scope.sweeps:
            for address in prefix.hosts():
                self._name(address, 0, f"in {prefix}", swept=True)
        ticker = asyncio.create_task(self._tick(progress)) if progress is not None else None
        try:
            await self._all()
            self._pending.extend(self._later)  # what was lost, or too busy, has another chance when the rest is done
            for target in self._later:
                target.second = True
            self._later = []
            await self._all()
        finally:
            if ticker is not None:
                ticker.cancel()
            for engine in self._engines.values():
                engine.close()
            self._datagrams.close()
        return self._account(monotonic() - began)

    async def _all(self) -> None:
        running: set[asyncio.Task[None]] = set()
        try:
            while self._pending or running:
                while self._pending and len(running) < self._at_once:
                    running.add(asyncio.create_task(self._visit(self._pending.popleft())))
                self._standing.waiting, self._standing.asking = len(self._pending), len(running)
                done, running = await asyncio.wait(running, return_when=asyncio.FIRST_COMPLETED)
                for task in done:
                    task.result()
        finally:
            for task in running:
                task.cancel()

    async def _tick(self, progress: Callable[[Standing], None]) -> None:
        while True:
            progress(self._standing)
            await asyncio.sleep(_TICK)

    def _name(self, address: Address, hops: int, by: str, others: Sequence[Address] = (), swept: bool = False) -> None:
        """Somebody names an address: it is asked, if it was not yet."""
        target = self._targets.get(address)
        if target is None:
            target = self._targets[address] = _Target(address, hops, others)
            target.swept = swept
            self._pending.append(target)
        if by not in target.named_by:
            target.named_by.append(by)

    def _hear(self, device: str, hops: int, neighbors: Sequence[ToldNeighbor]) -> None:
        """A device tells of its neighbours: those that may be asked will be."""
        for neighbor in neighbors:
            by = f"{device} {neighbor.port}"
            who = neighbor.name or neighbor.chassis or "somebody without a name"
            own = [address for address in map(ip_address, neighbor.addresses) if not _only_near(address)]
            inside = sorted((a for a in own if self._scope.covers(a)), key=lambda a: (a.version, a))
            known = [address for address in inside if address in self._targets]
            if known or (inside and (self._scope.hops is None or hops < self._scope.hops)):
                first, *others = known[:1] or inside
                self._name(first, hops + 1, by, others)
                self._targets[first].called = neighbor.name
                continue
            why = "beyond the hops that were asked for"
            if not inside:
                why = "outside of the scope" if own else "it announces no address at which it can be asked"
            named = self._not_asked.setdefault((who, neighbor.addresses, why), [])
            if by not in named:
                named.append(by)

    async def _visit(self, target: _Target) -> None:
        """Ask one address, unless this visit or an earlier one has it."""
        text = str(target.address)
        before = self._earlier.pop(text, None)
        if before is not None and not target.second:
            self._remember(target, msgspec.structs.replace(before, named_by=()), self._kept.told(text))
            return
        if not self._kept.again and not target.second and self._kept.complete(text):
            told = self._kept.told(text) or ToldDevice(None, None, None)
            result = Visited(
                text, "complete", told.name, "read by an earlier visit", earlier=True, chassis=told.chassis,
                engine=told.engine,
            )  # fmt: skip
            self._remember(target, result, told)
            return
        result = await self._read(target)
        if result.status == "silent" or (result.status == "in part" and result.says.startswith("no answer")):
            if not target.second:
                self._later.append(target)
                self._standing.silent += 1
                return
        elif target.second:
            self._standing.silent -= 1
        self._standing.done += 1
        if result.status in ("silent", "refused", "wrong credentials") and target.others:
            first, *others = target.others
            self._name(first, target.hops, target.named_by[0], others)

    def _remember(self, target: _Target, result: Visited, told: ToldDevice | None) -> None:
        """Take what became of an address before: by this visit, or by an earlier one."""
        self._kept.results[result.address] = result
        read = told is not None and result.status in ("complete", "in part")
        if told is not None and read and self._known(told, target.address) is None:
            self._hear(told.name or result.address, target.hops, told.neighbors)
        self._standing.done += 1

    def _known(self, told: ToldDevice, address: Address) -> Address | None:
        """The address under which the same device was met before; if under none, it is remembered under this one.

        A chassis is one device. So is an engine identifier, but only with the same name: copies of an image share it.
        """
        if told.chassis is not None:
            return self._first(f"chassis {told.chassis}", address)
        return self._first(f"engine {told.engine} {told.name}", address) if told.engine is not None else None

    def _first(self, identity: str, address: Address) -> Address | None:
        first = self._met.setdefault(identity, address)
        return first if first != address else None

    async def _read(self, target: _Target) -> Visited:
        """Ask one address by each entry of the access file that is for it, until one is answered."""
        text = str(target.address)
        entries = [entry for entry in self._access if entry.covers(target.address)]
        part = self._kept.unfinished(text)
        failed: list[tuple[Status, str]] = []
        for entry in entries:
            try:
                if entry.protocol == "ssh":
                    return await self._by_shell(target, entry)
                return await self._by_snmp(target, entry, part)
            except RefusedError as error:
                failed.append(("refused", str(error)))
            except CredentialsError as error:
                failed.append(("wrong credentials", str(error)))
            except UnusableError as error:
                failed.append(("unusable", str(error)))
            except BrokenOffError as error:
                failed.append(("silent", str(error)))
        failed.append(("no access", "no entry of the access file is for this address"))
        status, says = min(failed, key=lambda entry: _WORST_FIRST.index(entry[0]))
        result = Visited(text, status, says=says)
        if status != "silent" or target.second:
            part.remove()
            self._kept.result(result)
        return result

    def _session(self, entry: Access, address: Address) -> Session:
        place = self._places.get(str(address), (str(address), entry.port))
        if entry.version == "2c":
            return CommunitySession(self._datagrams, place, entry.community.reveal() if entry.community else "")
        if entry not in self._engines:
            self._engines[entry] = UserEngine(self._datagrams, entry)
        return self._engines[entry].session(place)

    async def _by_snmp(self, target: _Target, entry: Access, part: Unfinished) -> Visited:
        session = self._session(entry, target.address)
        try:
            return await self._with(target, entry, session, part)
        finally:
            session.close()
            part.close()

    async def _by_shell(self, target: _Target, entry: Access) -> Visited:
        """Read one device over SSH."""
        text = str(target.address)
        place = self._places.get(text, (text, entry.port))
        told, lacking = await read_by_shell(entry, place, text, self._kept.unfinished_listings(text))
        first = self._known(told, target.address)
        if first is not None:
            result = Visited(text, "same device", told.name, f"it was read at {first}")
            self._kept.result(result)
            return result
        result = Visited(
            text, "in part" if lacking else "complete", told.name, how=str(entry), not_in_full=tuple(lacking),
            chassis=told.chassis,
        )  # fmt: skip
        self._kept.finish_listings(result)
        self._hear(told.name or text, target.hops, told.neighbors)
        return result

    async def _with(self, target: _Target, entry: Access, session: Session, part: Unfinished) -> Visited:
        """Read one device.

        Raises
        ------
        BrokenOffError, RefusedError, CredentialsError
            If it gives no answer at all.
        """
        text = str(target.address)
        columns = {name: Column(oid(COLUMNS[name]), name in SINGLE) for name in (*_SELF, *_EARLY, *COLUMNS)}
        _resume(columns.values(), part)
        reading = Reading(
            session, part.keep, self._patience, self._tries, lambda c: part.end(dotted(c.identifier), c.cut)
        )
        counted = 0

        async def read(names: Sequence[str], many: bool = True) -> None:
            nonlocal counted
            try:
                await reading.read([columns[name] for name in names], many)
            finally:
                self._standing.objects += reading.objects - counted
                counted = reading.objects

        says, told = "", ToldDevice(None, None, None)
        try:
            await read(_SELF, many=False)
            told = told_in(part.text())
            first = self._known(told, target.address)
            if first is not None:
                result = Visited(text, "same device", told.name, f"it was read at {first}", objects=reading.objects)
                self._kept.result(result)
                part.remove()
                return result
            await read(_EARLY)
            told = told_in(part.text())
            self._hear(told.name or text, target.hops, told.neighbors)
            await read(tuple(columns))
        except BrokenOffError as error:
            if not reading.answers and not part.lines:
                raise
            says = str(error) if reading.answers else "no answer any more"
        cut = [
            NotInFull(name.replace("_", " "), COLUMNS[name], column.cut or says)
            for name, column in columns.items()
            if not column.ended
        ]
        result = Visited(
            text, "in part" if cut else "complete", told.name, says, hops=target.hops, objects=reading.objects,
            how=str(entry), not_in_full=tuple(cut), chassis=told.chassis, engine=told.engine,
        )  # fmt: skip
        if not (says.startswith("no answer") and not target.second):
            remark = f"on {datetime.now(UTC).isoformat(timespec='seconds')} by {entry}"
            self._kept.finish(part, result, remark, cut)
        return result

    def _account(self, seconds: float) -> Visit:
        devices = []
        for address, target in self._targets.items():
            result = self._kept.results.get(str(address))
            if result is None or (
                target.swept and len(target.named_by) == 1 and result.status in ("silent", "refused")
            ):
                continue
            kept = self._kept.told(result.address) if result.device is None and target.called is None else None
            name = result.device or target.called or (kept.name if kept else None)
            devices.append(
                msgspec.structs.replace(result, named_by=tuple(target.named_by), hops=target.hops, device=name)
            )
        devices.sort(key=lambda entry: (_WORST_FIRST.index(entry.status), ip_address(entry.address).packed))
        not_asked = tuple(NotAsked(who, own, why, tuple(by)) for (who, own, why), by in self._not_asked.items())
        found, where = self._standing.objects, self._kept
        return Visit(tuple(devices), not_asked, found, seconds, str(where.walks), where.everything())


def _resume(columns: Iterable[Column], part: Unfinished) -> None:
    """Bring columns to where a visit was when it was killed."""
    found: dict[Oid, Column] = {column.identifier: column for column in columns}
    for line in part.lines:
        if line.startswith("#"):
            continue
        identifier = oid(line.partition(" = ")[0])
        for length in range(len(identifier) - 1, 5, -1):
            column = found.get(identifier[:length])
            if column is not None:
                column.at, column.rows, column.touched = identifier, column.rows + 1, True
                break
    for text in part.ended:
        found[oid(text)].ended = True
    for text, why in part.cut.items():
        found[oid(text)].cut = why
