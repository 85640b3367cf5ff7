"""What several tests have in common: table files."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from rilievo.core.image.image import Sample, plane_from_native
from rilievo.core.method.class_definition import ClassDefinition, hand_threshold
from rilievo.core.method.method import Measure, Method, step_use
from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.table.table import RegionTable


def study() -> tuple[Sample, Method, RegionTable]:
    values = np.full((30, 40), 100, np.uint16)
    values[5:10, 5:12] = 500
    values[20:24, 20:30] = 900
    values[20, 20] = 901
    sample = Sample(
        "=1+1",
        {"a": plane_from_native(values), "b": plane_from_native(values // 2)},
        path=Path("folder/field.tif"),
    )
    method = Method(
        steps=(
            step_use("bg", "background.level", level=90),
            step_use("double", "arithmetic.number", operation="multiply", number=2),
        ),
        outlines=(ClassDefinition(threshold=hand_threshold(300)),),
        measure=Measure(quantities=("mean", "sd", "cv", "pixel_count", "sum", "area")),
    )
    return sample, method, Analysis(sample, method).table("dose +")
