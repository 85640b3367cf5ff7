"""Where the intensities of a region are: extremes and centre of brightness."""

from __future__ import annotations

from rilievo.core.measures.quantity import Column, quantity
from rilievo.core.measures.values import RegionValues


def _place(key: str, title: str, what: str, *, highest: bool, axis: int) -> None:
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
        return values.extreme(highest)[axis]


_place("min_x", "Min x", "minimum", highest=False, axis=0)
_place("min_y", "Min y", "minimum", highest=False, axis=1)
_place("max_x", "Max x", "maximum", highest=True, axis=0)
_place("max_y", "Max y", "maximum", highest=True, axis=1)


def _brightness(key: str, title: str, axis: int) -> None:
    @quantity(
        key,
        title=title,
        unit="px",
        family="intensity",
        definition=(
            f"{('column', 'row')[axis]} of the centre of brightness; undefined if the sum is ≤ 0"
        ),
    )
    def centre(values: RegionValues) -> Column:
        """Return Σ v x / Σ v, or Σ v y / Σ v."""
        return values.brightness_centre[axis]


_brightness("iw_x", "Bright x", 0)
_brightness("iw_y", "Bright y", 1)
