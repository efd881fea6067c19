"""What the frames of hosts at access ports join, told by columns: a campus has a hundred thousand of these.

A VID is negative where the port, or the host's link, is down: they would join that VLAN. `NO_VID` stands for hosts of
which only a closer look tells.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping, Sequence
from functools import partial
from itertools import compress, count

from crossthread.network.topology.names import End, Names
from crossthread.survey import Survey
from crossthread.survey.records import Port
from crossthread.survey.table import runs
from crossthread.values import NO_VID, NONE

_Place = tuple[str, str | None]


def joined(survey: Survey, names: Names, places: Sequence[_Place], tags: Sequence[int | None]) -> list[int]:
    """The VLAN that the frames of each host join, for the places where they are plugged in and the tags they send."""
    entered, phones = _entered(survey, names), _phones(survey, names)
    links = survey.column("hosts", "link")
    vids = [entered[device].get(port, NO_VID) for device, port in places]
    for n in compress(count(), tags):
        vids[n] = _with_tag(phones.get(places[n], NO_VID), tags[n] or NO_VID)
    for n in compress(count(), (link == "down" for link in links)):
        vids[n] = -abs(vids[n])
    return vids


def joined_at(survey: Survey, names: Names, places: Sequence[_Place], tags: Sequence[int | None], n: int) -> int:
    """The same for one host."""
    device, port = places[n]
    row, tag = names.row(End(device, port or "")), tags[n]
    if row is None:
        return NO_VID
    vid = _with_tag(_phone_at(row), tag) if tag else _entered_at(row)
    return -abs(vid) if survey.column("hosts", "link")[n] == "down" else vid


def _with_tag(told: int, tag: int) -> int:
    """The VLAN of a frame with some tag, where a phone is told to send another one or the same."""
    return told if abs(told) == tag else NO_VID


def _is_up(row: Port) -> bool:
    return row.oper == "up" and row.authorized != "no" and not row.allowed_macs


def _alone(row: Port) -> bool:
    return row.mode == "access" and (row.lag is None or row.lag == NONE)


def _entered_at(row: Port) -> int:
    vid = (row.pvid or NO_VID) if _alone(row) else NO_VID
    if "down" in (row.admin, row.oper):
        return -vid
    return vid if _is_up(row) and row.frames != "tagged" else NO_VID


def _phone_at(row: Port) -> int:
    told = row.voice if row.voice != row.pvid and row.frames != "untagged" and row.authorized != "no" else None
    vid = (told or NO_VID) if _alone(row) else NO_VID
    if "down" in (row.admin, row.oper):
        return -vid
    return vid if _is_up(row) else NO_VID


def _phones(survey: Survey, names: Names) -> Mapping[_Place, int]:
    """For each device and port of which a phone is told anything the VLAN of the frames with that tag."""
    told = (survey.ports[n] for n in compress(count(), survey.column("ports", "voice")))
    return {(names.spelled[row.device], row.port): _phone_at(row) for row in told}


def _entered(survey: Survey, names: Names) -> Mapping[str, Mapping[str | None, int]]:
    """For each device and port the VLAN of frames without a tag; the same as `_entered_at` says row by row."""
    column = partial(survey.column, "ports")
    settings = zip(
        *map(column, ("mode", "oper", "admin", "allowed_macs", "lag", "authorized", "frames", "pvid")), strict=True
    )
    vids = [
        NO_VID
        if mode != "access" or not pvid or not (lag is None or lag == NONE)
        else -pvid
        if oper == "down" or admin == "down"
        else pvid
        if oper == "up" and not macs and authorized != "no" and frames != "tagged"
        else NO_VID
        for mode, oper, admin, macs, lag, authorized, frames, pvid in settings
    ]
    found: dict[str, dict[str | None, int]] = defaultdict(dict)
    for device, run in runs(column("device")):
        found[names.spelled[device]].update(zip(column("port")[run], vids[run], strict=True))
    return found
