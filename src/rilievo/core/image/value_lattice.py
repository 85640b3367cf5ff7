"""The lattice that values lie on by themselves: whole numbers kept as floats, multiplied, shifted.

A histogram of such values has one bin a level, however they are stored.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from rilievo.core.image.image import Lattice

# Values that are this many rounding errors off a lattice point still lie on it.
_ROUNDINGS = 1.0
# Below so many rounding errors a spacing is the floats' own.
_FINEST = 16.0
_LEVELS = 1 << 20
_PIECE = 1 << 19
_ROUNDS = 3


def joined_spacing(numbers: NDArray[np.int64]) -> int:
    """Return the greatest common divisor of the distances between whole numbers; 1 for none."""
    if numbers.size < 2:
        return 1
    return int(np.gcd.reduce(np.diff(numbers))) or 1


def own_lattice(finite: NDArray[Any], few: NDArray[Any], low: float) -> Lattice | None:
    """Return the lattice on which all of `finite` lie, its origin at `low`; None for none.

    finite : floats, shape (n,). few : some of them, ascending; low : the least of all. A spacing
    is the greatest common divisor of the distances between values, up to their rounding.
    """
    largest = max(abs(low), float(np.abs(few[[0, -1]]).max()))
    tolerance = _ROUNDINGS * float(np.finfo(finite.dtype).eps) * largest
    levels = np.unique(np.append(few, finite.dtype.type(low)))
    for _ in range(_ROUNDS):
        spacing = _spacing(levels.astype(np.float64), tolerance)
        if spacing is None:
            return None
        off = _first_off(finite, low, spacing, tolerance)
        if off.size == 0:
            return Lattice(low, spacing)
        levels = np.unique(np.concatenate([levels, off]))
    return None


def _spacing(levels: NDArray[np.float64], tolerance: float) -> float | None:
    """The greatest common divisor of the distances between sorted values, up to a tolerance."""
    away = levels - levels[0]
    if bool((levels == np.rint(levels)).all()) and float(np.abs(levels).max()) < 2.0**53:
        return float(joined_spacing(levels.astype(np.int64)))
    gaps = np.diff(levels)
    gaps = gaps[gaps > tolerance]
    if gaps.size == 0 or float(gaps.min()) < _FINEST * tolerance:
        return None
    spacing = float(gaps.min())
    # Euclid's algorithm on the gaps; each remainder above the rounding is a smaller spacing.
    for _ in range(64):
        steps = np.rint(gaps / spacing)
        rest = np.abs(gaps - steps * spacing)
        # The error of the spacing counts once a step.
        off = rest > np.minimum(2 * tolerance * (1 + steps), spacing / 4)
        if not off.any():
            break
        spacing = float(rest[off].min())
        if spacing < _FINEST * tolerance:
            return None
    # A longer stretch tells the spacing to more digits, once it tells the number of steps.
    reach = 8 * spacing
    while True:
        inside = away[away <= reach]
        steps = np.rint(inside[-1] / spacing)
        if steps > 0:
            spacing = float(inside[-1] / steps)
        if reach >= away[-1]:
            break
        reach *= 8
    if away[-1] / spacing > _LEVELS:
        return None
    return spacing


def _first_off(finite: NDArray[Any], low: float, spacing: float, tolerance: float) -> NDArray[Any]:
    """The values off the lattice in the first stretch that has any."""
    allowed = max(4 * tolerance, 1e-12 * spacing)
    for start in range(0, finite.size, _PIECE):
        piece = finite[start : start + _PIECE].astype(np.float64) - low
        piece -= np.rint(piece / spacing) * spacing
        off = np.abs(piece) > allowed
        if off.any():
            values_off = finite[start : start + _PIECE][off]
            return np.asarray(values_off[: 1 << 14])
    return finite[:0]
