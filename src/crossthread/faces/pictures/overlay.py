"""What is drawn onto the map: which links and devices stand out, and marks at the ends of cables."""

from __future__ import annotations

from collections.abc import Set
from typing import NamedTuple

from crossthread.diagnosis.findings import Finding
from crossthread.questions.why_answer import Why
from crossthread.views.map import Map
from crossthread.views.tree import TreeAnswer
from crossthread.views.vlan import VlanView


class LinkPaint(NamedTuple):
    """How a link is drawn: `strong`, `idle` or `faint`; and a mark at either end: `bar` (blocked), `cross`, or None."""

    style: str
    a_mark: str | None = None
    b_mark: str | None = None


class Overlay(NamedTuple):
    """A layer on the map.

    Attributes
    ----------
    says
        What it shows, for the title.
    links
        By the two ends as (device, port), in the map's order; a link that is not there is faint.
    devices
        The devices that stand out, each with some lines under its name, which may be empty.
    crowned
        The devices with a root's mark.
    legend
        What each style and mark means here.
    """

    says: str
    links: dict[tuple[str, str, str, str], LinkPaint]
    devices: dict[str, str]
    crowned: frozenset[str] = frozenset()
    legend: dict[str, str] = {}  # noqa: RUF012


def vlan_overlay(answer: VlanView, drawn: Map) -> Overlay:
    """One VLAN on the map: the links that carry it, where it is blocked, and where one end lacks it."""
    state = {(port.device, port.port): port for port in answer.ports}
    links = {}
    for link in drawn.links:
        a, b = (state.get((end.device, end.port)) for end in (link.a, link.b))
        if a is None and b is None:
            continue
        marks = [None if end is None else "bar" if end.state == "blocked" else None for end in (a, b)]
        if a is None or b is None:
            marks = ["cross" if end is None else mark for end, mark in zip((a, b), marks, strict=True)]
        works = a is not None and b is not None and {a.state, b.state} == {"forwarding"}
        key = (link.a.device, link.a.port, link.b.device, link.b.port)
        links[key] = LinkPaint("strong" if works else "idle", marks[0], marks[1])
    devices: dict[str, str] = {}
    for segment in answer.segments:
        for device in segment.devices:
            hosts = sum(len(port.hosts) for port in answer.ports if port.device == device)
            gateways = [g.split(" ", 1)[1] for g in segment.gateways if g.startswith(f"{device} ")]
            words = [f"{hosts} host{'s' if hosts != 1 else ''}"] if hosts else []
            devices[device] = ", ".join(words + [f"gateway {name}" for name in gateways[:1]])
    name = f" “{answer.names[0]}”" if answer.names else ""
    held = sum(bool(s.hosts or s.gateways) for s in answer.segments)
    legend = {
        "strong": "carries it",
        "idle": "allowed, but no data passes",
        "faint": "does not carry it",
        "bar": "blocked by the spanning tree at this end",
        "cross": "not allowed at this end",
        "crown": "root of its tree",
    }
    return Overlay(
        f"VLAN {answer.vid}{name}, {held} piece{'s' if held != 1 else ''}",
        links,
        devices,
        frozenset(answer.roots),
        legend,
    )


def why_overlay(answer: Why, drawn: Map) -> Overlay:
    """The way between two hosts on the map, with the faults at the ends and devices where they stand."""
    there, back = (
        {(hop.name, port) for hop in path if hop.kind == "bridge" for port in (hop.enters, hop.leaves)}
        for path in (answer.path, answer.path_back)
    )
    faulty = {(s.device, s.port) for finding in answer.findings for s in finding.subjects if s.device and s.port}
    links: dict[tuple[str, str, str, str], LinkPaint] = {}
    at_links: set[tuple[str, str]] = set()
    for link in drawn.links:
        ends = [(end.device, end.port) for end in (link.a, link.b)]
        marks = ["cross" if end in faulty else None for end in ends]
        at_links |= set(ends) & faulty
        style = "strong" if there & set(ends) else "idle" if back & set(ends) else "faint"
        if style != "faint" or any(marks):
            links[link.a.device, link.a.port, link.b.device, link.b.port] = LinkPaint(style, marks[0], marks[1])
    bridges = [hop.name for hop in answer.path if hop.kind == "bridge"]
    devices = {hop.name: "" for hop in (*answer.path, *answer.path_back) if hop.kind != "host"}
    lines: dict[str, list[str]] = {}
    for name, says in ((bridges[:1], f"from {answer.source}"), (bridges[-1:], f"to {answer.target}")):
        for device in name:
            lines.setdefault(device, []).append(says)
    for number, finding in enumerate(answer.findings, 1):
        for device in _places(finding, answer, at_links):
            lines.setdefault(device, []).append(f"✗ {number} {finding.rule}")
    devices |= {device: "\n".join(dict.fromkeys(says)) for device, says in lines.items()}
    verb = {"works": "reaches", "fails": "does not reach"}.get(answer.verdict, "may reach")
    faults = len(answer.findings) if answer.verdict == "fails" else 0
    tail = f": {faults} fault{'s' if faults != 1 else ''} in the way" if faults else ""
    legend = {
        "strong": "the way there (and back)",
        "idle": "only the way back",
        "faint": "not on the way",
        "cross": "a fault stands at this end",
    }
    return Overlay(f"{answer.source} {verb} {answer.target}{tail}", links, devices, frozenset(), legend)


def _places(finding: Finding, answer: Why, at_links: Set[tuple[str, str]]) -> list[str]:
    """The devices where a finding stands that is not at the end of a link."""
    found = [s.device for s in finding.subjects if s.device and (s.device, s.port) not in at_links]
    for subject in finding.subjects:
        for path in (answer.path, answer.path_back):
            bridges = [hop.name for hop in path if hop.kind == "bridge"]
            if subject.host and path and path[0].name == subject.host:
                found += bridges[:1]
    return list(dict.fromkeys(found))


def tree_overlay(answer: TreeAnswer, drawn: Map) -> Overlay:
    """A spanning tree on the map: its active links, the ends that block, the root."""
    state = {(port.device, port.port): port.state for port in answer.ports}
    links = {}
    for link in drawn.links:
        ends = [state.get((end.device, end.port)) for end in (link.a, link.b)]
        if ends == [None, None] or link.state == "down":
            continue
        marks = ["bar" if end == "discarding" else None for end in ends]
        style = "idle" if "discarding" in ends else "strong"
        links[link.a.device, link.a.port, link.b.device, link.b.port] = LinkPaint(style, marks[0], marks[1])
    devices = {b.device: "" if b.root_port is None else f"to the root by {b.root_port}" for b in answer.bridges}
    legend = {
        "strong": "active link",
        "idle": "redundant link, carries no data of this tree",
        "faint": "not in this tree, or down",
        "bar": "this end blocks",
        "crown": "root",
    }
    roots = frozenset(root.device for root in answer.roots) or frozenset({answer.root} if answer.root else ())
    return Overlay(f"tree {answer.instance}, root {answer.root or 'unknown'}", links, devices, roots, legend)
