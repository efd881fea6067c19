"""Whether there are hosts of whom nobody read who they are: they may work as things are, and stop by a mend."""

from __future__ import annotations

from collections import Counter

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
    rows, names = context.network.survey.rows(Port), context.network.names
    idle = (rows[n] for n, taken in enumerate(context.taken_rows) if not taken)  # nothing is known to be there
    bridged = (row for row in idle if row.mode in _BRIDGED or (row.mode is None and row.lag in (None, NONE)))
    up = (row for row in bridged if row.oper == "up" or (row.oper is None and row.admin != "down"))
    return [row for row in up if End(names.spelled[row.device], row.port) not in context.network.gateways_at]


def unread_in(context: Context) -> Counter[int | None]:
    """How many are, or may be, in each VLAN without a tag, whom nobody listed or of whom nobody read the address."""
    hosts, addresses = context.network.stations.hosts, context.network.survey.column("hosts", "address")
    unnamed = (hosts.at(n) for n, address in enumerate(addresses) if address is None)
    told = (context.expected.current_vlan(host) for host in unnamed)
    return Counter(vid for vid in (*told, *(row.pvid for row in context.once(unlisted))) if vid)


_BRIDGED = ("access", "trunk", "hybrid")
"""How a port of a bridge is set; of one without any mode nobody read it, or it is part of an aggregate."""
