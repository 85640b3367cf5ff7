"""Every intensity quantity of a whole plane, for the statistics card and the command line."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from rilievo.core.image.image import Plane
from rilievo.core.measure import QUANTITIES, RegionValues, whole_plane_index
from rilievo.core.measure.level_statistics import level_values


@dataclass(frozen=True)
class PlaneStatistics:
    """Quantities of a plane by key; NaN where one is undefined.

    share : of all its pixels, how many were measured, 0 to 1.
    """

    numbers: dict[str, float]
    share: float


def intensity_keys() -> tuple[str, ...]:
    """Return the keys of all intensity quantities."""
    return tuple(quantity.key for quantity in QUANTITIES.values() if quantity.family == "intensity")


def plane_statistics(
    plane: Plane,
    keys: Sequence[str] | None = None,
    *,
    exclude_saturated: bool = False,
    exclude_empty: bool = False,
) -> PlaneStatistics:
    """Measure a native plane as one region.

    keys : quantities; None means every intensity quantity.
    """
    values: RegionValues | None = level_values(
        plane, exclude_saturated=exclude_saturated, exclude_empty=exclude_empty
    )
    if values is None:
        values = RegionValues(
            whole_plane_index(plane.shape),
            plane.with_pixels(plane.as_float(), plane.lattice),
            plane,
            exclude_saturated=exclude_saturated,
            exclude_empty=exclude_empty,
        )
    wanted = intensity_keys() if keys is None else keys
    numbers = {key: float(QUANTITIES[key].measure(values)[0]) for key in wanted}
    return PlaneStatistics(numbers, float(values.n[0]) / plane.pixels.size)
