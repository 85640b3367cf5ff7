"""Regions of two measurers, matched by how much they have in common."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

# Two regions of one measurer cannot both share more than half with one of the other.
MATCHED_FROM = 0.5


@dataclass(frozen=True, eq=False)
class Matching:
    """Which regions are the same.

    first, second : numbers of matched regions, in pairs. overlap : pixels of both over pixels of
    either, of each pair. only_first, only_second : regions without a partner.
    """

    first: NDArray[np.int64]
    second: NDArray[np.int64]
    overlap: NDArray[np.float64]
    only_first: NDArray[np.int64]
    only_second: NDArray[np.int64]

    @property
    def score(self) -> float:
        """Regions that have a partner, as a share of all: 2·pairs / (both counts); NaN of none."""
        total = 2 * self.first.size + self.only_first.size + self.only_second.size
        return 2 * self.first.size / total if total else float("nan")


def match_regions(
    first: NDArray[np.int32], second: NDArray[np.int32], least: float = MATCHED_FROM
) -> Matching:
    """Return the regions of two label images that are the same.

    first, second : shape (height, width), regions above 0. least : from which overlap (intersection
    over union, Jaccard 1901) on two regions are one; above a half the partner is unique, below it
    the larger overlap is taken first. Raises ValueError for images of different sizes.
    """
    if first.shape != second.shape:
        raise ValueError(f"shapes differ: {first.shape} and {second.shape}")
    ids, areas = _areas(first)
    other_ids, other_areas = _areas(second)
    both = (first > 0) & (second > 0)
    # Both numbers in one, so that they are sorted as numbers, not as pairs.
    codes, shared = np.unique(first[both].astype(np.int64) << 32 | second[both], return_counts=True)
    pairs = np.stack([codes >> 32, codes & 0xFFFFFFFF], axis=1)
    a = areas[np.searchsorted(ids, pairs[:, 0])]
    b = other_areas[np.searchsorted(other_ids, pairs[:, 1])]
    overlap = shared / (a + b - shared)
    taken, other_taken = set[int](), set[int]()
    matched = []
    for k in np.argsort(-overlap, kind="stable").tolist():
        first_number, other = (int(number) for number in pairs[k])
        if overlap[k] < least or first_number in taken or other in other_taken:
            continue
        taken.add(first_number)
        other_taken.add(other)
        matched.append(k)
    matched.sort()
    return Matching(
        pairs[matched, 0],
        pairs[matched, 1],
        overlap[matched],
        np.array([i for i in ids.tolist() if i not in taken], np.int64),
        np.array([i for i in other_ids.tolist() if i not in other_taken], np.int64),
    )


def _areas(labels: NDArray[np.int32]) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    ids, areas = np.unique(labels[labels > 0], return_counts=True)
    return ids.astype(np.int64), areas.astype(np.int64)
