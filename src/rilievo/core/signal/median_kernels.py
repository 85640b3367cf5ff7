"""Compiled loops for medians: networks over whole rows, ranks for wide squares, single squares.

Each releases the interpreter lock.
"""
# numba compiles these functions; their arguments are typed by what they are called with.
# mypy: disable-error-code="untyped-decorator,misc"

from __future__ import annotations

from typing import Any

import numba
import numpy as np
from numpy.typing import NDArray

from rilievo.core.rank_kernels import selected

# So many columns are worked on together: all registers of a 5 × 5 network fit the first cache.
_ACROSS = 320
_MINIMUM, _MAXIMUM = 0, 1


@numba.njit(nogil=True, cache=True, fastmath={"nnan", "nsz"})
def run_network(
    padded: NDArray[Any],
    size: int,
    operations: NDArray[np.int32],
    registers: int,
    wanted: NDArray[np.int64],
    results: NDArray[Any],
) -> None:
    """Write the wanted values of the size × size square around each position.

    padded : rows and columns of a result and size // 2 more on all sides, without NaN.
    operations, registers, wanted : a `median_network.Program`. results : shape (wanted, height,
    width).
    """
    rows, columns = results.shape[1:]
    table = np.zeros((registers, _ACROSS + 2 * size), padded.dtype)
    for y in range(rows):
        for left in range(0, columns, _ACROSS):
            width = min(_ACROSS, columns - left)
            length = width + size - 1
            for k in range(size):
                table[k, :length] = padded[y + k, left : left + length]
            for k in range(operations.shape[0]):
                kind, first, second = operations[k, 0], operations[k, 1], operations[k, 3]
                a = table[first, operations[k, 2] : operations[k, 2] + length]
                b = table[second, operations[k, 4] : operations[k, 4] + length]
                into = table[operations[k, 5], :length]
                if kind == _MINIMUM:
                    for x in range(length):
                        into[x] = a[x] if a[x] < b[x] else b[x]
                elif kind == _MAXIMUM:
                    for x in range(length):
                        into[x] = b[x] if a[x] < b[x] else a[x]
                else:
                    high = table[operations[k, 6], :length]
                    for x in range(length):
                        one, other = a[x], b[x]
                        into[x] = one if one < other else other
                        high[x] = other if one < other else one
            for k in range(wanted.shape[0]):
                shift = wanted[k, 1]
                line = table[wanted[k, 0], shift : shift + width]
                results[k, y, left : left + width] = line


