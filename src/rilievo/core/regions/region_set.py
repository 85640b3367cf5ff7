"""Numbered regions of one class, and the plain way to find them by one level.

Numbers are given in row order of each region's first pixel, before rejection by hand, so that
rejecting one region does not rename the others. Numbers of the class at index k of a method are
counted on from k · CLASS_STRIDE, so that a number names a region of a sample.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from rilievo.core.regions.label_map import LabelMap, Labels, Mask, relabelled
from rilievo.core.regions.pixel_runs import Runs, runs_of

CLASS_STRIDE = 10_000_000


def number_in_class(region: int) -> int:
    """Return the number under which a region is shown."""
    return region % CLASS_STRIDE


def class_index(region: int) -> int:
    """Return the index of a region's class in the method."""
    return region // CLASS_STRIDE


@dataclass(frozen=True)
class RegionAnnotation:
    """What is known of a region beside its pixels.

    parent : number of the region of another class to which it belongs; 0 for none.
    edit : what was done to it by hand, in words. drawn : index of its shape, and cell of a grid.
    """

    name: str = ""
    group: str = ""
    attributes: Mapping[str, str] = field(default_factory=dict)
    parent: int = 0
    edit: str = ""
    drawn: tuple[int, int | None] | None = None


NOTHING_KNOWN = RegionAnnotation()


@dataclass(frozen=True, eq=False)
class RegionSet:
    """Regions of one class in one sample.

    labels : shape (height, width), int32; 0 is outside, −k a region that was left out for
    `reasons[k − 1]`, other numbers name regions.
    ids : the region numbers, ascending; gaps are regions rejected by hand.
    boxes : shape (n, 4), x, y, width, height in pixels, in the order of `ids`.
    areas : pixels per region, in the order of `ids`.
    centres : shape (n, 2), centroid x, y, in the order of `ids`.
    threshold : the level that was applied, signal units; NaN for other ways.
    rejected : regions left out by hand. known : what is known of single regions.
    notes : what the user should know of how they were found.
    """

    labels: Labels
    ids: NDArray[np.int64]
    boxes: NDArray[np.int64]
    areas: NDArray[np.int64]
    centres: NDArray[np.float64]
    threshold: float
    rejected: int = 0
    reasons: tuple[str, ...] = ()
    known: Mapping[int, RegionAnnotation] = field(default_factory=dict)
    notes: tuple[str, ...] = ()

    @property
    def count(self) -> int:
        """Number of regions."""
        return int(self.ids.size)

    @property
    def dropped(self) -> int:
        """Number of regions that the clean-up left out."""
        return len(self.reasons) - self.rejected

    @property
    def nbytes(self) -> int:
        """Memory held."""
        return self.labels.nbytes + self.boxes.nbytes + self.areas.nbytes + self.centres.nbytes

    def facts(self, region: int) -> RegionAnnotation:
        """Return what is known of a region."""
        return self.known.get(region, NOTHING_KNOWN)

    def at(self, x: int, y: int) -> int:
        """Return the number of the region that covers a pixel; 0 for none or outside."""
        return max(self._label_at(x, y), 0)

    def reason_at(self, x: int, y: int) -> str:
        """Return why what covers a pixel was left out; empty for nothing left out there."""
        label = self._label_at(x, y)
        return self.reasons[-label - 1] if label < 0 else ""

    def _label_at(self, x: int, y: int) -> int:
        height, width = self.labels.shape
        if 0 <= x < width and 0 <= y < height:
            return int(self.labels[y, x])
        return 0

    def index_of(self, region: int) -> int | None:
        """Return the index of a region in `ids`; None for one that is not there."""
        k = int(np.searchsorted(self.ids, region))
        return k if k < self.count and int(self.ids[k]) == region else None

    def label_of(self, region: int) -> str:
        """Return the name of a region, or its number within the class."""
        return self.facts(region).name or str(number_in_class(region))

    def left_out_at(self, x: int, y: int) -> tuple[Mask, int, int] | None:
        """As `mask_of`, for what was left out and covers a pixel; None for nothing."""
        label = self._label_at(x, y)
        if label >= 0:
            return None
        rows, columns = np.nonzero(self.labels == label)
        left, top = int(columns.min()), int(rows.min())
        part = self.labels[top : int(rows.max()) + 1, left : int(columns.max()) + 1]
        return part == label, left, top

    def mask_of(self, region: int) -> tuple[Mask, int, int]:
        """Return the pixels of a region, with the position x, y of the mask's first pixel."""
        k = int(np.searchsorted(self.ids, region))
        x, y, width, height = (int(v) for v in self.boxes[k])
        return self.labels[y : y + height, x : x + width] == region, x, y


