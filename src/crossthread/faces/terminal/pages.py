"""One thing on one page in the terminal: a port, a device."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from rich.console import Console
from rich.text import Text

from crossthread.diagnosis.findings import Finding
from crossthread.faces.terminal.console import count, line, paragraph, said, table
from crossthread.faces.terminal.findings import show_findings
from crossthread.questions.device import DevicePage
from crossthread.questions.port import Fact, Hearing, PortPage


def show_port(answer: PortPage, out: Console) -> None:
    """First line: state and far end; then facts, both ends, neighbours, counters, trees, stations, findings."""
    facts = {fact.fact: fact.value for fact in answer.facts}
    state = facts.get("oper", "state not read")
    style = {"up": "bold green", "down": "bold red"}.get(state, "bold yellow")
    leads = [answer.far] if answer.far else [*answer.hosts, *(one.name for one in answer.neighbors)]
    goal = f", to {' and '.join(leads)}" if leads else ", to nothing that is known"
    out.print(line((f"{answer.device} {answer.port}: ", "bold"), (state, style), f"{goal}."))
    _summed_up(answer.findings, out)
    beside = {side.fact for side in answer.sides}
    _facts("", [fact for fact in answer.facts if fact.fact not in beside], out)
    if answer.sides:
        _head("Both ends:", out)
        listed = table("", "", f"{answer.device} {answer.port}", answer.far or "")
        for side in answer.sides:
            style = "bold red" if side.differs else ""
            cells = [said("?" if value is None else value, style) for value in (side.a, side.b)]
            listed.add_row(Text("≠" if side.differs else " ", style=style), said(side.fact), *cells)
        out.print(listed)
    if answer.hosts or answer.gateways:
        _head("On it:", out)
        paragraph(out, line(", ".join((*answer.hosts, *answer.gateways))), 3)
    _neighbors("Heard there:", answer.neighbors, out)
    if answer.counters:
        _head("Damaged frames and the like:", out)
        listed = table("counter", "count", "of packets", "that is", right=("count", "of packets"))
        for one in answer.counters:
            rate = f"one in {one.one_in:,}" if one.one_in else ("none" if not one.count else "")
            of = f"{one.of:,}" if one.of is not None else ""
            listed.add_row(said(one.counter), f"{one.count:,}", of, rate, style="" if one.count else "dim")
        out.print(listed)
    _facts("Cable test:", answer.pairs, out)
    if answer.trees:
        _head("In the spanning tree:", out)
        listed = table("tree", "role", "state", "cost", "because")
        for part in answer.trees:
            words = (part.instance, part.role or "?", part.state or "?", "" if part.cost is None else part.cost)
            listed.add_row(*map(said, (*words, part.because or "")))
        out.print(listed)
    if answer.learned:
        _head(f"Learned there ({count(len(answer.learned), 'station')}):", out)
        listed = table("MAC address", "VLAN", "host")
        for entry in answer.learned[:40]:
            listed.add_row(*map(said, (entry.mac, entry.vid or "", entry.host or "")))
        out.print(listed)
    _findings(answer.findings, out)


def show_device(answer: DevicePage, out: Console) -> None:
    """First line: what it is and how it is known; then what it says, ports, VLANs, routes, trees, findings."""
    facts = {fact.fact: fact.value for fact in answer.facts}
    what = ", ".join(facts[word] for word in ("platform", "software") if word in facts)
    out.print(
        line(
            (answer.device, "bold"),
            f" ({answer.how})" if answer.how != "surveyed" else "",
            f": {what}." if what else ".",
        )
    )
    _summed_up(answer.findings, out)
    _facts("", answer.facts, out)
    for text in answer.differs:
        paragraph(out, line(("differs ", "yellow"), text), 0)
    _neighbors("Heard by it:" if answer.how.startswith("surveyed") else "Heard by others:", answer.neighbors, out)
    if answer.ports:
        _head(f"Ports ({len(answer.ports)}):", out)
        listed = table("port", "state", "VLANs", "leads to", "description")
        for one in answer.ports:
            style = {"up": "", "no link": "yellow", "shut": "dim"}.get(one.state, "yellow")
            cells = (one.port, one.state, one.vlans, " ".join(one.leads_to), one.description or "")
            listed.add_row(*map(said, cells), style=style)
        out.print(listed)
    if answer.vlans:
        _head(f"VLANs ({len(answer.vlans)}):", out)
        told = ", ".join(f"{one.fact} {one.value}".removesuffix(" active") for one in answer.vlans)
        paragraph(out, line(told), 3)
    _facts("Interfaces that route:", answer.interfaces, out)
    if answer.routes:
        _head("Routing table:", out)
        listed = table("prefix", "by", "interface", "origin", "table")
        for route in answer.routes:
            listed.add_row(
                *map(said, (route.prefix, route.by, route.interface or "", route.origin or "", route.table or ""))
            )
        out.print(listed)
    if answer.trees:
        _head("Spanning trees:", out)
        listed = table("tree", "protocol", "priority", "as shown", "root path cost", "root port")
        for tree in answer.trees:
            port = "is the root" if tree.is_root else tree.root_port or "?"
            numbers = map(_or, (tree.priority, tree.shown, tree.root_cost))
            listed.add_row(*map(said, (tree.instance, tree.protocol or "?", *numbers, port)))
        out.print(listed)
    if answer.unread:
        out.print()
        paragraph(out, line(("Not read of it: ", "yellow"), ", ".join(answer.unread)), 0)
    _findings(answer.findings, out)


def _or(number: int | None) -> str:
    return "?" if number is None else str(number)


def _head(text: str, out: Console) -> None:
    out.print()
    out.print(line((text, "bold")))


def _facts(title: str, facts: Sequence[Fact], out: Console) -> None:
    if not facts:
        return
    if title:
        _head(title, out)
    else:
        out.print()
    listed = table("", "")
    listed.show_header = False
    for fact in facts:
        listed.add_row(said(fact.fact, "dim"), said(fact.value))
    out.print(listed)


def _neighbors(title: str, neighbors: Iterable[Hearing], out: Console) -> None:
    heard = list(neighbors)
    if not heard:
        return
    _head(title, out)
    at = any(one.at for one in heard)
    listed = table(*(["at"] if at else []), "neighbour", "its port", "address", "hold time", "model, software")
    for one in heard:
        left = f"{one.left:g} of {one.hold_time:g} s" if one.left is not None and one.hold_time is not None else ""
        left = left or (f"{one.hold_time:g} s" if one.hold_time is not None else "")
        every = f", every {one.interval:g} s" if one.interval is not None else ""
        model = ", ".join(text for text in (one.platform, one.software) if text)
        cells = (one.name, one.port or "", one.management or "", left + every, model)
        listed.add_row(*map(said, (*([one.at or ""] if at else []), *cells)))
    out.print(listed)


def _findings(findings: Sequence[Finding], out: Console) -> None:
    if findings:
        _head("What is found there:", out)
        show_findings(findings, out)


def _summed_up(findings: Sequence[Finding], out: Console) -> None:
    """How much is wrong with it, and what, before all that is known of it; the findings themselves come last."""
    if findings:
        rules = ", ".join(dict.fromkeys(finding.rule for finding in findings))
        style = "bold red" if any(finding.severity == "breaks" for finding in findings) else "yellow"
        paragraph(out, line((count(len(findings), "finding"), style), f", below: {rules}."), 0)