@numba.njit(nogil=True, cache=True)
def median_by_rank(
    ranks: NDArray[np.int32], values: NDArray[Any], size: int, result: NDArray[Any]
) -> None:
    """Write the median of the size × size values around each position from their ranks.

    ranks : shape of `result` and size // 2 more on all sides; each defined pixel has a rank of
    its own from 0, undefined ones −1. values : in order of rank. A square without a defined value
    gives NaN.

    A square is a set of bits, one for each rank, that follows it down and up the columns; what
    is known of it is how many bits lie in the words before the one that holds the median.
    Source of following the square: Huang, Yang & Tang 1979, IEEE Transactions on Acoustics,
    Speech and Signal Processing 27, 13–18.
    """
    rows, columns = result.shape
    words = np.zeros(values.shape[0] // 64 + 1, np.uint64)
    counts = np.zeros(words.shape[0], np.int32)
    # The word that was looked at last, how many bits lie before it, and how many there are.
    at = before = total = 0
    for y in range(size):
        for x in range(size):
            total += _flip(ranks[y, x], 1, words, counts)
    step = 1
    y = 0
    for x in range(columns):
        if x > 0:
            for k in range(y, y + size):
                leaves, enters = ranks[k, x - 1], ranks[k, x + size - 1]
                total += _flip(enters, 1, words, counts) - _flip(leaves, -1, words, counts)
                before += _lies_before(enters, at) - _lies_before(leaves, at)
        while True:
            value = np.nan
            if total > 0:
                wanted = total // 2
                at, before = _word_with(wanted, at, before, counts)
                value = values[at * 64 + _position(words[at], wanted - before)]
                if total % 2 == 0:
                    high = value
                    at, before = _word_with(wanted - 1, at, before, counts)
                    low = values[at * 64 + _position(words[at], wanted - 1 - before)]
                    value = low + (high - low) / 2
            result[y, x] = value
            follows = y + step
            if follows < 0 or follows >= rows:
                break
            gone = ranks[y if step > 0 else y + size - 1, x : x + size]
            come = ranks[y + size if step > 0 else y - 1, x : x + size]
            for k in range(size):
                leaves, enters = gone[k], come[k]
                total += _flip(enters, 1, words, counts) - _flip(leaves, -1, words, counts)
                before += _lies_before(enters, at) - _lies_before(leaves, at)
            y = follows
        step = -step


@numba.njit(nogil=True, cache=True, inline="always")
def _flip(rank: int, sign: int, words: Any, counts: Any) -> int:
    """Put a rank into the set (sign 1) or take it out (−1); return whether it is one."""
    if rank < 0:
        return 0
    word = rank >> 6
    words[word] ^= np.uint64(1) << np.uint64(rank & 63)
    counts[word] += sign
    return 1


@numba.njit(nogil=True, cache=True, inline="always")
def _lies_before(rank: int, at: int) -> int:
    return int(rank >= 0) & int(rank >> 6 < at)


@numba.njit(nogil=True, cache=True, inline="always")
def _word_with(wanted: int, at: int, before: int, counts: Any) -> tuple[int, int]:
    """Return the word that holds the bit with `wanted` others before it, and how many are before
    that word; `at` and `before` are where the search begins.
    """
    while before > wanted:
        at -= 1
        before -= counts[at]
    while before + counts[at] <= wanted:
        before += counts[at]
        at += 1
    return at, before


@numba.njit(nogil=True, cache=True, inline="always")
def _position(word: Any, wanted: int) -> int:
    """Return the position of the bit of a word that has `wanted` others before it."""
    for _ in range(wanted):
        word &= word - np.uint64(1)
    lowest = word & (~word + np.uint64(1))
    position = 0
    for width in (32, 16, 8, 4, 2, 1):
        if lowest >> np.uint64(width) != 0:
            lowest >>= np.uint64(width)
            position += width
    return position


@numba.njit(nogil=True, cache=True)
def medians_at(
    padded: NDArray[Any],
    rows: NDArray[np.intp],
    columns: NDArray[np.intp],
    size: int,
    with_centre: bool,
    deviations: bool,
    result: NDArray[Any],
) -> None:
    """Write the medians of the size × size values around single positions, without NaN.

    deviations : the median absolute deviations from these medians instead.
    """
    window = np.empty(size * size, padded.dtype)
    for k in range(rows.shape[0]):
        count = _gathered(padded, rows[k], columns[k], size, with_centre, window)
        middle = _middle(window, count)
        if deviations:
            for n in range(count):
                window[n] = abs(window[n] - middle)
            middle = _middle(window, count)
        result[k] = middle


@numba.njit(nogil=True, cache=True)
def _gathered(
    padded: NDArray[Any], y: int, x: int, size: int, with_centre: bool, window: NDArray[Any]
) -> int:
    """Put the defined values around a position into `window`; return how many there are."""
    count = 0
    for dy in range(size):
        for dx in range(size):
            value = padded[y + dy, x + dx]
            if not np.isnan(value) and (with_centre or dy != size // 2 or dx != size // 2):
                window[count] = value
                count += 1
    return count


@numba.njit(nogil=True, cache=True)
def _middle(window: NDArray[Any], count: int) -> Any:
    """Return the median of the first `count` values; NaN for none. Changes their order."""
    if count == 0:
        return np.nan
    high = selected(window, count, count // 2)
    if count % 2 == 1:
        return high
    low = window[0]
    for k in range(1, count // 2):
        low = max(low, window[k])
    return low + (high - low) / 2
