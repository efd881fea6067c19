"""Cables that spanning tree tells: which port another bridge's is, where it was told by its number only."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TypeVar

import msgspec

from crossthread.survey.records import Neighbor, Row, Tree, TreePort

BY_TREE = "stp"
"""What stands as the protocol of a neighbour that no discovery protocol, but a spanning tree told of."""

_K = TypeVar("_K")


def cabled(walks: Mapping[_K, list[Row]]) -> dict[_K, list[Row]]:
    """The rows of several walks, with the neighbours by spanning tree made out among them.

    A port with a neighbour that announced itself needs no other witness, nor does one at the far end of a port that
    has; and behind a device that passes the frames of the tree on, the designated port may be far away.
    """
    every = [row for rows in walks.values() for row in rows]
    heard = {(row.device, row.port) for row in every if isinstance(row, Neighbor) and row.protocol != BY_TREE}
    names = {row.address: row.device for row in every if isinstance(row, Tree) and row.address}
    ports = {(row.device, str(row.number)): row.port for row in every if isinstance(row, TreePort) and row.number}

    def made_out(row: Row) -> Row | None:
        if not isinstance(row, Neighbor) or row.protocol != BY_TREE:
            return row
        far = names.get(row.neighbor_chassis or "")
        port = ports.get((far, row.neighbor_port or "")) if far is not None else None
        if (row.device, row.port) in heard or (far, port) in heard:
            return None
        return msgspec.structs.replace(row, neighbor=far, neighbor_port=port)

    return {key: [told for row in rows if (told := made_out(row)) is not None] for key, rows in walks.items()}
