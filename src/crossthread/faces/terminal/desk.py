"""Where a cable at a desk leads, in the terminal: one answer on one screen."""

from __future__ import annotations

from rich.console import Console

from crossthread.errors import visible
from crossthread.faces.terminal.console import count, line, paragraph, said, table
from crossthread.sources.desk import Desk, Socket

_LISTED = 20


def show_desk(answer: Desk, out: Console) -> None:
    """First line: switch, port, VLAN, voice VLAN; then what else the switch says, the trees, and who else talks."""
    if not answer.sockets:
        out.print(line(("Nobody announced itself on this cable.", "bold yellow")))
    for socket in answer.sockets:
        out.print(line((f"{socket.device} {socket.port or '(port not told)'}", "bold green"), f"{_vlans(socket)}."))
    if len(answer.sockets) > 1:
        paragraph(out, line(("Several are heard: something in between passes their announcements on.", "yellow")), 0)
    for problem, times in answer.malformed.items():
        paragraph(out, said(f"{count(times, 'time')}: {problem}; what could be read is used", "yellow"), 0)
    for socket in answer.sockets:
        out.print()
        listed = table("", "")
        listed.show_header = False
        for fact, value in (
            ("switch", socket.device),
            ("managed at", socket.management),
            ("it is", " ".join(socket.capabilities)),
            ("it runs", socket.software),
            ("the port says", socket.description),
            ("heard on", socket.at),
            ("holds for", f"{socket.hold_time:g} s" if socket.hold_time else None),
            ("but", "it has said farewell" if socket.left else None),
        ):
            if value:
                listed.add_row(said(fact, "dim"), said(value))
        out.print(listed)
    if answer.roots:
        out.print()
        out.print(line(("Root of the tree, as seen from here:", "bold")))
        for root in answer.roots:
            where = f" in VLAN {root.vid}" if root.vid else ""
            paragraph(out, line(f"{root.root}{where}, at cost {root.cost:,}"), 3)
    if answer.tagged:
        out.print()
        paragraph(out, line(("Tagged frames are heard of VLANs ", "bold"), " ".join(map(str, answer.tagged))), 0)
    if answer.talkers:
        out.print()
        out.print(line((f"Who else talks here ({count(len(answer.talkers), 'address', 'addresses')}):", "bold")))
        listed = table("address", "MAC address", "VLAN")
        for talker in answer.talkers[:_LISTED]:
            listed.add_row(said(talker.address), said(talker.mac), said(talker.vid or "untagged"))
        out.print(listed)
        if len(answer.talkers) > _LISTED:
            out.print(line((f"… and {len(answer.talkers) - _LISTED} more; --json has all.", "dim")))


def heard_line(answer: Desk) -> str:
    """Who has just announced itself, while listening goes on."""
    socket = answer.sockets[-1]
    return visible(f"heard: {socket.device} {socket.port or '(port not told)'}{_vlans(socket)}", 200)


def _vlans(socket: Socket) -> str:
    own = f", VLAN {socket.vlan}" if socket.vlan else ", VLAN not told"
    return own + (f", voice VLAN {socket.voice}" if socket.voice else "")
