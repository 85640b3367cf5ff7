"""Where the intensities of a region are: extremes and centre of brightness."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from rilievo.core.measures.quantity import Column, quantity
from rilievo.core.measures.values import Floats, RegionValues, column


def _extreme(values: RegionValues, find: Callable[[Floats], np.intp]) -> tuple[Column, Column]:
    """Column and row of the first extreme in row order, per region; NaN for no pixel."""
    width = values.index.shape[1]
    x, y = np.full(values.index.count, np.nan), np.full(values.index.count, np.nan)
    for i, part in enumerate(values.slices):
        if part.stop > part.start:
            position = int(values.pixels[part][find(values.values[part])])
            y[i], x[i] = divmod(position, width)
    return x, y


def _place(key: str, title: str, what: str, find: Callable[[Floats], np.intp], axis: int) -> None:
    @quantity(
        key,
        title=title,
        unit="px",
        family="intensity",
        definition=f"{('column', 'row')[axis]} of the first {what} in row order",
        whole=True,
    )
    def place(values: RegionValues) -> Column:
        """Return the position of the first extreme in row order."""
        return _extreme(values, find)[axis]


_place("min_x", "Min x", "minimum", np.argmin, 0)
_place("min_y", "Min y", "minimum", np.argmin, 1)
_place("max_x", "Max x", "maximum", np.argmax, 0)
_place("max_y", "Max y", "maximum", np.argmax, 1)


def _weighted(values: RegionValues, where: Floats) -> Column:
    total = values.sum_of(values.values)
    with np.errstate(divide="ignore", invalid="ignore"):
        centre = values.sum_of(values.values * where) / total
    return np.where(total > 0, centre, np.nan)


@quantity(
    "iw_x",
    title="Bright x",
    unit="px",
    family="intensity",
    definition="column of the centre of brightness; undefined if the sum is ≤ 0",
)
def brightness_x(values: RegionValues) -> Column:
    """Return Σ v x / Σ v."""
    return _weighted(values, column(values.pixels % values.index.shape[1]))


@quantity(
    "iw_y",
    title="Bright y",
    unit="px",
    family="intensity",
    definition="row of the centre of brightness; undefined if the sum is ≤ 0",
)
def brightness_y(values: RegionValues) -> Column:
    """Return Σ v y / Σ v."""
    return _weighted(values, column(values.pixels // values.index.shape[1]))
