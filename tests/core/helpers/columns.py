"""What several tests have in common: columns."""

from __future__ import annotations

import numpy as np

from rilievo.core.image.image import Plane, Sample
from rilievo.core.method.class_definition import ClassDefinition, hand_threshold
from rilievo.core.method.method import Measure, Method
from rilievo.core.table.compartments import Pair


def compartments() -> tuple[Sample, Method]:
    """Two cells with a signal of 10; one has two nuclei of 40 and 20, one none."""
    values = np.zeros((20, 40), np.float32)
    values[2:12, 2:12] = 10
    values[4:6, 4:6] = 40
    values[8:10, 8:12] = 20
    values[2:12, 20:30] = 10
    level = {"source": "threshold", "clean": ()}
    cell = ClassDefinition(region_class="cell", threshold=hand_threshold(5), **level)
    nucleus = ClassDefinition(region_class="nucleus", threshold=hand_threshold(15), **level)
    measure = Measure(
        quantities=("mean", "sum", "pixel_count", "area"),
        pairs=(Pair(inner="nucleus", outer="cell"), Pair(inner="vacuole", outer="cell")),
    )
    return Sample("s", {"gray": Plane(values)}), Method(outlines=(cell, nucleus), measure=measure)
