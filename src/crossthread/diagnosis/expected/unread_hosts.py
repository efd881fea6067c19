"""Whether there are hosts of whom nobody read who they are: they may work as things are, and stop by a mend."""

from __future__ import annotations

from crossthread.diagnosis.context import Context
from crossthread.network.topology.names import End
from crossthread.survey.records import Port
from crossthread.values import NONE


def anybody_unread(context: Context) -> bool:
    """Whether there is a host whose address nobody read, or a port at which somebody is, or may be, whom nobody listed.

    So there may be beyond every open end. To be asked for by `context.once(anybody_unread)`.
    """
    unnamed = None in context.network.survey.distinct("hosts", "address")
    return unnamed or bool(context.network.open_ends or context.once(unlisted))


def unlisted(context: Context) -> list[Port]:
    """The ports of bridges at which somebody is, or may be, whom nobody listed."""
    ends = (End(device, port) for device, ports in context.network.names.ports.items() for port in ports)
    rows = ((end, context.port(end)) for end in ends if context.at_edge(end))
    return [row for end, row in rows if row and _may_be_up(row) and _may_bridge(row) and not context.hosts_at(end)]


def _may_be_up(port: Port) -> bool:
    """Whether a port is up, or nobody read whether it is."""
    return port.oper == "up" or (port.oper is None and port.admin != "down")


def _may_bridge(port: Port) -> bool:
    """Whether a port is one of a bridge, or nobody read whether it is."""
    return port.mode in ("access", "trunk", "hybrid") or (port.mode is None and port.lag in (None, NONE))
