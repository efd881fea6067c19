"""VLANs in the terminal: one in full, or all of them by device; and a link with both ends side by side."""

from __future__ import annotations

from rich.console import Console
from rich.text import Text

from crossthread.faces.terminal.console import WIDTH, count, line, paragraph, said, table
from crossthread.faces.terminal.findings import show_findings
from crossthread.questions.link import LinkView
from crossthread.views.vlan import Presence, VlanOverview, VlanView

_STATES = {"forwarding": "green", "blocked": "yellow", "down": "bold red", "unknown": "yellow"}


def show_vlan(answer: VlanView, out: Console) -> None:
    """First line: in how many pieces it is; then the pieces, then every port that carries it."""
    name = f" “{'” “'.join(answer.names)}”" if answer.names else ""
    held = [segment for segment in answer.segments if segment.hosts or segment.gateways]
    pieces = count(len(held), "piece") if held else "no piece with a host or a gateway"
    style = "bold" if len(held) < 2 else "bold red"
    out.print(line((f"VLAN {answer.vid}{name}: {pieces}, on {count(len(answer.ports), 'port')}.", style)))
    if answer.roots:
        out.print(line(("Root of its tree: ", "dim"), " ".join(answer.roots)))
    if answer.suspended:
        out.print(line(("Suspended on ", "bold red"), ", ".join(answer.suspended)))
    if answer.beyond:
        shown = ", ".join(answer.beyond[:8]) + (f" and {len(answer.beyond) - 8} more" if len(answer.beyond) > 8 else "")
        paragraph(out, line(("May go on beyond ", "yellow"), f"{shown}: nobody looked there."), 0)
    for number, segment in enumerate(held, 1):
        out.print()
        words = f"{count(len(segment.devices), 'device')}, {count(len(segment.hosts), 'host')}"
        out.print(line((f"Piece {number}", "bold"), f": {words}, {count(len(segment.gateways), 'gateway')}"))
        for title, names in (("gateways", segment.gateways), ("hosts", segment.hosts), ("devices", segment.devices)):
            if names:
                shown = ", ".join(names[:40]) + (f" and {len(names) - 40} more" if len(names) > 40 else "")
                paragraph(out, line((f"{title}  ", "dim"), shown), 3)
    if answer.ports:
        out.print()
        _ports(answer, out)


def _ports(answer: VlanView, out: Console) -> None:
    listed = table("device", "port", "mode", "carried", "state", "leads to")
    for port in answer.ports:
        far = f"{port.far.device} {port.far.port}" if port.far else ", ".join(port.hosts)
        leads = said(far)
        if port.one_end:
            leads.append("  not carried there", style="bold red")
        listed.add_row(
            said(port.device),
            said(port.port),
            said(port.mode or "?"),
            said(port.how),
            Text(port.state, style=_STATES[port.state]),
            leads,
        )
    out.print(listed)


def show_overview(answer: VlanOverview, out: Console) -> None:
    """First line: how many; then a grid with a row for each device and a column for each VLAN."""
    out.print(line((f"{count(len(answer.vlans), 'VLAN')} on {count(len(answer.devices), 'device')}.", "bold")))
    if not answer.vlans:
        return
    name_width = min(max(len(entry.device) for entry in answer.devices), 18)
    step = max(1, (WIDTH - name_width - 1) // 2)
    for at in range(0, len(answer.vlans), step):
        vids = answer.vlans[at : at + step]
        out.print()
        for digit in range(4):
            digits = "".join(f"{str(vid).rjust(4)[digit]} " for vid in vids)
            if digits.strip():
                out.print(Text(" " * (name_width + 1) + digits.rstrip(), style="bold"))
        for entry in answer.devices:
            known = {presence.vid: presence for presence in entry.vlans}
            cells = [_cell(known.get(vid)) for vid in vids]
            row = said(entry.device[:name_width].ljust(name_width + 1))
            start = len(row.plain)
            row.append("".join(first + second for first, second in cells))
            for n, (first, second) in enumerate(cells):
                if first not in " ─·":
                    row.stylize("green", start + 2 * n, start + 2 * n + 1)
                if second != " ":
                    row.stylize("bold cyan", start + 2 * n + 1, start + 2 * n + 2)
            out.print(row)
    out.print()
    key = (
        "1-9 access ports (+ more)   ─ on trunks only   · exists, on no port   * root   underlined: has a gateway here"
    )
    out.print(line((key.replace("underlined: has a gateway here", "^ gateway"), "dim")))
    if answer.names:
        named = "   ".join(f"{vid} {answer.names[vid]}" for vid in answer.vlans if vid in answer.names)
        paragraph(out, line((named, "dim")), 0)


def _cell(presence: Presence | None) -> tuple[str, str]:
    """What stands for a VLAN on a device: its access ports or trunks, and whether its root or gateway is there."""
    if presence is None:
        return " ", " "
    if presence.access:
        first = str(presence.access) if presence.access < 10 else "+"
    else:
        first = "─" if presence.trunks else "·"
    second = {(True, True): "&", (True, False): "*", (False, True): "^"}.get((presence.root, presence.gateway), " ")
    return first, second


def show_link(answer: LinkView, out: Console) -> None:
    """First line: whether the ends agree; then fact by fact, then what is found there."""
    a, b = (f"{end.device} {end.port}" for end in (answer.a, answer.b))
    wrong = [side for side in answer.sides if side.differs]
    head = f"{a} – {b}, {answer.state}: "
    if wrong:
        words = (f"the two ends differ in {', '.join(side.fact for side in wrong)}.", "bold red")
    else:
        words = ("the two ends agree.", "bold green")
    out.print(line((head, "bold"), words))
    out.print()
    listed = table("", "", a, b)
    for side in answer.sides:
        mark = Text("≠", style="bold red") if side.differs else Text(" ")
        style = "bold red" if side.differs else ""
        cells = [said("?" if value is None else value, style) for value in (side.a, side.b)]
        listed.add_row(mark, said(side.fact), *cells)
    out.print(listed)
    if answer.findings:
        show_findings(answer.findings, out)
