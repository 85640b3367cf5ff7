"""The same stars in two pictures: a fitted shift, rotation and scale.

Brightness orders the candidates, distances between pairs propose transformations, and the one
under which most stars meet is refined by least squares. Pictures need not be aligned.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]

_BRIGHTEST = 30
_FEWEST = 3
_LARGEST_SCALE = 1.25


@dataclass(frozen=True, eq=False)
class Match:
    """Which stars of one list are which of another.

    own, other : indices in the two lists, pair by pair. a, b, dx, dy : the transformation of the
    other's positions to the own: x' = a·x − b·y + dx, y' = b·x + a·y + dy.
    """

    own: NDArray[np.intp]
    other: NDArray[np.intp]
    a: float
    b: float
    dx: float
    dy: float

    @property
    def scale(self) -> float:
        """How much larger the other picture must be made."""
        return float(np.hypot(self.a, self.b))

    @property
    def rotation(self) -> float:
        """By how many degrees it is turned, from +x towards +y."""
        return float(np.degrees(np.arctan2(self.b, self.a)))


def moved(positions: Floats, a: float, b: float, dx: float, dy: float) -> Floats:
    """Return positions of shape (n, 2) under a shift, rotation and scale."""
    x, y = positions[:, 0], positions[:, 1]
    return np.column_stack([a * x - b * y + dx, b * x + a * y + dy])


def match_stars(
    reference: Floats,
    reference_light: Floats,
    other: Floats,
    other_light: Floats,
    tolerance: float = 3.0,
) -> Match | None:
    """Return which stars are the same; None where fewer than three meet.

    reference, other : positions, shape (n, 2). reference_light, other_light : brightness, to
    choose by. tolerance : how far apart two positions of a star may be, pixels.
    """
    from scipy.spatial import KDTree  # noqa: PLC0415 (slow to import)

    if min(len(reference), len(other)) < _FEWEST:
        return None
    mine = reference[np.argsort(-reference_light)[:_BRIGHTEST]]
    theirs = other[np.argsort(-other_light)[:_BRIGHTEST]]
    tree, bright = KDTree(reference), KDTree(mine)
    best, most = None, 0
    for candidate in _candidates(mine, theirs, tolerance):
        away, _ = bright.query(moved(theirs, *candidate), distance_upper_bound=tolerance)
        meet = int(np.isfinite(away).sum())
        if meet > most:
            best, most = candidate, meet
    if best is None or most < _FEWEST:
        return None
    for _ in range(5):
        away, nearest = tree.query(moved(other, *best), distance_upper_bound=tolerance)
        pairs = _nearest_only(away, nearest)
        if len(pairs) < _FEWEST:
            return None
        best = _least_squares(reference[nearest[pairs]], other[pairs])
    away, nearest = tree.query(moved(other, *best), distance_upper_bound=tolerance)
    pairs = _nearest_only(away, nearest)
    return Match(nearest[pairs], pairs, *best) if len(pairs) >= _FEWEST else None


def _candidates(
    mine: Floats, theirs: Floats, tolerance: float
) -> list[tuple[float, float, float, float]]:
    """Transformations that carry a pair of bright stars to a pair, most supported first.

    Each pair of pairs votes for a rotation and a scale; the shifts follow.
    """
    pairs_own, vectors_own = _pairs(mine)
    pairs_other, vectors_other = _pairs(theirs)
    ratio = vectors_own[:, None] / vectors_other[None, :]
    long_enough = np.abs(vectors_other) > 10 * tolerance
    scale = np.abs(ratio)
    fits = (scale < _LARGEST_SCALE) & (scale > 1 / _LARGEST_SCALE) & long_enough[None, :]
    i, j = np.nonzero(fits)
    turned = ratio[i, j]
    start_own = mine[pairs_own[i, 0]] @ np.array([1, 1j])
    start_other = theirs[pairs_other[j, 0]] @ np.array([1, 1j])
    shift = start_own - turned * start_other
    # Votes on a coarse grid of rotation, scale and where the middle of the picture goes.
    middle = theirs.mean(axis=0) @ np.array([1, 1j])
    goes = shift + turned * middle
    cells = np.column_stack(
        [
            np.rint(np.degrees(np.angle(turned)) / 0.5),
            np.rint(np.log(np.abs(turned)) / 0.01),
            np.rint(goes.real / (2 * tolerance)),
            np.rint(goes.imag / (2 * tolerance)),
        ]
    ).astype(np.int64)
    if not len(cells):
        return []
    _, first, counts = np.unique(cells, axis=0, return_index=True, return_counts=True)
    order = np.argsort(-counts, kind="stable")[:60]
    return [
        (
            float(turned[k].real),
            float(turned[k].imag),
            float(shift[k].real),
            float(shift[k].imag),
        )
        for k in first[order]
    ]


def _pairs(positions: Floats) -> tuple[NDArray[np.intp], NDArray[np.complex128]]:
    """All ordered pairs of different indices, and the way from the first to the second."""
    first, second = np.nonzero(~np.eye(len(positions), dtype=np.bool_))
    ways = (positions[second] - positions[first]) @ np.array([1, 1j])
    return np.column_stack([first, second]), ways


def _nearest_only(away: Floats, nearest: NDArray[np.intp]) -> NDArray[np.intp]:
    """Of the stars that meet the same one, the nearest."""
    order = np.argsort(away, kind="stable")
    order = order[np.isfinite(away[order])]
    _, first = np.unique(nearest[order], return_index=True)
    return np.sort(order[first])


def _least_squares(reference: Floats, other: Floats) -> tuple[float, float, float, float]:
    """The shift, rotation and scale with the least squared distances."""
    z, w = reference @ np.array([1, 1j]), other @ np.array([1, 1j])
    zc, wc = z - z.mean(), w - w.mean()
    turn = np.vdot(wc, zc) / np.vdot(wc, wc)
    shift = z.mean() - turn * w.mean()
    return float(turn.real), float(turn.imag), float(shift.real), float(shift.imag)
