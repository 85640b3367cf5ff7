"""Regions while they are cleaned: a label image, and what was dropped with the reason."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np
from numpy.typing import NDArray

Labels = NDArray[np.int32]
Mask = NDArray[np.bool_]


@dataclass(frozen=True, eq=False)
class LabelMap:
    """Regions of one class before they get their final numbers.

    labels : shape (height, width), int32; 1 … count are regions, 0 is outside, −k is a region
    that was dropped for `reasons[k − 1]`.
    apart : whether touching regions were split, so that they must not be joined again.
    """

    labels: Labels
    count: int
    connectivity: Literal[4, 8] = 8
    reasons: tuple[str, ...] = ()
    apart: bool = False

    @classmethod
    def of(cls, mask: Mask, connectivity: Literal[4, 8]) -> LabelMap:
        """Return the connected parts of a mask, numbered in row order of their first pixels."""
        labels, count = connected(mask, connectivity)
        return cls(labels, count, connectivity)

    @property
    def mask(self) -> Mask:
        """Which pixels belong to a region."""
        return np.asarray(self.labels > 0)

    def with_labels(self, labels: Labels, *, apart: bool | None = None) -> LabelMap:
        """Return other regions with the same drops, connected and numbered anew.

        labels : as above; parts of one number that do not touch become regions of their own.
        """
        apart = self.apart if apart is None else apart
        numbered, count = connected(labels, self.connectivity, distinct=apart)
        return replace(self, labels=numbered, count=count, apart=apart)

    def without(self, dropped: NDArray[np.int64], reasons: Sequence[str]) -> LabelMap:
        """Return the regions without some, for a reason each."""
        if dropped.size == 0:
            return self
        numbers = np.zeros(self.count + 1, np.int32)
        remains = np.ones(self.count + 1, np.bool_)
        remains[dropped] = False
        remains[0] = False
        left = int(np.count_nonzero(remains))
        numbers[remains] = np.arange(1, left + 1, dtype=np.int32)
        first = len(self.reasons) + 1
        numbers[dropped] = -np.arange(first, first + dropped.size, dtype=np.int32)
        labels = relabelled(self.labels, numbers, len(self.reasons))
        return replace(self, labels=labels, count=left, reasons=(*self.reasons, *reasons))


def relabelled(labels: Labels, numbers: NDArray[np.int32], dropped: int) -> Labels:
    """Return the labels with k called numbers[k]; the `dropped` ones below 0 stay as they are."""
    # Numbers below 0 count back from the end of the table.
    before = -np.arange(dropped, 0, -1, dtype=np.int32)
    return np.asarray(np.concatenate([numbers, before])[labels])


def connected(
    classes: NDArray[np.integer] | Mask, connectivity: Literal[4, 8], *, distinct: bool = False
) -> tuple[Labels, int]:
    """Return the connected parts of what is above 0, numbered from 1 in row order; their number.

    distinct : whether only pixels of equal number connect. Numbers below 0 are taken over.
    """
    from rilievo.core.regions.region_kernels import connect  # noqa: PLC0415 (compiled on first use)

    labels = np.zeros(classes.shape, np.int32)
    whole = classes.view(np.uint8) if classes.dtype == np.bool_ else classes
    count = connect(np.ascontiguousarray(whole), connectivity == 8, distinct, labels)
    return labels, int(count)
