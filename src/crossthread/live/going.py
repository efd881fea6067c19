"""A visit while it runs: whom it asks next, what became of each, and who was told of and not asked."""

from __future__ import annotations

import asyncio
from collections import deque
from collections.abc import Callable, Mapping, Sequence
from datetime import UTC, datetime
from ipaddress import ip_address
from time import monotonic

import msgspec

from crossthread.live.access import Access
from crossthread.live.account import NotAsked, Standing, Status, Visit, Visited
from crossthread.live.device_reading import DeviceReading
from crossthread.live.scope import Scope, usable
from crossthread.live.shell import read_by_shell
from crossthread.live.snmp.community import CommunitySession
from crossthread.live.snmp.datagrams import Datagrams, Place
from crossthread.live.snmp.reading import BrokenOffError, UnusableError
from crossthread.live.snmp.session import CredentialsError, RefusedError, Session
from crossthread.live.snmp.user_security import UserEngine
from crossthread.live.visit_folder import Unfinished, VisitFolder
from crossthread.sources.snmp.told import ToldDevice, ToldNeighbor
from crossthread.values import Address

_WORST_FIRST: tuple[Status, ...] = (
    "wrong credentials", "unusable", "silent", "refused", "no access", "in part", "complete", "same device",
)  # fmt: skip
"""In which order an account lists what became of devices."""
_TICK = 0.2
_TOO_FAR = "beyond the hops that were asked for"


class _Target:
    """An address to ask, or that was asked."""

    def __init__(self, address: Address, hops: int, others: Sequence[Address] = ()) -> None:
        self.address, self.hops, self.others = address, hops, list(others)
        self.named_by: list[str] = []
        self.called: str | None = None
        self.told: ToldDevice | None = None
        self.swept = self.second = False
        self.lost = False
        """Whether it gave no answer, or none any more: perhaps it was too busy, and answers later."""


