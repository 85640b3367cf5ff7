"""A threshold keeps the same pixels however the data are held: the whole registry."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from rilievo.core.image.image import Plane, Sample, plane_from_native
from rilievo.core.method.class_definition import ClassDefinition, ThresholdUse
from rilievo.core.method.method import Method
from rilievo.core.pipeline.analysis import Analysis
from rilievo.core.regions.thresholds import THRESHOLDS

# What a threshold is told in the values of the picture: value → its parameters.
_TOLD = {
    "hand": lambda at: {"level": at(90)},
    "band": lambda at: {"lower": at(60), "upper": at(110)},
    "colour": lambda at: {"ranges": [{"channel": "red", "lower": at(90)}]},
}


def kept(pixels: np.ndarray, key: str, keep: str, parameters: dict[str, object]) -> np.ndarray:
    plane = plane_from_native(pixels) if pixels.dtype.kind == "u" else Plane(pixels)
    sample = Sample("s", {"red": plane, "green": plane, "blue": plane})
    use = ThresholdUse.model_validate({"way": key, "parameters": parameters})
    method = Method(outlines=(ClassDefinition(threshold=use, keep=keep, clean=()),))
    return Analysis(sample, method).regions().labels > 0


@st.composite
def pictures(draw: st.DrawFn) -> np.ndarray:
    """One to three populations in some noise, 8 or 16 bit, from 1 × 2 to 40 × 40."""
    rng = np.random.default_rng(draw(st.integers(0, 2**32 - 1)))
    shape = draw(st.tuples(st.integers(1, 40), st.integers(2, 40)))
    levels = draw(st.lists(st.integers(20, 230), min_size=1, max_size=3))
    noise = draw(st.sampled_from([0.0, 0.4, 3.0, 12.0]))
    scale = draw(st.sampled_from([1, 1, 37]))
    values = rng.choice(levels, shape) + rng.normal(0, noise, shape)
    return np.clip(np.round(values * scale), 0, 255 * scale).astype(
        np.uint8 if scale == 1 else np.uint16
    )


@pytest.mark.parametrize("keep", ["bright", "dark"])
@pytest.mark.parametrize("key", list(THRESHOLDS))
@settings(max_examples=25)
@given(pixels=pictures())
def test_copies_keep_the_same_pixels(key: str, keep: str, pixels: np.ndarray) -> None:
    assume(pixels.min() < pixels.max())
    copies = {
        "floats": (pixels.astype(np.float32), lambda v: v),
        "doubles": (pixels.astype(np.float64), lambda v: v),
        "× 256": (pixels.astype(np.float32) * 256, lambda v: v * 256),
        "+ 1e6": (pixels.astype(np.float32) + 1e6, lambda v: v + 1e6),
    }
    if key == "sauvola":
        # Its level is a multiple of the mean by definition, so that an offset changes it.
        del copies["+ 1e6"]
    told = _TOLD.get(key, lambda _at: {})
    expected = kept(pixels, key, keep, told(lambda v: v))
    for name, (copy, at) in copies.items():
        np.testing.assert_array_equal(kept(copy, key, keep, told(at)), expected, err_msg=name)


@pytest.mark.parametrize("scale", [1 / 255, 0.1, 0.37])
def test_values_between_0_and_1_are_the_whole_numbers_that_they_were(scale: float) -> None:
    rng = np.random.default_rng(8)
    values = np.where(rng.random((300, 300)) < 0.08, 170, 60) + rng.normal(0, 9, (300, 300))
    pixels = np.clip(values, 0, 255).astype(np.uint8)
    for key in (k for k in THRESHOLDS if THRESHOLDS[k].automatic or k == "classes"):
        scaled = pixels.astype(np.float32) * np.float32(scale)
        expected = kept(pixels, key, "bright", {})
        np.testing.assert_array_equal(kept(scaled, key, "bright", {}), expected, key)


def test_one_far_pixel_moves_no_percentile_and_no_background() -> None:
    rng = np.random.default_rng(2)
    pixels = rng.normal(100, 5, (200, 200)).astype(np.float32)
    pixels[:20] += 300
    far = pixels.copy()
    far[100, 100] = 1e7
    for way, parameters in (("percentile", {"percent": 95.0}), ("background_sigmas", {})):
        masks = [kept(p, way, "bright", parameters) for p in (pixels, far)]
        assert np.count_nonzero(masks[0] != masks[1]) <= 3


@pytest.mark.parametrize("dtype", [np.uint8, np.float32, np.float64])
def test_the_hundredth_percentile_keeps_the_maximum(dtype: type) -> None:
    pixels = np.random.default_rng(1).integers(0, 200, (30, 30)).astype(dtype)
    pixels[4, 4] = 222
    assert kept(pixels, "percentile", "bright", {"percent": 100}).sum() == 1
    assert kept(pixels, "percentile", "dark", {"percent": 100}).all()


@given(st.integers(0, 2**32 - 1), st.sampled_from([2.0, 37.5, 95.0, 99.9]))
@settings(max_examples=20)
def test_percentiles_are_those_of_the_values(seed: int, percent: float) -> None:
    pixels = np.random.default_rng(seed).lognormal(3, 2, (23, 31))
    sample = Sample("s", {"red": Plane(pixels)})
    use = ThresholdUse.model_validate({"way": "percentile", "parameters": {"percent": percent}})
    found = Analysis(sample, Method(outlines=(ClassDefinition(threshold=use),))).level()
    assert found == pytest.approx(np.percentile(pixels, percent), rel=1e-12)


def test_the_triangle_of_floats_is_not_half_of_the_picture() -> None:
    rng = np.random.default_rng(6)
    values = rng.normal(100, 6, (500, 500))
    values[:25] += rng.uniform(40, 120, (25, 500))
    for pixels in (
        np.round(values).astype(np.uint8).astype(np.float32),
        values,
        values * 1.0 - 77.3,
    ):
        share = kept(pixels, "triangle", "bright", {}).mean()
        assert 0.04 < share < 0.12, share
