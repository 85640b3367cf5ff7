from __future__ import annotations

import numpy as np
import pytest

from rilievo.core.image.image import plane_from_native
from rilievo.core.signal.steps import STEPS, StepContext
from rilievo.core.signal.steps.background_patch import EmptyPatch, PatchMissing
from tests.core.helpers.backgrounds import applied

PATCH = {"x": 3, "y": 4, "width": 30, "height": 20}


@pytest.mark.parametrize("statistic", ["mean", "median"])
@pytest.mark.parametrize("offset", [0, 10_000_000])
def test_patch_level_and_its_standard_error(statistic: str, offset: int) -> None:
    rng = np.random.default_rng(8)
    pixels = (rng.normal(500, 20, (40, 50)).round() + offset).astype(np.uint32)
    plane, numbers = applied(
        "background.patch", plane_from_native(pixels), statistic=statistic, patches=[PATCH]
    )
    inside = pixels[4:24, 3:33].astype(np.float64) - offset
    exact = {"mean": inside.mean(), "median": np.median(inside)}[statistic]
    assert plane.pixels[0, 0] == pytest.approx(pixels[0, 0] - offset - exact, abs=1e-6)
    assert numbers["pixels"] == 600
    factor = 1 if statistic == "mean" else np.sqrt(np.pi / 2)
    error = factor * inside.std(ddof=1) / np.sqrt(600)
    assert numbers["standard_error"] == pytest.approx(error, rel=1e-9)
    assert plane.level_error == pytest.approx(error, rel=1e-9)


def test_several_patches_count_each_pixel_once_and_the_mode_is_the_most_frequent() -> None:
    pixels = np.zeros((6, 6), np.uint8)
    pixels[2:4, 1:4] = 10
    two = [{"x": 1, "y": 2, "width": 2, "height": 2}, {"x": 2, "y": 2, "width": 3, "height": 2}]
    plane, numbers = applied("background.patch", plane_from_native(pixels), patches=two)
    assert numbers["pixels"] == 8
    assert plane.pixels[2, 1] == pytest.approx(10 - 60 / 8)
    plane, numbers = applied(
        "background.patch", plane_from_native(pixels), patches=two, statistic="mode"
    )
    assert plane.pixels[2, 1] == 0
    assert plane.level_error is None
    assert np.isnan(numbers["standard_error"])


def test_patch_missing_outside_or_undefined() -> None:
    plane = plane_from_native(np.ones((4, 4), np.uint8))
    with pytest.raises(PatchMissing, match="drag a rectangle"):
        applied("background.patch", plane)
    with pytest.raises(EmptyPatch, match="a sample"):
        applied("background.patch", plane, patches=[{**PATCH, "x": 9}])
    with pytest.raises(EmptyPatch):
        applied("background.patch", np.full((9, 9), np.nan), patches=[PATCH])


def test_negative_values_are_kept() -> None:
    plane, _ = applied("background.level", plane_from_native(np.array([[0, 5]], np.uint8)), level=3)
    assert plane.pixels.tolist() == [[-3.0, 2.0]]
    assert plane.lattice is not None
    assert plane.lattice.origin == -3


def test_the_level_is_taken_off_to_all_its_digits() -> None:
    """Large counts with a level between two of the pixels' own type: off by less than 1e-6."""
    rng = np.random.default_rng(3)
    pixels = np.round(rng.normal(40_000, 30, (200, 300))).astype(np.uint16)
    step = STEPS["background.level"]
    level = float(pixels.mean(dtype=np.float64))
    result = step.apply(
        plane_from_native(pixels),
        step.parameters.model_validate({"level": level}),
        StepContext("s", "gray"),
    )
    assert abs(float(result.pixels.mean(dtype=np.float64))) < 1e-6
