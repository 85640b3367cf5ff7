from __future__ import annotations

import math
from typing import Any

import numpy as np
import pytest
from pydantic import ValidationError

from rilievo.core.image.pyramid import Pyramid, halved
from rilievo.core.view.paint_kernels import paint_edges
from rilievo.core.view.palettes import (
    PALETTES,
    Stretch,
    ViewStyle,
    colour_table,
    stretched,
    unpacked,
)
from rilievo.core.view.render import Looks
from rilievo.core.view.render import (
    painted as painted_packed,
)
from rilievo.core.view.sampling import Viewport, levels_of, sampled, sampled_labels


def painted(*arguments: Any, **options: Any) -> np.ndarray:
    """The picture as red, green, blue."""
    return unpacked(painted_packed(*arguments, **options))


LOOKS = Looks(
    ground=(9, 9, 9),
    flood=(0, 0, 200),
    flood_strength=0.5,
    line=(255, 0, 0),
    halo=(1, 2, 3),
    left_out=(8, 8, 8),
    other=(7, 7, 7),
    selected=(0, 255, 0),
    undefined=(200, 100, 0),
)


def test_halving_is_the_mean_of_what_is_defined() -> None:
    values = np.array([[1, 3, 5, 9], [5, 7, np.nan, 4], [np.nan] * 4, [np.nan] * 4, [0] * 4])
    result = halved(values)
    np.testing.assert_array_equal(result, [[4, 6], [np.nan, np.nan]])


def test_levels_keep_the_mean() -> None:
    rng = np.random.default_rng(0)
    full = rng.normal(size=(512, 256)).astype(np.float32)
    pyramid = Pyramid(full)
    assert [level.shape for level in pyramid.levels[:3]] == [(512, 256), (256, 128), (128, 64)]
    assert min(pyramid.levels[-1].shape) == 8
    for level in pyramid.levels:
        assert level.mean() == pytest.approx(full.mean(), abs=1e-6)
    assert [pyramid.level_for(z) for z in (4, 1, 0.6, 0.5, 0.3, 0.25, 0.01)] == [
        0, 0, 0, 1, 1, 2, 5,
    ]  # fmt: skip


@pytest.mark.parametrize("bottom_up", [False, True])
@pytest.mark.parametrize("zoom", [1.0, 2.0, 7.3])
def test_from_zoom_one_up_a_screen_pixel_shows_the_pixel_under_it(
    zoom: float, bottom_up: bool
) -> None:
    values = np.arange(20.0).reshape(4, 5)
    view = Viewport(-1.0, -0.5, zoom, 60, 50, bottom_up)
    shown, rows, columns = sampled(Pyramid(values), view)
    labels = sampled_labels(values.astype(np.int32), view)
    np.testing.assert_array_equal(shown, labels)
    for i, screen_y in enumerate(range(rows.start, rows.stop)):
        for j, screen_x in enumerate(range(columns.start, columns.stop)):
            x = int(np.floor(-1.0 + (screen_x + 0.5) / zoom))
            row = -0.5 + (screen_y + 0.5) / zoom
            y = int(np.floor(4 - row if bottom_up else row))
            assert shown[i, j] == values[y, x]


def test_below_zoom_one_a_gradient_stays_a_gradient() -> None:
    values = np.tile(np.arange(512.0), (512, 1)).astype(np.float32)
    view = Viewport(0, 0, 0.3, 150, 150)
    shown, _, _ = sampled(Pyramid(values), view)
    middle = shown[70, 5:-5]
    np.testing.assert_allclose(np.diff(middle), 1 / 0.3, rtol=1e-3)
    np.testing.assert_allclose(middle[0], (5 + 0.5) / 0.3 - 0.5, atol=1.0)


def test_an_image_beside_the_screen_shows_ground_only() -> None:
    view = Viewport(100, 100, 1.0, 8, 6)
    picture = painted(Pyramid(np.zeros((5, 5))), view, (0, 1), LOOKS)
    assert (picture == 9).all()


@pytest.mark.parametrize(
    ("values", "ends", "expected"),
    [
        ([0, 5, 10, 20, -3], (0, 10), [0, 2047, 4095, 4095, 0]),
        ([1.0, 2.0, 3.0], (2, 2), [0, 0, 4095]),
        ([np.nan, 1.0], (0, 1), [0, 4095]),
    ],
)
def test_levels(values: list[float], ends: tuple[float, float], expected: list[int]) -> None:
    assert levels_of(np.array(values, np.float32), *ends).tolist() == expected


@pytest.mark.parametrize("stretch", ["linear", "root", "log", "asinh", "gamma"])
def test_stretches_keep_the_ends_and_the_order(stretch: Stretch) -> None:
    shares = np.linspace(0, 1, 101)
    for strength, gamma in ((0.1, 0.3), (10, 0.5), (1000, 3.0)):
        style = ViewStyle(stretch=stretch, strength=strength, gamma=gamma)
        found = stretched(shares, style)
        assert found[0] == pytest.approx(0)
        assert found[-1] == pytest.approx(1)
        assert (np.diff(found) >= 0).all()