class Going:
    """A visit; made for one `run`. See `visit` for what it takes."""

    def __init__(
        self,
        scope: Scope,
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
        self._engines: dict[Access, UserEngine] = {}
        self._targets: dict[Address, _Target] = {}
        self._pending: deque[_Target] = deque()
        self._later: list[_Target] = []
        self._met: dict[str, Address] = {}
        self._not_asked: dict[tuple[str, tuple[str, ...], str], list[str]] = {}
        self._standing = Standing()
        self._before: dict[str, Visited] = dict(kept.results)

    async def run(self, progress: Callable[[Standing], None] | None) -> Visit:
        """Ask everybody, and account for it."""
        began = monotonic()
        for address in self._scope.start:
            self._name(address, 0, "given")
        for prefix in self._scope.sweeps:
            for address in prefix.hosts():
                self._name(address, 0, f"in {prefix}").swept = True
        ticker = asyncio.create_task(self._tick(progress)) if progress is not None else None
        try:
            await self._all()
            for target in self._later:  # what was lost, or too busy, has another chance when the rest is done
                target.second = True
            self._pending.extend(self._later)
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

    def _name(self, address: Address, hops: int, by: str, others: Sequence[Address] = ()) -> _Target:
        """Somebody names an address: it is asked, if it was not yet."""
        target = self._targets.get(address)
        if target is None:
            target = self._targets[address] = _Target(address, hops, others)
            self._pending.append(target)
        if by not in target.named_by:
            target.named_by.append(by)
        if hops < target.hops:  # it is nearer than it was found to be, and so are those that it told of
            target.hops = hops
            self._hear(target, target.told)
        return target

    def _hear(self, target: _Target, told: ToldDevice | None) -> None:
        """A device tells of its neighbours: those that may be asked will be."""
        target.told = told
        name = (told.name if told else None) or str(target.address)
        for neighbor in told.neighbors if told else ():
            own = usable(neighbor.addresses)
            inside = [address for address in own if self._scope.covers(address)]
            known = [address for address in inside if address in self._targets]
            by = f"{name} {neighbor.port}"
            if known or (inside and self._scope.near(target.hops)):
                first, *others = known[:1] or inside
                named = self._name(first, target.hops + 1, by, others)
                named.called = neighbor.name or named.called
            else:
                self._leave(neighbor, _TOO_FAR if inside else "outside of the scope" if own else "", by)

    def _leave(self, neighbor: ToldNeighbor, why: str, by: str) -> None:
        who = neighbor.name or neighbor.chassis or "somebody without a name"
        why = why or "it announces no address at which it can be asked"
        named = self._not_asked.setdefault((who, neighbor.addresses, why), [])
        if by not in named:
            named.append(by)

    async def _visit(self, target: _Target) -> None:
        """Ask one address, unless this visit or an earlier one has it."""
        text = str(target.address)
        before = self._before.pop(text, None)
        if before is None and not target.second and not self._kept.again and self._kept.complete(text):
            told = self._kept.told(text) or ToldDevice(None, None, None)
            before = Visited(
                text,
                "complete",
                told.name,
                "read by an earlier visit",
                earlier=True,
                chassis=told.chassis,
                engine=told.engine,
            )
        if before is not None:
            self._remember(target, before)
            return
        result = await self._read(target)
        if target.lost and not target.second:
            self._later.append(target)
            self._standing.silent += 1
            return
        self._standing.silent -= target.second and not target.lost
        self._standing.done += 1
        if result.status in ("silent", "refused", "wrong credentials") and target.others:
            first, *others = target.others
            self._name(first, target.hops, target.named_by[0], others)

    def _remember(self, target: _Target, result: Visited) -> None:
        """Take what became of an address before: by this visit, or by an earlier one."""
        self._kept.results[result.address] = result
        told = self._kept.told(result.address) if result.status in ("complete", "in part") else None
        if told is not None and self._known(told, target.address) is None:
            self._hear(target, told)
        self._standing.done += 1

    def _known(self, told: ToldDevice, address: Address) -> Address | None:
        """The address under which the same device was met before; if under none, it is remembered under this one.

        A chassis is one device. So is an engine identifier, but only with the same name: copies of an image share it.
        """
        if told.chassis is None and told.engine is None:
            return None
        who = f"chassis {told.chassis}" if told.chassis else f"engine {told.engine} {told.name}"
        first = self._met.setdefault(who, address)
        return first if first != address else None

    async def _read(self, target: _Target) -> Visited:
        """Ask one address by each entry of the access file that is for it, until one is answered."""
        text, part = str(target.address), self._kept.unfinished(str(target.address))
        failed: list[tuple[Status, str]] = []
        for entry in (entry for entry in self._access if entry.covers(target.address)):
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
        target.lost = status == "silent"
        if not target.lost or target.second:
            part.remove()
            self._kept.result(result)
        return result

    async def _by_snmp(self, target: _Target, entry: Access, part: Unfinished) -> Visited:
        session = self._session(entry, target.address)
        try:
            return await self._with(target, entry, session, part)
        finally:
            session.close()
            part.close()

    def _session(self, entry: Access, address: Address) -> Session:
        place = self._places.get(str(address), (str(address), entry.port))
        if entry.version == "2c":
            return CommunitySession(self._datagrams, place, entry.community.reveal() if entry.community else "")
        if entry not in self._engines:
            self._engines[entry] = UserEngine(self._datagrams, entry)
        return self._engines[entry].session(place)

    async def _with(self, target: _Target, entry: Access, session: Session, part: Unfinished) -> Visited:
        """Read one device.

        Raises
        ------
        BrokenOffError, RefusedError, CredentialsError
            If it gives no answer at all.
        """
        text, says, told = str(target.address), "", ToldDevice(None, None, None)
        device = DeviceReading(session, part, self._patience, self._tries, self._count)
        target.lost = False
        try:
            told = await device.itself()
            first = self._known(told, target.address)
            if first is not None:
                part.remove()
                return self._same(told, text, first, device.objects)
            told = await device.neighbors()
            self._hear(target, told)
            await device.everything()
        except (BrokenOffError, RefusedError) as error:
            if not device.answered:
                raise
            target.lost = not isinstance(error, UnusableError)
            says = "no answer any more" if str(error) == "no answer" else str(error)
        cut = device.not_in_full(says)
        result = Visited(
            text,
            "in part" if cut else "complete",
            told.name,
            says,
            hops=target.hops,
            objects=device.objects,
            how=str(entry),
            not_in_full=tuple(cut),
            chassis=told.chassis,
            engine=told.engine,
        )
        if not target.lost or target.second:
            remark = f"on {datetime.now(UTC).isoformat(timespec='seconds')} by {entry}"
            self._kept.finish(part, result, remark)
        return result

    async def _by_shell(self, target: _Target, entry: Access) -> Visited:
        """Read one device over SSH."""
        text = str(target.address)
        place = self._places.get(text, (text, entry.port))
        told, lacking = await read_by_shell(entry, place, text, self._kept.unfinished_listings(text))
        first = self._known(told, target.address)
        if first is not None:
            return self._same(told, text, first, 0)
        result = Visited(
            text,
            "in part" if lacking else "complete",
            told.name,
            how=str(entry),
            not_in_full=tuple(lacking),
            chassis=told.chassis,
        )
        self._kept.finish_listings(result)
        self._hear(target, told)
        return result

    def _same(self, told: ToldDevice, text: str, first: Address, objects: int) -> Visited:
        result = Visited(text, "same device", told.name, f"it was read at {first}", objects=objects)
        self._kept.result(result)
        return result

    def _count(self, objects: int) -> None:
        self._standing.objects += objects

    def _account(self, seconds: float) -> Visit:
        devices = []
        for address, target in self._targets.items():
            result = self._kept.results.get(str(address))
            nobody = target.swept and len(target.named_by) == 1
            if result is None or (nobody and result.status in ("silent", "refused")):
                continue
            kept = self._kept.told(result.address) if result.device is None and target.called is None else None
            name = result.device or target.called or (kept.name if kept else None)
            by = tuple(target.named_by)
            devices.append(msgspec.structs.replace(result, named_by=by, hops=target.hops, device=name))
        devices.sort(key=lambda entry: (_WORST_FIRST.index(entry.status), ip_address(entry.address).packed))
        not_asked = tuple(
            NotAsked(who, own, why, tuple(by))
            for (who, own, why), by in self._not_asked.items()
            if why != _TOO_FAR or not any(address in self._targets for address in usable(own))
        )
        found, where = self._standing.objects, self._kept
        return Visit(tuple(devices), not_asked, found, seconds, str(where.walks), where.everything())
