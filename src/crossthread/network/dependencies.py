"""Which part of a network is derived from which columns of the survey, and so what a change makes stale.

`PARTS` is the one place where that is declared. A copy of a network with some changes keeps the parts that read nothing
of what changed; a law, tested over every column of every table, says that it gives the answers of a network built
afresh. Whoever lets a part look at another column adds it here.

Settings of a port that are kept port by port (what it does with VLANs, whether it forwards) are no parts: they are
dropped for the ports whose rows changed, and kept for all others as long as the part they are derived from stands.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import NamedTuple


class Part(NamedTuple):
    """What is derived as one: the columns it reads, and the parts that it is made of.

    `table.*` stands for all columns of a table. `cabled.column` stands for that column of ports that face another, of
    such ports and their aggregates only; `leading.column` for that of all ports but those that lead to hosts only.
    """

    reads: frozenset[str]
    of: tuple[str, ...] = ()


def _columns(text: str) -> frozenset[str]:
    """Columns as `table.one,two table.three`."""
    pairs = (word.partition(".") for word in text.split())
    return frozenset(f"{table}.{column}" for table, _, columns in pairs for column in columns.split(","))


PARTS = {
    "names": Part(
        _columns(
            "devices.device,chassis,management ports.device,port,aliases,mac "
            "neighbors.device,port,neighbor,neighbor_chassis,neighbor_port,management,platform tree_ports.device,port "
            "coverage.device,table,complete"
        )
    ),
    "links": Part(_columns("neighbors.* ports.description"), ("names",)),
    "open ends": Part(
        _columns(
            "coverage.* "
            "ports.lag leading.admin,oper,mode,description hosts.host,device,port,mac macs.* "
            "leading.role,edge devices.device,chassis"
        ),
        ("links",),
    ),
    "cabling": Part(_columns("ports.lag cabled.admin,oper,lag_state"), ("links",)),
    "trees": Part(
        _columns(
            "trees.device,instance,vlans,protocol,region,priority,address,bpdus "
            "trees.root_priority,root_address,root_cost,root_port "
            "tree_ports.device,port,instance,cost,priority,number,bpdus leading.role,state,guard,edge "
            "cabled.bridged devices.capabilities coverage.*"
        ),
        ("cabling",),
    ),
    "trees per VLAN": Part(_columns("ports.mode,pvid,allowed,untagged"), ("trees",)),
    "vlans": Part(_columns("vlans.* coverage.* devices.vlan_aware"), ("names",)),
    "bridging": Part(_columns("ports.* trees.* tree_ports.*"), ("vlans", "trees")),
}
"""Each part of a network. `names` also depends on which devices there are, `open ends` on which were surveyed, and
`bridging` on which VLANs there are: those are cheap to find again, and are compared instead of declared."""


def stale(columns: Iterable[str]) -> frozenset[str]:
    """The parts that have to be derived again where some columns changed."""
    changed = set(columns) | {f"{column.partition('.')[0]}.*" for column in columns}
    found: set[str] = set()
    for name, part in PARTS.items():  # in an order in which each stands after those that it is made of
        if part.reads & changed or found.intersection(part.of):
            found.add(name)
    return frozenset(found)
