"""The addressing table in the terminal, as CSV and as Markdown."""

from __future__ import annotations

from rich.console import Console

from crossthread.errors import visible
from crossthread.faces.documents.exports import as_csv, as_markdown
from crossthread.faces.terminal.console import count, line, table
from crossthread.views.addresses import Addresses

HEADER = ("name", "interface", "VLAN", "address", "prefix", "gateway", "MAC address", "plugged into", "marks")


def _cells(answer: Addresses) -> list[tuple[object, ...]]:
    return [
        (r.name, r.interface, r.vid, r.address, r.prefix, r.gateway, r.mac, r.at, "; ".join(r.marks))
        for r in answer.rows
    ]


def show_addresses(answer: Addresses, out: Console) -> None:
    """First line: how many, and how many are wrong; then the table, without MAC addresses, which --csv has."""
    hosts = {row.name for row in answer.rows if row.interface is None}
    managed = [row for row in answer.rows if row.interface == "management"]
    gateways = sum(row.interface not in (None, "management") for row in answer.rows)
    marked = sum(bool(row.marks) for row in answer.rows)
    words = f"{count(gateways, 'gateway address', 'gateway addresses')}, {len(managed)} of management, "
    wrong = f"; {count(marked, 'address', 'addresses')} marked ✗" if marked else ""
    out.print(line((words + count(len(hosts), "host"), "bold"), (wrong, "bold red"), "."))
    out.print()
    listed = table("name", "interface", "VLAN", "address", "gateway", "plugged into")
    for row in answer.rows:
        own = f"{row.address}/{row.prefix.rpartition('/')[2]}" if row.prefix else row.address
        cells = (row.name, row.interface, row.vid, own, row.gateway, row.at)
        texts = ["" if cell is None else visible(str(cell), 2000) for cell in cells]
        if row.marks:
            listed.add_row(*texts[:3], line((f"{own} ✗", "bold red")), *texts[4:])
        else:
            listed.add_row(*texts)  # plain ones, since there may be a hundred thousand
    out.print(listed)
    if marked:
        out.print()
        for row in answer.rows:
            if row.marks:
                who = f"{row.name} {row.interface}" if row.interface else row.name
                out.print(line((f"✗ {row.address} of {who}: ", "bold red"), "; ".join(row.marks)))


def addresses_csv(answer: Addresses) -> str:
    """The table as CSV."""
    return as_csv(HEADER, _cells(answer))


def addresses_markdown(answer: Addresses) -> str:
    """The table as Markdown."""
    return as_markdown(HEADER, _cells(answer))
