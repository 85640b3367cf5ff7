"""A label image as horizontal runs: far fewer than pixels, and enough for area and position."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray


@dataclass(frozen=True, eq=False)
class Runs:
    """Stretches of one label within a row, in row order; each array has one entry a run."""

    labels: NDArray[np.int32]
    rows: NDArray[np.int64]
    starts: NDArray[np.int64]
    lengths: NDArray[np.int64]

    def boxes(self, most: int) -> NDArray[np.int64]:
        """Return x, y, width, height for labels 0 … most, shape (most + 1, 4)."""
        far = np.iinfo(np.int64).max
        low = np.full((most + 1, 2), far)
        high = np.full((most + 1, 2), -1)
        for axis, first, last in (
            (0, self.starts, self.starts + self.lengths - 1),
            (1, self.rows, self.rows),
        ):
            np.minimum.at(low[:, axis], self.labels, first)
            np.maximum.at(high[:, axis], self.labels, last)
        return np.concatenate([low, high - low + 1], axis=1)


def runs_of(labels: NDArray[np.int32]) -> Runs:
    """Return the runs of labels above 0; `labels` has shape (height, width)."""
    height, width = labels.shape
    changes = np.ones((height, width), np.bool_)
    np.not_equal(labels[:, 1:], labels[:, :-1], out=changes[:, 1:])
    first = np.flatnonzero(changes)
    lengths = np.diff(first, append=labels.size)
    run_labels = labels.ravel()[first]
    inside = run_labels > 0
    rows, starts = np.divmod(first[inside], width)
    return Runs(run_labels[inside], rows, starts, lengths[inside])
