"""What is drawn onto the map: which links and devices stand out, and marks at the ends of cables."""

from __future__ import annotations

from typing import NamedTuple

from crossthread.questions.map import Map
from crossthread.questions.tree import TreeAnswer
from crossthread.questions.vlan import VlanView


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
        The devices that stand out, each with a line under its name, which may be empty.
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
