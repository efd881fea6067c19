"""Where to draw each device, so that a person recognises the campus: tiers from top to bottom, few crossings.

Layered drawing: devices stand in layers by their tier, and within a layer in the order that its neighbours' places
suggest, sweep by sweep, as long as crossings become fewer.

References
----------
K. Sugiyama, S. Tagawa, M. Toda, "Methods for visual understanding of hierarchical system structures", IEEE Transactions
on Systems, Man and Cybernetics 11 (1981).
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping, Sequence

Point = tuple[float, float]
_TIERS = {"core": 0, "distribution": 1, "access": 2, "edge": 3}
_SWEEPS = 24


def layers_of(tiers: Mapping[str, str | None], cables: Sequence[tuple[str, str]], width: int) -> list[list[str]]:
    """The devices in layers.

    A device without a tier stands one layer below the nearest that has one; without any tier at all, the device with
    the most neighbours is taken for the core. A layer of more than `width` devices is broken into rows.
    """
    around: dict[str, set[str]] = defaultdict(set)
    for a, b in cables:
        if a != b:
            around[a].add(b)
            around[b].add(a)
    level = {device: _TIERS[tier] for device, tier in tiers.items() if tier in _TIERS}
    if not level and tiers:
        level = {max(sorted(tiers), key=lambda device: len(around[device])): 0}
    todo = sorted(level, key=lambda device: level[device])
    for device in todo:
        for other in sorted(around[device]):
            if other in tiers and other not in level:
                level[other] = level[device] + 1
                todo.append(other)
    alone = max(level.values(), default=0) + 1
    found: dict[int, list[str]] = defaultdict(list)
    for device in sorted(tiers):
        found[level.get(device, alone)].append(device)
    rows = []
    for number in sorted(found):
        members = found[number]
        count = -(-len(members) // width)
        size = -(-len(members) // count)
        rows += [members[at : at + size] for at in range(0, len(members), size)]
    return rows


def crossings(layers: Sequence[Sequence[str]], cables: Sequence[tuple[str, str]]) -> int:
    """How often cables between different layers cross, if each is drawn straight."""
    place = {
        device: (row, column / max(1, len(layer) - 1))
        for row, layer in enumerate(layers)
        for column, device in enumerate(layer)
    }
    spans: dict[tuple[int, int], list[tuple[float, float]]] = defaultdict(list)
    for a, b in cables:
        (row_a, at_a), (row_b, at_b) = sorted((place[a], place[b]))
        if row_a != row_b:
            spans[row_a, row_b].append((at_a, at_b))
    return sum(
        (one[0] - two[0]) * (one[1] - two[1]) < 0
        for lines in spans.values()
        for n, one in enumerate(lines)
        for two in lines[n + 1 :]
    )


def arrange(tiers: Mapping[str, str | None], cables: Sequence[tuple[str, str]], width: int = 8) -> dict[str, Point]:
    """A place for each device: x from 0 to 1, y in layers from 0 downwards (0, -1, -2, …).

    Parameters
    ----------
    tiers
        The devices, each with its tier or None.
    cables
        The pairs of devices that are cabled; both must be among the devices.
    width
        How many devices stand beside each other at most.
    """
    layers = layers_of(tiers, cables, width)
    around: dict[str, list[str]] = defaultdict(list)
    for a, b in cables:
        around[a].append(b)
        around[b].append(a)
    best, fewest = layers, crossings(layers, cables)
    for sweep in range(_SWEEPS):
        if not fewest:
            break
        layers = _swept([list(layer) for layer in layers], around, downwards=sweep % 2 == 0)
        count = crossings(layers, cables)
        if count < fewest:
            best, fewest = layers, count
    found = {}
    for row, layer in enumerate(best):
        # Rows of one length are set off against each other, so that cables pass between boxes and not behind them.
        off = (0.25 if row % 2 else -0.25) if row and len(best[row - 1]) == len(layer) > 4 else 0.0
        for column, device in enumerate(layer):
            found[device] = ((column + 0.5 + off) / len(layer), float(-row))
    return found


def _swept(layers: list[list[str]], around: Mapping[str, list[str]], downwards: bool) -> list[list[str]]:
    """Order each layer by the mean place of its devices' neighbours in other layers, one layer after the other."""
    place = {d: (c + 0.5) / len(layer) for layer in layers for c, d in enumerate(layer)}
    row_of = {device: row for row, layer in enumerate(layers) for device in layer}
    order = range(len(layers)) if downwards else range(len(layers) - 1, -1, -1)
    for row in order:
        wanted = {}
        for device in layers[row]:
            others = [place[o] for o in around[device] if row_of[o] != row]
            beside = [place[o] for o in around[device] if row_of[o] == row and o != device]
            told = others * 2 + beside if others else beside
            wanted[device] = sum(told) / len(told) if told else place[device]
        layers[row].sort(key=lambda device: (wanted[device], device))
        for column, device in enumerate(layers[row]):
            place[device] = (column + 0.5) / len(layers[row])
    return layers
