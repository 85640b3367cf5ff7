"""Which pixels belong to which region, grouped once and shared by the channels."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from functools import cached_property
from typing import Any

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
    def form(self) -> RegionForm:
        """Place, second moments, outline and hull of each region, by name, in pixels."""
        return RegionForm(self, (1.0, 1.0))

    def form_in(self, sides: tuple[float, float]) -> RegionForm:
        """Return the form where pixels are so wide and high; places stay in pixels."""
        return RegionForm(self, sides)

    @cached_property
    def _places(self) -> dict[str, Floats]:
        from rilievo.core.measure.shape_kernels import PLACES, places_of  # noqa: PLC0415 (compiled)

        height, width = self.shape
        return self._columns(PLACES, lambda p, s, _: places_of(p, s, height, width))

    @cached_property
    def _filled(self) -> dict[str, Floats]:
        from rilievo.core.measure.shape_kernels import FILLED, filled_of  # noqa: PLC0415 (compiled)

        return self._columns(FILLED, lambda p, s, _: filled_of(p, s, self.shape[1]))

    def _outlines(self, aspect: float) -> dict[str, Floats]:
        """Outlines in widths of a pixel that is `aspect` times as high."""
        from rilievo.core.measure.shape_kernels import OUTLINES, outlines_of  # noqa: PLC0415

        if aspect not in self._forms:
            filled, parts, width = self._filled["filled"], self.parts, self.shape[1]
            self._forms[aspect] = self._columns(
                OUTLINES, lambda p, s, k: outlines_of(p, s, filled[k], parts[k], width, aspect, 1.0)
            )
        return self._forms[aspect]

    def _columns(
        self, names: tuple[str, ...], work: Callable[[Any, Any, Any], Any]
    ) -> dict[str, Floats]:
        """What a kernel finds of all regions, some at a time; work : (pixels, starts, regions)."""
        parts = in_pieces(
            lambda some: work(self.pixels, self.starts[np.append(some, some[-1] + 1)], some),
            self.together(),
            values=self.pixels.size,
        )
        stacked = np.concatenate(parts) if parts else np.zeros((0, len(names)))
        return dict(zip(names, stacked.T, strict=True))

    @cached_property
    def parts(self) -> NDArray[np.int64]:
        """How many parts, connected by 8 neighbours, each region has."""
        from rilievo.core.measure.shape_kernels import parts_of  # noqa: PLC0415 (compiled)

        pieces = in_pieces(
            lambda some: parts_of(self.pixels, self.starts[some[0] : some[-1] + 2], self.shape[1]),
            self.together(),
            values=self.pixels.size,
        )
        return np.concatenate(pieces) if pieces else np.zeros(0, np.int64)

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


class RegionForm:
    """Columns of the form of regions by name; each is worked out when it is first asked for.

    Names are those of `shape_kernels`: places and second moments, holes, outlines.
    """

    def __init__(self, index: RegionIndex, sides: tuple[float, float]) -> None:
        """sides : width and height of a pixel; places stay in pixels."""
        self._index, self._sides = index, sides

    def __getitem__(self, name: str) -> Floats:
        from rilievo.core.measure.shape_kernels import FILLED, PLACES  # noqa: PLC0415 (compiled)

        width, height = self._sides
        if name in FILLED:
            return self._index._filled[name]
        if name in PLACES:
            factor = {"xx": width**2, "yy": height**2, "xy": width * height}.get(name, 1.0)
            column = self._index._places[name]
        else:
            factor = width**2 if name == "convex" else width
            column = self._index._outlines(height / width)[name]
        return column if factor == 1.0 else column * factor
