"""The map as a picture: PNG or SVG.

Bridges are boxes, routers have a double frame; the box of a device that was only heard of is dashed. A cable that is
up is a full line; one that is down is dashed, with a cross in its middle; one whose state was not observed is dotted.
A cable that only one end told of has an open ring at the silent end; an aggregate lies on a broad band. Nothing depends
on colour alone.
"""

from __future__ import annotations

import warnings
from collections import defaultdict
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from crossthread.errors import visible
from crossthread.faces.pictures.layout import Point, arrange
from crossthread.faces.pictures.overlay import LinkPaint, Overlay
from crossthread.views.map import Map, MapLink

if TYPE_CHECKING:
    from matplotlib.axes import Axes

_INK, _PAPER, _BOX, _BAND = "#1d2b33", "#fdfcf8", "#e9f0ec", "#cfdcd6"
_STYLES: dict[str, Any] = {
    "up": {"color": "#2b6777", "linestyle": "-", "linewidth": 1.6},
    "down": {"color": "#b3392f", "linestyle": (0, (5, 3)), "linewidth": 1.6},
    "unknown": {"color": "#8a7a4d", "linestyle": (0, (1, 2)), "linewidth": 1.6},
}
_FAINT, _STOP = "#9aa8a3", "#b3392f"
_PAINTS: dict[str, Any] = {
    "strong": {"color": _INK, "linestyle": "-", "linewidth": 3.2},
    "idle": {"color": "#8a6d1f", "linestyle": (0, (6, 2)), "linewidth": 1.8},
    "faint": {"color": "#cdd6d2", "linestyle": "-", "linewidth": 1.0},
}
_LABEL_PORTS, _LABEL_PLACES = 26, 16
"""With more devices than these, port names and then places are left out: first what clutters most."""
_CROWD = 300
"""With more devices than these, everything is drawn small: the shape of the campus is what there is to see."""


def draw_map(answer: Map, path: Path, title: str | None = None, overlay: Overlay | None = None) -> None:
    """Draw a map into a file whose name ends in `.png` or `.svg`, with one layer on it if wanted.

    Raises
    ------
    ValueError
        If the name ends otherwise.
    """
    if path.suffix.lower() not in (".png", ".svg"):
        raise ValueError(f"a file name that ends in .png or .svg instead of “{visible(path.name)}”")
    from matplotlib.figure import Figure

    names = [device.device for device in answer.devices]
    cables = [(link.a.device, link.b.device) for link in answer.links]
    crowded = len(names) > _CROWD
    width = 8 if len(names) <= 40 else int(1.6 * len(names) ** 0.5) if crowded else 17
    places = arrange({d.device: d.tier for d in answer.devices}, cables, width)
    rows = len({y for _, y in places.values()})
    size = (0.6 * width, 1.3 + 0.8 * rows) if crowded else (13, max(4.5, 1.3 + 2.15 * rows))
    # Looking for the best layout means to draw everything twice.
    figure = Figure(figsize=size, facecolor=_PAPER, layout=None if crowded else "constrained")
    axes = figure.add_axes((0.01, 0.02, 0.98, 0.95)) if crowded else figure.add_subplot()
    axes.set_axis_off()
    axes.set_xlim(-0.01, 1.01)
    axes.set_ylim(min((y for _, y in places.values()), default=0) - 0.42, 0.5)
    if crowded and overlay is None:
        _fine_cables(axes, answer.links, places)
    else:
        _cables(axes, answer.links, places, len(names) <= _LABEL_PORTS, overlay)
    for device in answer.devices:
        text = visible(device.device, 22)
        if device.site and len(names) <= _LABEL_PLACES:
            text += f"\n{visible(device.site, 26)}" if overlay is None else ""
        font = 9 if len(names) <= 40 else 4 if crowded else 6.5
        strong = overlay is None or device.device in overlay.devices
        if overlay is not None:
            lines = overlay.devices.get(device.device, "").splitlines()
            text = "\n".join([text, *(visible(words, 30) for words in lines)])
            text = f"♔ {text}" if device.device in overlay.crowned else text
        _box(axes, places[device.device], text, "router" in device.capabilities, font, strong, device.heard)
    down = sum(link.state == "down" for link in answer.links)
    head = visible(title, 80) if title else "Map"
    says = f"{head} – {len(names)} devices, {len(answer.links)} links" + (f", {down} down" if down else "")
    if overlay is not None:
        says = f"{head} – {visible(overlay.says, 120)}"
    axes.set_title(says, loc="left", fontsize=12, color=_INK, parse_math=False)
    if overlay is None:
        _legend(axes, answer.links, any(device.heard for device in answer.devices))
    else:
        _overlay_legend(axes, overlay)
    path.parent.mkdir(parents=True, exist_ok=True)
    with warnings.catch_warnings():
        warnings.filterwarnings("ignore", "Glyph .* missing")  # a name may be in any script: then as empty boxes
        if path.suffix.lower() == ".png":  # a large map takes longer to pack well than to draw
            figure.savefig(path, dpi=110, pil_kwargs={"compress_level": 2})
        else:
            figure.savefig(path, dpi=110, metadata={"Date": None} if path.suffix.lower() == ".svg" else None)


