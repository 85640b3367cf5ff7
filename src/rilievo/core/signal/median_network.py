"""Sorting networks for medians of a square, as a list of minima and maxima of whole rows.

The columns of the square are sorted, neighbours are merged to pairs, pairs to fours, and so on;
what a merge yields at one column serves all squares that hold it. Minima and maxima on which the
wanted values do not depend are left out.
Sources: Batcher 1968, AFIPS Spring Joint Computer Conference 32, 307–314 (merging); Adams 2021,
ACM Transactions on Graphics 40(4), 70 (separable networks for medians).
"""

from __future__ import annotations

import functools
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Literal, NamedTuple

import numpy as np
from numpy.typing import NDArray

# Above this side ranks are faster (`median_by_rank`).
LARGEST = 9

MINIMUM, MAXIMUM, BOTH = 0, 1, 2


class Wire(NamedTuple):
    """A value for every square: the node that yields it, at so many columns further right."""

    node: int
    shift: int


class Node(NamedTuple):
    """A row of the image (`first` is which), or the minimum or maximum of two wires."""

    kind: Literal["row", "min", "max"]
    first: Wire
    second: Wire


@dataclass(frozen=True, eq=False)
class Program:
    """What `run_network` does.

    operations : shape (n, 7), int32: kind, register and shift of the first and of the second, and
    the registers of the results (−1 for none). The first `size` registers hold the rows.
    results : register and shift of each wanted value, shape (wanted, 2).
    """

    operations: NDArray[np.int32]
    registers: int
    results: NDArray[np.int64]


@functools.cache
def median_program(size: int, around: bool) -> Program:
    """Return the network for the median of size × size values; size is odd.

    around : whether the values just below and above the median are wanted too, in that order:
    below, median, above.
    """
    net = _Network(size)
    middle = size * size // 2
    ordered = net.ordered()
    results = [ordered[middle + k] for k in ((-1, 0, 1) if around else (0,))]
    return net.program(results)


def merged(
    a: Sequence[Wire], b: Sequence[Wire], compare: Callable[[Wire, Wire], tuple[Wire, Wire]]
) -> list[Wire]:
    """Return two ordered lists as one, by Batcher's odd–even merge."""
    if not a or not b:
        return list(a or b)
    if len(a) == len(b) == 1:
        return list(compare(a[0], b[0]))
    even, odd = merged(a[::2], b[::2], compare), merged(a[1::2], b[1::2], compare)
    result = [even[0]]
    for k in range(max(len(odd), len(even) - 1)):
        if k >= len(odd):
            result.append(even[k + 1])
        elif k + 1 >= len(even):
            result.append(odd[k])
        else:
            result.extend(compare(odd[k], even[k + 1]))
    return result


class _Network:
    """Nodes as they are wanted, each only once."""

    def __init__(self, size: int) -> None:
        self._size = size
        self._nodes: list[Node] = []
        self._known: dict[Node, int] = {}
        self._rows = [self._wire(Node("row", Wire(k, 0), Wire(k, 0))) for k in range(size)]

    def ordered(self) -> list[Wire]:
        """Return all values of the square in order."""
        bands = {1: self._sorted(self._rows)}
        width = 1
        while 2 * width <= self._size:
            right = [Wire(wire.node, wire.shift + width) for wire in bands[width]]
            bands[2 * width] = merged(bands[width], right, self._compared)
            width *= 2
        result: list[Wire] = []
        at = 0
        for width in sorted(bands, reverse=True):
            if self._size - at >= width:
                band = [Wire(wire.node, wire.shift + at) for wire in bands[width]]
                result = merged(result, band, self._compared)
                at += width
        return result

    def program(self, wanted: Sequence[Wire]) -> Program:
        """Return the operations that the wanted values depend on."""
        steps = self._steps(self._needed(wanted))
        last_use: dict[int, int] = {}
        for k, (first, second, *_) in enumerate(steps):
            last_use[first.node] = last_use[second.node] = k
        last_use |= {wire.node: len(steps) for wire in wanted}
        register = {k: k for k in range(self._size)}
        free: list[int] = []
        count = self._size
        operations = []
        for k, (first, second, kind, *results) in enumerate(steps):
            for node in results:
                if free:
                    register[node] = free.pop()
                else:
                    register[node], count = count, count + 1
            places = [register[node] for node in results] + [-1] * (2 - len(results))
            operations.append([kind, register[first.node], first.shift,
                               register[second.node], second.shift, *places])  # fmt: skip
            free += [register[n] for n in {first.node, second.node} if last_use[n] == k]
        found = [(register[wire.node], wire.shift) for wire in wanted]
        return Program(np.array(operations, np.int32), count, np.array(found, np.int64))

    def _wire(self, node: Node) -> Wire:
        if node not in self._known:
            self._known[node] = len(self._nodes)
            self._nodes.append(node)
        return Wire(self._known[node], 0)

    def _compared(self, a: Wire, b: Wire) -> tuple[Wire, Wire]:
        """The smaller and the larger; the same node wherever the two are as far apart."""
        shift = min(a.shift, b.shift)
        first, second = Wire(a.node, a.shift - shift), Wire(b.node, b.shift - shift)
        low, high = self._wire(Node("min", first, second)), self._wire(Node("max", first, second))
        return Wire(low.node, shift), Wire(high.node, shift)

    def _sorted(self, wires: Sequence[Wire]) -> list[Wire]:
        if len(wires) == 1:
            return list(wires)
        half = len(wires) // 2
        return merged(self._sorted(wires[:half]), self._sorted(wires[half:]), self._compared)

    def _needed(self, wanted: Sequence[Wire]) -> set[int]:
        needed: set[int] = set()
        waiting = [wire.node for wire in wanted]
        while waiting:
            number = waiting.pop()
            if number in needed:
                continue
            needed.add(number)
            node = self._nodes[number]
            if node.kind != "row":
                waiting += [node.first.node, node.second.node]
        return needed

    def _steps(self, needed: set[int]) -> list[tuple[Wire, Wire, int, *tuple[int, ...]]]:
        """Minimum and maximum of the same two as one step."""
        steps: list[tuple[Wire, Wire, int, *tuple[int, ...]]] = []
        for number in sorted(needed):
            kind, first, second = self._nodes[number]
            if kind == "row":
                continue
            if kind == "min":
                larger = self._known[Node("max", first, second)]
                if larger in needed:
                    steps.append((first, second, BOTH, number, larger))
                else:
                    steps.append((first, second, MINIMUM, number))
            elif self._known[Node("min", first, second)] not in needed:
                steps.append((first, second, MAXIMUM, number))
        return steps
