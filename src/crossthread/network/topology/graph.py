"""The walks over graphs that everything else uses: what is connected, how far it is, and what leads to what."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Hashable, Iterable, Iterator, Mapping
from typing import Generic, TypeVar

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


class Reach(Generic[_N]):
    """What leads to what along edges of one direction, found as far as is asked.

    Nodes that lead to each other are one group (strongly connected parts, by R. E. Tarjan, SIAM Journal on Computing 1,
    1972); which groups a group leads to is one integer with a bit for each.

    Parameters
    ----------
    after
        Gives the nodes to which edges lead from a node.

    Examples
    --------
    >>> reach = Reach({"a": "b", "b": "ac", "c": "d", "d": ""}.__getitem__)
    >>> reach.group("a") == reach.group("b"), reach.leads("a", "d"), reach.leads("d", "a")
    (True, True, False)
    """

    def __init__(self, after: Callable[[_N], Iterable[_N]]) -> None:
        self._after = after
        self._group: dict[_N, int] = {}
        self._led_to: list[int] = []

    def group(self, node: _N) -> int:
        """The number of the group that a node is in."""
        if node not in self._group:
            self._explore(node)
        return self._group[node]

    def leads(self, one: _N, other: _N) -> bool:
        """Whether edges lead from one node to another; from each to itself."""
        return bool(self._led_to[self.group(one)] >> self.group(other) & 1)

    def _explore(self, start: _N) -> None:
        order, low, beyond = {start: 0}, {start: 0}, {start: 0}
        held = [start]
        path: list[tuple[_N, Iterator[_N]]] = [(start, iter(self._after(start)))]
        while path:
            node, rest = path[-1]
            for other in rest:
                if other in self._group:
                    beyond[node] |= self._led_to[self._group[other]]
                elif other in order:
                    low[node] = min(low[node], order[other])
                else:
                    order[other] = low[other] = len(order)
                    beyond[other] = 0
                    held.append(other)
                    path.append((other, iter(self._after(other))))
                    break
            else:
                path.pop()
                if low[node] == order[node]:
                    self._close(node, held, beyond)
                if path:
                    before = path[-1][0]
                    low[before] = min(low[before], low[node])
                    beyond[before] |= self._led_to[self._group[node]] if node in self._group else 0

    def _close(self, first: _N, held: list[_N], beyond: Mapping[_N, int]) -> None:
        """Make a group of all nodes that are held since its first one."""
        number = len(self._led_to)
        led_to, node = 1 << number, None
        while node != first:
            node = held.pop()
            self._group[node] = number
            led_to |= beyond[node]
        self._led_to.append(led_to)
