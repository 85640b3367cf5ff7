from __future__ import annotations

import numpy as np

from rilievo.core.image.image import Plane, Sample
from rilievo.core.measure.region_flags import REGION_MARKS, flag, marks_in
from rilievo.core.method.class_definition import ClassDefinition, hand_threshold
from rilievo.core.method.method import Measure, Method
from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.regions.drawn_shapes import DrawnRegion
from rilievo.core.regions.shapes import RectangleShape


def test_marks_of_single_regions() -> None:
    values = np.zeros((30, 30), np.float32)
    values[0:5, 5:10] = 50
    values[10:20, 10:20] = 50
    values[12, 12] = 99
    values[25:27, 25:27] = 50
    values[15, 15] = np.nan
    plane = Plane(values, saturation=90)
    method = Method(
        outlines=(ClassDefinition(threshold=hand_threshold(20), clean=()),),
        measure=Measure(quantities=("mean",)),
    )
    found = Analysis(Sample("s", {"gray": plane}), method).table()
    marks = [found.marks_of("gray", k) for k in range(3)]
    # The undefined pixel is a hole of the region, so it is not inside.
    assert marks == [
        ("touches the edge",),
        ("saturated inside", "beside undefined"),
        ("few pixels",),
    ]
    assert found.table["marks"].tolist() == ["; ".join(one) for one in marks]


def test_drawn_shapes_know_what_is_undefined_or_outside() -> None:
    values = np.ones((30, 30), np.float32)
    values[5, 5] = np.nan
    shapes = (
        DrawnRegion(shape=RectangleShape(x=6, y=6, width=8, height=8)),
        DrawnRegion(shape=RectangleShape(x=28, y=20, width=8, height=8)),
    )
    method = Method(outlines=(ClassDefinition(source="drawn", drawn=shapes),))
    found = Analysis(Sample("s", {"gray": Plane(values)}), method).table()
    assert found.marks_of("gray", 0) == ("undefined inside",)
    assert found.marks_of("gray", 1) == ("touches the edge", "partly outside")


def test_bits_stand_for_marks() -> None:
    every = sum(flag(mark) for mark in REGION_MARKS)
    assert marks_in(every) == tuple(REGION_MARKS)
    assert marks_in(0) == ()
