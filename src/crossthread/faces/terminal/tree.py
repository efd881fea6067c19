"""Spanning trees in the terminal."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Console
from rich.text import Text

from crossthread.faces.terminal.console import count, line, paragraph, said, table
from crossthread.faces.terminal.findings import describe
from crossthread.questions.tree_advice import TreeAdvice
from crossthread.questions.tree_change import TreeChange
from crossthread.questions.tree_ways import TreeFailure, TreeWays
from crossthread.views.tree import TreeAnswer, TreeOverview, TreePortAnswer

_BLOCKED = {"forwarding": "green", "discarding": "yellow"}


def show_overview(answer: TreeOverview, out: Console) -> None:
    """First line: how many trees; then a line for each."""
    out.print(line((f"{count(len(answer.instances), 'spanning tree')}.", "bold")))
    listed = table("instance", "VLANs", "protocol", "root", "how", "bridges", "blocked", right=("bridges", "blocked"))
    for one in answer.instances:
        blocked = sum(port.state == "discarding" for port in one.ports)
        how = ", ".join(dict.fromkeys(root.how for root in one.roots)) or "?"
        roots = ", ".join(root.device for root in one.roots) or one.root or "?"
        row = (str(one.instance), one.vlans, " ".join(one.protocols), roots, how, str(len(one.bridges)), str(blocked))
        listed.add_row(*map(said, row))
    if answer.instances:
        out.print()
        out.print(listed)


def show_tree(answer: TreeAnswer, out: Console) -> None:
    """First line: the root and how it became that; then each bridge's way to it, then what blocks and why."""
    blocked = [port for port in answer.ports if port.state != "forwarding"]
    head = f"Tree {answer.instance} (VLAN {answer.vlans}): root {answer.root or 'unknown'}"
    out.print(line((head, "bold"), f", {count(len(answer.bridges), 'bridge')}, {count(len(blocked), 'blocked end')}."))
    for root in answer.roots:
        how = {"set": " set on purpose", "default": " by default", "alone": ""}.get(root.how, " as reported")
        paragraph(out, line((f"{root.device} ({root.identifier}) is root{how}: ", ""), f"{root.because}."), 3)
    for says in answer.missing[:5]:
        paragraph(out, line(("Not observed, so not computed: ", "yellow"), says), 3)
    out.print()
    listed = table("bridge", "identifier", "root port", "cost", "", right=("cost",))
    for bridge in answer.bridges:
        cost = "" if bridge.root_cost is None else f"{bridge.root_cost:,}"
        inside = f"+ {bridge.internal_cost:,} inside" if bridge.internal_cost else ""
        more = " ".join(part for part in (inside, f"region {bridge.region}" if bridge.region else "") if part)
        listed.add_row(*map(said, (bridge.device, bridge.identifier, bridge.root_port or "–", cost, more)))
    out.print(listed)
    _ports("Blocked:", blocked, out)
    _ports("Forwarding:", [port for port in answer.ports if port.state == "forwarding"], out)


def _ports(title: str, ports: list[TreePortAnswer], out: Console) -> None:
    if not ports:
        return
    out.print()
    out.print(line((title, "bold")))
    for port in ports:
        observed = ""
        if port.observed_role and port.observed_role != port.role:
            observed = f"  observed: {port.observed_role}"
        far = f" – {port.far}" if port.far else ""
        paragraph(
            out,
            line(
                (f"{port.device} {port.port}", _BLOCKED.get(port.state, "")),
                (far, "dim"),
                f"  {port.role}",
                (observed, "bold red"),
                (f"  {port.because}", "dim"),
            ),
            3,
        )


def show_ways(answer: TreeWays, out: Console) -> None:
    """First line: how much of what was paid for is idle; then detours, idle links, single points of failure."""
    words = (count(len(answer.detours), "detour"), count(len(answer.idle), "idle link"))
    single = count(len(answer.failures), "single point of failure", "single points of failure")
    out.print(line((f"{words[0]}, {words[1]}, {single}.", "bold")))
    if answer.detours:
        out.print()
        out.print(line(("Longer than the cables would let them:", "bold")))
        for way in answer.detours[:_SHOWN]:
            whose = f"VLAN {way.vid} at {way.device}, {count(way.hosts, 'host')}"
            says = f"{whose}: {way.hops} links instead of {way.shortest}, cost {way.cost:,} against {way.least:,}"
            paragraph(out, line(says, (f"  {' – '.join(way.way)}; could be {' – '.join(way.short_way)}", "dim")), 3)
        _rest(answer.detours, out)
    if answer.idle:
        out.print()
        out.print(line(("Carry no VLAN's data now:", "bold")))
        for name in answer.idle[:_SHOWN]:
            paragraph(out, said(name), 3)
        _rest(answer.idle, out)
    if answer.failures:
        out.print()
        out.print(line(("If this fails:", "bold")))
        listed = table("", "what", "VLANs cut", "hosts", "ports that move", right=("hosts", "ports that move"))
        for failure in answer.failures[:_SHOWN]:
            vlans = " ".join(map(str, failure.vlans)) or "–"
            row = (failure.kind, failure.what, vlans, str(len(failure.hosts)), str(failure.moved))
            listed.add_row(*map(said, row))
        out.print(listed)
        _rest(answer.failures, out)


