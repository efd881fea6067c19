"""Tables for other programs: CSV that is safe to open in a spreadsheet, Markdown, GraphML, DOT."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Sequence
from xml.etree.ElementTree import Element, SubElement, indent, tostring

from crossthread.errors import visible
from crossthread.views.map import Map

_FORMULA = ("=", "+", "-", "@", "\t", "\r")


def as_csv(header: Sequence[str], rows: Sequence[Sequence[object]]) -> str:
    """CSV in which no cell is taken for a formula: one that begins like one gets an apostrophe in front."""
    out = io.StringIO(newline="")
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(header)
    for row in rows:
        writer.writerow([_safe(cell) for cell in row])
    return out.getvalue()


def _safe(cell: object) -> str:
    text = "" if cell is None else visible(str(cell), 5000)
    return f"'{text}" if text.startswith(_FORMULA) else text


def as_markdown(header: Sequence[str], rows: Sequence[Sequence[object]]) -> str:
    """A Markdown table in which nothing from outside is markup."""
    lines = ["| " + " | ".join(header) + " |", "|" + "---|" * len(header)]
    for row in rows:
        lines.append("| " + " | ".join(_plain(cell) for cell in row) + " |")
    return "\n".join(lines) + "\n"


def _plain(cell: object) -> str:
    return re.sub(r"([\\`*_{}\[\]<>#|~!])", r"\\\1", "" if cell is None else visible(str(cell), 500))


def as_graphml(answer: Map) -> str:
    """The map as GraphML: devices as nodes, cables as edges with both port names."""
    root = Element("graphml", xmlns="http://graphml.graphdrawing.org/xmlns")
    for name, goal in (
        ("site", "node"),
        ("tier", "node"),
        ("known", "node"),
        ("a_port", "edge"),
        ("b_port", "edge"),
        ("state", "edge"),
    ):
        SubElement(root, "key", {"id": name, "for": goal, "attr.name": name, "attr.type": "string"})
    graph = SubElement(root, "graph", id="map", edgedefault="undirected")
    for device in answer.devices:
        node = SubElement(graph, "node", id=visible(device.device, 500))
        known = "heard of" if device.heard else "surveyed"
        _add_data(node, {"site": device.site, "tier": device.tier, "known": known})
    for number, link in enumerate(answer.links):
        ends = {"source": visible(link.a.device, 500), "target": visible(link.b.device, 500)}
        edge = SubElement(graph, "edge", {"id": f"cable{number}", **ends})
        _add_data(edge, {"a_port": link.a.port, "b_port": link.b.port, "state": link.state})
    indent(root)
    return '<?xml version="1.0" encoding="UTF-8"?>\n' + tostring(root, encoding="unicode") + "\n"


def _add_data(parent: Element, values: dict[str, str | None]) -> None:
    for key, value in values.items():
        if value is not None:
            SubElement(parent, "data", key=key).text = visible(value, 500)


def as_dot(answer: Map) -> str:
    """The map in the DOT language: cables labelled at both ends, dashed where they are down, dotted where unknown."""
    styles = {"up": "solid", "down": "dashed", "unknown": "dotted"}
    lines = ["graph map {", "  node [shape=box];"]
    lines += [f"  {_quoted(d.device)}{' [style=dashed]' if d.heard else ''};" for d in answer.devices]
    for link in answer.links:
        labels = f"taillabel={_quoted(link.a.port)}, headlabel={_quoted(link.b.port)}, style={styles[link.state]}"
        lines.append(f"  {_quoted(link.a.device)} -- {_quoted(link.b.device)} [{labels}];")
    return "\n".join([*lines, "}"]) + "\n"


def _quoted(text: str) -> str:
    return '"' + visible(text, 500).replace("\\", "\\\\").replace('"', '\\"') + '"'
