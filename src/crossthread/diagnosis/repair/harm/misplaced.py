"""Hosts that a mend would take out of their VLAN: others at the port of one that alone is wrong there.

Whether anybody stops by that may hang on what nobody read: such a host's peers, or its gateway.
"""

from __future__ import annotations

from collections.abc import Sequence

from crossthread.diagnosis.context import Context, context_of
from crossthread.network.network import Network
from crossthread.network.topology.names import End
from crossthread.survey.changes import Change


def misplaced(context: Context, changes: Sequence[Change], after: Network) -> tuple[tuple[str, str], ...]:
    """The hosts at ports with others that are where they belong, and are not in a changed copy.

    Each with the VLAN it belongs to. None is changed itself.
    """
    spelled = context.network.names.spelled
    moved = [c for c in changes if c.table == "ports" and {"pvid", "mode"} & c.cells.keys()]
    ends = dict.fromkeys(End(spelled[str(c.key["device"])], str(c.key["port"])) for c in moved)
    changed = {str(c.key.get("host")).casefold() for c in changes if c.table == "hosts"}
    together = (hosts for end in ends if len(hosts := context.hosts_at(end)) > 1)
    found = []
    for host in (host for hosts in together for host in hosts if host.name.casefold() not in changed):
        own = context.expected.vlan(host)
        if own is None or context.expected.current_vlan(host) != own:
            continue
        there, then = after.stations.hosts[host.name.casefold()], context_of(after, context.plan)
        if then.expected.current_vlan(there) not in (None, own) and then.expected.vlan(there) == own:
            found.append((host.name, f"the others of VLAN {own}"))
    return tuple(found)
