from __future__ import annotations

import numpy as np

from rilievo.core.image.histogram import Histogram, histogram_of
from rilievo.core.image.image import Plane
from rilievo.core.regions.drawn_shapes import (
    DrawnRegion,
    cover,
    for_all_samples,
    numbers_of,
    usual_tolerance,
)
from rilievo.core.regions.shapes import RectangleShape


def test_regions_for_all_samples_stand_in_the_file_or_in_the_registered_picture() -> None:
    shape = RectangleShape(x=20, y=10, width=6, height=4)
    region = DrawnRegion(shape=shape, sample="a")
    shift = (1.0, 0.0, 7.0, 0.0, 1.0, -2.0)
    plain = for_all_samples(region, shift, registered=False)
    assert (plain.sample, plain.frame, plain.shape) == (None, "file", shape)
    moved = for_all_samples(region, shift, registered=True)
    assert (moved.frame, moved.shape) == ("picture", shape.moved(7, -2))
    frame = Plane(np.zeros((40, 50), np.float32), placement=shift)
    on_a = cover([region], "a", frame).labels
    other = Plane(np.zeros((40, 50), np.float32), placement=(1.0, 0.0, -5.0, 0.0, 1.0, 3.0))
    on_b = cover([moved], "b", other).labels
    np.testing.assert_array_equal(on_a, on_b, err_msg="one place of all registered pictures")


def test_numbers_of_a_region_in_a_sample() -> None:
    disc = {"kind": "ring", "x": 5, "y": 5, "outer": 2}
    grid = {"kind": "grid", "rows": 1, "columns": 3, "first": (1, 1), "across": (9, 1),
            "down": (1, 1), "width": 2, "height": 2}  # fmt: skip
    regions = [
        DrawnRegion(shape=disc),
        DrawnRegion(shape=disc, sample="other"),
        DrawnRegion(shape=grid),
        DrawnRegion(shape=disc),
    ]
    assert [numbers_of(regions, k, "s") for k in range(4)] == [[1], [], [2, 3, 4], [5]]
    assert numbers_of(regions, 1, "other") == [2]


def test_a_flood_begins_with_a_twentieth_of_the_span() -> None:
    values = np.arange(1001, dtype=np.uint16)[None]
    assert usual_tolerance(histogram_of(Plane(values))) == 49
    assert usual_tolerance(Histogram.nothing()) == 0
