"""What is seen: relief, contours, equalising, overlay, presets, scales, outlines; checks."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays
from scipy import ndimage

from rilievo.core.files.channel_preparation import Declared, Reading, prepared
from rilievo.core.image.histogram import histogram_of
from rilievo.core.image.image import Plane, Sample, plane_from_native
from rilievo.core.image.number_scale import NumberScale, scale_for
from rilievo.core.image.pyramid import Pyramid
from rilievo.core.pipeline.checks import (
    background_tilt,
    check_batch,
    check_sample,
    median_of_nine,
    proposed_levels,
    traits_of,
)
from rilievo.core.regions.contours import mask_outlines
from rilievo.core.study.study import OwnView, StudyState
from rilievo.core.study.study_file import load_study, save_study
from rilievo.core.view.palettes import (
    LEVELS,
    ViewStyle,
    colour_table,
    equaliser,
    overlay_colours,
    unpacked,
)
from rilievo.core.view.relief import contour_lines, hillshade, round_levels
from rilievo.core.view.render import Layer, Looks, overlaid, painted
from rilievo.core.view.sampling import Viewport
from rilievo.core.view.view_presets import PRESETS, preset_view

RNG = np.random.default_rng(6)
LOOKS = Looks(
    (1, 2, 3),
    (0, 0, 255),
    0.5,
    (250, 250, 250),
    (0, 0, 0),
    (8, 8, 8),
    (7, 7, 7),
    (255, 0, 0),
    (9, 9, 9),
)


def grays(picture: np.ndarray) -> np.ndarray:
    return unpacked(picture)[..., 0].astype(float)


# -- relief and contours


def test_hillshade_against_the_formula() -> None:
    y, x = np.mgrid[:20, :30]
    slope = 0.4 * x - 0.2 * y
    for light in (0.0, 90.0, 315.0):
        toward = np.array([np.sin(np.radians(light)), -np.cos(np.radians(light)), 1])
        normal = np.array([-0.4 * 2, 0.2 * 2, 1.0])
        expected = max(0.0, float(normal @ toward)) / float(np.linalg.norm(normal))
        lit = hillshade(slope, 2.0, light)
        np.testing.assert_allclose(lit, expected, rtol=1e-5)
    assert (hillshade(np.full((3, 3), 7.0), 5.0, 45.0) == 1).all()
    assert hillshade(np.full((1, 1), np.nan), 5.0, 45.0).shape == (1, 1)


def test_terrain_rising_towards_the_light_is_dark_behind() -> None:
    hill = np.zeros((64, 64), np.float32)
    hill[:, 24:40] = 1000 * np.hanning(16)
    view = Viewport(0, 0, 1.0, 64, 64)
    style = ViewStyle(relief=20, light=270, smooth=0)
    shade = grays(painted(Pyramid(hill), view, (-1000, 1000), LOOKS, style=style))
    flat = grays(painted(Pyramid(hill), view, (-1000, 1000), LOOKS))
    assert (shade[:, 28] > flat[:, 28]).all()  # faces left, where the light is
    assert (shade[:, 36] < flat[:, 36]).all()
    np.testing.assert_allclose(shade[:, 5], flat[:, 5], atol=4)


def test_strips_leave_no_seam() -> None:
    """The picture is painted in strips; relief and contours must pass from one to the next."""
    ramp = np.add.outer(np.arange(450.0), 0.3 * np.arange(300.0)).astype(np.float32)
    style = ViewStyle(relief=30, contours=True, contour_levels=(100.0, 230.5, 400.0), smooth=0)
    tall = painted(Pyramid(ramp), Viewport(0, 0, 1.0, 300, 450), (0, 500), LOOKS, style=style)
    moved = painted(Pyramid(ramp), Viewport(0, 37, 1.0, 300, 413), (0, 500), LOOKS, style=style)
    np.testing.assert_array_equal(tall[38:], moved[1:])


def test_smoothing_shows_the_ground_through_noise_and_objects() -> None:
    """A tilted ground under noise and a bright object is seen as an even slope."""
    y, x = np.mgrid[:256, :256]
    ground = 1000 + 0.2 * x + RNG.normal(0, 30, (256, 256))
    ground[120:126, 120:126] = 50_000
    style = ViewStyle(palette="gray", relief=1e-6, smooth=5)
    view = Viewport(0, 0, 1.0, 256, 256)
    picture = painted(Pyramid(ground), view, (900.0, 1200.0), LOOKS, style=style)
    # Far from the object each shade is that of the ground itself.
    expected = (1000 + 0.2 * x - 900) / 300 * 255
    away = np.hypot(x - 123, y - 123) > 60
    away &= (x > 32) & (x < 224)
    assert np.abs(grays(picture) - expected)[away].max() < 10
    undefined = np.full((20, 20), np.nan, np.float32)
    painted(Pyramid(undefined), Viewport(0, 0, 1.0, 20, 20), (0, 1), LOOKS, style=style)


def test_contours_part_what_is_above_from_what_is_below() -> None:
    y, x = np.mgrid[:40, :40]
    distance = np.hypot(x - 20, y - 20)
    line = contour_lines(distance, (9.5,))
    above = distance > 9.5
    for row, column in zip(*np.nonzero(line), strict=True):
        around = above[max(row - 1, 0) : row + 2, max(column - 1, 0) : column + 2]
        assert around.any() and not around.all()
    assert line.sum() > 40


@given(st.floats(-1e6, 1e6), st.floats(1e-3, 1e6))
def test_round_levels_lie_inside_and_are_round(low: float, span: float) -> None:
    levels = round_levels(low, low + span)
    assert 3 <= len(levels) <= 12
    assert all(low < level < low + span for level in levels)
    steps = np.diff(levels)
    if steps.size:
        power = 10.0 ** np.floor(np.log10(steps[0] * 1.0001))
        assert min(abs(steps[0] / power - f) for f in (1, 2, 5, 10)) < 1e-3
    assert round_levels(5.0, 5.0) == ()


# -- equalising, overlay


def test_equalising_gives_every_shade_as_many_pixels() -> None:
    pixels = (RNG.random((128, 128)) ** 4 * 4000).astype(np.uint16)
    histogram = histogram_of(plane_from_native(pixels))
    low, high = histogram.lowest, histogram.highest
    equal = equaliser(histogram, low, high)
    style = ViewStyle(stretch="equal")
    view = Viewport(0, 0, 1.0, 128, 128)
    shown = grays(painted(Pyramid(pixels), view, (low, high), LOOKS, style=style, equal=equal))
    counts, _ = np.histogram(shown, bins=8, range=(0, 256))
    # A sixth of the pixels share the lowest level; the other seven bins are even.
    assert counts[1:].std() < 0.25 * counts[1:].mean()
    assert np.array_equal(np.argsort(equal.shares, kind="stable"), np.arange(LEVELS))


def test_overlay_adds_colours_and_equalising_keeps_hues() -> None:
    red = np.full((4, 4), 100.0, np.float32)
    green = np.full((4, 4), 50.0, np.float32)
    red[0, 0] = green[0, 0] = 10
    layers = [
        Layer(Pyramid(red), (0, 200), ViewStyle(), (255, 0, 0)),
        Layer(Pyramid(green), (0, 200), ViewStyle(), (0, 255, 0)),
    ]
    view = Viewport(0, 0, 1.0, 6, 4)
    plain = unpacked(overlaid(layers, view, LOOKS)).astype(float)
    assert plain[2, 2].tolist() == pytest.approx([127, 63, 0], abs=1)
    assert plain[0, 5].tolist() == [1, 2, 3]
    even = unpacked(overlaid(layers, view, LOOKS, equalise=True)).astype(float)
    assert even[2, 2, 0] / even[2, 2, 1] == pytest.approx(2, rel=0.03)
    assert even[2, 2, 0] > plain[2, 2, 0]
    assert overlay_colours(("red", "green", "blue", "brightness"))["green"] == (0, 255, 0)
    assert len(set(overlay_colours(("a", "b", "c")).values())) == 3


def test_bands_are_as_many_as_asked() -> None:
    for bands in (2, 5, 16):
        table = colour_table(ViewStyle(palette="bands", bands=bands))
        assert np.unique(table).size == bands


# -- presets, scales, own views


@pytest.mark.parametrize("key", PRESETS)
def test_presets_make_a_range_on_any_data(key: str) -> None:
    for pixels in (
        RNG.normal(1000, 20, (64, 64)).astype(np.uint16),
        np.full((5, 5), 7, np.uint8),
        RNG.normal(0, 1, (40, 40)).astype(np.float32),
    ):
        (low, high), style = preset_view(key, histogram_of(plane_from_native(pixels)))
        assert low < high
        assert isinstance(style, ViewStyle)


def test_what_the_presets_are_named_for() -> None:
    pixels = RNG.normal(1000, 20, (200, 200))
    pixels[50:53, 50:53] += 5000
    histogram = histogram_of(plane_from_native(pixels.astype(np.uint16)))
    (low, high), _ = preset_view("background", histogram)
    assert (low, high) == pytest.approx((900, 1100), abs=8)
    assert preset_view("full", histogram)[0] == (pixels.astype(int).min(), pixels.astype(int).max())
    assert preset_view("bright", histogram)[0][0] == pytest.approx(1000, abs=2)
    assert preset_view("faint", histogram)[0][1] == pytest.approx(1800, abs=30)


def test_number_scales() -> None:
    plane = plane_from_native(np.zeros((2, 2), np.uint16), significant_bits=12)
    unit, eight = (scale_for(kind, plane, (0, 1)) for kind in ("unit", "8-bit"))  # type: ignore[arg-type]
    assert unit.value(4095) == 1
    assert eight.value(2047.5) == 127.5
    assert eight.difference(4095) == 255
    assert unit.native(unit.value(777.0)) == pytest.approx(777)
    floats = scale_for("unit", Plane(np.array([[2.0, 4.0]])), (2.0, 4.0))
    assert floats.value(3.0) == 0.5
    assert NumberScale().value(12.5) == 12.5
    assert np.isnan(NumberScale("unit", 3.0, 3.0).value(3.0))


def test_own_views_are_kept_beside_the_common_one(tmp_path, write_tiff: Callable) -> None:  # type: ignore[no-untyped-def]
    paths = [write_tiff(f"{n}.tif", np.zeros((3, 3), np.uint8)) for n in "ab"]
    state = StudyState().with_files(paths)
    first, second = (entry.id for entry in state.samples)
    state = state.with_view(first, "gray", display=("native", (1.0, 9.0)))
    state = state.with_own_view(first, OwnView(dict(state.ranges), dict(state.styles)))
    state = state.with_view(
        first, "gray", display=("native", (2.0, 3.0)), style=ViewStyle(invert=True)
    )
    assert state.range_of(second, "gray", "native") == (1.0, 9.0)
    assert state.range_of(first, "gray", "native") == (2.0, 3.0)
    assert not state.style_of(second, "gray").invert
    save_study(state, tmp_path / "s.rilievo")
    again, _ = load_study(tmp_path / "s.rilievo")
    assert again.own_views == state.own_views
    assert again.ranges == state.ranges
    everyone = state.as_shown(state.own_views[first])
    assert everyone.range_of(second, "gray", "native") == (2.0, 3.0)
    assert everyone.own_views == {}


# -- outlines


@settings(max_examples=80)
@given(arrays(np.bool_, st.tuples(st.integers(1, 7), st.integers(1, 7))))
def test_outlines_enclose_exactly_the_mask(mask: np.ndarray) -> None:
    """Even–odd filling of the polygons gives the mask back."""
    polygons = mask_outlines(mask, 3, 5)
    for row in range(mask.shape[0]):
        for column in range(mask.shape[1]):
            crossings = 0
            for polygon in polygons:
                for (x0, y0), (x1, y1) in zip(polygon, polygon[1:] + polygon[:1], strict=True):
                    assert x0 == x1 or y0 == y1
                    spans = min(y0, y1) < row + 5 < max(y0, y1)
                    crossings += x0 == x1 and spans and x0 > column + 3
            assert bool(crossings % 2) == bool(mask[row, column])


# -- checks


def kinds(sample: Sample) -> dict[str, str]:
    return {check.kind: check.severity for check in check_sample(sample)}


def test_checks_of_a_sample(make_sample: Callable[..., Sample]) -> None:
    good = (1000 + RNG.normal(0, 20, (128, 128))).astype(np.uint16)
    assert kinds(make_sample(good)) == {}
    bordered = good.copy()
    bordered[:3] = 0
    bordered[:, -2:] = 0
    assert kinds(make_sample(bordered)) == {"empty border": "caution"}
    assert proposed_levels(make_sample(bordered)).empty == 0
    told = prepared(make_sample(bordered), Reading(), Declared(empty=0))
    assert kinds(told) == {}
    clipped = np.minimum(good, 1030)
    assert kinds(make_sample(clipped)) == {"saturation level": "caution"}
    assert proposed_levels(make_sample(clipped)).saturation == 1030
    few = (good // 10 * 10).astype(np.uint16)
    assert "few levels" in kinds(make_sample(few))
    assert kinds(make_sample((good // 8).astype(np.uint8)))["depth"] == "note"
    tilted = (good * np.linspace(0.6, 1.4, 128)).astype(np.uint16)
    assert kinds(make_sample(tilted)) == {"tilted background": "serious"}


def test_tilt_is_that_of_the_background_not_of_objects() -> None:
    plane = np.full((256, 256), 500.0) * np.linspace(0.9, 1.1, 256)[:, None]
    assert background_tilt(plane) == pytest.approx(0.2, rel=0.02)
    plane[:100, :100] += 4000
    assert background_tilt(plane) == pytest.approx(0.2, rel=0.1)
    assert np.isnan(background_tilt(np.zeros((4, 4))))


@given(
    arrays(np.float32, st.tuples(st.integers(1, 6), st.integers(1, 6)), elements=st.integers(0, 9))
)
def test_the_median_of_nine_is_the_median(values: np.ndarray) -> None:
    expected = ndimage.median_filter(values, 3, mode="nearest")
    np.testing.assert_array_equal(median_of_nine(values), expected)


def test_the_odd_one_of_a_batch_is_named(make_sample: Callable[..., Sample]) -> None:
    sharp = [ndimage.gaussian_filter(RNG.normal(0, 1, (256, 256)), 1.0) for _ in range(4)]
    planes = [(1000 + 300 * p).astype(np.uint16) for p in sharp]
    planes[2] = (1000 + 300 * 4 * ndimage.gaussian_filter(sharp[2], 4)).astype(np.uint16)
    traits = {f"s{i}": traits_of(make_sample(p, name=f"s{i}")) for i, p in enumerate(planes)}
    traits["s3"] = traits_of(make_sample(planes[3].astype(np.float32)[:200], pixel_size=0.7))
    found = {(check.sample, check.kind) for check in check_batch(traits)}
    assert found == {
        ("s2", "blur"),
        ("s3", "mixed depth"),
        ("s3", "mixed size"),
        ("s3", "mixed pixel size"),
    }
    assert check_batch({"s0": traits["s0"]}) == []
