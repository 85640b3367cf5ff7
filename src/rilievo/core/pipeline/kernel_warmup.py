"""Compiles, in a thread, what the first threshold and measurement would otherwise wait for."""

from __future__ import annotations

import numpy as np

from rilievo.core.image.image import Plane, Sample
from rilievo.core.measure.stars.star_settings import StarUse
from rilievo.core.method.class_definition import ClassDefinition, clean_use, hand_threshold
from rilievo.core.method.method import Measure, Method
from rilievo.core.pipeline.threshold_stability import stability_of
from rilievo.core.regions.morphology import depth, grown


def warm_up_regions() -> None:
    """Find, clean, split and measure a few pixels, which builds the loops or reads them."""
    from rilievo.core.pipeline.evaluator import Evaluator  # noqa: PLC0415 (imports much)
    from rilievo.core.view.paint_kernels import paint_edges  # noqa: PLC0415

    values = np.zeros((8, 8), np.float32)
    values[2:6, 2:6] = 1
    values[3, 3] = 0
    clean = (clean_use("fill_holes"), clean_use("split_distance"), clean_use("keep", lower=1.0))
    method = Method(outlines=(ClassDefinition(threshold=hand_threshold(0.5), clean=clean),))
    labels = Evaluator().regions(Sample("warm up", {"gray": Plane(values)}), method).labels
    measure = Measure(quantities=("sd", "median", "contrast", "perimeter"))
    Evaluator().measure(Sample("warm up", {"gray": Plane(values)}), method.changed(measure=measure))
    depth(labels)
    grown(labels, 1.0)
    stability_of(values, np.array([0.2, 0.5]))
    paint_edges(np.zeros((8, 8), np.uint32), labels, np.ones(4, np.uint32), np.zeros(0, np.int64))


def warm_up_stars() -> None:
    """Measure one star of a few pixels, which builds the loops for stars or reads them."""
    from rilievo.core.measure.stars.apertures import stars_at  # noqa: PLC0415 (compiled on first use)

    rows, columns = np.mgrid[:31, :31] - 15.0
    values = (100 * np.exp(-(rows**2 + columns**2) / 8) + (rows * 7 + columns * 3) % 2).astype(
        np.float32
    )
    star = stars_at(Plane(values), np.array([[15.0, 15.0]]), StarUse().resolved(2.0))
    for gaussian in (True, False):
        star.profile(gaussian)
