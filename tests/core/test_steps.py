"""The contract of every step, and the numbers of each."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays
from pydantic import ValidationError

from rilievo.core.image import Plane, plane_from_native
from rilievo.core.parameters import Rectangle
from rilievo.core.steps import STEPS, Step, StepContext
from rilievo.core.steps.background_patch import (
    EmptyPatch,
    PatchBackground,
    PatchMissing,
    patch_report,
    subtract_patch,
)
from rilievo.core.steps.repair_pixels import Repair, RepairPixels, repair_pixels, report_repairs

CONTEXT = StepContext("a sample", "gray")
PATCH = Rectangle(x=0, y=0, width=2, height=1)
EXAMPLES = {
    "background.level": {"level": 12.25},
    "background.patch": {"patch": PATCH},
    "repair.pixels": {"repairs": [{"x": 1, "y": 0}]},
}


@pytest.fixture(params=list(STEPS))
def step(request: pytest.FixtureRequest) -> Step:
    return STEPS[request.param]


def test_every_step_has_an_example() -> None:
    assert set(EXAMPLES) == set(STEPS)


def example(step: Step) -> object:
    return step.parameters.model_validate(EXAMPLES[step.key])


def test_input_is_never_changed(step: Step) -> None:
    plane = plane_from_native(np.arange(12, dtype=np.uint16).reshape(3, 4))
    before = plane.pixels.copy()
    result = step.apply(plane, example(step), CONTEXT)
    np.testing.assert_array_equal(plane.pixels, before)
    assert result.shape == plane.shape
    assert result.pixels.dtype.kind == "f"


def test_undefined_pixels_stay_undefined(step: Step) -> None:
    plane = Plane(np.array([[1.0, 2.0, np.nan], [np.inf, 5.0, 6.0]]))
    result = step.apply(plane, example(step), CONTEXT)
    assert np.isnan(result.pixels).tolist() == [[False, False, True], [True, False, False]]


def test_one_pixel_and_constant_images(step: Step) -> None:
    one = step.apply(plane_from_native(np.array([[9]], np.uint8)), example(step), CONTEXT)
    assert one.shape == (1, 1)
    flat = step.apply(plane_from_native(np.full((4, 4), 9, np.uint8)), example(step), CONTEXT)
    assert np.unique(flat.pixels).size == 1


def test_integer_and_float_input_agree(step: Step) -> None:
    pixels = np.arange(20, dtype=np.uint16).reshape(4, 5) * 37
    as_int = step.apply(plane_from_native(pixels), example(step), CONTEXT)
    as_float = step.apply(Plane(pixels.astype(np.float32)), example(step), CONTEXT)
    np.testing.assert_array_equal(as_int.pixels, as_float.pixels)


@settings(max_examples=30)
@given(arrays(np.float64, (4, 5), elements=st.floats(-1e4, 1e4)), st.floats(0.1, 10))
def test_linear_steps_keep_differences(pixels: np.ndarray, factor: float) -> None:
    for step in STEPS.values():
        if not step.linear:
            continue
        plain = step.apply(Plane(pixels), example(step), CONTEXT).pixels
        scaled = step.apply(Plane(pixels * factor), example(step), CONTEXT).pixels
        np.testing.assert_allclose(scaled - scaled[0, 0], factor * (plain - plain[0, 0]), atol=1e-6)


def test_parameters_are_checked_and_explained(step: Step) -> None:
    with pytest.raises(ValidationError):
        step.parameters.model_validate({"no such": 1})
    assert step.explanation.endswith(".")
    assert step.apply.__doc__
    for name, field in step.parameters.model_fields.items():
        assert field.title, f"{step.key}: {name} has no title for its form"


def test_negative_values_are_kept() -> None:
    plane = plane_from_native(np.array([[0, 5]], np.uint8))
    step = STEPS["background.level"]
    result = step.apply(plane, step.parameters.model_validate({"level": 3}), CONTEXT)
    assert result.pixels.tolist() == [[-3.0, 2.0]]


@pytest.mark.parametrize("statistic", ["mean", "median"])
@pytest.mark.parametrize("offset", [0, 10_000_000])
def test_patch_level_and_its_standard_error(statistic: str, offset: int) -> None:
    rng = np.random.default_rng(8)
    pixels = (rng.normal(500, 20, (40, 50)).round() + offset).astype(np.uint32)
    parameters = PatchBackground.model_validate(
        {"statistic": statistic, "patch": {"x": 3, "y": 4, "width": 30, "height": 20}}
    )
    report = patch_report(plane_from_native(pixels), parameters, CONTEXT)
    inside = pixels[4:24, 3:33].astype(np.float64) - offset
    exact = {"mean": inside.mean(), "median": np.median(inside)}[statistic]
    assert report["level"] - offset == pytest.approx(exact, rel=1e-12, abs=1e-8)
    assert report["pixels"] == 600
    factor = 1 if statistic == "mean" else np.sqrt(np.pi / 2)
    assert report["standard_error"] == pytest.approx(
        factor * inside.std(ddof=1) / np.sqrt(600), rel=1e-9
    )


def test_patch_takes_exactly_its_pixels() -> None:
    pixels = np.zeros((6, 6), np.float32)
    pixels[2:4, 1:4] = 10
    patch = Rectangle(x=1, y=2, width=3, height=2)
    result = subtract_patch(Plane(pixels), PatchBackground(patch=patch), CONTEXT)
    assert result.pixels[2, 1] == 0
    assert result.pixels[0, 0] == -10


def test_patch_missing_outside_or_undefined() -> None:
    plane = plane_from_native(np.ones((4, 4), np.uint8))
    with pytest.raises(PatchMissing, match="drag a rectangle"):
        subtract_patch(plane, PatchBackground(), CONTEXT)
    away = PatchBackground(patch=Rectangle(x=9, y=0, width=2, height=2))
    with pytest.raises(EmptyPatch, match="a sample"):
        subtract_patch(plane, away, CONTEXT)
    undefined = Plane(np.full((4, 4), np.nan))
    with pytest.raises(EmptyPatch):
        subtract_patch(undefined, PatchBackground(patch=PATCH), CONTEXT)


@given(st.integers(-5, 12), st.integers(-5, 12), st.integers(1, 9), st.integers(1, 9))
def test_rectangle_clips_to_the_image(x: int, y: int, width: int, height: int) -> None:
    shape = (6, 8)
    covered = np.zeros(shape, bool)
    covered[Rectangle(x=x, y=y, width=width, height=height).slices(shape)] = True
    rows, columns = np.indices(shape)
    expected = (columns >= x) & (columns < x + width) & (rows >= y) & (rows < y + height)
    np.testing.assert_array_equal(covered, expected)


def test_repair_takes_the_median_of_good_neighbours() -> None:
    pixels = np.arange(49, dtype=np.uint16).reshape(7, 7) * 10
    pixels[3, 3] = 60_000
    plane = plane_from_native(pixels)
    repaired = repair_pixels(plane, RepairPixels(repairs=(Repair(x=3, y=3),)), CONTEXT)
    around = [pixels[y, x] for y in range(1, 6) for x in range(1, 6) if (x, y) != (3, 3)]
    assert repaired.pixels[3, 3] == np.median(around)
    others = np.ones((7, 7), np.bool_)
    others[3, 3] = False
    np.testing.assert_array_equal(repaired.pixels[others], pixels[others])


def test_repair_by_a_typed_value_and_beside_another_repair() -> None:
    plane = plane_from_native(np.full((5, 6), 7, np.uint8))
    two = (Repair(x=0, y=0, width=2, height=2, value=1.5), Repair(x=2, y=0), Repair(x=9, y=9))
    repaired = repair_pixels(plane, RepairPixels(repairs=two), CONTEXT)
    assert repaired.pixels[:2, :2].tolist() == [[1.5, 1.5], [1.5, 1.5]]
    # The typed patch is no good neighbour: it is replaced itself.
    assert repaired.pixels[0, 2] == 7
    assert report_repairs(plane, RepairPixels(repairs=two), CONTEXT) == {"pixels": 5.0}
