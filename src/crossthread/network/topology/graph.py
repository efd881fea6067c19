"""The two walks over graphs that everything else uses: what is connected, and how far it is."""

from __future__ import annotations

from collections import deque
from collections.abc import Hashable, Iterable, Mapping
from typing import TypeVar

_N = TypeVar("_N", bound=Hashable)


def joined(pairs: Iterable[tuple[_N, _N]]) -> dict[_N, _N]:
    """For each node of some edges the one that stands for its connected part (union by size, with paths halved).

    Examples
    --------
    >>> parts = joined([("a", "b"), ("c", "d"), ("b", "e")])
    >>> parts["a"] == parts["e"], parts["a"] == parts["c"]
    (True, False)
    """
    above: dict[_N, _N] = {}
    size: dict[_N, int] = {}

    def top(node: _N) -> _N:
        above.setdefault(node, node)
        while above[node] != node:
            above[node] = node = above[above[node]]
        return node

    for a, b in pairs:
        one, two = top(a), top(b)
        if one != two:
            if size.get(one, 1) < size.get(two, 1):
                one, two = two, one
            above[two] = one
            size[one] = size.get(one, 1) + size.get(two, 1)
    return {node: top(node) for node in list(above)}


def distances(starts: Iterable[_N], around: Mapping[_N, Iterable[_N]]) -> dict[_N, int]:
    """Over how few edges each node is reached from any of some others (breadth first).

    Examples
    --------
    >>> distances(["a"], {"a": ["b"], "b": ["a", "c"], "c": ["b"], "d": []})
    {'a': 0, 'b': 1, 'c': 2}
    """
    found = dict.fromkeys(starts, 0)
    queue = deque(found)
    while queue:
        at = queue.popleft()
        for other in around.get(at, ()):
            if other not in found:
                found[other] = found[at] + 1
                queue.append(other)
    return found