_SHOWN = 60
"""How many of each are shown, the worst first: nobody reads a list of thousands."""


def _rest(listed: Sequence[object], out: Console) -> None:
    if len(listed) > _SHOWN:
        out.print(line((f"   … and {len(listed) - _SHOWN:,} more; --json has all.", "dim")))


def show_failure(answer: TreeFailure, out: Console) -> None:
    """First line: what is lost without it."""
    if not answer.hosts and not answer.vlans:
        moved = f"{count(answer.moved, 'port')} of other links change between forwarding and discarding."
        out.print(line((f"Without {answer.what} nothing is lost", "bold green"), f"; {moved}"))
        _reformed(answer, out)
        return
    vlans = f", VLAN {' '.join(map(str, answer.vlans))} cut" if answer.vlans else ""
    out.print(line((f"Without {answer.what}, {count(len(answer.hosts), 'host')} cut off{vlans}", "bold red"), "."))
    more = f" and {len(answer.hosts) - 60} more" if len(answer.hosts) > 60 else ""
    paragraph(out, said(", ".join(answer.hosts[:60]) + more), 3)
    _reformed(answer, out)


def _reformed(answer: TreeFailure, out: Console) -> None:
    if answer.reformed:
        out.print()
        out.print(line(("The tree forms anew:", "bold")))
        for says in answer.reformed:
            paragraph(out, said(says), 3)


def show_advice(answer: TreeAdvice, out: Console) -> None:
    """First line: whether anything is to gain; then each instance."""
    better = [advice for advice in answer.advice if advice.changes]
    if not answer.advice:
        out.print(line(("No tree could be computed, so there is nothing to advise.", "bold")))
        return
    if not better:
        out.print(line(("Every root is well placed, and its backup is set.", "bold green")))
    else:
        out.print(line((f"{count(len(better), 'tree')} of {len(answer.advice)} could be better.", "bold")))
    for advice in answer.advice:
        out.print()
        out.print(line((f"Tree {advice.instance} (VLAN {advice.vlans})", "bold"), f": root {advice.now} now"))
        gain = f"links between hosts and gateways {advice.hops_now} → {advice.hops_then}"
        backup = f", backup {advice.backup}" if advice.backup else ""
        says = f"best root {advice.root}{backup}: {gain}; idle links {advice.idle_now} → {advice.idle_then}"
        paragraph(out, said(f"{says}; {count(advice.moves, 'port')} would move"), 3)
        for change in advice.changes:
            paragraph(out, line(("set  ", "green"), describe(change)), 5)
    for says in answer.spreading:
        out.print()
        paragraph(out, line(("To use more links: ", "bold"), says), 0)


def show_tree_change(answer: TreeChange, out: Console) -> None:
    """First line: what the change does to the tree; then before and after side by side."""
    moved = count(len(answer.moved), "port")
    roots = (
        ""
        if answer.root_before == answer.root_after
        else f", the root moves from {answer.root_before} to {answer.root_after}"
    )
    out.print(line((f"{moved} of tree {answer.instance} would change{roots}.", "bold")))
    if answer.moved:
        out.print()
        listed = table("port", "before", "after", "because")
        for port in answer.moved:
            after = Text(port.after, style="green" if "forwarding" in port.after else "yellow")
            listed.add_row(said(f"{port.device} {port.port}"), said(port.before), after, said(port.because, "dim"))
        out.print(listed)
    for title, pairs, style in (("Cut off", answer.cut, "bold red"), ("Reached again", answer.mended, "green")):
        if pairs:
            out.print()
            shown = ", ".join(pairs[:30]) + (f" and {len(pairs) - 30} more" if len(pairs) > 30 else "")
            paragraph(out, line((f"{title}: ", style), shown), 0)