def held_at_or_below(level: float, dtype: np.dtype[Any]) -> Any:
    """Return the largest number of a type that is not above a level.

    Values of the type compare with it as with the level itself; rounding the level to the type
    could carry it over one of them.
    """
    edge = dtype.type(level)
    return np.nextafter(edge, dtype.type(-np.inf)) if float(edge) > level else edge


def kept_pixels(
    values: NDArray[np.floating[Any]], level: float, keep: Literal["bright", "dark"]
) -> Mask:
    """Return where values > level (bright) or ≤ level (dark); NaN is never kept.

    A NaN level keeps nothing.
    """
    edge = held_at_or_below(level, values.dtype)
    on_side = values > edge if keep == "bright" else values <= edge
    return np.asarray(on_side, dtype=np.bool_)


def numbered(
    label_map: LabelMap,
    level: float = float("nan"),
    *,
    class_at: int = 0,
    rejected: Mapping[int, str] | None = None,
    known: Mapping[int, RegionAnnotation] | None = None,
    notes: Sequence[str] = (),
) -> RegionSet:
    """Return regions with their final numbers and what is known of them.

    rejected : numbers from 1 that are left out by hand, with the reason. known : by number from 1.
    class_at : index of the class in its method.
    """
    labels, reasons = label_map.labels, label_map.reasons
    gone = sorted(rejected or {})
    if gone or class_at:
        numbers = np.arange(label_map.count + 1, dtype=np.int32) + class_at * CLASS_STRIDE
        numbers[0] = 0
        first = len(reasons)
        numbers[gone] = -np.arange(first + 1, first + len(gone) + 1, dtype=np.int32)
        labels = relabelled(labels, numbers, first)
        reasons = (*reasons, *((rejected or {})[k] for k in gone))
    shift = class_at * CLASS_STRIDE
    return replace(
        described(labels, shift),
        threshold=level,
        rejected=len(gone),
        reasons=reasons,
        known={k + shift: v for k, v in (known or {}).items() if k not in (rejected or {})},
        notes=tuple(notes),
    )


def described(labels: Labels, shift: int = 0) -> RegionSet:
    """Return the regions of a label image with their boxes, areas and centres.

    shift : is below every number, so that what is counted stays short.
    """
    runs = runs_of(labels)
    return _described(labels, replace(runs, labels=runs.labels - np.int32(shift)), shift)


def _described(labels: Labels, runs: Runs, shift: int) -> RegionSet:
    most = int(runs.labels.max()) if runs.labels.size else 0
    areas = np.bincount(runs.labels, weights=runs.lengths, minlength=most + 1)
    ids = np.flatnonzero(areas)
    areas = areas[ids]
    middle = runs.starts + (runs.lengths - 1) / 2
    centres = np.stack(
        [
            np.bincount(runs.labels, weights=runs.lengths * where, minlength=most + 1)[ids] / areas
            for where in (middle, runs.rows)
        ],
        axis=1,
    )
    boxes = runs.boxes(most)[ids]
    return RegionSet(labels, ids + shift, boxes, areas.astype(np.int64), centres, float("nan"))