def _box(
    axes: Axes, place: Point, text: str, routes: bool, size: float, strong: bool = True, heard: bool = False
) -> None:
    edge = _INK if strong else _FAINT
    frame = {"boxstyle": "round,pad=0.42", "facecolor": _BOX if strong else _PAPER, "edgecolor": edge, "linewidth": 1.2}
    if heard:
        frame |= {"facecolor": _PAPER, "linestyle": (0, (4, 3))}
    if routes:
        outer = {**frame, "boxstyle": "round,pad=0.62", "facecolor": _PAPER}
        axes.text(
            *place, text, ha="center", va="center", fontsize=size, color=_PAPER, zorder=3, bbox=outer, parse_math=False
        )
    axes.text(*place, text, ha="center", va="center", fontsize=size, color=edge, zorder=4, bbox=frame, parse_math=False)


def _fine_cables(axes: Axes, links: Sequence[MapLink], places: dict[str, Point]) -> None:
    """Many cables as fine straight lines, all of one state in one go."""
    from matplotlib.collections import LineCollection

    for state, style in _STYLES.items():
        lines = [(places[link.a.device], places[link.b.device]) for link in links if link.state == state]
        width = 0.4 if state == "up" else 1.2
        axes.add_collection(LineCollection(lines, colors=style["color"], linewidths=width, zorder=1), autolim=False)


def _cables(
    axes: Axes, links: Sequence[MapLink], places: dict[str, Point], with_ports: bool, overlay: Overlay | None
) -> None:
    labels: list[Point] = []
    together: dict[tuple[str, str], list[MapLink]] = defaultdict(list)
    for link in links:
        together[link.a.device, link.b.device].append(link)
    for (a, b), members in together.items():
        for number, link in enumerate(members):
            shift = number - (len(members) - 1) / 2
            points = _loop(places[a], number) if a == b else _curve(places[a], places[b], shift)
            if link.members:  # an aggregate: a band around its line
                axes.plot(*zip(*points, strict=True), color=_BAND, linewidth=7, zorder=0.5, solid_capstyle="round")
            if overlay is None:
                _cable(axes, link, points, labels if with_ports else None)
            else:
                paint = overlay.links.get((link.a.device, link.a.port, link.b.device, link.b.port), LinkPaint("faint"))
                _painted(axes, link, points, paint, labels if with_ports and paint.style != "faint" else None)


def _curve(a: Point, b: Point, shift: float) -> list[Point]:
    """A line from one place to another: parallel cables and neighbours in one layer bow apart."""
    bow = 0.16 * shift
    level = abs(a[1] - b[1]) < 0.01
    if level and abs(a[0] - b[0]) > 0.2:
        bow += 0.17 * (1 + abs(a[0] - b[0]))
    found = []
    for step in range(41):
        t = step / 40
        lift = 4 * t * (1 - t) * bow
        across = 0.0 if level else lift * 0.22
        found.append((a[0] + (b[0] - a[0]) * t + across, a[1] + (b[1] - a[1]) * t + (lift if level else 0.0)))
    return found


def _loop(at: Point, number: int) -> list[Point]:
    """A cable from a device to itself: an ear above it."""
    from math import cos, pi, sin

    size = 0.05 + 0.02 * number
    return [(at[0] + size * cos(pi * s / 40), at[1] + 0.12 + 3 * size * sin(pi * s / 40)) for s in range(41)]


def _cable(axes: Axes, link: MapLink, points: list[Point], labels: list[Point] | None) -> None:
    style = _STYLES[link.state]
    xs, ys = zip(*points, strict=True)
    axes.plot(xs, ys, zorder=1, solid_capstyle="round", **style)
    if link.state == "down":
        axes.plot(*points[20], marker="x", markersize=9, markeredgewidth=2.2, color=style["color"], zorder=2)
    for end in ("a", "b"):
        ordered = points if end == "a" else points[::-1]
        if end not in link.seen_from:
            axes.plot(
                *ordered[12],
                marker="o",
                markersize=7,
                markerfacecolor=_PAPER,
                markeredgecolor=style["color"],
                markeredgewidth=1.5,
                zorder=2,
            )
    if labels is not None:
        _port_names(axes, link, points, labels)


