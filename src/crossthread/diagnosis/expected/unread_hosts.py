"""Whether there are hosts of whom nobody read who they are: they may work as things are, and stop by a mend."""

from __future__ import annotations

from crossthread.diagnosis.context import Context
from crossthread.network.topology.names import End


def anybody_unread(context: Context) -> bool:
    """Whether there is a host whose address nobody read, or a port at which somebody is whom nobody listed.

    To be asked for by `context.once(anybody_unread)`.
    """
    ends = (End(device, port) for device, ports in context.network.names.ports.items() for port in ports)
    return None in context.network.survey.distinct("hosts", "address") or any(
        row.oper == "up" and row.mode in ("access", "trunk", "hybrid") and not context.hosts_at(end)
        for end in ends
        if context.at_edge(end) and (row := context.port(end)) is not None
    )