def test_stretches_by_their_formulas() -> None:
    share = np.array([0.25])
    for style, expected in (
        (ViewStyle(stretch="root"), 0.5),
        (ViewStyle(stretch="gamma", gamma=2.0), 0.0625),
        (ViewStyle(stretch="log", strength=3.0), math.log(1.75) / math.log(4)),
        (ViewStyle(stretch="asinh", strength=8.0), math.asinh(2) / math.asinh(8)),
    ):
        assert stretched(share, style)[0] == pytest.approx(expected)


@pytest.mark.parametrize("palette", list(PALETTES))
def test_palettes_run_from_dark_to_light(palette: str) -> None:
    colours = unpacked(colour_table(ViewStyle(palette=palette))[None])[0].astype(float)
    light = colours @ [0.2126, 0.7152, 0.0722]
    assert light[-1] - light[0] > 100
    assert (np.diff(light) >= -1.5).all(), "brighter pixels never look clearly darker"
    inverted = unpacked(colour_table(ViewStyle(palette=palette, invert=True))[None])[0]
    np.testing.assert_allclose(inverted[::-1], colours, atol=1)


def test_bands_are_flat() -> None:
    table = colour_table(ViewStyle(palette="bands"))
    assert np.unique(table).size == 8


def test_a_style_changes_the_picture_and_not_the_values() -> None:
    values = np.linspace(0, 100, 400).reshape(20, 20)
    before = values.copy()
    view = Viewport(0, 0, 1.0, 20, 20)
    plain = painted(Pyramid(values), view, (0, 100), LOOKS)
    lifted = painted(Pyramid(values), view, (0, 100), LOOKS, style=ViewStyle(stretch="root"))
    assert (lifted.astype(int) >= plain).all()
    assert (lifted != plain).any()
    np.testing.assert_array_equal(values, before)


def test_outlines_run_along_the_measured_pixels() -> None:
    labels = np.zeros((8, 8), np.int32)
    labels[2:6, 2:6] = 3
    picture = np.zeros((8, 8), np.uint32)
    colours = np.array([7, 0, 0, 9], np.uint32)
    paint_edges(picture, labels, colours, np.zeros(0, np.int64))
    edge = picture == 7
    expected = np.zeros((8, 8), bool)
    expected[2:6, 2:6] = True
    expected[3:5, 3:5] = False
    np.testing.assert_array_equal(edge, expected)


def test_flood_washes_what_is_excluded_and_leaves_the_rest() -> None:
    values = np.full((12, 12), 100.0)
    labels = np.zeros((12, 12), np.int32)
    labels[3:9, 3:9] = 1
    view = Viewport(0, 0, 1.0, 12, 12)
    picture = painted(Pyramid(values), view, (0, 200), LOOKS, labels=labels, flood=True)
    assert picture[5, 5].tolist() == [127, 127, 127]
    assert picture[0, 0].tolist() == [63, 63, 163]
    assert picture[3, 3].tolist() == [255, 0, 0]
    assert picture[2, 2].tolist() == [1, 2, 3]


def test_the_preview_of_a_threshold_equals_the_regions_at_full_size() -> None:
    rng = np.random.default_rng(4)
    values = rng.normal(size=(30, 40))
    labels = (values > 0.3).astype(np.int32)
    view = Viewport(0, 0, 1.0, 40, 30)
    exact = painted(Pyramid(values), view, (-1, 1), LOOKS, labels=labels, flood=True)
    coarse = painted(Pyramid(values), view, (-1, 1), LOOKS, preview=(0.3, "bright"), flood=True)
    np.testing.assert_array_equal(exact, coarse)
    dark = painted(Pyramid(values), view, (-1, 1), LOOKS, preview=(0.3, "dark"), flood=True)
    assert (dark != coarse).any()


def test_the_preview_can_outline_another_channel() -> None:
    rng = np.random.default_rng(4)
    shown, other = rng.normal(size=(30, 40)), rng.normal(size=(30, 40))
    view = Viewport(0, 0, 1.0, 40, 30)
    labels = (other > 0.3).astype(np.int32)
    exact = painted(Pyramid(shown), view, (-1, 1), LOOKS, labels=labels, flood=True)
    coarse = painted(
        Pyramid(shown),
        view,
        (-1, 1),
        LOOKS,
        preview=(0.3, "bright"),
        outlined=Pyramid(other),
        flood=True,
    )
    np.testing.assert_array_equal(exact, coarse)


def test_selected_regions_and_undefined_pixels_are_marked() -> None:
    values = np.full((10, 10), 50.0)
    values[8:, 8:] = np.nan
    labels = np.zeros((10, 10), np.int32)
    labels[2:5, 2:5], labels[2:5, 7:9] = 1, 2
    view = Viewport(0, 0, 1.0, 10, 10)
    picture = painted(Pyramid(values), view, (0, 100), LOOKS, labels=labels, selected={1})
    assert picture[2, 2].tolist() == [0, 255, 0]
    assert picture[2, 7].tolist() == [255, 0, 0]
    hatched = {tuple(colour) for colour in picture[8:, 8:].reshape(-1, 3).tolist()}
    assert (200, 100, 0) in hatched


def test_a_palette_that_does_not_exist_is_refused() -> None:
    with pytest.raises(ValidationError, match="unknown palette"):
        ViewStyle(palette="rainbow")
