"""Background estimators against the textbook, brute force, and made-up data with known truth."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import ndimage

from rilievo.core.image.image import Calibration, Plane, plane_from_native
from rilievo.core.parameters import Rectangle
from rilievo.core.signal.opening import EXACT_RADIUS, body, opened, opened_by_paraboloid, shrinking
from rilievo.core.signal.resampling import block_lowest, block_means, enlarged
from rilievo.core.signal.steps import STEPS, StepContext
from rilievo.core.signal.steps.background import describe
from rilievo.core.signal.steps.background_mesh import MeshBackground, clipped_levels, tile_levels
from rilievo.core.signal.steps.background_patch import EmptyPatch, PatchMissing
from rilievo.core.signal.steps.frames_reference import fitted_factor
from rilievo.demo.lipid import CHANNELS, CULTURES, background_surface, make_field


def applied(key: str, pixels: np.ndarray | Plane, **given: Any) -> tuple[Plane, dict[str, float]]:
    step = STEPS[key]
    plane = pixels if isinstance(pixels, Plane) else Plane(pixels)
    context = StepContext("a sample", "gray")
    return step.apply(plane, step.parameters.model_validate(given), context), context.numbers


def background(key: str, pixels: np.ndarray | Plane, **given: Any) -> np.ndarray:
    return np.asarray(applied(key, pixels, **{**given, "result": "background"})[0].pixels)


def terrain(shape: tuple[int, int], seed: int = 3) -> np.ndarray:
    """Rough ground with peaks, so that bodies of every size touch it somewhere."""
    rng = np.random.default_rng(seed)
    rough = ndimage.gaussian_filter(rng.normal(0, 1, shape), 2) * 60
    return (100 + rough + rng.normal(0, 3, shape)).astype(np.float64)


def textbook_opening(values: np.ndarray, heights: np.ndarray, inside: np.ndarray) -> np.ndarray:
    """Erosion by a structuring function, then dilation, by SciPy's own definition."""
    structure = np.where(inside, heights, -np.inf)
    lower = ndimage.grey_erosion(
        values, footprint=inside, structure=np.where(inside, heights, 0), mode="constant",
        cval=np.inf,
    )  # fmt: skip
    assert structure.shape == inside.shape
    return ndimage.grey_dilation(
        lower, footprint=inside, structure=np.where(inside, heights, 0), mode="constant",
        cval=-np.inf,
    )  # fmt: skip


@pytest.mark.parametrize("radius", [0.5, 3, 17, 120, 900])
def test_opening_by_a_paraboloid_is_the_textbook_one(radius: float) -> None:
    values = terrain((31, 37))
    rise = 1 / (2 * radius)
    y, x = np.indices(values.shape)
    eroded = np.array(
        [[(values + rise * ((y - j) ** 2 + (x - i) ** 2)).min() for i in range(37)]
         for j in range(31)]
    )  # fmt: skip
    exact = np.array(
        [[(eroded - rise * ((y - j) ** 2 + (x - i) ** 2)).max() for i in range(37)]
         for j in range(31)]
    )  # fmt: skip
    np.testing.assert_allclose(opened_by_paraboloid(values, radius), exact, rtol=1e-12)
    single = opened_by_paraboloid(values.astype(np.float32), radius)
    np.testing.assert_allclose(single, exact, rtol=3e-7)


@settings(max_examples=25)
@given(st.integers(0, 10_000), st.floats(0.6, 60), st.floats(0.1, 30))
def test_openings_are_below_and_stay_when_repeated(
    seed: int, radius: float, height_scale: float
) -> None:
    values = terrain((19, 23), seed)
    once = opened_by_paraboloid(values, radius, height_scale)
    assert (once <= values + 1e-9).all()
    np.testing.assert_allclose(opened_by_paraboloid(once, radius, height_scale), once, rtol=1e-10)


