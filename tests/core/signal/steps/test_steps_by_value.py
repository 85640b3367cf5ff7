"""Smoothing, arithmetic, curves and moved pixels against brute force and plain arithmetic."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
import pytest

from rilievo.core.image.image import Plane, placed, plane_from_native
from rilievo.core.signal.steps import STEPS, StepContext
from rilievo.core.signal.steps.smooth import parsed_matrix
from tests.core.signal.steps.test_steps import FakeSources

RNG = np.random.default_rng(12)


ROUGH = RNG.normal(100, 20, (13, 17))


HOLED = np.where(RNG.random((13, 17)) < 0.1, np.nan, ROUGH)


def applied(key: str, pixels: np.ndarray, **given: Any) -> Plane:
    step = STEPS[key]
    plane = pixels if isinstance(pixels, Plane) else Plane(pixels)
    context = StepContext("s", "gray", sources=FakeSources(plane), exposure=4.0)
    return step.apply(plane, step.parameters.model_validate(given), context)


def mirrored(index: int, length: int) -> int:
    """The border repeated outwards: d c b a | a b c d | d c b a."""
    while not 0 <= index < length:
        index = -index - 1 if index < 0 else 2 * length - 1 - index
    return index


def around(values: np.ndarray, y: int, x: int, reach: int) -> list[tuple[int, int, float]]:
    """Offsets and values of a square of neighbours."""
    height, width = values.shape
    return [
        (dy, dx, values[mirrored(y + dy, height), mirrored(x + dx, width)])
        for dy in range(-reach, reach + 1)
        for dx in range(-reach, reach + 1)
    ]


def by_hand(values: np.ndarray, reach: int, weigh: Any) -> np.ndarray:
    """Σ w·v / Σ w over the defined neighbours, pixel by pixel."""
    result = np.full(values.shape, np.nan)
    for y in range(values.shape[0]):
        for x in range(values.shape[1]):
            if np.isnan(values[y, x]):
                continue
            near = [(weigh(dy, dx), v) for dy, dx, v in around(values, y, x, reach)]
            near = [(w, v) for w, v in near if not np.isnan(v)]
            result[y, x] = sum(w * v for w, v in near) / sum(w for w, _ in near)
    return result


@pytest.mark.parametrize("values", [ROUGH, HOLED], ids=["whole", "with holes"])
def test_means_with_weights(values: np.ndarray) -> None:
    found = applied("smooth.gaussian", values, sigma=1.2).pixels
    expected = by_hand(values, 5, lambda dy, dx: math.exp(-(dy**2 + dx**2) / (2 * 1.2**2)))
    np.testing.assert_allclose(found, expected, rtol=1e-9)
    found = applied("smooth.mean", values, size=5).pixels
    np.testing.assert_allclose(found, by_hand(values, 2, lambda *_: 1.0), rtol=1e-9)
    binomial = [1, 4, 6, 4, 1]
    found = applied("filter.low_pass", values, size=5).pixels
    expected = by_hand(values, 2, lambda dy, dx: binomial[dy + 2] * binomial[dx + 2])
    np.testing.assert_allclose(found, expected, rtol=1e-9)
    high = applied("filter.high_pass", values, size=5).pixels
    np.testing.assert_allclose(high, values - found, rtol=1e-9, atol=1e-9)


@pytest.mark.parametrize("size", [3, 5, 9])
@pytest.mark.parametrize("values", [ROUGH, HOLED], ids=["whole", "with holes"])
def test_the_median_of_a_square(values: np.ndarray, size: int) -> None:
    found = applied("smooth.median", values, size=size).pixels
    for y in range(values.shape[0]):
        for x in range(values.shape[1]):
            near = [v for _, _, v in around(values, y, x, size // 2) if not np.isnan(v)]
            expected = np.nan if np.isnan(values[y, x]) else np.median(near)
            assert found[y, x] == pytest.approx(expected, nan_ok=True)


def test_sharpening_and_the_difference_of_gaussians_follow_from_gaussians() -> None:
    one, three = (applied("smooth.gaussian", ROUGH, sigma=s).pixels for s in (1.0, 3.0))
    sharp = applied("sharpen.unsharp", ROUGH, sigma=1.0, amount=0.7).pixels
    np.testing.assert_allclose(sharp, ROUGH + 0.7 * (ROUGH - one), rtol=1e-12)
    away = applied("filter.difference", ROUGH, inner=1.0, outer=3.0).pixels
    np.testing.assert_allclose(away, one - three, rtol=1e-9, atol=1e-9)
    unsmoothed = applied("filter.difference", ROUGH, inner=0, outer=1.0).pixels
    np.testing.assert_allclose(unsmoothed, ROUGH - one, rtol=1e-9, atol=1e-9)


def test_a_typed_kernel_is_a_convolution() -> None:
    matrix = np.array([[1.0, 2, 0], [0, 1, -1], [0.5, 0, 3]])
    text = "1 2 0\n0, 1, −1; 0.5 0 3"
    np.testing.assert_array_equal(parsed_matrix(text), matrix)
    found = applied("filter.kernel", ROUGH, matrix=text, normalised=False).pixels
    for y, x in ((0, 0), (6, 7), (12, 16), (0, 9)):
        # Turned by half a turn, as a convolution has it.
        near = around(ROUGH, y, x, 1)
        expected = sum(matrix[1 - dy, 1 - dx] * v for dy, dx, v in near)
        assert found[y, x] == pytest.approx(expected)
    even = applied("filter.kernel", ROUGH, matrix=text).pixels
    np.testing.assert_allclose(even, found / matrix.sum(), rtol=1e-9)


@pytest.mark.parametrize(
    ("text", "reason"),
    [
        ("", "at least one"),
        ("1 2; 3 4", "odd number"),
        ("1 2 3; 4 5", "one length"),
        ("1 x 3", "“x”, which is not a number"),
        ("nan", "finite"),
        ("; ".join([" ".join(["1"] * 17)] * 17), "up to 15"),
    ],
)
def test_matrices_that_cannot_be_are_explained(text: str, reason: str) -> None:
    with pytest.raises(ValueError, match=reason):
        parsed_matrix(text)


def test_undefined_pixels_weigh_nothing_in_a_kernel() -> None:
    flat = np.full((9, 9), 50.0)
    flat[4, 4] = np.nan
    found = applied("filter.kernel", flat, matrix="1 1 1; 1 1 1; 1 1 1", normalised=False).pixels
    assert np.isnan(found[4, 4])
    np.testing.assert_allclose(np.delete(found.ravel(), 40), 450)


@pytest.mark.parametrize(
    ("operation", "expected"),
    [("add", HOLED + 4), ("subtract", HOLED - 4), ("multiply", HOLED * 4), ("divide", HOLED / 4)],
)
def test_arithmetic_with_a_number(operation: str, expected: np.ndarray) -> None:
    found = applied("arithmetic.number", HOLED, operation=operation, number=4).pixels
    np.testing.assert_allclose(found, expected, rtol=1e-12)
    assert np.isnan(applied("arithmetic.number", ROUGH, operation="divide", number=0).pixels).all()


@pytest.mark.parametrize(
    ("operation", "work"),
    [
        ("add", lambda v, o: v + 0.5 * o),
        ("subtract", lambda v, o: v - 0.5 * o),
        ("multiply", lambda v, o: v * 0.5 * o),
        ("divide", lambda v, o: v / (0.5 * o)),
        ("minimum", lambda v, o: np.minimum(v, 0.5 * o)),
        ("maximum", lambda v, o: np.maximum(v, 0.5 * o)),
    ],
)
def test_arithmetic_with_an_image(operation: str, work: Any) -> None:
    other = FakeSources(Plane(HOLED)).channel("other").pixels
    for given in ({"other_channel": "other"}, {"files": {"files": [{"file": "f"}]}}):
        found = applied("arithmetic.image", HOLED, operation=operation, factor=0.5, **given)
        np.testing.assert_allclose(found.pixels, work(HOLED, other), rtol=1e-6)


def test_a_division_by_zero_is_undefined() -> None:
    found = applied("arithmetic.image", ROUGH, operation="divide", factor=0, other_channel="o")
    assert np.isnan(found.pixels).all()
    formula = applied("arithmetic.formula", np.array([[0.0, 2.0]]), formula="1 / this")
    assert np.isnan(formula.pixels[0, 0])
    assert formula.pixels[0, 1] == 0.5


@pytest.mark.parametrize("way", ["mean", "median", "sum"])
def test_several_images_into_one(way: str) -> None:
    other = FakeSources(Plane(HOLED)).channel("o").pixels.astype(np.float64)
    found = applied(
        "arithmetic.combine", HOLED, way=way, channels=["gray", "o"],
        files={"files": [{"file": "f"}, {"file": "g"}]},
    ).pixels  # fmt: skip
    stack = np.stack([HOLED, other, other, other])
    expected = getattr(np, way)(stack, axis=0)
    np.testing.assert_allclose(found, expected, rtol=1e-6)


def test_limits_absolute_values_and_the_negative() -> None:
    values = np.array([[-3.0, 2.0, np.nan, 9.0]])
    found = applied("arithmetic.limits", values, lowest=0, highest=5).pixels
    np.testing.assert_array_equal(found, [[0, 2, np.nan, 5]])
    np.testing.assert_array_equal(
        applied("arithmetic.limits", values, lowest=None, highest=5).pixels, [[-3, 2, np.nan, 5]]
    )
    np.testing.assert_array_equal(
        applied("arithmetic.absolute", values).pixels, [[3, 2, np.nan, 9]]
    )
    np.testing.assert_array_equal(
        applied("arithmetic.negative", values, white=10).pixels, [[13, 8, np.nan, 1]]
    )
    stored = plane_from_native(np.array([[0, 200]], np.uint8))
    assert applied("arithmetic.negative", stored).pixels.tolist() == [[255, 55]]
    with pytest.raises(ValueError, match="lower limit above"):
        STEPS["arithmetic.limits"].parameters.model_validate({"lowest": 3, "highest": 2})


@pytest.mark.parametrize(
    ("key", "given", "expected"),
    [
        ("curve.log", {"kind": "log"}, [np.nan, np.nan, 0.0, math.log(100)]),
        ("curve.log", {"kind": "log10"}, [np.nan, np.nan, 0.0, 2.0]),
        ("curve.log", {"kind": "log1p"}, [np.nan, 0.0, math.log(2), math.log(101)]),
        ("curve.power", {"exponent": 0.5}, [np.nan, 0.0, 1.0, 10.0]),
        ("curve.power", {"exponent": 2}, [4.0, 0.0, 1.0, 10_000.0]),
        ("curve.power", {"exponent": -1}, [-0.5, np.nan, 1.0, 0.01]),
        ("curve.power", {"exponent": 0.5, "white": 100}, [np.nan, 0.0, 10.0, 100.0]),
        ("curve.equalise", {}, [0.25, 0.5, 0.75, 1.0]),
    ],
)
def test_curves(key: str, given: dict[str, Any], expected: list[float]) -> None:
    values = np.array([[-2.0, 0.0, 1.0, 100.0]])
    np.testing.assert_allclose(applied(key, values, **given).pixels, [expected], rtol=1e-12)


def test_local_contrast_is_in_standard_deviations_of_the_surroundings() -> None:
    found = applied("curve.local_contrast", ROUGH + 1e7, size=5).pixels
    for y, x in ((0, 0), (6, 7), (12, 16)):
        near = np.array([v for _, _, v in around(ROUGH, y, x, 2)])
        expected = (ROUGH[y, x] - near.mean()) / near.std()
        assert found[y, x] == pytest.approx(expected, rel=1e-5)
    assert np.isnan(applied("curve.local_contrast", np.full((9, 9), 4.0)).pixels).all()


@pytest.mark.parametrize("which", ["both", "hot", "dead"])
@pytest.mark.parametrize("size", [3, 5])
def test_outliers_are_those_of_the_definition(which: str, size: int) -> None:
    rng = np.random.default_rng(3)
    values = rng.normal(100, 4, (40, 50))
    values[rng.random(values.shape) < 0.03] += 60
    values[rng.random(values.shape) < 0.03] -= 60
    values[rng.random(values.shape) < 0.03] = np.nan
    values[10:20, 10:30] += 500
    medians, spreads = np.empty((2, *values.shape))
    for y in range(40):
        for x in range(50):
            near = [v for dy, dx, v in around(values, y, x, size // 2) if (dy, dx) != (0, 0)]
            near = [v for v in near if not np.isnan(v)]
            medians[y, x] = np.median(near)
            spreads[y, x] = np.median(np.abs(np.array(near) - medians[y, x]))
    away = values - medians
    sigma = 1.4826 * np.nanmedian(np.abs(away))
    limit = 5 * np.maximum(sigma, 1.4826 * spreads)
    bad = np.zeros(values.shape, np.bool_)
    if which != "dead":
        bad |= away > limit
    if which != "hot":
        bad |= away < -limit
    found = applied("repair.outliers", values, sigmas=5, size=size, which=which).pixels
    np.testing.assert_array_equal(found != values, bad | np.isnan(values))
    good = np.where(bad, np.nan, values)
    for y, x in np.argwhere(bad):
        near = [v for dy, dx, v in around(good, y, x, size // 2) if (dy, dx) != (0, 0)]
        assert found[y, x] == pytest.approx(np.nanmedian(near))
    assert bad.sum() > 40


def test_ties_are_equalised_together() -> None:
    found = applied("curve.equalise", np.array([[5.0, 1.0, 5.0, np.nan]])).pixels
    np.testing.assert_array_equal(found, [[1.0, 1 / 3, 1.0, np.nan]])


@pytest.mark.parametrize("way", ["mean", "sum"])
def test_bins_of_pixels(way: str) -> None:
    found = applied("geometry.bin", HOLED, size=4, way=way)
    assert found.shape == (3, 4)
    for j in range(3):
        for i in range(4):
            block = HOLED[4 * j : 4 * j + 4, 4 * i : 4 * i + 4]
            expected = np.nanmean(block) * (16 if way == "sum" else 1)
            assert found.pixels[j, i] == pytest.approx(expected)
    assert placed(found.placement, 1.5, 5.5) == (0, 1)


def test_turns_flips_and_shifts_move_as_they_say() -> None:
    values = np.array([[1.0, 2, 3], [4, 5, 6]])
    turned = applied("geometry.turn", values, quarters=1).pixels
    np.testing.assert_array_equal(turned, [[4, 1], [5, 2], [6, 3]])
    half = applied("geometry.turn", values, quarters=2).pixels
    np.testing.assert_array_equal(half, values[::-1, ::-1])
    flipped = applied("geometry.flip", values, way="top to bottom").pixels
    np.testing.assert_array_equal(flipped, values[::-1])
    shifted = applied("geometry.shift", values, right=1, down=-1).pixels
    np.testing.assert_array_equal(shifted, [[np.nan, 4, 5], [np.nan, np.nan, np.nan]])
    assert np.isnan(applied("geometry.shift", values, right=9).pixels).all()
    whole = applied("geometry.crop", values).pixels
    np.testing.assert_array_equal(whole, values)


def test_saturated_pixels_are_followed() -> None:
    pixels = np.zeros((6, 6), np.uint8)
    pixels[1, 4] = 255
    plane = plane_from_native(pixels)
    binned = applied("geometry.bin", plane, size=3, way="sum")
    saturated = binned.saturated()
    assert saturated is not None
    assert saturated.tolist() == [[False, True], [False, False]]
    assert binned.saturation == 255 * 9
    cropped = applied("geometry.crop", plane, rectangle={"x": 3, "y": 1, "width": 2, "height": 1})
    assert cropped.saturated() is not None
    assert cropped.saturated().tolist() == [[False, True]]
