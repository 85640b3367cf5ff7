from __future__ import annotations

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from rilievo.core.image.pyramid import Pyramid
from rilievo.core.view.paint_kernels import paint_edges
from rilievo.core.view.palettes import (
    ViewStyle,
)
from rilievo.core.view.render import RegionLayer, Shading
from rilievo.core.view.sampling import Viewport, covered_part, sampled
from tests.core.helpers.view import LOOKS, painted


def test_a_style_changes_the_picture_and_not_the_values() -> None:
    values = np.linspace(0, 100, 400).reshape(20, 20)
    before = values.copy()
    view = Viewport(0, 0, 1.0, 20, 20)
    plain = painted(Pyramid(values), view, (0, 100), LOOKS)
    lifted = painted(
        Pyramid(values), view, (0, 100), LOOKS, shading=Shading(style=ViewStyle(stretch="root"))
    )
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
    picture = painted(
        Pyramid(values), view, (0, 200), LOOKS, RegionLayer(labels=labels, flood=True)
    )
    assert picture[5, 5].tolist() == [127, 127, 127]
    assert picture[0, 0].tolist() == [63, 63, 163]
    assert picture[3, 3].tolist() == [255, 0, 0]
    assert picture[2, 2].tolist() == [1, 2, 3]


def test_the_preview_of_a_threshold_equals_the_regions_at_full_size() -> None:
    rng = np.random.default_rng(4)
    values = rng.normal(size=(30, 40))
    labels = (values > 0.3).astype(np.int32)
    view = Viewport(0, 0, 1.0, 40, 30)
    exact = painted(Pyramid(values), view, (-1, 1), LOOKS, RegionLayer(labels=labels, flood=True))
    coarse = painted(
        Pyramid(values), view, (-1, 1), LOOKS, RegionLayer(preview=(0.3, "bright"), flood=True)
    )
    np.testing.assert_array_equal(exact, coarse)
    dark = painted(
        Pyramid(values), view, (-1, 1), LOOKS, RegionLayer(preview=(0.3, "dark"), flood=True)
    )
    assert (dark != coarse).any()


def test_the_preview_can_outline_another_channel() -> None:
    rng = np.random.default_rng(4)
    shown, other = rng.normal(size=(30, 40)), rng.normal(size=(30, 40))
    view = Viewport(0, 0, 1.0, 40, 30)
    labels = (other > 0.3).astype(np.int32)
    exact = painted(Pyramid(shown), view, (-1, 1), LOOKS, RegionLayer(labels=labels, flood=True))
    coarse = painted(
        Pyramid(shown),
        view,
        (-1, 1),
        LOOKS,
        RegionLayer(preview=(0.3, "bright"), outlined=Pyramid(other), flood=True),
    )
    np.testing.assert_array_equal(exact, coarse)


def test_selected_regions_and_undefined_pixels_are_marked() -> None:
    values = np.full((10, 10), 50.0)
    values[8:, 8:] = np.nan
    labels = np.zeros((10, 10), np.int32)
    labels[2:5, 2:5], labels[2:5, 7:9] = 1, 2
    view = Viewport(0, 0, 1.0, 10, 10)
    picture = painted(
        Pyramid(values), view, (0, 100), LOOKS, RegionLayer(labels=labels, selected={1})
    )
    assert picture[2, 2].tolist() == [0, 255, 0]
    assert picture[2, 7].tolist() == [255, 0, 0]
    hatched = {tuple(colour) for colour in picture[8:, 8:].reshape(-1, 3).tolist()}
    assert (200, 100, 0) in hatched


@settings(max_examples=150, deadline=None)
@given(
    zoom=st.floats(0.1, 9),
    first=st.integers(0, 250),
    on_an_edge=st.booleans(),
    offset=st.floats(-300, 300),
    relief=st.sampled_from([0.0, 20.0]),
)
def test_strips_cover_what_the_whole_covers(
    zoom: float, first: int, on_an_edge: bool, offset: float, relief: float
) -> None:
    """Also where the centre of a row of the screen lies on the edge of the image."""
    start = -(first + 0.5) / zoom if on_an_edge else offset
    viewport = Viewport(start, start, zoom, 283, 400)
    values = np.random.default_rng(1).normal(0, 1, (300, 283)).astype(np.float32)
    pyramid = Pyramid(values)
    rows, _ = covered_part(viewport, values.shape)
    whole, _, _ = sampled(pyramid, viewport)
    for top in range(rows.start, rows.stop, 100):
        strip = slice(top, min(top + 100, rows.stop))
        part, _, _ = sampled(pyramid, viewport.strip(strip))
        np.testing.assert_array_equal(part, whole[top - rows.start : strip.stop - rows.start])
    style = ViewStyle(relief=relief)
    picture = painted(pyramid, viewport, (-1.0, 1.0), LOOKS, shading=Shading(style))
    assert picture.shape[:2] == (400, 283)