@pytest.mark.parametrize("form", ["ball", "disc"])
@pytest.mark.parametrize("radius", [1, 2.5, 6, EXACT_RADIUS])
def test_ball_and_disc_are_exact_up_to_the_stated_radius(form: Any, radius: float) -> None:
    values = terrain((40, 45))
    assert shrinking(radius) == 1
    heights, widths = body(form, radius, 2.0)
    along = np.arange(len(heights)) - len(heights) // 2
    inside = along[:, None] ** 2 + along**2 <= radius**2
    np.testing.assert_array_equal(widths, inside.sum(axis=1) // 2)
    exact = textbook_opening(values, heights, inside)
    np.testing.assert_allclose(opened(values, form, radius, 2.0), exact, atol=2e-5)


@pytest.mark.parametrize(("form", "radius"), [("ball", 25), ("disc", 25), ("ball", 40)])
def test_above_it_the_deviation_from_the_exact_opening_is_small(form: Any, radius: float) -> None:
    """docs/performance.md states these deviations."""
    y, x = np.indices((200, 200))
    values = 1000 + 0.3 * x + 40 * np.sin(y / 60)
    for cy, cx in ((50, 60), (130, 140), (160, 40)):
        values = values + 300 * np.exp(-((y - cy) ** 2 + (x - cx) ** 2) / (2 * 5**2))
    heights, _ = body(form, radius, 1.0)
    along = np.arange(len(heights)) - len(heights) // 2
    exact = textbook_opening(values, heights, along[:, None] ** 2 + along**2 <= radius**2)
    found = opened(values, form, radius, 1.0)
    assert (found <= values + 1e-6).all()
    away = np.abs(found - exact) / 1000
    assert np.median(away) < 0.002
    assert away.max() < 0.01


def test_an_opening_ignores_undefined_pixels_and_dark_objects_need_a_closing() -> None:
    values = np.full((40, 40), 50.0, np.float32)
    values[20, 20] = 5
    values[3, 3] = np.nan
    field = background("background.opening", values, radius=4, smooth_before=0, objects="dark")
    # The pit is filled up to where the paraboloid hangs: its rim is 1 pixel away.
    assert field[20, 20] == pytest.approx(50 - 1 / 8, abs=1e-3)
    finite = np.isfinite(field)
    assert np.ptp(field[finite & (values > 40)]) < 0.2


def test_a_radius_in_a_calibrated_unit_follows_the_pixel_size() -> None:
    values = terrain((40, 40)).astype(np.float32)
    given = {"smooth_before": 0, "height_scale": 1.0}
    pixels = background("background.opening", values, radius=12, **given)
    plane = Plane(values, Calibration(0.5, "µm"))
    unit = background("background.opening", plane, radius=6, radius_in="unit", **given)
    np.testing.assert_array_equal(unit, pixels)
    with pytest.raises(Exception, match="no pixel size"):
        background("background.opening", values, radius=6, radius_in="unit")


@settings(max_examples=30)
@given(st.integers(0, 1000), st.floats(1.5, 4), st.sampled_from(["median", "mean"]))
def test_tile_levels_are_those_of_plain_clipping(seed: int, clip: float, statistic: str) -> None:
    rng = np.random.default_rng(seed)
    values = rng.normal(1e6, 5, 400)
    values[: rng.integers(0, 120)] += rng.uniform(20, 300)
    kept = np.sort(values)
    for _ in range(12):
        middle, mean = np.median(kept), kept.mean()
        quarter = (len(kept) - 1) // 4
        sigma = min(middle - kept[quarter], kept[-1 - quarter] - middle) / 0.6745
        inside = kept[np.abs(kept - middle) <= clip * sigma]
        if len(inside) == len(kept):
            break
        kept = inside
    expected = middle if statistic == "median" else mean
    found = clipped_levels(np.sort(values)[None], clip, statistic)[0]
    assert found == pytest.approx(expected, rel=1e-12)


def test_tiles_cover_all_pixels_once_and_leave_out_undefined_ones() -> None:
    values = np.arange(50 * 70, dtype=np.float64).reshape(50, 70)
    parameters = MeshBackground(tile=16, statistic="mean", clip=10)
    levels = tile_levels(values, parameters)
    assert levels.shape == (3, 4)
    assert levels[0, 0] == pytest.approx(values[:17, :18].mean())
    values[:17, :18] = np.nan
    assert np.isnan(tile_levels(values, parameters)[0, 0])


def test_a_mesh_keeps_a_tilt_up_to_the_corners() -> None:
    y, x = np.indices((128, 160)).astype(np.float64)
    tilt = 500 + 0.7 * x - 0.4 * y
    field = background("background.mesh", tilt, tile=16, statistic="median")
    np.testing.assert_allclose(field, tilt, atol=0.02)


@pytest.mark.parametrize("order", [1, 2, 3])
def test_a_surface_recovers_its_own_polynomial_under_objects(order: int) -> None:
    rng = np.random.default_rng(order)
    y, x = np.mgrid[-1:1:180j, -1:1:220j]
    truth = 2000 + sum(
        rng.uniform(-90, 90) * x**j * y**k
        for j in range(order + 1)
        for k in range(order + 1 - j)
        if j + k
    )
    values = truth.copy()
    values[40:90, 30:110] += 700
    values[120:150, 150:200] += 250
    values[5, 5] = np.nan
    field = background("background.surface", values, order=order)
    np.testing.assert_allclose(field, truth, atol=0.5)


def test_a_surface_on_blocks_is_the_surface_on_pixels() -> None:
    """A large image is fitted on the means of its blocks."""
    y, x = np.mgrid[-1:1:700j, -1:1:900j]
    truth = 300 + 20 * x - 15 * y
    field = background("background.surface", truth, order=1)
    np.testing.assert_allclose(field, truth, atol=0.05)


def test_smoothed_backgrounds_keep_level_and_tilt() -> None:
    y, x = np.indices((300, 260)).astype(np.float64)
    tilt = 500 + 0.3 * x + 0.2 * y
    spots = tilt.copy()
    spots[::40, ::40] += 900
    for way, limit in (("gaussian", 9.5), ("median", 3.0)):
        field = background("background.smoothed", spots, way=way, width=40)
        assert np.abs(field - tilt)[20:-20, 20:-20].max() < limit


@pytest.mark.parametrize("sign", [1, -1])
def test_a_reference_is_fitted_outside_objects(sign: int) -> None:
    rng = np.random.default_rng(4)
    frame = rng.uniform(80, 120, (90, 90))
    values = 2.5 * frame + rng.normal(0, 0.5, frame.shape)
    values[:30] += sign * 200
    assert fitted_factor(values, frame, 3.0, sign) == pytest.approx(2.5, rel=1e-3)


@pytest.mark.parametrize(
    ("key", "given"),
    [
        ("background.mesh", {"tile": 96, "statistic": "median"}),
        ("background.surface", {"order": 2}),
        ("background.opening", {"radius": 120, "smooth_before": 4}),
    ],
)
def test_the_background_of_a_made_up_field_is_recovered_under_its_cells(
    key: str, given: dict[str, Any]
) -> None:
    """Within 2 % of its level, everywhere under a cell (bias and 95 % of the pixels)."""
    for culture, number in ((CULTURES[0], 1), (CULTURES[2], 3)):
        field = make_field(culture, number)
        for channel, pixels in zip(CHANNELS, field.pixels, strict=True):
            row = next(r for r in field.background if r["channel"] == channel)
            truth = background_surface(row)
            cells = pixels > truth + 60
            found = background(key, plane_from_native(pixels), **given)
            away = (found - truth)[cells] / truth[cells]
            assert abs(away.mean()) < 0.02
            assert np.quantile(np.abs(away), 0.95) < 0.02


def test_a_described_background() -> None:
    y, x = np.indices((50, 80)).astype(np.float64)
    field = 200 + 0.5 * x - 0.25 * y
    numbers = describe(field)
    assert numbers["level"] == pytest.approx(field.mean())
    assert numbers["range"] == pytest.approx(np.ptp(field))
    assert numbers["tilt"] == pytest.approx(0.5 * 79 + 0.25 * 49)
    assert numbers["flatness"] == pytest.approx(100 * np.ptp(field) / field.mean())
    bowl = 100 + ((x - 39.5) / 40) ** 2
    assert describe(bowl)["tilt"] == pytest.approx(0, abs=1e-9)


def test_a_background_is_scaled_smoothed_and_given_back() -> None:
    values = terrain((40, 40)).astype(np.float32)
    plain = background("background.mesh", values, tile=10)
    half = background("background.mesh", values, tile=10, scale=0.5)
    np.testing.assert_allclose(half, plain / 2, rtol=1e-6)
    smooth = background("background.mesh", values, tile=10, smooth_more=8)
    assert smooth.std() < 0.7 * plain.std()
    subtracted, numbers = applied("background.mesh", values, tile=10)
    np.testing.assert_array_equal(subtracted.pixels, values - plain)
    assert numbers["negative"] == np.count_nonzero(values < plain)


# -- patches

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


@given(st.integers(-5, 12), st.integers(-5, 12), st.integers(1, 9), st.integers(1, 9))
def test_rectangle_clips_to_the_image(x: int, y: int, width: int, height: int) -> None:
    shape = (6, 8)
    covered = np.zeros(shape, bool)
    covered[Rectangle(x=x, y=y, width=width, height=height).slices(shape)] = True
    rows, columns = np.indices(shape)
    expected = (columns >= x) & (columns < x + width) & (rows >= y) & (rows < y + height)
    np.testing.assert_array_equal(covered, expected)


# -- shrinking and enlarging


@given(st.integers(1, 40), st.integers(1, 40), st.integers(1, 7))
@settings(max_examples=40)
def test_blocks_are_those_of_a_loop(height: int, width: int, factor: int) -> None:
    values = np.random.default_rng(height * 41 + width).normal(0, 1, (height, width))
    lowest, means = block_lowest(values, factor), block_means(values, factor)
    for j in range(lowest.shape[0]):
        for i in range(lowest.shape[1]):
            rows = np.minimum(np.arange(j * factor, (j + 1) * factor), height - 1)
            columns = np.minimum(np.arange(i * factor, (i + 1) * factor), width - 1)
            block = values[np.ix_(rows, columns)]
            assert lowest[j, i] == block.min()
            assert means[j, i] == pytest.approx(block.mean())


@given(st.integers(2, 9), st.floats(-3, 3), st.floats(-3, 3))
def test_enlarging_keeps_planes_everywhere(factor: int, across: float, down: float) -> None:
    y, x = np.indices((6 * factor, 8 * factor)).astype(np.float64)
    plane = 10 + across * x + down * y
    np.testing.assert_allclose(
        enlarged(block_means(plane, factor), plane.shape, factor), plane, atol=1e-9
    )
