from __future__ import annotations

import numpy as np
import pytest

from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.pipeline.combined_regions import joint_of
from rilievo.core.regions.region_set import CLASS_STRIDE
from tests.core.helpers.measure_parts import spots


def test_joint_statistics_are_those_of_all_pixels() -> None:
    sample, method = spots()
    joint = joint_of([(Analysis(one, method), regions) for one, regions in [(sample, {1, 3})]], "b")
    values = sample.channels["b"].pixels
    both = np.concatenate([values[5:10, 5:10].ravel(), values[30:33, 20:40].ravel()])
    assert joint is not None
    assert (joint.regions, joint.samples) == (2, 1)
    assert joint.numbers["mean"] == pytest.approx(both.mean())
    assert joint.numbers["sd"] == pytest.approx(both.std(ddof=1))
    assert joint.numbers["median"] == np.median(both)
    assert joint.histogram.total == both.size
    again = joint_of(
        [
            (Analysis(one, method), regions)
            for one, regions in [(sample, {1}), (sample.renamed("two"), {3})]
        ],
        "b",
    )
    assert again is not None
    assert again.numbers == joint.numbers
    assert again.samples == 2
    assert (
        joint_of(
            [
                (Analysis(one, method), regions)
                for one, regions in [
                    (sample, {99, CLASS_STRIDE * len(method.outlines) + 1, CLASS_STRIDE * 5})
                ]
            ],
            "b",
        )
        is None
    )
    assert joint_of([], "b") is None
    assert (
        joint_of([(Analysis(one, method), regions) for one, regions in [(sample, {1})]], "nowhere")
        is None
    )
