"""Tables for other programs: CSV that is safe to open in a spreadsheet, Markdown, GraphML, DOT."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Sequence
from html import escape

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
    lines = [
        '<?xml version="1.0" encoding="UTF-8"?>',
        '<graphml xmlns="http://graphml.graphdrawing.org/xmlns">',
    ]
    for name, goal in (("site", "node"), ("tier", "node"), ("a_port", "edge"), ("b_port", "edge"), ("state", "edge")):
        lines.append(f'  <key id="{name}" for="{goal}" attr.name="{name}" attr.type="string"/>')
    lines.append('  <graph id="map" edgedefault="undirected">')
    for device in answer.devices:
        data = {"site": device.site, "tier": device.tier}
        lines.append(f"    <node id={_attribute(device.device)}>{_data(data)}</node>")
    for number, link in enumerate(answer.links):
        data = {"a_port": link.a.port, "b_port": link.b.port, "state": link.state}
        ends = f"source={_attribute(link.a.device)} target={_attribute(link.b.device)}"
        lines.append(f'    <edge id="cable{number}" {ends}>{_data(data)}</edge>')
    return "\n".join([*lines, "  </graph>", "</graphml>"]) + "\n"


def _attribute(text: str) -> str:
    return f'"{escape(visible(text, 500))}"'


def _data(values: dict[str, str | None]) -> str:
    return "".join(
        f'<data key="{k}">{escape(visible(v, 500), quote=False)}</data>' for k, v in values.items() if v is not None
    )


def as_dot(answer: Map) -> str:
    """The map in the DOT language: cables labelled at both ends, dashed where they are down, dotted where unknown."""
    styles = {"up": "solid", "down": "dashed", "unknown": "dotted"}
    lines = ["graph map {", "  node [shape=box];"]
    lines += [f"  {_quoted(device.device)};" for device in answer.devices]
    for link in answer.links:
        labels = f"taillabel={_quoted(link.a.port)}, headlabel={_quoted(link.b.port)}, style={styles[link.state]}"
        lines.append(f"  {_quoted(link.a.device)} -- {_quoted(link.b.device)} [{labels}];")
    return "\n".join([*lines, "}"]) + "\n"


def _quoted(text: str) -> str:
    return '"' + visible(text, 500).replace("\\", "\\\\").replace('"', '\\"') + '"'
