"""The map in the terminal."""

from __future__ import annotations

from rich.console import Console
from rich.text import Text

from crossthread.faces.terminal.console import count, line, said, table
from crossthread.views.map import LinkEnd, Map, MapLink

_STATE = {"up": "green", "down": "bold red", "unknown": "yellow"}


def show_map(answer: Map, out: Console) -> None:
    """First line: how much there is; then devices, links with the port at its own device, and what is loose."""
    down = sum(link.state == "down" for link in answer.links)
    heard = sum(device.heard for device in answer.devices)
    known = f" ({heard} only heard of)" if heard else ""
    words = [count(len(answer.devices), "device") + known, count(len(answer.links), "link")]
    more = f" ({down} down)" if down else ""
    out.print(line((f"{words[0]}, {words[1]}{more}, {len(answer.loose)} loose.", "bold")))
    if answer.devices:
        out.print()
        _devices(answer, out)
    if answer.links:
        out.print()
        _links(answer, out)
    if answer.loose:
        out.print()
        _loose(answer, out)


def _devices(answer: Map, out: Console) -> None:
    listed = table("device", "does", "place", "model, software", "links", "hosts", right=("links", "hosts"))
    for device in answer.devices:
        model = ", ".join(part for part in (device.platform, device.software) if part)
        place = "only heard of" if device.heard else device.site or device.tier or ""
        does = " ".join(device.capabilities) or "?"
        row = (device.device, does, place, model)
        listed.add_row(*map(said, row), str(device.links), str(device.hosts))
    out.print(listed)


def _links(answer: Map, out: Console) -> None:
    listed = table("device", "port", "", "device", "port", "state", "told by")
    for link in answer.links:
        told = {"both ends": "both ends", "one end": "", "descriptions": "descriptions only"}[link.told_by]
        if not told:
            told = f"{(link.a if link.seen_from == ('a',) else link.b).device} only"
        state = Text(link.state, style=_STATE[link.state])
        near, far = (said(link.a.device), _port(link, link.a)), (said(link.b.device), _port(link, link.b))
        listed.add_row(*near, _arrow(link), *far, state, said(told))
    out.print(listed)


def _port(link: MapLink, end: LinkEnd) -> Text:
    ports = [member.a if end is link.a else member.b for member in link.members]
    return said(f"{end.port} ({' '.join(ports)})" if ports else end.port)


def _arrow(link: MapLink) -> str:
    return "──" if link.state == "up" else "╌╌"


def _loose(answer: Map, out: Console) -> None:
    listed = table("loose", "port", "what is there", "why")
    for entry in answer.loose:
        what = entry.host or " ".join(part for part in (entry.neighbor, entry.neighbor_port) if part) or "?"
        listed.add_row(*map(said, (entry.device or "host", entry.port or "", what, entry.says)))
    out.print(listed)
