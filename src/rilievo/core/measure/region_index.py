"""Which pixels belong to which region, grouped once and shared by the channels."""

from __future__ import annotations

from collections.abc import Iterator
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from rilievo.core.regions.region_set import RegionSet
from rilievo.core.tiled_map import in_pieces

Floats = NDArray[np.float64]

# About so many pixels are worked on together.
_TOGETHER = 1 << 18
_BAND = 256


class RegionIndex:
    """Which pixels belong to which region.

    ids : region numbers, ascending, shape (n,).
    pixels : flat pixel positions, grouped by region, row order within each.
    starts : where the pixels of each region begin, and the end; shape (n + 1,).
    """

    def __init__(self, labels: NDArray[np.int32], ids: NDArray[np.int64]) -> None:
        from rilievo.core.measure.measure_kernels import positions_of  # noqa: PLC0415 (compiled)

        self.shape = (labels.shape[0], labels.shape[1])
        self.ids = ids
        self.labels = labels
        first = int(ids[0]) if ids.size else 0
        positions = np.full(int(ids[-1]) - first + 1 if ids.size else 0, -1, np.int32)
        positions[ids - first] = np.arange(ids.size)
        flat = np.ascontiguousarray(labels, np.int32).ravel()
        self.pixels, self.starts = positions_of(flat, positions, first, ids.size)
        self.areas = np.diff(self.starts)
        self._rings: dict[tuple[float, float, float], RegionIndex] = {}
        self._forms: dict[float, dict[str, Floats]] = {}

    @classmethod
    def of(cls, regions: RegionSet) -> RegionIndex:
        """Return the index of a region set."""
        return cls(regions.labels, regions.ids)

    @property
    def count(self) -> int:
        """Number of regions."""
        return int(self.ids.size)

    @cached_property
    def form(self) -> dict[str, Floats]:
        """Place, second moments, outline and hull of each region, by name, in pixels."""
        return self._form_of(1.0)

    def form_in(self, sides: tuple[float, float]) -> dict[str, Floats]:
        """Return the form where pixels are so wide and high; places stay in pixels."""
        width, height = sides
        aspect = height / width
        if aspect not in self._forms:
            self._forms[aspect] = self.form if aspect == 1.0 else self._form_of(aspect)
        found = dict(self._forms[aspect])
        for name in ("perimeter", "longest", "narrowest"):
            found[name] = found[name] * width
        found["convex"] = found["convex"] * width**2
        found["xx"], found["yy"] = found["xx"] * width**2, found["yy"] * height**2
        found["xy"] = found["xy"] * width * height
        return found

    def _form_of(self, aspect: float) -> dict[str, Floats]:
        from rilievo.core.measure.shape_kernels import FORM, form_of  # noqa: PLC0415 (compiled)

        height, width = self.shape
        parts = in_pieces(
            lambda some: form_of(self.pixels, self.starts[some], height, width, aspect, 1.0),
            [np.append(some, some[-1] + 1) for some in self.together()],
            values=self.pixels.size,
        )
        found = np.concatenate(parts) if parts else np.zeros((0, len(FORM)))
        return dict(zip(FORM, found.T, strict=True))

    @cached_property
    def parts(self) -> NDArray[np.int64]:
        """How many parts, connected by 8 neighbours, each region has."""
        from rilievo.core.measure.shape_kernels import parts_of  # noqa: PLC0415 (compiled)

        found = in_pieces(
            lambda some: parts_of(self.pixels, self.starts[some[0] : some[-1] + 2], self.shape[1]),
            self.together(),
            values=self.pixels.size,
        )
        return np.concatenate(found) if found else np.zeros(0, np.int64)

    def together(self) -> Iterator[NDArray[np.int64]]:
        """Yield indices of regions that are worked on together."""
        first = 0
        while first < self.count:
            until = self.starts[first] + _TOGETHER
            end = max(int(np.searchsorted(self.starts, until)), first + 1)
            end = min(end, self.count)
            yield np.arange(first, end)
            first = end

    def ring(self, gap: float, width: float, aspect: float = 1.0) -> RegionIndex:
        """Return the rings around the regions: farther than `gap`, up to `gap + width` pixels.

        aspect : height over width of a pixel; gap and width are in widths. A pixel belongs to the
        nearest region; pixels of any region, kept or not, to none.
        """
        key = (gap, width, aspect)
        if self.pixels.size == self.labels.size:
            # Around a whole plane is nothing; finding that out takes long.
            return RegionIndex(np.zeros(self.shape, np.int32), self.ids)
        if key not in self._rings:
            from rilievo.core.measure.measure_kernels import rings_of  # noqa: PLC0415 (compiled)

            rings = np.empty(self.shape, np.int32)
            height = self.shape[0]
            in_pieces(
                lambda top: rings_of(
                    self.labels, gap, gap + width, aspect, top, min(top + _BAND, height), rings
                ),
                range(0, height, _BAND),
                values=rings.size,
            )
            self._rings[key] = RegionIndex(rings, self.ids)
        return self._rings[key]


def whole_plane_index(shape: tuple[int, int]) -> RegionIndex:
    """Return the index of one region, number 1, that covers a plane of (height, width)."""
    return RegionIndex(np.ones(shape, np.int32), np.array([1]))
