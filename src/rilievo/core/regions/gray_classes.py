"""Classes of gray values from the full histogram: Ward's tree, and least-squares classes.

In one dimension only neighbours merge, so that 65 536 levels take milliseconds; no pixel is
compared with another.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from rilievo.core.image.histogram import Histogram

Way = Literal["ward", "least_squares"]
MOST_CLASSES = 8
Floats = NDArray[np.float64]


@dataclass(frozen=True, eq=False)
class Tree:
    """The last merges of Ward's agglomeration, by which the classes are made.

    borders : values between which the top branches lie, ascending: a branch i reaches from
    borders[i − 1] to borders[i]. heights : cost of taking each border away, so that the k − 1
    costliest part k classes. total : sum of squares of the whole histogram.
    """

    borders: Floats
    heights: Floats
    total: float

    @cached_property
    def top(self) -> tuple[Floats, Floats]:
        """Borders and heights of the last merges, the costliest first; at most 7."""
        order = np.argsort(-self.heights, kind="stable")[: MOST_CLASSES - 1]
        return self.borders[order], self.heights[order]

    def cuts(self, k: int) -> Floats:
        """Return the k − 1 levels between the classes, or fewer where values run out."""
        return np.sort(self.top[0][: k - 1])


def ward_tree(histogram: Histogram) -> Tree:
    """Return Ward's tree over the bins of a histogram, exact at full resolution.

        cost of merging a and b = n_a · n_b / (n_a + n_b) · (m_a − m_b)²

    Neighbours of least cost merge first, the lower ones on a tie.
    Source: Ward 1963, Journal of the American Statistical Association 58, 236–244.
    """
    from rilievo.core.regions.class_kernels import ward_heights  # noqa: PLC0415 (compiled on first use)

    values, counts, edges = _levels(histogram)
    if values.size < 2:
        return Tree(np.zeros(0), np.zeros(0), 0.0)
    heights = ward_heights(values, counts)
    middle = float(np.average(values, weights=counts))
    total = float((counts * (values - middle) ** 2).sum()) * histogram.width**2
    return Tree(edges, heights * histogram.width**2, total)


def least_squares_cuts(histogram: Histogram, k: int) -> Floats:
    """Return the k − 1 levels between the classes of least total squared deviation.

    Source: Fisher 1958, Journal of the American Statistical Association 53, 789–798.
    """
    from rilievo.core.regions.class_kernels import least_squares_borders  # noqa: PLC0415

    values, counts, edges = _levels(histogram)
    if values.size < 2:
        return np.zeros(0)
    return np.asarray(edges[least_squares_borders(values, counts, min(k, values.size))])


def class_cuts(histogram: Histogram, k: int, by: Way) -> Floats:
    """Return the levels between k classes, ascending; a value equal to a cut is below it."""
    return ward_tree(histogram).cuts(k) if by == "ward" else least_squares_cuts(histogram, k)


def _levels(histogram: Histogram) -> tuple[Floats, Floats, Floats]:
    """Bin numbers that occur, about their middle; counts; and the level between each two."""
    some, counts = histogram.bins, histogram.counts.astype(np.float64)
    # A cut between two bins lies in the middle of the empty stretch between them.
    offset = 0.0 if histogram.levels else 0.5
    middles = (some[:-1] + some[1:]) / 2 + offset
    edges = histogram.first + middles * histogram.width
    centre = float(some.mean()) if some.size else 0.0
    return np.asarray(some - centre, np.float64), counts, np.asarray(edges, np.float64)


@dataclass(frozen=True)
class ClassSummary:
    """One class: number from 1, values it holds, and how much of the picture it is."""

    number: int
    lower: float
    upper: float
    mean: float
    share: float
    pixels: int


def class_summaries(histogram: Histogram, cuts: Floats) -> list[ClassSummary]:
    """Return mean, share and area of the classes between the cuts, to a bin."""
    values, counts = histogram.values, histogram.counts
    index = np.searchsorted(cuts, values, side="left")
    summaries = []
    total = max(histogram.total, 1)
    for number in range(cuts.size + 1):
        inside = (index == number) & (counts > 0)
        pixels = int(counts[inside].sum())
        mean = float(np.average(values[inside], weights=counts[inside])) if pixels else math.nan
        lower = float(values[inside].min()) if pixels else math.nan
        upper = float(values[inside].max()) if pixels else math.nan
        summaries.append(ClassSummary(number + 1, lower, upper, mean, pixels / total, pixels))
    return summaries