def _painted(axes: Axes, link: MapLink, points: list[Point], paint: LinkPaint, labels: list[Point] | None) -> None:
    """A cable in the style of an overlay, with a mark at the right end of it."""
    xs, ys = zip(*points, strict=True)
    axes.plot(xs, ys, zorder=0.9 if paint.style == "faint" else 1, solid_capstyle="round", **_PAINTS[paint.style])
    marked = paint.a_mark is not None or paint.b_mark is not None
    beside = abs(points[0][1] - points[-1][1]) < 0.01 and abs(points[0][0] - points[-1][0]) < 0.2
    named = [11, 11]  # between two boxes side by side there is room for the marks only
    if labels is not None and not (beside and marked):
        named = _port_names(axes, link, points, labels)
    for mark, ordered, name_at in ((paint.a_mark, points, named[0]), (paint.b_mark, points[::-1], named[1])):
        if mark is not None:
            _mark(axes, mark, ordered[name_at + 2], ordered[name_at + 3])


def _mark(axes: Axes, mark: str, at: Point, after: Point) -> None:
    """A bar across a cable, or a cross on it."""
    if mark == "cross":
        axes.plot(*at, marker="X", markersize=11, color=_STOP, markeredgecolor=_PAPER, zorder=2.6)
        return
    turned = axes.transData.transform([at, after])
    from math import atan2, degrees

    angle = degrees(atan2(turned[1][1] - turned[0][1], turned[1][0] - turned[0][0]))
    axes.plot(*at, marker=(2, 0, angle), markersize=17, markeredgewidth=4, color=_INK, zorder=2.6)


def _port_names(axes: Axes, link: MapLink, points: list[Point], labels: list[Point]) -> list[int]:
    """Write both ports' names on a cable; how far along it, from each end, they stand."""
    found = []
    for ordered, name in ((points, link.a), (points[::-1], link.b)):
        at = _free_place(ordered, labels)
        labels.append(at)
        found.append(ordered.index(at))
        axes.text(
            *at,
            visible(name.port, 14),
            ha="center",
            va="center",
            fontsize=6.5,
            color=_INK,
            zorder=2.5,
            bbox={"boxstyle": "round,pad=0.12", "facecolor": _PAPER, "edgecolor": "none", "alpha": 0.9},
            parse_math=False,
        )
    return found


def _overlay_legend(axes: Axes, overlay: Overlay) -> None:
    from matplotlib.lines import Line2D

    used = {paint.style for paint in overlay.links.values()} | {"faint"}
    marks = {mark for paint in overlay.links.values() for mark in (paint.a_mark, paint.b_mark) if mark}
    words = overlay.legend
    handles = [Line2D([], [], label=words[s], **_PAINTS[s]) for s in _PAINTS if s in used and s in words]
    if "bar" in marks:
        handles.append(
            Line2D([], [], color=_INK, marker="|", markersize=12, markeredgewidth=3.5, linestyle="", label=words["bar"])
        )
    if "cross" in marks:
        handles.append(Line2D([], [], color=_STOP, marker="X", markersize=9, linestyle="", label=words["cross"]))
    if overlay.crowned and "crown" in words:
        handles.append(Line2D([], [], color=_INK, marker="$♔$", markersize=9, linestyle="", label=words["crown"]))
    axes.legend(handles=handles, loc="lower left", ncols=min(4, len(handles)), frameon=False, fontsize=8)


def _free_place(points: list[Point], labels: list[Point]) -> Point:
    """The first place on a cable, in its first half, that is clear of the box it begins in and of other labels."""
    start, end = points[0], points[-1]
    if abs(start[1] - end[1]) < 0.01 and abs(start[0] - end[0]) < 0.2:  # side by side: little room between the boxes
        return points[16]
    outside = [p for p in points[:19] if abs(p[1] - start[1]) > 0.24 or abs(p[0] - start[0]) > 0.08] or [points[9]]
    for point in outside:
        if not any(abs(point[0] - x) < 0.036 and abs(point[1] - y) < 0.055 for x, y in labels):
            return point
    return outside[0]


def _legend(axes: Axes, links: Sequence[MapLink], heard: bool) -> None:
    from matplotlib.lines import Line2D
    from matplotlib.patches import Patch

    words = {"up": "up", "down": "down", "unknown": "state not observed"}
    used = [state for state in words if any(link.state == state for link in links)]
    marks: list[Any] = [
        Line2D([], [], label=words[s], marker="x" if s == "down" else "", markeredgewidth=2, **_STYLES[s]) for s in used
    ]
    if any(len(link.seen_from) < 2 for link in links):
        marks.append(
            Line2D(
                [],
                [],
                color=_INK,
                marker="o",
                markerfacecolor=_PAPER,
                linestyle="",
                label="only the other end tells of it",
            )
        )
    if any(link.members for link in links):
        marks.append(Line2D([], [], color=_BAND, linewidth=7, label="aggregate"))
    if heard:
        marks.append(Patch(facecolor=_PAPER, edgecolor=_INK, linestyle=(0, (4, 3)), label="only heard of"))
    if marks:
        axes.legend(handles=marks, loc="lower left", ncols=len(marks), frameon=False, fontsize=8)
