"""The account of a visit: of every device that was asked or told of, what became of it, and who named it."""

from __future__ import annotations

from typing import Literal

import msgspec

from crossthread.answer import Answer

Status = Literal[
    "complete", "in part", "refused", "silent", "unusable", "wrong credentials", "no access", "same device"
]


class Standing(msgspec.Struct):
    """How a visit stands: devices read or given up, waiting, being asked, silent; and values read."""

    done: int = 0
    waiting: int = 0
    asking: int = 0
    silent: int = 0
    objects: int = 0


class NotInFull(msgspec.Struct, frozen=True):
    """A column that was not read to its end, and why."""

    column: str
    identifier: str
    why: str


class Visited(msgspec.Struct, frozen=True, omit_defaults=True):
    """An address that was asked.

    Attributes
    ----------
    address, device
        Where it was asked, and how the device calls itself, else how its neighbours call it.
    status
        `complete`: every column was read to its end. `in part`: see `not_in_full`. `refused`: nobody listens there, or
        there is no way to it. `silent`: no answer. `unusable`: what comes is no answer to what was asked. `wrong
        credentials`: it said so. `no access`: no entry of the access file is for this address. `same device`: `says`
        names the address under which it was read.
    says
        Why it is not complete.
    named_by
        Who told of it: devices with their ports, or that it was given.
    hops
        How many devices lie between it and what was given.
    objects
        How many values it told now; 0 if what an earlier visit kept was used.
    how
        By which entry of the access file it was read.
    """

    address: str
    status: Status
    device: str | None = None
    says: str = ""
    named_by: tuple[str, ...] = ()
    hops: int = 0
    objects: int = 0
    how: str = ""
    not_in_full: tuple[NotInFull, ...] = ()
    chassis: str | None = None
    engine: str | None = None
    earlier: bool = False
    """Whether it was read by an earlier visit, and not asked now."""


class NotAsked(msgspec.Struct, frozen=True):
    """A neighbour that was told of and not asked: who it is, why not, and who named it."""

    device: str
    addresses: tuple[str, ...]
    why: str
    named_by: tuple[str, ...]


class Visit(Answer, frozen=True):
    """What a visit found.

    Attributes
    ----------
    devices
        Every address that was asked, those that were not read in full first.
    not_asked
        Neighbours that were told of and not asked.
    objects, seconds
        How many values were read now, and how long that took.
    folder
        Where the walks are.
    walks
        The walks, as files.
    """

    ROWS = "devices"
    devices: tuple[Visited, ...]
    not_asked: tuple[NotAsked, ...]
    objects: int
    seconds: float
    folder: str
    walks: tuple[str, ...]

    def of(self, status: Status) -> tuple[Visited, ...]:
        """The addresses of which this became."""
        return tuple(device for device in self.devices if device.status == status)


class Planned(Answer, frozen=True):
    """What a visit would do, without asking anybody.

    Attributes
    ----------
    start
        The addresses that would be asked first, each with the entries of the access file that would be tried.
    within
        The prefixes outside of which nobody is asked.
    kept
        How many walks of earlier visits are there; these would not be asked, unless `again`.
    interrupted
        Whether a visit was interrupted that this one would go on with.
    """

    ROWS = "start"
    COLUMNS = ("address", "entries")
    start: tuple[tuple[str, tuple[str, ...]], ...]
    within: tuple[str, ...]
    swept: int
    kept: int
    interrupted: bool
