"""The addressing table in the terminal, as CSV and as Markdown."""

from __future__ import annotations

from rich.console import Console

from crossthread.faces.documents.exports import as_csv, as_markdown
from crossthread.faces.terminal.console import count, line, said, table
from crossthread.views.addresses import Addresses

HEADER = ("name", "interface", "VLAN", "address", "prefix", "gateway", "MAC address", "plugged into")


def _cells(answer: Addresses) -> list[tuple[object, ...]]:
    return [(r.name, r.interface, r.vid, r.address, r.prefix, r.gateway, r.mac, r.at) for r in answer.rows]


def show_addresses(answer: Addresses, out: Console) -> None:
    """First line: how many; then the table, without MAC addresses, which --csv has."""
    hosts = [row for row in answer.rows if row.interface is None]
    words = (
        f"{count(len(answer.rows) - len(hosts), 'gateway address', 'gateway addresses')}, {count(len(hosts), 'host')}."
    )
    out.print(line((words, "bold")))
    out.print()
    listed = table("name", "interface", "VLAN", "address", "gateway", "plugged into")
    for row in answer.rows:
        own = f"{row.address}/{row.prefix.rpartition('/')[2]}" if row.prefix else row.address
        cells = (row.name, row.interface, row.vid, own, row.gateway, row.at)
        listed.add_row(*(said("" if cell is None else cell) for cell in cells))
    out.print(listed)


def addresses_csv(answer: Addresses) -> str:
    """The table as CSV."""
    return as_csv(HEADER, _cells(answer))


def addresses_markdown(answer: Addresses) -> str:
    """The table as Markdown."""
    return as_markdown(HEADER, _cells(answer))
