from __future__ import annotations

import numpy as np
import pytest
from hypothesis import assume, given
from hypothesis.extra.numpy import arrays
from pydantic import ValidationError

from rilievo.core.image.histogram import Histogram, histogram_of
from rilievo.core.image.image import Plane, Sample, plane_from_native
from rilievo.core.method.class_definition import ClassDefinition, ThresholdUse
from rilievo.core.method.method import Method
from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.regions.thresholds import THRESHOLDS
from rilievo.core.regions.thresholds.between_class import BetweenClassThreshold, between_class_level


def between_class_variance(values: np.ndarray, level: float) -> float:
    """The definition, from the pixels themselves."""
    low, high = values[values <= level], values[values > level]
    if not low.size or not high.size:
        return 0.0
    share = low.size * high.size / values.size**2
    return float(share * (high.mean() - low.mean()) ** 2)


@given(arrays(np.uint8, (6, 6)) | arrays(np.uint16, (6, 6)))
def test_no_level_separates_better(pixels: np.ndarray) -> None:
    values = pixels.astype(np.float64).ravel()
    assume(values.min() < values.max())
    found = between_class_level(histogram_of(plane_from_native(pixels)), BetweenClassThreshold())
    best = max(between_class_variance(values, level) for level in np.unique(values))
    assert between_class_variance(values, found) == pytest.approx(best, rel=1e-9)


def test_float_data_to_within_a_bin() -> None:
    rng = np.random.default_rng(5)
    values = np.concatenate([rng.normal(10, 1, 3000), rng.normal(50, 4, 500)])
    histogram = histogram_of(Plane(values.reshape(50, 70)))
    found = between_class_level(histogram, BetweenClassThreshold())
    best = max(between_class_variance(values, level) for level in np.sort(values))
    assert between_class_variance(values, found) == pytest.approx(best, rel=1e-4)


def test_two_levels_are_parted_in_the_middle() -> None:
    histogram = histogram_of(plane_from_native(np.array([[10, 10, 110]], np.uint8)))
    assert 55 <= between_class_level(histogram, BetweenClassThreshold()) <= 65


def test_an_offset_moves_the_threshold_by_the_same() -> None:
    rng = np.random.default_rng(2)
    pixels = np.where(rng.random((50, 50)) < 0.2, 180, 40) + rng.integers(0, 30, (50, 50))
    plain = between_class_level(
        histogram_of(plane_from_native(pixels.astype(np.uint32))), BetweenClassThreshold()
    )
    far = between_class_level(
        histogram_of(plane_from_native((pixels + 10_000_000).astype(np.uint32))),
        BetweenClassThreshold(),
    )
    assert far - 10_000_000 == plain


@pytest.mark.parametrize("key", list(THRESHOLDS))
def test_every_threshold_keeps_the_contract(key: str) -> None:
    threshold = THRESHOLDS[key]
    assert threshold.title
    assert threshold.explanation.endswith(".")
    work = threshold.find or threshold.mask
    assert work is not None
    assert work.__doc__
    with pytest.raises(ValidationError):
        threshold.parameters.model_validate({"no such": 1})
    if threshold.find is None:
        return
    parameters = threshold.parameters()
    nothing = threshold.find(Histogram.nothing(4), parameters)
    one = threshold.find(histogram_of(plane_from_native(np.array([[7]], np.uint8))), parameters)
    if threshold.automatic:
        assert np.isnan(nothing)
        # A share of the pixels is at or below a level even where all are equal.
        assert np.isnan(one) != (key == "percentile")


AWKWARD = {
    "one pixel": np.array([[5.0]]),
    "zeros": np.zeros((5, 6)),
    "undefined": np.full((4, 4), np.nan),
    "infinite": np.array([[np.inf, 1.0, -np.inf, 3.0]]),
    "negative": np.linspace(-5, 3, 30).reshape(5, 6),
    "offset": 1e7 + np.indices((5, 6)).sum(axis=0) % 4,
}


@pytest.mark.parametrize("key", list(THRESHOLDS))
@pytest.mark.parametrize("name", list(AWKWARD))
def test_awkward_pictures_give_regions_or_none(key: str, name: str) -> None:
    pixels = AWKWARD[name]
    planes = {channel: Plane(pixels) for channel in ("red", "green", "blue")}
    sample = Sample("s", planes)
    use = ThresholdUse.model_validate({"way": key})
    for keep in ("bright", "dark"):
        method = Method(outlines=(ClassDefinition(threshold=use, keep=keep),))
        regions = Analysis(sample, method).regions()
        assert regions.labels.shape == pixels.shape
        if key not in ("hand", "percentile") and np.unique(pixels).size == 1:
            assert regions.count <= 1
