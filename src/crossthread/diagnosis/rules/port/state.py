"""Findings about a single port: its state, its VLAN, whom it admits, how it runs."""

from __future__ import annotations

from crossthread.diagnosis.context import Context, in_use
from crossthread.diagnosis.edits import closed_itself, raise_link
from crossthread.diagnosis.findings import Alternative, Finding, at_port
from crossthread.diagnosis.registry import About, rule
from crossthread.network.topology.adjacency import bundle
from crossthread.network.topology.names import End
from crossthread.survey.changes import Change


def _users(context: Context, end: End) -> str:
    hosts = [host.name for host in context.hosts_at(end)]
    faces = [str(a.far(end)) for a in context.adjacencies_at.get(end, ())]
    named = context.named_ends.get(end)
    return " and ".join(hosts + faces) or (f"{named.name}, by its description" if named else "nothing known")


def _raised(context: Context, end: End) -> tuple[tuple[Change, ...], tuple[Alternative, ...]]:
    """The mend that opens a port, and what is only told: where nothing but its description says who is there."""
    raised = raise_link(context, end)
    maybe = end in context.named_ends and not context.hosts_at(end) and end not in context.adjacencies_at
    return ((), (Alternative(raised, ("its description alone says who is there",)),)) if maybe else (raised, ())


@rule("port-admin-down", "Port", About.PORT, needs="ports.admin=down", where=in_use, cuts=True)
def port_admin_down(context: Context, end: End) -> Finding | None:
    """A port that something is plugged into has been shut.

    Matters: nothing behind it sends or hears anything.
    Notice: what hangs on it has no network.
    Confirm: look at the port's configured state, and ask who shut it and why before opening it.
    Mend: open the port, once it is known why it was shut.
    """
    row = context.port(end)
    if row is None or row.admin != "down":
        return None
    whole = context.port(bundle(end, context.network.names))
    if whole is not None and whole is not row and whole.admin == "down":
        return None  # its aggregate is, and told
    return Finding(
        "port-admin-down",
        "breaks",
        (at_port(end),),
        f"{end} is shut by configuration; it leads to {_users(context, end)}.",
        context.evidence(row, "admin", "oper", "description"),
        *_raised(context, end),
    )


@rule(
    "port-down",
    "Port",
    About.PORT,
    needs="ports.oper=down",
    where=in_use,
    unless=(port_admin_down,),
    cuts=True,
    follows="port-admin-down host-link-down cable-fault",
)
def port_down(context: Context, end: End) -> Finding | None:
    """A port that something is plugged into has no link though nobody shut either end.

    Matters: nothing behind it sends or hears anything.
    Notice: what hangs on it has no network.
    Confirm: look at both ends' link lamps; test or swap the cable.
    Mend: plug in or replace the cable; look at the device at the other end.
    """
    row = context.port(end)
    if row is None or row.oper != "down" or row.admin == "down" or closed_itself(row):
        return None
    far = [context.port(a.far(end)) for a in context.adjacencies_at.get(end, ())]
    if any(other is not None and other.admin == "down" for other in far):
        return None
    if any(host.row.link == "down" for host in context.hosts_at(end)):
        return None
    return Finding(
        "port-down",
        "breaks",
        (at_port(end),),
        f"{end} is open but has no link; it leads to {_users(context, end)}.",
        context.evidence(row, "admin", "oper"),
        *_raised(context, end),
    )
